// Package host is the agent's work on a machine: to enrol it, to report who is
// signed in, and to do what the service asks.
//
// What an operating system has to lend for that is the interface System, which
// the packages agent/linux and agent/windows fill in. When a report cannot be
// complete it is not sent: to the service silence is a question, and a list
// of sessions that lacks one would be a wrong answer.
package host

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"nimblepane/agent"
	"nimblepane/agent/seed"
)

// System is what the agent needs of the operating system.
type System interface {
	// Sessions are the people signed in. An error means that it is not known.
	Sessions(ctx context.Context) ([]agent.Session, error)
	// Refuse lets nobody sign in any more and tells those who try the sentence.
	// Sessions that are there go on.
	Refuse(ctx context.Context, sentence string) error
	// Admit lets people sign in.
	Admit(ctx context.Context) error
	// Tell shows a text to a session. A session that is gone was told.
	Tell(ctx context.Context, key, text string) error
	// SignOff ends a session. A session that is gone is ended.
	SignOff(ctx context.Context, key string) error
	// Load is the one-minute load average over the number of cores.
	Load(ctx context.Context) (float64, error)
	// Rename gives the machine its name, unless something else on it does that.
	Rename(ctx context.Context, name string) error
}

// DefaultSentence is what people read who try to sign in to a host that takes no new sessions.
const DefaultSentence = "This desk takes no new sign-ins just now: it is being brought up to date. Please sign in " +
	"again, and you will be given another one."

// Options of an agent.
type Options struct {
	Stamp      string // file with the version stamp
	State      string // file with the credential; only root may read it
	Checks     string // folder of programs
	CheckLimit time.Duration
	Sentence   string
	Seed       func() (seed.Seed, error)
	Caller     func(service string) agent.Caller
	Log        *slog.Logger
}

// How long the agent waits after a failure, at first and at most.
const (
	retryFirst = time.Second
	retryMost  = 5 * time.Minute
	seedEvery  = 5 * time.Second // the disk may come a little after the agent
)

// refusesUntilTold is the drain order of a machine that has not been told yet
// whether to take sessions. The service never gives it.
const refusesUntilTold = -1

// state is what outlives the agent's process.
type state struct {
	Service    string `json:"service"`
	Host       string `json:"host"`
	Credential string `json:"credential"`
	Token      string `json:"token"` // hash of the token that the credential was given for
	Drain      int64  `json:"drain"`
}

// Agent runs on one machine.
type Agent struct {
	system System
	Options
	kept  state
	done  []int64
	stamp string

	mu     sync.Mutex
	checks agent.Checks
	ended  chan struct{} // a value when checks end
}

// New returns an agent that does nothing until Run.
func New(system System, o Options) *Agent {
	return &Agent{system: system, Options: o, ended: make(chan struct{}, 1)}
}

// Run works until the context ends. It returns an error only for what a person
// has to mend, such as a state file that cannot be read.
func (a *Agent) Run(ctx context.Context) error {
	if err := a.load(); err != nil {
		return err
	}
	stamp, err := os.ReadFile(a.Stamp)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	a.stamp = strings.TrimSpace(string(stamp))
	if a.kept.Credential != "" && a.kept.Drain != 0 {
		a.refuse(ctx)
	}
	failures := 0
	for ctx.Err() == nil {
		wait, err := a.turn(ctx)
		if err == nil {
			failures = 0
		} else if ctx.Err() == nil {
			failures++
			if wait == 0 {
				wait = Backoff(failures)
			}
			a.Log.Warn("no heartbeat was taken", "why", err, "again_in", wait.Round(time.Second))
		}
		select {
		case <-ctx.Done():
		case <-a.ended:
		case <-time.After(wait):
		}
	}
	return nil
}

// Backoff is how long to wait after so many failures in a row: twice as long
// each time up to five minutes, and spread, so that ten thousand hosts do not
// come back to a service in the same second.
func Backoff(failures int) time.Duration {
	d := retryMost
	if failures < 10 {
		d = min(retryMost, retryFirst<<(failures-1))
	}
	return d/2 + rand.N(d/2)
}

// turn enrols if that is to be done, and else sends a heartbeat and does what
// the answer says. It returns when to take the next turn.
func (a *Agent) turn(ctx context.Context) (time.Duration, error) {
	if a.kept.Credential == "" {
		return a.enrol(ctx)
	}
	beat, err := a.beat(ctx)
	if err != nil {
		return 0, err
	}
	answer, err := a.Caller(a.kept.Service).Beat(ctx, a.kept.Credential, beat)
	if errors.Is(err, agent.ErrRefused) {
		// The disk may have been given another seed.
		if s, serr := a.Seed(); serr == nil && hash(s.Token) != a.kept.Token {
			a.kept.Credential = ""
			return 0, fmt.Errorf("%w: there is a new seed, the machine enrols again", err)
		}
		return retryMost, fmt.Errorf("%w: the service does not know this machine any more", err)
	}
	if err != nil {
		return 0, err
	}
	return a.obey(ctx, answer)
}

