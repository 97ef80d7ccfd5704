// Package journal runs the operations of platforms that have no memory of
// their own, such as those that only have a protocol to speak.
//
// An operation is a row in the service's journal and, in one of its processes,
// a goroutine. That process holds the row and renews its hold; when it dies,
// the hold lapses, and the next process that is asked about the operation
// takes it up. So what an operation does has to be fit for being done again:
// it looks at what is there and goes on from it.
package journal

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"sync"
	"time"

	"github.com/google/uuid"

	"nimblepane/platform"
)

// Times of a hold, in real time.
const (
	lease   = 15 * time.Second
	renewal = 3 * time.Second
)

// Performer does an operation. It tells how far it is by calling report, and
// returns what it came to. A *platform.Refusal ends the operation as failed; after any other
// error it is done again a little later.
type Performer func(ctx context.Context, key string, op platform.Operation,
	report func(platform.Progress)) (json.RawMessage, error)

// Runner runs the operations of one site in this process.
type Runner struct {
	journal platform.Journal
	site    string
	holder  string
	perform Performer
	retry   time.Duration
	log     *slog.Logger

	ctx     context.Context
	stop    context.CancelFunc
	running sync.WaitGroup
	mu      sync.Mutex
	mine    map[string]bool
	notYet  map[string]time.Time // when a failed attempt may be repeated
}

// New returns a runner, which works until Close.
func New(journal platform.Journal, site string, retry time.Duration, log *slog.Logger, perform Performer) *Runner {
	r := &Runner{
		journal: journal, site: site, holder: uuid.NewString(), perform: perform, retry: retry, log: log,
		mine: map[string]bool{}, notYet: map[string]time.Time{},
	}
	r.ctx, r.stop = context.WithCancel(context.Background())
	return r
}

// Close stops what runs here; another process, or this one when it is back, goes on with it.
func (r *Runner) Close() {
	r.stop()
	r.running.Wait()
}

// Start notes the operation down and begins it.
func (r *Runner) Start(ctx context.Context, key string, op platform.Operation) error {
	if err := r.journal.Add(ctx, r.site, key, op); err != nil {
		return err
	}
	r.take(key, op)
	return nil
}

// Ask returns how the operation stands, and takes it up if nobody works on it.
func (r *Runner) Ask(ctx context.Context, key string) (platform.Progress, error) {
	e, err := r.journal.Entry(ctx, key)
	if err != nil {
		return platform.Progress{}, err
	}
	if e.Progress.State == platform.UnderWay && !e.Leased {
		r.take(key, e.Operation)
	}
	return e.Progress, nil
}

// Operation returns the operation that was started under the key.
func (r *Runner) Operation(ctx context.Context, key string) (platform.Operation, error) {
	e, err := r.journal.Entry(ctx, key)
	return e.Operation, err
}

// take works on the operation in a goroutine, unless it is worked on here or
// was given up a moment ago.
func (r *Runner) take(key string, op platform.Operation) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.ctx.Err() != nil || r.mine[key] || time.Now().Before(r.notYet[key]) {
		return
	}
	r.mine[key] = true
	r.running.Go(func() {
		err := r.attempt(key, op)
		r.mu.Lock()
		defer r.mu.Unlock()
		delete(r.mine, key)
		delete(r.notYet, key)
		if err != nil {
			r.notYet[key] = time.Now().Add(r.retry)
		}
	})
}

