package host_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/core/host"
)

// reachable are the states that a host can come to from one, that one included.
func reachable(from host.State, closed ...host.State) map[host.State]bool {
	found := map[host.State]bool{}
	for _, s := range closed {
		found[s] = true
	}
	queue := []host.State{from}
	for len(queue) > 0 {
		s := queue[0]
		queue = queue[1:]
		if found[s] {
			continue
		}
		found[s] = true
		for _, to := range host.States() {
			if s != to && s.CanBecome(to) {
				queue = append(queue, to)
			}
		}
	}
	return found
}

func TestEveryStateIsReachedAndLeft(t *testing.T) {
	t.Parallel()
	for _, s := range host.States() {
		require.True(t, s.CanBecome(s), s)
		require.True(t, reachable(host.Off)[s], "%s is never reached", s)
		require.True(t, reachable(s)[host.Serving], "%s is a dead end", s)
	}
}

func TestNoDiskIsReplacedButOfAnEmptiedHost(t *testing.T) {
	t.Parallel()
	for _, s := range host.States() {
		require.Equal(t, s == host.Emptied || s == host.Rebuilding, s.CanBecome(host.Rebuilding), s)
	}
}

func TestAHostThatGetsADiskServesOnlyAfterItsChecks(t *testing.T) {
	t.Parallel()
	// What is faulty may be put to service by a person, or when it is heard again.
	require.False(t, reachable(host.Rebuilding, host.Checking, host.Faulty)[host.Serving])
	require.False(t, host.Off.CanBecome(host.Serving), "it has no machine")
	require.False(t, host.State("parked").CanBecome(host.Serving))
	require.False(t, host.Serving.CanBecome("parked"))
}
