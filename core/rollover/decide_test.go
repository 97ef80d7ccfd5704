package rollover

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/core/host"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func plan(change func(*Plan)) Plan {
	p := DefaultOptions.Plan(Pool{Hosts: 4, SeatsPerHost: 4})
	p.State, p.Target, p.BatchSize, p.Floor = Running, 2, 2, 0
	if change != nil {
		change(&p)
	}
	return p
}

func serving(id int64, people int) Host {
	h := Host{
		ID: id, Name: fmt.Sprintf("h-%d", id), State: host.Serving, Version: 1, Machine: true, Seats: 4,
		Phase: Queued, Since: noon, Seen: noon,
	}
	for i := range people {
		h.Sessions = append(h.Sessions, Session{Key: fmt.Sprintf("s%d", i), Person: fmt.Sprintf("person-%d", i)})
	}
	return h
}

func draining(people int) Host {
	h := serving(1, people)
	h.State, h.Phase, h.Batch, h.Confirmed = host.Draining, Draining, 1, true
	return h
}

func snapshot(hosts ...Host) Snapshot {
	return Snapshot{Hosts: hosts, Site: Site{Name: "north-quay", ClonesLeft: 9, StartsLeft: 9}}
}

func kinds(d Decision) (out []ActionKind) {
	for _, a := range d.Actions {
		out = append(out, a.Kind)
	}
	return out
}

func TestTakesTheEmptiestHostsFirstUpToTheBatch(t *testing.T) {
	t.Parallel()
	d := Decide(plan(nil), snapshot(serving(1, 3), serving(2, 0), serving(3, 1), serving(4, 2)), noon)
	require.Equal(t, []Action{{Kind: DrainHost, Host: 2, Batch: 1}, {Kind: DrainHost, Host: 3, Batch: 1}}, d.Actions)
}

func TestFloorCountsPeopleWhoWouldHaveToMove(t *testing.T) {
	t.Parallel()
	hosts := []Host{serving(1, 2), serving(2, 2)} // 4 seats free
	d := Decide(plan(func(p *Plan) { p.Floor = 2 }), snapshot(hosts...), noon)
	require.Len(t, d.Actions, 1, "waiting for people to leave costs one host's free seats")
	d = Decide(plan(func(p *Plan) { p.Floor, p.LogOff = 2, Warn }), snapshot(hosts...), noon)
	require.Empty(t, d.Actions, "signing people off also costs the seats that they move to")
	require.Contains(t, d.Holds[0], "the floor is 2")
}

