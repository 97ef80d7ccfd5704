package flaw

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"nimblepane/core/software"
)

// Found is a flaw that a version's software has.
type Found struct {
	ID      string   `json:"id"`
	Records []string `json:"records,omitempty"` // other names of it
	// Advisories are records that are about several flaws, this one among them.
	Advisories []string `json:"advisories,omitempty"`
	Severity   Severity `json:"severity"`
	Score      float64  `json:"score,omitempty"` // of CVSS, from 0 to 10; 0 if it is not given
	Summary    string   `json:"summary,omitempty"`
	Links      []string `json:"links,omitempty"`
	Package    string   `json:"package"`                   // as the records call it
	Version    string   `json:"version"`                   // that has it
	Software   []string `json:"software" nullable:"false"` // that is made of the package, with versions
	Fixed      string   `json:"fixed,omitempty"`           // the first version of the package that does not have it, if there is one
	Perhaps    string   `json:"perhaps,omitempty"`         // why it is not certain
}

// Names are what the packages of a list are called in records, each once.
func Names(l software.List) []string {
	names := map[string]bool{}
	for _, e := range l.Entries {
		_, as := callings(e)
		for _, c := range as {
			names[c.name] = true
		}
	}
	return slices.Sorted(maps.Keys(names))
}

// Normal is a package's name as it is looked up by: Python's are the same with - . and _ (PEP 503).
func Normal(ecosystem, name string) string {
	if base, _, _ := strings.Cut(ecosystem, ":"); !strings.EqualFold(base, "PyPI") {
		return name
	}
	return strings.Join(strings.FieldsFunc(strings.ToLower(name), func(r rune) bool {
		return r == '-' || r == '_' || r == '.'
	}), "-")
}

// Find returns the known flaws of what a list has, the worst first. The records may be more than are of its packages.
func Find(l software.List, records []Record) []Found {
	system, byName := systemOf(l), map[string][]int{}
	for i, r := range records {
		if r.Withdrawn != nil {
			continue
		}
		for _, a := range r.Affected {
			n := Normal(a.Ecosystem, a.Name)
			if at := byName[n]; len(at) == 0 || at[len(at)-1] != i {
				byName[n] = append(byName[n], i)
			}
		}
	}
	about := flaws(records)
	type place struct{ flaw, name, version string }
	found := map[place]*Found{}
	var order []place
	for _, e := range l.Entries {
		own, as := callings(e)
		taken := map[int]bool{} // a record can name both a source package and what is built from it
		for _, c := range as {
			for _, i := range byName[c.name] {
				r := records[i]
				in, fixed, perhaps := r.in(e.Origin, system, own, c.name, c.version)
				if !in || taken[i] {
					continue
				}
				taken[i] = true
				for _, id := range about[i] {
					at := place{id, c.name, c.version}
					f := found[at]
					if f == nil {
						f = &Found{Package: c.name, Version: c.version, Severity: Unknown, Perhaps: perhaps}
						found[at], order = f, append(order, at)
					}
					f.take(r, id, len(about[i]) > 1, e.Label(), fixed, perhaps)
				}
			}
		}
	}
	out := make([]Found, 0, len(order))
	for _, at := range order {
		f := *found[at]
		f.ID, f.Records = named(f.Records)
		out = append(out, f)
	}
	slices.SortFunc(out, func(a, b Found) int {
		return cmp.Or(cmp.Compare(slices.Index(Severities(), b.Severity), slices.Index(Severities(), a.Severity)),
			cmp.Compare(b.Score, a.Score), cmp.Compare(a.Package, b.Package), cmp.Compare(a.ID, b.ID))
	})
	return out
}

// take adds the data of a record to a finding. Several says that the record is about several flaws.
func (f *Found) take(r Record, id string, several bool, label, fixed, perhaps string) {
	f.Severity, f.Score = worse(f.Severity, r.Severity), max(f.Score, r.Score)
	f.Summary, f.Fixed = cmp.Or(f.Summary, r.Summary), cmp.Or(f.Fixed, fixed)
	if perhaps == "" {
		f.Perhaps = "" // one record is certain
	}
	add := func(list *[]string, more ...string) {
		for _, m := range more {
			if !slices.Contains(*list, m) {
				*list = append(*list, m)
			}
		}
	}
	add(&f.Software, label)
	if several {
		add(&f.Records, id)
		add(&f.Advisories, r.ID)
	} else {
		add(&f.Records, r.names()...)
	}
	add(&f.Links, r.Links...)
}

// named is how a flaw is called that has several names: by its CVE if it has one.
func named(names []string) (id string, others []string) {
	slices.SortFunc(names, func(a, b string) int {
		return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(a, b))
	})
	return names[0], slices.Clip(names[1:])
}

func rank(id string) int {
	if strings.HasPrefix(id, "CVE-") {
		return 0
	}
	return 1
}

// names are the identifiers of a flaw that a record is about, if it is about one.
func (r Record) names() []string { return slices.Concat([]string{r.ID}, r.Aliases, r.Upstream) }

// cves are those of names.
func cves(names []string) (list []string) {
	for _, n := range names {
		if rank(n) == 0 && !slices.Contains(list, n) {
			list = append(list, n)
		}
	}
	return list
}

