package rollover

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/core/host"
)

// decided is one decision about hosts of which all but what a test is about is usual.
func decided(change func(*Plan), at time.Duration, hosts ...Host) Decision {
	return Decide(plan(change), snapshot(hosts...), noon.Add(at))
}

// flying is a host in the phase, with its people, heard just now.
func flying(phase Phase, people int, change func(*Host)) Host {
	h := draining(people)
	h.Phase = phase
	switch phase {
	case Emptied:
		h.State = host.Emptied
	case Rebuilding:
		h.State, h.Machine, h.Unserved, h.Rebuild.State = host.Rebuilding, false, true, UnderWay
	case Checking:
		h.State, h.Unserved, h.Stamp, h.Checks.State = host.Checking, true, 2, UnderWay
	}
	if change != nil {
		change(&h)
	}
	return h
}

// idle is a settled host.
func idle(id int64, phase Phase, batch int, since time.Duration) Host {
	h := serving(id, 0)
	h.Phase, h.Batch, h.Since, h.Version = phase, batch, noon.Add(since), 2
	return h
}

func TestARolloverBeginsInItsTime(t *testing.T) {
	t.Parallel()
	waiting := func(p *Plan) { p.State, p.EarliestStart = Waiting, noon }
	d := decided(waiting, -time.Nanosecond, serving(1, 0))
	require.Equal(t, Decision{Holds: []string{"starts at 2026-11-23 12:00 UTC"}}, d)
	require.Equal(t, Decision{Actions: []Action{{Kind: Start}}}, decided(waiting, 0, serving(1, 0)))
	planned := func(p *Plan) { p.State, p.EarliestStart = Planned, noon }
	require.Equal(t, Decision{Actions: []Action{{Kind: Postpone}}, Holds: d.Holds},
		decided(planned, -time.Nanosecond, serving(1, 0)))
	require.Equal(t, Decision{Actions: []Action{{Kind: Start}}}, decided(planned, 0, serving(1, 0)))
	s := snapshot(serving(1, 0))
	s.HeldBy = "rollover 3"
	require.Equal(t, Decision{Holds: []string{"rollover 3 has to end first"}}, Decide(plan(waiting), s, noon))
	require.Equal(t, []Action{{Kind: Postpone}}, Decide(plan(planned), s, noon).Actions)
	require.Equal(t, Decision{}, decided(func(p *Plan) { p.State = Finished }, 0, serving(1, 0)),
		"what is over does nothing")
}

func TestTheBudgetCountsFailuresThatNobodyExcused(t *testing.T) {
	t.Parallel()
	failed, drains, breaks := idle(1, Failed, 1, 0), draining(0),
		flying(Checking, 0, func(h *Host) { h.ID, h.Checks = 3, Task{Broken, "printer"} })
	passes := flying(Checking, 0, func(h *Host) { h.ID, h.Checks.State = 4, Succeeded })
	made := flying(Rebuilding, 0, func(h *Host) { h.ID, h.Rebuild.State = 5, Succeeded })
	drains.ID = 2
	fail := Action{Kind: Fail, Host: 3, Rest: host.Faulty, Why: "its checks failed: printer"}
	goesOn := decided(func(p *Plan) { p.Budget = 2 }, 0, failed, drains, breaks)
	require.Equal(t, []Action{{Kind: EmptyHost, Host: 2, Batch: 1}, fail}, goesOn.Actions,
		"as many as the budget are no reason to pause")
	pauses := decided(func(p *Plan) { p.Budget = 1 }, 0, failed, drains, breaks, passes, made)
	require.Equal(t, []Action{
		fail,
		{Kind: Return, Host: 4},
		{Kind: BootHost, Host: 5},
		{Kind: Pause, Why: "2 hosts failed; the failure budget is 1"},
	}, pauses.Actions,
		"what has its new disk goes on, and nothing else is begun")
	require.Empty(t, pauses.Holds)
	excused := decided(func(p *Plan) { p.Budget, p.Excused = 0, 1 }, 0, failed, drains)
	require.Equal(t, []Action{{Kind: EmptyHost, Host: 2, Batch: 1}}, excused.Actions)
	again := decided(func(p *Plan) { p.Budget, p.Excused = 0, 1 }, 0, failed, breaks)
	require.Equal(t, Action{Kind: Pause, Why: "1 host failed; the failure budget is 0"}, again.Actions[1])
	// A pause in which hosts wait for their site says only why it pauses.
	full := snapshot(breaks, flying(Emptied, 0, nil))
	full.Site.ClonesLeft = 0
	require.Empty(t, Decide(plan(func(p *Plan) { p.Budget = 0 }), full, noon).Holds)
}

