package subjects_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/host"
	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/core/rollover"
	"nimblepane/internal/servicetest"
	"nimblepane/platform/practice/world"
)

// drifting is a service whose production pools run one version and should run another.
func drifting(t *testing.T, o servicetest.Options, pools ...string) (s *servicetest.Service, one, two string) {
	t.Helper()
	s = servicetest.Start(t, o)
	one = s.Live(pools...)
	two = s.Captured("counter-desk", "bm-counter")
	s.Tried(two)
	s.Activated(two)
	return s, one, two
}

func begin(t *testing.T, s *servicetest.Service, pool string, o client.Options) int64 {
	t.Helper()
	rows, _, err := s.As(role.Operator).StartRollovers(t.Context(),
		client.StartRollovers{Pools: []string{pool}, Options: o})
	require.NoError(t, err)
	return rows[0].ID
}

func shown(t *testing.T, s *servicetest.Service, id int64) client.Rollover {
	t.Helper()
	r, err := s.As(role.Viewer).Rollover(t.Context(), id)
	require.NoError(t, err)
	return r
}

func failures(t *testing.T, s *servicetest.Service, id int64) (why []string) {
	t.Helper()
	list, err := s.As(role.Viewer).RolloverHosts(t.Context(), id)
	require.NoError(t, err)
	for _, h := range list {
		if h.Phase == "failed" {
			why = append(why, h.Host+": "+h.Why)
		}
	}
	return why
}

func TestMachinesThatFailSayHowAndCanBeRebuilt(t *testing.T) {
	t.Parallel()
	for _, tc := range []struct {
		kind world.FaultKind
		why  string
	}{
		{world.CloneFails, "its new disk could not be made: the storage gave up"},
		{world.WrongDisk, "the clone has digest sha256:000"},
		{world.BootFails, "its agent did not report within"},
	} {
		t.Run(string(tc.kind), func(t *testing.T) {
			t.Parallel()
			s, _, two := drifting(t, servicetest.Options{}, "back-office")
			s.Fault("south-quay", tc.kind, "bo-002")
			budget := 1
			id := begin(t, s, "back-office", client.Options{Batch: "100%", Floor: "0", FailureBudget: &budget})
			r := s.Ended(id)
			require.Equal(t, rollover.Finished, r.State, "one failure is within the budget")
			require.Equal(t, map[rollover.Phase]int{rollover.Done: 3, rollover.Failed: 1}, r.Phases)
			require.Len(t, failures(t, s, id), 1)
			require.Contains(t, failures(t, s, id)[0], "bo-002: ")
			require.Contains(t, failures(t, s, id)[0], tc.why)
			h, err := s.As(role.Viewer).Host(t.Context(), "bo-002")
			require.NoError(t, err)
			require.Equal(t, host.Faulty, h.State)
			require.Contains(t, h.Why, tc.why)

			// It never served, so nobody has to vouch that it is empty.
			s.Fault("south-quay", "", "")
			again, err := s.As(role.Operator).RebuildHost(t.Context(), "bo-002", client.RebuildHost{})
			require.NoError(t, err)
			require.Equal(t, map[rollover.Phase]int{rollover.Done: 1}, s.Ended(again.ID).Phases)
			require.Len(t, hosts(t, s, client.HostQuery{Pool: "back-office", Version: two, State: "serving"}), 4)
		})
	}
}

