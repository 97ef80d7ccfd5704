// Package engine is the small runtime under everything that the service does
// by itself: a clock, changes of the records, the platforms of sites, and
// works, which are what platforms are asked to do.
//
// What is done with them is in a package beside this one for each subject:
// versions and their tracks, the fleet of pools and hosts, rollovers, builds.
// Each has its acts, which check what they were asked for and change the
// records in one transaction or not at all, and registers with Add what goes on
// by itself. Nothing here knows any of them.
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
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"
	"strconv"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivertype"

	"nimblepane/core/seal"
	"nimblepane/core/secret"
	"nimblepane/core/sheet"
	"nimblepane/engine/trouble"
	"nimblepane/platform"
	"nimblepane/store"
)

// Engine is one service process's share of the work. It is safe for concurrent
// use, once all subjects were added.
type Engine struct {
	Store *store.Store
	Clock Clock
	Log   *slog.Logger
	// AgentURL is where the agents of hosts find the service.
	AgentURL string
	// Secrets finds the values of secrets that build sheets name.
	Secrets secret.Finder
	// Version of the service, "" if it does not matter; the machines' agents are held against it.
	Version string
	// OwnChecks returns the organisation's own seal checks.
	OwnChecks func() ([]seal.Script, error)
	// Library returns the organisation's own ready steps.
	Library func() (sheet.Library, error)

	// SigningKey signs how versions were made; nil for one that is made and kept in the records.
	SigningKey ed25519.PrivateKey

	// Bases is the folder that bases are kept in, "" if none are, and FetchFromHere says whether files may be fetched
	// from what listens on this computer.
	Bases         string
	FetchFromHere bool
	// Repositories is the folder with git repositories on this computer that may be read, "" for none.
	Repositories string

	river    *river.Client[pgx.Tx]
	trouble  *trouble.Log
	sites    sites
	works    map[store.WorkKind]workKind
	subjects []Subject
	allowed  func(ctx context.Context, key string) (int64, error) // what a delivery may take
}

// Options of an engine.
type Options struct {
	// AgentURL is where the agents of hosts find the service.
	AgentURL string
	// Platforms that sites may be on, by name.
	Platforms map[string]platform.Opener
	// Secrets finds the values of secrets; there are none if it is nil.
	Secrets secret.Finder
	// Version of the service, against which the agents of machines are held; none if it is "".
	Version string
	// OwnChecks returns the organisation's own seal checks; there are none if it is nil.
	OwnChecks func() ([]seal.Script, error)
	// Library returns the organisation's own ready steps; there are none if it is nil.
	Library func() (sheet.Library, error)
	// SigningKey signs how versions were made; one is made and kept in the records if it is nil.
	SigningKey ed25519.PrivateKey
	// Bases is the folder that bases are kept in, "" for none.
	Bases string
	// FetchFromHere gives leave to fetch files from what listens on this computer.
	FetchFromHere bool
	// Repositories is the folder with git repositories on this computer that may be read, "" for none.
	Repositories string
	Log          *slog.Logger
}

// How often a process looks for what is due, in real time.
const (
	claimEvery = 100 * time.Millisecond
	workAgain  = 250 * time.Millisecond
	claimFor   = 5 * time.Second // a process that dies is replaced after so long
	sweepEvery = time.Second
	jobsKept   = 15 * time.Second
	// MendEvery is how often stored times in the future are reset.
	MendEvery = 5 * time.Minute
)

// New returns an engine that does nothing by itself until Run.
func New(st *store.Store, clock Clock, o Options) (*Engine, error) {
	e := &Engine{
		Store: st, Clock: clock, Log: o.Log, AgentURL: o.AgentURL, Secrets: o.Secrets, trouble: trouble.New(o.Log),
		Version: o.Version, OwnChecks: o.OwnChecks, Library: o.Library,
		SigningKey: o.SigningKey, Bases: o.Bases, FetchFromHere: o.FetchFromHere, Repositories: o.Repositories,
		sites: sites{openers: o.Platforms, open: map[string]openSite{}}, works: map[store.WorkKind]workKind{},
	}
	if e.Secrets == nil {
		e.Secrets = secret.In(func(string) (string, bool) { return "", false }, nil)
	}
	if e.OwnChecks == nil {
		e.OwnChecks = func() ([]seal.Script, error) { return nil, nil }
	}
	if e.Library == nil {
		e.Library = func() (sheet.Library, error) { return nil, nil }
	}
	workers := river.NewWorkers()
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, job *river.Job[jobArgs]) error {
		return e.workClaim(ctx, job.Args.Claim)
	}))
	client, err := river.NewClient(riverpgxv5.New(st.Pool), &river.Config{
		Logger: slog.New(quiet{o.Log.Handler()}),
		Queues: map[string]river.QueueConfig{
			queueTicks: {MaxWorkers: 4},
			queueWorks: {MaxWorkers: 96},
		},
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
	e.Add(e.itself())
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
	if err := e.Store.ForgetCrashes(ctx); err != nil {
		return fmt.Errorf("forget crashes: %w", err)
	}
	if err := e.mendTimes(ctx); err != nil {
		return err
	}
	if err := e.river.Start(context.WithoutCancel(ctx)); err != nil {
		return fmt.Errorf("start the job engine: %w", err)
	}
	var loops sync.WaitGroup
	loops.Go(func() { e.Repeat(ctx, claimEvery, "due rows could not be claimed", e.claimDue) })
	loops.Go(func() { e.Repeat(ctx, sweepEvery, "the sweep failed", e.Sweep) })
	loops.Go(func() { e.Repeat(ctx, MendEvery, "stored times in the future could not be reset", e.mendTimes) })
	for _, s := range e.subjects {
		for _, loop := range s.Loops {
			loops.Go(func() { loop(ctx) })
		}
	}
	loops.Wait()
	stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	err := e.river.Stop(stop)
	e.sites.close()
	return err
}

// mendTimes replaces stored times that are in the future. Another process may read the clock of the practice sites some
// seconds later, and its own may be minutes ahead.
func (e *Engine) mendTimes(ctx context.Context) error {
	ahead := max(10*time.Minute, time.Duration(float64(10*time.Second)*e.Clock.Rate()))
	return e.Store.MendFutureTimes(ctx, ServiceActor, e.Clock.Now(), ahead)
}

// Repeat calls a function at an interval until the context ends, and logs its failures.
func (e *Engine) Repeat(ctx context.Context, interval time.Duration, failing string, once func(context.Context) error) {
	tick := time.NewTicker(interval)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if err := safely(ctx, once); err == nil {
				e.trouble.Worked(failing)
			} else if ctx.Err() == nil {
				e.trouble.Failed(failing, err)
			}
		}
	}
}

