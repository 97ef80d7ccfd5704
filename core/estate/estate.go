// Package estate reads the file that describes an estate: its sites, images
// and pools. It finds everything that is wrong with a file in one go, each
// with its line.
package estate

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	emitter "go.yaml.in/yaml/v3"

	"nimblepane/core/delivery"
	"nimblepane/core/image"
	"nimblepane/core/strict"
)

// File is an estate as it is written down.
type File struct {
	Lines    []Line    `yaml:"lines,omitempty"`
	Sites    []Site    `yaml:"sites"`
	Images   []Image   `yaml:"images"`
	Pools    []Pool    `yaml:"pools"`
	Workshop *Workshop `yaml:"workshop,omitempty"` // as it is if not given
}

// Site is a place where hosts run.
type Site struct {
	Name            string `yaml:"name"`
	Title           string `yaml:"title,omitempty"`
	Platform        string `yaml:"platform"`
	Address         string `yaml:"address,omitempty"`           // of a practice site's process
	StartsPerMinute int    `yaml:"starts-per-minute,omitempty"` // 20 if not given
	ClonesPerCopy   int    `yaml:"clones-per-copy,omitempty"`   // 4 if not given
	Deliveries      `yaml:",inline"`
	MachineSettings `yaml:",inline"`
}

// Image is a golden image.
type Image struct {
	Name         string       `yaml:"name"`
	Title        string       `yaml:"title,omitempty"`
	Numbering    image.Scheme `yaml:"numbering,omitempty"`
	MachineClass string       `yaml:"machine-class"`
	Tracks       []string     `yaml:"tracks,omitempty,flow"` // pilot and live if not given
	Clearance    Clearance    `yaml:"clearance,omitempty"`
	// Copies of a version that every site gets, and CopiesAt those that some sites get; as is proposed if not given.
	Copies   int            `yaml:"copies,omitempty"`
	CopiesAt map[string]int `yaml:"copies-at,omitempty"`
	// Retention is which versions are kept; as it is if not given, and everything if it is empty.
	Retention *image.Retention `yaml:"retention,omitempty"`
	BuildLogs string           `yaml:"build-logs,omitempty"` // for how long they are kept; 9600h if not given
	// RollPilot has the pools that follow pilot rolled over, as they were last, when a build has staged a version.
	RollPilot bool `yaml:"roll-pilot,omitempty"`
}

// Clearance holds the thresholds that a version must meet to go live.
type Clearance struct {
	Testers *int   `yaml:"testers,omitempty"` // 2 if not given
	Soak    string `yaml:"soak,omitempty"`    // 24h if not given
	Copies  *int   `yaml:"copies,omitempty"`  // per site, at least; 1 if not given
	// KeepApplications: no application may be missing that the version in use has.
	KeepApplications bool `yaml:"keep-applications,omitempty"`
	// NoDowngrades: no software may be older than in the version in use, unless an approver passes that over.
	NoDowngrades bool `yaml:"no-downgrades,omitempty"`
	// NoSeriousFlaws: no serious known flaw may be there that the version in use does not have.
	NoSeriousFlaws bool `yaml:"no-serious-flaws,omitempty"`
	// Independent: the approval of a tester does not count for a version that the same person has made.
	Independent bool `yaml:"independent,omitempty"`
}

// Pool is hosts of one kind.
type Pool struct {
	Name         string `yaml:"name"`
	Title        string `yaml:"title,omitempty"`
	Site         string `yaml:"site"`
	Image        string `yaml:"image"`
	Track        string `yaml:"track"`
	Hosts        int    `yaml:"hosts"`
	HostPrefix   string `yaml:"host-prefix"`
	SeatsPerHost int    `yaml:"seats-per-host"`
	MachineClass string `yaml:"machine-class"`
}

// Platforms that a site may have.
const (
	Practice = "practice"
	Libvirt  = "libvirt"
)

// Platforms are all of them.
var Platforms = []string{Practice, Libvirt}

// Problem is one thing that is wrong, and where.
type Problem struct {
	Line int // from 1, 0 if it concerns the file as a whole
	Text string
}