func TestAPauseFinishesWhatHasNoDiskAndNothingElse(t *testing.T) {
	t.Parallel()
	paused := func(p *Plan) { p.State, p.LogOff, p.Budget = Paused, Warn, 0 }
	d := decided(paused, 0, draining(0), flying(Warned, 1, nil), flying(Emptied, 0, nil), serving(9, 0),
		flying(Rebuilding, 0, func(h *Host) { h.ID, h.Rebuild.State = 2, Succeeded }),
		flying(Checking, 0, func(h *Host) { h.ID, h.Checks.State = 3, Succeeded }))
	require.Equal(t, Decision{Actions: []Action{{Kind: BootHost, Host: 2}, {Kind: Return, Host: 3}}}, d)
}

func TestAStopSaysWhatBecomesOfEachHost(t *testing.T) {
	t.Parallel()
	stopped := func(p *Plan) { p.State = Stopped }
	d := decided(stopped, 0, serving(9, 0), draining(1), flying(Warned, 1, func(h *Host) { h.Machine = false }),
		flying(Emptied, 0, func(h *Host) { h.Unserved = true }))
	require.Equal(t, Decision{Actions: []Action{
		{Kind: Leave, Host: 9, Why: "the rollover was stopped before its turn"},
		{Kind: Release, Host: 1, Rest: host.Serving, Why: "the rollover was stopped; back to service on its old disk"},
		{Kind: Release, Host: 1, Rest: host.Off, Why: "the rollover was stopped; it has no machine yet"},
		{Kind: Release, Host: 1, Rest: host.Faulty, Why: "the rollover was stopped; it is as faulty as it was"},
	}}, d)
	d = decided(stopped, 0, flying(Rebuilding, 0, nil), flying(Checking, 0, nil), idle(4, Done, 1, 0))
	require.Equal(t, Decision{Holds: []string{"finishing 2 hosts whose disk was gone already"}}, d)
	// What finishes in this very decision is recorded first.
	d = decided(stopped, 0, flying(Checking, 0, func(h *Host) { h.Checks.State = Succeeded }))
	require.Equal(t, []Action{{Kind: Return, Host: 1}}, d.Actions)
	require.Equal(t, []string{"finishing 1 host whose disk was gone already"}, d.Holds)
	require.Equal(t, []Action{{Kind: Settle}}, decided(stopped, 0, idle(1, Done, 1, 0), idle(2, Left, 0, 0),
		idle(3, Failed, 1, 0)).Actions)
}

