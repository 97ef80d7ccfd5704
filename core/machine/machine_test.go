package machine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var (
	noon   = time.Date(2026, 11, 2, 12, 0, 0, 0, time.UTC)
	policy = Policy{Longest: 12 * time.Hour, Left: 8 * 24 * time.Hour}
)

func TestAMachineThatWasLeftIsDiscardedAfterTwoNotices(t *testing.T) {
	t.Parallel()
	day := func(n float64) time.Time { return noon.Add(time.Duration(n * 24 * float64(time.Hour))) }
	for name, c := range map[string]struct {
		notices int
		noticed float64
		now     float64
		want    Decision
	}{
		"new":                                 {0, 0, 0, Decision{At: day(8)}},
		"a moment before the first notice":    {0, 0, 5.99, Decision{At: day(8)}},
		"first notice":                        {0, 0, 6, Decision{At: day(8), Notice: true}},
		"between them":                        {1, 6, 6.5, Decision{At: day(8)}},
		"second notice":                       {1, 6, 7, Decision{At: day(8), Notice: true}},
		"a moment before its end":             {2, 7, 7.99, Decision{At: day(8)}},
		"its end":                             {2, 7, 8, Decision{At: day(8), Discard: true}},
		"the first notice was late":           {0, 0, 20, Decision{At: day(22), Notice: true}},
		"so is the second":                    {1, 20, 20.5, Decision{At: day(22)}},
		"and here it is":                      {1, 20, 21, Decision{At: day(22), Notice: true}},
		"and the end":                         {2, 21, 21.9, Decision{At: day(22)}},
		"which comes":                         {2, 21, 22, Decision{At: day(22), Discard: true}},
		"the end was missed":                  {2, 7, 30, Decision{At: day(30), Discard: true}},
		"more notices than there are, anyhow": {3, 7, 8, Decision{At: day(8), Discard: true}},
	} {
		k := Known{State: Off, TouchedAt: noon, Notices: c.notices}
		if c.notices > 0 {
			k.NoticedAt = day(c.noticed)
		}
		require.Equal(t, c.want, Decide(policy, k, day(c.now)), name)
		k.OfBuild = true
		require.Zero(t, Decide(policy, k, day(c.now)), name)
		for _, changing := range []State{Making, Starting, Stopping} {
			k.OfBuild, k.State = false, changing
			require.Equal(t, Decision{At: c.want.At}, Decide(policy, k, day(c.now)), name)
		}
		for _, over := range []State{Gone, Discarding} {
			k.State = over
			require.Zero(t, Decide(policy, k, day(c.now)), name)
		}
	}
}

func TestAMachineThatRunsForLongIsTold(t *testing.T) {
	t.Parallel()
	for ran, want := range map[time.Duration]bool{policy.Longest: false, policy.Longest + 1: true} {
		require.Equal(t, want, Decide(policy, Known{State: Running, OfBuild: true, StartedAt: &noon},
			noon.Add(ran)).TooLong)
	}
	require.False(t, Decide(policy, Known{State: Off, OfBuild: true}, noon.Add(policy.Left)).TooLong)
}

// TestNoMachineIsDiscardedUnannounced plays machines that are touched and looked
// at at any times, and services that are down meanwhile.
func TestNoMachineIsDiscardedUnannounced(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		p := Policy{
			Longest: time.Hour, Left: time.Duration(rapid.Int64Range(1, 100).Draw(t, "left")) * time.Hour,
		}
		k := Known{State: Off, TouchedAt: noon}
		now := noon
		var told []time.Time
		for range 200 {
			now = now.Add(time.Duration(rapid.Int64Range(1, int64(p.Left)).Draw(t, "step")))
			if rapid.IntRange(0, 9).Draw(t, "touched") == 0 {
				k.TouchedAt, k.Notices, k.NoticedAt, told = now, 0, time.Time{}, nil
				continue
			}
			d := Decide(p, k, now)
			require.False(t, d.At.Before(now))
			switch {
			case d.Notice:
				require.False(t, d.Discard)
				told = append(told, now)
				k.Notices, k.NoticedAt = k.Notices+1, now
				require.Equal(t, d.At, Decide(p, k, now).At, "a notice says when the end is")
			case d.Discard:
				require.Len(t, told, Notices)
				require.GreaterOrEqual(t, now.Sub(k.TouchedAt), p.Left)
				require.GreaterOrEqual(t, now.Sub(told[1]), p.NoticeTime())
				require.GreaterOrEqual(t, told[1].Sub(told[0]), p.NoticeTime())
				return
			}
		}
	})
}

func TestCost(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		rate Rate
		ran  time.Duration
		want string
	}{
		{"0.12", time.Hour, "0.12"},
		{"0.12", 90 * time.Minute, "0.18"},
		{"0.12", 0, "0.00"},
		{"1", 18 * time.Second, "0.01"},
		{"1", 17 * time.Second, "0.00"},
		{"0.1", 3 * time.Minute, "0.01"},
		{"999999.9999", 1000 * time.Hour, "999999999.90"},
		{"", time.Hour, ""},
		{"2.5", 1500 * time.Millisecond, "0.00"},
	} {
		require.Equal(t, c.want, c.rate.Cost(c.ran), "%s for %s", c.rate, c.ran)
	}
	for _, right := range []Rate{"0", "0.1", "12.3456", "999999"} {
		require.NoError(t, right.Check())
	}
	for _, wrong := range []Rate{"", "-1", "01", "1,2", "1.", "1.23456", "1e3", "1000000", ".5", "1 EUR"} {
		require.ErrorContains(t, wrong.Check(), "is no price")
	}
}

func TestStatesThatChange(t *testing.T) {
	t.Parallel()
	var changing []State
	for _, s := range States() {
		if s.Changing() {
			changing = append(changing, s)
		}
	}
	require.Equal(t, []State{
		Copying, Making, Starting, Stopping, Discarding, Checkpointing, Reverting, Repairing, Trying,
	}, changing)
}
