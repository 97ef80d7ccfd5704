package rollovers_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nimblepane/core/host"
	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/core/rollover"
	"nimblepane/engine/rollovers"
	"nimblepane/engine/versions"
	"nimblepane/internal/enginetest"
	"nimblepane/store"
	"nimblepane/store/storetest"
)

func TestAfterARollbackEveryHostIsOnItsWayToWhatItShouldRun(t *testing.T) {
	t.Parallel()
	st := storetest.Open(t)
	rapid.Check(t, func(rt *rapid.T) {
		require.NoError(rt, st.DB.Exec("truncate sites, images, machines, works, trail, events restart identity "+
			"cascade").Error)
		p := enginetest.On(rt, st)
		require.NoError(rt, p.Versions.Activate(t.Context(), "tove", "desk", p.Numbers[0],
			versions.Activation{Overrule: true, Reason: "first"}))
		require.NoError(rt, p.Versions.Stage(t.Context(), "tove", "desk", p.Numbers[0], versions.Staging{}))
		for range rapid.IntRange(5, 30).Draw(rt, "acts") {
			what, err := p.Act(rt)
			if err == nil && strings.HasPrefix(what, "rollback") {
				require.Empty(rt, p.Lost(), "after a rollback")
			}
			var disturbed []string
			require.NoError(rt, p.Store.DB.Raw(`select h.name || ' ' || h.state from hosts h join machines b
				on b.from_host = h.name and b.state = 'copying' where h.state <> 'emptied' or exists (select from
				rollover_hosts m join rollovers r on r.id = m.rollover_id where m.host_id = h.id and not r.settled and
				m.phase in ('draining', 'warned', 'emptied', 'rebuilding', 'checking'))`).Scan(&disturbed).Error)
			require.Empty(rt, disturbed, "whose disk is being copied")
			var lost []string
			require.NoError(rt, p.Store.DB.Raw(`select number from versions v where state = 'retired' and (
				exists (select from tracks t where v.id = t.version_id or t.name = 'live' and v.id = t.fallback_id)
				or exists (select from pools p where p.pinned_id = v.id)
				or exists (select from hosts h where h.version_id = v.id)
				or exists (select from rollovers r where r.target_id = v.id and not r.settled))`).Scan(&lost).Error)
			require.Empty(rt, lost, "retired, and somebody needs it")
		}
		for _, pool := range p.Pools {
			_ = p.Fleet.Unpin(t.Context(), "tove", pool, "")
		}
		for _, host := range []string{"pi-001", "co-001", "of-001"} {
			_, _ = p.Builds.DiscardMachine(t.Context(), "jonas", "north-quay", "bm-"+host)
			_ = p.Fleet.Return(t.Context(), "jonas", host, "")
		}
		p.Settle()
		if _, err := p.Rollovers.Rollback(t.Context(), "tove",
			rollovers.RollbackRequest{Image: "desk", Leaves: p.Names(image.Live), Reason: "bad"}); err != nil {
			return // nothing to go back to
		}
		p.Settle()
		require.Empty(rt, p.Lost())
		var ghosts int64
		require.NoError(rt, p.Store.DB.Model(&store.Host{}).Where("state not in ('serving', 'off')").Count(
			&ghosts).Error)
		require.Zero(rt, ghosts)
	})
}

