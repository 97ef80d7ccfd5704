// Package trouble logs what goes wrong again and again: once when it begins,
// now and then while it lasts, and once when it is over.
package trouble

import (
	"log/slog"
	"sync"
	"sync/atomic"
	"time"
)

// Reminder is how long the log is silent about trouble that goes on.
const Reminder = 10 * time.Minute

// Log remembers what is wrong just now. It is safe for concurrent use.
type Log struct {
	log *slog.Logger
	any atomic.Bool // something is wrong: what works need not be locked for otherwise

	mu    sync.Mutex
	wrong map[string]*spell
}

type spell struct {
	since, logged time.Time
	times         int
}

// New returns a log in which nothing is wrong.
func New(log *slog.Logger) *Log { return &Log{log: log, wrong: map[string]*spell{}} }

// Failed logs that something went wrong, unless that was said already.
func (l *Log) Failed(what string, err error, details ...any) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.any.Store(true)
	now := time.Now()
	s := l.wrong[what]
	if s == nil {
		s = &spell{since: now}
		l.wrong[what] = s
	}
	s.times++
	switch {
	case s.times == 1:
		l.log.Error(what, append([]any{"err", err}, details...)...)
	case now.Sub(s.logged) >= Reminder:
		l.log.Error(what+", as before", append([]any{
			"err", err, "times", s.times, "since",
			s.since.UTC().Format(time.RFC3339),
		}, details...)...)
	default:
		return
	}
	s.logged = now
}

// Worked logs that what went wrong is over, if it did.
func (l *Log) Worked(what string) {
	if !l.any.Load() {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	s := l.wrong[what]
	if s == nil {
		return
	}
	delete(l.wrong, what)
	l.any.Store(len(l.wrong) > 0)
	l.log.Info(what+": over", "times", s.times, "lasted", time.Since(s.since).Round(time.Millisecond))
}
