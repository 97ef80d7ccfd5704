// Package forecast plays rollovers on a model of an estate.
//
// The model is a pool of hosts with people who come and go, machines that take
// time and fail, and agents that report late or not at all. What happens to
// the hosts is decided by rollover.Decide, the very function that decides it
// in earnest; the model only carries out its actions, as an engine would. What
// it decides from is what the agents reported; what is true can be newer.
package forecast

import (
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"nimblepane/core/host"
	"nimblepane/core/rollover"
)

// Settings describe a model estate. Chances are per event, from 0 to 1.
type Settings struct {
	Hosts, SeatsPerHost int
	Copies, ClonesEach  int // copies of the target at the site, and clones that one allows at once
	StartsPerMinute     int
	Heartbeat           time.Duration
	CloneTime           time.Duration // mean; each takes half to one and a half of it
	CheckTime           time.Duration
	ArrivalsPerMinute   float64       // people signing in, over the whole pool
	Stay                time.Duration // mean time until they leave by themselves
	Closing             time.Duration // after it nobody arrives any more; 0: people arrive for ever
	CloneFails          float64
	CheckFails          float64
	FallsSilent         float64       // per heartbeat
	SpeaksAgain         time.Duration // how long an agent stays silent
	IgnoresSignOff      float64
	Mend                time.Duration // after which a person has mended a faulty host and put it back
}

// Person is somebody with a session in the model.
type Person struct {
	Key     string
	Leaves  time.Time
	Clings  bool // the session does not end when it is signed off
	report  rollover.Session
	signOff bool
}

// Machine is the truth about one host, as opposed to what its agent last reported.
type Machine struct {
	People      []Person
	Refuses     bool // takes no new sessions
	SilentUntil time.Time
	nextBeat    time.Time
	cloneEnds   time.Time
	cloneFails  bool
	checkEnds   time.Time
	checkFails  bool
	On          bool
}

// Model is a model estate with one rollover.
type Model struct {
	Settings Settings
	Plan     rollover.Plan
	Now      time.Time
	Known    rollover.Snapshot // what the decisions are made from
	Truth    []Machine         // parallel to Known.Hosts
	Starts   []time.Time       // starts of the last minute
	Settled  bool              // the stopped rollover has nothing left in flight
	Holds    []string

	rng  *rand.Rand
	next int
	end  time.Time
	// began is how many rollovers there were: each goes to a version of its own.
	began int64
}

// New makes an estate in which every host serves version 1 and the rollover
// is about to take them to version 2.
func New(s Settings, plan rollover.Plan, start time.Time, seed uint64) *Model {
	m := &Model{Settings: s, Now: start, began: 1, rng: rand.New(rand.NewPCG(seed, seed))}
	if s.Closing != 0 {
		m.end = start.Add(s.Closing)
	}
	m.Grow(s.Hosts)
	for i := range m.Known.Hosts {
		h := &m.Known.Hosts[i]
		h.State, h.Version, h.Stamp, h.Machine, h.Seen = host.Serving, 1, 1, true, start
		m.Truth[i] = Machine{On: true, nextBeat: start.Add(m.spread(s.Heartbeat))}
	}
	m.Known.Site.Name = "model"
	m.Begin(plan)
	return m
}

// Grow adds hosts, which have no machine yet.
func (m *Model) Grow(n int) {
	for range n {
		id := len(m.Known.Hosts) + 1
		m.Known.Hosts = append(m.Known.Hosts, rollover.Host{
			ID: int64(id), Name: fmt.Sprintf("host-%04d", id), State: host.Off, Seats: m.Settings.SeatsPerHost,
			Since: m.Now,
		})
		m.Truth = append(m.Truth, Machine{})
	}
}

// Begin plans a rollover to a version that is newer than all before. The one before it has to be settled.
func (m *Model) Begin(plan rollover.Plan) {
	m.began++
	m.Plan, m.Settled, m.Holds = plan, false, nil
	m.Plan.State, m.Plan.Target = rollover.Planned, m.began
	for i := range m.Known.Hosts {
		h := &m.Known.Hosts[i]
		h.Phase, h.Batch, h.Since, h.Rebuild = rollover.Outside, 0, m.Now, rollover.Task{}
		if h.Joins(m.Plan.Target) {
			h.Phase = rollover.Queued
		}
	}
}

// Drain takes a host out of service by hand, if no rollover has it in hand.
func (m *Model) Drain(i int) {
	if h := &m.Known.Hosts[i]; h.State == host.Serving && !h.Phase.InFlight() {
		h.State, h.DrainedBy, h.Confirmed = host.Draining, "somebody", false
	}
}

// Return puts a host that was drained by hand back.
func (m *Model) Return(i int) {
	if h := &m.Known.Hosts[i]; h.DrainedBy != "" && !h.Phase.InFlight() {
		h.State, h.DrainedBy = host.Serving, ""
		m.Truth[i].Refuses = false
	}
}

