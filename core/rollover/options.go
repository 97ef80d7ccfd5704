package rollover

import (
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// Share is an amount given as a number ("5") or as a part of the whole ("20%").
type Share struct {
	Value   int
	Percent bool
}

// ParseShare reads "5" or "20%".
func ParseShare(s string) (Share, error) {
	digits, percent := strings.CutSuffix(strings.TrimSpace(s), "%")
	n, err := strconv.Atoi(strings.TrimSpace(digits))
	if err != nil {
		return Share{}, fmt.Errorf("%q is not an amount: write a number such as 5, or a share such as 20%%", s)
	}
	return Share{Value: n, Percent: percent}, nil
}

func (s Share) String() string {
	if s.Percent {
		return strconv.Itoa(s.Value) + "%"
	}
	return strconv.Itoa(s.Value)
}

// MarshalText and UnmarshalText let a Share stand as text in JSON and YAML.
func (s Share) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

func (s *Share) UnmarshalText(b []byte) error {
	var err error
	*s, err = ParseShare(string(b))
	return err
}

// Of resolves the share of a whole, rounded up.
func (s Share) Of(whole int) int {
	if s.Percent {
		return int(math.Ceil(float64(whole) * float64(s.Value) / 100))
	}
	return s.Value
}

// Options are a plan as a person gives it.
type Options struct {
	Batch         Share         // hosts
	Floor         Share         // seats
	LogOff        LogOff        //
	Grace         time.Duration //
	LastNotice    time.Duration // before the end of the grace period
	FirstText     string        // what people are told when their host drains; {minutes} stands for the grace
	LastText      string        // what they are told shortly before the end; {minutes} stands for what is left
	Deadline      time.Duration //
	Stagger       int           // starts per minute, 0 for the site's own limit
	Observe       time.Duration `json:"Watch"` // between batches, to see how the last one does
	Budget        int           //
	EarliestStart time.Time     //
}

// DefaultOptions are careful ones.
var DefaultOptions = Options{
	Batch:      Share{10, true},
	Floor:      Share{10, true},
	LogOff:     Wait,
	Grace:      15 * time.Minute,
	LastNotice: 2 * time.Minute,
	FirstText: "This desktop is being renewed. Please save your work and sign in again; you will be signed off in " +
		"{minutes} minutes.",
	LastText: "You will be signed off in {minutes} minutes. Please save your work now.",
	Budget:   1,
}

// Pool is what the options are checked against.
type Pool struct {
	Hosts        int
	SeatsPerHost int
}

// seats are those of all of its hosts.
func (p Pool) seats() int { return p.Hosts * p.SeatsPerHost }

// mostFloor is how many seats can be kept free with one host out of service.
func (p Pool) mostFloor() int { return p.seats() - p.SeatsPerHost }

// UrgentOptions are the defaults of a rollback: people are signed off after five minutes, and more hosts are taken at
// once, because the version that they work on is known to be bad.
var UrgentOptions = Options{
	Batch:      Share{25, true},
	Floor:      Share{10, true},
	LogOff:     Warn,
	Grace:      5 * time.Minute,
	LastNotice: time.Minute,
	FirstText:  DefaultOptions.FirstText,
	LastText:   DefaultOptions.LastText,
	Budget:     3,
}

// FloorFor returns the options with a floor that the pool can keep with one host out of service: a pool of few hosts
// may not be able to keep the default one.
func (o Options) FloorFor(pool Pool) Options {
	if most := pool.mostFloor(); o.Floor.Of(pool.seats()) > most {
		o.Floor = Share{Value: most}
	}
	return o
}

// Check returns nil if the options can be carried out on the pool, or all that is wrong, joined.
func (o Options) Check(pool Pool) error {
	var wrong []error
	bad := func(format string, args ...any) { wrong = append(wrong, fmt.Errorf(format, args...)) }
	switch {
	case o.Batch.Percent && (o.Batch.Value < 1 || o.Batch.Value > 100):
		bad("batch of %s: a share goes from 1%% to 100%%", o.Batch)
	case !o.Batch.Percent && (o.Batch.Value < 1 || o.Batch.Value > pool.Hosts):
		bad("batch of %s: this pool has %s, so a batch has 1 to %d", o.Batch, count(pool.Hosts, "host"), pool.Hosts)
	}
	switch {
	case o.Floor.Percent && (o.Floor.Value < 0 || o.Floor.Value > 100):
		bad("floor of %s: a share goes from 0%% to 100%%", o.Floor)
	case o.Floor.Value < 0:
		bad("floor of %s: it cannot be negative", o.Floor)
	case o.Floor.Of(pool.seats()) > pool.mostFloor():
		bad("floor of %s is %d of the pool's %d seats: with one host out of service at most %d can be free", o.Floor,
			o.Floor.Of(pool.seats()), pool.seats(), pool.mostFloor())
	}
	if o.LogOff != Wait && o.LogOff != Warn {
		bad("log-off policy %q: use %q or %q", o.LogOff, Wait, Warn)
	}
	for _, t := range []struct {
		name string
		d    time.Duration
		max  time.Duration
	}{
		{"grace period", o.Grace, 24 * time.Hour},
		{"last notice", o.LastNotice, 24 * time.Hour},
		{"deadline", o.Deadline, 7 * 24 * time.Hour},
		{"observe", o.Observe, 7 * 24 * time.Hour},
	} {
		if t.d < 0 || t.d > t.max {
			bad("%s of %s: use 0 to %s", t.name, t.d, t.max)
		}
	}
	if ends := o.LogOff == Warn || o.Deadline > 0; ends {
		if o.Grace < time.Minute {
			bad("grace period of %s: people need at least 1m to save their work", o.Grace)
		}
		if strings.TrimSpace(o.FirstText) == "" {
			bad("the first notice has no text: people have to be told why their session ends")
		}
	}
	if o.Stagger < 0 {
		bad("stagger of %d: use 1 or more starts per minute, or 0 for the site's own limit", o.Stagger)
	}
	if o.Budget < 0 {
		bad("failure budget of %d: use 0 or more hosts", o.Budget)
	}
	return errors.Join(wrong...)
}

// Plan resolves the options for a pool. The caller sets State, Target and what changes later.
func (o Options) Plan(pool Pool) Plan {
	return Plan{
		BatchSize:     max(1, min(pool.Hosts, o.Batch.Of(pool.Hosts))),
		Floor:         o.Floor.Of(pool.seats()),
		LogOff:        o.LogOff,
		Grace:         o.Grace,
		LastNotice:    o.LastNotice,
		Deadline:      o.Deadline,
		Observe:       o.Observe,
		Budget:        o.Budget,
		EarliestStart: o.EarliestStart,
		Limits:        DefaultLimits,
	}
}

// Notice fills the minutes into a text for people.
func Notice(text string, left time.Duration) string {
	minutes := max(1, int(math.Round(left.Minutes())))
	if minutes == 1 {
		text = strings.ReplaceAll(text, "{minutes} minutes", "1 minute")
	}
	return strings.ReplaceAll(text, "{minutes}", strconv.Itoa(minutes))
}
