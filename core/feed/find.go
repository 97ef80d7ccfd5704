package feed

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"nimblepane/core/base"
)

// Want says which releases are meant. What is empty is not asked for; capitals and small letters are the same.
type Want struct {
	base.Labels
	Serial string // one release; the newest if it is ""
	Text   string // that is somewhere in what is said of it
}

func (w Want) String() string {
	var said []string
	for _, of := range [][2]string{
		{"publisher", w.Publisher},
		{"product", w.Product},
		{"edition", w.Edition},
		{"release", w.Release},
		{"serial", w.Serial},
		{"text", w.Text},
	} {
		if of[1] != "" {
			said = append(said, of[0]+" "+of[1])
		}
	}
	return cmp.Or(strings.Join(said, ", "), "any release")
}

// Meets says whether a release is meant.
func (w Want) Meets(o Offer) bool {
	is := func(want string, of ...string) bool {
		return want == "" || slices.ContainsFunc(of, func(s string) bool { return strings.EqualFold(want, s) })
	}
	return is(w.Publisher, o.Labels.Publisher) && is(w.Product, o.Labels.Product, o.Product) &&
		is(w.Edition, o.Labels.Edition) && is(w.Release, o.Labels.Release, o.Codename) && is(w.Serial, o.Serial) &&
		(w.Text == "" || strings.Contains(strings.ToLower(strings.Join([]string{
			o.Title(), o.Product, o.Codename, o.Architecture,
		}, " ")), strings.ToLower(w.Text)))
}

// Sort puts releases in order: by what they are of, the newest first.
func Sort(offers []Offer) {
	slices.SortFunc(offers, func(a, b Offer) int {
		return cmp.Or(
			strings.Compare(strings.ToLower(a.Labels.Publisher), strings.ToLower(b.Labels.Publisher)),
			strings.Compare(strings.ToLower(a.Labels.Product), strings.ToLower(b.Labels.Product)),
			strings.Compare(strings.ToLower(a.Labels.Edition), strings.ToLower(b.Labels.Edition)),
			CompareSerials(b.Labels.Release, a.Labels.Release), strings.Compare(a.Product, b.Product),
			CompareSerials(b.Serial, a.Serial))
	})
}

// The one release that is meant: the newest of one product for our machines. The error says what there is instead.
func (w Want) One(offers []Offer) (one Offer, err error) {
	met := slices.DeleteFunc(slices.Clone(offers), func(o Offer) bool { return !w.Meets(o) })
	ours := slices.DeleteFunc(slices.Clone(met), func(o Offer) bool {
		return o.Architecture != "" && o.Architecture != base.Architecture
	})
	switch {
	case len(met) == 0 && w.Serial != "":
		newest := w
		newest.Serial = ""
		if is, err := newest.One(offers); err == nil {
			return one, fmt.Errorf("the feed has no %s any more, or not yet: the newest is serial %s", w, is.Serial)
		}
		fallthrough
	case len(met) == 0:
		return one, fmt.Errorf("the feed has no %s: it has %s", w, listed(offers))
	case len(ours) == 0:
		return one, fmt.Errorf("the feed has %s only for machines of architecture %s, and hosts are %s", w,
			met[0].Architecture, base.Architecture)
	}
	for _, o := range ours {
		if o.Product != ours[0].Product {
			return one, fmt.Errorf("several products are meant by %s: say which of %s", w, listed(ours))
		}
		if one.Serial == "" || CompareSerials(o.Serial, one.Serial) > 0 {
			one = o
		}
	}
	return one, nil
}

// listed names the first few kinds of releases.
func listed(offers []Offer) string {
	var kinds []string
	for _, o := range offers {
		if kind := strings.TrimSpace(cmp.Or(o.Labels.Text(), o.Product) + " " + o.Architecture); !slices.Contains(kinds,
			kind) {
			kinds = append(kinds, kind)
		}
	}
	slices.Sort(kinds)
	const most = 8
	switch {
	case len(kinds) == 0:
		return "none"
	case len(kinds) > most:
		return strings.Join(kinds[:most], "; ") + fmt.Sprintf("; and %d more", len(kinds)-most)
	}
	return strings.Join(kinds, "; ")
}

// CompareSerials says which of two serials is the newer one: their numbers count as numbers, and the rest as text.
func CompareSerials(a, b string) int {
	for a != "" && b != "" {
		x, y := lead(a), lead(b)
		a, b = a[len(x):], b[len(y):]
		if number(x) && number(y) {
			x, y = strings.TrimLeft(x, "0"), strings.TrimLeft(y, "0")
			if c := cmp.Or(cmp.Compare(len(x), len(y)), strings.Compare(x, y)); c != 0 {
				return c
			}
		} else if c := strings.Compare(x, y); c != 0 {
			return c
		}
	}
	return cmp.Compare(len(a), len(b))
}

// lead is the number that a text begins with, or what comes before the first.
func lead(s string) string {
	i := strings.IndexFunc(s, func(r rune) bool { return number(string(r)) != number(s[:1]) })
	if i < 0 {
		return s
	}
	return s[:i]
}

func number(s string) bool { return s != "" && s[0] >= '0' && s[0] <= '9' }
