// Package sheet reads build sheets, and says what is wrong with them.
//
// A build sheet is a YAML file that says how a version of an image is made:
// from which base, on what machine, by which steps in their order, and what
// the version is called and kept for. It is written once, kept where text is
// kept, and followed every month.
package sheet

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"nimblepane/core/base"
	"nimblepane/core/estate"
	"nimblepane/core/feed"
	"nimblepane/core/image"
	"nimblepane/core/seal"
	"nimblepane/core/secret"
	"nimblepane/core/strict"
)

// Sheet is a build sheet as it is written down. What was left out has been filled in.
type Sheet struct {
	Image   string  `yaml:"image" json:"image"`
	Base    Base    `yaml:"base" json:"base"`
	Machine Machine `yaml:"machine" json:"machine"`
	Steps   []Step  `yaml:"steps" json:"steps"`
	Checks  Checks  `yaml:"seal-checks" json:"seal_checks"`
	// Applications are what people open on a host.
	Applications []Application `yaml:"applications" json:"applications,omitempty"`

	Version   Version  `yaml:"version" json:"version"`
	Delivery  Delivery `yaml:"delivery" json:"delivery"`
	TimeLimit Span     `yaml:"time-limit" json:"time_limit"` // of the whole; 4h if not given

	Parameters map[string]Parameter `yaml:"parameters" json:"parameters,omitempty"`
	// Secrets are where values come from that nobody may read later, by name.
	Secrets map[string]secret.Source `yaml:"secrets" json:"secrets,omitempty"`
	// Values are those of the parameters, once With has filled them in.
	Values map[string]string `json:"values,omitempty" jsonschema:"-"`

	library Library // of which its steps use
	places  strict.Places
}

// Base is what the version is made from: one of its fields is set.
type Base struct {
	Track   string `yaml:"track" json:"track,omitempty"`     // the version that a track of the image names
	Version string `yaml:"version" json:"version,omitempty"` // one of the image's versions
	Disk    string `yaml:"disk" json:"disk,omitempty"`       // a base disk in the site's storage
	Named   string `yaml:"named" json:"named,omitempty"`     // a base that was brought in, by its name
	// a release of a vendor's feed, which is brought in if it is not here
	Vendor *Vendor `yaml:"vendor" json:"vendor,omitempty"`
}

// Vendor says which release of a vendor's feed is meant: the newest of a
// product, or one of them. What is not given may be anything, as long as one product is meant.
type Vendor struct {
	Feed      string `yaml:"feed" json:"feed"` // by its name
	Publisher string `yaml:"publisher" json:"publisher,omitempty"`
	Product   string `yaml:"product" json:"product,omitempty"`
	Edition   string `yaml:"edition" json:"edition,omitempty"`
	Release   string `yaml:"release" json:"release,omitempty"`
	Serial    string `yaml:"serial" json:"serial,omitempty"` // one release; the newest if not given
}

// Want is what is looked for in the feed.
func (v Vendor) Want() feed.Want {
	return feed.Want{Labels: base.Labels{
		Publisher: v.Publisher, Product: v.Product, Edition: v.Edition, Release: v.Release,
	}, Serial: v.Serial}
}

// Machine is what the build works on.
type Machine struct {
	Site   string `yaml:"site" json:"site"`               // where the build machine is made
	Cores  int    `yaml:"cores" json:"cores,omitempty"`   // as many as its class says if not given
	Memory Size   `yaml:"memory" json:"memory,omitempty"` // such as 8GiB; what its class says if not given
	// as what it begins with if not given; a larger one makes the version's disk as large
	Disk Size `yaml:"disk" json:"disk,omitempty"`
}

// Bounds of what a build machine is given.
const (
	MostCores   = 256
	LeastMemory = 128 << 20 // bytes
)

// Size is a number of bytes.
type Size int64

// UnmarshalText reads a size such as 8GiB.
func (s *Size) UnmarshalText(text []byte) error {
	n, err := estate.Bytes(string(text))
	*s = Size(n)
	return err
}

// MarshalText writes the size as people do.
func (s Size) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