// Vouch gives a person's word that nobody is on a silent host that waits for
// its turn. They sent everybody home first.
func (m *Model) Vouch(i int) {
	h, t := &m.Known.Hosts[i], &m.Truth[i]
	if h.State == host.Faulty && h.Machine && !h.Unserved && h.Phase == rollover.Queued {
		h.Vouched, t.People = m.Now, nil
	}
}

func (m *Model) spread(mean time.Duration) time.Duration {
	return time.Duration(float64(mean) * (0.5 + m.rng.Float64()))
}

// happens says whether something happens that has the chance, from 0 to 1.
func (m *Model) happens(chance float64) bool { return m.rng.Float64() < chance }

// Step lets time pass, people and machines do what they do, and agents report.
func (m *Model) Step(d time.Duration) {
	m.Now = m.Now.Add(d)
	for i := range m.Truth {
		m.people(i)
		m.machine(i)
	}
	if m.end.IsZero() || m.Now.Before(m.end) {
		sure, chance := math.Modf(m.Settings.ArrivalsPerMinute * d.Minutes())
		if m.happens(chance) {
			sure++
		}
		for range int(sure) {
			m.arrive()
		}
	}
	for i := range m.Truth {
		m.heartbeat(i)
	}
	m.site()
}

func (m *Model) people(i int) {
	t := &m.Truth[i]
	stay := t.People[:0]
	for _, p := range t.People {
		if m.Now.Before(p.Leaves) && (!p.signOff || p.Clings) {
			stay = append(stay, p)
		}
	}
	t.People = stay
}

// arrive signs a person in on a random host that takes sessions: as a real
// broker would, by the machine's own word and not by the service's records.
func (m *Model) arrive() {
	n := len(m.Truth)
	first := m.rng.IntN(n)
	for try := range n {
		at := (first + try) % n
		t := &m.Truth[at]
		if !t.On || t.Refuses || len(t.People) >= m.Settings.SeatsPerHost || m.Known.Hosts[at].State != host.Serving {
			continue
		}
		m.next++
		t.People = append(t.People, Person{
			Key: fmt.Sprintf("s%d", m.next), Leaves: m.Now.Add(m.spread(m.Settings.Stay)),
			Clings: m.happens(m.Settings.IgnoresSignOff),
		})
		return
	}
}

func (m *Model) machine(i int) {
	t, h := &m.Truth[i], &m.Known.Hosts[i]
	if h.State == host.Faulty && h.Unserved && !h.Phase.InFlight() && m.Settings.Mend != 0 &&
		m.Now.Sub(h.Since) >= m.Settings.Mend {
		h.State, h.Version, h.Machine, h.Unserved = host.Serving, max(1, h.Version), true, false
		h.Seen = m.Now // or nobody would have put it back
		t.On, t.Refuses, t.SilentUntil, t.nextBeat = true, false, time.Time{}, m.Now
	}
	m.silence(h)
	if !t.cloneEnds.IsZero() && !m.Now.Before(t.cloneEnds) {
		t.cloneEnds = time.Time{}
		if t.cloneFails {
			h.Rebuild = rollover.Task{State: rollover.Broken, Why: "the storage said no"}
			return
		}
		h.Rebuild = rollover.Task{State: rollover.Succeeded}
		t.On, t.Refuses, t.SilentUntil, t.nextBeat = true, true, time.Time{}, m.Now
	}
	if !t.checkEnds.IsZero() && !m.Now.Before(t.checkEnds) {
		t.checkEnds = time.Time{}
		h.Checks = rollover.Task{State: rollover.Succeeded}
		if t.checkFails {
			h.Checks = rollover.Task{State: rollover.Broken, Why: "a program did not open"}
		}
	}
}

// silence takes silent hosts out of service, and takes them back when they are
// heard, as the service does for all hosts that have a machine for people.
func (m *Model) silence(h *rollover.Host) {
	silent := m.Now.Sub(h.Seen) > m.Plan.Limits.Silent
	switch h.State {
	case host.Serving, host.Draining, host.Emptied:
		if silent && h.Machine && !h.Unserved && !h.Phase.InFlight() {
			h.State, h.DrainedBy, h.Since = host.Faulty, "", m.Now
		}
	case host.Faulty:
		if !silent && h.Machine && !h.Unserved {
			h.State, h.Vouched, h.Since = host.Serving, time.Time{}, m.Now
		}
	}
}

func (m *Model) heartbeat(i int) {
	t, h := &m.Truth[i], &m.Known.Hosts[i]
	if !t.On || m.Now.Before(t.nextBeat) || m.Now.Before(t.SilentUntil) {
		return
	}
	t.nextBeat = m.Now.Add(m.Settings.Heartbeat)
	if m.happens(m.Settings.FallsSilent) {
		t.SilentUntil = m.Now.Add(m.Settings.SpeaksAgain)
		return
	}
	h.Seen, h.Stamp = m.Now, h.Version
	// The order of the last answer is confirmed by this heartbeat, the order of this answer by the next.
	h.Confirmed = t.Refuses
	t.Refuses = h.Phase.InFlight() || h.State == host.Draining || h.Unserved
	h.Sessions = h.Sessions[:0:0]
	for j := range t.People {
		p := &t.People[j]
		p.report.Key, p.report.Person = p.Key, p.Key
		if !p.report.Asked.IsZero() && p.report.Warned.Before(p.report.Asked) {
			p.report.Warned = m.Now
		}
		p.signOff = p.signOff || !p.report.SignOffLast.IsZero()
		h.Sessions = append(h.Sessions, p.report)
	}
}

