package world

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"nimblepane/platform"
)

// World is sites with machines and people. What is in its state is kept in its
// file. It is safe for concurrent use.
type World struct {
	mu    sync.Mutex
	state state
	rng   *rand.Rand
	file  string
	log   *slog.Logger
	http  *http.Client
	beats chan beat

	// dirty says that there is something new to be kept.
	dirty bool
}

type state struct {
	Seed          uint64                `json:"seed"`
	Draws         uint64                `json:"draws"` // of the seed, so that a restart does not repeat itself
	Clock         Clock                 `json:"clock"`
	Sites         map[string]*site      `json:"sites"`
	Disks         map[string]disk       `json:"disks"`
	Machines      map[string]*machine   `json:"machines"`
	BuildMachines []*buildMachine       `json:"build_machines"`
	People        []*person             `json:"people"`
	Operations    map[string]*operation `json:"operations"`
	NextSession   int                   `json:"next_session"`
}

type site struct {
	Spec   SiteSpec        `json:"spec"`
	Copies map[string]disk `json:"copies"`
}

type disk struct {
	Digest       string `json:"digest"`
	Size         int64  `json:"size"`
	Stamp        string `json:"stamp"`
	MachineClass string `json:"machine_class"`
}

type buildMachine struct {
	BuildMachine
	Captures int  `json:"captures"`
	Busy     bool `json:"busy"`
}

type operation struct {
	Site     string             `json:"site"`
	Op       platform.Operation `json:"op"`
	Began    time.Time          `json:"began"`
	Ends     time.Time          `json:"ends"`
	Progress platform.Progress  `json:"progress"`
	From     string             `json:"from,omitempty"` // the copy that a rebuild clones
}

// remembers is how long the key of an ended operation is known. Nobody asks
// about one that ended weeks ago.
const remembers = 30 * 24 * time.Hour

// New makes a world from a scenario, or goes on with the one that the file
// holds. An empty file name keeps nothing.
func New(s Scenario, file string, log *slog.Logger) (*World, error) {
	w := &World{
		file: file, log: log, beats: make(chan beat, 4096),
		http: &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 128, MaxConnsPerHost: 128}},
	}
	old, err := os.ReadFile(file)
	switch {
	case file != "" && err == nil:
		if err := json.Unmarshal(old, &w.state); err != nil {
			return nil, fmt.Errorf("%s does not hold a practice world: %w; remove it to begin anew", file, err)
		}
		// The clock stood still while nobody was here.
		w.state.Clock.At = time.Now()
	case file == "" || errors.Is(err, fs.ErrNotExist):
		w.begin(s)
	default:
		return nil, err
	}
	w.rng = rand.New(rand.NewPCG(w.state.Seed, w.state.Draws))
	w.state.Draws++
	w.dirty = true
	return w, w.save()
}

func (w *World) begin(s Scenario) {
	start := s.Start
	if start.IsZero() {
		start = time.Now()
	}
	w.state = state{
		Seed: s.Seed, Clock: Clock{Shows: start.UTC(), At: time.Now(), Rate: s.Rate},
		Sites: map[string]*site{}, Disks: map[string]disk{}, Machines: map[string]*machine{}, Operations: map[string]*operation{},
	}
	for _, spec := range s.Sites {
		if spec.ClonesPerCopy == 0 {
			spec.ClonesPerCopy = 4
		}
		w.state.Sites[spec.Name] = &site{Spec: spec, Copies: map[string]disk{}}
	}
	for _, b := range s.BuildMachines {
		w.state.BuildMachines = append(w.state.BuildMachines, &buildMachine{BuildMachine: b})
	}
	rng := rand.New(rand.NewPCG(s.Seed, 0))
	for _, c := range s.Crowds {
		for i := range c.People {
			from, to, _ := parseShift(c.Shifts[i%len(c.Shifts)])
			shift := time.Duration(rng.IntN(40)-20) * time.Minute
			w.state.People = append(w.state.People, &person{
				Name: personName(len(w.state.People)), Hosts: c.Hosts, From: from + shift, To: to + shift,
			})
		}
	}
}

// Run lets time pass until the context ends, and keeps the state at the end.
func (w *World) Run(ctx context.Context) error {
	var senders sync.WaitGroup
	for range 48 {
		senders.Go(func() { w.send(ctx) })
	}
	tick := time.NewTicker(40 * time.Millisecond)
	defer tick.Stop()
	keep := time.NewTicker(500 * time.Millisecond)
	defer keep.Stop()
	for {
		select {
		case <-ctx.Done():
			senders.Wait()
			return w.save()
		case <-tick.C:
			w.step()
		case <-keep.C:
			if err := w.save(); err != nil {
				w.log.Error("cannot keep the state", "file", w.file, "err", err)
			}
		}
	}
}

// save writes the state to its file, all of it or nothing.
func (w *World) save() error {
	w.mu.Lock()
	if w.file == "" || !w.dirty {
		w.mu.Unlock()
		return nil
	}
	w.state.Clock = w.state.Clock.Set(w.state.Clock.Rate, time.Now())
	b, err := json.Marshal(w.state)
	w.dirty = false
	w.mu.Unlock()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(w.file), 0o700); err != nil {
		return err
	}
	next := w.file + ".next"
	if err := os.WriteFile(next, b, 0o600); err != nil {
		return err
	}
	return os.Rename(next, w.file)
}