func TestASessionThatWillNotEndFailsItsHostWhichServesOn(t *testing.T) {
	t.Parallel()
	s, one, _ := drifting(t, servicetest.Options{Scenario: servicetest.Scenario +
		"crowds:\n  - {hosts: bo-, people: 4, shifts: [\"00:00-23:59\"]}\n"}, "ticket-counters")
	// The sessions are made to cling before anybody signs in.
	s.Fault("south-quay", world.Clings, "bo-*")
	_, err := s.As(role.Operator).Pin(t.Context(), "back-office", client.Pin{Version: one, Reason: "first"})
	require.NoError(t, err)
	s.Roll(servicetest.Quick, "back-office")
	s.Until("people to sign in", func() bool {
		list, err := s.As(role.Viewer).Sessions(t.Context(), client.SessionQuery{Pool: "back-office"})
		require.NoError(t, err)
		return len(list) == 4
	})
	_, err = s.As(role.Operator).Unpin(t.Context(), "back-office", "")
	require.NoError(t, err)
	budget := 0
	id := begin(t, s, "back-office", client.Options{
		Batch: "1", Floor: "0", LogOff: "warn", Grace: "1m",
		FailureBudget: &budget,
	})
	s.Until("the pause", func() bool { return shown(t, s, id).State == "paused" })
	name, why, _ := strings.Cut(failures(t, s, id)[0], ": ")
	require.Contains(t, why, "could not be ended: signed off at")
	h, err := s.As(role.Viewer).Host(t.Context(), name)
	require.NoError(t, err)
	require.Equal(t, one, h.Version, "its old disk was left alone")
	require.Equal(t, host.Serving, h.State, "and it serves on")
	signOffs, err := s.As(role.Viewer).Trail(t.Context(), client.TrailQuery{Verb: "session.sign-off"}, 100)
	require.NoError(t, err)
	require.Greater(t, len(signOffs), 1, "the sign-off is repeated before it is given up")
}

func TestADeadlineTurnsWaitIntoWarn(t *testing.T) {
	t.Parallel()
	s, _, _ := drifting(t, servicetest.Options{Scenario: servicetest.Scenario +
		"crowds:\n  - {hosts: bo-, people: 4, shifts: [\"00:00-23:59\"]}\n"}, "back-office")
	s.Until("people to sign in", func() bool {
		list, err := s.As(role.Viewer).Sessions(t.Context(), client.SessionQuery{Pool: "back-office"})
		require.NoError(t, err)
		return len(list) == 4
	})
	id := begin(t, s, "back-office", client.Options{
		Batch: "2", Floor: "0", Deadline: "10m", Grace: "2m",
		LastNotice: "1m",
	})
	require.Equal(t, map[rollover.Phase]int{rollover.Done: 4}, s.Ended(id).Phases)
	drain, err := s.As(role.Viewer).Trail(t.Context(), client.TrailQuery{Verb: "host.drain"}, 100)
	require.NoError(t, err)
	warn, err := s.As(role.Viewer).Trail(t.Context(), client.TrailQuery{Verb: "session.warn"}, 100)
	require.NoError(t, err)
	require.NotEmpty(t, warn)
	first, earliest := drain[len(drain)-1].At, warn[len(warn)-1].At
	require.GreaterOrEqual(t, earliest.Sub(first), 10*time.Minute, "nobody is warned before the deadline")
	s.Until("its orders to be forgotten", func() bool {
		var n int
		require.NoError(t, s.Store.DB.Raw("select count(*) from orders").Scan(&n).Error)
		return n == 0
	})
}

