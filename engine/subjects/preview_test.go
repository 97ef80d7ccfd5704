package subjects_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/dustin/go-humanize/english"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"
	"pgregory.net/rapid"

	"nimblepane/core/act"
	"nimblepane/core/image"
	"nimblepane/core/rollover"
	"nimblepane/engine"
	"nimblepane/engine/fleet"
	"nimblepane/engine/rollovers"
	"nimblepane/engine/versions"
	"nimblepane/internal/enginetest"
	"nimblepane/store"
	"nimblepane/store/storetest"
)

// TestAPreviewSaysWhatTheActComesTo has every act previewed before it is done.
func TestAPreviewSaysWhatTheActComesTo(t *testing.T) {
	t.Parallel()
	st := storetest.Open(t)
	rapid.Check(t, func(rt *rapid.T) {
		require.NoError(rt, st.DB.Exec("truncate sites, images, trail, events restart identity cascade").Error)
		p := enginetest.On(rt, st)
		entries := func() (n int64) {
			require.NoError(rt, st.DB.Raw("select count(*) from trail").Scan(&n).Error)
			return n
		}
		o := rollover.DefaultOptions
		o.Floor = rollover.Share{}
		for range 12 {
			r := engine.PreviewRequest{
				Image: "desk", Number: rapid.SampledFrom(p.Numbers).Draw(rt, "version"),
				Pools: []string{rapid.SampledFrom(p.Pools).Draw(rt, "pool")}, Options: o,
				Overrule: rapid.Bool().Draw(rt, "overrule"), Approved: true,
			}
			r.Act = rapid.SampledFrom(append(act.Names(), act.Activate)).Draw(rt, "act")
			before := entries()
			preview, err := p.Preview(t.Context(), "tove", r)
			require.NoError(rt, err)
			require.Equal(rt, before, entries(), "a preview changed something")
			last, err := lastRollover(st.DB)
			require.NoError(rt, err)
			var started []store.Rollover
			switch r.Act {
			case act.Stage:
				err = p.Versions.Stage(t.Context(), "tove", "desk", r.Number, versions.Staging{Leaves: &preview.Leaves})
			case act.Activate:
				err = p.Versions.Activate(t.Context(), "tove", "desk", r.Number,
					versions.Activation{Overrule: r.Overrule, Reason: "r", Leaves: &preview.Leaves})
			case act.Rollback:
				var back rollovers.RollbackResult
				back, err = p.Rollovers.Rollback(t.Context(), "tove",
					rollovers.RollbackRequest{
						Image: "desk", To: r.Number, Reason: "r", Leaves: preview.Leaves, Options: o,
					})
				started = back.Rollovers
			case act.Retire:
				err = p.Versions.Retire(t.Context(), "tove", "desk", r.Number, "r")
			case act.Pin:
				err = p.Fleet.Pin(t.Context(), "tove", r.Pools[0], r.Number,
					fleet.Pinning{Reason: "r", Approved: true, Overrule: r.Overrule})
			case act.Roll:
				started, _, err = p.Rollovers.Start(t.Context(), "tove", rollovers.StartRequest{
					Pools:   r.Pools,
					Options: o,
				})
			}
			if preview.Refused == nil {
				require.NoError(rt, err, "the preview of %s saw nothing against it", r.Act)
				require.NotEmpty(rt, preview.Will)
				requireDrift(rt, st.DB, r, preview)
				for i, s := range started {
					require.Equal(rt, last+int64(i)+1, s.ID, "a preview used the number of a rollover up")
					pool, err := store.PoolByID(st.DB, s.PoolID)
					require.NoError(rt, err)
					members, err := store.RolloverHosts(st.DB, s.ID)
					require.NoError(rt, err)
					require.Contains(rt, strings.Join(preview.Will, " "), fmt.Sprintf("Pool %s: %s taken to", pool.Name,
						english.Plural(len(members), "host is", "hosts are")))
				}
			} else {
				require.EqualError(rt, err, preview.Refused.Error())
			}
			p.Step()
		}
	})
}

