package subjects_test

import (
	"net"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/role"
	"nimblepane/core/rollover"
	"nimblepane/internal/servicetest"
)

// hole listens and never answers.
func hole(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			t.Cleanup(func() { c.Close() })
		}
	}()
	return "http://" + l.Addr().String()
}

// TestASiteThatHangsKeepsNobodyElseWaiting has more works wait for a site that
// never answers than there are workers, beside a site that answers.
func TestASiteThatHangsKeepsNobodyElseWaiting(t *testing.T) {
	t.Parallel()
	estate := strings.Replace(servicetest.Estate, "hosts: 4, host-prefix: bo", "hosts: 90, host-prefix: bo", 1)
	estate = strings.ReplaceAll(estate, "clones-per-copy: 4", "clones-per-copy: 100")
	s := servicetest.Start(t, servicetest.Options{
		Estate: estate,
		Scenario: strings.ReplaceAll(servicetest.Scenario, "-quay\n    knobs",
			"-quay\n    clones-per-copy: 100\n    knobs"),
	})
	ctx := t.Context()
	s.Live()
	file := s.EstateFile(estate)
	hung := []byte(strings.Replace(string(file), "name: south-quay, platform: practice, address: "+s.PlatformURL,
		"name: south-quay, platform: practice, address: "+hole(t), 1))
	admin := s.As(role.Administrator)
	require.NoError(t, s.World.SetRate(30)) // or two hours pass, after which a rebuild counts as failed
	_, err := admin.LoadEstate(ctx, hung, false)
	require.NoError(t, err)
	rows, _, err := admin.StartRollovers(ctx, client.StartRollovers{
		Pools:   []string{"back-office", "ticket-counters"},
		Options: servicetest.Quick,
	})
	require.NoError(t, err)
	s.Until("works to wait for the site", func() bool {
		var asked int64
		require.NoError(t, s.Store.DB.Raw("select count(*) from works where kind = 'rebuild' and state = 'asked' "+
			"and key like 'rebuild-%' and site_id = (select id from sites where name = 'south-quay')").Scan(
			&asked).Error)
		return asked == 90
	})
	require.Equal(t, rollover.Finished, s.Ended(rows[1].ID).State, "the other site goes on")
	var held int64
	require.NoError(t, s.Store.DB.Raw("select count(*) from works where held_until > now() and site_id = (select id "+
		"from sites where name = 'south-quay')").Scan(&held).Error)
	require.LessOrEqual(t, held, int64(24), "it has its share of the workers, and no more")
	s.Until("Today to tell", func() bool {
		matters, err := admin.Today(ctx)
		require.NoError(t, err)
		return matters[0].Kind == "site" && strings.Contains(matters[0].Title, "Site south-quay has not answered since")
	})
	site, err := admin.Site(ctx, "south-quay")
	require.NoError(t, err)
	require.Contains(t, site.Trouble, "south-quay")
	// What needs the other site only is not kept waiting either.
	v, err := admin.Capture(ctx, "counter-desk", client.Capture{BuildMachine: "bm-counter", Site: "north-quay"})
	require.NoError(t, err)
	s.Until("a capture at the other site", func() bool {
		v, err = admin.Version(ctx, "counter-desk", v.Number)
		require.NoError(t, err)
		return v.State == "sealed"
	})

	_, err = admin.LoadEstate(ctx, file, false)
	require.NoError(t, err)
	require.NoError(t, s.World.SetRate(300))
	require.Equal(t, rollover.Finished, s.Ended(rows[0].ID).State)
	site, err = admin.Site(ctx, "south-quay")
	require.NoError(t, err)
	require.Empty(t, site.Trouble)
	for verb := range map[string]bool{"site.silent": true, "site.heard": true} {
		entries, err := admin.Trail(ctx, client.TrailQuery{Verb: verb, Subject: "south-quay"}, 100)
		require.NoError(t, err)
		require.Len(t, entries, 1, verb)
	}
}
