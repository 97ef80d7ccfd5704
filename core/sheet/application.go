package sheet

import (
	"fmt"
	"net/url"
	"time"
)

// Application is a program that people open on a host. It is kept with the
// version, so that whether it comes up can be tried.
type Application struct {
	Name      string   `yaml:"name" json:"name"`
	Command   string   `yaml:"command" json:"command"` // a full path of the machine
	Arguments []string `yaml:"arguments" json:"arguments,omitempty"`
	Icon      string   `yaml:"icon" json:"icon,omitempty"` // a full path of the machine
	Opens     Opens    `yaml:"opens" json:"opens"`
	Within    Span     `yaml:"within" json:"within"` // 60s if not given
}

// Commands are those of applications.
func Commands(list []Application) (commands []string) {
	for _, a := range list {
		commands = append(commands, a.Command)
	}
	return commands
}

// Opens is how one sees that an application has come up: one of its fields is set.
type Opens struct {
	ExitCode *int   `yaml:"exit-code" json:"exit_code,omitempty"` // it ends by itself, with this
	Process  string `yaml:"process" json:"process,omitempty"`     // one of the name runs, of whoever opened it
	Window   string `yaml:"window" json:"window,omitempty"`       // one is there whose title has this in it
	Port     int    `yaml:"port" json:"port,omitempty"`           // something listens there, on the machine
	HTTP     string `yaml:"http" json:"http,omitempty"`           // an address on the machine that answers with 2xx or 3xx
}

// UsualOpening is how long an application may take to come up if its sheet does not say.
const UsualOpening = Span(60 * time.Second)

// MostApplications is how many a version may have.
const MostApplications = 100

// String says how one sees that the application has come up.
func (o Opens) String() string {
	switch {
	case o.ExitCode != nil:
		return fmt.Sprintf("it ends with exit code %d", *o.ExitCode)
	case o.Process != "":
		return "a process " + o.Process + " runs"
	case o.Window != "":
		return fmt.Sprintf("there is a window with %q in its title", o.Window)
	case o.Port != 0:
		return fmt.Sprintf("something listens on port %d", o.Port)
	}
	return o.HTTP + " answers"
}

func (c *checker) applications(list []Application) {
	if len(list) > MostApplications {
		c.at("applications", "there are %d applications: use at most %d", len(list), MostApplications)
		return
	}
	seen := map[string]bool{}
	for i := range list {
		a, at := &list[i], fmt.Sprintf("applications[%d]", i)
		switch {
		case !OneLine(a.Name, 80):
			c.at(at+".name", "%s.name: write what the application is called, in one line of at most 80 characters", at)
		case seen[a.Name]:
			c.at(at+".name", "application %q is there twice: give each its own name", a.Name)
		}
		seen[a.Name] = true
		if !absolute(a.Command) {
			c.at(at+".command", "%s.command: %q: write the full path of the program on the machine", at, a.Command)
		}
		if a.Icon != "" && !absolute(a.Icon) {
			c.at(at+".icon", "%s.icon: %q: write a full path of the machine", at, a.Icon)
		}
		if a.Within == 0 {
			a.Within = UsualOpening
		}
		c.opens(at+".opens", a.Opens)
	}
}

func (c *checker) opens(at string, o Opens) {
	given := 0
	for _, is := range []bool{o.ExitCode != nil, o.Process != "", o.Window != "", o.Port != 0, o.HTTP != ""} {
		if is {
			given++
		}
	}
	if given != 1 {
		c.at(at, "%s: say by one of exit-code, process, window, port and http how one sees that it has come up", at)
	}
	if o.ExitCode != nil && (*o.ExitCode < 0 || *o.ExitCode > 255) {
		c.at(at+".exit-code", "%s.exit-code: %d: use 0 to 255", at, *o.ExitCode)
	}
	if o.Port < 0 || o.Port > 65535 {
		c.at(at+".port", "%s.port: %d: use 1 to 65535", at, o.Port)
	}
	if o.HTTP == "" {
		return
	}
	u, err := url.Parse(o.HTTP)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		c.at(at+".http", "%s.http: %q is no address: write it such as http://127.0.0.1:8080/", at, o.HTTP)
	}
}

// proof checks a step that is done on the machine that proves the first start.
func (c *checker) proof(at string, s Step) {
	if s.Script == nil {
		c.at(at+".proof", "%s.proof: only a script can be a proof: it is run on the machine that proves the "+
			"first start", at)
	}
	if c.has(at + ".on-failure") {
		c.at(at+".on-failure", "%s.on-failure: a proof that fails stands with the version: leave it out", at)
	}
	if s.Script != nil && len(s.Script.Secrets) > 0 {
		c.at(at+".script.secrets", "%s.script.secrets: a proof is told no secrets", at)
	}
}

// Proofs are the steps that are not done on the build machine but on the one
// that proves the first start.
func (s Sheet) Proofs() (list []Step) {
	for _, step := range s.Steps {
		if step.Proof && !step.Skipped {
			list = append(list, step)
		}
	}
	return list
}

// OnMachine counts the steps that are done on the build machine.
func (s Sheet) OnMachine() (n int) {
	for _, step := range s.Steps {
		if !step.Skipped && !step.Proof {
			n++
		}
	}
	return n
}

// Proves says whether the first start of the version is to be proved.
func (v Version) Proves() bool { return v.Prove == nil || *v.Prove }