// flaws says which flaws each record is about. Records with common names are about the same flaw, however those go
// round, but a flaw has one CVE at most: a record that names several, such as an advisory, is about each of them.
func flaws(records []Record) [][]string {
	parent, cve := map[string]string{}, map[string]string{} // by name, and by the first of the names
	var root func(n string) string
	root = func(n string) string {
		p, known := parent[n]
		switch {
		case !known:
			parent[n] = n
			if rank(n) == 0 {
				cve[n] = n
			}
			return n
		case p == n:
			return n
		}
		parent[n] = root(p)
		return parent[n]
	}
	for _, r := range records {
		names := r.names()
		if len(cves(names)) > 1 {
			continue
		}
		for _, n := range names[1:] {
			a, b := root(names[0]), root(n)
			if a == b || cve[a] != "" && cve[b] != "" && cve[a] != cve[b] {
				continue
			}
			parent[b], cve[a] = a, cmp.Or(cve[a], cve[b])
		}
	}
	about := make([][]string, len(records))
	for i, r := range records {
		of := []string{r.ID}
		if named := cves(r.names()); len(named) > 0 {
			of = named
		}
		for _, n := range of {
			flaw := root(n)
			if flaw = cmp.Or(cve[flaw], flaw); !slices.Contains(about[i], flaw) {
				about[i] = append(about[i], flaw)
			}
		}
	}
	return about
}

// in says whether a version of a package has the flaw, where that is mended, and why it is not certain.
func (r Record) in(origin software.Origin, s system, own, name, version string) (in bool, fixed, perhaps string) {
	for _, a := range r.Affected {
		if Normal(a.Ecosystem, a.Name) != name || !s.has(a.Ecosystem, own) {
			continue
		}
		if slices.Contains(a.Versions, version) {
			in, perhaps = true, ""
		}
		for _, g := range a.Ranges {
			has, until, unsure := g.in(origin, version)
			if !has {
				continue
			}
			if !in {
				perhaps = unsure
			}
			if in, fixed = true, cmp.Or(fixed, until); unsure == "" {
				perhaps = ""
			}
		}
		if in && fixed == "" {
			fixed = a.fixedAfter(origin, version)
		}
	}
	return in, fixed, perhaps
}

// fixedAfter is the first version after one in which a flaw is mended, "" if none is known.
func (a Affected) fixedAfter(origin software.Origin, version string) (first string) {
	for _, g := range a.Ranges {
		for _, e := range g.Events {
			if n, err := software.Compare(origin, e.Fixed, version); e.Fixed == "" || err != nil || n <= 0 {
				continue
			}
			if n, err := software.Compare(origin, e.Fixed, first); first == "" || err == nil && n < 0 {
				first = e.Fixed
			}
		}
	}
	return first
}

// in says whether a version lies in the range, by OSV's own rule: it is in if the last event at or before it is an
// introduction, or it is the last that is affected. Where it cannot be ordered it is perhaps.
func (g Range) in(origin software.Origin, version string) (in bool, fixed, perhaps string) {
	var from, until string // the nearest events on both sides
	introduced := false
	if !g.reaches(origin, version) {
		return false, "", ""
	}
	for _, e := range g.Events {
		if e.Limit != "" {
			continue
		}
		at := cmp.Or(e.Introduced, e.Fixed, e.LastAffected)
		n := -1
		if e.Introduced != "0" {
			var err error
			if n, err = software.Compare(origin, at, version); err != nil {
				perhaps = cmp.Or(perhaps, err.Error())
				continue
			}
		}
		before := n < 0 || n == 0 && e.LastAffected == ""
		nearer := from == "" || e.Introduced != "0" && (from == "0" || less(origin, from, at))
		switch {
		case before && nearer:
			from, introduced = at, e.Introduced != ""
		case !before && e.Fixed != "" && (until == "" || less(origin, at, until)):
			until = at
		}
	}
	if introduced || perhaps != "" {
		return true, until, perhaps
	}
	return false, "", ""
}

// reaches says whether a version is before one of the limits of a range, of which "*" is after all versions. Without
// limits all versions are; so is one that cannot be ordered.
func (g Range) reaches(origin software.Origin, version string) bool {
	limited := false
	for _, e := range g.Events {
		if e.Limit == "" {
			continue
		}
		limited = true
		if n, err := software.Compare(origin, version, e.Limit); e.Limit == "*" || err != nil || n < 0 {
			return true
		}
	}
	return !limited
}

// less says that a is at or before b; what cannot be ordered is.
func less(origin software.Origin, a, b string) bool {
	n, err := software.Compare(origin, a, b)
	return err != nil || n <= 0
}

// Difference is what a version mends of another's flaws, and what it brings.
type Difference struct {
	Mends  []Found `json:"mends"`
	Brings []Found `json:"brings"`
}

// Diff compares the flaws of one version with those of the next. A flaw is the same by any of its names, whatever
// package has it.
func Diff(from, to []Found) Difference {
	return Difference{Mends: without(from, to), Brings: without(to, from)}
}

func without(list, others []Found) []Found {
	known := map[string]bool{}
	for _, o := range others {
		known[o.ID] = true
		for _, r := range o.Records {
			known[r] = true
		}
	}
	out := []Found{}
	for _, f := range list {
		if !known[f.ID] && !slices.ContainsFunc(f.Records, func(r string) bool { return known[r] }) {
			out = append(out, f)
		}
	}
	return out
}

// Serious are those of a list that must not wait.
func Serious(list []Found) []Found {
	return slices.DeleteFunc(slices.Clone(list), func(f Found) bool { return !f.Severity.Serious() })
}
