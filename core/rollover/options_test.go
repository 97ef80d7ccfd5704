package rollover

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nimblepane/core/host"
)

func TestShares(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]int{"5": 5, "10%": 4, " 25 % ": 10, "1%": 1, "100%": 40, "0": 0} {
		s, err := ParseShare(text)
		require.NoError(t, err, text)
		require.Equal(t, want, s.Of(40), text)
	}
	require.Equal(t, 500, Share{50, true}.Of(1000))
	require.Equal(t, 501, Share{50, true}.Of(1001), "rounded up")
	for _, bad := range []string{"", "many", "5.5", "%"} {
		_, err := ParseShare(bad)
		require.ErrorContains(t, err, "write a number such as 5, or a share such as 20%", bad)
	}
	b, err := json.Marshal(DefaultOptions)
	require.NoError(t, err)
	var back Options
	require.NoError(t, json.Unmarshal(b, &back))
	require.Equal(t, DefaultOptions, back)
}

func TestNoticesSayTheMinutes(t *testing.T) {
	t.Parallel()
	require.Equal(t, "in 15 minutes", Notice("in {minutes} minutes", 15*time.Minute))
	require.Equal(t, "in 1 minute", Notice("in {minutes} minutes", 20*time.Second), "never in 0 minutes")
	require.Equal(t, "soon", Notice("soon", time.Minute))
}

// TestAPlanThatIsRightCanBeCarriedOut: whatever passes the check leaves room for at least one host.
func TestAPlanThatIsRightCanBeCarriedOut(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		pool := Pool{
			Hosts:        rapid.IntRange(1, 500).Draw(t, "hosts"),
			SeatsPerHost: rapid.IntRange(1, 50).Draw(t, "seats"),
		}
		require.NoError(t, DefaultOptions.FloorFor(pool).Check(pool))
		o := DefaultOptions
		o.Batch = Share{rapid.IntRange(-5, 600).Draw(t, "batch"), rapid.Bool().Draw(t, "batch in per cent")}
		o.Floor = Share{rapid.IntRange(-5, 30_000).Draw(t, "floor"), rapid.Bool().Draw(t, "floor in per cent")}
		if o.Check(pool) != nil {
			return
		}
		p := o.Plan(pool)
		require.Positive(t, p.BatchSize)
		require.LessOrEqual(t, p.BatchSize, pool.Hosts)
		require.GreaterOrEqual(t, p.Floor, 0)
		require.LessOrEqual(t, p.Floor, (pool.Hosts-1)*pool.SeatsPerHost)
	})
}

func TestEveryWrongOptionIsNamed(t *testing.T) {
	t.Parallel()
	pool := Pool{Hosts: 10, SeatsPerHost: 4}
	for want, change := range map[string]func(*Options){
		"floor of -1":             func(o *Options) { o.Floor = Share{-1, false} },
		"floor of 101%":           func(o *Options) { o.Floor = Share{101, true} },
		"floor of 37":             func(o *Options) { o.Floor = Share{37, false} },
		"batch of 11":             func(o *Options) { o.Batch = Share{11, false} },
		"grace period of 30s":     func(o *Options) { o.LogOff, o.Grace = Warn, 30*time.Second },
		"grace period of 25h":     func(o *Options) { o.Grace = 25 * time.Hour },
		"deadline of -1s":         func(o *Options) { o.Deadline = -time.Second },
		"the first notice has no": func(o *Options) { o.LogOff, o.FirstText = Warn, " " },
		"observe of 200h":         func(o *Options) { o.Observe = 200 * time.Hour },
		"last notice of 48h":      func(o *Options) { o.LastNotice = 48 * time.Hour },
		"stagger of -3":           func(o *Options) { o.Stagger = -3 },
		`log-off policy "" `[:17]: func(o *Options) { o.LogOff = "" },
		"failure budget of -1":    func(o *Options) { o.Budget = -1 },
	} {
		o := DefaultOptions
		change(&o)
		require.ErrorContains(t, o.Check(pool), want)
	}
}