func (s Size) String() string {
	for _, u := range []struct {
		name  string
		bytes Size
	}{{"TiB", 1 << 40}, {"GiB", 1 << 30}, {"MiB", 1 << 20}, {"KiB", 1 << 10}} {
		if s > 0 && s%u.bytes == 0 {
			return fmt.Sprintf("%d%s", s/u.bytes, u.name)
		}
	}
	return fmt.Sprintf("%dB", int64(s))
}

// Checks is what becomes of the seal checks.
type Checks struct {
	Waive map[string]string `yaml:"waive" json:"waive,omitempty"` // why what they find is passed over, by check
	Block []string          `yaml:"block" json:"block,omitempty"` // checks that keep it from being sealed, not only warn
}

// Version is what is made.
type Version struct {
	Number    string   `yaml:"number" json:"number,omitempty"` // the next one if not given
	Notes     string   `yaml:"notes" json:"notes,omitempty"`
	Commits   bool     `yaml:"notes-from-commits" json:"notes_from_commits,omitempty"` // since the last build, below the notes
	EndOfLife string   `yaml:"end-of-life" json:"end_of_life,omitempty"`               // a date, or "in 6 months"
	Tags      []string `yaml:"tags" json:"tags,omitempty"`
	Stage     bool     `yaml:"stage" json:"stage,omitempty"` // point pilot at it when it is ready
	Prove     *bool    `yaml:"prove" json:"prove,omitempty"` // its first start, on a machine that is thrown away; true if not given
}

// Delivery is where copies of the version are delivered to when it is made.
type Delivery struct {
	Sites  []string `yaml:"sites" json:"sites,omitempty"`   // those with a pool of the image if not given
	Copies int      `yaml:"copies" json:"copies,omitempty"` // at each; as many as the image's clearance says if not given
}

// MostCopies is how many copies of a version one site may have.
const MostCopies = 100

// Span is a length of time, in whole seconds.
type Span time.Duration

// UnmarshalText reads a span such as 90m, 1h30m or 30s.
func (s *Span) UnmarshalText(text []byte) error {
	d, err := time.ParseDuration(string(text))
	if err != nil || d < time.Second || d > 7*24*time.Hour || d%time.Second != 0 {
		return fmt.Errorf("%q is no time: write it in whole seconds, such as 30s, 90m or 1h30m, at most 168h", text)
	}
	*s = Span(d)
	return nil
}

// MarshalText writes the span as people do.
func (s Span) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

func (s Span) String() string { return estate.Span(time.Duration(s)) }

// Problem is one thing that is wrong with a sheet, and where.
type Problem struct {
	Line, Column int // from 1
	Text         string
}

func (p Problem) Error() string {
	return fmt.Sprintf("line %d, column %d: %s", p.Line, p.Column, p.Text)
}

// Problems are all that is wrong with a sheet, from its top down.
type Problems []Problem

func (ps Problems) Error() string {
	lines := make([]string, len(ps))
	for i, p := range ps {
		lines[i] = p.Error()
	}
	return strings.Join(lines, "\n")
}

// Bounds of a sheet.
const (
	MostBytes = 1 << 20
	MostSteps = 200
	MostFile  = 64 << 30 // bytes of a file that it names
	// What comes after so many problems is told when these are mended.
	mostProblems = 100
)

// What is filled in when it is left out.
const (
	UsualTimeLimit = Span(4 * time.Hour)
	UsualStepLimit = Span(30 * time.Minute)
	UsualRestart   = Span(10 * time.Minute)
	UsualPause     = Span(30 * time.Second)
)

// Parse reads a sheet, fills in what was left out, and checks it. It may use
// the ready steps that ship with the product, and those of other libraries that
// are given. The error is Problems.
func Parse(text []byte, own ...Library) (Sheet, error) {
	return ParseUntil(func() error { return nil }, text, own...)
}