// Clock returns how time passes.
func (w *World) Clock() Clock {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.state.Clock
}

// SetRate makes time pass at another rate from now on.
func (w *World) SetRate(rate float64) error {
	if rate <= 0 || rate > 3600 {
		return fmt.Errorf("rate %v: use more than 0 and at most 3600", rate)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.state.Clock = w.state.Clock.Set(rate, time.Now())
	w.dirty = true
	return nil
}

func (w *World) now() time.Time { return w.state.Clock.Now(time.Now()) }

func (w *World) step() {
	w.mu.Lock()
	defer w.mu.Unlock()
	now := w.now()
	for key, op := range w.state.Operations {
		switch {
		case op.Progress.State == platform.UnderWay:
			w.proceed(key, op, now)
		case now.Sub(op.Ends) > remembers:
			delete(w.state.Operations, key)
		}
	}
	w.people(now)
	real := time.Now()
	for _, name := range w.machineNames() {
		w.agent(w.state.Machines[name], now, real)
	}
}

func (w *World) machineNames() []string {
	names := make([]string, 0, len(w.state.Machines))
	for n := range w.state.Machines {
		names = append(names, n)
	}
	slices.Sort(names) // chance has to fall in the same order in every run
	return names
}

// happens throws the dice.
func (w *World) happens(chance float64) bool { return chance > 0 && w.rng.Float64() < chance }

// Knobs returns how a site behaves.
func (w *World) Knobs(siteName string) (Knobs, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	s, ok := w.state.Sites[siteName]
	if !ok {
		return Knobs{}, platform.ErrUnknown
	}
	return s.Spec.Knobs, nil
}

// SetKnobs makes a site behave otherwise from now on.
func (w *World) SetKnobs(siteName string, k Knobs) error {
	if err := k.Validate(); err != nil {
		return err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	s, ok := w.state.Sites[siteName]
	if !ok {
		return platform.ErrUnknown
	}
	s.Spec.Knobs = k
	w.dirty = true
	return nil
}

// buildMachines lists those of a site.
func (w *World) buildMachines(siteName string) []platform.BuildMachine {
	w.mu.Lock()
	defer w.mu.Unlock()
	list := []platform.BuildMachine{}
	for _, b := range w.state.BuildMachines {
		if b.Site != siteName {
			continue
		}
		m := platform.BuildMachine{Name: b.Name, MachineClass: b.MachineClass, Base: b.Base, State: "running", Changes: b.changes()}
		if b.Busy {
			m.State = "capturing"
		}
		list = append(list, m)
	}
	slices.SortFunc(list, func(a, b platform.BuildMachine) int { return cmp.Compare(a.Name, b.Name) })
	return list
}

// changes is what was done on the machine since its last capture.
func (b *buildMachine) changes() string {
	if len(b.Changes) == 0 {
		return ""
	}
	return b.Changes[b.Captures%len(b.Changes)]
}

// start begins an operation under the key.
func (w *World) start(siteName, key string, op platform.Operation) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	s, ok := w.state.Sites[siteName]
	if !ok {
		return &platform.Refusal{Why: fmt.Sprintf("there is no site %q here", siteName)}
	}
	if _, ok := w.state.Operations[key]; ok {
		return nil
	}
	now := w.now()
	o := &operation{Site: siteName, Op: op, Began: now, Ends: now, Progress: platform.Progress{State: platform.UnderWay}}
	k := s.Spec.Knobs
	switch {
	case op.Capture != nil:
		b := w.buildMachine(siteName, op.Capture.BuildMachine)
		switch {
		case b == nil:
			return &platform.Refusal{Why: fmt.Sprintf("there is no build machine %q at %s", op.Capture.BuildMachine, siteName)}
		case b.MachineClass != op.Capture.MachineClass:
			return &platform.Refusal{Why: fmt.Sprintf("build machine %s is of class %s, and the image of class %s", b.Name, b.MachineClass, op.Capture.MachineClass)}
		case b.Busy:
			return fmt.Errorf("build machine %s is being captured", b.Name)
		}
		b.Busy = true
		o.Ends = now.Add(k.Capture)
	case op.Deliver != nil:
		if _, ok := w.state.Disks[op.Deliver.Disk]; !ok {
			return &platform.Refusal{Why: fmt.Sprintf("there is no disk %q", op.Deliver.Disk)}
		}
		o.Ends = now.Add(w.vary(k.Deliver, k.Spread))
	case op.DeleteCopy != nil:
		delete(s.Copies, op.DeleteCopy.Copy)
	case op.DeleteDisk != nil:
		delete(w.state.Disks, op.DeleteDisk.Disk)
	case op.Rebuild != nil:
		if err := w.beginRebuild(s, o); err != nil {
			return err
		}
	default:
		return &platform.Refusal{Why: "the operation says nothing to do"}
	}
	w.state.Operations[key] = o
	w.dirty = true
	return nil
}

func (w *World) vary(d time.Duration, spread float64) time.Duration {
	return time.Duration(float64(d) * (1 + spread*(2*w.rng.Float64()-1)))
}

func (w *World) buildMachine(siteName, name string) *buildMachine {
	for _, b := range w.state.BuildMachines {
		if b.Name == name && b.Site == siteName {
			return b
		}
	}
	return nil
}

// beginRebuild throws the host's disk away and picks the copy with the fewest clones under way.
func (w *World) beginRebuild(s *site, o *operation) error {
	r := o.Op.Rebuild
	busy := map[string]int{}
	for _, other := range w.state.Operations {
		if other.Op.Rebuild == nil || other.Progress.State != platform.UnderWay {
			continue
		}
		if other.Op.Rebuild.Host == r.Host {
			return fmt.Errorf("host %s is being rebuilt under another key", r.Host)
		}
		if other.Site == o.Site {
			busy[other.From]++
		}
	}
	o.From = ""
	for _, c := range r.Copies {
		if _, ok := s.Copies[c]; ok && (o.From == "" || busy[c] < busy[o.From]) {
			o.From = c
		}
	}
	if o.From == "" {
		return &platform.Refusal{Why: fmt.Sprintf("none of the copies %s is at %s", strings.Join(r.Copies, ", "), o.Site)}
	}
	if busy[o.From] >= s.Spec.ClonesPerCopy {
		return &platform.Refusal{Why: fmt.Sprintf("storage is overrun: %d clones of %s at once, it allows %d", busy[o.From]+1, o.From, s.Spec.ClonesPerCopy)}
	}
	if c := s.Copies[o.From]; c.MachineClass != r.MachineClass {
		return &platform.Refusal{Why: fmt.Sprintf("the disk is for machines of class %s, and %s is of class %s", c.MachineClass, r.Host, r.MachineClass)}
	}
	w.shutDown(r.Host)
	o.Ends = w.now().Add(w.vary(s.Spec.Knobs.Clone, s.Spec.Knobs.Spread))
	return nil
}

// proceed ends the operation if its time has come.
func (w *World) proceed(key string, o *operation, now time.Time) {
	if now.Before(o.Ends) {
		if span := o.Ends.Sub(o.Began); span > 0 {
			o.Progress.Percent = int(100 * now.Sub(o.Began) / span)
		}
		return
	}
	w.dirty = true
	s := w.state.Sites[o.Site]
	fail := func(format string, args ...any) {
		o.Progress = platform.Progress{State: platform.Failed, Percent: o.Progress.Percent, Why: fmt.Sprintf(format, args...)}
	}
	done := func(d disk) {
		o.Progress = platform.Progress{State: platform.Succeeded, Percent: 100, Digest: d.Digest, Size: d.Size}
	}
	switch {
	case o.Op.Capture != nil:
		c := o.Op.Capture
		b := w.buildMachine(o.Site, c.BuildMachine)
		sum := sha256.Sum256(fmt.Appendf(nil, "%d %s %d %s", w.state.Seed, b.Name, b.Captures, c.Stamp))
		d := disk{
			Digest: "sha256:" + hex.EncodeToString(sum[:]), Stamp: c.Stamp, MachineClass: b.MachineClass,
			Size: 24<<30 + int64(b.Captures)*390<<20 + int64(sum[0])<<20,
		}
		w.state.Disks[c.Disk] = d
		b.Captures++
		b.Busy = false
		if c.Discard {
			w.state.BuildMachines = slices.DeleteFunc(w.state.BuildMachines, func(o *buildMachine) bool { return o == b })
		}
		done(d)
	case o.Op.Deliver != nil:
		d := w.state.Disks[o.Op.Deliver.Disk]
		if d.Digest != o.Op.Deliver.Digest {
			fail("what arrived has digest %s and not %s", d.Digest, o.Op.Deliver.Digest)
			return
		}
		s.Copies[o.Op.Deliver.Copy] = d
		done(d)
	case o.Op.DeleteCopy != nil, o.Op.DeleteDisk != nil:
		done(disk{})
	case o.Op.Rebuild != nil:
		r := o.Op.Rebuild
		d, ok := s.Copies[o.From]
		if w.happens(s.Spec.Knobs.chance(WrongDisk, r.Host)) {
			d.Digest = "sha256:" + strings.Repeat("0", 64)
		}
		switch {
		case !ok:
			fail("copy %s was deleted while it was cloned", o.From)
		case d.Digest != r.Digest:
			fail("the clone has digest %s and not %s", d.Digest, r.Digest)
		case w.happens(s.Spec.Knobs.chance(CloneFails, r.Host)):
			fail("the storage gave up: write error on the clone of %s", o.From)
		default:
			w.boot(o.Site, r, d, key, now)
			done(d)
		}
	}
}

// ask returns how an operation stands.
func (w *World) ask(key string) (platform.Progress, bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	o, ok := w.state.Operations[key]
	if !ok {
		return platform.Progress{}, false
	}
	return o.Progress, true
}
