package rollover

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestShares(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]int{"5": 5, "10%": 4, " 25 % ": 10, "1%": 1, "100%": 40, "0": 0} {
		s, err := ParseShare(text)
		require.NoError(t, err, text)
		require.Equal(t, want, s.Of(40), text)
	}
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
		pool := Pool{Hosts: rapid.IntRange(1, 500).Draw(t, "hosts"), SeatsPerHost: rapid.IntRange(1, 50).Draw(t, "seats")}
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
