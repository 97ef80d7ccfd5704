package platform

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"time"

	"nimblepane/core/proof"
	"nimblepane/core/seal"
	"nimblepane/core/secret"
	"nimblepane/core/sheet"
)

// Operation is what a platform is asked to do. Kinds make them, with Of.
type Operation struct {
	Kind  string          `json:"kind"`
	Input json.RawMessage `json:"input"`
}

// Progress is how an operation stands.
type Progress struct {
	State   State  `json:"state"`
	Percent int    `json:"percent"`
	Why     string `json:"why"` // when failed; when under way: what it waits for, if anything
	// Transfer is how a delivery stands that goes by blocks.
	Transfer *Transfer `json:"transfer,omitempty"`
	// Output is what it came to, when it succeeded. Its kind reads it, with Outcome.
	Output json.RawMessage `json:"output,omitempty"`
}

// Transfer is how the delivery of a copy stands, in bytes of the disk's file.
type Transfer struct {
	Stage        Stage `json:"stage"`
	StagePercent int   `json:"stage_percent"`
	Whole        int64 `json:"whole_bytes"`
	There        int64 `json:"there_bytes"`   // that were found at the site
	Shared       int64 `json:"shared_bytes"`  // of these, that the storage keeps once, for several disks
	Lacking      int64 `json:"lacking_bytes"` // that have to be sent
	Sent         int64 `json:"sent_bytes"`    // of these, that have arrived
	Line         int64 `json:"line_bytes"`    // that went over the line for them, packed
	Far          bool  `json:"far,omitempty"` // they come from another site
}

// Stage is what a delivery does just now.
type Stage string

// The stages of a delivery, in their order.
const (
	Mapping   Stage = "mapping"   // reading what the disk consists of, where no map stands beside it
	Gathering Stage = "gathering" // what the site has of it already
	Sending   Stage = "sending"
	Checking  Stage = "checking" // reading back what was put together
)

// Stages are all of them.
func Stages() []Stage { return []Stage{Mapping, Gathering, Sending, Checking} }

// Percent is how far the delivery is. Putting together and reading back take their time as well as the line does.
func (t Transfer) Percent() int {
	switch t.Stage {
	case Gathering:
		return 5 + t.StagePercent*20/100
	case Sending:
		return 25 + int(50*t.Sent/max(1, t.Lacking))
	case Checking:
		return 75 + t.StagePercent*25/100
	}
	return t.StagePercent * 5 / 100
}

// State of an operation.
type State string

const (
	UnderWay  State = "under way"
	Succeeded State = "succeeded"
	Failed    State = "failed"
)

// Kind is a kind of operation, by its name: what it is asked with, and what it comes to.
type Kind[In, Out any] string

