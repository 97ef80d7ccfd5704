package delivery_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nimblepane/core/delivery"
)

func TestAsManyCopiesAreProposedAsClonesNeed(t *testing.T) {
	t.Parallel()
	few := delivery.Taking{Pool: "office", Batch: 2, PerMinute: 20}
	many := delivery.Taking{Pool: "counters", Batch: 30, PerMinute: 5}
	seen := func(d time.Duration) delivery.Seen { return delivery.Seen{Time: d, Of: 50} }
	for _, tc := range []struct {
		cloning delivery.Cloning
		copies  int
		why     string
	}{
		{delivery.Cloning{ClonesPerCopy: 4}, 1, "no pool of the image is here"},
		{
			delivery.Cloning{[]delivery.Taking{few, many}, 4, delivery.Seen{}},
			8,
			"pool counters takes 30 hosts together; how long a clone takes here was not seen yet; 4 can be cloned " +
				"from a copy at a time",
		},
		{
			delivery.Cloning{[]delivery.Taking{few, many}, 4, seen(3 * time.Minute)},
			4,
			"pool counters takes 30 hosts together, of which 5 a minute begin; a clone takes about 3 min, so 15 are " +
				"cloned at a time; 4 can be cloned from a copy at a time",
		},
		{
			delivery.Cloning{[]delivery.Taking{few, many}, 4, seen(time.Hour)},
			8,
			"pool counters takes 30 hosts together; 4 can be cloned from a copy at a time",
		},
		{
			delivery.Cloning{[]delivery.Taking{few, many}, 4, seen(time.Second)},
			1,
			"pool office takes 2 hosts together, of which 20 a minute begin; a clone takes a few seconds, so 1 is " +
				"cloned at a time; 4 can be cloned from a copy at a time",
		},
	} {
		require.Equal(t, delivery.Proposal{Copies: tc.copies, Why: tc.why}, tc.cloning.Propose())
	}
}

// TestNoCopyIsProposedThatNobodyClonesFrom checks that what is proposed lets all that begin be cloned, and that one
// fewer would not.
func TestANumberOfCopiesIsNotLoweredForTimesThatVary(t *testing.T) {
	t.Parallel()
	c := delivery.Cloning{
		Takings: []delivery.Taking{{Pool: "counters", Batch: 40, PerMinute: 2}}, ClonesPerCopy: 4,
	}
	var were int
	for _, times := range []struct {
		clone time.Duration
		want  int
	}{{6 * time.Minute, 3}, {7 * time.Minute, 4}, {6 * time.Minute, 4}, {5 * time.Minute, 3}, {3 * time.Minute, 2}} {
		c.Clone = delivery.Seen{Time: times.clone, Of: 50}
		p := c.ProposeAfter(were)
		require.Equal(t, times.want, p.Copies, "after %d, at %s", were, times.clone)
		were = p.Copies
	}
	c.Clone.Time = 6 * time.Minute
	require.Contains(t, c.ProposeAfter(4).Why, "; it stays at 4, as clone times vary")
	c.Takings[0].Batch = 4 // has nothing to do with how long a clone takes
	require.Equal(t, 1, c.ProposeAfter(4).Copies)
}

func TestNoCopyIsProposedThatNobodyClonesFrom(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		take := delivery.Taking{
			Pool: "p", Batch: rapid.IntRange(1, 300).Draw(t, "batch"),
			PerMinute: rapid.IntRange(1, 60).Draw(t, "starts"),
		}
		c := delivery.Cloning{
			Takings: []delivery.Taking{take}, ClonesPerCopy: rapid.IntRange(1, 10).Draw(t, "clones per copy"),
			Clone: delivery.Seen{Time: time.Duration(rapid.IntRange(1, 3600).Draw(t, "clone")) * time.Second, Of: 5},
		}
		n := c.Propose().Copies
		require.Positive(t, n)
		atOnce := min(float64(take.Batch), max(1, float64(take.PerMinute)*c.Clone.Time.Minutes()))
		if n < delivery.MostCopies {
			require.GreaterOrEqual(t, float64(n*c.ClonesPerCopy), atOnce)
		}
		require.Less(t, float64((n-1)*c.ClonesPerCopy), atOnce)
	})
}

func TestLengthsOfTimeAreSaidAsPeopleDo(t *testing.T) {
	t.Parallel()
	for d, want := range map[time.Duration]string{
		0: "a few seconds", 44 * time.Second: "about 40 s", 90 * time.Second: "about 2 min",
		59*time.Minute + 20*time.Second: "about 59 min", 61 * time.Minute: "about 1 h",
		150 * time.Minute: "about 2 h 30 min",
		49 * time.Hour:    "about 2 days",
	} {
		require.Equal(t, want, delivery.About(d))
	}
}
