package subjects_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/host"
	"nimblepane/core/image"
	"nimblepane/core/matter"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/core/rollover"
	"nimblepane/internal/servicetest"
	"nimblepane/platform/practice/world"
)

// atWork is the scenario with people in ticket-counters around the clock.
const atWork = servicetest.Scenario + `
crowds:
  - {hosts: tc-, people: 14, shifts: ["00:00-23:59"]}
`

func hosts(t *testing.T, s *servicetest.Service, q client.HostQuery) []client.Host {
	t.Helper()
	list, err := s.As(role.Viewer).Hosts(t.Context(), q)
	require.NoError(t, err)
	return list
}

// onceEach asserts from the trail that the rollover did each thing once to each of n hosts.
func onceEach(t *testing.T, s *servicetest.Service, id int64, n int, verbs ...string) {
	t.Helper()
	for _, verb := range verbs {
		entries, err := s.As(role.Viewer).Trail(t.Context(),
			client.TrailQuery{Scope: fmt.Sprintf("rollover %d", id), Verb: verb}, 1000)
		require.NoError(t, err)
		seen := map[string]bool{}
		for _, e := range entries {
			require.False(t, seen[e.Subject], "%s of %s stands in the trail twice", verb, e.Subject)
			seen[e.Subject] = true
		}
		require.Len(t, seen, n, verb)
	}
}

func TestFromCaptureToProductionAndBack(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Scenario: atWork})
	ctx := t.Context()
	one := s.Live("ticket-counters", "back-office")
	s.Until("people to sign in", func() bool {
		list, err := s.As(role.Viewer).Sessions(ctx, client.SessionQuery{Pool: "ticket-counters"})
		require.NoError(t, err)
		return len(list) == 14
	})

	two := s.Captured("counter-desk", "bm-counter")
	_, err := s.As(role.Approver).Activate(ctx, "counter-desk", two, client.Activation{})
	require.True(t, client.IsStatus(err, 409), "%v", err)
	for _, rule := range []string{"pilot-hosts:", "soak:", "testers:"} {
		require.ErrorContains(t, err, rule)
	}
	s.Tried(two)
	require.Empty(t, hosts(t, s, client.HostQuery{Pool: "ticket-counters", Version: two}), "production has not moved")
	s.Activated(two)
	require.Len(t, hosts(t, s, client.HostQuery{Pool: "ticket-counters", Drifts: true}), 8)

	rows, _, err := s.As(role.Operator).StartRollovers(ctx,
		client.StartRollovers{
			Pools:   []string{"ticket-counters"},
			Options: client.Options{Batch: "3", Floor: "4", LogOff: "warn", Grace: "5m"},
		})
	require.NoError(t, err)
	r := s.Ended(rows[0].ID)
	require.Equal(t, rollover.Finished, r.State)
	require.Equal(t, map[rollover.Phase]int{rollover.Done: 8}, r.Phases)
	onceEach(t, s, r.ID, 8, "host.drain", "host.empty", "host.rebuild", "host.check", "host.return")
	for _, h := range hosts(t, s, client.HostQuery{Pool: "ticket-counters"}) {
		require.Equal(t, two, h.Version)
		require.Equal(t, "counter-desk "+two, h.Stamp, "asked of its agent")
		require.Equal(t, host.Serving, h.State)
	}
	warned, err := s.As(role.Viewer).Trail(ctx, client.TrailQuery{Verb: "session.warn"}, 100)
	require.NoError(t, err)
	require.NotEmpty(t, warned)

	back, err := s.As(role.Approver).Rollback(ctx, "counter-desk",
		client.Rollback{Leaves: two, Reason: "tickets do not print"})
	require.NoError(t, err)
	require.Equal(t, one, back.To)
	require.ElementsMatch(t, []string{"pilot", "live"}, back.Tracks)
	for _, id := range back.Rollovers {
		s.Ended(id)
	}
	require.Empty(t, hosts(t, s, client.HostQuery{Image: "counter-desk", Version: two}))
	require.Empty(t, hosts(t, s, client.HostQuery{Image: "counter-desk", Drifts: true}))
	v, err := s.As(role.Viewer).Version(ctx, "counter-desk", two)
	require.NoError(t, err)
	require.Equal(t, "tickets do not print", v.Barred)
	_, err = s.As(role.Operator).Stage(ctx, "counter-desk", two, client.Staging{})
	require.ErrorIs(t, err, problem.VersionBlocked)

	verdict, err := s.As(role.Viewer).VerifyTrail(ctx, "")
	require.NoError(t, err)
	require.Empty(t, verdict.Breaks)
}