func TestLifeOfAHost(t *testing.T) {
	t.Parallel()
	warn := func(p *Plan) { p.LogOff, p.Grace, p.LastNotice = Warn, 10*time.Minute, 2*time.Minute }
	told := func(h Host, at time.Time) Host {
		h.Phase, h.Sessions[0].Asked, h.Sessions[0].Warned = Warned, at, at
		return h
	}
	rebuilding := func(w TaskState) Host {
		h := draining(0)
		h.State, h.Phase, h.Machine, h.Unserved, h.Rebuild = host.Rebuilding, Rebuilding, false, true,
			Task{State: w, Why: "no space"}
		return h
	}
	checking := func(stamp int64, w TaskState) Host {
		h := rebuilding(Succeeded)
		h.State, h.Phase, h.Stamp, h.Checks = host.Checking, Checking, stamp, Task{State: w, Why: "printer"}
		return h
	}
	for _, tc := range []struct {
		name  string
		plan  func(*Plan)
		host  Host
		after time.Duration
		want  []ActionKind
		why   string
	}{
		{
			name: "waits for the drain to be confirmed",
			host: func() Host { h := draining(0); h.Confirmed = false; return h }(), after: time.Minute,
		},
		{name: "an unconfirmed drain fails in the end", host: func() Host {
			h := draining(0)
			h.Confirmed, h.Seen = false, noon.Add(11*time.Minute)
			return h
		}(), after: 11 * time.Minute, want: []ActionKind{Fail, Pause}, why: "did not confirm"},
		{
			name: "silence proves nothing", host: draining(0), after: 4 * time.Minute, want: []ActionKind{Fail, Pause},
			why: "silence proves nothing",
		},
		{name: "confirmed and nobody there is empty", host: draining(0), want: []ActionKind{EmptyHost}},
		{name: "wait waits", host: draining(1), after: 2 * time.Minute},
		{name: "warn warns", plan: warn, host: draining(1), want: []ActionKind{WarnHost}},
		{
			name: "a deadline turns wait into warn", plan: func(p *Plan) { p.Deadline = time.Minute },
			host:  draining(1),
			after: time.Minute, want: []ActionKind{WarnHost},
		},
		{name: "the grace period is kept", plan: warn, host: told(draining(1), noon.Add(-7*time.Minute))},
		{
			name: "the last notice comes before the end", plan: warn, host: told(draining(1), noon.Add(-8*time.Minute)),
			want: []ActionKind{Remind},
		},
		{
			name: "then the session is ended", plan: warn, host: told(draining(1), noon.Add(-10*time.Minute)),
			want: []ActionKind{SignOff},
		},
		{
			name: "a warning from before a pause counts no more", plan: func(p *Plan) { warn(p); p.ResumedAt = noon },
			host: told(draining(1), noon.Add(-10*time.Minute)), want: []ActionKind{WarnHost},
		},
		{name: "a session that will not end fails the host", plan: warn, host: func() Host {
			h := told(draining(1), noon.Add(-30*time.Minute))
			h.Sessions[0].SignOffFirst, h.Sessions[0].SignOffLast = noon.Add(-11*time.Minute), noon.Add(-time.Second)
			return h
		}(), want: []ActionKind{Fail, Pause}, why: "could not be ended"},
		{name: "an emptied host is rebuilt", host: func() Host {
			h := draining(0)
			h.State, h.Phase = host.Emptied,
				Emptied
			return h
		}(), want: []ActionKind{Rebuild}},
		{
			name: "one that was silent meanwhile is emptied again first",
			host: func() Host { h := draining(0); h.Phase = Emptied; return h }(), want: []ActionKind{EmptyHost},
		},
		{
			name: "unless somebody is there again", host: func() Host {
				h := draining(1)
				h.Phase = Emptied
				return h
			}(),
			want: []ActionKind{Refill},
		},
		{
			name: "or its agent fell silent", host: func() Host { h := draining(0); h.Phase = Emptied; return h }(),
			after: 4 * time.Minute, want: []ActionKind{Fail, Pause}, why: "before its disk",
		},
		{name: "cloning takes its time", host: rebuilding(UnderWay), after: time.Hour},
		{
			name: "but not for ever", host: rebuilding(UnderWay), after: 3 * time.Hour, want: []ActionKind{Fail, Pause},
			why: "was not ready",
		},
		{
			name: "a clone that fails says why", host: rebuilding(Broken), want: []ActionKind{Fail, Pause},
			why: "no space",
		},
		{name: "a clone that is there is started", host: rebuilding(Succeeded), want: []ActionKind{BootHost}},
		{
			name: "it is checked", host: func() Host {
				h := checking(2,
					UnderWay)
				h.State = host.Starting
				return h
			}(),
			want: []ActionKind{CheckHost},
		},
		{name: "when its agent speaks", host: func() Host {
			h := checking(0, UnderWay)
			h.State, h.Seen = host.Starting,
				time.Time{}
			return h
		}()},
		{name: "even if it passed already", host: func() Host {
			h := checking(2,
				Succeeded)
			h.State = host.Starting
			return h
		}(), want: []ActionKind{CheckHost}},
		{name: "checks that pass put it back", host: checking(2, Succeeded), want: []ActionKind{Return, Finish}},
		{name: "checks that fail do not", host: checking(2, Broken), want: []ActionKind{Fail, Pause}, why: "printer"},
		{
			name: "nor does another version", host: checking(1, Succeeded), want: []ActionKind{Fail, Pause},
			why: "another version",
		},
		{
			name: "checks that never end fail", host: checking(2, UnderWay), after: time.Hour,
			want: []ActionKind{Fail, Pause}, why: "did not end",
		},
	} {
		t.Run(tc.name, func(t *testing.T) {
			t.Parallel()
			p := plan(func(p *Plan) {
				p.Budget = 0
				if tc.plan != nil {
					tc.plan(p)
				}
			})
			d := Decide(p, snapshot(tc.host), noon.Add(tc.after))
			got := kinds(d)
			// A returned host is still in flight in this snapshot: the finish comes with the next.
			if len(got) == 1 && got[0] == Return {
				got = append(got, Finish)
			}
			require.Equal(t, tc.want, got)
			if tc.why != "" {
				require.Contains(t, d.Actions[0].Why, tc.why)
			}
		})
	}
}