// TestTimesAreKeptToTheMoment: each limit is met at its moment and passed right after it.
func TestTimesAreKeptToTheMoment(t *testing.T) {
	t.Parallel()
	const tick = time.Nanosecond
	seen := func(at time.Duration) func(*Host) { return func(h *Host) { h.Seen = noon.Add(at) } }
	speaks := func(h *Host) { h.Seen = noon.Add(24 * time.Hour) }
	unconfirmed := func(h *Host) { speaks(h); h.Confirmed = false }
	warn := func(p *Plan) { p.LogOff, p.Grace, p.LastNotice = Warn, 10*time.Minute, 2*time.Minute }
	told := func(change func(*Session)) (h Host) {
		return flying(Warned, 1, func(h *Host) {
			speaks(h)
			s := &h.Sessions[0]
			s.Asked, s.Warned = noon, noon
			if change != nil {
				change(s)
			}
		})
	}
	fails := func(why string, rest host.State) []Action {
		return []Action{{Kind: Fail, Host: 1, Rest: rest, Why: why}}
	}
	one := []string{"s0"}
	for _, tc := range []struct {
		name   string
		plan   func(*Plan)
		host   Host
		at     time.Duration
		before []Action // a moment before
		want   []Action
	}{
		{
			name: "silence while it drains", host: flying(Draining, 1, nil), at: 3*time.Minute + tick,
			want: fails("its agent fell silent while it drained (last heard 12:00:00 UTC); silence proves nothing "+
				"about its sessions, so its disk was left alone", host.Faulty),
		},
		{
			name: "silence of an empty host that drains", host: flying(Draining, 0, nil), at: 3*time.Minute + tick,
			before: []Action{{Kind: EmptyHost, Host: 1, Batch: 1}},
			want: fails("its agent fell silent while it drained (last heard 12:00:00 UTC); silence proves nothing "+
				"about its sessions, so its disk was left alone", host.Faulty),
		},
		{
			name: "silence before the disk is replaced", host: flying(Emptied, 0, nil), at: 3*time.Minute + tick,
			before: []Action{{Kind: Rebuild, Host: 1}},
			want: fails("its agent fell silent before its disk could be replaced (last heard 12:00:00 UTC)",
				host.Faulty),
		},
		{
			name: "an agent that speaks and does not confirm", host: flying(Draining, 0, unconfirmed),
			at:   10*time.Minute + tick,
			want: fails("its agent did not confirm the drain within 10m0s", host.Serving),
		},
		{
			name: "one that was warned is not given up for that", plan: warn, host: flying(Warned, 1, unconfirmed),
			at: time.Hour,
		},
		{
			name: "nor one that empties", host: flying(Emptied, 0, unconfirmed), at: 10*time.Minute + tick,
			want: fails("its agent speaks and did not confirm the drain within 10m0s", host.Serving),
		},
		{
			name: "the deadline", plan: func(p *Plan) { p.Deadline = time.Hour }, host: flying(Draining, 1, speaks),
			at:   time.Hour,
			want: []Action{{Kind: WarnHost, Host: 1, Sessions: one}},
		},
		{name: "no deadline", host: flying(Draining, 1, speaks), at: 23 * time.Hour},
		{
			name: "the last notice", plan: warn, host: told(nil), at: 8 * time.Minute,
			want: []Action{{Kind: Remind, Host: 1, Sessions: one}},
		},
		{
			name: "no last notice is asked for", plan: func(p *Plan) { warn(p); p.LastNotice = 0 }, host: told(nil),
			at: 10*time.Minute - tick,
		},
		{
			name: "a last notice as long as the grace", plan: func(p *Plan) { warn(p); p.LastNotice = p.Grace },
			host: told(nil), at: 9 * time.Minute,
		},
		{name: "it is given once", plan: warn, host: told(func(s *Session) { s.Reminded = noon }), at: 9 * time.Minute},
		{
			name: "one of an earlier warning does not count", plan: warn,
			host: told(func(s *Session) { s.Reminded = noon.Add(-tick) }), at: 9 * time.Minute,
			before: []Action{{Kind: Remind, Host: 1, Sessions: one}},
			want:   []Action{{Kind: Remind, Host: 1, Sessions: one}},
		},
		{
			name: "the grace", plan: func(p *Plan) { warn(p); p.LastNotice = 0 }, host: told(nil), at: 10 * time.Minute,
			want: []Action{{Kind: SignOff, Host: 1, Sessions: one}},
		},
		{
			name: "the sign-off again", plan: warn, host: told(func(s *Session) {
				s.SignOffFirst,
					s.SignOffLast = noon.Add(15*time.Minute), noon.Add(15*time.Minute)
			}), at: 16 * time.Minute,
			want: []Action{{Kind: SignOff, Host: 1, Sessions: one}},
		},
		{
			name: "a sign-off that is of no use", plan: warn,
			host: told(func(s *Session) { s.SignOffFirst, s.SignOffLast = noon, noon.Add(10*time.Minute) }),
			at:   10*time.Minute + tick,
			want: fails("the session of person-0 could not be ended: signed off at 12:00:00 UTC, still there 10m0s "+
				"later", host.Serving),
		},
		{
			name: "one of an earlier warning", plan: warn,
			host: told(func(s *Session) {
				s.SignOffFirst, s.SignOffLast = noon.Add(-tick),
					noon.Add(10*time.Minute)
			}), at: 11 * time.Minute,
			want: []Action{{Kind: SignOff, Host: 1, Sessions: one}},
		},
		{
			name: "a disk that is not made", host: flying(Rebuilding, 0, nil), at: 2*time.Hour + tick,
			want: fails("its new disk was not ready within 2h0m0s", host.Faulty),
		},
		{
			name: "checks that do not end", host: flying(Checking, 0, speaks), at: 30*time.Minute + tick,
			want: fails("its checks did not end within 30m0s", host.Faulty),
		},
		{
			name: "an agent that never reports", host: flying(Checking, 0,
				func(h *Host) { h.Seen, h.Stamp = time.Time{}, 0 }), at: 30*time.Minute + tick,
			want: fails("its agent did not report within 30m0s of its start", host.Faulty),
		},
		{
			name: "checks that passed, of an agent that was just heard",
			host: flying(Checking, 0, func(h *Host) { seen(0)(h); h.Checks.State = Succeeded }), at: 3*time.Minute +
				tick,
			before: []Action{{Kind: Return, Host: 1}},
		},
		{
			name: "checks that passed, of a machine that does not say what it runs",
			host: flying(Checking, 0, func(h *Host) { speaks(h); h.Stamp, h.Checks.State = 0, Succeeded }),
			at:   time.Minute,
		},
	} {
		t.Run(tc.name, func(t *testing.T) {
			t.Parallel()
			usual := func(p *Plan) {
				p.Budget = 9
				if tc.plan != nil {
					tc.plan(p)
				}
			}
			require.Equal(t, tc.before, decided(usual, tc.at-tick, tc.host).Actions, "a moment before")
			require.Equal(t, tc.want, decided(usual, tc.at, tc.host).Actions)
		})
	}
}