func TestTheFailureBudgetPausesAndAReversalTouchesOnlyWhatWasDone(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	ctx := t.Context()
	one := s.Live("ticket-counters")
	two := s.Captured("counter-desk", "bm-counter")
	s.Tried(two)
	s.Activated(two)

	s.Fault("north-quay", world.CheckFails, "tc-*")
	budget := 0
	rows, _, err := s.As(role.Operator).StartRollovers(ctx,
		client.StartRollovers{
			Pools:   []string{"ticket-counters"},
			Options: client.Options{Batch: "2", Floor: "0", FailureBudget: &budget},
		})
	require.NoError(t, err)
	id := rows[0].ID
	show := func() client.Rollover {
		r, err := s.As(role.Viewer).Rollover(ctx, id)
		require.NoError(t, err)
		return r
	}
	s.Until("the pause", func() bool { return show().State == "paused" })
	require.Contains(t, show().PausedWhy, "failure budget is 0")
	s.Until("both hosts of the batch to be finished", func() bool { return show().Phases["failed"] == 2 })
	require.Equal(t, 6, show().Phases["queued"], "nothing else is touched")
	for _, h := range hosts(t, s, client.HostQuery{Pool: "ticket-counters", State: "faulty"}) {
		require.Contains(t, h.Why, "did not open")
	}

	s.Fault("north-quay", "", "")
	back, err := s.As(role.Operator).ChangeRollover(ctx, id, "reverse", "the checks fail")
	require.NoError(t, err)
	require.Equal(t, id, back.Reverses)
	require.Equal(t, one, back.Version)
	r := s.Ended(back.ID)
	require.Equal(t, rollover.Finished, r.State)
	require.Equal(t, map[rollover.Phase]int{rollover.Done: 2, rollover.Left: 6}, r.Phases)
	require.Len(t, hosts(t, s, client.HostQuery{Pool: "ticket-counters", Version: one, State: "serving"}), 8)
}

func TestStoppingPutsHostsBackAndLeavesTheRest(t *testing.T) {
	t.Parallel()
	// People who stay keep the draining hosts from becoming empty.
	s := servicetest.Start(t, servicetest.Options{Scenario: atWork})
	ctx := t.Context()
	s.Live("ticket-counters")
	two := s.Captured("counter-desk", "bm-counter")
	s.Tried(two)
	s.Activated(two)
	rows, _, err := s.As(role.Operator).StartRollovers(ctx,
		client.StartRollovers{Pools: []string{"ticket-counters"}, Options: client.Options{Batch: "4", Floor: "0"}})
	require.NoError(t, err)
	id := rows[0].ID
	s.Until("hosts to drain", func() bool { return len(hosts(t, s, client.HostQuery{State: "draining"})) > 0 })
	_, _, err = s.As(role.Operator).StartRollovers(ctx, client.StartRollovers{Pools: []string{"ticket-counters"}})
	require.ErrorIs(t, err, problem.Busy)
	_, err = s.As(role.Operator).ReturnHost(ctx, hosts(t, s, client.HostQuery{State: "draining"})[0].Name, "")
	require.ErrorIs(t, err, problem.Busy)

	_, err = s.As(role.Operator).ChangeRollover(ctx, id, "pause", "lunch")
	require.NoError(t, err)
	again, err := s.As(role.Operator).ChangeRollover(ctx, id, "pause", "lunch")
	require.NoError(t, err)
	require.Equal(t, rollover.Paused, again.State)
	_, err = s.As(role.Operator).ChangeRollover(ctx, id, "stop", "not today")
	require.NoError(t, err)
	r := s.Ended(id)
	require.Equal(t, rollover.Stopped, r.State)
	require.Zero(t, r.Phases["queued"]+r.Phases["draining"]+r.Phases["warned"]+r.Phases["emptied"])
	require.Len(t, hosts(t, s, client.HostQuery{Pool: "ticket-counters", State: "serving"}), 8,
		"no host is left drained and forgotten")
	_, err = s.As(role.Operator).ChangeRollover(ctx, id, "stop", "not today")
	require.NoError(t, err)
	_, err = s.As(role.Operator).ChangeRollover(ctx, id, "resume", "")
	require.ErrorIs(t, err, problem.WrongState)
}

func TestAnAgentThatFallsSilentAndSpeaksAgain(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	s.Live("back-office")
	s.Fault("south-quay", world.FallsSilent, "bo-002")
	s.Until("bo-002 to be faulty", func() bool {
		h := hosts(t, s, client.HostQuery{Pool: "back-office", State: "faulty"})
		return len(h) == 1 && h[0].Name == "bo-002"
	})
	h, err := s.As(role.Operator).Host(t.Context(), "bo-002")
	require.NoError(t, err)
	require.Contains(t, h.Why, "its agent is silent, last heard 2026-")
	_, err = s.As(role.Operator).RebuildHost(t.Context(), "bo-002", client.RebuildHost{})
	require.ErrorIs(t, err, problem.NotConfirmedEmpty, "silence proves nothing")
	s.Fault("south-quay", "", "")
	s.Until("bo-002 to come back", func() bool {
		return len(hosts(t, s,
			client.HostQuery{Pool: "back-office", State: "serving"})) == 4
	})
}