func TestWhatIsJustRightIsTaken(t *testing.T) {
	t.Parallel()
	pool := Pool{Hosts: 10, SeatsPerHost: 4}
	for name, change := range map[string]func(*Options){
		"a batch of one":         func(o *Options) { o.Batch = Share{1, false} },
		"a batch of all":         func(o *Options) { o.Batch = Share{10, false} },
		"a batch of 1%":          func(o *Options) { o.Batch = Share{1, true} },
		"a batch of 100%":        func(o *Options) { o.Batch = Share{100, true} },
		"no floor":               func(o *Options) { o.Floor = Share{0, false} },
		"no floor, as a share":   func(o *Options) { o.Floor = Share{0, true} },
		"all seats but a host's": func(o *Options) { o.Floor = Share{36, false} },
		"the same as a share":    func(o *Options) { o.Floor = Share{90, true} },
		"a grace of a minute":    func(o *Options) { o.LogOff, o.Grace = Warn, time.Minute },
		"a grace of a day":       func(o *Options) { o.Grace = 24 * time.Hour },
		"a last notice of a day": func(o *Options) { o.LastNotice = 24 * time.Hour },
		"a deadline of a week":   func(o *Options) { o.Deadline = 7 * 24 * time.Hour },
		"observing for a week":   func(o *Options) { o.Observe = 7 * 24 * time.Hour },
		"no stagger of its own":  func(o *Options) { o.Stagger = 0 },
		"no failure":             func(o *Options) { o.Budget = 0 },
		"no grace for waiting":   func(o *Options) { o.Grace, o.FirstText = 0, "" },
		"no durations":           func(o *Options) { o.LastNotice, o.Deadline, o.Observe = 0, 0, 0 },
	} {
		o := DefaultOptions
		change(&o)
		require.NoError(t, o.Check(pool), name)
	}
}

func TestWhatIsJustWrongIsRefusedWithWhatWouldBeRight(t *testing.T) {
	t.Parallel()
	pool := Pool{Hosts: 10, SeatsPerHost: 4}
	const tick = time.Nanosecond
	for want, change := range map[string]func(*Options){
		"batch of 0: this pool has 10 hosts, so a batch has 1 to 10": func(
			o *Options,
		) {
			o.Batch = Share{0, false}
		},
		"batch of 11: this pool has 10 hosts, so a batch has 1 to 10": func(
			o *Options,
		) {
			o.Batch = Share{11, false}
		},
		"batch of 0%: a share goes from 1% to 100%": func(
			o *Options,
		) {
			o.Batch = Share{0, true}
		},
		"batch of 101%: a share goes from 1% to 100%": func(
			o *Options,
		) {
			o.Batch = Share{101, true}
		},
		"floor of -1: it cannot be negative": func(
			o *Options,
		) {
			o.Floor = Share{-1, false}
		},
		"floor of -1%: a share goes from 0% to 100%": func(
			o *Options,
		) {
			o.Floor = Share{-1, true}
		},
		"floor of 101%: a share goes from 0% to 100%": func(
			o *Options,
		) {
			o.Floor = Share{101, true}
		},
		"floor of 37 is 37 of the pool's 40 seats: with one host out of service at most 36 can be free": func(
			o *Options,
		) {
			o.Floor = Share{37, false}
		},
		"floor of 91% is 37 of the pool's 40 seats: with one host out of service at most 36 can be free": func(
			o *Options,
		) {
			o.Floor = Share{91, true}
		},
		"grace period of 59.999999999s: people need at least 1m to save their work": func(
			o *Options,
		) {
			o.LogOff, o.Grace = Warn, time.Minute-tick
		},
		"grace period of 1s: people need at least 1m to save their work": func(
			o *Options,
		) {
			o.Deadline, o.Grace = tick, time.Second
		},
		"grace period of 24h0m0.000000001s: use 0 to 24h0m0s": func(
			o *Options,
		) {
			o.Grace = 24*time.Hour + tick
		},
		"last notice of -1ns: use 0 to 24h0m0s": func(
			o *Options,
		) {
			o.LastNotice = -tick
		},
		"last notice of 24h0m0.000000001s: use 0 to 24h0m0s": func(
			o *Options,
		) {
			o.LastNotice = 24*time.Hour + tick
		},
		"deadline of 168h0m0.000000001s: use 0 to 168h0m0s": func(
			o *Options,
		) {
			o.Deadline = 7*24*time.Hour + tick
		},
		"observe of 168h0m0.000000001s: use 0 to 168h0m0s": func(
			o *Options,
		) {
			o.Observe = 7*24*time.Hour + tick
		},
		"the first notice has no text: people have to be told why their session ends": func(
			o *Options,
		) {
			o.Deadline, o.FirstText = tick, " "
		},
		"stagger of -1: use 1 or more starts per minute, or 0 for the site's own limit": func(
			o *Options,
		) {
			o.Stagger = -1
		},
		"failure budget of -1: use 0 or more hosts": func(
			o *Options,
		) {
			o.Budget = -1
		},
	} {
		o := DefaultOptions
		change(&o)
		require.EqualError(t, o.Check(pool), want)
	}
}

