package sheet

import (
	"fmt"
	"io/fs"
	"maps"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"github.com/dustin/go-humanize/english"
)

// Step is one thing that is done on the build machine. One of the fields from
// Script to Ready says what.
type Step struct {
	Name     string    `yaml:"name" json:"name"`
	Script   *Script   `yaml:"script" json:"script,omitempty"`
	Put      *Put      `yaml:"put" json:"put,omitempty"`
	Fetch    *Fetch    `yaml:"fetch" json:"fetch,omitempty"`
	Install  *Packages `yaml:"install" json:"install,omitempty"`
	Remove   *Removal  `yaml:"remove" json:"remove,omitempty"`
	Update   *Update   `yaml:"update" json:"update,omitempty"`
	Locale   *Locale   `yaml:"locale" json:"locale,omitempty"`
	Settings *Settings `yaml:"settings" json:"settings,omitempty"`
	Restart  *Restart  `yaml:"restart" json:"restart,omitempty"`

	Checkpoint *Checkpoint `yaml:"checkpoint" json:"checkpoint,omitempty"`
	Ready      *Use        `yaml:"ready" json:"ready,omitempty"`

	When      Condition `yaml:"when" json:"when,omitempty"`             // it is done; always if not given
	Off       bool      `yaml:"off" json:"off,omitempty"`               // it is switched off, and left out
	Proof     bool      `yaml:"proof" json:"proof,omitempty"`           // it is run on the machine that proves the first start
	Skipped   bool      `json:"skipped,omitempty" jsonschema:"-"`       // it is left out, once With has looked
	TimeLimit Span      `yaml:"time-limit" json:"time_limit"`           // of each try; 30m if not given
	ExitCodes []int     `yaml:"exit-codes" json:"exit_codes,omitempty"` // that count as done; 0 if not given
	OnFailure OnFailure `yaml:"on-failure" json:"on_failure"`
}

// Script is run on the machine. It travels as a file and is never quoted.
type Script struct {
	Text        string            `yaml:"text" json:"text,omitempty"` // begins with #! and its interpreter
	File        string            `yaml:"file" json:"file,omitempty"` // beside the sheet, that has the text
	Arguments   []string          `yaml:"arguments" json:"arguments,omitempty"`
	Environment map[string]string `yaml:"environment" json:"environment,omitempty"`
	Secrets     map[string]string `yaml:"secrets" json:"secrets,omitempty"` // names of the sheet's, by variable
	As          string            `yaml:"as" json:"as,omitempty"`           // an account of the machine; root if not given
}

// File is where a file is written on the machine.
type File struct {
	To    string `yaml:"to" json:"to"`       // a path of the machine
	Owner string `yaml:"owner" json:"owner"` // root if not given
	Mode  string `yaml:"mode" json:"mode"`   // "0644" if not given
}

// Put writes a file, or all that is in a folder.
type Put struct {
	Text    string   `yaml:"text" json:"text,omitempty"`
	Source  string   `yaml:"file" json:"file,omitempty"`       // beside the sheet, instead of a text
	Folder  string   `yaml:"folder" json:"folder,omitempty"`   // beside the sheet; what is in it keeps its modes
	Content *Content `json:"content,omitempty" jsonschema:"-"` // of the file or folder, once WithFiles has looked
	File
}

// Fetch has the machine fetch a file over HTTP.
type Fetch struct {
	From   string `yaml:"from" json:"from"`     // an address
	SHA256 string `yaml:"sha256" json:"sha256"` // of the file, in hexadecimal digits
	File   `yaml:",inline"`
}

// Update brings what is installed up to date, again until nothing is pending.
type Update struct {
	Only    Updates `yaml:"only" json:"only"`       // all if not given
	Restart *bool   `yaml:"restart" json:"restart"` // between, when one is needed; true if not given
}

// Updates are which updates are applied.
type Updates string

const (
	AllUpdates      Updates = "all"
	SecurityUpdates Updates = "security"
)

// MostRounds is how often updates are applied in one step, and the machine restarted between.
const MostRounds = 5