func TestSilenceCountsFromWhenAgentsCouldBeHeard(t *testing.T) {
	t.Parallel()
	s := snapshot(draining(1))
	s.Listening = noon.Add(time.Hour)
	p := plan(func(p *Plan) { p.Budget = 9 })
	require.Empty(t, Decide(p, s, noon.Add(time.Hour+3*time.Minute)).Actions)
	require.Equal(t, []ActionKind{Fail}, kinds(Decide(p, s, noon.Add(time.Hour+3*time.Minute+1))))
}

func TestNothingIsDoneOnOldWord(t *testing.T) {
	t.Parallel()
	// The agent was not heard lately, and nobody could have heard it: neither fresh nor silent.
	unheard := func(h Host) []Action {
		h.Seen = noon.Add(-time.Hour)
		s := snapshot(h)
		s.Listening = noon
		return Decide(plan(func(p *Plan) { p.LogOff, p.Budget = Warn, 0 }), s, noon).Actions
	}
	require.Empty(t, unheard(flying(Draining, 1, nil)), "nobody is warned")
	require.Empty(t, unheard(flying(Draining, 0, nil)), "nor is it empty")
	require.Empty(t, unheard(flying(Emptied, 0, nil)), "nor rebuilt")
	require.Equal(t, []Action{{Kind: Rebuild, Host: 1}},
		unheard(flying(Emptied, 0, func(h *Host) { h.Unserved = true })), "but for a machine that never served")
	require.Empty(t, unheard(flying(Emptied, 1, func(h *Host) { h.Unserved = true })), "and says that nobody is on it")
	// A person's word beats what the agent said before it fell silent: nobody is warned.
	given := flying(Draining, 1, func(h *Host) { h.Seen, h.Vouched = noon.Add(-time.Hour), noon })
	require.Equal(t, []ActionKind{EmptyHost}, kinds(decided(func(p *Plan) { p.LogOff = Warn }, 0, given)))
	// Somebody is on it again, however long it was empty: it drains on, and does not fail.
	back := flying(Emptied, 1, func(h *Host) { h.Seen, h.Confirmed = noon.Add(time.Hour), false })
	require.Equal(t, []ActionKind{Refill}, kinds(decided(nil, time.Hour, back)))
	// It speaks, and has not confirmed the drain yet.
	unconfirmed := func(phase Phase) []Action {
		h := flying(phase, 1, func(h *Host) { h.Confirmed = false })
		return decided(func(p *Plan) { p.LogOff, p.Budget = Warn, 0 }, 0, h).Actions
	}
	require.Empty(t, unconfirmed(Draining))
	require.Empty(t, unconfirmed(Warned))
}

