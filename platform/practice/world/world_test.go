package world

import (
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/agent"
	"nimblepane/platform"
)

// quay is a world with one site and a copy of a disk, at a time of one's own.
func quay(t *testing.T, crowds string) *World {
	t.Helper()
	s, err := ParseScenario([]byte("seed: 9\nstart: 2026-11-23T10:00:00Z\nsites: [{name: a, clones-per-copy: 2, " +
		"knobs: {clone: 4m, boot: 1m}}]\n" + crowds))
	require.NoError(t, err)
	w, err := New(s, "", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	w.state.Sites["a"].Copies["c"] = disk{Digest: "sha256:1", Stamp: "desk 1", MachineClass: "standard"}
	return w
}

func rebuild(host string) platform.Operation { return platform.RebuildHost.Of(made(host)) }

func made(host string) platform.Rebuild {
	return platform.Rebuild{Host: host, Copies: []string{"c"}, Digest: "sha256:1", MachineClass: "standard", Seats: 2}
}

// built makes a machine that has enrolled and takes sessions.
func built(w *World, name string) *machine {
	w.boot("a", made(name), w.state.Sites["a"].Copies["c"], "k-"+name, w.now())
	m := w.state.Machines[name]
	m.Credential, m.Drain = "x", 0
	return m
}

func TestStorageAllowsOnlySoManyClonesAtOnce(t *testing.T) {
	t.Parallel()
	w := quay(t, "")
	require.NoError(t, w.start("a", "1", rebuild("h-1")))
	require.NoError(t, w.start("a", "1", rebuild("h-1")), "the same key is the same clone")
	require.NoError(t, w.start("a", "2", rebuild("h-2")))
	require.ErrorContains(t, w.start("a", "3", rebuild("h-3")),
		"storage is overrun: 3 clones of c at once, it allows 2")
	require.ErrorContains(t, w.start("a", "4", rebuild("h-1")), "under another key")
	require.ErrorContains(t, w.start("b", "5", rebuild("h-1")), `no site "b"`)
}

func TestRebuildingEndsEverybodysSession(t *testing.T) {
	t.Parallel()
	w := quay(t, "crowds: [{hosts: h-, people: 2, shifts: [\"00:00-23:59\"]}]\n")
	built(w, "h-1")
	w.people(w.now())
	require.Len(t, w.state.Machines["h-1"].Sessions, 2)
	require.NoError(t, w.start("a", "1", rebuild("h-1")))
	require.NotContains(t, w.state.Machines, "h-1")
	for _, p := range w.state.People {
		require.Empty(t, p.Host)
		require.True(t, p.NotBefore.After(w.now()), "they try again later")
	}
}

func TestPeopleSignInOnlyWhereSessionsAreTaken(t *testing.T) {
	t.Parallel()
	w := quay(t, "crowds: [{hosts: h-, people: 5, shifts: [\"09:00-17:00\"]}, {hosts: h-, people: 4, shifts: "+
		"[\"18:00-23:00\"]}]\n")
	open, draining, fresh := built(w, "h-1"), built(w, "h-2"), built(w, "h-3")
	draining.Drain, fresh.Drain = 7, refusesUntilTold
	built(w, "other-1")
	w.people(w.now())
	require.Len(t, open.Sessions, 2, "it has two seats")
	require.Empty(t, draining.Sessions)
	require.Empty(t, fresh.Sessions, "a machine that was not told yet takes nobody")
	require.Empty(t, w.state.Machines["other-1"].Sessions)
	for _, s := range open.Sessions {
		require.Equal(t, agent.Active, s.State)
	}
	// After work they leave, or are disconnected for a while and then gone.
	evening := w.now().Add(14 * time.Hour)
	for range 40 {
		evening = evening.Add(10 * time.Minute)
		for _, p := range w.state.People {
			if p.Host != "" && !evening.Before(p.NextMood) {
				w.mood(p, evening)
			}
		}
	}
	require.Empty(t, open.Sessions)
}

func TestAShiftOverMidnightGoesOnTheNextDay(t *testing.T) {
	t.Parallel()
	from, to, err := parseShift("20:00-04:30")
	require.NoError(t, err)
	p := person{From: from, To: to}
	day := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
	for hour, working := range map[int]bool{19: false, 20: true, 23: true, 25: true, 28: true, 29: false} {
		require.Equal(t, working, p.working(day.Add(time.Duration(hour)*time.Hour)), "%d h", hour)
	}
}

func TestSignOffsEndSessionsUnlessTheyCling(t *testing.T) {
	t.Parallel()
	w := quay(t, "crowds: [{hosts: h-, people: 2, shifts: [\"00:00-23:59\"]}]\n")
	m := built(w, "h-1")
	w.people(w.now())
	m.Sessions[1].Clings = true
	first, second := m.Sessions[0].Key, m.Sessions[1].Key
	w.signOff(m, first, w.now())
	w.signOff(m, second, w.now())
	w.signOff(m, "nobody's", w.now())
	require.Len(t, m.Sessions, 1)
	require.Equal(t, second, m.Sessions[0].Key)
}

func TestAnAgentThatIsAnsweredObeys(t *testing.T) {
	t.Parallel()
	w := quay(t, "crowds: [{hosts: h-, people: 1, shifts: [\"00:00-23:59\"]}]\n")
	m := built(w, "h-1")
	w.people(w.now())
	b := beat{machine: "h-1", boot: m.Boot}
	w.answered(b, agent.Answer{
		NextMillis: 500, Drain: 3, Check: 4,
		Orders: []agent.Order{
			{ID: 8, Kind: "tell", Session: m.Sessions[0].Key},
			{ID: 9, Kind: "sign-off", Session: m.Sessions[0].Key},
		},
	}, nil)
	require.EqualValues(t, 3, m.Drain)
	require.Equal(t, agent.ChecksUnderWay, m.CheckState)
	require.Equal(t, []int64{8, 9}, m.Done)
	require.Empty(t, m.Sessions)
	w.answered(beat{machine: "h-1", boot: "an earlier machine"}, agent.Answer{Drain: 99}, nil)
	require.EqualValues(t, 3, m.Drain, "an answer for the machine before is not for this one")
	w.answered(b, agent.Answer{}, agent.ErrRefused)
	require.True(t, m.Dead)
}

func TestNamesOfPeopleAreTheirOwn(t *testing.T) {
	t.Parallel()
	seen := map[string]bool{}
	for n := range 2000 {
		name := personName(n)
		require.False(t, seen[name], name)
		seen[name] = true
	}
}

func TestTheClockRunsAtItsRate(t *testing.T) {
	t.Parallel()
	real := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	c := Clock{Shows: real, At: real, Rate: 60}
	require.Equal(t, real.Add(time.Hour), c.Now(real.Add(time.Minute)))
	slower := c.Set(1, real.Add(time.Minute))
	require.Equal(t, real.Add(time.Hour+time.Second), slower.Now(real.Add(time.Minute+time.Second)),
		"it goes on from what it showed")
}
