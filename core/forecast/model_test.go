package forecast

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nimblepane/core/host"
	"nimblepane/core/rollover"
)

var start = time.Date(2026, 11, 23, 17, 0, 0, 0, time.UTC)

func randomSettings(t *rapid.T) Settings {
	minutes := func(name string, lo, hi int) time.Duration {
		return time.Duration(rapid.IntRange(lo, hi).Draw(t, name)) * time.Minute
	}
	chance := func(name string, most int) float64 {
		return float64(rapid.IntRange(0, most).Draw(t, name)) / 100
	}
	return Settings{
		Hosts:             rapid.IntRange(1, 30).Draw(t, "hosts"),
		SeatsPerHost:      rapid.IntRange(1, 8).Draw(t, "seats"),
		Copies:            rapid.IntRange(1, 3).Draw(t, "copies"),
		ClonesEach:        rapid.IntRange(1, 4).Draw(t, "clones each"),
		StartsPerMinute:   rapid.IntRange(1, 10).Draw(t, "starts"),
		Heartbeat:         30 * time.Second,
		CloneTime:         minutes("clone", 1, 20),
		CheckTime:         minutes("check", 1, 5),
		ArrivalsPerMinute: float64(rapid.IntRange(0, 40).Draw(t, "arrivals")) / 10,
		Stay:              minutes("stay", 1, 240),
		Closing:           minutes("closing", 1, 600),
		CloneFails:        chance("clone fails", 20),
		CheckFails:        chance("check fails", 20),
		FallsSilent:       chance("silent", 3) / 50,
		SpeaksAgain:       minutes("speaks again", 1, 30),
		IgnoresSignOff:    chance("ignores", 30),
		Mend:              minutes("mend", 30, 120),
	}
}

func randomPlan(t *rapid.T, s Settings) rollover.Plan {
	o := rollover.DefaultOptions
	o.Batch = rollover.Share{Value: rapid.IntRange(1, 100).Draw(t, "batch"), Percent: true}
	o.Floor = rollover.Share{Value: rapid.IntRange(0, (s.Hosts-1)*s.SeatsPerHost).Draw(t, "floor")}
	o.LogOff = rapid.SampledFrom([]rollover.LogOff{rollover.Wait, rollover.Warn}).Draw(t, "log-off")
	o.Grace = time.Duration(rapid.IntRange(1, 30).Draw(t, "grace")) * time.Minute
	o.Observe = time.Duration(rapid.IntRange(0, 30).Draw(t, "observe")) * time.Minute
	o.Budget = rapid.IntRange(0, 5).Draw(t, "budget")
	if o.LogOff == rollover.Wait && rapid.Bool().Draw(t, "has deadline") {
		o.Deadline = time.Duration(rapid.IntRange(1, 120).Draw(t, "deadline")) * time.Minute
	}
	pool := rollover.Pool{Hosts: s.Hosts, SeatsPerHost: s.SeatsPerHost}
	require.NoError(t, o.Check(pool))
	return o.Plan(pool)
}

// watch asserts the rules that concern hosts for one decision, from the truth
// as it was before its actions were carried out.
func watch(t *rapid.T, m *Model, before rollover.State, hosts []rollover.Host, truth []Machine,
	actions []rollover.Action,
) {
	for _, a := range actions {
		if a.Host == 0 {
			continue
		}
		h, real := hosts[a.Host-1], truth[a.Host-1]
		if to, changes := a.HostState(); changes {
			require.True(t, h.State.CanBecome(to), "%s of %s, which is %s", a.Kind, h.Name, h.State)
		}
		switch a.Kind {
		case rollover.Rebuild:
			require.Empty(t, real.People, "%s was rebuilt with people on it", h.Name)
			fresh := m.Now.Sub(h.Seen) <= m.Plan.Limits.Silent
			require.True(t, !h.Machine || h.Unserved || h.Confirmed && fresh || h.Vouched.After(h.Seen),
				"%s was rebuilt on stale word", h.Name)
		case rollover.SignOff:
			for _, key := range a.Sessions {
				for _, s := range h.Sessions {
					if s.Key == key {
						require.False(t, s.Warned.IsZero(), "a session was signed off unwarned")
						require.GreaterOrEqual(t, m.Now.Sub(s.Warned), m.Plan.Grace)
						require.False(t, s.Warned.Before(m.Plan.ResumedAt))
					}
				}
			}
		case rollover.DrainHost:
			free := 0
			for _, k := range m.Known.Hosts {
				if k.State == host.Serving && m.Now.Sub(k.Seen) <= m.Plan.Limits.Silent {
					free += k.Seats - len(k.Sessions)
				}
			}
			require.GreaterOrEqual(t, free, m.Plan.Floor, "draining %s broke the floor", h.Name)
		}
		if before == rollover.Paused || before == rollover.Stopped {
			require.NotContains(t, []rollover.ActionKind{
				rollover.DrainHost, rollover.WarnHost, rollover.SignOff,
				rollover.Rebuild,
			}, a.Kind)
		}
	}
	for i, h := range m.Known.Hosts {
		if h.State == host.Serving {
			require.True(t, h.Machine && m.Truth[i].On, "%s is in service without a machine", h.Name)
			require.False(t, h.Unserved, "%s is in service and was never checked", h.Name)
			require.True(t, h.Vouched.IsZero(), "%s is in service with a word that it is empty", h.Name)
		}
		if h.Phase == rollover.Done {
			require.Equal(t, m.Plan.Target, h.Version, "%s is done", h.Name)
		}
	}
	require.LessOrEqual(t, m.Cloning(), m.Settings.Copies*m.Settings.ClonesEach)
	require.LessOrEqual(t, len(m.Starts), m.Settings.StartsPerMinute)
}