func (m *Model) site() {
	cloning := 0
	for i := range m.Truth {
		if !m.Truth[i].cloneEnds.IsZero() {
			cloning++
		}
	}
	for len(m.Starts) > 0 && m.Now.Sub(m.Starts[0]) >= time.Minute {
		m.Starts = m.Starts[1:]
	}
	m.Known.Site.ClonesLeft = m.Settings.Copies*m.Settings.ClonesEach - cloning
	m.Known.Site.StartsLeft = m.Settings.StartsPerMinute - len(m.Starts)
}

// Cloning counts the hosts that are being cloned.
func (m *Model) Cloning() int {
	return m.Settings.Copies*m.Settings.ClonesEach - m.Known.Site.ClonesLeft
}

// Decide asks what is to be done and does it. It returns the actions.
func (m *Model) Decide() []rollover.Action {
	d := rollover.Decide(m.Plan, m.Known, m.Now)
	m.Holds = d.Holds
	for _, a := range d.Actions {
		m.carryOut(a)
	}
	m.site()
	return d.Actions
}

// Failures counts the failed hosts.
func (m *Model) Failures() int {
	n := 0
	for i := range m.Known.Hosts {
		if m.Known.Hosts[i].Phase == rollover.Failed {
			n++
		}
	}
	return n
}

// Resume goes on after a pause and excuses the failures so far.
func (m *Model) Resume() {
	m.Plan.State, m.Plan.ResumedAt, m.Plan.Excused = rollover.Running, m.Now, m.Failures()
}

func (m *Model) carryOut(a rollover.Action) {
	switch a.Kind {
	case rollover.Postpone:
		m.Plan.State = rollover.Waiting
		return
	case rollover.Start:
		m.Plan.State = rollover.Running
		return
	case rollover.Pause:
		m.Plan.State = rollover.Paused
		return
	case rollover.Finish:
		m.Plan.State, m.Settled = rollover.Finished, true
		return
	case rollover.Settle:
		m.Settled = true
		return
	}
	h, t := &m.Known.Hosts[a.Host-1], &m.Truth[a.Host-1]
	if p, ok := a.Phase(); ok {
		h.Phase, h.Since = p, m.Now
		if p.Settled() {
			h.Vouched = time.Time{}
		}
	}
	if st, ok := a.HostState(); ok {
		h.State = st
	}
	if a.Batch > 0 {
		h.Batch = a.Batch
	}
	switch a.Kind {
	case rollover.DrainHost:
		h.Confirmed = false
	case rollover.WarnHost, rollover.Remind, rollover.SignOff:
		m.order(h, t, a)
	case rollover.Rebuild:
		h.Seen, h.Stamp, h.Confirmed, h.Machine, h.Unserved = time.Time{}, 0, false, false, true
		h.Version, h.Vouched = m.Plan.Target, time.Time{}
		h.Rebuild, h.Checks, h.Sessions = rollover.Task{State: rollover.UnderWay}, rollover.Task{}, nil
		t.On, t.cloneEnds = false, m.Now.Add(m.spread(m.Settings.CloneTime))
		t.cloneFails = m.happens(m.Settings.CloneFails)
		m.Starts = append(m.Starts, m.Now)
	case rollover.BootHost:
		h.Machine = true
	case rollover.CheckHost:
		t.checkEnds = m.Now.Add(m.spread(m.Settings.CheckTime))
		t.checkFails = m.happens(m.Settings.CheckFails)
	case rollover.Return:
		h.Unserved, t.Refuses = false, false
	case rollover.Release, rollover.Fail:
		if h.State == host.Serving {
			t.Refuses = false
		}
	}
}

// order writes orders onto the sessions, as known and in truth.
func (m *Model) order(h *rollover.Host, t *Machine, a rollover.Action) {
	for _, key := range a.Sessions {
		for i := range h.Sessions {
			s := &h.Sessions[i]
			if s.Key != key {
				continue
			}
			switch a.Kind {
			case rollover.WarnHost:
				s.Asked = m.Now
			case rollover.Remind:
				s.Reminded = m.Now
			case rollover.SignOff:
				if s.SignOffFirst.Before(s.Warned) {
					s.SignOffFirst = m.Now
				}
				s.SignOffLast = m.Now
			}
			for j := range t.People {
				if t.People[j].Key == key {
					t.People[j].report = *s
				}
			}
		}
	}
}