func TestAPlanHasTheNumbersOfItsPool(t *testing.T) {
	t.Parallel()
	usual := DefaultOptions.Plan(Pool{Hosts: 10, SeatsPerHost: 4})
	require.Equal(t, []time.Duration{15 * time.Minute, 2 * time.Minute}, []time.Duration{usual.Grace, usual.LastNotice})
	o := Options{
		Batch: Share{25, true}, Floor: Share{11, true}, LogOff: Warn, Grace: 1, LastNotice: 2, Deadline: 3, Observe: 4,
		Budget: 5, EarliestStart: time.Unix(6, 0),
	}
	require.Equal(t, Plan{
		BatchSize: 3, Floor: 5, LogOff: Warn, Grace: 1, LastNotice: 2, Deadline: 3, Observe: 4, Budget: 5,
		EarliestStart: time.Unix(6, 0), Limits: DefaultLimits,
	}, o.Plan(Pool{Hosts: 10, SeatsPerHost: 4}))
	require.Equal(t, Limits{
		Silent: 3 * time.Minute, Confirm: 10 * time.Minute, SignOff: 10 * time.Minute,
		Rebuild: 2 * time.Hour, Check: 30 * time.Minute,
	}, DefaultLimits)
	o.Batch = Share{50, false}
	require.Equal(t, 10, o.Plan(Pool{Hosts: 10, SeatsPerHost: 4}).BatchSize)
	o.Batch = Share{0, false}
	require.Equal(t, 1, o.Plan(Pool{Hosts: 10, SeatsPerHost: 4}).BatchSize)
}

func TestPhasesAndWhatActionsDoToHosts(t *testing.T) {
	t.Parallel()
	for phase, want := range map[Phase][2]bool{ // settled, in flight
		Outside: {}, Queued: {}, Draining: {false, true}, Warned: {false, true}, Emptied: {false, true},
		Rebuilding: {false, true}, Checking: {false, true}, Done: {true, false}, Failed: {true, false},
		Left: {true, false},
	} {
		require.Equal(t, want, [2]bool{phase.Settled(), phase.InFlight()}, phase)
	}
	type does struct {
		state   host.State
		changes bool
		phase   Phase
		moves   bool
	}
	for kind, want := range map[ActionKind]does{
		Postpone: {}, Start: {}, Pause: {}, Finish: {}, Settle: {}, Remind: {}, SignOff: {},
		DrainHost: {host.Draining, true, Draining, true},
		WarnHost:  {"", false, Warned, true},
		EmptyHost: {host.Emptied, true, Emptied, true},
		Refill:    {host.Draining, true, Draining, true},
		Rebuild:   {host.Rebuilding, true, Rebuilding, true},
		BootHost:  {host.Starting, true, Checking, true},
		CheckHost: {host.Checking, true, "", false},
		Return:    {host.Serving, true, Done, true},
		Release:   {host.Off, true, Left, true},
		Fail:      {host.Off, true, Failed, true},
		Leave:     {"", false, Left, true},
	} {
		var got does
		a := Action{Kind: kind, Rest: host.Off}
		got.state, got.changes = a.HostState()
		got.phase, got.moves = a.Phase()
		require.Equal(t, want, got, kind)
	}
	for _, h := range []Host{
		{State: host.Serving, Version: 1},
		{State: host.Off, Version: 2},
		{State: host.Faulty, Version: 1},
	} {
		require.True(t, h.Joins(2))
	}
	require.False(t, Host{State: host.Serving, Version: 2}.Joins(2))
}