// step plays one step and checks the rules.
func step(t *rapid.T, m *Model) []rollover.Action {
	busy := make([]int, len(m.Truth))
	for i := range m.Truth {
		busy[i] = len(m.Truth[i].People)
		m.Known.Hosts[i].Sessions = append([]rollover.Session(nil), m.Known.Hosts[i].Sessions...)
	}
	refused := make([]bool, len(m.Truth))
	for i := range m.Truth {
		refused[i] = m.Truth[i].Refuses
	}
	m.Step(20 * time.Second)
	for i := range m.Truth {
		if refused[i] && m.Truth[i].Refuses {
			require.LessOrEqual(t, len(m.Truth[i].People), busy[i], "a draining host was given a session")
		}
	}
	hosts := append([]rollover.Host(nil), m.Known.Hosts...)
	truth := append([]Machine(nil), m.Truth...)
	before := m.Plan.State
	actions := m.Decide()
	watch(t, m, before, hosts, truth, actions)
	return actions
}

func TestRulesHoldAndEveryRolloverEnds(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		s := randomSettings(t)
		m := New(s, randomPlan(t, s), start, rapid.Uint64().Draw(t, "seed"))
		m.Decide()
		for range 20_000 {
			if m.Settled {
				break
			}
			step(t, m)
			if m.Plan.State == rollover.Paused {
				m.Resume()
			}
		}
		require.Equal(t, rollover.Finished, m.Plan.State, "the rollover did not end: %v", m.Holds)
		for i, h := range m.Known.Hosts {
			require.True(t, h.Phase.Settled(), "%s ended as %s", h.Name, h.Phase)
			require.Contains(t, []host.State{host.Serving, host.Faulty}, h.State, h.Name)
			if h.Phase == rollover.Done {
				require.Equal(t, m.Plan.Target, h.Version)
				require.True(t, m.Truth[i].On)
			}
		}
	})
}

// meddle does one thing that people do to hosts beside a rollover.
func meddle(t *rapid.T, m *Model) {
	i := rapid.IntRange(0, len(m.Known.Hosts)-1).Draw(t, "host")
	switch rapid.IntRange(0, 5).Draw(t, "act") {
	case 0:
		m.Drain(i)
	case 1:
		m.Return(i)
	case 2:
		m.Vouch(i)
	case 3:
		// The machine is gone with everybody on it, and its agent with it.
		m.Truth[i].SilentUntil = m.Now.Add(time.Hour)
	}
}

func TestNoHostIsAGhostHoweverOftenRolloversAreStartedAndStopped(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		s := randomSettings(t)
		m := New(s, randomPlan(t, s), start, rapid.Uint64().Draw(t, "seed"))
		for range rapid.IntRange(1, 5).Draw(t, "rollovers") {
			stopAt := rapid.IntRange(0, 200).Draw(t, "stop after")
			for i := range 20_000 {
				if m.Settled {
					break
				}
				if i%7 == 0 {
					meddle(t, m)
				}
				step(t, m)
				if m.Plan.State == rollover.Paused {
					m.Resume()
				}
				if i >= stopAt && m.Plan.State != rollover.Finished {
					m.Plan.State = rollover.Stopped
				}
			}
			require.True(t, m.Settled, "%v", m.Holds)
			for _, h := range m.Known.Hosts {
				require.True(t, h.Phase == rollover.Outside || h.Phase.Settled(), "%s is %s", h.Name, h.Phase)
				require.True(t, h.Vouched.IsZero(), "the word for %s outlived its rollover", h.Name)
				if h.DrainedBy == "" {
					require.NotContains(t, []host.State{host.Draining, host.Emptied, host.Rebuilding, host.Checking},
						h.State, "%s is left", h.Name)
				}
			}
			m.Grow(rapid.IntRange(0, 10).Draw(t, "grow by"))
			m.Begin(m.Plan)
		}
	})
}

func TestAStoppedRolloverForgetsNoHost(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		s := randomSettings(t)
		m := New(s, randomPlan(t, s), start, rapid.Uint64().Draw(t, "seed"))
		m.Decide()
		stopAt := rapid.IntRange(1, 600).Draw(t, "stop after")
		pauseAt := rapid.IntRange(1, 600).Draw(t, "pause after")
		for i := range 20_000 {
			if m.Settled {
				break
			}
			step(t, m)
			if i == pauseAt && m.Plan.State == rollover.Running {
				m.Plan.State = rollover.Paused
			}
			if i >= stopAt && m.Plan.State != rollover.Finished {
				m.Plan.State = rollover.Stopped
			}
		}
		require.True(t, m.Settled)
		for _, h := range m.Known.Hosts {
			require.True(t, h.Phase.Settled(), "%s is %s", h.Name, h.Phase)
			require.Contains(t, []host.State{host.Serving, host.Faulty}, h.State)
			if h.State == host.Faulty && (h.Unserved || !h.Machine) {
				require.Equal(t, rollover.Failed, h.Phase)
			}
		}
	})
}

func TestAskingTwiceChangesNothing(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		s := randomSettings(t)
		m := New(s, randomPlan(t, s), start, rapid.Uint64().Draw(t, "seed"))
		for range rapid.IntRange(0, 300).Draw(t, "steps") {
			step(t, m)
		}
		first := rollover.Decide(m.Plan, m.Known, m.Now)
		require.Equal(t, first, rollover.Decide(m.Plan, m.Known, m.Now))
	})
}