func TestTwoWhoRollBackAtOnceGoBackOneStep(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	for _, v := range p.Numbers[:3] {
		require.NoError(t, p.Versions.Activate(t.Context(), "tove", "desk", v,
			versions.Activation{Overrule: true, Reason: "next"}))
	}
	errs := make(chan error, 2)
	for range 2 {
		go func() {
			_, err := p.Rollovers.Rollback(t.Context(), "tove",
				rollovers.RollbackRequest{Image: "desk", Leaves: p.Numbers[2], Reason: "bad"})
			errs <- err
		}()
	}
	require.NoError(t, <-errs)
	require.NoError(t, <-errs)
	require.Equal(t, p.Numbers[1], p.Names(image.Live))
	again, err := p.Rollovers.Rollback(t.Context(), "tove",
		rollovers.RollbackRequest{Image: "desk", Leaves: p.Numbers[2], Reason: "bad"})
	require.NoError(t, err)
	require.True(t, again.Already)
	require.Equal(t, []string{p.Numbers[2], p.Numbers[1]}, []string{again.From, again.To})
	good, err := store.VersionNumbered(p.Store.DB, p.Image(), p.Numbers[1])
	require.NoError(t, err)
	require.Empty(t, good.Barred, "the good version is not blocked")

	over := rollover.UrgentOptions
	over.EarliestStart = p.Time.At.Add(-time.Minute)
	again, err = p.Rollovers.Rollback(t.Context(), "tove",
		rollovers.RollbackRequest{Image: "desk", Leaves: p.Numbers[2], Reason: "bad", Options: over})
	require.NoError(t, err, "a request that is repeated after its earliest start")
	require.True(t, again.Already)
	_, err = p.Rollovers.Rollback(t.Context(), "tove",
		rollovers.RollbackRequest{Image: "desk", Leaves: p.Numbers[1], Reason: "bad", Options: over})
	require.ErrorIs(t, err, problem.InvalidRequest)

	// Another target, or a version that live did not leave by a rollback, is another request.
	_, err = p.Rollovers.Rollback(t.Context(), "tove",
		rollovers.RollbackRequest{Image: "desk", Leaves: p.Numbers[2], To: p.Numbers[0], Reason: "bad"})
	require.ErrorIs(t, err, problem.ChangedSinceRead)
	_, err = p.Rollovers.Rollback(t.Context(), "tove",
		rollovers.RollbackRequest{Image: "desk", Leaves: p.Numbers[0], Reason: "bad"})
	require.ErrorIs(t, err, problem.ChangedSinceRead)

	// The version that was rolled back is later than the live one: it can be activated, and not rolled back to.
	require.NoError(t, p.Versions.Unblock(t.Context(), "tove", "desk", p.Numbers[2], "it was the printer"))
	_, err = p.Rollovers.Rollback(t.Context(), "tove",
		rollovers.RollbackRequest{Image: "desk", Leaves: p.Numbers[1], To: p.Numbers[2], Reason: "bad"})
	require.ErrorIs(t, err, problem.InvalidRequest)
	moved := p.Numbers[0]
	err = p.Versions.Activate(t.Context(), "tove", "desk", p.Numbers[3],
		versions.Activation{Overrule: true, Reason: "r", Leaves: &moved})
	require.ErrorIs(t, err, problem.ChangedSinceRead)
}

// TestAPoolOfOneHostKeepsNobodyFromRollingBack: no floor holds there, and nobody has time to give one while a version
// is bad.
func TestAPoolOfOneHostKeepsNobodyFromRollingBack(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	_, err := p.Fleet.LoadEstate(t.Context(), "tove", []byte(enginetest.Estate+
		"  - {name: kiosk, site: north-quay, image: desk, track: live, hosts: 1, host-prefix: ki, seats-per-host: 4, "+
		"machine-class: standard}\n"), false)
	require.NoError(t, err)
	for _, v := range p.Numbers[:2] {
		require.NoError(t, p.Versions.Activate(t.Context(), "tove", "desk", v,
			versions.Activation{Overrule: true, Reason: "next"}))
	}
	_, _, err = p.Rollovers.Start(t.Context(), "jonas",
		rollovers.StartRequest{Pools: []string{"kiosk"}, Options: rollover.DefaultOptions})
	require.ErrorIs(t, err, problem.InvalidRequest, "who gives a floor is told that it cannot hold")
	none := rollover.DefaultOptions
	none.Floor = rollover.Share{}
	_, _, err = p.Rollovers.Start(t.Context(), "jonas",
		rollovers.StartRequest{Pools: []string{"kiosk", "counters", "office"}, Options: none})
	require.NoError(t, err)
	p.Settle()
	r, err := p.Rollovers.Rollback(t.Context(), "tove",
		rollovers.RollbackRequest{Image: "desk", Leaves: p.Numbers[1], Reason: "bad"})
	require.NoError(t, err)
	floors := map[int]int{}
	for _, row := range r.Rollovers {
		floors[row.Plan.V.Floor]++
	}
	require.Equal(t, map[int]int{2: 2, 0: 1}, floors, "the others keep theirs")
	p.Settle()
	h, err := store.HostNamed(p.Store.DB, "ki-001")
	require.NoError(t, err)
	require.Equal(t, host.Serving, h.State)
}