func TestOptionsOfSeveralPoolsAreCheckedTogetherAndAStartCanWait(t *testing.T) {
	t.Parallel()
	s, _, _ := drifting(t, servicetest.Options{}, "ticket-counters", "back-office")
	op := s.As(role.Operator)
	// What is wrong is told at once for all pools, with its pool where it is not wrong with all.
	_, _, err := op.StartRollovers(t.Context(), client.StartRollovers{
		Pools:   []string{"ticket-counters", "back-office"},
		Options: client.Options{Batch: "5", Floor: "400%"},
	})
	var refused *client.Error
	require.ErrorAs(t, err, &refused)
	var wrong []string
	for _, d := range refused.Errors {
		wrong = append(wrong, d.Message)
	}
	require.Equal(t, []string{
		"floor of 400%: a share goes from 0% to 100%",
		"pool back-office: batch of 5: this pool has 4 hosts, so a batch has 1 to 4",
	}, wrong)

	// A start in the future waits for its time, and can be stopped while it waits.
	status, err := op.Status(t.Context())
	require.NoError(t, err)
	later := status.Now.Add(240 * time.Hour)
	rows, _, err := op.StartRollovers(t.Context(), client.StartRollovers{
		Pools:   []string{"ticket-counters", "back-office"},
		Options: client.Options{Batch: "100%", Floor: "0", EarliestStart: &later},
	})
	require.NoError(t, err)
	require.Len(t, rows, 2)
	for _, r := range rows {
		s.Until("it to say what it waits for", func() bool {
			r := shown(t, s, r.ID)
			require.Contains(t, []rollover.State{rollover.Planned, rollover.Waiting}, r.State)
			return r.State == rollover.Waiting && len(r.Holds) == 1 &&
				r.Holds[0] == "starts at "+later.UTC().Format("2006-01-02 15:04 MST")
		})
		_, err := op.ChangeRollover(t.Context(), r.ID, "stop", "not this week")
		require.NoError(t, err)
		require.Equal(t, r.Total, s.Ended(r.ID).Phases["left"])
	}
	require.Len(t, hosts(t, s, client.HostQuery{State: "serving", Drifts: true}), 12)
}

func TestResumingExcusesTheFailuresSoFar(t *testing.T) {
	t.Parallel()
	s, _, two := drifting(t, servicetest.Options{}, "back-office")
	s.Fault("south-quay", world.CheckFails, "bo-001")
	budget := 0
	id := begin(t, s, "back-office", client.Options{Batch: "1", Floor: "0", FailureBudget: &budget})
	s.Until("the pause", func() bool { return shown(t, s, id).State == "paused" })
	require.Equal(t, 1, shown(t, s, id).Phases["failed"])
	_, err := s.As(role.Operator).ChangeRollover(t.Context(), id, "resume", "bo-001 is being looked at")
	require.NoError(t, err)
	require.Equal(t, map[rollover.Phase]int{rollover.Done: 3, rollover.Failed: 1}, s.Ended(id).Phases)

	// A person who has looked may put the failed host to service.
	_, err = s.As(role.Operator).ReturnHost(t.Context(), "bo-001", "")
	require.ErrorIs(t, err, problem.ReasonRequired)
	_, err = s.As(role.Operator).ReturnHost(t.Context(), "bo-001", "the check was wrong")
	require.NoError(t, err)
	require.Len(t, hosts(t, s, client.HostQuery{Pool: "back-office", Version: two, State: "serving"}), 4)
}

func TestAnActivationDoesNotLeaveRolloversToAnotherVersion(t *testing.T) {
	t.Parallel()
	s, _, two := drifting(t, servicetest.Options{}, "back-office")
	ctx, ap, op := t.Context(), s.As(role.Approver), s.As(role.Operator)
	three := s.Captured("counter-desk", "bm-counter")
	s.Tried(three)
	options := client.Options{Batch: "1", Floor: "25%"}
	open, _, err := op.StartRollovers(ctx, client.StartRollovers{Pools: []string{"back-office"}, Options: options})
	require.NoError(t, err)

	_, err = ap.Activate(ctx, "counter-desk", three, client.Activation{})
	require.ErrorIs(t, err, problem.RolloversOpen)
	require.ErrorContains(t, err, ") takes hosts to "+two)
	seen, err := ap.Preview(ctx, client.PreviewRequest{Act: "activate", Image: "counter-desk", Number: three})
	require.NoError(t, err)
	require.Contains(t, seen.Refused, "open rollovers")
	require.NotContains(t, strings.Join(seen.Will, " "), "Nobody's session changes now")
	seen, err = ap.Preview(ctx, client.PreviewRequest{
		Act: "activate", Image: "counter-desk", Number: three, Redirect: true,
	})
	require.NoError(t, err)
	require.Empty(t, seen.Refused)
	require.Contains(t, strings.Join(seen.Will, " "), "is stopped, and a new one with its options takes 4 hosts "+
		"to "+three)

	_, err = ap.Activate(ctx, "counter-desk", three, client.Activation{Redirect: true})
	require.NoError(t, err)
	was, err := op.Rollover(ctx, open[0].ID)
	require.NoError(t, err)
	require.Equal(t, rollover.Stopped, was.State)
	rows, err := op.Rollovers(ctx, "back-office", "", false, 10)
	require.NoError(t, err)
	require.Equal(t, three, rows[0].Version)
	require.Equal(t, was.Options, rows[0].Options)
	s.Ended(rows[0].ID)
	require.Len(t, hosts(t, s, client.HostQuery{Pool: "back-office", Version: three}), 4)
}

