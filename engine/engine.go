// Package engine makes happen what the core decides.
//
// People's acts (stage, activate, roll, ...) are methods of Engine: each checks
// what it was asked for, and changes the records in one transaction or not at
// all. What takes time goes on by itself afterwards: rollovers tick, works are
// asked of the platforms, heartbeats are taken in, hosts that fall silent are
// noticed.
//
// What is due is kept in the records: every open rollover and work has a time
// at which it is looked at next. Each service process looks for what is due,
// claims it for some seconds, which whoever works on it renews, and inserts a
// River job for it, which any of the processes then works. A job that is lost
// with its process is due again when its claim lapses, and because each job
// looks at what is, and not at what was done before, doing it again does
// nothing twice.
package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivertype"

	"nimblepane/core/estate"
	"nimblepane/core/rollover"
	"nimblepane/engine/trouble"
	"nimblepane/platform"
	"nimblepane/store"
)

// Engine is one service process's share of the work. It is safe for concurrent use.
type Engine struct {
	Store *store.Store
	Clock Clock

	log       *slog.Logger
	agentURL  string
	platforms map[string]platform.Opener
	heartbeat time.Duration
	river     *river.Client[pgx.Tx]
	ingest    *ingest
	trouble   *trouble.Log
	places    places
	listening time.Time // since when this process could hear agents

	mu    sync.Mutex
	sites map[string]opened // by name
}

// opened is a site's platform, and how the site was described when it was opened.
type opened struct {
	platform.Platform
	as string
}

// Options of an engine.
type Options struct {
	// AgentURL is where the agents of hosts find the service.
	AgentURL string
	// Platforms that sites may be on, by name.
	Platforms map[string]platform.Opener
	// Heartbeat is how long agents wait between heartbeats, 30 s if 0.
	Heartbeat time.Duration
	Log       *slog.Logger
}

// How often a process looks for what is due, in real time.
const (
	claimEvery  = 100 * time.Millisecond
	lookAgain   = 250 * time.Millisecond
	holdFor     = 5 * time.Second // a process that dies is replaced after so long
	sweepEvery  = time.Second
	lookEvery   = 3 * time.Second
	jobsKept    = 15 * time.Second
	eventsKept  = 10_000         // more than a watcher is told of who lost the connection
	ordersKept  = 24 * time.Hour // of product time: a host that is not heard for so long has other sessions
	repliesKept = 24 * time.Hour
	// Works are asked about until they end, which no operation outlives by days.
	operationsKept = 30 * 24 * time.Hour
	beatInterval   = 30 * time.Second // of product time
	beatAtLeast    = 500 * time.Millisecond
)

// New returns an engine that does nothing by itself until Run.
func New(st *store.Store, clock Clock, o Options) (*Engine, error) {
	e := &Engine{Store: st, Clock: clock, log: o.Log, agentURL: o.AgentURL, platforms: o.Platforms, heartbeat: cmp.Or(o.Heartbeat, beatInterval), sites: map[string]opened{}, listening: clock.Now(), trouble: trouble.New(o.Log)}
	e.ingest = newIngest(e)
	workers := river.NewWorkers()
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, job *river.Job[jobArgs]) error {
		return e.do(ctx, job.Args.Claim)
	}))
	client, err := river.NewClient(riverpgxv5.New(st.Pool), &river.Config{
		Logger:                      slog.New(quiet{o.Log.Handler()}),
		Queues:                      map[string]river.QueueConfig{queueTicks: {MaxWorkers: 4}, queueWorks: {MaxWorkers: 96}},
		Workers:                     workers,
		ErrorHandler:                failures{e.trouble, o.Log},
		FetchCooldown:               50 * time.Millisecond,
		FetchPollInterval:           200 * time.Millisecond,
		JobTimeout:                  30 * time.Second,
		RescueStuckJobsAfter:        time.Minute,
		CompletedJobRetentionPeriod: jobsKept,
		DiscardedJobRetentionPeriod: jobsKept, // the log has why
		CancelledJobRetentionPeriod: jobsKept,
	})
	if err != nil {
		return nil, fmt.Errorf("job engine: %w", err)
	}
	e.river = client
	return e, nil
}

const (
	queueTicks = "ticks"
	queueWorks = "works"
)

type jobArgs struct {
	Claim store.Claim `json:"claim"`
}

func (jobArgs) Kind() string { return "claim" }

// Run works until the context ends, then finishes the jobs at hand.
func (e *Engine) Run(ctx context.Context) error {
	if err := e.river.Start(context.WithoutCancel(ctx)); err != nil {
		return fmt.Errorf("start the job engine: %w", err)
	}
	var loops sync.WaitGroup
	loops.Go(func() { e.ingest.run(ctx) })
	loops.Go(func() { e.every(ctx, claimEvery, "what is due could not be claimed", e.claimDue) })
	loops.Go(func() { e.every(ctx, sweepEvery, "the sweep failed", e.sweep) })
	loops.Go(func() { e.every(ctx, lookEvery, "machines could not be looked at", e.look) })
	loops.Wait()
	stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	err := e.river.Stop(stop)
	e.mu.Lock()
	defer e.mu.Unlock()
	for name, p := range e.sites {
		p.Close()
		delete(e.sites, name)
	}
	return err
}

func (e *Engine) every(ctx context.Context, interval time.Duration, what string, do func(context.Context) error) {
	tick := time.NewTicker(interval)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if err := do(ctx); err == nil {
				e.trouble.Worked(what)
			} else if ctx.Err() == nil {
				e.trouble.Failed(what, err)
			}
		}
	}
}

