// Package windows lends the agent what it needs of a Windows system: sessions,
// messages and sign-off through the Remote Desktop Services API (wtsapi32), and
// draining through the logon command that ships with Remote Desktop Session
// Host. What does not call Windows compiles everywhere, so that it is tested.
package windows

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"nimblepane/agent"
)

// States of a session, as WTS_CONNECTSTATE_CLASS numbers them.
const (
	wtsActive       = 0
	wtsDisconnected = 4
)

// idleAfter is how long without a key or the mouse makes a session idle.
const idleAfter = 15 * time.Minute

// state translates a session's state. Windows tells the last input only of
// sessions that come over the network.
func state(connect uint32, sinceInput time.Duration, known bool) agent.SessionState {
	switch {
	case connect == wtsDisconnected:
		return agent.Disconnected
	case connect == wtsActive && known && sinceInput > idleAfter:
		return agent.Idle
	case connect == wtsActive:
		return agent.Active
	}
	return agent.Idle
}

// fileTime reads a FILETIME: hundreds of nanoseconds since 1601 in UTC.
func fileTime(t int64) time.Time {
	if t == 0 {
		return time.Time{}
	}
	const toUnix = 116_444_736_000_000_000
	return time.Unix(0, (t-toUnix)*100).UTC()
}

// key of a session: Windows uses its numbers again, so the time of the sign-in goes with it.
func key(id uint32, since time.Time) string { return fmt.Sprintf("%d@%d", id, since.Unix()) }

func parseKey(k string) (id uint32, since time.Time, err error) {
	number, at, ok := strings.Cut(k, "@")
	n, err := strconv.ParseUint(number, 10, 32)
	seconds, aerr := strconv.ParseInt(at, 10, 64)
	if !ok || err != nil || aerr != nil {
		return 0, since, fmt.Errorf("%q is no session of this machine", k)
	}
	return uint32(n), time.Unix(seconds, 0).UTC(), nil
}

// processorTimes are the sums over all processors since the start, in hundreds
// of nanoseconds; all includes idle.
type processorTimes struct {
	idle, all uint64
	at        time.Time
}

// since is the busy share since an earlier reading, and how long ago that was.
func (p processorTimes) since(earlier processorTimes) (busy float64, span time.Duration) {
	if earlier.at.IsZero() || p.all <= earlier.all {
		return 0, 0
	}
	return 1 - float64(p.idle-earlier.idle)/float64(p.all-earlier.all), p.at.Sub(earlier.at)
}

// average is an exponentially damped average over a minute, as the kernel of
// Linux keeps its first load average.
type average float64

func (a *average) add(value float64, span time.Duration) float64 {
	keep := math.Exp(-span.Minutes())
	*a = average(float64(*a)*keep + value*(1-keep))
	return float64(*a)
}
