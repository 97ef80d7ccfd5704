package builds_test

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/core/host"
	"nimblepane/core/machine"
	"nimblepane/core/problem"
	"nimblepane/core/rollover"
	"nimblepane/engine/builds"
	"nimblepane/engine/rollovers"
	"nimblepane/engine/versions"
	"nimblepane/internal/enginetest"
	"nimblepane/store"
)

// serving is an estate whose pool counters serves.
func serving(t *testing.T) *enginetest.Played {
	t.Helper()
	p := enginetest.Open(t)
	require.NoError(t, p.Versions.Activate(t.Context(), "tove", "desk", p.Numbers[0],
		versions.Activation{Overrule: true, Reason: "first"}))
	o := rollover.DefaultOptions
	o.Batch, o.Floor = rollover.Share{Value: 100, Percent: true}, rollover.Share{}
	_, _, err := p.Rollovers.Start(t.Context(), "jonas", rollovers.StartRequest{
		Pools:   []string{"counters"},
		Options: o,
	})
	require.NoError(t, err)
	p.Settle()
	require.NoError(t, p.Store.DB.Exec("update pulses set credential = 'known' where host_id = (select id from hosts "+
		"where name = 'co-001')").Error)
	return p
}

// fromHost is a machine that is to be made from the host.
func fromHost(t *testing.T, p *enginetest.Played, name string) store.Machine {
	t.Helper()
	m, err := p.Builds.CreateMachine(t.Context(), "jonas", builds.MachineRequest{
		Site: "north-quay", Name: "bm-copy", Host: name, Purpose: "it works there",
	})
	require.NoError(t, err)
	require.Equal(t, machine.Waiting, m.State)
	return m
}

func theHost(t *testing.T, p *enginetest.Played, name string) store.Host {
	t.Helper()
	h, err := store.HostNamed(p.Store.DB, name)
	require.NoError(t, err)
	return h
}

// heard lets a time pass after which the agents confirm what they were told, and that these sessions are on the hosts.
func heard(t *testing.T, p *enginetest.Played, sessions string) {
	t.Helper()
	p.Time.At = p.Time.At.Add(30 * time.Second)
	require.NoError(t, p.Store.DB.Exec(`update pulses u set seen_at = ?, drain_confirmed = h.drain_order, sessions = ?
		from hosts h where h.id = u.host_id and h.machine and h.pool_id = (select id from pools where name = 'counters')`,
		p.Time.At, sessions).Error)
	require.NoError(t, p.Sweep(t.Context()))
	require.NoError(t, p.Builds.FollowWaiting(t.Context()))
}

const somebody = `[{"key": "s1", "person": "mira", "state": "active"}]`

func TestAMachineFromAHostWaitsUntilNobodyIsOnItAndNothingElseSpeaksForTheHost(t *testing.T) {
	t.Parallel()
	p := serving(t)
	fromHost(t, p, "co-001")
	h := theHost(t, p, "co-001")
	require.Equal(t, host.Draining, h.State)
	require.Equal(t, "jonas", h.DrainedBy)
	heard(t, p, somebody)
	require.Equal(t, machine.Waiting, known(t, p, "bm-copy").State)
	require.NoError(t, p.Builds.Observe(t.Context())) // its site does not know it, which is no wonder
	require.Equal(t, machine.Waiting, known(t, p, "bm-copy").State)

	heard(t, p, "[]")
	require.Equal(t, machine.Copying, known(t, p, "bm-copy").State)
	busy := func(err error) {
		t.Helper()
		require.ErrorIs(t, err, problem.Busy)
	}
	busy(p.Fleet.Return(t.Context(), "jonas", "co-001", "now"))
	_, err := p.Rollovers.Rebuild(t.Context(), "jonas", rollovers.RebuildRequest{Host: "co-001"})
	busy(err)
	_, err = p.Builds.DiscardMachine(t.Context(), "jonas", "north-quay", "bm-copy")
	require.ErrorIs(t, err, problem.Busy)
	// Neither its silence nor a late word of its agent brings the host back.
	require.NoError(t, p.Store.DB.Exec("update pulses set sessions = ? where credential is not null", somebody).Error)
	p.Time.At = p.Time.At.Add(time.Hour)
	require.NoError(t, p.Sweep(t.Context()))
	require.Equal(t, host.Emptied, theHost(t, p, "co-001").State)

	ends(t, p, "")
	h = theHost(t, p, "co-001")
	require.Equal(t, host.Faulty, h.State)
	require.False(t, h.Machine)
	require.Contains(t, h.Why, "its disk was copied for build machine bm-copy, and it is out of service: rebuild it")
	var speaks int64
	require.NoError(t, p.Store.DB.Raw("select count(*) from pulses where credential = 'known'").Scan(&speaks).Error)
	require.Zero(t, speaks)
	require.Equal(t, machine.Making, known(t, p, "bm-copy").State)
	ends(t, p, "")
	m := known(t, p, "bm-copy")
	require.Equal(t, machine.Running, m.State)
	require.Zero(t, m.DrainOrder)
	require.ErrorIs(t, p.Fleet.Return(t.Context(), "jonas", "co-001", "now"), problem.WrongState)
	_, err = p.Rollovers.Rebuild(t.Context(), "jonas", rollovers.RebuildRequest{Host: "co-001"})
	require.NoError(t, err)
	p.Settle()
	require.Equal(t, host.Serving, theHost(t, p, "co-001").State)
	rows, err := store.MachineRows(p.Store.DB, store.MachineFilter{Name: "bm-copy"})
	require.NoError(t, err)
	require.Equal(t, "host co-001, desk 2026.11.1", rows[0].Base)
}

