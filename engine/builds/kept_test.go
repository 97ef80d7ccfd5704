package builds_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/core/build"
	"nimblepane/engine/builds"
	"nimblepane/internal/enginetest"
	"nimblepane/store"
)

func TestALogIsKeptForAsLongAsItsImageSays(t *testing.T) {
	t.Parallel()
	p := enginetest.Open(t)
	ctx := t.Context()
	b, err := p.Builds.StartBuild(ctx, "jonas", builds.Order{
		Text: "image: desk\nbase: {disk: x.qcow2}\nmachine: {site: north-quay}\nsteps: [{name: one, restart: {}}]\n",
	}, 0, anyImage)
	require.NoError(t, err)
	db := p.Store.DB
	require.NoError(t, store.AddLog(db, b.ID, store.Work{Key: "k"}, 0, 1, time.Now(), []string{"x"}))
	left := func() int64 {
		require.NoError(t, p.Change(ctx, "test", store.PruneLogs))
		n, err := store.LogLength(db, b.ID)
		require.NoError(t, err)
		return n
	}
	ended := func(ago time.Duration, settled bool) {
		require.NoError(t, db.Model(&b).Updates(map[string]any{
			"state": build.Failed, "ended_at": p.Clock.Now().Add(-ago), "settled": settled,
		}).Error)
	}
	require.NoError(t, db.Exec("update images set log_seconds = 86400").Error)
	require.EqualValues(t, 1, left(), "it goes on")
	ended(25*time.Hour, false)
	require.EqualValues(t, 1, left(), "its machine is held")
	ended(23*time.Hour, true)
	require.EqualValues(t, 1, left())
	ended(25*time.Hour, true)
	require.EqualValues(t, 0, left())
}

// anyImage lets an account build all images.
func anyImage(string) error { return nil }
