// Package image knows the rules of a golden image: how its versions are
// numbered, which of them its tracks name, what it can fall back to, and which
// of its versions nobody needs any more.
//
// An image is a line of master disks that goes on through the years. Each
// sealed state of it is a version. A track is a named pointer at one version:
// pilot pools follow "pilot", production follows "live". Moving a pointer is
// cheap and can be undone, and that is why going live is a move of a pointer
// and never a side effect of making a version.
package image

import (
	"cmp"
	"fmt"
	"regexp"
	"strconv"
	"time"

	"github.com/Masterminds/semver/v3"
)

// Scheme says how the versions of an image are numbered.
type Scheme string

const (
	// Calendar numbers are YYYY.MM.N: year, month, and a count from 1 within the month.
	Calendar Scheme = "calendar"
	// Semver numbers are MAJOR.MINOR.PATCH as semver.org describes them, without a leading "v".
	Semver Scheme = "semver"
)

// ParseScheme accepts the empty string as Calendar.
func ParseScheme(s string) (Scheme, error) {
	switch Scheme(s) {
	case "", Calendar:
		return Calendar, nil
	case Semver:
		return Semver, nil
	}
	return "", fmt.Errorf("numbering %q is not known: use %q or %q", s, Calendar, Semver)
}

var calendarForm = regexp.MustCompile(`^(\d{4})\.(\d{2})\.([1-9]\d{0,3})$`)

// Check returns nil if number is well formed in the scheme, and otherwise an
// error that says what is wrong and shows a right one.
func (s Scheme) Check(number string) error {
	if s == Semver {
		if _, err := semver.StrictNewVersion(number); err != nil {
			return fmt.Errorf("version number %q is not a semantic version: write it as MAJOR.MINOR.PATCH, for "+
				"example 2.4.0", number)
		}
		return nil
	}
	m := calendarForm.FindStringSubmatch(number)
	if m == nil {
		return fmt.Errorf("version number %q is not of the form YYYY.MM.N: write it as for example 2026.11.1", number)
	}
	if month, _ := strconv.Atoi(m[2]); month < 1 || month > 12 {
		return fmt.Errorf("version number %q has month %s: months go from 01 to 12", number, m[2])
	}
	return nil
}

// Compare orders two numbers of the scheme: -1 if a is older than b, 1 if it is newer.
// Numbers that are not well formed come before all others, in byte order.
func (s Scheme) Compare(a, b string) int {
	badA, badB := s.Check(a) != nil, s.Check(b) != nil
	switch {
	case badA && badB:
		return cmp.Compare(a, b)
	case badA:
		return -1
	case badB:
		return 1
	}
	if s == Semver {
		return semver.MustParse(a).Compare(semver.MustParse(b))
	}
	ma, mb := calendarForm.FindStringSubmatch(a), calendarForm.FindStringSubmatch(b)
	for i := 1; i <= 3; i++ {
		na, _ := strconv.Atoi(ma[i])
		nb, _ := strconv.Atoi(mb[i])
		if c := cmp.Compare(na, nb); c != 0 {
			return c
		}
	}
	return 0
}

// Next proposes the number of the version that is made at the time now, given
// the numbers there are. Numbers of failed captures count too: a number is
// used once.
func (s Scheme) Next(existing []string, now time.Time) string {
	newest := ""
	for _, n := range existing {
		if s.Check(n) == nil && s.Compare(n, newest) > 0 {
			newest = n
		}
	}
	if s == Semver {
		if newest == "" {
			return "1.0.0"
		}
		next := semver.MustParse(newest).IncMinor()
		return next.String()
	}
	month := now.UTC().Format("2006.01")
	if newest != "" {
		m := calendarForm.FindStringSubmatch(newest)
		// A number from a later month than the clock's is kept in order by going on from it.
		if m[1]+"."+m[2] >= month {
			n, _ := strconv.Atoi(m[3])
			return fmt.Sprintf("%s.%s.%d", m[1], m[2], n+1)
		}
	}
	return month + ".1"
}

// CheckNew returns nil if number may be given to a new version: well formed
// and newer than every existing one.
func (s Scheme) CheckNew(number string, existing []string, now time.Time) error {
	if err := s.Check(number); err != nil {
		return err
	}
	for _, n := range existing {
		switch s.Compare(number, n) {
		case 0:
			return fmt.Errorf("version number %s is taken: the next one is %s", number, s.Next(existing, now))
		case -1:
			return fmt.Errorf("version number %s is older than %s, which is taken: the next one is %s", number, n,
				s.Next(existing, now))
		}
	}
	return nil
}