func TestARollbackHasOptionsOfItsOwn(t *testing.T) {
	t.Parallel()
	s, one, two := drifting(t, servicetest.Options{}, "back-office")
	ctx, ap := t.Context(), s.As(role.Approver)
	s.Roll(servicetest.Quick, "back-office")
	act := client.PreviewRequest{Act: "rollback", Image: "counter-desk"}
	seen, err := ap.Preview(ctx, act)
	require.NoError(t, err)
	require.Empty(t, seen.Refused)
	require.Contains(t, seen.Will, "Options: batch 25%, floor 10%, log-off warn, grace 5 min, last notice 1 min, "+
		"failure budget 3 (the defaults of a rollback).")
	act.Options = client.Options{Grace: "2m", Batch: "50%"}
	seen, err = ap.Preview(ctx, act)
	require.NoError(t, err)
	require.Contains(t, seen.Will, "Options: batch 50%, floor 10%, log-off warn, grace 2 min, last notice 1 min, "+
		"failure budget 3 (given: batch and grace; the others are the defaults of a rollback).")

	ask := client.Rollback{Leaves: two, Reason: "slow", Options: client.Options{Grace: "5s", Floor: "100%"}}
	_, err = ap.Rollback(ctx, "counter-desk", ask)
	require.ErrorContains(t, err, "grace period of 5s")
	require.ErrorContains(t, err, "floor of 100%", "a floor that was given is not lowered")
	img, err := ap.Image(ctx, "counter-desk")
	require.NoError(t, err)
	require.Equal(t, two, img.Tracks[1].Version, "nothing has changed")

	ask.Options = client.Options{Grace: "2m"}
	back, err := ap.Rollback(ctx, "counter-desk", ask)
	require.NoError(t, err)
	require.NotEmpty(t, back.Rollovers)
	list, err := ap.Rollovers(ctx, "back-office", "", true, 1)
	require.NoError(t, err)
	r := list[0]
	require.Equal(t, rollover.Warn, r.Options.LogOff, "the options of the rollover before do not count")
	require.Equal(t, "2m", r.Options.Grace)
	require.Equal(t, "25%", r.Options.Batch)
	require.Equal(t, one, r.Version)
}

func TestAHostThatAPersonDrainedAndThatRunsTheVersionStays(t *testing.T) {
	t.Parallel()
	s, _, two := drifting(t, servicetest.Options{}, "back-office")
	ctx, op := t.Context(), s.As(role.Operator)
	s.Roll(servicetest.Quick, "back-office")
	all := hosts(t, s, client.HostQuery{Pool: "back-office", Version: two})
	_, err := op.DrainHost(ctx, all[0].Name, "noisy fan")
	require.NoError(t, err)
	ask := client.StartRollovers{Pools: []string{"back-office"}, Options: servicetest.Quick}
	_, _, err = op.StartRollovers(ctx, ask)
	require.ErrorIs(t, err, problem.NothingToDo)
	seen, err := op.Preview(ctx, client.PreviewRequest{Act: "roll", Pools: ask.Pools, Options: ask.Options})
	require.NoError(t, err)
	require.Equal(t, problem.NothingToDo.URI(), seen.Type)
}

