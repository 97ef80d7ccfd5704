package readiness_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	core "nimblepane/core/readiness"
	"nimblepane/core/rollover"
	"nimblepane/engine"
	"nimblepane/engine/fleet"
	"nimblepane/engine/readiness"
	"nimblepane/engine/rollovers"
	"nimblepane/engine/versions"
	"nimblepane/internal/enginetest"
	"nimblepane/store"
)

func image(t *testing.T, p *enginetest.Played) store.Image {
	t.Helper()
	img, err := store.ImageNamed(p.Store.DB, "desk")
	require.NoError(t, err)
	return img
}

func answer(t *testing.T, p *enginetest.Played) core.Answer {
	t.Helper()
	a, err := readiness.Of(p.Store.DB, image(t, p), p.Time.At)
	require.NoError(t, err)
	return a
}

// told is the matter of Today about going back, the zero value if there is none.
func told(t *testing.T, p *enginetest.Played) (found engine.Matter) {
	t.Helper()
	matters, err := p.Today(t.Context())
	require.NoError(t, err)
	for _, m := range matters {
		if m.Kind == "readiness" {
			require.Empty(t, found.Title, "it is told once")
			found = m
		}
	}
	return found
}

func TestWhetherAnImageCouldGoBackIsKnownBefore(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	ctx := t.Context()
	activate := func(number string, letGo bool) {
		t.Helper()
		require.NoError(t, p.Versions.Activate(ctx, "tove", "desk", number, versions.Activation{
			Overrule: true, Reason: "x", LetGo: letGo,
		}))
	}
	require.Equal(t, "no version was ever live", answer(t, p).Why)
	require.Empty(t, told(t, p))
	activate(p.Numbers[0], false)
	require.Equal(t, "there is no version to go back to", answer(t, p).Why)
	require.Empty(t, told(t, p), "nobody can do anything about that")

	// How long it would take is reckoned from what hosts took.
	o := rollover.DefaultOptions
	o.Batch, o.Floor = rollover.Share{Value: 100, Percent: true}, rollover.Share{}
	_, _, err := p.Rollovers.Start(ctx, "jonas", rollovers.StartRequest{
		Pools:   []string{"counters", "office"},
		Options: o,
	})
	require.NoError(t, err)
	p.Settle()
	next, err := store.VersionNumbered(p.Store.DB, image(t, p), p.Numbers[1])
	require.NoError(t, err)
	after, err := readiness.After(p.Store.DB, image(t, p), p.Time.At, next)
	require.NoError(t, err)
	require.True(t, after.Ready)
	require.Equal(t, []any{p.Numbers[0], 5, 4}, []any{after.To, after.Pools[0].Hosts, after.Pools[1].Hosts})
	require.Positive(t, after.Takes)
	require.Less(t, after.Takes, 10*time.Minute)

	// Once it is live, hosts that still run the other one have no way to go.
	activate(p.Numbers[1], false)
	a := answer(t, p)
	require.True(t, a.Ready)
	require.Zero(t, a.Takes)
	require.Empty(t, told(t, p))

	// A pool that is pinned does not go back with the others.
	require.NoError(t, p.Fleet.Pin(ctx, "tove", "office", p.Numbers[1], fleet.Pinning{
		Reason: "stays", Approved: true, Overrule: true,
	}))
	require.Len(t, answer(t, p).Pools, 1)

	// A site that does not answer, and copies that nobody read for long, keep it from going back.
	require.NoError(t, p.Store.DB.Exec("update sites set failures = 2, trouble = 'it burns', trouble_since = ?",
		p.Time.At).Error)
	m := told(t, p)
	require.True(t, m.Urgent)
	require.Equal(t, "pool counters: site north-quay does not answer: it burns", m.Detail)
	require.NoError(t, p.Store.DB.Exec("update sites set failures = 0, trouble = ''").Error)
	p.Time.At = p.Time.At.Add(4 * 24 * time.Hour)
	require.Contains(t, told(t, p).Detail, "copy 1 at north-quay was read last 4 days ago")
	p.Step() // is when it is read
	p.Step()
	require.Empty(t, told(t, p))

	// One that was let go is missed.
	activate(p.Numbers[2], true)
	m = told(t, p)
	require.False(t, m.Urgent)
	require.Equal(t, "desk could not be rolled back", m.Title)
}
