package delivery_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nimblepane/core/delivery"
)

var day = time.Date(2026, 11, 28, 0, 0, 0, 0, time.UTC)

func TestALimitHoldsByTheHourOfThePlace(t *testing.T) {
	t.Parallel()
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	l := delivery.Limit{Rate: 10, Hours: []delivery.Hours{
		{From: 20 * 60, To: 6 * 60, Rate: 100, Zone: time.UTC},
		{From: 12 * 60, To: 13*60 + 30, Rate: 0, Zone: lisbon},
	}}
	for clock, want := range map[string]int64{
		"00:00": 100, "05:59": 100, "06:00": 10, "11:59": 10, "12:00": 0, "13:29": 0, "13:30": 10, "19:59": 10,
		"20:00": 100,
	} {
		at, err := time.Parse("15:04", clock)
		require.NoError(t, err)
		require.Equal(t, want, l.At(day.Add(time.Duration(at.Hour()*60+at.Minute())*time.Minute)), clock)
	}
	summer := time.Date(2026, 7, 1, 11, 30, 0, 0, time.UTC) // 12:30 there
	require.Zero(t, l.At(summer))
	whole := delivery.Limit{Rate: 10, Hours: []delivery.Hours{{Rate: 5, Zone: time.UTC}}}
	require.Equal(t, int64(5), whole.At(day))
	require.Zero(t, delivery.Limit{}.At(day))
}

func TestWhatIsAllowedIsShared(t *testing.T) {
	t.Parallel()
	require.Equal(t, int64(50), delivery.Share(100, 0, 2, 9))
	require.Equal(t, int64(10), delivery.Share(100, 90, 2, 9))
	require.Equal(t, int64(50), delivery.Share(100, 900, 2, 9))
	require.Zero(t, delivery.Share(0, 0, 2, 9))
	require.Equal(t, int64(1), delivery.Share(3, 0, 9, 1), "never nothing")
	require.Equal(t, int64(100), delivery.Share(100, 0, 0, 0))
}

func TestThoseThatAreNeededFirstGoFirst(t *testing.T) {
	t.Parallel()
	one := func(key string, need delivery.Need, minute int) delivery.One {
		return delivery.One{Key: key, Line: "harbour", Need: need, Asked: day.Add(time.Duration(minute) * time.Minute)}
	}
	under, stuck, free := one("under", delivery.ForBreath, 0), one("stuck", delivery.ForBuild, 0),
		one("free", delivery.ForUse, 0)
	under.Begun, stuck.Absent, free.Line = true, true, ""
	all := []delivery.One{
		one("breath", delivery.ForBreath, 1), one("use", delivery.ForUse, 3), one("pilot", delivery.ForPilot, 9),
		one("use too", delivery.ForUse, 2), under, stuck, free,
	}
	for key, want := range map[string]int{
		"under": 0, "free": 0, "gone": 0, "pilot": 1, "use too": 2, "use": 3, "breath": 4,
		"stuck": 1, // when its site answers again
	} {
		require.Equal(t, want, delivery.Before(all, key), key)
	}
}

func TestWhatComesTwiceComesOnceOverALine(t *testing.T) {
	t.Parallel()
	one, two := delivery.One{Key: "one", Brings: "desk to quay"}, delivery.One{
		Key: "two", Brings: "desk to quay", Need: delivery.ForBreath,
	}
	all := []delivery.One{two, one, {Key: "other", Brings: "desk to pier"}}
	require.Empty(t, delivery.Follows(all, "one"))
	require.Equal(t, "one", delivery.Follows(all, "two"))
	require.Empty(t, delivery.Follows(all, "other"))
	require.Empty(t, delivery.Follows(all, "gone"))
	all[0].Begun = true
	require.Equal(t, "two", delivery.Follows(all, "one"))
	require.Empty(t, delivery.Follows(all, "two"))
}

// TestNeverMoreThanFitBegin lets any number of processes look at once: whoever begins when fewer go before it than
// may at once, they are never more.
func TestNeverMoreThanFitBegin(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		all := make([]delivery.One, rapid.IntRange(0, 12).Draw(t, "deliveries"))
		for i := range all {
			all[i] = delivery.One{
				Key: fmt.Sprint(i), Line: rapid.SampledFrom([]string{"a", "b"}).Draw(t, "line"),
				Need:  delivery.Need(rapid.IntRange(0, 3).Draw(t, "need")),
				Asked: day.Add(time.Duration(rapid.IntRange(0, 3).Draw(t, "asked")) * time.Minute),
			}
		}
		atOnce := rapid.IntRange(1, 4).Draw(t, "at once")
		for range 3 {
			var begins []int
			for i := range all {
				if !all[i].Begun && delivery.Before(all, all[i].Key) < atOnce {
					begins = append(begins, i)
				}
			}
			for _, i := range begins {
				all[i].Begun = true
			}
			for _, line := range []string{"a", "b"} {
				begun, waiting := 0, 0
				for _, o := range all {
					if o.Line != line {
						continue
					}
					if o.Begun {
						begun++
					} else {
						waiting++
					}
				}
				require.LessOrEqual(t, begun, atOnce)
				require.True(t, waiting == 0 || begun == atOnce, "none waits for nothing")
			}
			for i := range all {
				if all[i].Begun && rapid.Bool().Draw(t, "ends") {
					all = append(all[:i:i], all[i+1:]...)
					break
				}
			}
			if len(all) > 0 {
				continue
			}
			return
		}
	})
}

func TestHowLongItTakesIsToldByHowItWent(t *testing.T) {
	t.Parallel()
	var p delivery.Pace
	_, known := p.Left(1000, 0)
	require.False(t, known)
	p = p.Seen(day, 0)
	for second := range 20 {
		p = p.Seen(day.Add(time.Duration(second+1)*time.Second), int64(100*(second+1)))
	}
	require.InDelta(t, 100, p.Rate, 0.001)
	require.Equal(t, p, p.Seen(p.At, p.Bytes), "twice at once")
	left, known := p.Left(16_000, 4_000) // packed to half
	require.True(t, known)
	require.InDelta(t, 60, left.Seconds(), 0.001)

	slower := p.Seen(p.At.Add(time.Second), p.Bytes+50)
	require.InDelta(t, 85, slower.Rate, 0.001)
	require.Zero(t, p.Seen(p.At.Add(time.Second), 10).Rate, "it began anew")
	stuck := p
	for range 200 {
		stuck = stuck.Seen(stuck.At.Add(time.Minute), stuck.Bytes)
	}
	_, known = stuck.Left(16_000_000, 4_000)
	require.False(t, known, "it does not get on")
}