func TestOfAListOfPoolsThoseAreRolledThatCanBe(t *testing.T) {
	t.Parallel()
	s, _, _ := drifting(t, servicetest.Options{}, "back-office", "ticket-counters")
	ctx, op := t.Context(), s.As(role.Operator)
	open := begin(t, s, "back-office", servicetest.Quick)
	ask := client.StartRollovers{Pools: []string{"back-office", "ticket-counters"}, Options: servicetest.Quick}
	before := func() int {
		rows, err := op.Rollovers(ctx, "", "", false, 100)
		require.NoError(t, err)
		return len(rows)
	}
	n, past := before(), time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	for _, wrong := range []client.StartRollovers{
		{Pools: []string{"back-office", "ticket-counters", "nowhere"}, Options: ask.Options},
		{Pools: ask.Pools, Options: client.Options{Batch: "0%"}},
		{Pools: ask.Pools, Options: client.Options{EarliestStart: &past}},
		{Pools: []string{"back-office"}, Options: ask.Options},
	} {
		_, _, err := op.StartRollovers(ctx, wrong)
		require.Error(t, err, wrong)
		require.Equal(t, n, before(), "nothing has changed")
	}
	seen, err := op.Preview(ctx, client.PreviewRequest{Act: "roll", Pools: ask.Pools, Options: ask.Options})
	require.NoError(t, err)
	require.Empty(t, seen.Refused)
	require.Contains(t, strings.Join(seen.Will, " "), "Pool back-office is not rolled over: pool back-office has "+
		"an open rollover")
	rows, left, err := op.StartRollovers(ctx, ask)
	require.NoError(t, err)
	require.Len(t, rows, 1)
	require.Equal(t, "ticket-counters", rows[0].Pool)
	require.Len(t, left, 1)
	require.Contains(t, left[0].Why, fmt.Sprintf("rollover %d", open))
	_, _, err = op.StartRollovers(ctx, ask)
	require.ErrorIs(t, err, problem.NotPossible)
}

func TestTheReasonOfAStopIsKept(t *testing.T) {
	t.Parallel()
	s, _, _ := drifting(t, servicetest.Options{}, "back-office")
	ctx, op := t.Context(), s.As(role.Operator)
	rows, _, err := op.StartRollovers(ctx, client.StartRollovers{
		Pools:   []string{"back-office"},
		Options: servicetest.Quick,
	})
	require.NoError(t, err)
	_, err = op.ChangeRollover(ctx, rows[0].ID, "stop", "the ferry is early")
	require.NoError(t, err)
	r, err := op.Rollover(ctx, rows[0].ID)
	require.NoError(t, err)
	require.Equal(t, "the ferry is early", r.StoppedWhy)
}

