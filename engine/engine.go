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
// claims it by moving that time on, and inserts a River job for it, which any
// of the processes then works. A job that is lost with its process is simply
// due again a moment later, and because each job looks at what is, and not at
// what was done before, doing it again does nothing twice.
package engine

import (
	"cmp"
	"context"
	"encoding/json"
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
	promptEvery = 100 * time.Millisecond
	tickEvery   = "250 milliseconds"
	pollEvery   = "250 milliseconds"
	sweepEvery  = time.Second
	lookEvery   = 3 * time.Second
	eventsKept  = 200_000
	repliesKept = 24 * time.Hour
	// Works are asked about until they end, which no operation outlives by days.
	operationsKept = 30 * 24 * time.Hour
	beatInterval   = 30 * time.Second // of product time
	beatAtLeast    = 500 * time.Millisecond
)

// New returns an engine that does nothing by itself until Run.
func New(st *store.Store, clock Clock, o Options) (*Engine, error) {
	e := &Engine{Store: st, Clock: clock, log: o.Log, agentURL: o.AgentURL, platforms: o.Platforms, heartbeat: cmp.Or(o.Heartbeat, beatInterval), sites: map[string]opened{}, listening: clock.Now()}
	e.ingest = newIngest(e)
	workers := river.NewWorkers()
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, job *river.Job[tickArgs]) error {
		return e.tick(ctx, job.Args.Rollover)
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, job *river.Job[workArgs]) error {
		return e.work(ctx, job.Args.Key)
	}))
	client, err := river.NewClient(riverpgxv5.New(st.Pool), &river.Config{
		Logger:                      slog.New(quiet{o.Log.Handler()}),
		Queues:                      map[string]river.QueueConfig{queueTicks: {MaxWorkers: 4}, queueWorks: {MaxWorkers: 16}},
		Workers:                     workers,
		ErrorHandler:                failures{o.Log},
		FetchCooldown:               50 * time.Millisecond,
		FetchPollInterval:           200 * time.Millisecond,
		JobTimeout:                  30 * time.Second,
		RescueStuckJobsAfter:        time.Minute,
		CompletedJobRetentionPeriod: time.Minute,
		DiscardedJobRetentionPeriod: time.Hour,
		CancelledJobRetentionPeriod: time.Hour,
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

type tickArgs struct {
	Rollover int64 `json:"rollover"`
}

func (tickArgs) Kind() string { return "rollover_tick" }

type workArgs struct {
	Key string `json:"key"`
}

func (workArgs) Kind() string { return "work" }

// Run works until the context ends, then finishes the jobs at hand.
func (e *Engine) Run(ctx context.Context) error {
	if err := e.river.Start(context.WithoutCancel(ctx)); err != nil {
		return fmt.Errorf("start the job engine: %w", err)
	}
	var loops sync.WaitGroup
	loops.Go(func() { e.ingest.run(ctx) })
	loops.Go(func() { e.every(ctx, promptEvery, "prompt", e.prompt) })
	loops.Go(func() { e.every(ctx, sweepEvery, "sweep", e.sweep) })
	loops.Go(func() { e.every(ctx, lookEvery, "look at machines", e.look) })
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
			if err := do(ctx); err != nil && ctx.Err() == nil {
				e.log.Error(what+" failed; it is tried again", "err", err)
			}
		}
	}
}

// prompt claims what is due and inserts its jobs.
func (e *Engine) prompt(ctx context.Context) error {
	var jobs []river.InsertManyParams
	once := func(queue string) *river.InsertOpts { return &river.InsertOpts{Queue: queue, MaxAttempts: 1} }
	var rollovers []int64
	if err := e.Store.DB.WithContext(ctx).Raw(`
		update rollovers set next_tick_at = now() + ?::interval where id in (
		  select id from rollovers where not settled and next_tick_at <= now() for update skip locked)
		returning id`, tickEvery).Scan(&rollovers).Error; err != nil {
		return err
	}
	for _, id := range rollovers {
		jobs = append(jobs, river.InsertManyParams{Args: tickArgs{id}, InsertOpts: once(queueTicks)})
	}
	var works []string
	if err := e.Store.DB.WithContext(ctx).Raw(`
		update works set next_poll_at = now() + ?::interval where key in (
		  select key from works where state in ('asked', 'under way') and next_poll_at <= now() limit 200 for update skip locked)
		returning key`, pollEvery).Scan(&works).Error; err != nil {
		return err
	}
	for _, key := range works {
		jobs = append(jobs, river.InsertManyParams{Args: workArgs{key}, InsertOpts: once(queueWorks)})
	}
	if len(jobs) == 0 {
		return nil
	}
	_, err := e.river.InsertManyFast(ctx, jobs)
	return err
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

// change makes a change in somebody's name at the product's time.
func (e *Engine) change(ctx context.Context, actor string, fn func(*store.Tx) error) error {
	return e.Store.Change(ctx, actor, e.Clock.Now(), fn)
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
type failures struct{ log *slog.Logger }

func (f failures) HandleError(_ context.Context, job *rivertype.JobRow, err error) *river.ErrorHandlerResult {
	f.log.Error("a job failed; it is done again", "kind", job.Kind, "args", string(job.EncodedArgs), "err", err)
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
