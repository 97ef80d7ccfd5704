// Package seal says whether a machine is fit to be sealed.
//
// A sealed machine becomes a version, and hundreds of hosts become what it was.
// What a machine should not pass on, or what would keep the sealing from
// coming through, is looked for before: each seal check looks at the facts of
// the machine and finds nothing, or says what it found and what to do about it.
package seal

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
)

// Severity is what a finding means for the sealing.
type Severity string

const (
	Blocks Severity = "blocks"
	Warns  Severity = "warns"
)

// Severities are all of them.
func Severities() []Severity { return []Severity{Blocks, Warns} }

// The seal checks there are, by their identifiers.
const (
	RestartPending  = "restart-pending"
	PeopleSignedIn  = "people-signed-in"
	SecretsLeft     = "secrets-left"
	DomainJoined    = "domain-joined"
	DiskEncrypted   = "disk-encrypted"
	OtherDisks      = "other-disks"
	MountedBelow    = "mounted-below"
	FileSystems     = "file-systems"
	LittleRoom      = "little-room"
	AgentUnfit      = "agent-unfit"
	AgentVersion    = "agent-version"
	MachineUnfit    = "machine-unfit"
	StaticNetwork   = "static-network"
	SoftwareRefused = "software-refused"
	PersonalSoft    = "personal-software"
	UpdatesPending  = "updates-pending"
	ServicesFailed  = "services-failed"
	ClockOff        = "clock-off"
	Leftovers       = "leftovers"
)

// Checks are all of them, those that block first.
func Checks() (names []string) {
	for _, c := range checks {
		names = append(names, c.name)
	}
	return names
}

// OwnPrefix is what the names of an organisation's own checks begin with.
const OwnPrefix = "own-"

var ownName = regexp.MustCompile(`^own-[a-z0-9]+(-[a-z0-9]+)*$`)

// Known says whether there may be a check of the name: ours, or an organisation's own.
func Known(name string) bool { return slices.Contains(Checks(), name) || ownName.MatchString(name) }

// Finding is what a seal check found.
type Finding struct {
	Check    string   `json:"check"` // its identifier, such as "restart-pending"
	Severity Severity `json:"severity"`
	Evidence string   `json:"evidence"`
	Remedy   string   `json:"remedy"`           // what to do about it
	Waived   string   `json:"waived,omitempty"` // why it is passed over, if it is
	Repair   *Repair  `json:"repair,omitempty"` // nil if there is none that is safe
}

// Repair is what the service can do about a finding itself.
type Repair struct {
	Delete  []string `json:"delete,omitempty"`  // files and folders
	Update  bool     `json:"update,omitempty"`  // apply updates until none is pending, with restarts between
	Restart bool     `json:"restart,omitempty"` // the machine
}

// String says what the repair will do.
func (r Repair) String() string {
	switch {
	case r.Restart:
		return "restart the machine"
	case r.Update:
		return "apply all updates, and restart the machine when that is needed"
	}
	return "delete " + english.WordSeries(r.Delete, "and")
}

// Blocking says whether the finding keeps the machine from being sealed.
func (f Finding) Blocking() bool { return f.Severity == Blocks && f.Waived == "" }

func (f Finding) String() string { return fmt.Sprintf("%s: %s (%s)", f.Check, f.Evidence, f.Remedy) }

// Terms are what becomes of what the checks find.
type Terms struct {
	Waive map[string]string // why what they find is passed over, by check
	Block []string          // checks that block though they only warn
}

// Judge says what becomes of findings.
func (t Terms) Judge(found []Finding) []Finding {
	for i := range found {
		f := &found[i]
		f.Waived = t.Waive[f.Check]
		if slices.Contains(t.Block, f.Check) {
			f.Severity = Blocks
		}
	}
	return inOrder(found)
}

// inOrder puts what blocks first.
func inOrder(found []Finding) []Finding {
	slices.SortStableFunc(found, func(a, b Finding) int {
		return slices.Index(Severities(), a.Severity) - slices.Index(Severities(), b.Severity)
	})
	return found
}

