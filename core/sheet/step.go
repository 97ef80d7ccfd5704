package sheet

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Step is one thing that is done on the build machine. One of the fields from
// Script to Restart says what.
type Step struct {
	Name    string    `yaml:"name" json:"name"`
	Script  *Script   `yaml:"script" json:"script,omitempty"`
	Put     *Put      `yaml:"put" json:"put,omitempty"`
	Install *Packages `yaml:"install" json:"install,omitempty"`
	Remove  *Packages `yaml:"remove" json:"remove,omitempty"`
	Restart *Restart  `yaml:"restart" json:"restart,omitempty"`

	TimeLimit Span      `yaml:"time-limit" json:"time_limit"`           // of each try; 30m if not given
	ExitCodes []int     `yaml:"exit-codes" json:"exit_codes,omitempty"` // that count as done; 0 if not given
	OnFailure OnFailure `yaml:"on-failure" json:"on_failure"`
}

// Script is run on the machine. It travels as a file and is never quoted.
type Script struct {
	Text        string            `yaml:"text" json:"text"` // begins with #! and its interpreter
	Arguments   []string          `yaml:"arguments" json:"arguments,omitempty"`
	Environment map[string]string `yaml:"environment" json:"environment,omitempty"`
}

// Put writes a file.
type Put struct {
	Text  string `yaml:"text" json:"text"`
	To    string `yaml:"to" json:"to"`       // a path of the machine
	Owner string `yaml:"owner" json:"owner"` // root if not given
	Mode  string `yaml:"mode" json:"mode"`   // "0644" if not given
}

// Packages are those of the machine's package manager.
type Packages struct {
	Packages []string `yaml:"packages" json:"packages"`
}

// Restart takes the machine down and up, and waits until it is back.
type Restart struct {
	Within Span `yaml:"within" json:"within"` // 10m if not given
}

// OnFailure is what is done when a step fails.
type OnFailure struct {
	Do    Remedy `yaml:"do" json:"do,omitempty"`       // Stop if not given
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
	Installs   Kind = "install"
	Removes    Kind = "remove"
	Restarts   Kind = "restart"
)

// AllKinds are all things that a step can do.
func AllKinds() []Kind { return []Kind{RunsScript, Puts, Installs, Removes, Restarts} }

// Kinds returns what the step is said to do: one kind, if it is right.
func (s Step) Kinds() (kinds []Kind) {
	for _, k := range []struct {
		kind  Kind
		given bool
	}{
		{RunsScript, s.Script != nil},
		{Puts, s.Put != nil},
		{Installs, s.Install != nil},
		{Removes, s.Remove != nil},
		{Restarts, s.Restart != nil},
	} {
		if k.given {
			kinds = append(kinds, k.kind)
		}
	}
	return kinds
}

var (
	variable    = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)
	packageName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9+._:~=-]*$`)
	mode        = regexp.MustCompile(`^[0-7]{4}$`)
	person      = regexp.MustCompile(`^[a-z_][a-z0-9_-]*$`)
)

func (c *checker) step(at string, s *Step) {
	switch {
	case !c.has(at + ".name"):
		c.at(at, "the step has no name: write name: and what it does, in a few words")
	case !oneLine(s.Name, 80):
		c.at(at+".name", "%s.name has to be one line of at most 80 characters, without spaces around it", at)
	}
	switch kinds := s.Kinds(); len(kinds) {
	case 1:
	case 0:
		c.at(at, "step %q does nothing: write script, put, install, remove or restart under its name", s.Name)
	default:
		c.at(at+"."+string(kinds[1]), "step %q does %d things: make a step of each", s.Name, len(kinds))
	}
	if s.Script != nil {
		c.script(at+".script", s.Script)
	}
	if s.Put != nil {
		c.put(at+".put", s.Put)
	}
	if s.Install != nil {
		c.packages(at+".install", s.Install)
	}
	if s.Remove != nil {
		c.packages(at+".remove", s.Remove)
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

func (c *checker) script(at string, s *Script) {
	line, _, _ := strings.Cut(s.Text, "\n")
	if !strings.HasPrefix(line, "#!/") {
		c.at(at+".text", "%s.text has to begin with the interpreter, such as #!/bin/sh", at)
	}
	for name := range s.Environment {
		if !variable.MatchString(name) {
			c.at(at+".environment."+name, "%s.environment: %q is no name of a variable: use letters, digits and _", at,
				name)
		}
	}
}

func (c *checker) put(at string, p *Put) {
	if !absolute(p.To) {
		c.at(at+".to", "%s.to: %q: write a path of the machine from its root, such as /etc/fare-desk.conf", at, p.To)
	}
	if p.Owner == "" {
		p.Owner = "root"
	}
	if !person.MatchString(p.Owner) {
		c.at(at+".owner", "%s.owner: %q is no name of an account", at, p.Owner)
	}
	if p.Mode == "" {
		p.Mode = "0644"
	}
	if !mode.MatchString(p.Mode) {
		c.at(at+".mode", "%s.mode: %q: write four octal digits in quotes, such as \"0644\"", at, p.Mode)
	}
}

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