// claimDue claims what is due and inserts its jobs.
func (e *Engine) claimDue(ctx context.Context) error {
	claims, err := e.Store.ClaimDue(ctx, holdFor, siteShare)
	if err != nil || len(claims) == 0 {
		return err
	}
	jobs := make([]river.InsertManyParams, len(claims))
	for i, c := range claims {
		queue := queueWorks
		if c.Work == "" {
			queue = queueTicks
		}
		jobs[i] = river.InsertManyParams{Args: jobArgs{c}, InsertOpts: &river.InsertOpts{Queue: queue, MaxAttempts: 1}}
	}
	_, err = e.river.InsertManyFast(ctx, jobs)
	return err
}

// do works on a claim, and keeps it meanwhile. A claim that another took over,
// because its job waited too long for a worker, is left to them.
func (e *Engine) do(ctx context.Context, c store.Claim) error {
	if mine, err := e.Store.KeepClaim(ctx, c, holdFor); err != nil || !mine {
		return err
	}
	working, done := context.WithCancel(ctx)
	defer done()
	go func() {
		tick := time.NewTicker(holdFor / 4)
		defer tick.Stop()
		for {
			select {
			case <-working.Done():
				return
			case <-tick.C:
				_, _ = e.Store.KeepClaim(working, c, holdFor) // lost, it is done twice, which does nothing twice
			}
		}
	}()
	var err error
	if c.Work != "" {
		err = e.work(ctx, c.Work)
	} else {
		err = e.tick(ctx, c.Rollover)
	}
	if err == nil {
		e.trouble.Worked("a job failed; it is done again")
	}
	return errors.Join(err, e.Store.ReleaseClaim(context.WithoutCancel(ctx), c, lookAgain))
}

// site returns the platform of a site. A site that is described otherwise than
// before is opened anew.
func (e *Engine) site(s store.Site) (platform.Platform, error) {
	text, err := json.Marshal(s.Estate())
	if err != nil {
		return nil, err
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	have, ok := e.sites[s.Name]
	if ok && have.as == string(text) {
		return have.Platform, nil
	}
	p, err := e.open(s.Estate())
	if err != nil {
		return nil, err
	}
	if ok {
		go have.Close() // it waits for what is under way
	}
	e.sites[s.Name] = opened{p, string(text)}
	return p, nil
}

// open opens a site's platform as the site is described.
func (e *Engine) open(s estate.Site) (platform.Platform, error) {
	opener, known := e.platforms[s.Platform]
	if !known {
		return nil, fmt.Errorf("site %s is on platform %s, which this service does not have", s.Name, s.Platform)
	}
	return opener(s, platform.Environment{Journal: e.Store.Journal(), Peer: e.peer, Log: e.log})
}

// peer returns the platform of the site of that name.
func (e *Engine) peer(ctx context.Context, name string) (platform.Platform, error) {
	s, err := store.SiteNamed(e.Store.DB.WithContext(ctx), name)
	if err != nil {
		return nil, err
	}
	return e.site(s)
}

// change makes a change in somebody's name at the product's time. In a
// rehearsal it is made and taken back.
func (e *Engine) change(ctx context.Context, actor string, fn func(*store.Tx) error) error {
	if ctx.Value(rehearsal{}) == nil {
		return e.Store.Change(ctx, actor, e.Clock.Now(), fn)
	}
	err := e.Store.Change(ctx, actor, e.Clock.Now(), func(tx *store.Tx) error {
		if err := fn(tx); err != nil {
			return err
		}
		return errRehearsed
	})
	if errors.Is(err, errRehearsed) {
		return nil
	}
	return err
}

// serviceActor is whose name stands in the trail for what the service does by itself.
const serviceActor = "service"

// BeatInterval is how long agents wait between heartbeats, in real time.
func (e *Engine) BeatInterval() time.Duration {
	return max(beatAtLeast, time.Duration(float64(e.heartbeat)/e.Clock.Rate()))
}

// limits are the default ones, stretched as far as the heartbeats are: with a
// fast clock more of the product's time passes between two of them.
func (e *Engine) limits() rollover.Limits {
	stretch := max(1, float64(e.BeatInterval())*e.Clock.Rate()/float64(beatInterval))
	by := func(d time.Duration) time.Duration { return time.Duration(float64(d) * stretch) }
	l := rollover.DefaultLimits
	return rollover.Limits{Silent: by(l.Silent), Confirm: by(l.Confirm), SignOff: by(l.SignOff), Rebuild: by(l.Rebuild), Check: by(l.Check)}
}

// silentAfter is how long an agent may be silent: some intervals, so that one
// lost heartbeat is nothing.
func (e *Engine) silentAfter() time.Duration { return e.limits().Silent }

// failures logs what jobs fail with. They are due again by themselves.
type failures struct {
	trouble *trouble.Log
	log     *slog.Logger
}

func (f failures) HandleError(_ context.Context, job *rivertype.JobRow, err error) *river.ErrorHandlerResult {
	f.trouble.Failed("a job failed; it is done again", err, "args", string(job.EncodedArgs))
	return nil
}

func (f failures) HandlePanic(_ context.Context, job *rivertype.JobRow, cause any, trace string) *river.ErrorHandlerResult {
	f.log.Error("a job failed badly; it is done again", "kind", job.Kind, "args", string(job.EncodedArgs), "cause", cause, "trace", trace)
	return nil
}

// quiet lets only warnings and errors of the job engine through.
type quiet struct{ slog.Handler }

func (q quiet) Enabled(_ context.Context, l slog.Level) bool { return l >= slog.LevelWarn }
func (q quiet) WithAttrs(a []slog.Attr) slog.Handler         { return quiet{q.Handler.WithAttrs(a)} }

func (q quiet) WithGroup(n string) slog.Handler { return quiet{q.Handler.WithGroup(n)} }
