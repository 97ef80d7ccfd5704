package world

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"nimblepane/platform"
)

// operation is one that a site was asked for.
type operation struct {
	Site     string             `json:"site"`
	Op       platform.Operation `json:"op"`
	Began    time.Time          `json:"began"`
	Ends     time.Time          `json:"ends"`
	Progress platform.Progress  `json:"progress"`
	Host     string             `json:"host,omitempty"`     // that is rebuilt
	From     string             `json:"from,omitempty"`     // the copy that it is cloned from
	Carriage *carriage          `json:"carriage,omitempty"` // of a delivery
	Rate     int64              `json:"rate,omitempty"`     // that the service allows it, in bytes a second; 0: as much as goes
}

// remembers is how long the key of an ended operation is known. Nobody asks
// about one that ended weeks ago.
const remembers = 30 * 24 * time.Hour

// act is an operation at its beginning or its end.
type act struct {
	*World
	*operation
	key string
	at  *site
	now time.Time
}

// play is how a kind of operation is played: what its beginning does and how
// long it takes from there, and what it comes to. A *platform.Refusal says that
// it cannot be begun, or that it failed.
type play struct {
	begin func(act) (time.Duration, error)
	end   func(act) (json.RawMessage, error)
}

// plays are all kinds that are played.
var plays = map[string]play{}

func init() {
	playing(platform.CaptureMachine, act.beginCapture, act.endCapture)
	playing(platform.DeliverCopy, act.beginDelivery, act.endDelivery)
	playing(platform.ReadCopy, act.beginReading, act.endReading)
	playing(platform.DeleteCopy, act.deleteCopy, nothing)
	playing(platform.DeleteDisk, act.deleteDisk, nothing)
	playing(platform.RebuildHost, act.beginRebuild, act.endRebuild)
	playing(platform.TryHost, act.beginTryout, act.endTryout)
	playing(platform.DiscardHost, act.discardHost, nothing)
}

// playing adds a kind to the plays.
func playing[In, Out any](k platform.Kind[In, Out], begin func(act, In) (time.Duration, error),
	end func(act, In) (Out, error),
) {
	plays[string(k)] = play{
		begin: func(a act) (time.Duration, error) {
			in, err := k.Input(a.Op)
			if err != nil {
				return 0, err
			}
			return begin(a, in)
		},
		end: func(a act) (json.RawMessage, error) {
			in, err := k.Input(a.Op)
			if err != nil {
				return nil, err
			}
			out, err := end(a, in)
			return k.Output(out), err
		},
	}
}

// start begins an operation under the key.
func (w *World) start(siteName, key string, op platform.Operation) error {
	return w.startAt(siteName, key, op, 0)
}

// startAt begins one that may send so many bytes a second.
func (w *World) startAt(siteName, key string, op platform.Operation, rate int64) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	s, ok := w.state.Sites[siteName]
	if !ok {
		return refuse("there is no site %q here", siteName)
	}
	if _, ok := w.state.Operations[key]; ok {
		return nil
	}
	p, known := plays[op.Kind]
	if !known {
		return platform.NotDoneHere(op)
	}
	now := w.now()
	o := &operation{Site: siteName, Op: op, Began: now, Rate: rate, Progress: platform.Progress{
		State: platform.UnderWay,
	}}
	span, err := p.begin(act{w, o, key, s, now})
	if err != nil {
		return err
	}
	o.Ends = now.Add(span)
	w.state.Operations[key] = o
	w.dirty = true
	return nil
}

// proceed ends the operation if its time has come.
func (w *World) proceed(key string, o *operation, now time.Time) {
	if o.Carriage != nil && !(act{w, o, key, w.state.Sites[o.Site], now}).carry() {
		return
	}
	if now.Before(o.Ends) {
		if span := o.Ends.Sub(o.Began); span > 0 {
			o.Progress.Percent = int(100 * now.Sub(o.Began) / span)
		}
		return
	}
	w.dirty = true
	output, err := plays[o.Op.Kind].end(act{w, o, key, w.state.Sites[o.Site], now})
	if err != nil {
		o.Progress.State, o.Progress.Why = platform.Failed, err.Error()
		return
	}
	o.Progress.State, o.Progress.Percent, o.Progress.Output = platform.Succeeded, 100, output
	o.Ends = now
}

// ask returns how an operation stands.
func (w *World) ask(key string) (platform.Progress, bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	o, ok := w.state.Operations[key]
	if !ok {
		return platform.Progress{}, false
	}
	p := o.Progress
	if p.Transfer != nil { // it gets on while the answer is written
		as := *p.Transfer
		p.Transfer = &as
	}
	return p, true
}

func (a act) beginCapture(c platform.Capture) (time.Duration, error) {
	b := a.buildMachine(a.Site, c.BuildMachine)
	switch {
	case b == nil:
		return 0, refuse("there is no build machine %q at %s", c.BuildMachine, a.Site)
	case b.MachineClass != c.MachineClass:
		return 0, refuse("build machine %s is of class %s, and the image of class %s", b.Name, b.MachineClass,
			c.MachineClass)
	case b.Built != nil && b.Built.Stamp != "" && b.Built.Stamp != c.Stamp:
		return 0, sealedAs(b, c.Stamp)
	case b.Busy:
		return 0, fmt.Errorf("build machine %s is being captured", b.Name)
	}
	b.Busy = true
	if b.Built != nil {
		b.Built.Off = true // it is shut down, and a clone of it is sealed
	}
	return a.at.Spec.Knobs.Capture, nil
}