func (p Problem) Error() string {
	if p.Line == 0 {
		return p.Text
	}
	return fmt.Sprintf("line %d: %s", p.Line, p.Text)
}

// Problems are all that is wrong with a file.
type Problems []Problem

func (ps Problems) Error() string {
	lines := make([]string, len(ps))
	for i, p := range ps {
		lines[i] = p.Error()
	}
	return strings.Join(lines, "\n")
}

// Parse reads a file, fills in what was left out, and checks it. The error is
// Problems.
func Parse(b []byte) (File, error) {
	var f File
	places, found := strict.ReadYAML(b, &f)
	c := checker{places: places, unread: map[string]bool{}}
	for _, p := range found {
		c.unread[p.Path] = true
		c.problems = append(c.problems, Problem{p.Line, p.Text})
	}
	if len(found) == 0 || len(places) > 1 {
		c.file(&f)
	}
	if len(c.problems) > 0 {
		slices.SortStableFunc(c.problems, func(a, b Problem) int { return cmp.Compare(a.Line, b.Line) })
		return f, c.problems
	}
	return f, nil
}

type checker struct {
	places   strict.Places
	unread   map[string]bool // paths of what could not be read
	problems Problems
}

// at reports a problem at a path such as pools[2].site, or at the nearest path
// above it in the file. It reports nothing for a value that could not be read.
func (c *checker) at(path, format string, args ...any) {
	for p := path; p != ""; p = p[:max(0, strings.LastIndexAny(p, ".["))] {
		if c.unread[p] {
			return
		}
	}
	c.problems = append(c.problems, Problem{c.places.Of(path).Line, fmt.Sprintf(format, args...)})
}

func (c *checker) name(path, kind, name string, seen map[string]bool) {
	if err := image.CheckName(name); err != nil {
		c.at(path, "%s name %s", kind, err)
	} else if seen[name] {
		c.at(path, "%s %s is there twice", kind, name)
	}
	seen[name] = true
}

func (c *checker) file(f *File) {
	if f.Workshop != nil {
		c.workshop(f.Workshop)
	}
	sites, images, lines := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for i := range f.Lines {
		c.line(fmt.Sprintf("lines[%d]", i), &f.Lines[i], lines)
	}
	for i := range f.Sites {
		at := fmt.Sprintf("sites[%d]", i)
		c.site(at, &f.Sites[i], sites)
		c.deliveries(at, &f.Sites[i], f.Lines)
	}
	byName := map[string]*Image{}
	for i := range f.Images {
		c.image(fmt.Sprintf("images[%d]", i), &f.Images[i], images, f.Sites)
		byName[f.Images[i].Name] = &f.Images[i]
	}
	pools, prefixes := map[string]bool{}, map[string]bool{}
	bySite, platformOf := map[string]*Site{}, map[string]*Site{}
	for i := range f.Sites {
		bySite[f.Sites[i].Name] = &f.Sites[i]
	}
	for i := range f.Pools {
		p, at := &f.Pools[i], fmt.Sprintf("pools[%d]", i)
		c.name(at+".name", "pool", p.Name, pools)
		c.title(at, "pool", &p.Title, p.Name)
		if !sites[p.Site] {
			c.at(at+".site", "pool %s: site %q is not in this file; it has %s", p.Name, p.Site,
				names(f.Sites, func(s Site) string { return s.Name }))
		}
		if img := byName[p.Image]; img == nil {
			c.at(at+".image", "pool %s: image %q is not in this file; it has %s", p.Name, p.Image,
				names(f.Images, func(i Image) string { return i.Name }))
		} else {
			if !slices.Contains(img.Tracks, p.Track) {
				c.at(at+".track", "pool %s: image %s has no track %q; it has %s", p.Name, img.Name, p.Track,
					strings.Join(img.Tracks, ", "))
			}
			if p.MachineClass != img.MachineClass {
				c.at(at+".machine-class", "pool %s: its machines are of class %q and image %s is for class %q: they "+
					"have to be the same", p.Name, p.MachineClass, img.Name, img.MachineClass)
			}
		}
		if site := bySite[p.Site]; site != nil {
			if other := platformOf[p.Image]; other == nil {
				platformOf[p.Image] = site
			} else if other.Platform != site.Platform {
				c.at(at+".site", "pool %s: image %s is for platform %s, as at site %s, and site %s is on platform "+
					"%s: a disk runs on one platform only", p.Name, p.Image, other.Platform, other.Name, site.Name,
					site.Platform)
			}
			if _, ok := site.MachineClasses[p.MachineClass]; !ok && site.Platform == Libvirt {
				c.at(at+".machine-class", "pool %s: site %s does not say what machines of class %q are like; it has %s",
					p.Name, site.Name, p.MachineClass, orNone(slices.Sorted(maps.Keys(site.MachineClasses))))
			}
		}
		if p.Hosts < 1 || p.Hosts > 100_000 {
			c.at(at+".hosts", "pool %s: %d hosts: use 1 to 100000", p.Name, p.Hosts)
		}
		if p.SeatsPerHost < 1 || p.SeatsPerHost > 500 {
			c.at(at+".seats-per-host", "pool %s: %d seats per host: use 1 to 500", p.Name, p.SeatsPerHost)
		}
		if err := image.CheckName(p.HostPrefix); err != nil {
			c.at(at+".host-prefix", "pool %s: host prefix %s", p.Name, err)
		} else if prefixes[p.HostPrefix] {
			c.at(at+".host-prefix", "pool %s: host prefix %s is another pool's", p.Name, p.HostPrefix)
		}
		prefixes[p.HostPrefix] = true
	}
}

