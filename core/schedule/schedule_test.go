package schedule

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func TestABuildStartsOnItsDateOnceTheOneBeforeHasEnded(t *testing.T) {
	t.Parallel()
	k := Known{Mode: Dates, Due: noon, MadeOf: "a", Started: "a", Ready: "a"}
	require.Equal(t, Decision{}, Decide(k, noon.Add(-1)))
	require.Equal(t, Decision{Start: true, Seen: true}, Decide(k, noon))
	require.Equal(t, Decision{Start: true, Seen: true}, Decide(k, noon.Add(1000*time.Hour)), "missed ones count once")
	k.Before = "build 7"
	require.Equal(t, Decision{Waits: "build 7 goes on, which it started before"}, Decide(k, noon))
	k.Paused = true
	require.Equal(t, Decision{}, Decide(k, noon))
	require.Equal(t, Decision{}, Decide(Known{Mode: Dates}, noon), "a rule that is over comes no more")
}

func TestABuildStartsOnlyIfSomethingHasChanged(t *testing.T) {
	t.Parallel()
	k := Known{Mode: IfChanged, Due: noon, MadeOf: "b", Started: "b", Ready: "b"}
	require.Equal(t, Decision{Seen: true, Skips: NothingChanged}, Decide(k, noon))
	k.Ready = "a"
	require.True(t, Decide(k, noon).Start, "the last one failed")
	k.MadeOf = "c"
	require.Equal(t, Decision{}, Decide(k, noon.Add(-1)), "it waits for its date")

	k = Known{Mode: OnChanges, MadeOf: "b", Started: "b", Ready: "a"}
	require.Equal(t, Decision{}, Decide(k, noon), "one that failed is not begun again and again")
	k.MadeOf = "c"
	require.Equal(t, Decision{Start: true}, Decide(k, noon))
}

func TestNeverTwoAtOnceAndNeverWhilePaused(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		some := func(what string) string { return rapid.SampledFrom([]string{"", "a", "b"}).Draw(t, what) }
		k := Known{
			Mode: rapid.SampledFrom(Modes()).Draw(t, "mode"), Paused: rapid.Bool().Draw(t, "paused"),
			Due:    noon.Add(time.Duration(rapid.IntRange(-5, 5).Draw(t, "due")) * time.Minute),
			Before: some("before"), MadeOf: some("made of"), Started: some("started"), Ready: some("ready"),
		}
		d := Decide(k, noon)
		if k.Paused || k.Before != "" {
			require.False(t, d.Start)
			require.False(t, k.Paused && d != Decision{})
		}
		if d.Start || d.Seen {
			require.False(t, k.Mode.Dated() && k.Due.After(noon), "not before its date")
			require.Equal(t, k.Mode.Dated(), d.Seen)
		}
		require.False(t, d.Skips != "" && d.Start)
		require.NotEmpty(t, k.Mode.String())
	})
}