// requireDrift checks how many hosts a preview said would drift, after its act was done.
func requireDrift(t require.TestingT, db *gorm.DB, r engine.PreviewRequest, p engine.Preview) {
	said := strings.Join(p.Will, " ")
	if strings.Contains(said, "already names") {
		return
	}
	drifting := func(follows func(store.Pool) bool) (hosts, pools int) {
		img, err := store.ImageNamed(db, r.Image)
		require.NoError(t, err)
		var all []store.Pool
		require.NoError(t, db.Where("image_id = ?", img.ID).Find(&all).Error)
		for _, pool := range all {
			rows, err := store.HostRows(db, store.HostFilter{Pool: pool.Name, Drifts: true})
			require.NoError(t, err)
			if n := len(rows); n > 0 && follows(pool) {
				hosts, pools = hosts+n, pools+1
			}
		}
		return hosts, pools
	}
	switch r.Act {
	case act.Stage, act.Activate:
		track := map[act.Name]string{act.Stage: image.Pilot, act.Activate: image.Live}[r.Act]
		hosts, pools := drifting(func(p store.Pool) bool { return p.Track == track && p.PinnedID == nil })
		require.Contains(t, said, fmt.Sprintf("%s in %s that follow %s run another version",
			english.Plural(hosts, "host", ""), english.Plural(pools, "pool", ""), track))
	case act.Pin:
		hosts, _ := drifting(func(p store.Pool) bool { return p.Name == r.Pools[0] })
		require.Contains(t, said, fmt.Sprintf("%d of its ", hosts))
	}
}

// lastRollover returns the last number that was given to a rollover, 0 if none was.
func lastRollover(db *gorm.DB) (id int64, err error) {
	return id, db.Raw("select last from rollover_numbers").Scan(&id).Error
}

func TestPreviewsAreReadable(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	preview := func(r engine.PreviewRequest) engine.Preview {
		r.Image, r.Options, r.Approved = "desk", rollover.DefaultOptions, true
		out, err := p.Preview(t.Context(), "tove", r)
		require.NoError(t, err)
		return out
	}
	require.NoError(t, p.Versions.Activate(t.Context(), "tove", "desk", p.Numbers[0],
		versions.Activation{Overrule: true, Reason: "first"}))
	require.Equal(t, []string{
		"Track pilot of desk goes from nothing to 2026.11.2.",
		"2 hosts in 1 pool that follow pilot run another version: they drift until they are rolled over.",
		"Nobody's session changes now.",
		"Production does not change.",
	}, preview(engine.PreviewRequest{Act: "stage", Number: p.Numbers[1]}).Will)
	a := preview(engine.PreviewRequest{Act: "activate", Number: p.Numbers[1]})
	require.Equal(t, "2026.11.1", a.Leaves)
	require.Contains(t, a.Refused.Error(), "has no clearance")
	require.Contains(t, strings.Join(a.Will, " "), "2026.11.1 is kept as the fallback.")
	require.Equal(t, []string{
		"Pool counters: 5 hosts are taken to 2026.11.1 in batches of 1; 2 seats stay free and " +
			"in service. No session is open on those hosts now.",
		"Options: batch 10%, floor 10%, log-off wait, grace 15 min, last notice 2 min, failure budget 1 (the " +
			"defaults " +
			"of a rollover).",
	},
		preview(engine.PreviewRequest{Act: "roll", Pools: []string{"counters"}}).Will)
	require.NoError(t, p.Versions.Activate(t.Context(), "tove", "desk", p.Numbers[1],
		versions.Activation{Overrule: true, Reason: "next"}))
	require.Equal(t, "live of desk goes from 2026.11.2 back to 2026.11.1. 2026.11.2 is blocked with your reason, "+
		"until it is unblocked.",
		strings.Join(preview(engine.PreviewRequest{Act: "rollback"}).Will[:2], " "))
	_, err := p.Preview(t.Context(), "tove", engine.PreviewRequest{Act: "fly"})
	require.ErrorContains(t, err, "use stage, activate, rollback, retire, pin or roll")
}