func (c *checker) site(at string, s *Site, seen map[string]bool) {
	c.name(at+".name", "site", s.Name, seen)
	c.title(at, "site", &s.Title, s.Name)
	if !slices.Contains(Platforms, s.Platform) {
		c.at(at+".platform", "site %s: platform %q is not known: use %s", s.Name, s.Platform,
			strings.Join(Platforms, " or "))
	}
	if s.Platform == Libvirt {
		c.machineSettings(at, s)
	} else if u, err := url.Parse(s.Address); err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		c.at(at+".address", "site %s: address %q: write where its practice process listens, such as "+
			"http://127.0.0.1:7720", s.Name, s.Address)
	}
	s.StartsPerMinute = cmp.Or(s.StartsPerMinute, 20)
	s.ClonesPerCopy = cmp.Or(s.ClonesPerCopy, 4)
	if s.StartsPerMinute < 1 || s.StartsPerMinute > 100_000 {
		c.at(at+".starts-per-minute", "site %s: %d starts per minute: use 1 to 100000", s.Name, s.StartsPerMinute)
	}
	if s.ClonesPerCopy < 1 || s.ClonesPerCopy > 10_000 {
		c.at(at+".clones-per-copy", "site %s: %d clones per copy: use 1 to 10000", s.Name, s.ClonesPerCopy)
	}
}

func (c *checker) image(at string, i *Image, seen map[string]bool, sites []Site) {
	c.name(at+".name", "image", i.Name, seen)
	c.title(at, "image", &i.Title, i.Name)
	scheme, err := image.ParseScheme(string(i.Numbering))
	if err != nil {
		c.at(at+".numbering", "image %s: %s", i.Name, err)
	}
	i.Numbering = scheme
	if err := image.CheckName(i.MachineClass); err != nil {
		c.at(at+".machine-class", "image %s: machine class %s", i.Name, err)
	}
	if len(i.Tracks) == 0 {
		i.Tracks = []string{image.Pilot, image.Live}
	} else if err := image.CheckTracks(i.Tracks); err != nil {
		c.at(at+".tracks", "image %s: %s", i.Name, err)
	}
	two, one := 2, 1
	if i.Clearance.Testers == nil {
		i.Clearance.Testers = &two
	}
	if i.Clearance.Copies == nil {
		i.Clearance.Copies = &one
	}
	i.Clearance.Soak = cmp.Or(i.Clearance.Soak, "24h")
	if n := *i.Clearance.Testers; n < 0 || n > 100 {
		c.at(at+".clearance.testers", "image %s: %d testers: use 0 to 100", i.Name, n)
	}
	if n := *i.Clearance.Copies; n < 1 || n > 100 {
		c.at(at+".clearance.copies", "image %s: %d copies: use 1 to 100", i.Name, n)
	}
	c.copies(at, i, sites)
	if i.Retention != nil {
		if err := i.Retention.Check(); err != nil {
			c.at(at+".retention", "image %s: retention: %s", i.Name, strings.ReplaceAll(err.Error(), "\n", "; "))
		}
	}
	c.bounded(at+".clearance.soak", "image "+i.Name+": soak", i.Clearance.Soak, 0, 90*24*time.Hour)
	i.BuildLogs = cmp.Or(i.BuildLogs, "9600h")
	c.bounded(at+".build-logs", "image "+i.Name+": build logs", i.BuildLogs, 24*time.Hour, 10*365*24*time.Hour)
}

