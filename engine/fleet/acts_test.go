package fleet_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/agent"
	"nimblepane/core/host"
	"nimblepane/core/problem"
	"nimblepane/core/rollover"
	"nimblepane/engine/fleet"
	"nimblepane/engine/rollovers"
	"nimblepane/engine/versions"
	"nimblepane/internal/enginetest"
	"nimblepane/store"
)

// rolled returns an estate whose pools run the first version.
func rolled(t *testing.T) *enginetest.Played {
	p := enginetest.Open(t)
	ctx := t.Context()
	require.NoError(t, p.Versions.Stage(ctx, "jonas", "desk", p.Numbers[0], versions.Staging{}))
	require.NoError(t, p.Versions.Activate(ctx, "tove", "desk", p.Numbers[0],
		versions.Activation{Overrule: true, Reason: "first"}))
	o := rollover.DefaultOptions
	o.Batch, o.Floor = rollover.Share{Value: 100, Percent: true}, rollover.Share{}
	_, _, err := p.Rollovers.Start(ctx, "jonas", rollovers.StartRequest{Pools: p.Pools, Options: o})
	require.NoError(t, err)
	p.Settle()
	return p
}

func hostNamed(t *testing.T, p *enginetest.Played, name string) store.HostRow {
	h, err := store.HostRowNamed(p.Store.DB, name)
	require.NoError(t, err)
	return h
}

// reports has the host's agent say who is on it, as of now.
func reports(t *testing.T, p *enginetest.Played, name, sessions string) {
	require.NoError(t, p.Store.DB.Exec(`update pulses u set seen_at = ?, drain_confirmed = h.drain_order, sessions = ?
		from hosts h where u.host_id = h.id and h.name = ?`, p.Time.At, sessions, name).Error)
}

func lastVerb(t *testing.T, p *enginetest.Played) (verb string) {
	require.NoError(t, p.Store.DB.Raw("select verb || ' ' || subject from trail order by seq desc limit 1").
		Scan(&verb).Error)
	return verb
}

const ida = `[{"key": "s1", "person": "Ida Strand", "state": "active", "since": "2026-11-23T06:00:00Z"}]`

func TestAHostDrainedByHandEmptiesFillsAndIsReturned(t *testing.T) {
	t.Parallel()
	p := rolled(t)
	ctx := t.Context()
	reports(t, p, "co-001", ida)
	require.NoError(t, p.Fleet.Drain(ctx, "jonas", "co-001", "memory"))
	h := hostNamed(t, p, "co-001")
	require.Equal(t, host.Draining, h.State)
	require.Equal(t, "jonas", h.DrainedBy)
	before := lastVerb(t, p)
	require.NoError(t, p.Fleet.Drain(ctx, "tove", "co-001", ""))
	require.Equal(t, h, hostNamed(t, p, "co-001"), "it is drained already")
	require.Equal(t, before, lastVerb(t, p))

	require.NoError(t, p.Sweep(ctx))
	require.Equal(t, host.Draining, hostNamed(t, p, "co-001").State, "somebody is on it")
	reports(t, p, "co-001", "[]")
	require.NoError(t, p.Sweep(ctx))
	require.Equal(t, host.Emptied, hostNamed(t, p, "co-001").State)
	require.Equal(t, "host.empty host co-001", lastVerb(t, p))
	reports(t, p, "co-001", ida)
	require.NoError(t, p.Sweep(ctx))
	require.Equal(t, host.Draining, hostNamed(t, p, "co-001").State, "somebody came after all")

	require.NoError(t, p.Fleet.Return(ctx, "jonas", "co-001", ""))
	h = hostNamed(t, p, "co-001")
	require.Equal(t, host.Serving, h.State)
	require.Empty(t, h.DrainedBy)
	require.NoError(t, p.Fleet.Return(ctx, "jonas", "co-001", ""), "it is returned already")
	require.ErrorIs(t, p.Fleet.Drain(ctx, "jonas", "no-001", ""), store.ErrNotFound)
}

func TestASilentHostIsFaultyUntilItSpeaks(t *testing.T) {
	t.Parallel()
	p := rolled(t)
	ctx := t.Context()
	p.Time.At = p.Time.At.Add(p.Fleet.Limits().Silent + time.Second)
	require.NoError(t, p.Sweep(ctx))
	h := hostNamed(t, p, "co-001")
	require.Equal(t, host.Faulty, h.State)
	require.ErrorIs(t, p.Fleet.Return(ctx, "jonas", "co-001", "it is well"), problem.WrongState)
	require.Equal(t, host.Faulty, hostNamed(t, p, "of-004").State, "no host was heard")

	reports(t, p, "co-001", ida)
	require.NoError(t, p.Sweep(ctx))
	h = hostNamed(t, p, "co-001")
	require.Equal(t, host.Serving, h.State)
	require.Empty(t, h.Why)
	require.Equal(t, host.Faulty, hostNamed(t, p, "of-004").State)
}