func TestEachSessionHasItsOwnNotice(t *testing.T) {
	t.Parallel()
	h := flying(Warned, 6, func(h *Host) { h.Seats, h.Seen = 6, noon.Add(20*time.Minute) })
	at := func(minutes int) time.Time { return noon.Add(time.Duration(minutes) * time.Minute) }
	h.Sessions[0].Asked, h.Sessions[0].Warned = at(9), at(9)   // its grace is over
	h.Sessions[1].Asked, h.Sessions[1].Warned = at(11), at(11) // the last notice is due
	h.Sessions[2].Asked = at(12)                               // not delivered yet
	h.Sessions[3].Asked, h.Sessions[3].Warned = at(4), at(4)   // from before the pause
	h.Sessions[4].Asked, h.Sessions[4].Warned = at(15), at(4)  // ordered anew, and only the old one was delivered
	p := func(p *Plan) {
		p.LogOff, p.Grace, p.LastNotice, p.ResumedAt = Warn, 10*time.Minute, 2*time.Minute, at(9)
	}
	require.Equal(t, []Action{
		{Kind: WarnHost, Host: 1, Sessions: []string{"s3", "s5"}},
		{Kind: Remind, Host: 1, Sessions: []string{"s1"}},
		{Kind: SignOff, Host: 1, Sessions: []string{"s0"}},
	}, decided(p, 19*time.Minute, h).Actions)
}

func TestADeadlineThatPassedHoldsForWhoeverWasWarned(t *testing.T) {
	t.Parallel()
	// In the phase that the warning began, the host has not been for so long.
	h := flying(Warned, 1, nil)
	d := decided(func(p *Plan) { p.Deadline = time.Hour }, time.Minute, h)
	require.Equal(t, []Action{{Kind: WarnHost, Host: 1, Sessions: []string{"s0"}}}, d.Actions)
}

func TestWhatASiteIsShortOfIsSaid(t *testing.T) {
	t.Parallel()
	var hosts []Host
	for i := range 3 {
		hosts = append(hosts, flying(Emptied, 0, func(h *Host) { h.ID = int64(i + 1) }))
	}
	short := func(clones, starts int, noCopy string) Decision {
		s := snapshot(hosts...)
		s.Site.ClonesLeft, s.Site.StartsLeft, s.Site.NoCopy = clones, starts, noCopy
		return Decide(plan(nil), s, noon)
	}
	require.Equal(t, []string{"2 hosts wait for a free place to clone at north-quay"}, short(1, 9, "").Holds)
	require.Equal(t, []string{"1 host waits for the start stagger of north-quay"}, short(9, 2, "").Holds)
	require.Equal(t, []string{"1 host waits for a free place to clone at north-quay"}, short(2, 9, "").Holds)
	require.Equal(t, []string{"3 hosts wait for cloning: its copies are on the way"},
		short(0, 0, "its copies are on the way").Holds)
	require.Equal(t, []string{"2 hosts wait for a free place to clone at north-quay"}, short(1, 1, "").Holds,
		"what cannot be cloned does not wait for its start yet")
	require.Empty(t, short(3, 3, "").Holds)
}

