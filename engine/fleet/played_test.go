package fleet_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/core/problem"
	"nimblepane/engine/fleet"
	"nimblepane/engine/rollovers"
	"nimblepane/engine/versions"
	"nimblepane/internal/enginetest"
)

func TestPinningProductionNeedsWhatActivatingNeeds(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	require.NoError(t, p.Versions.Activate(t.Context(), "tove", "desk", p.Numbers[0],
		versions.Activation{Overrule: true, Reason: "first"}))
	pin := func(pool, version string, how fleet.Pinning) error {
		how.Reason = "stays"
		return p.Fleet.Pin(t.Context(), "jonas", pool, version, how)
	}
	require.ErrorIs(t, pin("counters", p.Numbers[1], fleet.Pinning{}), problem.Forbidden)
	require.ErrorIs(t, pin("counters", p.Numbers[1], fleet.Pinning{Approved: true}), problem.NotCleared)
	require.NoError(t, pin("counters", p.Numbers[0], fleet.Pinning{}), "live named it")
	require.NoError(t, pin("pilot", p.Numbers[1], fleet.Pinning{}), "pilot is for trying")
	require.NoError(t, pin("office", p.Numbers[1], fleet.Pinning{Approved: true, Overrule: true}))
	var verb string
	require.NoError(t, p.Store.DB.Raw("select verb from trail order by seq desc limit 1").Scan(&verb).Error)
	require.Equal(t, "pool.overrule", verb)

	// Barring and pinning one version at the same time: one of them is refused.
	for range 10 {
		_ = p.Fleet.Unpin(t.Context(), "jonas", "pilot", "")
		errs := make(chan error, 2)
		go func() { errs <- pin("pilot", p.Numbers[2], fleet.Pinning{}) }()
		go func() { errs <- p.Versions.Bar(t.Context(), "tove", "desk", p.Numbers[2], "bad") }()
		first, second := <-errs, <-errs
		require.False(t, first == nil && second == nil)
		require.NoError(t, p.Store.DB.Exec("update versions set barred = ''").Error)
	}
	require.ErrorIs(t, func() error {
		require.NoError(t, p.Versions.Activate(t.Context(), "tove", "desk", p.Numbers[1],
			versions.Activation{Overrule: true, Reason: "next"}))
		_, err := p.Rollovers.Rollback(t.Context(), "tove",
			rollovers.RollbackRequest{Image: "desk", Leaves: p.Numbers[1], Reason: "bad"})
		return err
	}(), problem.InUse)
}

func TestADryRunOfALargeEstateWritesNothing(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	large := strings.Replace(enginetest.Estate, "hosts: 5", "hosts: 100000", 1) +
		"  - {name: more, site: north-quay, image: desk, track: live, hosts: 5, host-prefix: mo, seats-per-host: 4, " +
		"machine-class: standard}\n"
	r, err := p.Fleet.LoadEstate(t.Context(), "tove", []byte(large), true)
	require.NoError(t, err)
	require.Equal(t, []string{
		"pool counters: hosts from 5 to 100000",
		"pool more: new, with 5 hosts following live of desk",
	}, r.Changes)
	var hosts int64
	require.NoError(t, p.Store.DB.Raw("select last_value from hosts_id_seq").Scan(&hosts).Error)
	require.EqualValues(t, 11, hosts, "not even a number is used up")
	new := strings.NewReplacer("north-quay", "east-quay", "name: desk", "name: bench", "image: desk", "image: bench",
		"name: pilot", "name: p2", "name: counters", "name: c2", "name: office", "name: o2", "prefix: pi", "prefix: p",
		"prefix: co", "prefix: c", "prefix: of", "prefix: o").Replace(enginetest.Estate)
	r, err = p.Fleet.LoadEstate(t.Context(), "tove", []byte(new), true)
	require.NoError(t, err)
	require.Len(t, r.Changes, 5)
}