func TestHostsByHand(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	ctx := t.Context()
	s.Live("back-office")
	c := s.As(role.Operator)
	h, err := c.DrainHost(ctx, "bo-001", "memory to be swapped")
	require.NoError(t, err)
	require.Equal(t, host.Draining, h.State)
	s.Until("its agent to confirm that it is empty", func() bool {
		h, err := c.Host(ctx, "bo-001")
		require.NoError(t, err)
		return h.State == "emptied"
	})
	h, err = c.DrainHost(ctx, "bo-001", "")
	require.NoError(t, err)
	require.Equal(t, host.Emptied, h.State, "it is drained already")
	for range 2 {
		h, err = c.ReturnHost(ctx, "bo-001", "")
		require.NoError(t, err)
		require.Equal(t, host.Serving, h.State)
	}

	r, err := c.RebuildHost(ctx, "bo-001", client.RebuildHost{Reason: "flickers"})
	require.NoError(t, err)
	require.Equal(t, map[rollover.Phase]int{rollover.Done: 1}, s.Ended(r.ID).Phases)
	onceEach(t, s, r.ID, 1, "host.rebuild")
}

func TestPinnedPoolsStayAndVersionsInUseAreKept(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	ctx := t.Context()
	one := s.Live("back-office")
	op := s.As(role.Operator)
	_, err := op.Pin(ctx, "back-office", client.Pin{Version: one, Reason: "year's end"})
	require.NoError(t, err)
	two := s.Captured("counter-desk", "bm-counter")
	s.Tried(two)
	s.Activated(two)
	require.Empty(t, hosts(t, s, client.HostQuery{Pool: "back-office", Drifts: true}))
	_, err = op.Retire(ctx, "counter-desk", one, "")
	for _, why := range []string{"it is the fallback", "pool back-office is pinned to it", "hosts run it: bo-001"} {
		require.ErrorContains(t, err, why)
	}
	_, err = op.Unpin(ctx, "back-office", "")
	require.NoError(t, err)
	require.Len(t, hosts(t, s, client.HostQuery{Pool: "back-office", Drifts: true}), 4)
	s.Roll(servicetest.Quick, "back-office", "ticket-counters")

	three := s.Captured("counter-desk", "bm-counter")
	s.Tried(three)
	s.Activated(three)
	v, err := op.Retire(ctx, "counter-desk", one, "two versions ago")
	require.NoError(t, err)
	require.Equal(t, image.Retired, v.State)
	s.Until("its copies to be deleted", func() bool {
		v, err := op.Version(ctx, "counter-desk", one)
		require.NoError(t, err)
		return len(v.Copies) == 0
	})
}

func TestWhatNeedsSomebodyToday(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	ctx := t.Context()
	kinds := func() map[matter.Kind]string {
		list, err := s.As(role.Viewer).Today(ctx)
		require.NoError(t, err)
		out := map[matter.Kind]string{}
		for _, m := range list {
			out[m.Kind] = m.Title + "; " + m.Detail
		}
		return out
	}
	require.Empty(t, kinds())
	one := s.Captured("counter-desk", "bm-counter")
	_, err := s.As(role.Operator).Stage(ctx, "counter-desk", one, client.Staging{})
	require.NoError(t, err)
	require.Contains(t, kinds()["trial"], "0 of 1 tester")
	require.Contains(t, kinds()["drift"], "2 of 2 hosts of ticket-pilot drift")
	s.Roll(servicetest.Quick, "ticket-pilot")
	_, err = s.As(role.Operator).Sign(ctx, "counter-desk", one, client.Sign{Yes: true})
	require.NoError(t, err)
	require.Contains(t, kinds()["cleared"], "has clearance and is not live")
	s.Activated(one)
	require.NotContains(t, kinds(), matter.Cleared)
	_, err = s.As(role.Operator).DrainHost(ctx, "tp-001", "")
	require.NoError(t, err)
	require.Contains(t, kinds()["drained"], "tp-001")
}

// TestSlowCopiesHoldARolloverUntilTheyAreThere also sees that nothing is cloned without a copy.
func TestSlowCopiesHoldARolloverUntilTheyAreThere(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	ctx := context.Background()
	k, err := s.World.Knobs("north-quay")
	require.NoError(t, err)
	slow := k
	slow.Deliver *= 600
	require.NoError(t, s.World.SetKnobs("north-quay", slow))
	op := s.As(role.Operator)
	v, err := op.Capture(ctx, "counter-desk", client.Capture{BuildMachine: "bm-counter"})
	require.NoError(t, err)
	s.Until("the seal", func() bool {
		v, err = op.Version(ctx, "counter-desk", v.Number)
		require.NoError(t, err)
		return v.State == "sealed"
	})
	_, err = op.Stage(ctx, "counter-desk", v.Number, client.Staging{})
	require.NoError(t, err)
	rows, _, err := op.StartRollovers(ctx, client.StartRollovers{
		Pools:   []string{"ticket-pilot"},
		Options: servicetest.Quick,
	})
	require.NoError(t, err)
	s.Until("the hold", func() bool {
		r, err := op.Rollover(ctx, rows[0].ID)
		require.NoError(t, err)
		return len(r.Holds) > 0 && r.Holds[0] == "2 hosts wait for cloning: no copy of the version is at north-quay yet"
	})
	require.NoError(t, s.World.SetRate(3600))
	s.Ended(rows[0].ID)
}