func (a *Agent) enrol(ctx context.Context) (time.Duration, error) {
	s, err := a.Seed()
	if errors.Is(err, fs.ErrNotExist) {
		return seedEvery, nil // a build machine
	}
	if err != nil {
		return 0, err
	}
	if s.Name != "" {
		if err := a.system.Rename(ctx, s.Name); err != nil {
			a.Log.Warn("the machine keeps its name", "why", err)
		}
	}
	a.kept.Drain = refusesUntilTold
	a.refuse(ctx)
	reply, err := a.Caller(s.Service).Enrol(ctx, s.Token)
	if errors.Is(err, agent.ErrRefused) {
		return retryMost, fmt.Errorf("%w: the enrolment token was used or has lapsed; rebuild the host to give it "+
			"another", err)
	}
	if err != nil {
		return 0, err
	}
	a.kept = state{
		Service: s.Service, Host: reply.Host, Credential: reply.Credential, Token: hash(s.Token),
		Drain: refusesUntilTold,
	}
	if err := a.save(); err != nil {
		return 0, err
	}
	// Its token is used up; nobody else needs to read it.
	_ = os.Remove(seed.File)
	a.Log.Info("enrolled", "host", reply.Host, "service", s.Service)
	return 0, nil
}

func (a *Agent) beat(ctx context.Context) (agent.Heartbeat, error) {
	sessions, err := a.system.Sessions(ctx)
	if err != nil {
		return agent.Heartbeat{}, fmt.Errorf("who is signed in is not known: %w", err)
	}
	load, err := a.system.Load(ctx)
	if err != nil {
		a.Log.Warn("the load is not known", "why", err)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	return agent.Heartbeat{
		Stamp: a.stamp, Drain: max(0, a.kept.Drain), Checks: a.checks, Load: load,
		Sessions: sessions, Done: slices.Clone(a.done),
	}.Clean(), nil
}

// obey does what the answer says.
func (a *Agent) obey(ctx context.Context, answer agent.Answer) (time.Duration, error) {
	wait := time.Duration(answer.NextMillis) * time.Millisecond
	if answer.Drain != a.kept.Drain {
		if err := a.drain(ctx, answer.Drain); err != nil {
			return 0, err
		}
		wait = 0 // the service waits for the word
	}
	a.mu.Lock()
	if answer.Check != 0 && answer.Check != a.checks.Order {
		a.checks = agent.Checks{Order: answer.Check, State: agent.ChecksUnderWay}
		go a.check(ctx, answer.Check)
	}
	a.mu.Unlock()
	// An order that the answer lacks was taken as done.
	a.done = slices.DeleteFunc(a.done, func(id int64) bool {
		return !slices.ContainsFunc(answer.Orders, func(o agent.Order) bool { return o.ID == id })
	})
	orders := slices.DeleteFunc(slices.Clone(answer.Orders),
		func(o agent.Order) bool { return slices.Contains(a.done, o.ID) })
	// All at once: ending one session may take seconds.
	errs := make([]error, len(orders))
	var work sync.WaitGroup
	for i, o := range orders {
		work.Go(func() { errs[i] = a.carryOut(ctx, o) })
	}
	work.Wait()
	for i, o := range orders {
		if errs[i] != nil {
			a.Log.Warn("an order could not be carried out; it is tried again", "order", o.ID, "kind", o.Kind, "session",
				o.Session, "why", errs[i])
			continue
		}
		a.Log.Info("order carried out", "order", o.ID, "kind", o.Kind, "session", o.Session)
		a.done = append(a.done, o.ID)
		wait = 0
	}
	return wait, nil
}

func (a *Agent) carryOut(ctx context.Context, o agent.Order) error {
	switch o.Kind {
	case agent.ShowText:
		return a.system.Tell(ctx, o.Session, o.Text)
	case agent.EndSession:
		return a.system.SignOff(ctx, o.Session)
	}
	return fmt.Errorf("order %q is not known to this agent: update it", o.Kind)
}

// drain refuses new sessions under an order, or takes them again with order 0.
// The order counts only once it is obeyed and written down.
func (a *Agent) drain(ctx context.Context, order int64) error {
	var err error
	if order != 0 {
		err = a.system.Refuse(ctx, a.Sentence)
	} else {
		err = a.system.Admit(ctx)
	}
	if err != nil {
		return fmt.Errorf("drain order %d: %w", order, err)
	}
	a.kept.Drain = order
	a.Log.Info("drain order", "order", order)
	return a.save()
}

func (a *Agent) refuse(ctx context.Context) {
	if err := a.system.Refuse(ctx, a.Sentence); err != nil {
		a.Log.Error("new sign-ins could not be refused", "why", err)
	}
}

func (a *Agent) check(ctx context.Context, order int64) {
	why := Check(ctx, a.Checks, a.CheckLimit)
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.checks.Order != order {
		return // it was asked anew
	}
	a.checks.State, a.checks.Why = agent.ChecksPassed, why
	if why != "" {
		a.checks.State = agent.ChecksFailed
	}
	a.Log.Info("checks ended", "order", order, "state", a.checks.State, "why", why)
	select {
	case a.ended <- struct{}{}:
	default:
	}
}

func hash(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

func (a *Agent) load() error {
	text, err := os.ReadFile(a.State)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil {
		err = json.Unmarshal(text, &a.kept)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", a.State, err)
	}
	return nil
}

// save replaces the file in one step, so that a power cut leaves the old or the new one.
func (a *Agent) save() error {
	text, err := json.Marshal(a.kept)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(a.State), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(a.State), ".state-")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(text)
	err = errors.Join(err, f.Sync(), f.Close())
	if err != nil {
		return err
	}
	return os.Rename(f.Name(), a.State)
}
