package seal

import (
	"path"
	"time"
)

// Facts are what is known of a machine before it is sealed.
type Facts struct {
	UpdatesPending   []string `json:"updates_pending,omitempty"`   // packages
	RestartPending   string   `json:"restart_pending,omitempty"`   // what asks for a restart
	SignedIn         []string `json:"signed_in,omitempty"`         // people
	Secrets          []string `json:"secrets,omitempty"`           // in which files, and what: "/root/id (a private key)"
	Leftovers        []string `json:"leftovers,omitempty"`         // of steps, in temporary folders
	Joined           []string `json:"joined,omitempty"`            // what shows that it is joined to a domain
	Encrypted        []string `json:"encrypted,omitempty"`         // disks and their parts
	OtherDisks       []string `json:"other_disks,omitempty"`       // that are in use and not the image's
	MountedBelow     []string `json:"mounted_below,omitempty"`     // mounts that sealing would empty
	FileSystems      []string `json:"file_systems,omitempty"`      // what is wrong with them
	StaticNetwork    []string `json:"static_network,omitempty"`    // files in which addresses are set
	Refused          []string `json:"refused,omitempty"`           // software that is, as "telnetd 0.17"
	PersonalSoftware []string `json:"personal_software,omitempty"` // where it is
	ServicesFailed   []string `json:"services_failed,omitempty"`
	Room             []Room   `json:"room,omitempty"`      // in the file systems that sealing writes to
	Agent            *Agent   `json:"agent,omitempty"`     // nil if that is not known
	Firmware         string   `json:"firmware,omitempty"`  // that started it: "bios" or "uefi"
	ClockOff         float64  `json:"clock_off,omitempty"` // seconds that its clock is ahead of the service's
	Own              []Own    `json:"own,omitempty"`       // what an organisation's own checks found
}

// Seen is what pane-agent says of the machine that it runs on.
type Seen struct {
	Facts
	Clock time.Time `json:"clock"` // what the machine's clock showed
}

// Room is how much is free in a file system.
type Room struct {
	Path string `json:"path"` // where it is mounted
	Free int64  `json:"free"` // bytes
}

// Agent is the machine's pane-agent.
type Agent struct {
	Version string `json:"version"`
	Off     string `json:"off,omitempty"` // why it does not start with the machine, if it does not
}

// Expected is what a machine is judged by.
type Expected struct {
	Agent                    string // version of the service; "" if it does not matter
	MachineClass, ImageClass string
	Firmware                 string            // of machines of the image's class; "" if that is not known
	Refuse                   map[string]string // why software is refused, by a pattern of its name
}

// refused says why software is refused that is called so, with its version behind its name.
func (e Expected) refused(name string) string {
	for pattern, why := range e.Refuse {
		if RefusedBy(pattern, name) {
			return why
		}
	}
	return ""
}

// RefusedBy says whether a pattern such as telnet* refuses a package, whose version may stand behind its name.
func RefusedBy(pattern, software string) bool {
	for i, r := range software {
		if r == ' ' {
			software = software[:i]
			break
		}
	}
	ok, _ := path.Match(pattern, software)
	return ok
}