// The kinds of operations that the service asks for.
const (
	// CaptureMachine makes a disk of a build machine: it shuts the machine down,
	// seals it and turns what is then on its disk into a disk of its own. A
	// machine that is kept is not sealed itself but a clone of it is, so that it
	// can be worked on and captured again. One that SealMachine sealed, under the
	// same stamp, is captured as it is. What is in it is listed before it is sealed.
	CaptureMachine Kind[Capture, Captured] = "capture"
	// DeliverCopy puts a copy of a captured disk at the site.
	DeliverCopy Kind[Deliver, Made] = "deliver"
	// ReadCopy reads a copy wherever it is at the site, from the storage and no faster than it may, and says what
	// is wrong with it. From one that is not as it should be nothing is made any more, until it is delivered again.
	ReadCopy Kind[Reading, Read] = "read-copy"
	// DeleteCopy and DeleteDisk delete a copy and a captured disk. What is not there is deleted.
	DeleteCopy Kind[Named, Nothing] = "delete-copy"
	DeleteDisk Kind[Named, Nothing] = "delete-disk"
	// RebuildHost gives a host a new disk, cloned from one of the copies, and
	// starts it. A host that is not there is made; a disk that is there is thrown away.
	RebuildHost Kind[Rebuild, Made] = "rebuild"
	// TryHost opens applications on a host or build machine, has scripts run on
	// it, and takes a picture of its display if it has one. It succeeds when all of that came to an
	// end, whatever that was. What was done under the key is not done again.
	TryHost Kind[Tryout, Tried] = "try-host"
	// DiscardHost deletes a host's machine with its disk. What is not there is discarded.
	DiscardHost Kind[Named, Nothing] = "discard-host"
	// CopyHost shuts a host's machine down and makes a build machine, off, whose
	// disk is a copy of its. The host's machine is left as it is, off, until it is made anew or powered on.
	CopyHost Kind[HostCopy, Nothing] = "copy-host"
	// MakeMachine makes a build machine and starts it, and ends when programs can
	// be run in it. One that is there with the same specification is taken.
	MakeMachine Kind[BuildSpec, Nothing] = "make-machine"
	// StartMachine starts a build machine, and ends when programs can be run in
	// it. One that runs is started.
	StartMachine Kind[Named, Nothing] = "start-machine"
	// StopMachine shuts a build machine down in order, and ends when it is off. One that is off is stopped.
	StopMachine Kind[Named, Nothing] = "stop-machine"
	// DoStep does a step of a build sheet on a build machine. It succeeds when
	// the step came to an end, whatever that was, and fails if it did not.
	DoStep Kind[StepOrder, StepDone] = "do-step"
	// InspectMachine looks for what should not be on a machine that is sealed.
	InspectMachine Kind[Inspection, seal.Facts] = "inspect-machine"
	// SealMachine strips a build machine of what makes it this one, and powers it
	// off. It is never started again.
	SealMachine Kind[Seal, Sealed] = "seal-machine"
	// CheckpointMachine keeps what a build machine's disk holds now, beside what is
	// written later. A machine that runs is shut down for it. A checkpoint that is
	// there by the name is taken.
	CheckpointMachine Kind[Checkpoint, Nothing] = "checkpoint-machine"
	// RevertMachine has a build machine, sealed or not, go back to a checkpoint,
	// and ends when programs can be run in it. What was done on it since is lost,
	// later checkpoints are, too.
	RevertMachine Kind[Checkpoint, Nothing] = "revert-machine"
	// DiscardMachine deletes a build machine with its disk. What is not there is discarded.
	DiscardMachine Kind[Named, Nothing] = "discard-machine"
)

// Of is the operation of the kind with the input.
func (k Kind[In, Out]) Of(in In) Operation {
	return Operation{Kind: string(k), Input: encode(in)}
}

// Input reads what an operation of the kind is asked with. A *Refusal says that it cannot be read.
func (k Kind[In, Out]) Input(op Operation) (in In, err error) {
	if err := decode(op.Input, &in); err != nil {
		return in, &Refusal{Why: fmt.Sprintf("operation %q: %s", k, err)}
	}
	return in, nil
}

// Output writes what an operation of the kind comes to.
func (k Kind[In, Out]) Output(out Out) json.RawMessage { return encode(out) }

// Outcome reads what an operation of the kind came to.
func (k Kind[In, Out]) Outcome(p Progress) (out Out, err error) {
	if err := decode(p.Output, &out); err != nil {
		return out, fmt.Errorf("what operation %q came to: %w", k, err)
	}
	return out, nil
}

// Capture says which build machine becomes which disk.
type Capture struct {
	BuildMachine string `json:"build_machine"`
	Disk         string `json:"disk"`  // what the disk will be called
	Stamp        string `json:"stamp"` // the version stamp that is written into it
	MachineClass string `json:"machine_class"`
	Discard      bool   `json:"discard,omitempty"` // delete the machine afterwards
	// Commands of applications that people open, which are looked for in the machine.
	Commands []string `json:"commands,omitempty"`
}

// Captured is a disk that was made of a build machine.
type Captured struct {
	Digest     string   `json:"digest"`                // of its content, "sha256:..."
	Size       int64    `json:"size"`                  // in bytes
	SizeBefore int64    `json:"size_before,omitempty"` // in bytes before it was compacted; 0 if that is not known
	Sealing    []string `json:"sealing,omitempty"`     // what was done to seal it
	// Software is what was in the machine before it was sealed: a document of
	// core/software, packed. Without one Unlisted says why.
	Software []byte `json:"software,omitempty"`
	Unlisted string `json:"unlisted,omitempty"`
}

