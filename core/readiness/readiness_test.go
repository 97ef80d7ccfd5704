package readiness_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nimblepane/core/delivery"
	"nimblepane/core/forecast"
	"nimblepane/core/image"
	"nimblepane/core/readiness"
	"nimblepane/core/rollover"
)

var now = time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)

func ago(d time.Duration) *time.Time {
	t := now.Add(-d)
	return &t
}

// ready is an image that can go back at its one site.
func ready() readiness.Situation {
	return readiness.Situation{
		Image: "desk", Live: "2026.11.2", Fallback: "2026.11.1", Now: now,
		Sites: []readiness.Site{{
			Name: "north", PerMinute: 10, ClonesPerCopy: 4, Clone: delivery.Seen{Time: 2 * time.Minute, Of: 9},
			Host:   delivery.Seen{Time: 5 * time.Minute, Of: 9},
			Copies: []readiness.Copy{{Ordinal: 1, State: image.CopyPresent, Read: ago(time.Hour)}},
		}},
		Pools: []readiness.Pool{{
			Name: "counters", Site: "north", Hosts: 8, Plan: rollover.Plan{BatchSize: 4, LogOff: rollover.Wait},
		}},
	}
}

func TestWhatIsThereCanBeGoneBackTo(t *testing.T) {
	t.Parallel()
	s := ready()
	a := s.Judge()
	require.True(t, a.Ready)
	require.Equal(t, 10*time.Minute, a.Takes, "two batches of four that are cloned together")
	require.Equal(t, []readiness.PoolAnswer{{
		Pool: "counters", Site: "north", Hosts: 8, Ready: true, Takes: 10 * time.Minute, ReadAt: ago(time.Hour),
	}}, a.Pools)
	require.Equal(t, "Going back to 2026.11.1 takes about 10 min for 8 hosts, and the time that people take to leave.",
		a.Sentence())

	s.Pools[0].Hosts = 0
	a = s.Judge()
	require.True(t, a.Ready)
	require.Zero(t, a.Takes)
	require.Equal(t, "Going back to 2026.11.1 is possible, and no host has to change.", a.Sentence())

	s = ready()
	s.Sites[0].Host = delivery.Seen{}
	a = s.Judge()
	require.True(t, a.Ready)
	require.Equal(t, []string{"no host came back into service at north yet: how long it takes is not known"},
		a.Pools[0].But)
	require.Equal(t, "Going back to 2026.11.1 is possible for 8 hosts; how long it takes was not seen yet.",
		a.Sentence())

	// What was seen elsewhere is the least that it takes.
	s = ready()
	s.Sites = append(s.Sites, s.Sites[0])
	s.Sites[1].Name, s.Sites[1].Host = "south", delivery.Seen{}
	s.Pools = append(s.Pools, readiness.Pool{Name: "office", Site: "south", Hosts: 2, Plan: s.Pools[0].Plan})
	a = s.Judge()
	require.Equal(t, []string{"south"}, a.Unseen)
	require.Equal(t, "Going back to 2026.11.1 takes about 10 min or more for 10 hosts, and the time that people take "+
		"to leave; how long it takes at south was not seen yet.", a.Sentence())
}

func TestWhatIsNotThereIsSaid(t *testing.T) {
	t.Parallel()
	copyIs := func(c readiness.Copy) func(*readiness.Situation) {
		return func(s *readiness.Situation) { s.Sites[0].Copies = []readiness.Copy{c} }
	}
	for want, change := range map[string]func(*readiness.Situation){
		"Going back is not possible: no version was ever live.": func(s *readiness.Situation) { s.Live = "" },
		"Going back is not possible: there is no version to go back to.": func(s *readiness.Situation) {
			s.Fallback = ""
		},
		"Going back is not possible: it is barred.": func(s *readiness.Situation) { s.Unusable = "it is barred" },
		": no copy of 2026.11.1 is at north":        func(s *readiness.Situation) { s.Sites[0].Copies = nil },
		": site north does not answer: it burns": func(s *readiness.Situation) {
			s.Sites[0].Silent = "it " +
				"burns"
		},
		": no copy of 2026.11.1 is at south": func(s *readiness.Situation) { s.Pools[0].Site = "south" },
		": copy 1 at north is on its way": copyIs(readiness.Copy{
			Ordinal: 1,
			State:   image.CopyDelivering,
		}),
		": no copy of 2026.11.1 is at north.": copyIs(readiness.Copy{Ordinal: 1, State: image.CopyDeleted}),
		": copy 2 at north was read last 3 days ago": copyIs(readiness.Copy{
			Ordinal: 2,
			State:   image.CopyPresent, Read: ago(72*time.Hour + time.Second),
		}),
		": copy 1 at north was not read yet": copyIs(readiness.Copy{Ordinal: 1, State: image.CopyPresent}),
		": copy 1 at north cannot be used: it was bent": copyIs(readiness.Copy{
			Ordinal: 1,
			State:   image.CopyFailed, Failure: "it was bent",
		}),
	} {
		s := ready()
		change(&s)
		a := s.Judge()
		require.False(t, a.Ready, want)
		require.Contains(t, a.Sentence(), want)
	}
	// One that is intact is enough, and the other is said.
	s := ready()
	s.Sites[0].Copies = append(s.Sites[0].Copies, readiness.Copy{
		Ordinal: 2, State: image.CopyFailed,
		Failure: "it was bent",
	})
	a := s.Judge()
	require.True(t, a.Ready)
	require.Equal(t, []string{"copy 2 at north cannot be used: it was bent"}, a.Pools[0].But)
	s.Pools = append(s.Pools, readiness.Pool{Name: "office", Site: "south", Hosts: 1})
	a = s.Judge()
	require.False(t, a.Ready)
	require.Equal(t, "Going back to 2026.11.1 is not possible everywhere: pool office: no copy of 2026.11.1 is at "+
		"south.",
		a.Sentence())
}