func TestBatchesFollowOneAnotherAfterTheWatch(t *testing.T) {
	t.Parallel()
	done := serving(1, 0)
	done.Phase, done.Batch, done.Version = Done, 1, 2
	p := plan(func(p *Plan) { p.Observe = 5 * time.Minute })
	d := Decide(p, snapshot(done, serving(2, 0)), noon.Add(time.Minute))
	require.Empty(t, d.Actions)
	require.Contains(t, d.Holds[0], "observing batch 1 until 12:05:00")
	late := serving(2, 0)
	late.Seen = noon.Add(5 * time.Minute)
	d = Decide(p, snapshot(done, late), noon.Add(5*time.Minute))
	require.Equal(t, []Action{{Kind: DrainHost, Host: 2, Batch: 2}}, d.Actions)
}

func TestSiteLimitsCloningAndStarts(t *testing.T) {
	t.Parallel()
	var hosts []Host
	for i := range 4 {
		h := draining(0)
		h.ID, h.State, h.Phase = int64(i+1), host.Emptied, Emptied
		hosts = append(hosts, h)
	}
	s := snapshot(hosts...)
	s.Site.ClonesLeft, s.Site.StartsLeft = 3, 2
	d := Decide(plan(nil), s, noon)
	require.Equal(t, []ActionKind{Rebuild, Rebuild}, kinds(d))
	s.Site.ClonesLeft, s.Site.NoCopy = 0, "no copy of it is at north-quay yet"
	d = Decide(plan(nil), s, noon)
	require.Empty(t, d.Actions)
	require.Contains(t, d.Holds[0], "no copy of it is at north-quay yet")
}

func TestStoppingPutsBackWhatHasItsDisk(t *testing.T) {
	t.Parallel()
	wiped := draining(0)
	wiped.ID, wiped.Phase, wiped.Rebuild.State = 2, Rebuilding, UnderWay
	emptied := draining(0)
	emptied.ID, emptied.Phase = 3, Emptied
	p := plan(func(p *Plan) { p.State = Stopped })
	d := Decide(p, snapshot(draining(1), wiped, emptied, serving(4, 0)), noon)
	require.Equal(t, []ActionKind{Release, Release, Leave}, kinds(d))
	left := serving(4, 0)
	left.Phase = Left
	require.Empty(t, Decide(p, snapshot(wiped, left), noon).Actions)
	require.Equal(t, []ActionKind{Settle}, kinds(Decide(p, snapshot(left), noon)))
}

func TestWhatCannotBeTakenIsLeftWithItsReason(t *testing.T) {
	t.Parallel()
	byHand := serving(1, 0)
	byHand.State, byHand.DrainedBy = host.Emptied, "Ida Strand"
	faulty := serving(2, 0)
	faulty.State = host.Faulty
	there := serving(3, 0)
	there.Version = 2
	d := Decide(plan(nil), snapshot(byHand, faulty, there), noon)
	require.Equal(t, []ActionKind{Leave, Leave, Leave}, kinds(d))
	why := d.Actions[0].Why + d.Actions[1].Why + d.Actions[2].Why
	require.Contains(t, why, "already")
	require.Contains(t, why, "Ida Strand")
	require.Contains(t, why, "silent")
}

func TestHostsWithoutAMachineAreJustBuilt(t *testing.T) {
	t.Parallel()
	off := Host{ID: 1, Name: "h-1", State: host.Off, Seats: 4, Phase: Queued}
	d := Decide(plan(func(p *Plan) { p.Floor = 4 }), snapshot(off), noon)
	require.Equal(t, []ActionKind{EmptyHost}, kinds(d))
}

func TestAHostThatIsLetGoOfIsInServiceOnlyWithAMachineForPeople(t *testing.T) {
	t.Parallel()
	emptied := func(change func(*Host)) Host {
		h := draining(0)
		h.State, h.Phase = host.Emptied, Emptied
		change(&h)
		return h
	}
	for name, tc := range map[string]struct {
		host Host
		want host.State
	}{
		"its old disk":             {emptied(func(*Host) {}), host.Serving},
		"no machine":               {emptied(func(h *Host) { h.Machine = false }), host.Off},
		"a machine, never checked": {emptied(func(h *Host) { h.Unserved = true }), host.Faulty},
		"silent, and vouched for": {
			emptied(func(h *Host) { h.Seen, h.Vouched = noon.Add(-time.Hour), noon }),
			host.Faulty,
		},
		"silent":              {emptied(func(h *Host) { h.Seen = noon.Add(-time.Hour) }), host.Faulty},
		"vouched for, speaks": {emptied(func(h *Host) { h.Vouched = noon.Add(-time.Minute) }), host.Serving},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d := Decide(plan(func(p *Plan) { p.State = Stopped }), snapshot(tc.host), noon)
			require.Equal(t, []ActionKind{Release}, kinds(d))
			require.Equal(t, tc.want, d.Actions[0].Rest)
		})
	}
}