// ParseUntil is Parse until done returns an error, which it returns then: to
// check the conditions of a sheet can take half a second.
func ParseUntil(done func() error, text []byte, own ...Library) (Sheet, error) {
	s := Sheet{library: Shipped()}
	for _, l := range own {
		s.library = s.library.And(l)
	}
	if len(text) > MostBytes {
		return s, Problems{{1, 1, fmt.Sprintf("the sheet has %d bytes: at most %d are taken; put what is long into "+
			"files of the image", len(text), MostBytes)}}
	}
	places, found := strict.ReadYAML(text, &s)
	s.places = places
	c := newChecker(places, found)
	c.library, c.done = s.library, done
	if len(c.problems) == 0 || len(places) > 1 {
		c.sheet(&s)
	}
	if err := done(); err != nil {
		return s, err
	}
	if len(c.problems) > 0 {
		slices.SortStableFunc(c.problems, func(a, b Problem) int {
			return cmp.Or(cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
		})
		return s, c.problems[:min(len(c.problems), mostProblems)]
	}
	return s, nil
}

type checker struct {
	places   strict.Places
	unread   map[string]bool // paths
	library  Library
	problems Problems
	done     func() error // why to stop, nil to go on; nil for never

	conditions int // characters of them so far
}

// newChecker returns a checker that has reported what could not be read.
func newChecker(places strict.Places, found []strict.YAMLProblem) checker {
	c := checker{places: places, unread: map[string]bool{}}
	for _, p := range found {
		c.unread[p.Path] = true
		if _, known := places[p.Path]; !known { // a key that is not known may be meant as one that is missing beside it
			c.unread[p.Path[:max(0, strings.LastIndexByte(p.Path, '.'))]] = true
		}
		c.problems = append(c.problems, Problem{p.Line, p.Column, p.Text})
	}
	return c
}

// at reports a problem at a path such as steps[2].install, unless what is there
// could not be read.
func (c *checker) at(path, format string, args ...any) {
	if c.unread[path] {
		return
	}
	p := c.places.Of(path)
	c.problems = append(c.problems, Problem{p.Line, p.Column, fmt.Sprintf(format, args...)})
}

func (c *checker) has(path string) bool { _, ok := c.places[path]; return ok }

func (c *checker) sheet(s *Sheet) {
	if !c.has("image") {
		c.at("", "the image is missing: write image: and the name of the image that a version is made of")
	} else if err := image.CheckName(s.Image); err != nil {
		c.at("image", "image: %s", err)
	}
	c.base(s.Base)
	if !c.has("machine.site") {
		c.at("machine", "the site is missing: write machine: {site: NAME}, where the build machine is made")
	} else if err := image.CheckName(s.Machine.Site); err != nil {
		c.at("machine.site", "machine.site: %s", err)
	}
	if c.has("machine.cores") && (s.Machine.Cores < 1 || s.Machine.Cores > MostCores) {
		c.at("machine.cores", "machine.cores: %d: use 1 to %d", s.Machine.Cores, MostCores)
	}
	if s.Machine.Memory != 0 && s.Machine.Memory < LeastMemory {
		c.at("machine.memory", "machine.memory: %s is too little: use at least %s", s.Machine.Memory, Size(LeastMemory))
	}
	if s.TimeLimit == 0 {
		s.TimeLimit = UsualTimeLimit
	}
	c.steps(s)
	c.parameters(s)
	c.secrets(s)
	c.checks(s.Checks)
	c.applications(s.Applications)
	c.version(s.Version)
	c.delivery(s.Delivery)
}

func (c *checker) steps(s *Sheet) {
	switch n := len(s.Steps); {
	case !c.has("steps"):
		c.at("", "the steps are missing: write steps: and under it what is done on the machine, in order")
	case n == 0 || n > MostSteps:
		c.at("steps", "there are %d steps: use 1 to %d", n, MostSteps)
	}
	seen := map[string]int{}
	for i := range s.Steps[:min(len(s.Steps), MostSteps)] {
		path := fmt.Sprintf("steps[%d]", i)
		c.step(path, &s.Steps[i])
		if first, twice := seen[s.Steps[i].Name]; twice && s.Steps[i].Name != "" {
			c.at(path+".name", "step %q is there twice, first in line %d: give each its own name", s.Steps[i].Name,
				first)
		} else {
			seen[s.Steps[i].Name] = c.places.Of(path + ".name").Line
		}
	}
}

func (c *checker) checks(checks Checks) {
	for i, check := range checks.Block {
		c.sealCheck(fmt.Sprintf("seal-checks.block[%d]", i), check)
		if _, waived := checks.Waive[check]; waived {
			c.at(fmt.Sprintf("seal-checks.block[%d]", i), "seal-checks: %s is waived, too: choose one", check)
		}
	}
	for check, reason := range checks.Waive {
		at := "seal-checks.waive." + check
		c.sealCheck(at, check)
		if !OneLine(reason, 200) {
			c.at(at, "%s: write why it is passed over, in one line of at most 200 characters", at)
		}
	}
}

// sealCheck reports a name that is of no seal check.
func (c *checker) sealCheck(at, name string) {
	if !seal.Known(name) {
		c.at(at, "there is no seal check %q: use %s, or own- and the name of your organisation's own", name,
			strings.Join(seal.Checks(), ", "))
	}
}

// Terms are what becomes of what the seal checks find.
func (c Checks) Terms() seal.Terms { return seal.Terms{Waive: c.Waive, Block: c.Block} }

func (c *checker) secrets(s *Sheet) {
	for _, name := range slices.Sorted(maps.Keys(s.Secrets)) {
		from, at := s.Secrets[name], "secrets."+name
		switch {
		case !parameterName.MatchString(name):
			c.at(at, "secret %q: use small letters, digits and dashes, at most 40, a letter first", name)
		case (from.Environment == "") == (from.File == ""):
			c.at(at, "%s: write environment: or file: under it, where the service finds it", at)
		case from.Environment != "" && !variable.MatchString(from.Environment):
			c.at(at+".environment", "%s.environment: %q is no name of a variable: use letters, digits and _", at,
				from.Environment)
		case from.File != "" && (strings.ContainsAny(from.File, "/\\") || strings.HasPrefix(from.File, ".")):
			c.at(at+".file", "%s.file: %q is no name of a file in the service's folder of secrets", at, from.File)
		}
	}
	for i, step := range s.Steps[:min(len(s.Steps), MostSteps)] {
		if step.Script == nil {
			continue
		}
		at := fmt.Sprintf("steps[%d].script.secrets", i)
		c.environment(at, step.Script.Secrets)
		for _, v := range slices.Sorted(maps.Keys(step.Script.Secrets)) {
			if _, known := s.Secrets[step.Script.Secrets[v]]; !known {
				c.at(at+"."+v, "%s: there is no secret %q: write it down under secrets:, or another name", at,
					step.Script.Secrets[v])
			}
			if _, twice := step.Script.Environment[v]; twice {
				c.at(at+"."+v, "%s: %s is in environment, too: take another name", at, v)
			}
		}
	}
}

func (c *checker) base(b Base) {
	given := 0
	for _, text := range []string{b.Track, b.Version, b.Disk, b.Named} {
		if text != "" {
			given++
		}
	}
	if b.Vendor != nil {
		given++
	}
	switch {
	case !c.has("base"):
		c.at("", "the base is missing: write base: {track: live} to begin with what is in use")
	case given != 1:
		c.at("base", "base: %d things to begin with are named: name one of track, version, disk, named and "+
			"vendor", given)
	}
	if b.Track != "" {
		if err := image.CheckName(b.Track); err != nil {
			c.at("base.track", "base.track: %s", err)
		}
	}
	if b.Named != "" {
		if err := base.CheckName(b.Named); err != nil {
			c.at("base.named", "base.named: %s", err)
		}
	}
	if v := b.Vendor; v != nil {
		if err := image.CheckName(v.Feed); err != nil {
			c.at("base.vendor.feed", "base.vendor.feed: %s", err)
		}
		if v.Product == "" && v.Release == "" {
			c.at("base.vendor", "base.vendor: say which product and release of the feed is meant, such as {feed: %s, "+
				"product: Harbour Linux, release: \"13\"}", cmp.Or(v.Feed, "estuary"))
		}
	}
	if strings.ContainsAny(b.Disk, "/\\") || b.Disk == ".." {
		c.at("base.disk", "base.disk: %q is a path: name a disk in the site's storage, such as desk.qcow2", b.Disk)
	}
}

var (
	inMonths = regexp.MustCompile(`^in ([1-9][0-9]?) (days?|weeks?|months?)$`)
	tag      = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)
)