// check is one of ours. What it finds is evidence, "" if there is nothing.
type check struct {
	name     string
	severity Severity
	find     func(Facts, Expected) (evidence string)
	remedy   string
	repair   func(Facts) *Repair // nil if there is none
}

var checks = []check{
	{
		RestartPending, Blocks,
		func(f Facts, _ Expected) string {
			if f.RestartPending == "" {
				return ""
			}
			return f.RestartPending + " waits for a restart"
		},
		"restart the machine; in a sheet, add a restart as the last step",
		func(Facts) *Repair { return &Repair{Restart: true} },
	},
	{
		PeopleSignedIn, Blocks,
		func(f Facts, _ Expected) string {
			if len(f.SignedIn) == 0 {
				return ""
			}
			return english.WordSeries(f.SignedIn, "and") + " " + english.PluralWord(len(f.SignedIn), "is", "are") +
				" signed in"
		},
		"let them sign out", nil,
	},
	{
		SecretsLeft, Blocks,
		func(f Facts, _ Expected) string { return listed("there are secrets in ", f.Secrets) },
		"remove them: everybody on every host could read them",
		func(f Facts) *Repair { return deletes(secretsOfPeople(f.Secrets)) },
	},
	{
		DomainJoined, Blocks,
		func(f Facts, _ Expected) string { return listed("the machine is joined to a domain, by ", f.Joined) },
		"leave the domain: each host joins it for itself, at its first start", nil,
	},
	{
		DiskEncrypted, Blocks,
		func(f Facts, _ Expected) string { return listed("encrypted: ", f.Encrypted) },
		"make the machine from a base that is not: hosts would share one key, or not start", nil,
	},
	{
		OtherDisks, Blocks,
		func(f Facts, _ Expected) string { return listed("in use, and not part of the image: ", f.OtherDisks) },
		"unmount them and take them out of /etc/fstab: hosts do not have them, and would wait for them", nil,
	},
	{
		MountedBelow, Blocks,
		func(f Facts, _ Expected) string {
			return listed("mounted below a folder that sealing empties: ", f.MountedBelow)
		},
		"unmount it and take it out of /etc/fstab, or mount it elsewhere, such as below /mnt", nil,
	},
	{
		FileSystems, Blocks,
		func(f Facts, _ Expected) string { return listed("", f.FileSystems) },
		"check the file system (fsck at the next start), or begin with another base: every host would have its damage",
		nil,
	},
	{
		LittleRoom, Blocks,
		func(f Facts, _ Expected) string {
			var low []string
			for _, r := range f.Room {
				if r.Free < LeastRoom {
					low = append(low, fmt.Sprintf("%s has %s free", r.Path, humanize.IBytes(uint64(max(0, r.Free)))))
				}
			}
			return listed("", low)
		},
		"free at least " + humanize.IBytes(LeastRoom) + ", or give the machine a larger disk: sealing, and each " +
			"host's first start, write there", nil,
	},
	{
		AgentUnfit, Blocks,
		func(f Facts, _ Expected) string {
			if f.Agent == nil || f.Agent.Off == "" {
				return ""
			}
			return "pane-agent does not start with the machine: " + f.Agent.Off
		},
		"install the package pane-agent, and have its service start (systemctl enable pane-agent): nothing would be " +
			"heard of hosts", nil,
	},
	{
		MachineUnfit, Blocks,
		func(f Facts, e Expected) string {
			switch {
			case e.MachineClass != e.ImageClass:
				return fmt.Sprintf("the machine is of class %s, and the image is for class %s", e.MachineClass,
					e.ImageClass)
			case f.Firmware != "" && e.Firmware != "" && f.Firmware != e.Firmware:
				return fmt.Sprintf("the machine was started by %s, and machines of class %s are by %s", f.Firmware,
					e.ImageClass, e.Firmware)
			}
			return ""
		},
		"make the machine of the image's class", nil,
	},
	{
		StaticNetwork, Blocks,
		func(f Facts, _ Expected) string { return listed("addresses are set in ", f.StaticNetwork) },
		"have the network give addresses (DHCP): all hosts would have this one", nil,
	},
	{
		SoftwareRefused, Blocks,
		func(f Facts, e Expected) string {
			var found []string
			for _, name := range f.Refused {
				if why := e.refused(name); why != "" {
					name += " (" + why + ")"
				}
				found = append(found, name)
			}
			return listed("the estate refuses ", found)
		},
		"remove it", nil,
	},
	{
		PersonalSoft, Blocks,
		func(f Facts, _ Expected) string { return listed("installed for one person: ", f.PersonalSoftware) },
		"remove it, or install it for everybody: hosts would carry it, and nobody could use or update it", nil,
	},
	{
		UpdatesPending, Warns,
		func(f Facts, _ Expected) string {
			n := len(f.UpdatesPending)
			return listed(english.Plural(n, "update", "")+" "+english.PluralWord(n, "waits", "wait")+": ",
				f.UpdatesPending)
		},
		"apply them, or have the next version do it",
		func(Facts) *Repair { return &Repair{Update: true} },
	},
	{
		AgentVersion, Warns,
		func(f Facts, e Expected) string {
			if f.Agent == nil || e.Agent == "" || f.Agent.Version == e.Agent {
				return ""
			}
			return fmt.Sprintf("pane-agent is %s, and the service %s", f.Agent.Version, e.Agent)
		},
		"install the package pane-agent of the service's version", nil,
	},
	{
		ServicesFailed, Warns,
		func(f Facts, _ Expected) string { return listed("these services failed: ", f.ServicesFailed) },
		"see why (systemctl status, journalctl -u): they may on every host", nil,
	},
	{
		ClockOff, Warns,
		func(f Facts, _ Expected) string {
			off := time.Duration(f.ClockOff * float64(time.Second)).Round(time.Second)
			if off.Abs() <= MostClockOff {
				return ""
			}
			word := "ahead"
			if off < 0 {
				word = "behind"
			}
			return fmt.Sprintf("the machine's clock is %s %s", off.Abs(), word)
		},
		"have the machine set its clock by the network (systemd-timesyncd, chrony): signing in fails with a wrong one",
		nil,
	},
	{
		Leftovers, Warns,
		func(f Facts, _ Expected) string { return listed("steps left ", f.Leftovers) },
		"remove what no host needs",
		func(f Facts) *Repair { return deletes(f.Leftovers) },
	},
}

