package engine

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"nimblepane/platform/practice"
	"nimblepane/platform/practice/world"
)

// Clock is the product's clock: the real one, or that of the practice sites.
type Clock interface {
	Now() time.Time
	// Rate is how many seconds of the product's time pass in a real second.
	Rate() float64
}

// RealClock is the machine's own.
type RealClock struct{}

func (RealClock) Now() time.Time { return time.Now().UTC() }
func (RealClock) Rate() float64  { return 1 }

// PracticeClock follows the clock of a practice process. It never runs
// backwards: where the practice process was stopped and went on from an
// earlier time, it stands still until that time has caught up.
type PracticeClock struct {
	process *practice.Site // one connection, however often it is read
	mu      sync.Mutex
	clock   world.Clock
	last    time.Time
}

// NewPracticeClock returns a clock that follows the practice process at the
// address, once it has heard from it; it waits for that until the context ends.
func NewPracticeClock(ctx context.Context, address string, log *slog.Logger) (*PracticeClock, error) {
	c := &PracticeClock{process: practice.New(address, "")}
	for {
		err := c.read(ctx)
		if err == nil {
			return c, nil
		}
		log.Info("waiting for the practice clock", "address", address, "err", err)
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// Follow keeps up with the practice process until the context ends.
func (c *PracticeClock) Follow(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			_ = c.read(ctx) // the clock runs on as it did
		}
	}
}

func (c *PracticeClock) read(ctx context.Context) error {
	clock, err := c.process.Clock(ctx)
	if err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.clock = clock
	return nil
}

func (c *PracticeClock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := c.clock.Now(time.Now()); now.After(c.last) {
		c.last = now
	}
	return c.last
}

func (c *PracticeClock) Rate() float64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.clock.Rate
}
