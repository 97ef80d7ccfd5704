package software

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
)

// What happened to a piece of software.
type What string

// What can happen. Changed are versions that no rule orders.
const (
	Removed    What = "removed"
	Downgraded What = "downgraded"
	Changed    What = "changed"
	Updated    What = "updated"
	Added      What = "added"
)

// Whats are all of it, in the order in which it matters.
func Whats() []What { return []What{Removed, Downgraded, Changed, Updated, Added} }

// Group is whom a change concerns.
type Group string

// The groups, in the order in which they are read.
const (
	Applications  Group = "applications"
	NoticedByThem Group = "noticed"  // what people see beside these: menu entries, fonts, languages
	SecurityFixes Group = "security" // updates that mend a security flaw
	TheRest       Group = "rest"
)

// Groups are all of them, in that order.
func Groups() []Group { return []Group{Applications, NoticedByThem, SecurityFixes, TheRest} }

// Change is what happened to a piece of software, or to several that were built
// from one source and changed alike.
type Change struct {
	What     What     `json:"what"`
	Group    Group    `json:"group"`
	Origin   Origin   `json:"origin"`
	Name     string   `json:"name"`               // of the software, or of the source of several
	Was      string   `json:"was,omitempty"`      // what it was called before, if otherwise
	Arch     string   `json:"arch,omitempty"`     //
	Before   string   `json:"before,omitempty"`   // its version
	After    string   `json:"after,omitempty"`    //
	Packages []string `json:"packages,omitempty"` // that changed alike, if they are several
	Summary  string   `json:"summary,omitempty"`
	Security bool     `json:"security,omitempty"` // what it became mends a security flaw
	Why      string   `json:"why,omitempty"`      // no rule orders its versions
}

// FactChange is a fact that is another than before.
type FactChange struct {
	Fact   string `json:"fact"`
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
}

// Difference is how a list differs from another.
type Difference struct {
	Changes []Change     `json:"changes"`
	Facts   []FactChange `json:"facts"`
	Same    int          `json:"same"` // pieces of software that are in both as they are
}

// Count is how many changes there are of a kind, each package counted.
func (d Difference) Count(of What) (n int) {
	for _, c := range d.Changes {
		if c.What == of {
			n += c.Size()
		}
	}
	return n
}

// Label is how people call what changed: its name, what it was called before,
// and the packages that it stands for.
func (c Change) Label() string {
	label := withArch(c.Name, c.Arch)
	if c.Was != "" {
		label += " (was " + c.Was + ")"
	}
	if n := len(c.Packages); n > mostNamed {
		label += fmt.Sprintf(" (%s and %d more)", strings.Join(c.Packages[:mostNamed], ", "), n-mostNamed)
	} else if n > 0 {
		label += " (" + strings.Join(c.Packages, ", ") + ")"
	}
	return label
}

// withArch is a name with its architecture, if that is a second one beside that of the machine.
func withArch(name, arch string) string {
	if arch == "i386" || arch == "x86" {
		return name + ":" + arch
	}
	return name
}

// mostNamed is how many packages a line names.
const mostNamed = 4

// Size is how many packages a change is of.
func (c Change) Size() int { return max(1, len(c.Packages)) }

// Diff says how list b differs from list a.
func Diff(a, b List) Difference {
	d := Difference{Changes: []Change{}, Facts: diffFacts(a.Facts, b.Facts)}
	a.Entries, b.Entries = alike(a.Entries, b.Entries), alike(b.Entries, a.Entries)
	before, after := byIdentity(a.Entries), byIdentity(b.Entries)
	var gone, come []Entry
	for id, was := range before {
		is := after[id]
		was, is, same := apart(was, is)
		d.Same += same
		pairs := min(len(was), len(is))
		for i := range pairs {
			d.Changes = append(d.Changes, change(was[i], is[i]))
		}
		gone, come = append(gone, was[pairs:]...), append(come, is[pairs:]...)
	}
	for id, is := range after {
		if _, there := before[id]; !there {
			come = append(come, is...)
		}
	}
	d.Changes = append(d.Changes, renamed(gone, come)...)
	d.Changes = fold(d.Changes)
	return d
}

// alike adds to a list the applications that only the other one names, if what
// they belong to is in it: a version that was captured by hand has no sheet that
// lists them, and has them all the same.
func alike(entries, other []Entry) []Entry {
	named, installed := map[string]bool{}, map[string]string{}
	for _, e := range entries {
		if e.Origin == Application {
			named[e.Name] = true
		} else {
			installed[e.Name] = e.Version
		}
	}
	out := slices.Clone(entries)
	for _, e := range other {
		version, there := installed[e.Source]
		if e.Origin == Application && !named[e.Name] && e.Source != "" && there {
			e.Version = version
			out = append(out, e)
		}
	}
	return out
}