// Bounds of what is well.
const (
	LeastRoom    = 256 << 20        // bytes that are free in each file system that sealing writes to
	MostClockOff = 30 * time.Second // by which the clock may be ahead or behind
)

// Check makes all seal checks and returns what they found, what blocks first.
func Check(f Facts, e Expected) (found []Finding) {
	for _, c := range checks {
		evidence := c.find(f, e)
		if evidence == "" {
			continue
		}
		finding := Finding{Check: c.name, Severity: c.severity, Evidence: evidence, Remedy: c.remedy}
		if c.repair != nil {
			finding.Repair = c.repair(f)
		}
		found = append(found, finding)
	}
	for _, o := range f.Own {
		found = append(found, Finding{Check: o.Check, Severity: o.Severity, Evidence: o.Evidence, Remedy: o.Remedy})
	}
	return inOrder(found)
}

// mostListed is how many things evidence names.
const mostListed = 20

// listed is a text with a list behind it, "" if there is nothing in it.
func listed(before string, list []string) string {
	if len(list) == 0 {
		return ""
	}
	if n := len(list) - mostListed; n > 0 {
		list = append(slices.Clone(list[:mostListed]), fmt.Sprintf("and %d more", n))
	}
	return before + strings.Join(list, ", ")
}

func deletes(paths []string) *Repair {
	if len(paths) == 0 {
		return nil
	}
	return &Repair{Delete: paths}
}

// secretsOfPeople are the files among secrets that can be deleted without harm
// to the system: what people and steps left in homes and temporary folders. It
// is none if there are others, which somebody has to look at.
func secretsOfPeople(secrets []string) (paths []string) {
	for _, s := range secrets {
		path := s[:max(0, strings.LastIndex(s, " ("))]
		if !slices.ContainsFunc([]string{"/root/", "/home/", "/tmp/", "/var/tmp/"}, func(folder string) bool {
			return strings.HasPrefix(path, folder)
		}) {
			return nil
		}
		paths = append(paths, path)
	}
	return paths
}