func (c *checker) version(v Version) {
	if v.EndOfLife != "" && !inMonths.MatchString(v.EndOfLife) {
		if _, err := time.Parse(time.DateOnly, v.EndOfLife); err != nil {
			c.at("version.end-of-life", "version.end-of-life: %q is no date: write it as 2027-05-31 or as in 6 months",
				v.EndOfLife)
		}
	}
	for i, t := range v.Tags {
		if !tag.MatchString(t) {
			c.at(fmt.Sprintf("version.tags[%d]", i), "version.tags: %q: use small letters, digits and dashes, at most "+
				"40", t)
		}
	}
	if utf8.RuneCountInString(v.Notes) > mostOfNotes {
		c.at("version.notes", "version.notes: use at most %d characters", mostOfNotes)
	}
}

func (c *checker) delivery(d Delivery) {
	if c.has("delivery.sites") && len(d.Sites) == 0 {
		c.at("delivery.sites", "delivery.sites: name at least one site, or leave it out")
	}
	for i, site := range d.Sites {
		at := fmt.Sprintf("delivery.sites[%d]", i)
		if err := image.CheckName(site); err != nil {
			c.at(at, "delivery.sites: %s", err)
		} else if slices.Contains(d.Sites[:i], site) {
			c.at(at, "delivery.sites: %s is there twice", site)
		}
	}
	if c.has("delivery.copies") && (d.Copies < 1 || d.Copies > MostCopies) {
		c.at("delivery.copies", "delivery.copies: %d: use 1 to %d", d.Copies, MostCopies)
	}
}

