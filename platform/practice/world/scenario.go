// Package world plays data centres for practice: machines that take time to
// clone and start and fail now and then, people with working days, and agents
// that speak the real agent protocol to the service.
//
// One process plays all practice sites of an estate. It runs apart from the
// service, so that the service can be stopped, killed and started again under
// it, and keeps its state in a file of its own, so that it can be too. Time in
// it may pass faster than outside; the service follows its clock.
package world

import (
	"fmt"
	"path"
	"strings"
	"time"

	"nimblepane/core/seal"

	"github.com/goccy/go-yaml"
)

// Scenario is what a world is made from.
type Scenario struct {
	Seed          uint64         `yaml:"seed"`
	Start         time.Time      `yaml:"start"` // what its clock shows at the beginning; now if not given
	Rate          float64        `yaml:"rate"`  // how many seconds pass in it per second outside
	Sites         []SiteSpec     `yaml:"sites"`
	BuildMachines []BuildMachine `yaml:"build-machines"`
	Crowds        []Crowd        `yaml:"crowds"`
	// Packages are what build machines can install; everything, if there are none.
	Packages []Package `yaml:"packages"`
	// Software is what is on machines.
	Software SoftwareSpec `yaml:"software"`
	// Updates are pending on build machines when they are made.
	Updates []UpdateSpec `yaml:"updates"`
	// Downloads are what build machines can fetch; whatever is asked for, if there are none.
	Downloads []DownloadSpec `yaml:"downloads"`
	// Scripts say what becomes of them in build machines. Others succeed.
	Scripts []ScriptSpec `yaml:"scripts"`
}

// SiteSpec is a site of a scenario.
type SiteSpec struct {
	Name          string `yaml:"name"`
	ClonesPerCopy int    `yaml:"clones-per-copy"` // more at once fail, as they would on real storage
	Knobs         Knobs  `yaml:"knobs"`
}

// Knobs say how a site behaves. Times are in the world's time.
type Knobs struct {
	Clone   time.Duration `yaml:"clone" json:"clone"`
	Spread  float64       `yaml:"spread" json:"spread"` // a clone takes up to this part more or less
	Boot    time.Duration `yaml:"boot" json:"boot"`
	Check   time.Duration `yaml:"check" json:"check"`
	Step    time.Duration `yaml:"step" json:"step"` // of a build; 20 s if not given
	Capture time.Duration `yaml:"capture" json:"capture"`
	Deliver time.Duration `yaml:"deliver" json:"deliver"`
	Faults  []Fault       `yaml:"faults" json:"faults"`
	// Found is what is found on every build machine when it is looked at, beside what was done on it: each seal
	// check can be made to fail by it.
	Found *seal.Facts `yaml:"found" json:"found,omitempty"`
	// Unlisted says why what is in machines is not listed, if it is not.
	Unlisted string `yaml:"unlisted" json:"unlisted,omitempty"`
}

// Fault makes something go wrong on some hosts, or copies. The first that fits a host and kind counts.
type Fault struct {
	Hosts  string    `yaml:"hosts" json:"hosts"`   // a pattern such as bo-*, or counter-desk-2026.11.2-copy-*
	Kind   FaultKind `yaml:"kind" json:"kind"`     //
	Chance float64   `yaml:"chance" json:"chance"` // 0 to 1
}

// FaultKind is something that can go wrong.
type FaultKind string

const (
	CloneFails  FaultKind = "clone-fails"
	BootFails   FaultKind = "boot-fails"   // the machine is cloned, but nothing is ever heard of it
	CheckFails  FaultKind = "check-fails"  //
	FallsSilent FaultKind = "falls-silent" // per heartbeat; the agent speaks again after some minutes
	Clings      FaultKind = "clings"       // a session does not end when it is signed off
	WrongDisk   FaultKind = "wrong-disk"   // what was cloned is not what the copy should hold
	Decays      FaultKind = "decays"       // a copy is not what it was, when it is read again
)

var faultKinds = []FaultKind{CloneFails, BootFails, CheckFails, FallsSilent, Clings, WrongDisk, Decays}