func (a act) endCapture(c platform.Capture) (platform.Captured, error) {
	b := a.buildMachine(a.Site, c.BuildMachine)
	sum := sha256.Sum256(fmt.Appendf(nil, "%d %s %d %s", a.state.Seed, b.Name, b.Captures, c.Stamp))
	d := disk{
		Digest: "sha256:" + hex.EncodeToString(sum[:]), Stamp: c.Stamp, MachineClass: b.MachineClass,
		Size: 24<<30 + int64(b.Captures)*390<<20 + int64(sum[0])<<20,
	}
	a.state.Disks[c.Disk] = d
	out := platform.Captured{Digest: d.Digest, Size: d.Size}
	out.Software, out.Unlisted = a.listed(b, c.Commands)
	if a.state.Contents == nil {
		a.state.Contents = map[string]installed{}
	}
	a.state.Contents[d.Digest] = maps.Clone(a.software(b))
	b.Captures++
	b.Busy = false
	if c.Discard {
		a.state.BuildMachines = slices.DeleteFunc(a.state.BuildMachines, func(o *buildMachine) bool { return o == b })
	}
	return out, nil
}

func (a act) endDelivery(d platform.Deliver) (platform.Made, error) {
	arrived := a.state.Disks[d.Disk]
	if d.Source == platform.OfService { // whose disk is not played, and comes as it was said
		arrived = disk{Digest: d.Digest, MachineClass: d.MachineClass}
	}
	if arrived.Digest != d.Digest {
		return platform.Made{}, refuse("what arrived has digest %s and not %s", arrived.Digest, d.Digest)
	}
	a.at.Copies[d.Copy] = arrived
	return platform.Made{Digest: arrived.Digest}, nil
}

func (a act) beginReading(r platform.Reading) (time.Duration, error) {
	if r.Rate < 1 {
		return 0, refuse("%d bytes a second are none", r.Rate)
	}
	return time.Duration(float64(a.at.Copies[r.Copy].Size) / float64(r.Rate) * float64(time.Second)), nil
}

func (a act) endReading(r platform.Reading) (platform.Read, error) {
	d, ok := a.at.Copies[r.Copy]
	if !ok {
		return platform.Read{Wrong: fmt.Sprintf("copy %s is not at %s any more", r.Copy, a.Site)}, nil
	}
	if a.happens(a.at.Spec.Knobs.chance(Decays, r.Copy)) {
		d.Digest = "sha256:" + strings.Repeat("0", 64)
	}
	wrong := r.Compare(d.Digest)
	if wrong != "" {
		delete(a.at.Copies, r.Copy)
	}
	return platform.Read{Wrong: wrong}, nil
}

func (a act) deleteCopy(c platform.Named) (time.Duration, error) {
	delete(a.at.Copies, c.Name)
	return 0, nil
}

func (a act) deleteDisk(d platform.Named) (time.Duration, error) {
	delete(a.state.Disks, d.Name)
	return 0, nil
}

func nothing(act, platform.Named) (platform.Nothing, error) { return platform.Nothing{}, nil }

// beginRebuild throws the host's disk away and picks the copy with the fewest clones under way.
func (a act) beginRebuild(r platform.Rebuild) (time.Duration, error) {
	busy := map[string]int{}
	for _, other := range a.state.Operations {
		if other.Host == "" || other.Progress.State != platform.UnderWay {
			continue
		}
		if other.Host == r.Host {
			return 0, fmt.Errorf("host %s is being rebuilt under another key", r.Host)
		}
		if other.Site == a.Site {
			busy[other.From]++
		}
	}
	for _, c := range r.Copies {
		if _, ok := a.at.Copies[c]; ok && (a.From == "" || busy[c] < busy[a.From]) {
			a.From = c
		}
	}
	if a.From == "" {
		return 0, refuse("none of the copies %s is at %s", strings.Join(r.Copies, ", "), a.Site)
	}
	if busy[a.From] >= a.at.Spec.ClonesPerCopy {
		return 0, refuse("storage is overrun: %d clones of %s at once, it allows %d", busy[a.From]+1, a.From,
			a.at.Spec.ClonesPerCopy)
	}
	if c := a.at.Copies[a.From]; c.MachineClass != r.MachineClass {
		return 0, refuse("the disk is for machines of class %s, and %s is of class %s", c.MachineClass, r.Host,
			r.MachineClass)
	}
	a.Host = r.Host
	a.shutDown(r.Host)
	return a.vary(a.at.Spec.Knobs.Clone, a.at.Spec.Knobs.Spread), nil
}

func (a act) endRebuild(r platform.Rebuild) (platform.Made, error) {
	k := a.at.Spec.Knobs
	d, ok := a.at.Copies[a.From]
	if a.happens(k.chance(WrongDisk, r.Host)) {
		d.Digest = "sha256:" + strings.Repeat("0", 64)
	}
	switch {
	case !ok:
		return platform.Made{}, refuse("copy %s was deleted while it was cloned", a.From)
	case d.Digest != r.Digest:
		return platform.Made{}, refuse("the clone has digest %s and not %s", d.Digest, r.Digest)
	case a.happens(k.chance(CloneFails, r.Host)):
		return platform.Made{}, refuse("the storage gave up: write error on the clone of %s", a.From)
	}
	a.boot(a.Site, r, d, a.key, a.now)
	return platform.Made{Digest: d.Digest}, nil
}

func refuse(format string, args ...any) error {
	return &platform.Refusal{Why: fmt.Sprintf(format, args...)}
}
