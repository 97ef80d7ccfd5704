package software

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
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
		return comparePython(a, b)
	case NPM:
		return compareNPM(a, b)
	case Application:
		return compareAny(a, b)
	}
	return between(a, b, numbers, compareNumbers, "usual")
}

// compareAny compares versions of an application of which it is not known what installed it: all rules that can order
// them have to agree.
func compareAny(a, b string) (int, error) {
	var all []int
	for _, compare := range []func(a, b string) (int, error){compareDeb, compareRPM, comparePython, compareNPM} {
		if n, err := compare(a, b); err == nil {
			all = append(all, cmp.Compare(n, 0))
		}
	}
	if len(all) == 0 || slices.Min(all) != slices.Max(all) {
		return 0, fmt.Errorf("package managers do not agree on the order of %q and %q", a, b)
	}
	return all[0], nil
}

// localSeparators are all the same in the local part of a version (PEP 440), behind the +.
var localSeparators = strings.NewReplacer("-", ".", "_", ".")

func comparePython(a, b string) (int, error) {
	in := func(v string) string {
		public, local, _ := strings.Cut(v, "+")
		if local == "" {
			return v
		}
		return public + "+" + localSeparators.Replace(local)
	}
	a, b = in(a), in(b)
	x, y := ranked(a, b, func(v string) []span {
		public, _, _ := strings.Cut(v, "+")
		return append(runs(public), identifiers(v, len(public))...)
	})
	return named(a, b, x, y, pep440.Parse, pep440.Version.Compare, "PEP 440's")
}

// loose is a version that npm reads although a hyphen is missing in it.
var loose = regexp.MustCompile(`^(\d+\.\d+\.\d+)([A-Za-z].*)$`)

// compareNPM compares versions as npm reads them: with v or = before them, and without the hyphen of a pre-release.
func compareNPM(a, b string) (int, error) {
	in := func(v string) string {
		return loose.ReplaceAllString(strings.TrimLeft(strings.TrimSpace(v), "=v \t"), "$1-$2")
	}
	x, y := ranked(in(a), in(b), func(v string) []span { return identifiers(v, 0) })
	return named(a, b, x, y, semver.StrictNewVersion, (*semver.Version).Compare, "Semantic Versioning's")
}

// span is a number in a version.
type span struct{ from, to int }

var digits = regexp.MustCompile(`\d+`)

// runs are all numbers in a version, and identifiers those from an offset on that stand alone between separators.
func runs(v string) (list []span) {
	for _, at := range digits.FindAllStringIndex(v, -1) {
		list = append(list, span{at[0], at[1]})
	}
	return list
}

func identifiers(v string, from int) (list []span) {
	separated := func(i int) bool { return i < 0 || i >= len(v) || strings.ContainsRune(".+-", rune(v[i])) }
	for _, s := range runs(v) {
		if s.from >= from && separated(s.from-1) && separated(s.to) {
			list = append(list, s)
		}
	}
	return list
}

// ranked replaces the numbers of two versions by their ranks among all of them, so that they keep their order, if one
// of
// them has more digits than the libraries read.
func ranked(a, b string, find func(string) []span) (string, string) {
	const most = 18
	var all []string
	for _, v := range []string{a, b} {
		for _, s := range find(v) {
			all = append(all, strings.TrimLeft(v[s.from:s.to], "0"))
		}
	}
	if !slices.ContainsFunc(all, func(n string) bool { return len(n) > most }) {
		return a, b
	}
	all = append(all, "") // zero stays what it is
	slices.SortFunc(all, func(x, y string) int { return cmp.Or(len(x)-len(y), strings.Compare(x, y)) })
	all = slices.Compact(all)
	replace := func(v string) string {
		for _, s := range slices.Backward(find(v)) {
			rank := slices.Index(all, strings.TrimLeft(v[s.from:s.to], "0"))
			v = v[:s.from] + strconv.Itoa(rank) + v[s.to:]
		}
		return v
	}
	return replace(a), replace(b)
}

// named is between, of versions that are called a and b.
func named[V any](a, b, x, y string, read func(string) (V, error), compare func(V, V) int, whose string) (int, error) {
	n, err := between(x, y, read, compare, whose)
	if err == nil {
		return n, nil
	}
	if _, err := read(x); err == nil {
		a = b
	}
	return 0, fmt.Errorf("version %q follows none of %s rules", a, whose)
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
	x, y := ranked(a, b, runs)
	return named(a, b, x, y, deb.NewVersion, func(x, y deb.Version) int { return x.Compare(y) }, "Debian's")
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
