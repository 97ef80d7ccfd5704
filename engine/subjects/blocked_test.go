package subjects_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/host"
	"nimblepane/core/machine"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
	"nimblepane/store"
)

// TestNothingIsMadeFromAVersionThatWasBlockedMeanwhile blocks a version after operations were requested, and
// before the platform is asked for them.
func TestNothingIsMadeFromAVersionThatWasBlockedMeanwhile(t *testing.T) {
	t.Parallel()
	s, _, two := drifting(t, servicetest.Options{}, "back-office")
	ctx, c := t.Context(), s.As(role.Operator)
	later := func(until string) {
		t.Helper()
		require.NoError(t, s.Store.DB.Exec("update sites set retry_at = "+until).Error)
	}
	asked := func(kind store.WorkKind) {
		t.Helper()
		s.Until(string(kind)+" to be asked for", func() bool {
			var n int64
			require.NoError(t, s.Store.DB.Model(&store.Work{}).Where("kind = ? and state = 'asked'",
				kind).Count(&n).Error)
			return n > 0
		})
	}
	later("now() + interval '1 hour'")
	_, _, err := c.StartRollovers(ctx, client.StartRollovers{
		Pools:   []string{"back-office"},
		Options: servicetest.Quick,
	})
	require.NoError(t, err)
	_, err = c.CreateBuildMachine(ctx, "north-quay", client.NewBuildMachine{
		Name: "bm-blocked", Image: "counter-desk", Version: two,
	})
	require.NoError(t, err)
	first, err := c.Prove(ctx, "counter-desk", two, "north-quay")
	require.NoError(t, err)
	asked("rebuild")
	asked("make-machine")
	require.NoError(t, s.Store.DB.Exec("update versions set barred = 'printers', barred_by = 'tove', barred_at = "+
		"now() "+
		"where number = ?", two).Error)
	later("now()")

	s.Until("the machine not to be made", func() bool {
		m, err := c.BuildMachine(ctx, "north-quay", "bm-blocked")
		require.NoError(t, err)
		require.NotEqual(t, machine.Running, m.State)
		return strings.Contains(m.Why, "counter-desk "+two+" is blocked: printers")
	})
	s.Until("the first start to fail", func() bool {
		p, err := c.Proof(ctx, first.ID)
		require.NoError(t, err)
		return strings.Contains(p.Why, "is blocked: printers")
	})
	s.Until("hosts to be faulty, with the reason", func() bool {
		hosts, err := c.Hosts(ctx, client.HostQuery{Pool: "back-office"})
		require.NoError(t, err)
		for _, h := range hosts {
			if h.State == host.Faulty && strings.Contains(h.Why, "is blocked: printers") {
				return true
			}
		}
		return false
	})
	_, err = c.Prove(ctx, "counter-desk", two, "north-quay")
	require.ErrorContains(t, err, "printers")
}