func TestABatchIsFilledUpAndThenDone(t *testing.T) {
	t.Parallel()
	busy := flying(Draining, 1, nil)
	more := func(id int64) Host { return serving(id, 0) }
	// One of two was taken, and the floor let the second go only now.
	require.Equal(t, []Action{{Kind: DrainHost, Host: 2, Batch: 1}}, decided(nil, 0, busy, more(2), more(3)).Actions)
	// The batch is full.
	full := flying(Draining, 1, func(h *Host) { h.ID = 2 })
	require.Equal(t, Decision{}, decided(nil, 0, busy, full, more(3)))
	// One of them is done: the batch is not opened again.
	require.Equal(t, Decision{Holds: []string{"1 host of batch 1 not done yet"}},
		decided(nil, 0, busy, idle(2, Done, 1, 0), more(3)))
	// The one before it does not count.
	require.Equal(t, Decision{Holds: []string{"2 hosts of batch 2 not done yet"}},
		decided(nil, 0, flying(Draining, 1, func(h *Host) { h.Batch = 2 }),
			flying(Emptied, 1, func(h *Host) {
				h.ID, h.Batch, h.Seen = 5, 2,
					noon
				h.Sessions = nil
				h.Confirmed = false
			}), idle(2, Failed, 2, 0), idle(3, Done, 1, 0), more(4)))
	// The pause to observe it begins with the last of it.
	observing := func(p *Plan) { p.Observe = 10 * time.Minute }
	hosts := []Host{
		idle(1, Done, 3, 2*time.Minute), idle(2, Left, 3, time.Minute), idle(3, Done, 2, 9*time.Minute),
		serving(4, 0),
	}
	hosts[3].Seen = noon.Add(12 * time.Minute)
	require.Equal(t, Decision{Holds: []string{"observing batch 3 until 12:12:00 UTC"}},
		decided(observing, 12*time.Minute-1, hosts...))
	require.Equal(t, []Action{{Kind: DrainHost, Host: 4, Batch: 4}},
		decided(observing, 12*time.Minute, hosts...).Actions)
	// When nobody is left to take, nothing is waited for.
	require.Empty(t, decided(nil, 0, busy, idle(2, Done, 1, 0)).Holds)
	// Hosts that were left were in no batch that could be observed.
	require.Equal(t, []ActionKind{DrainHost}, kinds(decided(observing, 0, idle(1, Left, 0, 0), serving(4, 0))))
	// The first batch has none before it to observe.
	require.Equal(t, []Action{{Kind: DrainHost, Host: 4, Batch: 1}},
		decided(observing, 12*time.Minute, hosts[3]).Actions)
}

