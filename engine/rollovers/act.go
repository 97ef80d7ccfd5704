package rollovers

import (
	"context"
	"strings"
	"time"

	"nimblepane/core/problem"
	"nimblepane/core/rollover"
	"nimblepane/engine/versions"
	"nimblepane/store"
)

// onRollover changes a rollover that has not ended. A rollover that is already in the state is left unchanged.
func (rs *Rollovers) onRollover(ctx context.Context, actor string, id int64, to rollover.State,
	fn func(*store.Tx, *store.Rollover) error,
) error {
	return rs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		r, err := store.LockRollover(tx.DB, id)
		if err != nil || r.State == to {
			return err // it was done before
		}
		if r.State == rollover.Finished || r.State == rollover.Stopped {
			return problem.WrongState.Errorf("%s is %s: it can no longer be changed", r.Name(), r.State)
		}
		if err := fn(tx, &r); err != nil {
			return err
		}
		return tx.Save(&r).Error
	})
}

// Pause makes a rollover take no further host and end no session.
func (rs *Rollovers) Pause(ctx context.Context, actor string, id int64, reason string) error {
	return rs.onRollover(ctx, actor, id, rollover.Paused, func(tx *store.Tx, r *store.Rollover) error {
		if r.State != rollover.Running {
			return problem.WrongState.Errorf("%s is %s: only a running rollover can be paused", r.Name(), r.State)
		}
		pause(tx, r, reason)
		return nil
	})
}

func pause(tx *store.Tx, r *store.Rollover, why string) {
	r.State, r.PausedWhy = rollover.Paused, why
	tx.Record(store.Entry{Verb: "rollover.pause", Subject: r.Name(), Scope: r.Name(), Reason: why})
}

// Resume goes on with a paused rollover. The failures so far count no
// more against its budget, and people on draining hosts are warned anew.
func (rs *Rollovers) Resume(ctx context.Context, actor string, id int64, reason string) error {
	return rs.onRollover(ctx, actor, id, rollover.Running, func(tx *store.Tx, r *store.Rollover) error {
		if r.State != rollover.Paused {
			return problem.WrongState.Errorf("%s is %s: only a paused rollover can be resumed", r.Name(), r.State)
		}
		failed, err := store.FailedHosts(tx.DB, r.ID)
		if err != nil {
			return err
		}
		r.State, r.PausedWhy = rollover.Running, ""
		r.Plan.V.ResumedAt, r.Plan.V.Excused = tx.Now, int(failed)
		tx.Record(store.Entry{Verb: "rollover.resume", Subject: r.Name(), Scope: r.Name(), Reason: reason})
		return nil
	})
}

// Stop ends a rollover early: hosts that have their old disk go back
// to service, those whose disk is gone are finished.
func (rs *Rollovers) Stop(ctx context.Context, actor string, id int64, reason string) error {
	return rs.onRollover(ctx, actor, id, rollover.Stopped, func(tx *store.Tx, r *store.Rollover) error {
		stop(tx, r, reason)
		return nil
	})
}

func stop(tx *store.Tx, r *store.Rollover, reason string) {
	r.State, r.PausedWhy, r.StoppedWhy, r.EndedAt = rollover.Stopped, "", reason, &tx.Now
	tx.Record(store.Entry{Verb: "rollover.stop", Subject: r.Name(), Scope: r.Name(), Reason: reason})
}

// Reverse stops a rollover if it still goes on, and takes the hosts
// that it has done or has in flight back to the version that they ran before.
func (rs *Rollovers) Reverse(ctx context.Context, actor string, id int64, reason string) (row store.Rollover,
	err error,
) {
	if strings.TrimSpace(reason) == "" {
		return row, problem.ReasonRequired.Errorf("reversing a rollover needs a reason")
	}
	err = rs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		row, err = rs.reverse(tx, id, reason)
		return err
	})
	return row, err
}

func (rs *Rollovers) reverse(tx *store.Tx, id int64, reason string) (row store.Rollover, err error) {
	r, err := store.RolloverByID(tx.DB, id)
	if err != nil {
		return row, err
	}
	pool, err := store.PoolByID(tx.DB, r.PoolID)
	if err != nil {
		return row, err
	}
	if pool, err = store.LockPool(tx.DB, pool.Name); err != nil {
		return row, err
	}
	open, err := store.LockOpenRollovers(tx.DB, pool.ID)
	if err != nil {
		return row, err
	}
	if r, err = store.LockRollover(tx.DB, id); err != nil {
		return row, err
	}
	if r.Reverses != nil && !r.Settled {
		return row, problem.WrongState.Errorf("%s is itself the reversal of rollover %d: stop it, and start a "+
			"rollover of the pool", r.Name(), *r.Reverses)
	}
	if o := store.NotStopped(open); o != nil && o.ID != r.ID {
		return row, problem.Busy.Errorf("%s of this pool is already open (%s): let it finish, or stop it", o.Name(),
			o.State)
	}
	members, err := store.RolloverHosts(tx.DB, r.ID)
	if err != nil {
		return row, err
	}
	img, v, err := reversalTarget(tx, pool, r, members)
	if err != nil {
		return row, err
	}
	var back []store.RolloverHost
	touched := 0
	for _, m := range members {
		n := store.RolloverHost{HostID: m.HostID, Phase: rollover.Left, Since: tx.Now, Why: r.Name() +
			" had not touched it", FromID: m.FromID}
		if m.Wiped {
			n.Phase, n.Why, n.FromID = rollover.Queued, "", &r.TargetID
			touched++
		}
		back = append(back, n)
	}
	if r.State != rollover.Finished && r.State != rollover.Stopped {
		stop(tx, &r, reason)
		if err := tx.Save(&r).Error; err != nil {
			return row, err
		}
	}
	if touched == 0 {
		return row, problem.NothingToDo.Errorf("%s has replaced no disks, so there is nothing to reverse: stop it "+
			"instead",
			r.Name())
	}
	plan := r.Options.V.Plan(rollover.Pool{Hosts: pool.HostCount, SeatsPerHost: pool.SeatsPerHost})
	plan.State, plan.Target, plan.EarliestStart = rollover.Planned, v.ID, time.Time{}
	return createRollover(tx, pool, img, v, store.Rollover{
		Options: r.Options, Plan: store.JSON[rollover.Plan]{V: plan}, Reverses: &r.ID, Reason: reason,
	}, back)
}

// reversalTarget is what the pool's track names by now, if that is another
// version than the one the rollover went to, and else what its hosts ran before.
func reversalTarget(tx *store.Tx, pool store.Pool, r store.Rollover, members []store.RolloverHost) (store.Image,
	store.Version, error,
) {
	img, err := store.ImageByID(tx.DB, pool.ImageID)
	if err != nil {
		return img, store.Version{}, err
	}
	target, err := store.PoolTarget(tx.DB, pool.ID)
	if err != nil {
		return img, store.Version{}, err
	}
	if target == 0 || target == r.TargetID {
		votes := map[int64]int{}
		target = 0
		for _, m := range members {
			if m.FromID != nil && *m.FromID != r.TargetID {
				votes[*m.FromID]++
				if votes[*m.FromID] > votes[target] {
					target = *m.FromID
				}
			}
		}
	}
	if target == 0 {
		return img, store.Version{}, problem.NoFallback.Errorf("the hosts of %s had no version before, so they "+
			"cannot go back", r.Name())
	}
	v, err := store.VersionByID(tx.DB, target)
	if err != nil {
		return img, v, err
	}
	return img, v, versions.Usable(img, v)
}