func TestAStoppedRolloverOfAGrownPoolLeavesNoGhosts(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	require.NoError(t, p.Versions.Activate(t.Context(), "tove", "desk", p.Numbers[0],
		versions.Activation{Overrule: true, Reason: "first"}))
	o := rollover.DefaultOptions
	o.Batch, o.Floor = rollover.Share{Value: 100, Percent: true}, rollover.Share{}
	start := func() int64 {
		rows, _, err := p.Rollovers.Start(t.Context(), "jonas",
			rollovers.StartRequest{Pools: []string{"counters"}, Options: o})
		require.NoError(t, err)
		return rows[0].ID
	}
	start()
	p.Settle()
	_, err := p.Fleet.LoadEstate(t.Context(), "tove",
		[]byte(strings.Replace(enginetest.Estate, "hosts: 5", "hosts: 29", 1)), false)
	require.NoError(t, err)
	id := start()
	require.NoError(t, p.Tick(t.Context(), store.RolloverTicks, id))
	require.NoError(t, p.Tick(t.Context(), store.RolloverTicks, id))
	require.NoError(t, p.Rollovers.Stop(t.Context(), "jonas", id, "not now"))
	p.Settle()
	var states []string
	require.NoError(t, p.Store.DB.Raw("select distinct state || ' ' || machine from hosts where pool_id = (select "+
		"id from pools where name = 'counters') order by 1").Scan(&states).Error)
	require.Equal(t, []string{"off false", "serving true"}, states)
}

func TestAWordThatAHostIsEmptyEndsWithItsRollover(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	require.NoError(t, p.Versions.Activate(t.Context(), "tove", "desk", p.Numbers[0],
		versions.Activation{Overrule: true, Reason: "first"}))
	o := rollover.DefaultOptions
	o.Batch, o.Floor = rollover.Share{Value: 100, Percent: true}, rollover.Share{}
	_, _, err := p.Rollovers.Start(t.Context(), "jonas", rollovers.StartRequest{
		Pools:   []string{"counters"},
		Options: o,
	})
	require.NoError(t, err)
	p.Settle()
	p.Fleet.Listening = p.Time.At
	p.Time.At = p.Time.At.Add(10 * time.Minute)
	require.NoError(t, p.Sweep(t.Context()))
	now := func() store.Host {
		h, err := store.HostNamed(p.Store.DB, "co-001")
		require.NoError(t, err)
		return h
	}
	require.Equal(t, host.Faulty, now().State)
	require.NoError(t, p.Store.DB.Exec("update copies set state = 'failed'").Error) // it has to wait for a clone
	r, err := p.Rollovers.Rebuild(t.Context(), "jonas",
		rollovers.RebuildRequest{Host: "co-001", Vouched: true, Reason: "I stood before it"})
	require.NoError(t, err)
	require.NoError(t, p.Tick(t.Context(), store.RolloverTicks, r.ID))
	require.NoError(t, p.Tick(t.Context(), store.RolloverTicks, r.ID))
	require.Equal(t, host.Emptied, now().State)
	require.NoError(t, p.Sweep(t.Context()))
	require.Equal(t, host.Emptied, now().State, "that it is silent is known")
	require.NoError(t, p.Rollovers.Stop(t.Context(), "jonas", r.ID, "not now"))
	require.NoError(t, p.Tick(t.Context(), store.RolloverTicks, r.ID))
	h := now()
	require.Equal(t, host.Faulty, h.State)
	require.True(t, h.Silent, "it comes back when it is heard")
	require.Nil(t, h.VouchedAt)
	p.Step()
	require.Equal(t, host.Serving, now().State)
	require.EqualValues(t, 0, now().DrainOrder)
}