func TestTheFloorIsLeftToTheSeat(t *testing.T) {
	t.Parallel()
	floor := func(seats int, o LogOff) func(*Plan) { return func(p *Plan) { p.Floor, p.LogOff = seats, o } }
	// Three hosts of four seats with one, two and three people: 6 seats are free.
	three := []Host{serving(1, 1), serving(2, 2), serving(3, 3)}
	require.Equal(t, []Action{{Kind: DrainHost, Host: 1, Batch: 1}}, decided(floor(3, Wait), 0, three...).Actions)
	held := decided(floor(6, Wait), 0, three...)
	require.Equal(t, Decision{Holds: []string{"taking h-1 would leave 3 free seats (0 of people who would have to " +
		"move); the floor is 6"}}, held)
	require.Equal(t, []Action{{Kind: DrainHost, Host: 3, Batch: 1}}, decided(floor(5, Wait), 0, three...).Actions,
		"a host with fewer free seats may still fit")
	require.Equal(t, []Action{{Kind: DrainHost, Host: 1, Batch: 1}}, decided(floor(2, Warn), 0, three...).Actions,
		"3 stay, less one who moves")
	require.Equal(t, Decision{Holds: []string{"taking h-1 would leave 3 free seats (1 of people who would have to " +
		"move); the floor is 4"}}, decided(floor(4, Warn), 0, three...))
	short := decided(func(p *Plan) { p.Floor, p.Deadline = 4, time.Nanosecond }, 0, three...)
	require.Contains(t, short.Holds[0], "1 of people who would have to move", "however short it is")
	require.Equal(t, []ActionKind{WarnHost}, kinds(decided(func(p *Plan) { p.Deadline = time.Nanosecond },
		time.Nanosecond, flying(Draining, 1, nil))))
	withDeadline := decided(func(p *Plan) { p.Floor, p.Deadline = 4, time.Hour }, 0, three...)
	require.Contains(t, withDeadline.Holds[0], "1 of people who would have to move", "a deadline ends in warnings")
	// People on hosts that drain already have to move as well, and on a host in flight there are no free seats.
	moving := []Host{flying(Draining, 2, func(h *Host) { h.ID = 8 }), serving(1, 0), serving(2, 0)}
	require.Equal(t, []Action{
		{Kind: WarnHost, Host: 8, Sessions: []string{"s0", "s1"}},
		{Kind: DrainHost, Host: 1, Batch: 1},
	}, decided(floor(2, Warn), 0, moving...).Actions)
	require.Equal(t, []Action{{Kind: WarnHost, Host: 8, Sessions: []string{"s0", "s1"}}},
		decided(floor(3, Warn), 0, moving...).Actions)
	require.Equal(t, []Action{{Kind: DrainHost, Host: 1, Batch: 1}}, decided(floor(4, Wait), 0, moving...).Actions,
		"who is waited for does not have to move")
	warned := moving
	warned[0].Phase = Warned
	require.Equal(t, []ActionKind{WarnHost}, kinds(decided(floor(3, Warn), 0, warned...)))
	// A host that takes people past its seats has none free, and owes none.
	crowded := []Host{serving(1, 6), serving(2, 0)}
	require.Equal(t, []Action{{Kind: DrainHost, Host: 1, Batch: 1}}, decided(floor(4, Wait), 0, crowded...).Actions)
	// Seats of a host that was not heard lately are not free.
	quiet := serving(2, 0)
	quiet.Seen, quiet.Phase = noon.Add(-3*time.Minute-1), Outside
	require.Contains(t, decided(floor(1, Wait), 0, serving(1, 0), quiet).Holds[0],
		"taking h-1 would leave 0 free seats")
	quiet.Seen = noon.Add(-3 * time.Minute)
	require.Equal(t, []ActionKind{DrainHost}, kinds(decided(floor(4, Wait), 0, serving(1, 0), quiet)))
}

func TestWhatIsNotServingTakesNoSeatButAPlaceInTheBatch(t *testing.T) {
	t.Parallel()
	off := func(id int64) Host { return Host{ID: id, Name: "o", State: host.Off, Seats: 4, Phase: Queued} }
	d := decided(func(p *Plan) { p.Floor = 4 }, 0, off(1), off(2), serving(3, 0), serving(4, 0))
	require.Equal(t, []Action{{Kind: DrainHost, Host: 3, Batch: 1}, {Kind: DrainHost, Host: 4, Batch: 1}},
		decided(nil, 0, off(1), off(2), serving(3, 0), serving(4, 0)).Actions, "h-3 comes before o")
	require.Equal(t, []Action{{Kind: DrainHost, Host: 3, Batch: 1}, {Kind: EmptyHost, Host: 1, Batch: 1}}, d.Actions)
	require.Equal(t, []Action{{Kind: EmptyHost, Host: 1, Batch: 1}},
		decided(func(p *Plan) { p.BatchSize = 1 }, 0, off(1), off(2)).Actions)
	others := serving(7, 0)
	others.Phase = Outside
	require.Equal(t, []Action{{Kind: EmptyHost, Host: 1, Batch: 1}}, decided(nil, 0, off(1), others).Actions,
		"it is not drained, too")
	// A batch that has more hosts than it may by now takes none.
	crowd := []Host{serving(9, 0)}
	for id := range int64(3) {
		crowd = append(crowd, flying(Draining, 1, func(h *Host) { h.ID = id + 1 }))
	}
	require.Empty(t, decided(nil, 0, crowd...).Actions)
}