// UnmarshalText reads which updates are meant.
func (u *Updates) UnmarshalText(text []byte) error {
	if *u = Updates(text); !slices.Contains([]Updates{AllUpdates, SecurityUpdates}, *u) {
		return fmt.Errorf("%q is not known: use all or security", text)
	}
	return nil
}

// Locale is in which time, language and letters the machine speaks. What is not given stays.
type Locale struct {
	TimeZone string `yaml:"time-zone" json:"time_zone,omitempty"` // of the IANA database, such as Europe/Paris
	Language string `yaml:"language" json:"language,omitempty"`   // a locale of the system, such as fr_FR.UTF-8
	Keyboard string `yaml:"keyboard" json:"keyboard,omitempty"`   // a layout, such as fr or "de nodeadkeys"
}

// Settings are what new people find. They change nothing for people who were there before.
type Settings struct {
	Home        map[string]string `yaml:"home" json:"home,omitempty"`               // files of a new home, by path in it
	Environment map[string]string `yaml:"environment" json:"environment,omitempty"` // variables of every session
	Person      string            `yaml:"person" json:"person,omitempty"`           // an account of the machine, whose settings they get
	Paths       []string          `yaml:"paths" json:"paths,omitempty"`             // of these files and folders in that home; of all settings if not given
}

// Packages are those of the machine's package manager.
type Packages struct {
	Packages []string `yaml:"packages" json:"packages"`
}

// Removal removes packages, files and folders.
type Removal struct {
	Packages []string `yaml:"packages" json:"packages,omitempty"`
	Files    []string `yaml:"files" json:"files,omitempty"` // paths of the machine, of folders with all that is in them
}

// Restart takes the machine down and up, and waits until it is back.
type Restart struct {
	Within Span `yaml:"within" json:"within"` // 10m if not given
}

// Checkpoint keeps what the machine is, called as the step is. The machine goes
// down for it and comes up. A build that failed later can go on from there.
type Checkpoint struct{}

// OnFailure is what is done when a step fails.
type OnFailure struct {
	Do    Remedy `yaml:"do" json:"do,omitempty"`       // stop if not given
	Times int    `yaml:"times" json:"times,omitempty"` // how often it is tried again; 3 if not given
	Pause Span   `yaml:"pause" json:"pause,omitempty"` // before it is; 30s if not given
}

// Remedy is one of the things that can be done about a step that failed.
type Remedy string

const (
	Stop  Remedy = "stop"  // the build fails
	GoOn  Remedy = "go-on" // it is noted, and the next step is done
	Again Remedy = "again" // it is tried again, and then the build fails
)

// UnmarshalText reads a remedy.
func (r *Remedy) UnmarshalText(text []byte) error {
	known := []Remedy{Stop, GoOn, Again}
	if *r = Remedy(text); !slices.Contains(known, *r) {
		return fmt.Errorf("%q is not known: use stop, go-on or again", text)
	}
	return nil
}

// Kind is what a step does.
type Kind string

const (
	RunsScript Kind = "script"
	Puts       Kind = "put"
	Fetches    Kind = "fetch"
	Installs   Kind = "install"
	Removes    Kind = "remove"
	Updating   Kind = "update"
	Localizes  Kind = "locale"
	Sets       Kind = "settings"
	Restarts   Kind = "restart"
	Keeps      Kind = "checkpoint"
	UsesReady  Kind = "ready"
)

// AllKinds are all things that a step can do.
func AllKinds() []Kind {
	return []Kind{RunsScript, Puts, Fetches, Installs, Removes, Updating, Localizes, Sets, Restarts, Keeps, UsesReady}
}

// LeftOut says why a step is left out, "" if it is not.
func (s Step) LeftOut() string {
	switch {
	case !s.Skipped:
		return ""
	case s.Off:
		return "it is switched off"
	}
	return "its condition is not met: " + string(s.When)
}

// Accepts says whether a script that ended with the exit code is done.
func (s Step) Accepts(exitCode int) bool { return slices.Contains(s.ExitCodes, exitCode) }

// Kinds returns what the step is said to do: one kind, if it is right.
func (s Step) Kinds() (kinds []Kind) {
	for i, given := range []bool{
		s.Script != nil, s.Put != nil, s.Fetch != nil, s.Install != nil, s.Remove != nil, s.Update != nil,
		s.Locale != nil, s.Settings != nil, s.Restart != nil, s.Checkpoint != nil,
		s.Ready != nil,
	} {
		if given {
			kinds = append(kinds, AllKinds()[i])
		}
	}
	return kinds
}

