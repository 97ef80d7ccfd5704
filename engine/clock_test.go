package engine_test

import (
	"context"
	"log/slog"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/engine"
	"nimblepane/platform/practice/world"
)

func TestThePracticeClockFollowsAndNeverRunsBackwards(t *testing.T) {
	t.Parallel()
	play := func(start string) *world.World {
		s, err := world.ParseScenario([]byte("start: " + start + "\nrate: 1000\n"))
		require.NoError(t, err)
		w, err := world.New(s, "", slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		return w
	}
	w := play("2026-11-23T12:00:00Z")
	server := httptest.NewServer(w.Handler())
	t.Cleanup(server.Close)
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	c, err := engine.NewPracticeClock(ctx, server.URL, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	go c.Follow(ctx)
	require.InDelta(t, 1000, c.Rate(), 0)
	noon := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	require.Eventually(t, func() bool { return c.Now().After(noon.Add(time.Minute)) }, 5*time.Second, time.Millisecond)

	require.NoError(t, w.SetRate(1))
	require.Eventually(t, func() bool { return c.Rate() == 1 }, 5*time.Second, 10*time.Millisecond)
	last := c.Now()
	for range 1000 {
		now := c.Now()
		require.False(t, now.Before(last), "the clock ran backwards")
		last = now
	}
	require.Error(t, w.SetRate(0))
	require.Error(t, w.SetRate(1e6))
}

func TestWaitingForAPracticeClockCanBeGivenUp(t *testing.T) {
	t.Parallel()
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err := engine.NewPracticeClock(ctx, "http://127.0.0.1:1", slog.New(slog.DiscardHandler))
	require.ErrorIs(t, err, context.Canceled)
}

func TestTheRealClockIsTheMachinesOwn(t *testing.T) {
	t.Parallel()
	c := engine.RealClock{}
	require.WithinDuration(t, time.Now(), c.Now(), time.Second)
	require.InDelta(t, 1, c.Rate(), 0)
}