// Deliver says which disk is to be copied.
type Deliver struct {
	Source       string `json:"source"` // the site that captured it
	Disk         string `json:"disk"`
	Digest       string `json:"digest"` // what the disk's content must have
	Copy         string `json:"copy"`   // what the copy will be called
	MachineClass string `json:"machine_class"`
	// Same are copies of the disk that are at the site, Beside those of others that
	// may have much in common with it, the likeliest first.
	Same   []string `json:"same,omitempty"`
	Beside []string `json:"beside,omitempty"`
}

// Reading says which copy is to be read again.
type Reading struct {
	Copy   string `json:"copy"`
	Digest string `json:"digest"` // what its content must have
	Rate   int64  `json:"rate"`   // bytes a second at most
}

// Compare says what is wrong with a copy by the digest that its content has, "" if nothing is.
func (r Reading) Compare(got string) string {
	if got == r.Digest {
		return ""
	}
	short := func(digest string) string { return digest[:min(len(digest), len("sha256:")+12)] }
	return fmt.Sprintf("it was changed: its content has digest %s... and should have %s...", short(got),
		short(r.Digest))
}

// Read is what came of reading a copy.
type Read struct {
	Wrong string `json:"wrong,omitempty"` // what is not as it should be, if something is
}

// Made is a copy or a host's disk that was made.
type Made struct {
	Digest string `json:"digest"` // of its content, "sha256:..."
}

// StepOrder says which step is to be done where.
type StepOrder struct {
	BuildMachine string     `json:"build_machine"`
	Step         sheet.Step `json:"step"`
	// Secrets are those of the step's script, by name. Their values are asked for
	// when the step begins, and never part of an order.
	Secrets map[string]secret.Source `json:"secrets,omitempty"`
}

// Checkpoint is what a step is to make that makes one.
func (o StepOrder) Checkpoint() Checkpoint {
	return Checkpoint{BuildMachine: o.BuildMachine, Checkpoint: o.Step.Name, Start: true}
}

// CheckpointOutput is what such a step says of itself.
const CheckpointOutput = "the machine went down, what it is was kept, and it came up\n"

// StepDone is how a step came to its end.
type StepDone struct {
	ExitCode int    `json:"exit_code"` // of its program, 0 if it has none and went well
	Output   string `json:"output"`    // its last lines, of both streams, at most StepOutput bytes
	Used     Used   `json:"used,omitzero"`
}

// Used is what a step used of its machine; nothing if that was not measured.
type Used struct {
	CPUSeconds float64 `json:"cpu_seconds"`  // of all processors together
	Memory     int64   `json:"memory_bytes"` // that was in use on the machine at most
	Cores      int     `json:"cores"`        // that the machine has
	Of         int64   `json:"of_bytes"`     // memory that the machine has
}

// StepOutput is how much of a step's output is kept, in bytes.
const StepOutput = 64 << 10

// Tryout says what is to be tried on which host or build machine.
type Tryout struct {
	Host         string              `json:"host,omitempty"`
	BuildMachine string              `json:"build_machine,omitempty"` // instead of a host; nothing of who opens it is left
	Applications []sheet.Application `json:"applications,omitempty"`
	Proofs       []sheet.Step        `json:"proofs,omitempty"` // scripts
}

// Tried is what became of what was tried.
type Tried struct {
	Results []proof.Result `json:"results,omitempty"`
	Picture []byte         `json:"picture,omitempty"` // of its display, as PNG; none if it has none
}

// MostOfPicture is how large a picture may be, in bytes. A larger one is left out.
const MostOfPicture = 2 << 20

// Inspection says which machine is looked at, and what for beside what is always looked for.
type Inspection struct {
	BuildMachine string        `json:"build_machine"`
	Refuse       []string      `json:"refuse,omitempty"` // patterns of software that the estate refuses
	Own          []seal.Script `json:"own,omitempty"`    // checks that are run on it
}

// OwnCheckLimit is how long each of these may take.
const OwnCheckLimit = 2 * time.Minute

// Seal says which machine is sealed, as what.
type Seal struct {
	BuildMachine string `json:"build_machine"`
	Stamp        string `json:"stamp"` // the version stamp that is written into it
	// Commands of applications that people open, which are looked for in the machine.
	Commands []string `json:"commands,omitempty"`
}

