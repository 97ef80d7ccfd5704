package windows

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/agent"
)

func TestStates(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		connect uint32
		since   time.Duration
		known   bool
		want    agent.SessionState
	}{
		{wtsActive, time.Minute, true, agent.Active},
		{wtsActive, time.Hour, true, agent.Idle},
		{wtsActive, time.Hour, false, agent.Active},
		{wtsDisconnected, 0, true, agent.Disconnected},
		{3, 0, true, agent.Idle}, // somebody watches the session of another
	} {
		require.Equal(t, c.want, state(c.connect, c.since, c.known), "%+v", c)
	}
}

func TestTimesAndKeys(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	require.Equal(t, at, fileTime(at.UnixNano()/100+116_444_736_000_000_000))
	require.True(t, fileTime(0).IsZero())
	id, since, err := parseKey(key(7, at))
	require.NoError(t, err)
	require.EqualValues(t, 7, id)
	require.Equal(t, at, since)
	for _, bad := range []string{"", "7", "x@1", "7@x", "-1@5"} {
		_, _, err := parseKey(bad)
		require.ErrorContains(t, err, "no session", bad)
	}
}

func TestLoadComesNearWhatTheProcessorsDo(t *testing.T) {
	t.Parallel()
	var a average
	now := processorTimes{at: time.Unix(0, 0)}
	for range 20 { // ten minutes, three quarters busy
		next := processorTimes{idle: now.idle + 25, all: now.all + 100, at: now.at.Add(30 * time.Second)}
		busy, span := next.since(now)
		now = next
		a.add(busy, span)
	}
	require.InDelta(t, 0.75, float64(a), 0.01)
	busy, span := now.since(processorTimes{})
	require.Zero(t, busy)
	require.Zero(t, span)
}
