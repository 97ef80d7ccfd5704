package builds

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/build"
	"nimblepane/core/host"
	"nimblepane/core/machine"
	"nimblepane/core/problem"
	"nimblepane/engine"
	"nimblepane/engine/bases"
	"nimblepane/engine/fleet"
	"nimblepane/engine/versions"
	"nimblepane/platform"
	"nimblepane/store"
)

// A machine made from a host waits until that is drained and empty, as its
// agent says. Then the host's machine goes off, its disk is copied, and the
// agent's credential, which is on the copy too, is worth nothing from then on,
// before the copy is started: nothing else may speak for the host. It needs a
// new disk after that. What is done next is read off the machine's record and
// the host's by forHost, again and again, so that whatever happens to either
// of them meanwhile needs no case of its own.

// checkRoomFor refuses a machine made from a host for which its site has no
// room, before anybody has to leave the host.
func (bs *Builds) checkRoomFor(ctx context.Context, r MachineRequest) error {
	db := bs.engine.Store.DB.WithContext(ctx)
	h, err := store.HostNamed(db, r.Host)
	if err != nil {
		return err
	}
	pool, err := store.PoolByID(db, h.PoolID)
	if err != nil {
		return err
	}
	site, err := store.SiteByID(db, pool.SiteID)
	if err != nil {
		return err
	}
	return readable(bs.engine.AskTo(ctx, site, func(ctx context.Context, p platform.Platform) error {
		return p.CheckRoom(ctx, []string{r.Name}, pool.MachineClass)
	}))
}

// fromHost says that the machine is made from a host, and has that drained.
func fromHost(tx *store.Tx, m *store.Machine, site store.Site, r MachineRequest) error {
	h, pool, _, err := store.LockHost(tx.DB, r.Host)
	if err != nil {
		return err
	}
	switch {
	case pool.SiteID != site.ID:
		return problem.InvalidRequest.Errorf("host %s is not at %s: a build machine is made at the site of its host",
			h.Name, site.Name)
	case r.MachineClass != "" && r.MachineClass != pool.MachineClass:
		return problem.InvalidRequest.Errorf("host %s is of machine class %s: omit the class", h.Name,
			pool.MachineClass)
	case h.VersionID == nil:
		return problem.WrongState.Errorf("host %s was never made from a version, so its disk cannot be copied",
			h.Name)
	}
	if err := fleet.NotInHand(tx, h); err != nil {
		return err
	}
	if other, waits, err := store.WaitsFor(tx.DB, h.Name); err != nil {
		return err
	} else if waits {
		return problem.Busy.Errorf("build machine %s is already waiting for host %s: discard that build machine, or "+
			"use another host",
			other.Name, h.Name)
	}
	byHand := (h.State == host.Draining || h.State == host.Emptied) && h.DrainedBy != ""
	if !byHand {
		if h.State != host.Serving {
			return problem.WrongState.Errorf("host %s is %s: a build machine is made from a host that is serving or "+
				"was drained by an operator, because only its agent can confirm that the host is empty", h.Name,
				h.State)
		}
		if err := fleet.DrainIn(tx, &h, "build machine "+m.Name+" is to be made from it"); err != nil {
			return err
		}
	}
	m.FromHost, m.BaseID, m.MachineClass = h.Name, h.VersionID, pool.MachineClass
	m.DrainOrder, m.Drained = h.DrainOrder, !byHand
	return nil
}

// followEvery is how often machines are looked at that wait, in real time.
const followEvery = time.Second

// FollowWaiting looks at the machines that wait for their hosts or bases, or
// have to let go of them: at each by itself, so that none is kept from its own by another.
func (bs *Builds) FollowWaiting(ctx context.Context) error {
	rows, err := store.WaitingMachines(bs.engine.Store.DB.WithContext(ctx))
	if err != nil {
		return err
	}
	errs := make([]error, len(rows))
	for i, m := range rows {
		err := bs.engine.Change(ctx, engine.ServiceActor, func(tx *store.Tx) error {
			if m.FromHost == "" {
				return bs.forBase(tx, m.ID)
			}
			return bs.forHost(tx, m.ID, m.FromHost)
		})
		if err != nil {
			errs[i] = fmt.Errorf("build machine %s: %w", m.Name, err)
		}
	}
	return errors.Join(errs...)
}

// forBase begins to make a machine whose base is at its site.
func (bs *Builds) forBase(tx *store.Tx, id int64) error {
	m, err := store.LockMachine(tx.DB, id)
	if err != nil || m.State != machine.Waiting {
		return err
	}
	site, err := store.SiteByID(tx.DB, m.SiteID)
	if err != nil {
		return err
	}
	base, err := bases.Brought(tx.DB, *m.FromBaseID, m.SiteID, m.AskedAt, wanted(site, m.MachineClass, m.Disk, ""))
	if err != nil {
		return err
	}
	switch base.State {
	case build.Unasked:
		return bs.bases.BringIn(tx, *m.FromBaseID, m.SiteID)
	case build.UnderWay:
		return nil
	case build.TaskFailed:
		m.Why = "its base cannot be used: " + base.Why
		m.Become(machine.Gone, tx.Now)
		recordMachine(tx, m, "give-up", m.Why, nil)
	default:
		m.Become(machine.Making, tx.Now)
		if err := tx.Ask(bs.makings.Of(m.SiteID, m.Subject(), 1, ofMachine{m.ID})); err != nil {
			return err
		}
	}
	tx.Emit("machine", machineSubject(m.Name), nil)
	return tx.Save(&m).Error
}