func TestAPersonsWordCountsUntilTheAgentSpeaks(t *testing.T) {
	t.Parallel()
	vouchedFor := func(seen time.Duration, people int) Host {
		h := serving(1, people)
		h.State, h.Seen, h.Vouched = host.Faulty, noon.Add(seen), noon.Add(-time.Minute)
		return h
	}
	require.Equal(t, []ActionKind{EmptyHost}, kinds(Decide(plan(nil), snapshot(vouchedFor(-time.Hour, 2)), noon)))
	waiting := vouchedFor(-time.Hour, 2)
	waiting.State, waiting.Phase = host.Emptied, Emptied
	require.Equal(t, []ActionKind{Rebuild}, kinds(Decide(plan(nil), snapshot(waiting), noon)))
	waiting.Seen = noon
	require.Equal(t, []ActionKind{Refill}, kinds(Decide(plan(nil), snapshot(waiting), noon)),
		"people are on it after all")
	waiting.Sessions = nil
	require.Empty(t, Decide(plan(nil), snapshot(waiting), noon).Actions, "it speaks, so it is asked")
	waiting.Confirmed = true
	require.Equal(t, []ActionKind{Rebuild}, kinds(Decide(plan(nil), snapshot(waiting), noon)))
	waiting.Confirmed, waiting.Seen = false, noon.Add(11*time.Minute)
	require.Equal(t, []ActionKind{Fail, Pause}, kinds(Decide(plan(func(p *Plan) { p.Budget = 0 }), snapshot(waiting),
		noon.Add(11*time.Minute))))
	spoke := vouchedFor(-30*time.Second, 1)
	require.Equal(t, []ActionKind{Leave}, kinds(Decide(plan(nil), snapshot(spoke), noon.Add(10*time.Minute))),
		"it spoke after the word was given, and silence proves nothing")
	unserved := draining(1)
	unserved.Phase, unserved.Unserved = Emptied, true
	require.Equal(t, []ActionKind{Refill}, kinds(Decide(plan(nil), snapshot(unserved), noon)),
		"a session there is beats what should be")
}

func TestOptionsAreCheckedAllAtOnce(t *testing.T) {
	t.Parallel()
	o := DefaultOptions
	o.Batch, o.Floor, o.LogOff, o.Stagger, o.Budget = Share{101, true}, Share{100, true}, "shove", -1, -1
	err := o.Check(Pool{Hosts: 4, SeatsPerHost: 4})
	for _, want := range []string{
		"batch of 101%", "at most 12 can be free", "shove", "stagger of -1",
		"failure budget of -1",
	} {
		require.ErrorContains(t, err, want)
	}
	o = DefaultOptions
	o.Batch = Share{0, false}
	require.ErrorContains(t, o.Check(Pool{Hosts: 4, SeatsPerHost: 4}), "a batch has 1 to 4")
	require.NoError(t, DefaultOptions.Check(Pool{Hosts: 4, SeatsPerHost: 4}))
}

// BenchmarkDecide is one decision for 10,000 hosts with 40,000 sessions in the middle of a rollover.
func BenchmarkDecide(b *testing.B) {
	var hosts []Host
	for i := range 10_000 {
		h := serving(int64(i+1), 4)
		h.Seats = 6
		switch {
		case i < 3000:
			h.Phase, h.Batch, h.Version = Done, 1+i/1000, 2
		case i < 4000:
			h.State, h.Phase, h.Batch, h.Confirmed = host.Draining, Draining, 4, true
		}
		hosts = append(hosts, h)
	}
	p := plan(func(p *Plan) { p.BatchSize, p.Floor, p.LogOff = 1500, 5000, Warn })
	s := snapshot(hosts...)
	b.ResetTimer()
	for b.Loop() {
		Decide(p, s, noon)
	}
}
