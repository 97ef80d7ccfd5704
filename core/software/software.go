// Package software knows what is in a version: its software list, and how two
// lists differ.
//
// A list is taken inside a guest, when it is sealed, and written as CycloneDX,
// so that any tool can read it. Here it is a List: what is installed, each
// entry once, with the facts of the system that it is installed on. Versions
// of software are ordered by the rules of whatever installed them, for 1.10 is
// more than 1.9 to some and less to others; what no rule can order is said to
// be so, and never guessed.
package software

import (
	"cmp"
	"slices"
	"strings"
)

// Origin says what installed a piece of software, and so which rules its versions follow.
type Origin string

// The origins. Application is what a build sheet says that people open: its
// version is that of the package that its command belongs to.
const (
	Application Origin = "application"
	System      Origin = "system" // the operating system itself
	Deb         Origin = "deb"
	RPM         Origin = "rpm"
	Python      Origin = "python"
	NPM         Origin = "npm"
	Flatpak     Origin = "flatpak"
	Windows     Origin = "windows" // registered with Windows as installed
	Folder      Origin = "folder"  // found in a folder for software that no package manager knows
	Other       Origin = "other"   // from a list that was made elsewhere
)

// Origins are all of them.
func Origins() []Origin {
	return []Origin{Application, System, Deb, RPM, Python, NPM, Flatpak, Windows, Folder, Other}
}

// Entry is one piece of software.
type Entry struct {
	Origin        Origin `json:"origin"`
	Name          string `json:"name"`
	Version       string `json:"version,omitempty"`
	Arch          string `json:"arch,omitempty"`
	Source        string `json:"source,omitempty"`         // the source package it was built from, if it is called otherwise; of a system: what it is like (ID_LIKE)
	SourceVersion string `json:"source_version,omitempty"` // of that, if it is another
	Licence       string `json:"licence,omitempty"`
	Publisher     string `json:"publisher,omitempty"`
	Summary       string `json:"summary,omitempty"`
	Path          string `json:"path,omitempty"`     // where it is, if no package manager knows
	Noticed       bool   `json:"noticed,omitempty"`  // people see it: it has a menu entry, or is a font or a language
	Security      bool   `json:"security,omitempty"` // this version of it was released to mend a security flaw
	// Manager is what installed an application, if that is known: its version follows the rules of that.
	Manager Origin `json:"-"`
	// Opens are the commands of applications that belong to it, as it was asked for them.
	Opens []string `json:"opens,omitempty"`
}

// Label is how people call it: "fare-desk 6.2".
func (e Entry) Label() string { return strings.TrimSpace(e.Name + " " + e.Version) }

// rules is whose rules its version follows.
func (e Entry) rules() Origin { return cmp.Or(e.Manager, e.Origin) }

// Facts are what there is to be known of a system beside its software.
type Facts struct {
	System   string    `json:"system,omitempty"`  // as it calls itself: "Debian GNU/Linux 12 (bookworm)"
	Edition  string    `json:"edition,omitempty"` // of it, where there are several
	Kernel   string    `json:"kernel,omitempty"`
	Arch     string    `json:"arch,omitempty"`
	TimeZone string    `json:"time_zone,omitempty"`
	Language string    `json:"language,omitempty"`
	Disk     Disk      `json:"disk,omitzero"`
	Services []string  `json:"services,omitempty"` // that start by themselves
	Ports    []Port    `json:"ports,omitempty"`
	Accounts []Account `json:"accounts,omitempty"` // local ones
	Agents   []Agent   `json:"agents,omitempty"`   // programs that act for somebody else in it
}

// Disk is what the system's disk is used for, in bytes.
type Disk struct {
	Size    int64        `json:"size_bytes"` // of the file system
	Used    int64        `json:"used_bytes"`
	Folders []FolderSize `json:"folders,omitempty"` // the largest, at most two levels deep
}

// FolderSize is what a folder takes, in bytes.
type FolderSize struct {
	Path string `json:"path"`
	Size int64  `json:"size_bytes"`
}

// Port is one that is listened on.
type Port struct {
	Protocol string `json:"protocol"` // tcp or udp
	Address  string `json:"address"`
	Port     int    `json:"port"`
	Program  string `json:"program,omitempty"`
}

// Account is a local one.
type Account struct {
	Name  string `json:"name"`
	ID    string `json:"id,omitempty"`
	Home  string `json:"home,omitempty"`
	Shell string `json:"shell,omitempty"`
	// Signs: somebody could sign in with it, as far as can be seen.
	Signs bool `json:"signs,omitempty"`
}

// Agent is a program that acts for somebody else, such as pane-agent.
type Agent struct {
	Name    string `json:"name"`
	Version string `json:"version"`
}

// List is what is in a version.
type List struct {
	Entries []Entry `json:"entries"`
	Facts   Facts   `json:"facts"`
}

// tidy puts entries in order, each once.
func tidy(entries []Entry) []Entry {
	if !slices.IsSortedFunc(entries, compareEntries) {
		slices.SortStableFunc(entries, compareEntries)
	}
	return slices.CompactFunc(entries, func(a, b Entry) bool {
		return compareEntries(a, b) == 0 && slices.Equal(a.Opens, b.Opens)
	})
}

// compareEntries orders entries by what tells them apart.
func compareEntries(a, b Entry) int {
	return cmp.Or(
		strings.Compare(string(a.Origin), string(b.Origin)), strings.Compare(a.Name, b.Name),
		strings.Compare(a.Arch, b.Arch), strings.Compare(a.Path, b.Path), strings.Compare(a.Version, b.Version),
	)
}

// App is an application that people open, by its command.
type App struct{ Name, Command string }

// Applications adds the applications that people open to the list. Each has the
// version of what its command belongs to, and none if nothing was seen to have it.
func (l *List) Applications(apps []App) {
	l.Entries = slices.DeleteFunc(l.Entries, func(e Entry) bool { return e.Origin == Application })
	for _, a := range apps {
		entry := Entry{Origin: Application, Name: a.Name, Noticed: true, Opens: []string{a.Command}}
		for _, e := range l.Entries {
			if e.Origin != Application && slices.Contains(e.Opens, a.Command) {
				entry.Version, entry.Source, entry.Licence, entry.Publisher = e.Version, e.Name, e.Licence, e.Publisher
				entry.Summary, entry.Manager = e.Summary, e.Origin
			}
		}
		l.Entries = append(l.Entries, entry)
	}
	l.Entries = tidy(l.Entries)
}