var (
	variable    = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)
	packageName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9+._:~=-]*$`)
	mode        = regexp.MustCompile(`^[0-7]{4}$`)
	person      = regexp.MustCompile(`^[a-z_][a-z0-9_-]*$`)
	sha256      = regexp.MustCompile(`^[0-9a-f]{64}$`)
	zone        = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_+-]*(/[A-Za-z0-9_+-]+)*$`)
	language    = regexp.MustCompile(`^[a-z]{2,3}(_[A-Z]{2})?\.UTF-8(@[a-z]+)?$|^C(\.UTF-8)?$`)
	layout      = regexp.MustCompile(`^[a-z]{2,10}( [a-z][a-z0-9_-]*)?$`)
)

func (c *checker) step(at string, s *Step) {
	switch {
	case !c.has(at + ".name"):
		c.at(at, "the step has no name: write name: and what it does, in a few words")
	case !OneLine(s.Name, 80):
		c.at(at+".name", "%s.name has to be one line of at most 80 characters, without spaces around it", at)
	}
	switch kinds := s.Kinds(); len(kinds) {
	case 1:
	case 0:
		c.at(at, "step %q does nothing: write %s under its name", s.Name, english.WordSeries(words(AllKinds()), "or"))
	default:
		c.at(at+"."+string(kinds[1]), "step %q does %d things: make a step of each", s.Name, len(kinds))
	}
	if s.Script != nil {
		c.script(at+".script", s.Script)
	}
	if s.Proof {
		c.proof(at, *s)
	}
	if s.Ready != nil {
		c.ready(at, *s)
	}
	if s.Put != nil {
		c.put(at+".put", s.Put)
	}
	if s.Fetch != nil {
		c.fetch(at+".fetch", s.Fetch)
	}
	if s.Install != nil {
		c.packages(at+".install", s.Install)
	}
	if s.Remove != nil {
		c.removal(at+".remove", *s.Remove)
	}
	if s.Update != nil && s.Update.Only == "" {
		s.Update.Only = AllUpdates
	}
	if s.Update != nil && s.Update.Restart == nil {
		s.Update.Restart = new(true)
	}
	if s.Locale != nil {
		c.locale(at+".locale", *s.Locale)
	}
	if s.Settings != nil {
		c.settings(at+".settings", *s.Settings)
	}
	if s.Restart != nil && s.Restart.Within == 0 {
		s.Restart.Within = UsualRestart
	}
	if s.TimeLimit == 0 {
		s.TimeLimit = UsualStepLimit
	}
	if s.Restart != nil {
		if c.has(at + ".time-limit") {
			c.at(at+".time-limit", "%s.time-limit: a restart has its time: write restart: {within: 10m}", at)
		}
		s.TimeLimit = s.Restart.Within
	}
	for i, code := range s.ExitCodes {
		if code < 0 || code > 255 {
			c.at(fmt.Sprintf("%s.exit-codes[%d]", at, i), "%s.exit-codes: %d: use 0 to 255", at, code)
		}
	}
	if c.has(at+".exit-codes") && s.Script == nil {
		c.at(at+".exit-codes", "%s.exit-codes: only a script has exit codes", at)
	}
	if len(s.ExitCodes) == 0 {
		s.ExitCodes = []int{0}
	}
	c.onFailure(at+".on-failure", &s.OnFailure)
}

func (c *checker) removal(at string, r Removal) {
	if len(r.Packages)+len(r.Files) == 0 {
		c.at(at, "%s: name packages or files under it", at)
	}
	if c.has(at + ".packages") {
		c.packages(at, &Packages{r.Packages})
	}
	for i, file := range r.Files {
		if !absolute(file) || strings.Count(file, "/") < 2 {
			c.at(fmt.Sprintf("%s.files[%d]", at, i), "%s.files: %q: use a full path of the machine below one of its "+
				"top folders, such as /opt/fare-desk", at, file)
		}
	}
}

