// Package platform says what a site's platform must do for the service.
//
// Everything that takes time is an operation that is started under a key and
// asked about afterwards. Starting twice under one key does the thing once, so
// whoever started it may crash and start it again. What a platform must keep
// to is written down as tests in platform/platformtest, which every platform
// passes.
package platform

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"time"

	"nimblepane/core/estate"
	"nimblepane/core/secret"
)

// Opener returns the platform of a site.
type Opener func(site estate.Site, env Environment) (Platform, error)

// Environment is what the service lends to platforms.
type Environment struct {
	Journal Journal
	// Peer returns the platform of another site, for deliveries from there.
	Peer func(ctx context.Context, site string) (Platform, error)
	// Secrets finds the values of secrets.
	Secrets secret.Finder
	// Bases are the disks that the service keeps itself, whose site is called OfService in deliveries.
	Bases Disks
	// Allowance is what the delivery under the key may take now, in bytes a second; 0: as much as goes.
	Allowance func(ctx context.Context, key string) (int64, error)
	// File returns what is in a file that a sheet names, by its SHA-256 in hexadecimal digits.
	File func(ctx context.Context, digest string) io.ReadCloser
	Log  *slog.Logger
}

// Platform is one site's platform.
type Platform interface {
	// Start begins the operation under the key, unless one was begun under it
	// already. A nil error means that the platform has taken it on and will
	// not forget it, not that it succeeded. A *Refusal means that it can never
	// succeed as it is asked; a *Busy that it can later on; any other error that
	// the platform could not be asked. After these the caller starts again under
	// the same key.
	Start(ctx context.Context, key string, op Operation) error
	// Ask returns how the operation of the key stands, or ErrUnknown.
	Ask(ctx context.Context, key string) (Progress, error)
	// Output returns what a step that is done under the key has written, from an
	// offset in bytes on and as far as it goes in one piece; nothing if there is no
	// more, or none yet. It may be asked for as long as the step's machine runs.
	Output(ctx context.Context, key string, from int64) ([]byte, error)
	// BuildMachines returns the site's build machines by name.
	BuildMachines(ctx context.Context) ([]BuildMachine, error)
	// Nodes returns the computers that the site's machines run on, with what
	// they have and what is used. A platform without any returns none.
	Nodes(ctx context.Context) ([]Node, error)
	// CheckRoom returns a *Refusal that says what is lacking if the hosts,
	// those that have a machine already and those that have none, could not all
	// run as machines of the class.
	CheckRoom(ctx context.Context, hosts []string, machineClass string) error
	// Machine returns what there is to be known about a host's machine, and
	// ErrUnknown if the platform keeps no such knowledge.
	Machine(ctx context.Context, host string) (Machine, error)
	// PowerOn starts a host's machine that is off, with the disk it has.
	PowerOn(ctx context.Context, host string) error
	// Close lets go of connections. Operations under way go on elsewhere or later.
	Close()
}

// OfService is the source of a delivery whose disk the service keeps itself. No site is called so.
const OfService = "(service)"

// Disks is implemented by platforms whose captured disks can be read.
type Disks interface {
	// OpenDisk returns the disk's content from an offset in bytes on, and its size.
	OpenDisk(ctx context.Context, disk string, offset int64) (io.ReadCloser, int64, error)
}

// Builder is implemented by platforms in whose build machines people work by
// hand. Each method says with a *Refusal what trying again cannot mend.
type Builder interface {
	// Exec runs a program in it and returns when that has ended, or with the context.
	Exec(ctx context.Context, name string, command Command) (Outcome, error)
	// Put writes a file in it, and replaces one that is there.
	Put(ctx context.Context, name, path string, content io.Reader) error
	// Get reads a file of it.
	Get(ctx context.Context, name, path string, into io.Writer) error
}

// BuildSpec says what a build machine is made from: one of Copies, BaseDisk and Host is set.
type BuildSpec struct {
	Name         string   `json:"name"`
	MachineClass string   `json:"machine_class"`
	Copies       []string `json:"copies,omitempty"`    // of a version, at this site
	Digest       string   `json:"digest,omitempty"`    // what the copy's content must have
	BaseDisk     string   `json:"base_disk,omitempty"` // name of a disk in the site's storage
	Host         string   `json:"host,omitempty"`      // whose disk was copied for it, by CopyHost
	Base         string   `json:"base"`                // how people call it: "counter-desk 2026.11.1" or "disk NAME"
	Size         Size     `json:"size,omitzero"`
}