// Crowd is people who use the hosts whose names begin with Hosts.
type Crowd struct {
	Hosts  string   `yaml:"hosts"`
	People int      `yaml:"people"`
	Shifts []string `yaml:"shifts"` // "06:00-14:00": people are spread over them
}

// BuildMachine is a machine to capture versions from.
type BuildMachine struct {
	Name         string   `yaml:"name"`
	Site         string   `yaml:"site"`
	MachineClass string   `yaml:"machine-class"`
	Base         string   `yaml:"base"`
	Changes      []string `yaml:"changes"` // what was done on it for each capture, in turn
}

// ParseScenario reads a scenario from YAML and checks it.
func ParseScenario(b []byte) (Scenario, error) {
	var s Scenario
	if err := yaml.UnmarshalWithOptions(b, &s, yaml.Strict()); err != nil {
		return s, fmt.Errorf("scenario: %w", err)
	}
	if s.Rate == 0 {
		s.Rate = 1
	}
	if s.Rate < 0 {
		return s, fmt.Errorf("scenario: rate %v: time cannot run backwards", s.Rate)
	}
	for _, site := range s.Sites {
		if err := site.Knobs.Validate(); err != nil {
			return s, fmt.Errorf("scenario: site %s: %w", site.Name, err)
		}
	}
	if err := s.Software.Validate(); err != nil {
		return s, fmt.Errorf("scenario: software: %w", err)
	}
	for _, c := range s.Crowds {
		for _, shift := range c.Shifts {
			if _, _, err := parseShift(shift); err != nil {
				return s, fmt.Errorf("scenario: crowd %s: %w", c.Hosts, err)
			}
		}
		if c.People > 0 && len(c.Shifts) == 0 {
			return s, fmt.Errorf("scenario: crowd %s: it has people and no shifts", c.Hosts)
		}
	}
	return s, nil
}

// Validate returns an error that says which knob cannot be so.
func (k Knobs) Validate() error {
	for name, d := range map[string]time.Duration{
		"clone": k.Clone, "boot": k.Boot, "check": k.Check,
		"capture": k.Capture, "deliver": k.Deliver, "step": k.Step,
	} {
		if d < 0 {
			return fmt.Errorf("%s of %s: use 0 or more", name, d)
		}
	}
	if k.Spread < 0 || k.Spread > 1 {
		return fmt.Errorf("spread of %v: use 0 to 1", k.Spread)
	}
	for _, f := range k.Faults {
		if _, err := path.Match(f.Hosts, ""); err != nil || f.Hosts == "" {
			return fmt.Errorf("fault hosts %q: use a pattern such as bo-*", f.Hosts)
		}
		if f.Chance < 0 || f.Chance > 1 {
			return fmt.Errorf("fault %s: chance of %v: use 0 to 1", f.Kind, f.Chance)
		}
		known := false
		for _, k := range faultKinds {
			known = known || k == f.Kind
		}
		if !known {
			return fmt.Errorf("fault kind %q is not known: use one of %v", f.Kind, faultKinds)
		}
	}
	return nil
}

func (k Knobs) chance(kind FaultKind, host string) float64 {
	for _, f := range k.Faults {
		if ok, _ := path.Match(f.Hosts, host); ok && f.Kind == kind {
			return f.Chance
		}
	}
	return 0
}

// parseShift reads "06:00-14:00" into times since midnight; a shift over midnight ends after 24 h.
func parseShift(s string) (from, to time.Duration, err error) {
	a, b, ok := strings.Cut(s, "-")
	start, err1 := time.Parse("15:04", a)
	end, err2 := time.Parse("15:04", b)
	if !ok || err1 != nil || err2 != nil {
		return 0, 0, fmt.Errorf("shift %q: write it as 06:00-14:00", s)
	}
	midnight := time.Date(0, 1, 1, 0, 0, 0, 0, time.UTC)
	from, to = start.Sub(midnight), end.Sub(midnight)
	if to <= from {
		to += 24 * time.Hour
	}
	return from, to, nil
}