func (c *checker) script(at string, s *Script) {
	switch {
	case s.Text != "" && s.File != "":
		c.at(at+".file", "%s: text and file are both there: choose one", at)
	case s.File != "":
		c.beside(at+".file", s.File)
	case !begins(s.Text):
		c.at(at+".text", "%s.text has to begin with the interpreter, such as #!/bin/sh", at)
	}
	c.environment(at+".environment", s.Environment)
	if s.As != "" && !person.MatchString(s.As) {
		c.at(at+".as", "%s.as: %q is no name of an account", at, s.As)
	}
}

func (c *checker) environment(at string, variables map[string]string) {
	for name := range variables {
		if !variable.MatchString(name) {
			c.at(at+"."+name, "%s: %q is no name of a variable: use letters, digits and _", at, name)
		}
	}
}

func (c *checker) put(at string, p *Put) {
	var given []string
	for _, key := range []string{"text", "file", "folder"} {
		if c.has(at + "." + key) {
			given = append(given, key)
		}
	}
	if len(given) != 1 {
		c.at(at, "%s: write one of text, file and folder under it: what is put there", at)
	}
	if p.Source != "" {
		c.beside(at+".file", p.Source)
	}
	if p.Folder != "" {
		c.beside(at+".folder", p.Folder)
		if c.has(at + ".mode") {
			c.at(at+".mode", "%s.mode is for a file: what is in a folder keeps its modes", at)
		}
	}
	c.file(at, &p.File)
}

func (c *checker) file(at string, f *File) {
	if !absolute(f.To) {
		c.at(at+".to", "%s.to: %q: write a path of the machine from its root, such as /etc/fare-desk.conf", at, f.To)
	}
	if f.Owner == "" {
		f.Owner = "root"
	}
	if !person.MatchString(f.Owner) {
		c.at(at+".owner", "%s.owner: %q is no name of an account", at, f.Owner)
	}
	if f.Mode == "" {
		f.Mode = "0644"
	}
	if !mode.MatchString(f.Mode) {
		c.at(at+".mode", "%s.mode: %q: write four octal digits in quotes, such as \"0644\"", at, f.Mode)
	}
}

func (c *checker) fetch(at string, f *Fetch) {
	if u, err := url.Parse(f.From); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		if !reference.MatchString(f.From) {
			c.at(at+".from", "%s.from: %q is no address: write one such as https://files.ferries.example/fares.db", at,
				f.From)
		}
	} else if u.User != nil {
		c.at(at+".from", "%s.from: an address with a password would stand in every log: leave it out", at)
	}
	if !sha256.MatchString(f.SHA256) && !reference.MatchString(f.SHA256) {
		c.at(at+".sha256", "%s.sha256: %q: write what sha256sum prints of the file, 64 hexadecimal digits", at,
			f.SHA256)
	}
	c.file(at, &f.File)
}

func (c *checker) locale(at string, l Locale) {
	if l == (Locale{}) {
		c.at(at, "%s: write time-zone, language or keyboard under it", at)
	}
	for _, given := range []struct {
		key, value string
		right      *regexp.Regexp
		such       string
	}{
		{"time-zone", l.TimeZone, zone, "Europe/Paris"},
		{"language", l.Language, language, "fr_FR.UTF-8"},
		{"keyboard", l.Keyboard, layout, "fr, or de nodeadkeys with a variant"},
	} {
		if given.value != "" && !given.right.MatchString(given.value) && !reference.MatchString(given.value) {
			c.at(at+"."+given.key, "%s.%s: %q is none: write it as %s", at, given.key, given.value, given.such)
		}
	}
}