// identity tells software apart from other software.
type identity struct {
	origin     Origin
	name, arch string
}

// byIdentity sorts the entries by what they are.
func byIdentity(entries []Entry) map[identity][]Entry {
	out := make(map[identity][]Entry, len(entries))
	for _, e := range entries {
		id := identity{e.Origin, e.Name, e.Arch}
		if e.Origin == System { // there is one, whatever it is called
			id = identity{origin: System}
		}
		out[id] = append(out[id], e)
	}
	return out
}

// apart leaves out of both what is the same in both.
func apart(a, b []Entry) (onlyA, onlyB []Entry, same int) {
	if len(a) == 1 && len(b) == 1 && a[0].Version == b[0].Version && a[0].Name == b[0].Name {
		return nil, nil, 1
	}
	rest := slices.Clone(b)
	for _, e := range a {
		i := slices.IndexFunc(rest, func(o Entry) bool { return o.Version == e.Version && o.Name == e.Name })
		if i < 0 {
			onlyA = append(onlyA, e)
			continue
		}
		rest = slices.Delete(rest, i, i+1)
		same++
	}
	order := func(x, y Entry) int {
		n, err := Compare(x.rules(), x.Version, y.Version)
		if err != nil {
			return strings.Compare(x.Version, y.Version)
		}
		return n
	}
	slices.SortStableFunc(onlyA, order)
	slices.SortStableFunc(rest, order)
	return onlyA, rest, same
}

// change is what became of was.
func change(was, is Entry) Change {
	c := Change{
		What: Updated, Origin: is.Origin, Name: is.Name, Arch: is.Arch, Before: was.Version, After: is.Version,
		Summary: is.Summary,
	}
	if was.Name != is.Name {
		c.Was = was.Name
	}
	switch n, err := Compare(is.rules(), was.Version, is.Version); {
	case err != nil:
		c.What, c.Why = Changed, err.Error()
	case n > 0:
		c.What = Downgraded
	}
	c.Security = is.Security && c.What == Updated
	c.Group = group(c, was.Noticed || is.Noticed)
	return c.source(is)
}

// source notes the source for fold, which puts together what came of one.
func (c Change) source(e Entry) Change {
	c.Packages = []string{cmp.Or(e.Source, e.Name)}
	return c
}

func group(c Change, noticed bool) Group {
	switch {
	case c.Origin == Application:
		return Applications
	case noticed || c.Origin == System || c.Origin == Flatpak || c.Origin == Windows:
		return NoticedByThem
	case c.Security:
		return SecurityFixes
	}
	return TheRest
}

func lone(e Entry, what What) Change {
	c := Change{What: what, Origin: e.Origin, Name: e.Name, Arch: e.Arch, Summary: e.Summary}
	if what == Added {
		c.After = e.Version
	} else {
		c.Before = e.Version
	}
	c.Group = group(c, e.Noticed)
	return c.source(e)
}

// numbered are the numbers in a name, such as that of a kernel's package.
var numbered = regexp.MustCompile(`[0-9]+([.+~-][0-9]+)*`)

// renamed pairs what is gone with what has come under a name that differs in
// its numbers only, if there is one of each.
func renamed(gone, come []Entry) (changes []Change) {
	stem := func(e Entry) identity {
		name := numbered.ReplaceAllString(e.Name, "#")
		if name == e.Name {
			return identity{}
		}
		return identity{e.Origin, name, e.Arch}
	}
	left, arrived := map[identity][]int{}, map[identity][]int{}
	for i, e := range gone {
		left[stem(e)] = append(left[stem(e)], i)
	}
	for i, e := range come {
		arrived[stem(e)] = append(arrived[stem(e)], i)
	}
	paired := map[int]int{} // of gone, to come
	taken := map[int]bool{}
	for s, from := range left {
		if to := arrived[s]; s.name != "" && len(from) == 1 && len(to) == 1 && gone[from[0]].Name != come[to[0]].Name {
			paired[from[0]], taken[to[0]] = to[0], true
		}
	}
	for i, e := range gone {
		if to, ok := paired[i]; ok {
			c := change(e, come[to])
			if e.Version == come[to].Version {
				c.What, c.Why = Changed, "it is called otherwise"
			}
			changes = append(changes, c)
			continue
		}
		changes = append(changes, lone(e, Removed))
	}
	for i, e := range come {
		if !taken[i] {
			changes = append(changes, lone(e, Added))
		}
	}
	return changes
}