func TestWhatFailedIsReturnedAtSomebodysWordOnly(t *testing.T) {
	t.Parallel()
	p := rolled(t)
	ctx := t.Context()
	require.NoError(t, p.Store.DB.Exec(
		"update hosts set state = 'faulty', why = 'Fare Desk did not open' where name = 'co-001'").Error)
	reports(t, p, "co-001", "[]")
	require.NoError(t, p.Sweep(ctx))
	require.Equal(t, host.Faulty, hostNamed(t, p, "co-001").State, "that it speaks does not mend its checks")
	var refused *problem.Problem
	require.ErrorAs(t, p.Fleet.Return(ctx, "jonas", "co-001", " "), &refused)
	require.Equal(t, problem.ReasonRequired, refused.Type)
	require.ErrorContains(t, refused, "Fare Desk did not open")
	require.NoError(t, p.Fleet.Return(ctx, "jonas", "co-001", "the printer was off"))
	require.Equal(t, host.Serving, hostNamed(t, p, "co-001").State)

	require.NoError(t, p.Store.DB.Exec(
		"update hosts set state = 'faulty', machine = false where name = 'co-002'").Error)
	reports(t, p, "co-002", "[]")
	require.ErrorIs(t, p.Fleet.Return(ctx, "jonas", "co-002", "try it"), problem.WrongState)
}

func TestAHostThatARolloverHasInHandIsLeftToIt(t *testing.T) {
	t.Parallel()
	p := rolled(t)
	ctx := t.Context()
	require.NoError(t, p.Versions.Activate(ctx, "tove", "desk", p.Numbers[1],
		versions.Activation{Overrule: true, Reason: "next"}))
	o := rollover.DefaultOptions
	o.Batch, o.Floor = rollover.Share{Value: 100, Percent: true}, rollover.Share{}
	_, _, err := p.Rollovers.Start(ctx, "jonas", rollovers.StartRequest{Pools: []string{"counters"}, Options: o})
	require.NoError(t, err)
	p.Step() // it begins
	p.Step()
	h := hostNamed(t, p, "co-001")
	require.NotEqual(t, host.Serving, h.State)
	for _, err := range []error{
		p.Fleet.Drain(ctx, "jonas", "co-001", ""), p.Fleet.Return(ctx, "jonas", "co-001", ""),
	} {
		require.ErrorIs(t, err, problem.Busy)
	}
	require.Equal(t, h.State, hostNamed(t, p, "co-001").State)
}

func TestPinningSaysWhatIsWrong(t *testing.T) {
	t.Parallel()
	p := rolled(t)
	ctx := t.Context()
	why := fleet.Pinning{Reason: "stays"}
	require.NoError(t, p.Fleet.Unpin(ctx, "jonas", "office", ""), "it is not pinned")
	require.ErrorIs(t, p.Fleet.Pin(ctx, "jonas", "office", p.Numbers[0], fleet.Pinning{Reason: " "}),
		problem.ReasonRequired)
	require.ErrorIs(t, p.Fleet.Pin(ctx, "jonas", "office", "2031.01.1", why), store.ErrNotFound)
	require.ErrorIs(t, p.Fleet.Pin(ctx, "jonas", "no-pool", p.Numbers[0], why), store.ErrNotFound)
	require.NoError(t, p.Fleet.Pin(ctx, "jonas", "office", p.Numbers[0], why))
	require.ErrorIs(t, p.Fleet.Pin(ctx, "jonas", "office", p.Numbers[0], why), problem.WrongState)
	require.NoError(t, p.Fleet.Unpin(ctx, "jonas", "office", "it may go on"))
	require.Equal(t, "pool.unpin pool office", lastVerb(t, p))
}

func TestWhatIsToldGoesToThoseItIsMeantFor(t *testing.T) {
	t.Parallel()
	p := rolled(t)
	ctx := t.Context()
	reports(t, p, "co-001", ida)
	reports(t, p, "co-002", strings.ReplaceAll(ida, "s1", "s2"))
	reports(t, p, "of-001", strings.ReplaceAll(ida, "s1", "s3"))
	orders := func() (out []string) {
		require.NoError(t, p.Store.DB.Raw(`select h.name || ' ' || o.session_key || ' ' || o.kind || ' ' || o.text
			from orders o join hosts h on h.id = o.host_id order by o.id`).Scan(&out).Error)
		require.NoError(t, p.Store.DB.Exec("delete from orders").Error)
		return out
	}
	n, err := p.Fleet.Tell(ctx, "jonas", store.SessionFilter{Pool: "counters"}, "", "tea")
	require.NoError(t, err)
	require.Equal(t, 2, n)
	show := " " + string(agent.ShowText) + " "
	require.ElementsMatch(t, []string{"co-001 s1" + show + "tea", "co-002 s2" + show + "tea"}, orders())

	n, err = p.Fleet.Tell(ctx, "jonas", store.SessionFilter{Host: "co-002"}, "s2", "tea")
	require.NoError(t, err)
	require.Equal(t, 1, n)
	require.Equal(t, []string{"co-002 s2" + show + "tea"}, orders())

	_, err = p.Fleet.Tell(ctx, "jonas", store.SessionFilter{Pool: "counters"}, "", " ")
	require.ErrorIs(t, err, problem.InvalidRequest)
	require.ErrorIs(t, p.Fleet.SignOffSession(ctx, "jonas", "co-002", "s1", ""), store.ErrNotFound)
	require.Empty(t, orders())
	require.NoError(t, p.Fleet.SignOffSession(ctx, "jonas", "co-002", "s2", "asked for it"))
	require.Equal(t, []string{"co-002 s2 " + string(agent.EndSession) + " "}, orders())
	require.Equal(t, "session.sign-off host co-002", lastVerb(t, p))
}
