package agent

import (
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func fine() Heartbeat {
	return Heartbeat{
		Stamp: "counter-desk 2026.11.1", Drain: 7, Load: 0.3,
		Checks: Checks{Order: 3, State: ChecksFailed, Why: "printer:\n\tout of paper"}, Done: []int64{1},
		Sessions: []Session{{Key: "utmp:pts/0", Person: "Ida Strånd", State: Active, Since: noon.Add(-time.Hour)}},
	}
}

func TestWhatAHeartbeatMayHold(t *testing.T) {
	t.Parallel()
	require.NoError(t, fine().Check(noon))
	require.NoError(t, Heartbeat{}.Check(noon))
	session := func(change func(*Session)) func(*Heartbeat) {
		return func(h *Heartbeat) { change(&h.Sessions[0]) }
	}
	for want, change := range map[string]func(*Heartbeat){
		"stamp: write it as":     func(h *Heartbeat) { h.Stamp = "counter-desk\x00" },
		"drain: an order has":    func(h *Heartbeat) { h.Drain = -1 },
		"checks.order: an order": func(h *Heartbeat) { h.Checks.Order = math.MinInt64 },
		"checks.state: use":      func(h *Heartbeat) { h.Checks.State = "happy" },
		"checks.why: it holds control characters": func(h *Heartbeat) {
			h.Checks.Why = "\x1b]8;;http://x\x07"
		},
		"checks.why: it has 2001 characters": func(h *Heartbeat) {
			h.Checks.Why = strings.Repeat("å",
				2001)
		},
		"load: use 0 to":           func(h *Heartbeat) { h.Load = math.NaN() },
		"load: use 0":              func(h *Heartbeat) { h.Load = 1e300 },
		"done: it has 2001 orders": func(h *Heartbeat) { h.Done = make([]int64, 2001) },
		"sessions: there are 1201": func(h *Heartbeat) {
			h.Sessions = make([]Session,
				1201)
		},
		"sessions[0].key: it is empty":              session(func(s *Session) { s.Key = "" }),
		"sessions[0].person: it is empty":           session(func(s *Session) { s.Person = "" }),
		"sessions[0].person: it is not UTF-8":       session(func(s *Session) { s.Person = "\xff" }),
		"sessions[0].person: it holds control":      session(func(s *Session) { s.Person = "Ida\u009b31m" }),
		"sessions[0].state: use":                    session(func(s *Session) { s.State = "asleep" }),
		"sessions[0].since: a session begins after": session(func(s *Session) { s.Since = time.Time{} }),
		"sessions[0].since: a session begins": session(
			func(s *Session) { s.Since = noon.AddDate(1, 0, 0) }),
		"sessions[1].key: another session of the list has it": func(h *Heartbeat) {
			h.Sessions = append(h.Sessions,
				h.Sessions[0])
		},
	} {
		h := fine()
		change(&h)
		require.ErrorContains(t, h.Check(noon), want)
	}
	require.Equal(t, 28, MostSessions(4))
	require.Equal(t, MaxList, MostSessions(5000))
}

func TestAnAgentSendsWhatIsTaken(t *testing.T) {
	t.Parallel()
	require.Equal(t, fine(), fine().Clean())
	rapid.Check(t, func(t *rapid.T) {
		junk := rapid.OneOf(rapid.String(), rapid.StringMatching(`[\x00-\x1f]{1,5}a`),
			rapid.Map(rapid.SliceOf(rapid.Byte()), func(b []byte) string { return string(b) }))
		h := fine()
		h.Checks.Why, h.Load = junk.Draw(t, "why"), rapid.Float64().Draw(t, "load")
		h.Sessions[0].Person = junk.Draw(t, "person")
		h.Sessions[0].Since = time.Unix(rapid.Int64Range(-1e12, noon.Unix()).Draw(t, "since"), 0)
		require.NoError(t, h.Clean().Check(noon))
	})
}