// Sealed is what was done to seal a machine.
type Sealed struct {
	Sealing []string `json:"sealing"`
}

// Checkpoint names one of a build machine.
type Checkpoint struct {
	BuildMachine string `json:"build_machine"`
	Checkpoint   string `json:"checkpoint"`
	Start        bool   `json:"start,omitempty"` // the machine once it is made
}

// HostCopy says of which host's disk which build machine is made.
type HostCopy struct {
	Host string    `json:"host"`
	Spec BuildSpec `json:"spec"` // of the machine, as MakeMachine is asked to start it afterwards
}

// Named names a copy, a captured disk or a build machine.
type Named struct {
	Name string `json:"name"`
}

// Nothing is what an operation comes to that leaves nothing behind.
type Nothing struct{}

// Clone is what an operation takes that makes a machine from a disk.
type Clone interface {
	// Source is the digest of the disk, "" if it has none that is known.
	Source() string
}

// Source is Clone's.
func (r Rebuild) Source() string { return r.Digest }

// Source is Clone's.
func (s BuildSpec) Source() string { return s.Digest }

// Rebuild says which host is made anew, from what.
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

// Repertoire is the kinds of operations that a platform can do, each registered with Perform.
type Repertoire map[string]performance

type performance struct {
	check func(ctx context.Context, op Operation) error
	do    func(ctx context.Context, key string, op Operation, report func(Progress)) (json.RawMessage, error)
}

// Perform registers how a platform does a kind of operation: check refuses
// what cannot succeed as far as can be seen before it begins, nil if nothing
// can be seen; do does it, and tells how far it is by calling report.
func Perform[In, Out any](r Repertoire, k Kind[In, Out], check func(context.Context, In) error,
	do func(ctx context.Context, key string, in In, report func(percent int)) (Out, error),
) {
	PerformWithProgress(r, k, check, func(ctx context.Context, key string, in In, report func(Progress)) (Out, error) {
		return do(ctx, key, in, func(percent int) { report(Progress{Percent: percent}) })
	})
}

// PerformWithProgress is Perform for operations that report more than a percentage.
func PerformWithProgress[In, Out any](r Repertoire, k Kind[In, Out], check func(context.Context, In) error,
	do func(ctx context.Context, key string, in In, report func(Progress)) (Out, error),
) {
	r[string(k)] = performance{
		check: func(ctx context.Context, op Operation) error {
			in, err := k.Input(op)
			if err != nil || check == nil {
				return err
			}
			return check(ctx, in)
		},
		do: func(ctx context.Context, key string, op Operation, report func(Progress)) (json.RawMessage, error) {
			in, err := k.Input(op)
			if err != nil {
				return nil, err
			}
			out, err := do(ctx, key, in, report)
			if err != nil {
				return nil, err
			}
			return k.Output(out), nil
		},
	}
}

// Check returns a *Refusal if the operation cannot succeed as far as can be seen now.
func (r Repertoire) Check(ctx context.Context, op Operation) error {
	p, err := r.of(op)
	if err != nil {
		return err
	}
	return p.check(ctx, op)
}

// Do does the operation and returns what it came to.
func (r Repertoire) Do(ctx context.Context, key string, op Operation, report func(Progress)) (json.RawMessage,
	error,
) {
	p, err := r.of(op)
	if err != nil {
		return nil, err
	}
	return p.do(ctx, key, op, report)
}

func (r Repertoire) of(op Operation) (performance, error) {
	p, known := r[op.Kind]
	if !known {
		return p, NotDoneHere(op)
	}
	return p, nil
}

// NotDoneHere is the *Refusal of an operation of a kind that a platform does not do.
func NotDoneHere(op Operation) error {
	if op.Kind == "" {
		return &Refusal{Why: "the operation says nothing to do"}
	}
	return &Refusal{Why: fmt.Sprintf("operations of kind %q are not done on this platform", op.Kind)}
}

func encode(v any) json.RawMessage {
	b, _ := json.Marshal(v) // plain values of our own: cannot fail
	return b
}

func decode(raw json.RawMessage, into any) error {
	d := json.NewDecoder(bytes.NewReader(raw))
	d.DisallowUnknownFields()
	return d.Decode(into)
}
