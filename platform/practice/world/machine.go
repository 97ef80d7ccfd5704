package world

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"nimblepane/agent"
	"nimblepane/platform"
)

// machine is a host and the agent in it.
type machine struct {
	Name       string            `json:"name"`
	Site       string            `json:"site"`
	Boot       string            `json:"boot"` // key of the operation that made its disk
	Stamp      string            `json:"stamp"`
	Seats      int               `json:"seats"`
	Seed       platform.Seed     `json:"seed"`
	UpAt       time.Time         `json:"up_at"`
	Dead       bool              `json:"dead"` // it never starts
	Off        bool              `json:"off,omitempty"`
	Credential string            `json:"credential"`
	Drain      int64             `json:"drain"`
	Check      int64             `json:"check"`
	CheckEnds  time.Time         `json:"check_ends"`
	CheckState agent.ChecksState `json:"check_state"`
	CheckWhy   string            `json:"check_why"`
	Done       []int64           `json:"done"`
	Silent     time.Time         `json:"silent"`
	Sessions   []*session        `json:"sessions"`

	nextBeat time.Time // real time
	sending  bool
}

// refusesUntilTold is the drain order of a machine that has not been told yet
// whether to take sessions.
const refusesUntilTold = -1

type session struct {
	agent.Session
	Clings bool `json:"clings"`
}

// shutDown ends a machine and everybody's session on it.
func (w *World) shutDown(name string) {
	if m, ok := w.state.Machines[name]; ok {
		for _, s := range m.Sessions {
			w.sessionEnded(s.Person, w.now())
		}
		delete(w.state.Machines, name)
	}
}

// boot makes a machine with a new disk and starts it.
func (w *World) boot(siteName string, r platform.Rebuild, d disk, key string, now time.Time) {
	k := w.state.Sites[siteName].Spec.Knobs
	w.state.Machines[r.Host] = &machine{
		Name: r.Host, Site: siteName, Boot: key, Stamp: d.Stamp, Seats: r.Seats, Seed: r.Seed,
		Drain: refusesUntilTold,
		UpAt:  now.Add(w.vary(k.Boot, k.Spread)), Dead: w.happens(k.chance(BootFails, r.Host)),
	}
}

// beat is what a sender sends for a machine.
type beat struct {
	machine, boot string
	seed          platform.Seed
	credential    string
	body          agent.Heartbeat
}

// agent lets the agent of a machine speak, if it is time to.
func (w *World) agent(m *machine, now, real time.Time) {
	if m.Dead || m.Off || m.sending || now.Before(m.UpAt) || real.Before(m.nextBeat) || now.Before(m.Silent) {
		return
	}
	k := w.state.Sites[m.Site].Spec.Knobs
	if m.Credential != "" && w.happens(k.chance(FallsSilent, m.Name)) {
		m.Silent = now.Add(10 * time.Minute)
		return
	}
	if m.CheckState == agent.ChecksUnderWay && !now.Before(m.CheckEnds) {
		m.CheckState, m.CheckWhy = agent.ChecksPassed, ""
		if w.happens(k.chance(CheckFails, m.Name)) {
			m.CheckState, m.CheckWhy = agent.ChecksFailed, "Fare Desk did not open within 60 s"
		}
	}
	b := beat{machine: m.Name, boot: m.Boot, seed: m.Seed, credential: m.Credential, body: agent.Heartbeat{
		Stamp: m.Stamp, Drain: max(0, m.Drain), Checks: agent.Checks{
			Order: m.Check, State: m.CheckState,
			Why: m.CheckWhy,
		},
		Load: 0.05 + float64(len(m.Sessions))/float64(m.Seats+1), Done: m.Done,
		Sessions: make([]agent.Session, len(m.Sessions)),
	}}
	for i, s := range m.Sessions {
		b.body.Sessions[i] = s.Session
	}
	select {
	case w.beats <- b:
		m.sending = true
	default: // the senders are behind; the next step tries again
	}
}

// send speaks for the agents until the context ends.
func (w *World) send(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case b := <-w.beats:
			caller := agent.Caller{URL: b.seed.Service, HTTP: w.http}
			if b.credential == "" {
				reply, err := caller.Enrol(ctx, b.seed.Token)
				w.enrolled(b, reply, err)
				continue
			}
			answer, err := caller.Beat(ctx, b.credential, b.body)
			w.answered(b, answer, err)
		}
	}
}

// heard returns the machine that the beat was of, if it is still there and was
// answered. One that was not tries again, unless the service refused it.
func (w *World) heard(b beat, err error) *machine {
	m := w.state.Machines[b.machine]
	if m == nil || m.Boot != b.boot {
		return nil
	}
	m.sending = false
	if err == nil {
		return m
	}
	m.nextBeat = time.Now().Add(time.Second)
	if errors.Is(err, agent.ErrRefused) {
		w.log.Error("the service refused the agent", "host", m.Name)
		m.Dead = true
	}
	return nil
}