// fold makes one of changes of packages that were built from one source and
// changed alike, and puts all in the order in which they are read.
func fold(all []Change) []Change {
	slices.SortFunc(all, func(a, b Change) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), strings.Compare(a.Arch, b.Arch),
			strings.Compare(a.Before, b.Before), strings.Compare(a.After, b.After), strings.Compare(a.Was, b.Was))
	})
	type like struct {
		what          What
		group         Group
		origin        Origin
		source        string
		before, after string
	}
	told := map[like]bool{} // by the application that a package belongs to
	for _, c := range all {
		if c.Origin == Application {
			told[like{what: c.What, source: c.Packages[0], before: c.Before, after: c.After}] = true
		}
	}
	at := map[like]int{}
	folded := make([]Change, 0, len(all))
	for _, c := range all {
		source := c.Packages[0]
		if c.Origin != Application && told[like{what: c.What, source: c.Name, before: c.Before, after: c.After}] {
			continue
		}
		k := like{c.What, c.Group, c.Origin, source, c.Before, c.After}
		i, there := at[k]
		if !there || c.Origin == Application {
			at[k] = len(folded)
			c.Packages = nil
			folded = append(folded, c)
			continue
		}
		first := &folded[i]
		if first.Packages == nil {
			first.Packages = []string{withArch(first.Name, first.Arch)}
		}
		first.Packages = append(first.Packages, withArch(c.Name, c.Arch))
		first.Name, first.Security, first.Was = source, first.Security || c.Security, ""
		if first.Arch != c.Arch {
			first.Arch = ""
		}
	}
	slices.SortStableFunc(folded, func(a, b Change) int {
		return cmp.Or(
			cmp.Compare(slices.Index(Groups(), a.Group), slices.Index(Groups(), b.Group)),
			cmp.Compare(slices.Index(Whats(), a.What), slices.Index(Whats(), b.What)),
			strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)), strings.Compare(a.Arch, b.Arch),
		)
	})
	return folded
}

// folderMatters is by how many bytes a folder has to grow or shrink to be named.
const folderMatters = 16 << 20

func diffFacts(a, b Facts) (changes []FactChange) {
	changes = []FactChange{}
	one := func(fact, before, after string) {
		if before != after {
			changes = append(changes, FactChange{fact, before, after})
		}
	}
	one("system", a.System, b.System)
	one("edition", a.Edition, b.Edition)
	one("kernel", a.Kernel, b.Kernel)
	one("architecture", a.Arch, b.Arch)
	one("time zone", a.TimeZone, b.TimeZone)
	one("language", a.Language, b.Language)
	size := func(n int64) string {
		if n == 0 {
			return ""
		}
		return humanize.IBytes(uint64(n))
	}
	one("disk in use", size(a.Disk.Used), size(b.Disk.Used))
	folders := func(d Disk) map[string]int64 {
		out := map[string]int64{}
		for _, f := range d.Folders {
			out[f.Path] = f.Size
		}
		return out
	}
	was, is := folders(a.Disk), folders(b.Disk)
	for _, path := range slices.Sorted(maps.Keys(is)) {
		// One that is among the largest of one list only may have been there, a little smaller.
		if n, there := was[path]; there && max(is[path]-n, n-is[path]) >= folderMatters {
			one("folder "+path, size(n), size(is[path]))
		}
	}
	each := func(fact string, before, after []string) {
		for _, s := range before {
			if !slices.Contains(after, s) {
				changes = append(changes, FactChange{fact, s, ""})
			}
		}
		for _, s := range after {
			if !slices.Contains(before, s) {
				changes = append(changes, FactChange{fact, "", s})
			}
		}
	}
	each("service that starts by itself", a.Services, b.Services)
	each("port that is listened on", texts(a.Ports), texts(b.Ports))
	each("account", texts(a.Accounts), texts(b.Accounts))
	agents := func(list []Agent) map[string]string {
		out := map[string]string{}
		for _, a := range list {
			out[a.Name] = a.Version
		}
		return out
	}
	old, now := agents(a.Agents), agents(b.Agents)
	for _, name := range slices.Compact(slices.Sorted(maps.Keys(merged(old, now)))) {
		one("agent "+name, old[name], now[name])
	}
	return changes
}

func merged(a, b map[string]string) map[string]string {
	out := maps.Clone(a)
	maps.Copy(out, b)
	return out
}

func texts[T fmt.Stringer](list []T) (out []string) {
	for _, t := range list {
		out = append(out, t.String())
	}
	return out
}

func (p Port) String() string {
	text := fmt.Sprintf("%s %d at %s", p.Protocol, p.Port, p.Address)
	if p.Program != "" {
		text += " (" + p.Program + ")"
	}
	return text
}

func (a Account) String() string {
	if a.Signs {
		return a.Name + " (can sign in)"
	}
	return a.Name
}