// safely turns a panic into an error.
func safely(ctx context.Context, once func(context.Context) error) (err error) {
	defer func() {
		if cause := recover(); cause != nil {
			err = fmt.Errorf("it crashed: %v\n%s", cause, debug.Stack())
		}
	}()
	return once(ctx)
}

// claimDue claims what is due and inserts its jobs.
func (e *Engine) claimDue(ctx context.Context) error {
	var jobs []river.InsertManyParams
	insert := func(queue string, claims []store.Claim) {
		for _, c := range claims {
			jobs = append(jobs, river.InsertManyParams{
				Args:       jobArgs{c},
				InsertOpts: &river.InsertOpts{Queue: queue, MaxAttempts: 1},
			})
		}
	}
	for _, s := range e.subjects {
		for table := range s.Ticks {
			claims, err := e.Store.ClaimTicks(ctx, table, claimFor)
			if err != nil {
				return err
			}
			insert(queueTicks, claims)
		}
	}
	claims, err := e.Store.ClaimWorks(ctx, claimFor, siteShare)
	if err != nil {
		return err
	}
	insert(queueWorks, claims)
	if len(jobs) == 0 {
		return nil
	}
	if _, err := e.river.InsertManyFast(ctx, jobs); err != nil {
		return fmt.Errorf("insert jobs: %w", err)
	}
	return nil
}

// workClaim works on a claim, and keeps it meanwhile. A claim that another took
// over, because its job waited too long for a worker, is left to them.
func (e *Engine) workClaim(ctx context.Context, c store.Claim) error {
	if mine, err := e.Store.RenewClaim(ctx, c, claimFor); err != nil || !mine {
		return err
	}
	working, done := context.WithCancel(ctx)
	defer done()
	go func() {
		tick := time.NewTicker(claimFor / 4)
		defer tick.Stop()
		for {
			select {
			case <-working.Done():
				return
			case <-tick.C:
				_, _ = e.Store.RenewClaim(working, c, claimFor) // lost, it is done twice, which does nothing twice
			}
		}
	}()
	var err error
	if c.Work != "" {
		err = e.recovered(ctx, "works", c.Work, func() error { return e.work(ctx, c.Work) })
	} else {
		err = e.recovered(ctx, string(c.Table), strconv.FormatInt(c.ID, 10), func() error {
			return e.Tick(ctx, c.Table, c.ID)
		})
	}
	if err == nil {
		e.trouble.Worked(jobFailed)
	}
	return errors.Join(err, e.Store.ReleaseClaim(context.WithoutCancel(ctx), c, workAgain))
}

// jobFailed is what the log says of jobs that fail. They are due again by themselves.
const jobFailed = "a job failed; it is done again"

type failures struct {
	trouble *trouble.Log
	log     *slog.Logger
}

func (f failures) HandleError(_ context.Context, job *rivertype.JobRow, err error) *river.ErrorHandlerResult {
	f.trouble.Failed(jobFailed, err, "args", string(job.EncodedArgs))
	return nil
}

func (f failures) HandlePanic(_ context.Context, job *rivertype.JobRow, cause any,
	trace string,
) *river.ErrorHandlerResult {
	f.log.Error("a job failed badly; it is done again", "kind", job.Kind, "args", string(job.EncodedArgs), "cause",
		cause, "trace", trace)
	return nil
}

// quiet lets only warnings and errors of the job engine through.
type quiet struct{ slog.Handler }

func (q quiet) Enabled(_ context.Context, l slog.Level) bool { return l >= slog.LevelWarn }
func (q quiet) WithAttrs(a []slog.Attr) slog.Handler         { return quiet{q.Handler.WithAttrs(a)} }

func (q quiet) WithGroup(n string) slog.Handler { return quiet{q.Handler.WithGroup(n)} }