func TestPeopleAreTakenIntoAccount(t *testing.T) {
	t.Parallel()
	s := ready()
	p := &s.Pools[0]
	p.People = 1
	a := s.Judge()
	require.Equal(t, "1 person is signed in there now, and waited for, however long they stay", a.Pools[0].People)
	require.Equal(t, 10*time.Minute, a.Takes)
	p.People, p.Plan.LogOff, p.Plan.Grace = 3, rollover.Warn, 15*time.Minute
	a = s.Judge()
	require.Equal(t, "3 people are signed in there now, and warned; they are signed off about 15 min later",
		a.Pools[0].People)
	require.Equal(t, 40*time.Minute, a.Takes)
	p.Plan.LogOff, p.Plan.Deadline = rollover.Wait, time.Hour
	a = s.Judge()
	require.Equal(t, "3 people are signed in there now, and waited for; after about 1 h they are warned, and signed "+
		"off about 15 min later", a.Pools[0].People)
	require.Equal(t, 160*time.Minute, a.Takes)
	p.People, p.Plan.Observe, p.PerMinute = 0, 7*time.Minute, 1
	require.Equal(t, 23*time.Minute, s.Judge().Takes, "observed once, and started one a minute")
}

func TestPoolsOfASiteShareWhatItHas(t *testing.T) {
	t.Parallel()
	s := ready()
	p := s.Pools[0]
	s.Pools = nil
	for range 10 {
		s.Pools = append(s.Pools, p)
	}
	require.Equal(t, 19*2*time.Minute+5*time.Minute, s.Judge().Takes, "four of eighty at a time")
}

// TestItTakesAsLongAsTheDecisionsHaveItTake plays rollovers of pools that nobody is on with the decisions themselves.
func TestItTakesAsLongAsTheDecisionsHaveItTake(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		copies, each := rapid.IntRange(1, 3).Draw(t, "copies"), rapid.IntRange(1, 5).Draw(t, "clones per copy")
		perMinute := rapid.IntRange(1, 10).Draw(t, "starts per minute")
		clone := time.Duration(rapid.IntRange(30, 300).Draw(t, "clone")) * time.Second
		check := time.Duration(rapid.IntRange(30, 120).Draw(t, "check")) * time.Second
		hosts := rapid.IntRange(1, 40).Draw(t, "hosts")
		plan := rollover.Options{
			Batch: rollover.Share{Value: rapid.IntRange(1, hosts).Draw(t, "batch")}, LogOff: rollover.Wait,
			Observe: time.Duration(rapid.IntRange(0, 5).Draw(t, "observe")) * time.Minute,
		}.Plan(rollover.Pool{Hosts: hosts, SeatsPerHost: 1})

		s := ready()
		site := &s.Sites[0]
		site.PerMinute, site.ClonesPerCopy = perMinute, each
		// A host speaks once it is started, and after its checks.
		site.Clone, site.Host = delivery.Seen{Time: clone, Of: 1},
			delivery.Seen{Time: clone + check + time.Minute, Of: 1}
		for len(site.Copies) < copies {
			site.Copies = append(site.Copies, site.Copies[0])
		}
		s.Pools[0].Hosts, s.Pools[0].Plan = hosts, plan
		said := s.Judge().Takes

		m := forecast.New(forecast.Settings{
			Hosts: hosts, SeatsPerHost: 1, Copies: copies, ClonesEach: each, StartsPerMinute: perMinute,
			Heartbeat: 30 * time.Second, CloneTime: clone, CheckTime: check,
		}, plan, now, rapid.Uint64().Draw(t, "seed"))
		for !m.Settled {
			m.Step(5 * time.Second)
			m.Decide()
			require.Less(t, m.Now.Sub(now), 7*24*time.Hour, m.Holds)
		}
		took := m.Now.Sub(now)
		require.Less(t, said, 2*took+2*time.Minute)
		require.Less(t, took, 2*said+2*time.Minute)
	})
}