func (w *World) enrolled(b beat, reply agent.EnrolReply, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if m := w.heard(b, err); m != nil {
		m.Credential, w.dirty = reply.Credential, true
	}
}

func (w *World) answered(b beat, answer agent.Answer, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	m := w.heard(b, err)
	if m == nil {
		return
	}
	now := w.now()
	k := w.state.Sites[m.Site].Spec.Knobs
	m.nextBeat = time.Now().Add(time.Duration(answer.NextMillis) * time.Millisecond)
	m.Drain, m.Done = answer.Drain, nil
	if answer.Check != 0 && answer.Check != m.Check {
		m.Check, m.CheckState, m.CheckEnds = answer.Check, agent.ChecksUnderWay, now.Add(k.Check)
	}
	for _, o := range answer.Orders {
		if o.Kind == agent.EndSession {
			w.signOff(m, o.Session, now)
		}
		m.Done = append(m.Done, o.ID)
	}
	if len(answer.Orders) > 0 {
		// What was done is told at once, and not at the next turn.
		m.nextBeat = time.Time{}
		w.dirty = true
	}
}

func (w *World) signOff(m *machine, key string, now time.Time) {
	for i, s := range m.Sessions {
		if s.Key == key && !s.Clings {
			m.Sessions = append(m.Sessions[:i], m.Sessions[i+1:]...)
			w.sessionEnded(s.Person, now)
			return
		}
	}
}

// person is somebody with a working day.
type person struct {
	Name  string        `json:"name"`
	Hosts string        `json:"hosts"` // what the names of the hosts begin with that they use
	From  time.Duration `json:"from"`  // since midnight
	To    time.Duration `json:"to"`
	Host  string        `json:"host"` // where they are signed in
	// NotBefore is when they try to sign in again, after a session ended on them.
	NotBefore time.Time `json:"not_before"`
	NextMood  time.Time `json:"next_mood"` // when they next turn active, idle or away
}

// working says whether the person is at work.
func (p *person) working(now time.Time) bool {
	midnight := now.Truncate(24 * time.Hour)
	for _, day := range []time.Time{midnight, midnight.Add(-24 * time.Hour)} {
		if since := now.Sub(day); since >= p.From && since < p.To {
			return true
		}
	}
	return false
}

func (w *World) sessionEnded(name string, now time.Time) {
	for _, p := range w.state.People {
		if p.Name == name {
			p.Host = ""
			p.NotBefore = now.Add(time.Duration(60+w.rng.IntN(240)) * time.Second)
			return
		}
	}
}

// people come, go, and turn idle and active again.
func (w *World) people(now time.Time) {
	for _, p := range w.state.People {
		switch {
		case p.Host == "" && p.working(now) && now.After(p.NotBefore):
			w.signIn(p, now)
		case p.Host != "" && !now.Before(p.NextMood):
			w.mood(p, now)
		}
	}
}

// signIn does what a broker does: it gives the person the least loaded host that takes sessions.
func (w *World) signIn(p *person, now time.Time) {
	p.NotBefore = now.Add(time.Duration(30+w.rng.IntN(60)) * time.Second)
	var best *machine
	for _, m := range w.state.Machines {
		if m.Off || !strings.HasPrefix(m.Name, p.Hosts) || m.Credential == "" || m.Drain != 0 ||
			len(m.Sessions) >= m.Seats {
			continue
		}
		if best == nil || len(m.Sessions) < len(best.Sessions) || len(m.Sessions) == len(best.Sessions) &&
			m.Name < best.Name {
			best = m
		}
	}
	if best == nil {
		return
	}
	w.state.NextSession++
	best.Sessions = append(best.Sessions, &session{
		Session: agent.Session{
			Key: fmt.Sprintf("s%d", w.state.NextSession), Person: p.Name, State: agent.Active,
			Since: now,
		},
		Clings: w.happens(w.state.Sites[best.Site].Spec.Knobs.chance(Clings, best.Name)),
	})
	p.Host, p.NextMood = best.Name, now.Add(time.Duration(5+w.rng.IntN(40))*time.Minute)
	w.dirty = true
}

func (w *World) mood(p *person, now time.Time) {
	p.NextMood = now.Add(time.Duration(3+w.rng.IntN(30)) * time.Minute)
	m := w.state.Machines[p.Host]
	for i, s := range m.Sessions {
		if s.Person != p.Name {
			continue
		}
		dice := w.rng.Float64()
		switch {
		case !p.working(now) && (s.State == agent.Disconnected || dice < 0.8):
			m.Sessions = append(m.Sessions[:i], m.Sessions[i+1:]...)
			p.Host = ""
		case !p.working(now):
			// Some go home without signing off; the session is ended later.
			s.State, p.NextMood = agent.Disconnected, now.Add(90*time.Minute)
		case dice < 0.70:
			s.State = agent.Active
		case dice < 0.95:
			s.State = agent.Idle
		default:
			s.State = agent.Disconnected
		}
		w.dirty = true
		return
	}
}