// forHost does what is next for a machine that waits for its host, or has to let go of it.
func (bs *Builds) forHost(tx *store.Tx, id int64, name string) error {
	h, _, _, err := store.LockHost(tx.DB, name)
	there := err == nil
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	m, err := store.LockMachine(tx.DB, id)
	if err != nil || m.DrainOrder == 0 || m.State == machine.Copying {
		return err // somebody was faster
	}
	drained := there && h.DrainedBy != "" && h.DrainOrder == m.DrainOrder // as it was for this machine
	switch {
	case m.State == machine.Waiting && drained:
		return bs.copyWhenEmpty(tx, &m, &h)
	case m.State == machine.Waiting:
		m.Why = "host " + name + " was put back to service, rebuilt or removed before its disk was copied"
		m.Become(machine.Gone, tx.Now)
		recordMachine(tx, m, "give-up", m.Why, nil)
		tx.Emit("machine", machineSubject(m.Name), nil)
	case drained && m.Drained:
		if err := letGo(tx, &h, "nothing is made from it any more"); err != nil {
			return err
		}
	}
	m.DrainOrder = 0
	return tx.Save(&m).Error
}

// letGo puts a host back that was drained for a machine. One whose agent is
// silent comes back by itself.
func letGo(tx *store.Tx, h *store.Host, reason string) error {
	switch h.State {
	case host.Draining, host.Emptied:
		return fleet.ReturnIn(tx, h, reason)
	}
	h.DrainedBy, h.DrainOrder = "", 0
	return tx.Save(h).Error
}

// copyWhenEmpty begins to copy the disk of a host that nobody is on any more.
func (bs *Builds) copyWhenEmpty(tx *store.Tx, m *store.Machine, h *store.Host) error {
	if h.State != host.Emptied {
		return nil
	}
	empty, err := tx.StillEmpty(*h, tx.Now.Add(-bs.fleet.Limits().Silent))
	if err != nil || !empty {
		return err
	}
	if err := tx.BeginDiskCopy(h); err != nil {
		return err
	}
	m.Become(machine.Copying, tx.Now)
	m.Work(tx.Now)
	recordMachine(tx, *m, "copy", "", map[string]any{"host": h.Name})
	tx.Emit("machine", machineSubject(m.Name), nil)
	if err := tx.Save(m).Error; err != nil {
		return err
	}
	return tx.Ask(bs.copies.Of(m.SiteID, m.Subject(), 1, ofMachine{m.ID}))
}

// askCopy says which host's disk is copied for a machine.
func askCopy(ctx context.Context, db *gorm.DB, w store.Work, in ofMachine) (c platform.HostCopy, err error) {
	m, err := store.MachineByID(db, in.Machine)
	if err != nil {
		return c, err
	}
	c.Host = m.FromHost
	c.Spec, err = askMaking(ctx, db, w, in)
	return c, err
}

// copyEnded has the machine started from its copy, before which the host's
// agent is forgotten; or gives the host its disk back.
func (bs *Builds) copyEnded(tx *store.Tx, in ofMachine, end *engine.Ending[platform.Nothing]) error {
	m, err := store.MachineByID(tx.DB, in.Machine)
	if err != nil {
		return err
	}
	h, _, _, err := store.LockHost(tx.DB, m.FromHost)
	switch {
	case errors.Is(err, store.ErrNotFound): // it was removed from the estate
	case err != nil:
		return err
	case end.Failure != "":
		err = tx.CancelDiskCopy(&h, fmt.Sprintf("its disk could not be copied for build machine %s: its machine has "+
			"to be heard again", m.Name))
	default:
		err = tx.FinishDiskCopy(&h, fmt.Sprintf("its disk was copied for build machine %s, and it is out of service: "+
			"rebuild it", m.Name))
		tx.Record(store.Entry{
			Verb: "host.give", Subject: "host " + h.Name, Reason: "its disk is build machine " + m.Name + "'s now",
		})
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	err = endOn(tx, m.ID, end, machine.Making, machine.Off, func(m *store.Machine) { m.DrainOrder = 0 })
	if err != nil || end.Failure != "" {
		return err
	}
	return tx.Ask(bs.makings.Of(m.SiteID, m.Subject(), 1, in))
}

// hostLabel is how a machine's base is called that is a host.
func hostLabel(db *gorm.DB, m store.Machine) (string, error) {
	img, v, err := versions.Of(db, *m.BaseID)
	return "host " + m.FromHost + ", " + versions.Label(img, v), err
}