func TestAHostIsLetGoOfThatNothingIsMadeFrom(t *testing.T) {
	t.Parallel()
	p := serving(t)
	discard := func() {
		t.Helper()
		_, err := p.Builds.DiscardMachine(t.Context(), "jonas", "north-quay", "bm-copy")
		require.NoError(t, err)
		ends(t, p, "")
		require.Equal(t, machine.Gone, known(t, p, "bm-copy").State)
	}
	fromHost(t, p, "co-001")
	heard(t, p, somebody)
	discard()
	heard(t, p, somebody)
	require.Equal(t, host.Serving, theHost(t, p, "co-001").State)

	require.NoError(t, p.Fleet.Drain(t.Context(), "tove", "co-001", "its fan"))
	fromHost(t, p, "co-001")
	discard()
	heard(t, p, somebody)
	require.Equal(t, host.Draining, theHost(t, p, "co-001").State, "somebody drained it for another reason")
	require.Equal(t, "tove", theHost(t, p, "co-001").DrainedBy)

	fromHost(t, p, "co-001")
	require.NoError(t, p.Fleet.Return(t.Context(), "tove", "co-001", ""))
	heard(t, p, "[]")
	m := known(t, p, "bm-copy")
	require.Equal(t, machine.Gone, m.State)
	require.Contains(t, m.Why, "host co-001 was put back to service, rebuilt or removed before its disk was copied")

	fromHost(t, p, "co-001")
	_, err := p.Rollovers.Rebuild(t.Context(), "tove", rollovers.RebuildRequest{Host: "co-001"})
	require.NoError(t, err)
	p.Settle()
	require.Equal(t, machine.Gone, known(t, p, "bm-copy").State)
	require.Equal(t, host.Serving, theHost(t, p, "co-001").State)
}

func TestAHostWhoseDiskCannotBeCopiedComesBackWhenItIsHeard(t *testing.T) {
	t.Parallel()
	p := serving(t)
	fromHost(t, p, "co-001")
	heard(t, p, "[]")
	ends(t, p, "the storage gave up")
	require.NoError(t, p.Sweep(t.Context()))
	h := theHost(t, p, "co-001")
	require.Equal(t, host.Faulty, h.State)
	require.True(t, h.Silent, "its machine is started if it is off")
	require.True(t, h.Machine)
	m := known(t, p, "bm-copy")
	require.Equal(t, machine.Off, m.State)
	require.Equal(t, "the storage gave up", m.Why)
	heard(t, p, "[]")
	heard(t, p, "[]")
	h = theHost(t, p, "co-001")
	require.Equal(t, host.Serving, h.State)
	require.Empty(t, h.DrainedBy)
	require.Zero(t, h.DrainOrder)
}

func TestAMachineIsNotMadeFromAHostThatCannotBeEmptied(t *testing.T) {
	t.Parallel()
	p := serving(t)
	for _, c := range []struct {
		why string
		r   builds.MachineRequest
	}{
		{"host \"xx-001\": not found", builds.MachineRequest{Host: "xx-001"}},
		{"host of-001 was never made from a version", builds.MachineRequest{Host: "of-001"}},
		{"host co-002 is of machine class standard: omit the class", builds.MachineRequest{
			Host: "co-002", MachineClass: "graphics",
		}},
		{"give one of them", builds.MachineRequest{Host: "co-002", BaseDisk: "x.qcow2"}},
		{"co-003 is the name of a host", builds.MachineRequest{Host: "co-002", Name: "co-003"}},
	} {
		c.r.Site = "north-quay"
		if c.r.Name == "" {
			c.r.Name = "bm-copy"
		}
		_, err := p.Builds.CreateMachine(t.Context(), "jonas", c.r)
		require.ErrorContains(t, err, c.why)
		require.Equal(t, host.Serving, theHost(t, p, "co-002").State, "nothing has changed")
	}
	require.NoError(t, p.Store.DB.Exec("update hosts set state = 'faulty', why = 'its checks failed' where name = "+
		"'co-002'").Error)
	_, err := p.Builds.CreateMachine(t.Context(), "jonas", builds.MachineRequest{
		Site: "north-quay", Name: "bm-copy", Host: "co-002",
	})
	require.ErrorIs(t, err, problem.WrongState)

	errs := make(chan error, 2)
	for _, name := range []string{"bm-a", "bm-b"} {
		go func() {
			_, err := p.Builds.CreateMachine(t.Context(), "jonas", builds.MachineRequest{
				Site: "north-quay", Name: name, Host: "co-003",
			})
			errs <- err
		}()
	}
	first, second := <-errs, <-errs
	require.True(t, (first == nil) != (second == nil), "%v, %v", first, second)
	require.ErrorIs(t, errors.Join(first, second), problem.Busy)
}
