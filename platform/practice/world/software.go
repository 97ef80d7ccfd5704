package world

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"nimblepane/core/software"
	"nimblepane/core/strict"
)

// SoftwareSpec is what is on the machines of a scenario. Without any there is
// what was installed on them, and a system.
type SoftwareSpec struct {
	System   SystemSpec     `yaml:"system" json:"system"`
	Facts    FactsSpec      `yaml:"facts" json:"facts"`
	Packages []SoftwareItem `yaml:"packages" json:"packages"`
}

// SystemSpec is the operating system of a scenario's machines.
type SystemSpec struct {
	ID      string `yaml:"id" json:"id"`           // such as debian
	Version string `yaml:"version" json:"version"` // such as 12
	Name    string `yaml:"name" json:"name"`       // as it calls itself
}

// FactsSpec are the facts of a system that are the same on all of a scenario's
// machines, with the names that the API has for them.
type FactsSpec software.Facts

// UnmarshalYAML is yaml.BytesUnmarshaler's.
func (f *FactsSpec) UnmarshalYAML(text []byte) error {
	inJSON, err := yaml.YAMLToJSON(text)
	if err != nil {
		return err
	}
	return strict.Unmarshal(inJSON, (*software.Facts)(f))
}

// SoftwareItem is one piece of software, or several that go together. Versions
// are those that it has in turn: the scenario's own build machines have the
// first when they are captured first, the second when they are captured again,
// and so on; "-" is none. Installing it in a build machine brings the last.
type SoftwareItem struct {
	Names     []string        `yaml:"names" json:"names"`
	Origin    software.Origin `yaml:"origin" json:"origin"` // deb if not given
	Versions  []string        `yaml:"versions" json:"versions"`
	Security  []string        `yaml:"security" json:"security,omitempty"` // versions that mend a security flaw
	Class     string          `yaml:"class" json:"class,omitempty"`       // of machines, if not on all
	Source    string          `yaml:"source" json:"source,omitempty"`
	Licence   string          `yaml:"licence" json:"licence,omitempty"`
	Publisher string          `yaml:"publisher" json:"publisher,omitempty"`
	Summary   string          `yaml:"summary" json:"summary,omitempty"`
	Path      string          `yaml:"path" json:"path,omitempty"`
	Noticed   bool            `yaml:"noticed" json:"noticed,omitempty"`
	Command   string          `yaml:"command" json:"command,omitempty"` // that it is opened by
	Service   string          `yaml:"service" json:"service,omitempty"` // that starts by itself
	Port      int             `yaml:"port" json:"port,omitempty"`       // that its service listens on
	Kernel    bool            `yaml:"kernel" json:"kernel,omitempty"`   // its version is the kernel's
	Takes     int64           `yaml:"takes" json:"takes,omitempty"`     // of the disk, in MiB
}

// missing is the version of what is not there.
const missing = "-"

// Validate returns an error that says what of the software cannot be so.
func (s SoftwareSpec) Validate() error {
	for i, item := range s.Packages {
		if len(item.Names) == 0 || len(item.Versions) == 0 {
			return fmt.Errorf("package %d: give it names and versions", i+1)
		}
		if item.Origin != "" && !slices.Contains(software.Origins(), item.Origin) {
			return fmt.Errorf("package %s: origin %q is not known: use one of %v", item.Names[0], item.Origin,
				software.Origins())
		}
	}
	return nil
}

// installed is what is on a machine or a disk: versions by name.
type installed map[string]string

// at is what the scenario's machines of a class have when they were captured so many times.
func (s SoftwareSpec) at(class string, captures int) installed {
	in := installed{}
	for _, item := range s.Packages {
		if item.Class != "" && item.Class != class {
			continue
		}
		version := item.Versions[min(captures, len(item.Versions)-1)]
		for _, name := range item.Names {
			if version != missing {
				in[name] = version
			}
		}
	}
	return in
}

// item is what the scenario says of a piece of software, an empty one if nothing.
func (s SoftwareSpec) item(name string) SoftwareItem {
	i := slices.IndexFunc(s.Packages, func(item SoftwareItem) bool { return slices.Contains(item.Names, name) })
	if i < 0 {
		return SoftwareItem{Versions: []string{"1.0"}}
	}
	return s.Packages[i]
}

