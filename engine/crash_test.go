package engine_test

import (
	"context"
	"log/slog"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/core/matter"
	"nimblepane/engine"
	"nimblepane/store"
	"nimblepane/store/storetest"
)

func TestATaskThatCrashesIsSetAsideAndOthersContinue(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	start := func(see func(context.Context, int64) (time.Duration, error)) (*engine.Engine, func()) {
		e, err := engine.New(s, engine.RealClock{}, engine.Options{Log: slog.New(slog.DiscardHandler)})
		require.NoError(t, err)
		e.Add(engine.Subject{Loops: []func(context.Context){e.Watch(store.PollFeeds, 2, see)}})
		ctx, cancel := context.WithCancel(t.Context())
		ended := make(chan error, 1)
		go func() { ended <- e.Run(ctx) }()
		return e, func() {
			cancel()
			require.NoError(t, <-ended)
		}
	}
	bad, good := store.Feed{Name: "bad", Address: "http://x"}, store.Feed{Name: "good", Address: "http://y"}
	require.NoError(t, s.DB.Create(&bad).Error)
	require.NoError(t, s.DB.Create(&good).Error)
	again := func() {
		require.NoError(t, store.WatchNow(s.DB, store.PollFeeds, bad.ID))
		require.NoError(t, store.WatchNow(s.DB, store.PollFeeds, good.ID))
	}
	var crashed, looked atomic.Int32
	e, stop := start(func(_ context.Context, id int64) (time.Duration, error) {
		if id == bad.ID {
			crashed.Add(1)
			var nothing *store.Feed
			return 0, s.DB.Create(nothing.Name).Error
		}
		looked.Add(1)
		return time.Hour, nil
	})
	require.Eventually(t, func() bool { again(); return crashed.Load() == store.CrashesAllowed }, time.Minute,
		10*time.Millisecond)
	before := looked.Load()
	require.Eventually(t, func() bool { again(); return looked.Load() > before+2 }, time.Minute, 10*time.Millisecond)
	require.EqualValues(t, store.CrashesAllowed, crashed.Load(), "it is set aside")
	today, err := e.Today(t.Context())
	require.NoError(t, err)
	require.Len(t, today, 1)
	require.Equal(t, matter.Crash, today[0].Kind)
	require.Contains(t, today[0].Detail, "nil pointer")
	stop()

	// A restart tries it again.
	var tried atomic.Bool
	_, stop = start(func(_ context.Context, id int64) (time.Duration, error) {
		tried.Store(tried.Load() || id == bad.ID)
		return time.Hour, nil
	})
	require.Eventually(t, func() bool { again(); return tried.Load() }, time.Minute, 10*time.Millisecond)
	stop()
}