// copies checks the numbers of copies that are said.
func (c *checker) copies(at string, i *Image, sites []Site) {
	check := func(at, key string, n int) {
		switch least := *i.Clearance.Copies; {
		case n < 1 || n > delivery.MostCopies:
			c.at(at, "image %s: %s: %d copies: use 1 to %d", i.Name, key, n, delivery.MostCopies)
		case n < least:
			c.at(at, "image %s: %s: %d: clearance asks for %d at each site", i.Name, key, n, least)
		}
	}
	if i.Copies != 0 {
		check(at+".copies", "copies", i.Copies)
	}
	for _, name := range slices.Sorted(maps.Keys(i.CopiesAt)) {
		check(at+".copies-at", "copies-at "+name, i.CopiesAt[name])
		if !slices.ContainsFunc(sites, func(s Site) bool { return s.Name == name }) {
			c.at(at+".copies-at", "image %s: copies-at: site %q is not in this file; it has %s", i.Name, name,
				names(sites, func(s Site) string { return s.Name }))
		}
	}
}

// bounded checks a length of time in whole seconds.
func (c *checker) bounded(at, what, text string, least, most time.Duration) {
	if d, err := time.ParseDuration(text); err != nil || d < least || d > most || d%time.Second != 0 {
		c.at(at, "%s of %q: write a time in whole seconds, such as 24h, 90m or 30s, at least %s and at most %s", what,
			text, Span(least), Span(most))
	}
}

// title fills in the name for a title that was left out, and checks it.
func (c *checker) title(at, what string, title *string, name string) {
	*title = cmp.Or(*title, name)
	if utf8.RuneCountInString(*title) > 100 || strings.ContainsFunc(*title, unseen) ||
		strings.TrimSpace(*title) != *title {
		c.at(at+".title", "%s %s: its title has to be one line of at most 100 characters, without spaces around it",
			what, name)
	}
}

// unseen characters end lines, turn the direction of writing or are none.
func unseen(r rune) bool {
	return unicode.IsControl(r) || r == '\u2028' || r == '\u2029' || unicode.Is(unicode.Bidi_Control, r) ||
		r == unicode.ReplacementChar
}

// Text writes the file so that Parse reads the same again.
func (f File) Text() ([]byte, error) {
	var text bytes.Buffer
	// The package that reads files leaves some texts without the quotes that they need.
	e := emitter.NewEncoder(&text)
	e.SetIndent(2)
	err := e.Encode(f)
	return text.Bytes(), errors.Join(err, e.Close())
}

// Span writes a duration as people do: 24h, 90m as 1h30m, 30s.
func Span(d time.Duration) string {
	text := d.String()
	if cut, ok := strings.CutSuffix(text, "m0s"); ok {
		text = cut + "m"
	}
	if cut, ok := strings.CutSuffix(text, "h0m"); ok {
		text = cut + "h"
	}
	return text
}

// HostName returns the name of a pool's nth host, from 1.
func HostName(prefix string, n int) string { return fmt.Sprintf("%s-%03d", prefix, n) }

func names[T any](list []T, name func(T) string) string {
	out := make([]string, len(list))
	for i, x := range list {
		out[i] = name(x)
	}
	return orNone(out)
}

func orNone(list []string) string { return cmp.Or(strings.Join(list, ", "), "none") }
