package world

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
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
	Packages      []Package             `json:"packages,omitempty"`
	Updates       []UpdateSpec          `json:"updates,omitempty"`
	Software      SoftwareSpec          `json:"software,omitzero"`
	Contents      map[string]installed  `json:"contents,omitempty"` // of disks, by digest
	Downloads     []DownloadSpec        `json:"downloads,omitempty"`
	Scripts       []ScriptSpec          `json:"scripts,omitempty"`
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
	Captures int       `json:"captures"`
	Busy     bool      `json:"busy"`
	Built    *interior `json:"built,omitempty"` // nil if it is one of the scenario's
}

// New makes a world from a scenario, or goes on with the one that the file
// holds. An empty file name keeps nothing.
func New(s Scenario, file string, log *slog.Logger) (*World, error) {
	w := &World{
		file: file, log: log, beats: make(chan beat, 4096),
		http: &http.Client{
			Timeout:   10 * time.Second,
			Transport: &http.Transport{MaxIdleConnsPerHost: 128, MaxConnsPerHost: 128},
		},
	}
	old, err := os.ReadFile(file)
	switch {
	case file != "" && err == nil:
		if err := json.Unmarshal(old, &w.state); err != nil {
			return nil, fmt.Errorf("%s does not hold a practice world: %w; remove it to begin anew", file, err)
		}
		// What an earlier program had under way in words of its own is asked for again.
		maps.DeleteFunc(w.state.Operations, func(_ string, o *operation) bool {
			return o.Op.Kind == "" &&
				o.Progress.State == platform.UnderWay
		})
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
		Sites: map[string]*site{}, Disks: map[string]disk{}, Machines: map[string]*machine{},
		Operations: map[string]*operation{}, Packages: s.Packages, Updates: s.Updates, Software: s.Software,
		Downloads: s.Downloads, Scripts: s.Scripts,
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

// Forward passes over a time in which nothing happens. Where there are hosts, people would have to live through it.
func (w *World) Forward(by time.Duration) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	switch {
	case by <= 0 || by > 366*24*time.Hour:
		return fmt.Errorf("forward by %s: use more than 0 and at most 8784h", by)
	case len(w.state.Machines) > 0:
		return errors.New("there are hosts, with people at work: let time pass faster instead (rate)")
	}
	w.state.Clock, w.dirty = w.state.Clock.Forward(by), true
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
		return Knobs{}, w.noSite(siteName)
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
		return w.noSite(siteName)
	}
	s.Spec.Knobs = k
	w.dirty = true
	return nil
}

var errNoSite = errors.New("no such site is played here")

// noSite says which sites there are instead.
func (w *World) noSite(name string) error {
	return fmt.Errorf("site %q: %w; there are %s", name, errNoSite,
		strings.Join(slices.Sorted(maps.Keys(w.state.Sites)), ", "))
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
		m := platform.BuildMachine{
			Name: b.Name, MachineClass: b.MachineClass, Base: b.Base, State: platform.MachineRunning,
			Changes: b.changes(),
		}
		m.Own = b.Built == nil
		if b.Built != nil && (b.Built.Stamp != "" || b.Built.Off) {
			m.State = platform.MachineOff
		}
		if b.Busy {
			m.State = platform.MachineCapturing
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