// update has what goes with a piece of software updated, if it is on a machine.
func (s SoftwareSpec) update(in installed, name, version string) {
	names := append([]string{name}, s.item(name).Names...)
	for _, n := range names {
		if _, there := in[n]; there && version != "" {
			in[n] = version
		}
	}
}

// newest is the version that is installed of it.
func (s SoftwareSpec) newest(name string) string {
	versions := s.item(name).Versions
	return versions[len(versions)-1]
}

// list is the software list of a machine with this on it.
func (s SoftwareSpec) list(in installed, files map[string][]byte, commands []string) (l software.List) {
	l.Facts = clone(software.Facts(s.Facts))
	l.Facts.System = cmp.Or(s.System.Name, "a practice system")
	l.Entries = []software.Entry{{
		Origin: software.System, Name: cmp.Or(s.System.ID, "practice"), Version: s.System.Version,
		Summary: s.System.Name,
	}}
	for _, name := range slices.Sorted(maps.Keys(in)) {
		item := s.item(name)
		e := software.Entry{
			Origin: cmp.Or(item.Origin, software.Deb), Name: name, Version: in[name], Source: item.Source,
			Licence: item.Licence, Publisher: item.Publisher, Summary: item.Summary,
			Noticed: item.Noticed, Security: slices.Contains(item.Security, in[name]),
		}
		if e.Origin == software.Deb {
			e.Arch = "amd64"
		} else {
			e.Path = item.Path
		}
		if item.Command != "" && slices.Contains(commands, item.Command) {
			e.Opens = []string{item.Command}
		}
		l.Entries = append(l.Entries, e)
		if len(item.Names) > 0 && name != item.Names[0] {
			continue // what goes with it is told once
		}
		if item.Service != "" {
			l.Facts.Services = append(l.Facts.Services, item.Service)
		}
		if item.Port != 0 {
			l.Facts.Ports = append(l.Facts.Ports, software.Port{
				Protocol: "tcp", Address: "0.0.0.0", Port: item.Port, Program: name,
			})
		}
		if item.Kernel {
			l.Facts.Kernel = in[name]
		}
		if strings.HasSuffix(name, "agent") {
			l.Facts.Agents = append(l.Facts.Agents, software.Agent{Name: name, Version: in[name]})
		}
		l.Facts.Disk.Used += item.Takes << 20
		if item.Path != "" && item.Takes > 0 {
			l.Facts.Disk.Folders = append(l.Facts.Disk.Folders, software.FolderSize{
				Path: item.Path,
				Size: item.Takes << 20,
			})
		}
	}
	slices.Sort(l.Facts.Services)
	slices.SortStableFunc(l.Facts.Disk.Folders, func(a, b software.FolderSize) int {
		return cmp.Compare(b.Size,
			a.Size)
	})
	for _, set := range []struct {
		file string
		into *string
	}{{"/etc/timezone", &l.Facts.TimeZone}, {"/etc/locale.conf", &l.Facts.Language}} {
		if text, there := files[set.file]; there {
			*set.into = strings.TrimSpace(string(text))
		}
	}
	return l
}

// clone keeps lists that are added to apart from the scenario's.
func clone(f software.Facts) software.Facts {
	f.Services, f.Ports, f.Agents = slices.Clone(f.Services), slices.Clone(f.Ports), slices.Clone(f.Agents)
	f.Disk.Folders = slices.Clone(f.Disk.Folders)
	return f
}

// software is what is on a build machine: what it was made from had, or what
// was done on it since, or what the scenario says.
func (a act) software(b *buildMachine) installed {
	if b.Built == nil {
		return a.state.Software.at(b.MachineClass, b.Captures)
	}
	return b.Built.Software
}

// before is what a new build machine has on it.
func (a act) before(digest, class string) installed {
	if in, known := a.state.Contents[digest]; known {
		return maps.Clone(in)
	}
	return a.state.Software.at(class, 0)
}

// listed writes what is on a build machine that is captured.
func (a act) listed(b *buildMachine, commands []string) (packed []byte, unlisted string) {
	if why := a.at.Spec.Knobs.Unlisted; why != "" {
		return nil, why
	}
	var files map[string][]byte
	if b.Built != nil {
		files = b.Built.Files
	}
	document, err := a.state.Software.list(a.software(b), files, commands).Document(software.Subject{
		Taken: a.now.Truncate(time.Second), Tool: "nimblepane-practice",
	})
	if err != nil {
		return nil, err.Error()
	}
	return software.Pack(document), ""
}
