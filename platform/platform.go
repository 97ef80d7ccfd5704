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
)

// Platform is one site's platform.
type Platform interface {
	// Start begins the operation under the key, unless one was begun under it
	// already. A nil error means that the platform has taken it on and will
	// not forget it, not that it succeeded. A *Refusal means that it can never
	// succeed as it is asked; any other error may pass, and the caller starts
	// again under the same key.
	Start(ctx context.Context, key string, op Operation) error
	// Ask returns how the operation of the key stands, or ErrUnknown.
	Ask(ctx context.Context, key string) (Progress, error)
	// BuildMachines returns the site's build machines by name.
	BuildMachines(ctx context.Context) ([]BuildMachine, error)
}

// ErrUnknown is returned by Ask for a key under which nothing was started.
var ErrUnknown = errors.New("no operation was started under this key")

// Refusal is an error that trying again cannot mend.
type Refusal struct{ Why string }

func (r *Refusal) Error() string { return r.Why }

// Operation is one of its fields: exactly one is set.
type Operation struct {
	Capture    *Capture    `json:"capture,omitempty"`
	Deliver    *Deliver    `json:"deliver,omitempty"`
	DeleteCopy *DeleteCopy `json:"delete_copy,omitempty"`
	Rebuild    *Rebuild    `json:"rebuild,omitempty"`
}

// Capture seals a build machine, powers it off and makes a disk of it.
type Capture struct {
	BuildMachine string `json:"build_machine"`
	Disk         string `json:"disk"`  // what the disk will be called
	Stamp        string `json:"stamp"` // the version stamp that is written into it
	MachineClass string `json:"machine_class"`
}

// Deliver puts a copy of a captured disk at the site.
type Deliver struct {
	Disk   string `json:"disk"`
	Digest string `json:"digest"` // what the disk's content must have
	Copy   string `json:"copy"`   // what the copy will be called
}

// DeleteCopy deletes a copy. A copy that is not there is deleted.
type DeleteCopy struct {
	Copy string `json:"copy"`
}

// Rebuild gives a host a new disk, cloned from one of the copies, and starts
// it. A host that is not there is made; a disk that is there is thrown away.
type Rebuild struct {
	Host         string   `json:"host"`
	Copies       []string `json:"copies"`
	Digest       string   `json:"digest"` // what the copy's content must have
	MachineClass string   `json:"machine_class"`
	Seats        int      `json:"seats"`
	Seed         Seed     `json:"seed"`
}

// Seed is what a machine needs at its first start.
type Seed struct {
	Service string `json:"service"` // address of the service
	Token   string `json:"token"`   // one-time enrolment token
}

// State of an operation.
type State string

const (
	UnderWay  State = "under way"
	Succeeded State = "succeeded"
	Failed    State = "failed"
)

// Progress is how an operation stands.
type Progress struct {
	State   State  `json:"state"`
	Percent int    `json:"percent"`
	Why     string `json:"why"`    // when failed
	Digest  string `json:"digest"` // when a capture, delivery or rebuild succeeded: of the content, "sha256:..."
	Size    int64  `json:"size"`   // of a captured disk, in bytes
}

// BuildMachine is a machine that a version can be captured from.
type BuildMachine struct {
	Name         string `json:"name"`
	MachineClass string `json:"machine_class"`
	Base         string `json:"base"`  // what it was made from
	State        string `json:"state"` // "running", "off" or "capturing"
	Changes      string `json:"changes"`
}