func (c *checker) settings(at string, s Settings) {
	if len(s.Home)+len(s.Environment)+len(s.Paths) == 0 && s.Person == "" {
		c.at(at, "%s: write home, environment or person under it", at)
	}
	for p := range s.Home {
		if !inHome(p) {
			c.at(at+".home."+p, "%s.home: %q: write a path in a home, such as .config/fare-desk.conf", at, p)
		}
	}
	if s.Person != "" && !person.MatchString(s.Person) {
		c.at(at+".person", "%s.person: %q is no name of an account", at, s.Person)
	}
	if len(s.Paths) > 0 && s.Person == "" {
		c.at(at+".paths", "%s.paths is for the settings of a person: write person: and the name of an account", at)
	}
	for i, p := range s.Paths {
		if !inHome(p) {
			c.at(fmt.Sprintf("%s.paths[%d]", at, i), "%s.paths: %q: write a path in a home, such as .config/fare-desk",
				at, p)
		}
	}
	c.environment(at+".environment", s.Environment)
	for name, value := range s.Environment {
		if strings.ContainsAny(value, "\n\"\\") {
			c.at(at+".environment."+name, "%s.environment.%s: use one line without quotes and backslashes", at, name)
		}
	}
}

// inHome says whether a path is one in a home, and written plainly.
func inHome(p string) bool { return fs.ValidPath(p) && p != "." }

func (c *checker) packages(at string, p *Packages) {
	if len(p.Packages) == 0 {
		c.at(at+".packages", "%s.packages: name at least one package", at)
	}
	for i, name := range p.Packages {
		if !packageName.MatchString(name) {
			c.at(fmt.Sprintf("%s.packages[%d]", at, i), "%s.packages: %q is no name of a package", at, name)
		}
	}
}

func (c *checker) onFailure(at string, f *OnFailure) {
	if f.Do == "" {
		f.Do = Stop
		if c.has(at) {
			c.at(at+".do", "%s.do is missing: use stop, go-on or again", at)
		}
		return
	}
	if f.Do != Again {
		for _, key := range []string{"times", "pause"} {
			if c.has(at + "." + key) {
				c.at(at+"."+key, "%s.%s is for do: again", at, key)
			}
		}
		return
	}
	if !c.has(at + ".times") {
		f.Times = 3
	}
	if f.Times < 1 || f.Times > 20 {
		c.at(at+".times", "%s.times: %d: use 1 to 20", at, f.Times)
	}
	if f.Pause == 0 {
		f.Pause = UsualPause
	}
}

// filled returns the step with its texts as fill returns them, each asked for
// with its path in the step: all in which parameters may be named.
func (s Step) filled(fill func(at, text string) string) Step {
	all := func(at string, texts map[string]string) map[string]string {
		texts = maps.Clone(texts)
		for name, text := range texts {
			texts[name] = fill(at+"."+name, text)
		}
		return texts
	}
	if s.Script != nil {
		script := *s.Script
		script.Arguments = slices.Clone(script.Arguments)
		for i, a := range script.Arguments {
			script.Arguments[i] = fill(fmt.Sprintf("script.arguments[%d]", i), a)
		}
		script.Environment = all("script.environment", script.Environment)
		s.Script = &script
	}
	if s.Put != nil {
		put := *s.Put
		put.Text = fill("put.text", put.Text)
		s.Put = &put
	}
	if s.Fetch != nil {
		fetch := *s.Fetch
		fetch.From, fetch.SHA256 = fill("fetch.from", fetch.From), fill("fetch.sha256", fetch.SHA256)
		s.Fetch = &fetch
	}
	if s.Locale != nil {
		s.Locale = &Locale{
			fill("locale.time-zone", s.Locale.TimeZone), fill("locale.language", s.Locale.Language),
			fill("locale.keyboard", s.Locale.Keyboard),
		}
	}
	if s.Ready != nil {
		s.Ready = &Use{s.Ready.Step, all("ready.with", s.Ready.With)}
	}
	if s.Settings != nil {
		s.Settings = &Settings{
			all("settings.home", s.Settings.Home), all("settings.environment", s.Settings.Environment),
			s.Settings.Person, s.Settings.Paths,
		}
	}
	return s
}

// misfilled says what is wrong with a step now that its texts are filled in.
func (s Step) misfilled() (wrong []string) {
	var c checker
	at := fmt.Sprintf("step %q", s.Name)
	if s.Fetch != nil {
		c.fetch(at, s.Fetch)
	}
	if s.Locale != nil && *s.Locale != (Locale{}) {
		c.locale(at, *s.Locale)
	}
	if s.Settings != nil {
		c.settings(at, *s.Settings)
	}
	for _, p := range c.problems {
		wrong = append(wrong, p.Text)
	}
	return wrong
}