// attempt works on the operation under its hold. An error means that it has to be tried again.
func (r *Runner) attempt(key string, op platform.Operation) error {
	held, err := r.journal.Lease(r.ctx, key, r.holder, lease)
	if err != nil || !held {
		return err
	}
	ctx, cancel := context.WithCancel(r.ctx)
	defer cancel()
	var mu sync.Mutex
	progress := platform.Progress{State: platform.UnderWay}
	report := func(p platform.Progress) {
		mu.Lock()
		progress.Percent, progress.Transfer = max(0, min(99, p.Percent)), p.Transfer
		mu.Unlock()
	}
	renewed := make(chan struct{})
	go func() {
		defer close(renewed)
		r.renew(ctx, cancel, key, func() platform.Progress {
			mu.Lock()
			defer mu.Unlock()
			return progress
		})
	}()
	output, err := r.perform(ctx, key, op, report)
	cancel()
	<-renewed
	mu.Lock()
	end := progress
	mu.Unlock()
	var refusal *platform.Refusal
	switch {
	case err == nil:
		end.State, end.Percent, end.Output = platform.Succeeded, 100, output
	case errors.As(err, &refusal):
		end.State, end.Why = platform.Failed, refusal.Why
	default:
		end.Why = err.Error()
		if r.ctx.Err() == nil {
			r.log.Warn("an operation is tried again", "site", r.site, "key", key, "err", err)
		}
	}
	// What is done is written down although this process may be stopping.
	last, done := context.WithTimeout(context.WithoutCancel(r.ctx), 5*time.Second)
	defer done()
	if nerr := r.journal.Note(last, key, r.holder, end, true); nerr != nil {
		return nerr
	}
	if end.State == platform.UnderWay {
		return err
	}
	return nil
}

// renew keeps the hold. When it is lost the work is cancelled: another process does it.
func (r *Runner) renew(ctx context.Context, cancel context.CancelFunc, key string, progress func() platform.Progress) {
	tick := time.NewTicker(renewal)
	defer tick.Stop()
	good := time.Now()
	noted := platform.Progress{}
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		held, err := r.journal.Lease(ctx, key, r.holder, lease)
		if err == nil && held {
			good = time.Now()
			if p := progress(); p.Percent != noted.Percent || p.Transfer != noted.Transfer {
				noted = p
				_ = r.journal.Note(ctx, key, r.holder, p, false)
			}
			continue
		}
		if err == nil || time.Since(good) > lease-renewal {
			cancel()
			return
		}
	}
}

// Memory is a journal for tests, which lasts as long as its process.
type Memory struct {
	mu        sync.Mutex
	rows      map[string]*row
	exclusive sync.Mutex
}

type row struct {
	platform.Entry
	holder string
	until  time.Time
}

// NewMemory returns an empty journal.
func NewMemory() *Memory { return &Memory{rows: map[string]*row{}} }

// Add is platform.Journal's.
func (m *Memory) Add(_ context.Context, _, key string, op platform.Operation) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.rows[key] == nil {
		m.rows[key] = &row{Entry: platform.Entry{Operation: op, Progress: platform.Progress{State: platform.UnderWay}}}
	}
	return nil
}

// Entry is platform.Journal's.
func (m *Memory) Entry(_ context.Context, key string) (platform.Entry, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	r := m.rows[key]
	if r == nil {
		return platform.Entry{}, platform.ErrUnknown
	}
	e := r.Entry
	e.Leased = time.Now().Before(r.until)
	return e, nil
}

// Lease is platform.Journal's.
func (m *Memory) Lease(_ context.Context, key, holder string, lease time.Duration) (bool, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	r := m.rows[key]
	if r == nil || r.Progress.State != platform.UnderWay || r.holder != holder && time.Now().Before(r.until) {
		return false, nil
	}
	r.holder, r.until = holder, time.Now().Add(lease)
	return true, nil
}

// WithLock is platform.Journal's.
func (m *Memory) WithLock(_ context.Context, _ string, fn func() error) error {
	m.exclusive.Lock()
	defer m.exclusive.Unlock()
	return fn()
}

// Note is platform.Journal's.
func (m *Memory) Note(_ context.Context, key, holder string, p platform.Progress, release bool) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	r := m.rows[key]
	if r == nil || r.holder != holder || r.Progress.State != platform.UnderWay {
		return nil
	}
	r.Progress = p
	if release {
		r.until = time.Time{}
	}
	return nil
}
