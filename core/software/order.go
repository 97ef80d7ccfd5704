package software

import (
	"fmt"
	"strings"

	"github.com/Masterminds/semver/v3"
	pep440 "github.com/aquasecurity/go-pep440-version"
	deb "github.com/knqyf263/go-deb-version"
	rpm "github.com/knqyf263/go-rpm-version"
)

// longestVersion is how long a version may be to be ordered, in bytes: nobody's
// is longer, and the rules take time for what was made to take it.
const longestVersion = 200

// Compare orders two versions of a piece of software by the rules of what
// installed it: Debian's policy 5.6.12, RPM's, PEP 440, Semantic Versioning
// 2.0, and number by number where nothing else is agreed. It is negative if a
// is before b. The error says which of them no rule can order, and why.
func Compare(origin Origin, a, b string) (int, error) {
	if a == b {
		return 0, nil
	}
	for _, v := range []string{a, b} {
		if v == "" {
			return 0, fmt.Errorf("it has no version")
		}
		if len(v) > longestVersion {
			return 0, fmt.Errorf("version %.20q... is longer than %d bytes", v, longestVersion)
		}
	}
	switch origin {
	case Deb:
		return compareDeb(a, b)
	case RPM:
		return compareRPM(a, b)
	case Python:
		return between(a, b, pep440.Parse, pep440.Version.Compare, "PEP 440's")
	case NPM:
		return between(a, b, semver.StrictNewVersion, (*semver.Version).Compare, "Semantic Versioning's")
	case Application:
		// An application has the version of its package, whichever manager that has: all agree on the plain ones.
		if n, err := compareDeb(a, b); err == nil {
			return n, nil
		}
	}
	return between(a, b, numbers, compareNumbers, "usual")
}

func between[V any](a, b string, read func(string) (V, error), compare func(V, V) int, whose string) (int, error) {
	x, err := read(a)
	if err != nil {
		return 0, fmt.Errorf("version %q follows none of %s rules", a, whose)
	}
	y, err := read(b)
	if err != nil {
		return 0, fmt.Errorf("version %q follows none of %s rules", b, whose)
	}
	return compare(x, y), nil
}

func compareDeb(a, b string) (int, error) {
	return between(a, b, deb.NewVersion, func(x, y deb.Version) int { return x.Compare(y) }, "Debian's")
}

// compareRPM compares what has at least one letter or digit: others the rules call equal.
func compareRPM(a, b string) (int, error) {
	for _, v := range []string{a, b} {
		if !strings.ContainsAny(strings.ToLower(v), "0123456789abcdefghijklmnopqrstuvwxyz") {
			return 0, fmt.Errorf("version %q follows none of RPM's rules", v)
		}
	}
	return rpm.NewVersion(a).Compare(rpm.NewVersion(b)), nil
}

// numbers reads a version that is numbers with dots between them, as most are
// that no package manager knows: "10.0.22631.3007", "v4.8". What is behind them,
// such as "-beta", has no agreed order.
func numbers(v string) ([]string, error) {
	v = strings.TrimPrefix(strings.TrimPrefix(v, "v"), "V")
	list := strings.Split(v, ".")
	for i, n := range list {
		if n == "" || strings.Trim(n, "0123456789") != "" {
			return nil, fmt.Errorf("%q is no number", n)
		}
		list[i] = strings.TrimLeft(n, "0")
	}
	return list, nil
}

func compareNumbers(a, b []string) int {
	at := func(list []string, i int) string {
		if i < len(list) {
			return list[i]
		}
		return ""
	}
	for i := range max(len(a), len(b)) {
		x, y := at(a, i), at(b, i)
		if len(x) != len(y) {
			return len(x) - len(y)
		}
		if n := strings.Compare(x, y); n != 0 {
			return n
		}
	}
	return 0
}