// mostOfNotes is how long the notes of a version may be, in characters.
const mostOfNotes = 4000

// NotesWith are the version's notes, with the subject lines of commits below them if it wants these. What is too long
// loses the oldest commits.
func (v Version) NotesWith(subjects []string) string {
	notes := strings.TrimSpace(v.Notes)
	if !v.Commits {
		return notes
	}
	for i, subject := range subjects {
		line := "- " + strings.TrimSpace(subject)
		if utf8.RuneCountInString(notes)+utf8.RuneCountInString(line) > mostOfNotes-40 {
			return notes + fmt.Sprintf("\nand %d more", len(subjects)-i)
		}
		notes = strings.TrimSpace(notes + "\n" + line)
	}
	return notes
}

// EndOfLifeFrom returns the date of the version's end-of-life when it is made at the time; nil if it has none.
func (v Version) EndOfLifeFrom(made time.Time) *time.Time {
	if day, err := time.Parse(time.DateOnly, v.EndOfLife); err == nil {
		return &day
	}
	var n int
	var unit string
	if _, err := fmt.Sscanf(v.EndOfLife, "in %d %s", &n, &unit); err != nil {
		return nil
	}
	day := made.UTC().Truncate(24 * time.Hour)
	switch {
	case strings.HasPrefix(unit, "day"):
		day = day.AddDate(0, 0, n)
	case strings.HasPrefix(unit, "week"):
		day = day.AddDate(0, 0, 7*n)
	default:
		day = day.AddDate(0, n, 0)
	}
	return &day
}

// OneLine says whether a text can stand in a line of a table: it has something in it, and at most so many characters.
func OneLine(text string, most int) bool {
	return text != "" && utf8.RuneCountInString(text) <= most && strings.TrimSpace(text) == text &&
		!strings.ContainsFunc(text, func(r rune) bool { return !unicode.IsPrint(r) })
}

// absolute says whether a path is one of a machine, and written plainly.
func absolute(p string) bool { return path.IsAbs(p) && path.Clean(p) == p && p != "/" }