func TestWaysToRollBack(t *testing.T) {
	t.Parallel()
	s, one, two := drifting(t, servicetest.Options{}, "back-office")
	ap := s.As(role.Approver)
	s.Roll(servicetest.Quick, "back-office")
	three := s.Captured("counter-desk", "bm-counter")
	s.Tried(three)
	s.Activated(three)

	_, err := ap.Rollback(t.Context(), "counter-desk", client.Rollback{Leaves: three, To: three, Reason: "r"})
	require.ErrorIs(t, err, problem.InvalidRequest)
	_, err = ap.Rollback(t.Context(), "counter-desk", client.Rollback{Leaves: three, To: "2031.01.1", Reason: "r"})
	require.ErrorIs(t, err, problem.NotFound)
	four := s.Captured("counter-desk", "bm-counter")
	_, err = ap.Rollback(t.Context(), "counter-desk", client.Rollback{Leaves: three, To: four, Reason: "r"})
	require.ErrorIs(t, err, problem.InvalidRequest)

	back, err := ap.Rollback(t.Context(), "counter-desk",
		client.Rollback{Leaves: three, To: one, Reason: "slow", KeepUsable: true, TrackOnly: true})
	require.NoError(t, err)
	require.Equal(t, []string{"live"}, back.Tracks, "pilot goes on with a version that is still usable")
	require.Empty(t, back.Rollovers)
	img, err := ap.Image(t.Context(), "counter-desk")
	require.NoError(t, err)
	require.Equal(t, one, img.Tracks[1].Version)
	require.Equal(t, three, img.Tracks[0].Version)
	require.Empty(t, img.Fallback, "what came after %s is dropped", one)
	v, err := ap.Version(t.Context(), "counter-desk", three)
	require.NoError(t, err)
	require.Empty(t, v.Barred)
	require.Len(t, hosts(t, s, client.HostQuery{Pool: "back-office", Version: two, Drifts: true}), 4)
	moves, err := ap.Moves(t.Context(), "counter-desk")
	require.NoError(t, err)
	require.Equal(t, image.Return, moves[0].Kind)
	require.Equal(t, "slow", moves[0].Reason)
}

func TestLettingTheFallbackGo(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	s.Live()
	two := s.Captured("counter-desk", "bm-counter")
	s.Tried(two)
	_, err := s.As(role.Administrator).Activate(t.Context(), "counter-desk", two, client.Activation{LetGo: true})
	require.NoError(t, err)
	_, err = s.As(role.Approver).Rollback(t.Context(), "counter-desk", client.Rollback{Leaves: two, Reason: "r"})
	require.ErrorIs(t, err, problem.NoFallback)

	three := s.Captured("counter-desk", "bm-counter")
	admin := s.As(role.Administrator)
	_, err = admin.Activate(t.Context(), "counter-desk", three, client.Activation{Overrule: true})
	require.ErrorIs(t, err, problem.ReasonRequired)
	_, err = admin.Activate(t.Context(), "counter-desk", three,
		client.Activation{Overrule: true, Reason: "the counter opens in an hour"})
	require.NoError(t, err)
	entries, err := admin.Trail(t.Context(), client.TrailQuery{Verb: "version.activate"}, 10)
	require.NoError(t, err)
	require.Contains(t, string(entries[0].Detail), `"override":true`)
	require.Equal(t, "the counter opens in an hour", entries[0].Reason)
}

func TestPeopleAreToldAndSignedOffByHand(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Scenario: servicetest.Scenario +
		"crowds:\n  - {hosts: bo-, people: 3, shifts: [\"00:00-23:59\"]}\n"})
	s.Live("back-office")
	op := s.As(role.Operator)
	var list []client.Session
	s.Until("people to sign in", func() bool {
		var err error
		list, err = op.Sessions(t.Context(), client.SessionQuery{Pool: "back-office"})
		require.NoError(t, err)
		return len(list) == 3
	})
	told, err := op.TellPool(t.Context(), "back-office", "The ferry is late.")
	require.NoError(t, err)
	require.Equal(t, 3, told.Sessions)
	_, err = op.TellSession(t.Context(), list[0].Host, list[0].Key, " ")
	require.Error(t, err)
	require.NoError(t, op.SignOffSession(t.Context(), list[0].Host, list[0].Key, "asked for it"))
	s.Until("the session to end", func() bool {
		now, err := op.Sessions(t.Context(), client.SessionQuery{Host: list[0].Host})
		require.NoError(t, err)
		for _, x := range now {
			if x.Key == list[0].Key {
				return false
			}
		}
		return true
	})
	entries, err := op.Trail(t.Context(), client.TrailQuery{Verb: "session.sign-off"}, 10)
	require.NoError(t, err)
	require.Equal(t, "operator", entries[0].Actor)
	require.Contains(t, string(entries[0].Detail), list[0].Person)
}