func TestWhoIsTakenAndWhoIsLeft(t *testing.T) {
	t.Parallel()
	const already = "it runs the version already"
	there := serving(1, 0)
	there.Version = 2
	require.Equal(t, []Action{{Kind: Leave, Host: 1, Why: already}}, decided(nil, 0, there).Actions)
	require.Equal(t, []Action{{Kind: DrainHost, Host: 1, Batch: 1}},
		decided(func(p *Plan) { p.Forced = true }, 0, there).Actions)
	silent := func(change func(*Host)) []Action {
		h := serving(1, 0)
		h.Seen = noon.Add(-3*time.Minute - 1)
		if change != nil {
			change(&h)
		}
		return decided(nil, 0, h).Actions
	}
	const quiet = "its agent was silent (last heard 11:56:59 UTC), and silence proves nothing about its sessions"
	require.Equal(t, []Action{{Kind: Leave, Host: 1, Why: quiet}}, silent(nil))
	require.Equal(t, []Action{{Kind: Leave, Host: 1, Why: quiet}}, silent(func(h *Host) { h.State = host.Faulty }))
	require.Equal(t, []Action{{
		Kind: Leave, Host: 1,
		Why: "Tove Dyke had drained it by hand; return it to service, then roll it over",
	}},
		silent(func(h *Host) { h.State, h.DrainedBy = host.Draining, "Tove Dyke" }))
	require.Equal(t, []Action{{Kind: Leave, Host: 1, Why: "it was emptied when its turn came"}},
		silent(func(h *Host) { h.State = host.Emptied }))
	require.Equal(t, []Action{{
		Kind: Leave, Host: 1,
		Why: "its agent was silent (last heard never), and silence proves nothing about its sessions",
	}},
		silent(func(h *Host) { h.Seen = time.Time{} }))
	// Others are at work on these, so the rollover is not over.
	for _, state := range []host.State{host.Starting, host.Checking, host.Rebuilding} {
		require.Empty(t, silent(func(h *Host) { h.State = state }), state)
	}
	// The blocked are left when nothing else goes on.
	blocked := serving(2, 0)
	blocked.State = host.Emptied
	require.Empty(t, decided(nil, 0, flying(Draining, 1, nil), blocked).Actions)
	rebuilt := serving(3, 0)
	rebuilt.State = host.Rebuilding
	require.Empty(t, decided(nil, 0, rebuilt, blocked).Actions)
	// A host that could not be heard because nobody listened may still speak.
	s := snapshot(serving(1, 0))
	s.Hosts[0].Seen, s.Listening = noon.Add(-time.Hour), noon
	require.Empty(t, Decide(plan(nil), s, noon).Actions)
	require.Equal(t, []Action{{Kind: Finish}}, decided(nil, 0, idle(1, Done, 1, 0), idle(2, Failed, 1, 0)).Actions)
	outside := serving(7, 0)
	outside.Phase = Outside
	require.Equal(t, []Action{{Kind: Finish}}, decided(nil, 0, outside).Actions,
		"hosts of the pool that are not part of it are none of its business")
}

func TestTheFewestPeopleFirstThenByName(t *testing.T) {
	t.Parallel()
	d := decided(func(p *Plan) { p.BatchSize = 4 }, 0, serving(4, 1), serving(3, 1), serving(2, 2), serving(1, 0))
	var order []int64
	for _, a := range d.Actions {
		order = append(order, a.Host)
	}
	require.Equal(t, []int64{1, 3, 4, 2}, order)
}