// Size is what a build machine has. What is 0 is as its class says, or the disk as what it is made from.
type Size struct {
	Cores  int   `json:"cores,omitempty"`
	Memory int64 `json:"memory,omitempty"` // in bytes
	Disk   int64 `json:"disk,omitempty"`   // in bytes, not less than what it is made from
}

// Command is a program to be run in a build machine.
type Command struct {
	Path  string
	Args  []string
	Env   []string
	Input []byte
}

// Outcome is how a program ended.
type Outcome struct {
	ExitCode       int
	Output, Errors []byte
}

// Node is one computer that machines run on.
type Node struct {
	Name         string `json:"name"`
	Address      string `json:"address"`
	Unreachable  string `json:"unreachable,omitempty"` // why nothing else is known
	Software     string `json:"software"`
	Acceleration string `json:"acceleration"`
	Cores        int    `json:"cores"`
	CoresUsed    int    `json:"cores_used"` // of the machines that run, which may be more than there are
	Memory       int64  `json:"memory_bytes"`
	MemoryUsed   int64  `json:"memory_used_bytes"`
	Storage      int64  `json:"storage_bytes"`
	StorageFree  int64  `json:"storage_free_bytes"`
	StoragePath  string `json:"storage_path"`
	Delivery     string `json:"delivery"` // how disks come there, in words
	Machines     int    `json:"machines"` // ours
	Others       int    `json:"others"`   // machines that are not ours
}

// MachineState is the state of a machine.
type MachineState string

const (
	MachineRunning   MachineState = "running"
	MachineOff       MachineState = "off"
	MachinePaused    MachineState = "paused"
	MachineGone      MachineState = "gone"
	MachineCapturing MachineState = "capturing" // a build machine of which a disk is being made
)

// MachineStates are all of them.
func MachineStates() []MachineState {
	return []MachineState{MachineRunning, MachineOff, MachinePaused, MachineGone, MachineCapturing}
}

// Machine is a host's machine as its platform sees it.
type Machine struct {
	State   MachineState `json:"state,omitempty"`
	Why     string       `json:"why,omitempty"` // what is wrong with it, if something is
	Node    string       `json:"node"`
	Name    string       `json:"name"` // what the platform calls it
	Cores   int          `json:"cores"`
	Memory  int64        `json:"memory_bytes"`
	Disks   []string     `json:"disks"` // its disk and what that is made on, topmost first
	Display string       `json:"display"`
	Network string       `json:"network"`
}

// Journal keeps the operations of platforms that have no memory of their own,
// for all the processes of the service. An operation under way is worked on
// by one process, which holds it and renews its hold while it lives.
type Journal interface {
	// Add notes an operation down as under way, unless the key is known.
	Add(ctx context.Context, site, key string, op Operation) error
	// Entry returns what is known of the key, or ErrUnknown.
	Entry(ctx context.Context, key string) (Entry, error)
	// Lease takes the operation for the holder, or goes on holding it, for a
	// while from now. It is false if another holds it or it has ended.
	Lease(ctx context.Context, key, holder string, lease time.Duration) (bool, error)
	// WithLock runs fn under the lock of a site, which all processes share.
	WithLock(ctx context.Context, site string, fn func() error) error
	// Note writes down how it stands and lets go of it if asked to. Only its holder can.
	Note(ctx context.Context, key, holder string, p Progress, release bool) error
}

// Entry is one operation in a journal.
type Entry struct {
	Operation Operation
	Progress  Progress
	Leased    bool
}

// ErrUnknown is returned by Ask for a key under which nothing was started.
var ErrUnknown = errors.New("no operation was started under this key")

// Busy is an error of a platform that is well, and cannot begin this now.
type Busy struct{ Why string }

func (b *Busy) Error() string { return b.Why }

// Refusal is an error that trying again cannot mend.
type Refusal struct{ Why string }

func (r *Refusal) Error() string { return r.Why }

// BuildMachine is a machine that a version can be captured from.
type BuildMachine struct {
	Name         string       `json:"name"`
	MachineClass string       `json:"machine_class"`
	Base         string       `json:"base"` // what it was made from
	State        MachineState `json:"state"`
	Changes      string       `json:"changes"`
	Node         string       `json:"node,omitempty"`
	Display      string       `json:"display,omitempty"` // address of its console
	Own          bool         `json:"own,omitempty"`     // the site has it without having been asked for it
}
