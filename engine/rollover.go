package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"nimblepane/core/rollover"
	"nimblepane/platform"
	"nimblepane/store"
)

// StartRequest asks for rollovers.
type StartRequest struct {
	Pools   []string
	Options rollover.Options
	Reason  string
	// Hosts limits the rollover to these hosts of its one pool, and rebuilds
	// them even if they run the version already.
	Hosts []string
}

// nothingToDo is the problem that every host runs the version already.
type nothingToDo struct{ Problem }

func (n *nothingToDo) Unwrap() error { return &n.Problem }

func asNothing(err error, n **nothingToDo) bool { return errors.As(err, n) }

// StartRollovers plans a rollover for each pool, for all of them or for none.
func (e *Engine) StartRollovers(ctx context.Context, actor string, r StartRequest) (started []store.Rollover, err error) {
	if len(r.Pools) == 0 {
		return nil, invalid("name at least one pool to roll over")
	}
	for i, name := range r.Pools {
		if slices.Contains(r.Pools[:i], name) {
			return nil, invalid("pool %s is named twice", name)
		}
	}
	for _, name := range r.Pools {
		if err := e.checkRoom(ctx, name); err != nil {
			return nil, err
		}
	}
	err = e.change(ctx, actor, func(tx *store.Tx) error {
		started = nil
		pools, err := store.LockPools(tx.DB, r.Pools...)
		if err != nil {
			return err
		}
		var nothing *nothingToDo
		for _, p := range pools {
			one, err := e.startOne(tx, p, r)
			if err != nil && !asNothing(err, &nothing) {
				return err
			}
			started = append(started, one)
		}
		if err := fit(r.Options, pools...); err != nil {
			return err
		}
		if nothing != nil {
			return nothing
		}
		return nil
	})
	return started, err
}

// poolTarget returns the version that the pool should run, if hosts may be made from it.
func poolTarget(tx *store.Tx, p store.Pool) (store.Image, store.Version, error) {
	img, err := store.ImageByID(tx.DB, p.ImageID)
	if err != nil {
		return img, store.Version{}, err
	}
	id, err := store.PoolTarget(tx.DB, p.ID)
	if err != nil {
		return img, store.Version{}, err
	}
	if id == 0 {
		return img, store.Version{}, conflict("track %s of %s names no version yet, so pool %s has nothing to roll to: stage or activate a version first", p.Track, img.Name, p.Name)
	}
	v, err := store.VersionByID(tx.DB, id)
	if err != nil {
		return img, v, err
	}
	return img, v, usable(img, v)
}

// checkRoom asks a pool's site whether its hosts can all have a machine there. A site that does not answer now does not keep a rollover
// from being planned: its works wait for the site.
func (e *Engine) checkRoom(ctx context.Context, pool string) error {
	db := e.Store.DB.WithContext(ctx)
	p, err := store.PoolNamed(db, pool)
	if err != nil {
		return err
	}
	all, err := store.Hosts(db, p.ID)
	if err != nil {
		return err
	}
	hosts := make([]string, len(all))
	for i, h := range all {
		hosts[i] = h.Name
	}
	site, err := store.SiteByID(db, p.SiteID)
	if err != nil {
		return err
	}
	_, err = asked(ctx, e, site, func(ctx context.Context, on platform.Platform) (struct{}, error) {
		return struct{}{}, on.CheckRoom(ctx, hosts, p.MachineClass)
	})
	var refusal *platform.Refusal
	if errors.As(err, &refusal) {
		return conflict("pool %s cannot be rolled over: %s", p.Name, refusal.Why)
	}
	if err != nil {
		e.log.Warn("whether a pool fits could not be asked", "pool", p.Name, "err", err)
	}
	return nil
}

func sizeOf(p store.Pool) rollover.Pool {
	return rollover.Pool{Hosts: p.HostCount, SeatsPerHost: p.SeatsPerHost}
}

// fit returns nil if the options can be carried out on all of the pools, or
// all that is wrong: with the pool's name what is wrong with some of them only.
func fit(o rollover.Options, pools ...store.Pool) error {
	var names, reasons []string
	where := map[string][]string{} // the pools, by reason
	for _, p := range pools {
		err := o.Check(sizeOf(p))
		if err == nil {
			continue
		}
		names = append(names, p.Name)
		for _, why := range strings.Split(err.Error(), "\n") {
			if where[why] == nil {
				reasons = append(reasons, why)
			}
			where[why] = append(where[why], p.Name)
		}
	}
	if names == nil {
		return nil
	}
	for i, why := range reasons {
		if len(where[why]) < len(pools) {
			reasons[i] = "pool " + strings.Join(where[why], " and ") + ": " + why
		}
	}
	return &Problem{Kind: Invalid, Text: "the options do not fit " + english.PluralWord(len(names), "pool ", "pools ") + strings.Join(names, " and "), Reasons: reasons}
}

func (e *Engine) startOne(tx *store.Tx, p store.Pool, r StartRequest) (store.Rollover, error) {
	var row store.Rollover
	open, err := store.LockOpenRollovers(tx.DB, p.ID)
	if err != nil {
		return row, err
	}
	if o := running(open); o != nil {
		return row, conflict("pool %s is being rolled by %s (%s): let it finish, or stop it", p.Name, o.Name(), o.State)
	}
	img, v, err := poolTarget(tx, p)
	if err != nil {
		return row, err
	}
	if p.MachineClass != img.MachineClass {
		return row, conflict("pool %s has machines of class %s, and image %s is for class %s", p.Name, p.MachineClass, img.Name, img.MachineClass)
	}
	hosts, err := store.Hosts(tx.DB, p.ID)
	if err != nil {
		return row, err
	}
	var members []store.RolloverHost
	for _, h := range hosts {
		if len(r.Hosts) > 0 && !slices.Contains(r.Hosts, h.Name) {
			continue
		}
		if len(r.Hosts) == 0 && !decided(h).Joins(v.ID) {
			continue
		}
		m := store.RolloverHost{HostID: h.ID, Phase: rollover.Queued, Since: tx.Now, FromID: h.VersionID}
		if len(r.Hosts) > 0 && h.DrainOrder != 0 && (h.State == rollover.HostDraining || h.State == rollover.HostEmptied) {
			// Somebody drained it in order to rebuild it: the rollover takes over from there.
			m.Phase, m.Batch = rollover.Draining, 1
			if err := tx.TakeOver(h.ID); err != nil {
				return row, err
			}
		}
		members = append(members, m)
	}
	if len(members) == 0 {
		return row, &nothingToDo{Problem{Kind: Conflict, Text: fmt.Sprintf("all hosts of pool %s run %s already: there is nothing to roll over", p.Name, label(img, v))}}
	}
	plan := r.Options.Plan(sizeOf(p))
	plan.State, plan.Target, plan.Forced = rollover.Waiting, v.ID, len(r.Hosts) > 0
	return createRollover(tx, p, img, v, store.Rollover{
		Options: store.JSON[rollover.Options]{V: r.Options}, Plan: store.JSON[rollover.Plan]{V: plan}, Reason: r.Reason,
	}, members)
}

// running returns the one of a pool's open rollovers that was not stopped, nil if there is none.
func running(open []store.Rollover) *store.Rollover {
	for i := range open {
		if open[i].State != rollover.Stopped {
			return &open[i]
		}
	}
	return nil
}

// decided is what of a host's record the core decides by.
func decided(h store.Host) rollover.Host {
	d := rollover.Host{ID: h.ID, Name: h.Name, State: h.State}
	if h.VersionID != nil {
		d.Version = *h.VersionID
	}
	return d
}

func createRollover(tx *store.Tx, p store.Pool, img store.Image, v store.Version, row store.Rollover, members []store.RolloverHost) (store.Rollover, error) {
	row.PoolID, row.TargetID, row.State, row.CreatedBy, row.CreatedAt = p.ID, v.ID, rollover.Waiting, tx.Actor, tx.Now
	if err := tx.AddRollover(&row, members); err != nil {
		return row, err
	}
	detail := map[string]any{"pool": p.Name, "version": label(img, v), "hosts": len(members), "batch": row.Options.V.Batch.String(), "floor": row.Options.V.Floor.String(), "log_off": row.Options.V.LogOff}
	if row.Reverses != nil {
		detail["reverses"] = *row.Reverses
	}
	tx.Record(store.Entry{Verb: "rollover.plan", Subject: row.Name(), Scope: row.Name(), Reason: row.Reason, Detail: detail})
	return row, nil
}

// onRollover changes a rollover that has not ended.
func (e *Engine) onRollover(ctx context.Context, actor string, id int64, fn func(*store.Tx, *store.Rollover) error) error {
	return e.change(ctx, actor, func(tx *store.Tx) error {
		r, err := store.LockRollover(tx.DB, id)
		if err != nil {
			return err
		}
		if r.State == rollover.Finished || r.State == rollover.Stopped {
			return conflict("%s is %s: it cannot be changed any more", r.Name(), r.State)
		}
		if err := fn(tx, &r); err != nil {
			return err
		}
		return tx.Save(&r).Error
	})
}

// PauseRollover makes a rollover take no further host and end no session.
func (e *Engine) PauseRollover(ctx context.Context, actor string, id int64, reason string) error {
	return e.onRollover(ctx, actor, id, func(tx *store.Tx, r *store.Rollover) error {
		if r.State != rollover.Running {
			return conflict("%s is %s: only a running one can be paused", r.Name(), r.State)
		}
		pause(tx, r, reason)
		return nil
	})
}

func pause(tx *store.Tx, r *store.Rollover, why string) {
	r.State, r.PausedWhy = rollover.Paused, why
	tx.Record(store.Entry{Verb: "rollover.pause", Subject: r.Name(), Scope: r.Name(), Reason: why})
}

// ResumeRollover goes on with a paused rollover. The failures so far count no
// more against its budget, and people on draining hosts are warned anew.
func (e *Engine) ResumeRollover(ctx context.Context, actor string, id int64, reason string) error {
	return e.onRollover(ctx, actor, id, func(tx *store.Tx, r *store.Rollover) error {
		if r.State != rollover.Paused {
			return conflict("%s is %s: only a paused one can be resumed", r.Name(), r.State)
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

// StopRollover ends a rollover early: hosts that have their old disk go back
// to service, those whose disk is gone are finished.
func (e *Engine) StopRollover(ctx context.Context, actor string, id int64, reason string) error {
	return e.onRollover(ctx, actor, id, func(tx *store.Tx, r *store.Rollover) error {
		stop(tx, r, reason)
		return nil
	})
}

func stop(tx *store.Tx, r *store.Rollover, reason string) {
	r.State, r.PausedWhy, r.EndedAt = rollover.Stopped, "", &tx.Now
	tx.Record(store.Entry{Verb: "rollover.stop", Subject: r.Name(), Scope: r.Name(), Reason: reason})
}

// ReverseRollover stops a rollover if it still goes on, and takes the hosts
// that it has done or has in flight back to the version that they ran before.
func (e *Engine) ReverseRollover(ctx context.Context, actor string, id int64, reason string) (row store.Rollover, err error) {
	if strings.TrimSpace(reason) == "" {
		return row, invalid("reversing needs a reason")
	}
	err = e.change(ctx, actor, func(tx *store.Tx) error {
		row, err = e.reverse(tx, id, reason)
		return err
	})
	return row, err
}

func (e *Engine) reverse(tx *store.Tx, id int64, reason string) (row store.Rollover, err error) {
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
		return row, conflict("%s is itself the reversal of rollover %d: stop it, and start a rollover of the pool", r.Name(), *r.Reverses)
	}
	if o := running(open); o != nil && o.ID != r.ID {
		return row, conflict("the pool is being rolled by %s (%s): let it finish, or stop it", o.Name(), o.State)
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
		n := store.RolloverHost{HostID: m.HostID, Phase: rollover.Left, Since: tx.Now, Why: r.Name() + " had not touched it", FromID: m.FromID}
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
		return row, &nothingToDo{Problem{Kind: Conflict, Text: r.Name() + " has not replaced any disk, so there is nothing to take back: stop it instead"}}
	}
	plan := r.Options.V.Plan(rollover.Pool{Hosts: pool.HostCount, SeatsPerHost: pool.SeatsPerHost})
	plan.State, plan.Target, plan.EarliestStart = rollover.Waiting, v.ID, time.Time{}
	return createRollover(tx, pool, img, v, store.Rollover{
		Options: r.Options, Plan: store.JSON[rollover.Plan]{V: plan}, Reverses: &r.ID, Reason: reason,
	}, back)
}

// reversalTarget is what the pool's track names by now, if that is another
// version than the one the rollover went to, and else what its hosts ran before.
func reversalTarget(tx *store.Tx, pool store.Pool, r store.Rollover, members []store.RolloverHost) (store.Image, store.Version, error) {
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
		return img, store.Version{}, conflict("the hosts of %s had no version before: there is nothing to take them back to", r.Name())
	}
	v, err := store.VersionByID(tx.DB, target)
	if err != nil {
		return img, v, err
	}
	return img, v, usable(img, v)
}

// snapshot gathers what is known for a decision about the rollover.
func (e *Engine) snapshot(tx *store.Tx, r store.Rollover, pool store.Pool, site store.Site) (s rollover.Snapshot, err error) {
	records, err := store.DecisionRows(tx.DB, r)
	if err != nil {
		return s, fmt.Errorf("read the hosts: %w", err)
	}
	told, err := notices(tx, r.ID)
	if err != nil {
		return s, err
	}
	target, err := store.VersionByID(tx.DB, r.TargetID)
	if err != nil {
		return s, err
	}
	img, err := store.ImageByID(tx.DB, target.ImageID)
	if err != nil {
		return s, err
	}
	s.Listening = e.listening
	s.Hosts = make([]rollover.Host, len(records))
	for i, rec := range records {
		h := rollover.Host{
			ID: rec.ID, Name: rec.Name, State: rec.State, Version: rec.VersionID, Seats: pool.SeatsPerHost,
			Phase: rec.Phase, Batch: rec.Batch, Machine: rec.Machine, Unserved: rec.Unserved, DrainedBy: rec.DrainedBy,
			Confirmed: rec.DrainOrder != 0 && rec.DrainConfirmed == rec.DrainOrder,
			Rebuild:   rollover.Work{State: workState(rec.WorkState), Why: rec.WorkWhy},
		}
		if rec.Since != nil {
			h.Since = *rec.Since
		}
		if rec.SeenAt != nil {
			h.Seen = *rec.SeenAt
		}
		if rec.VouchedAt != nil {
			h.Vouched = *rec.VouchedAt
		}
		switch rec.Stamp {
		case "":
		case label(img, target):
			h.Stamp = r.TargetID
		default:
			h.Stamp = -1
		}
		if rec.CheckOrder != 0 && rec.ChecksOrder == rec.CheckOrder {
			h.Checks = checksState(rec.Checks, rec.ChecksWhy)
		}
		for _, x := range rec.Sessions.V {
			t := told[noticeKey{rec.ID, x.Key}]
			t.Key, t.Person = x.Key, x.Person
			h.Sessions = append(h.Sessions, t)
		}
		s.Hosts[i] = h
	}
	if s.Site, err = e.capacity(tx, r, site); err != nil {
		return s, err
	}
	open, err := store.OpenRollovers(tx.DB, pool.ID)
	if err != nil {
		return s, err
	}
	if before := open[0]; before.ID < r.ID {
		s.HeldBy = before.Name()
	}
	return s, nil
}

func checksState(state, why string) rollover.Work {
	switch state {
	case "passed":
		return rollover.Work{State: rollover.Succeeded}
	case "failed":
		return rollover.Work{State: rollover.Broken, Why: why}
	}
	return rollover.Work{State: rollover.UnderWay}
}

type noticeKey struct {
	host    int64
	session string
}

// notices gathers what the rollover has told people, from its orders.
func notices(tx *store.Tx, rolloverID int64) (map[noticeKey]rollover.Session, error) {
	orders, err := store.OrdersOf(tx.DB, rolloverID)
	if err != nil {
		return nil, fmt.Errorf("read the orders: %w", err)
	}
	out := map[noticeKey]rollover.Session{}
	for _, o := range orders {
		key := noticeKey{o.HostID, o.SessionKey}
		s := out[key]
		switch {
		case o.Kind == store.OrderSignOff:
			if s.SignOffFirst.Before(s.Asked) {
				s.SignOffFirst = o.CreatedAt
			}
			s.SignOffLast = o.CreatedAt
		case o.Notice == store.NoticeFirst:
			s.Asked = o.CreatedAt
			if o.DoneAt != nil {
				s.Warned = *o.DoneAt
			}
		case o.Notice == store.NoticeLast:
			s.Reminded = o.CreatedAt
		}
		out[key] = s
	}
	return out, nil
}

// capacity works out what the site has left for the rollover. It holds only
// under the lock of the site.
func (e *Engine) capacity(tx *store.Tx, r store.Rollover, site store.Site) (c rollover.Site, err error) {
	c.Name = site.Name
	copies, err := store.CopiesPresent(tx.DB, r.TargetID, site.ID)
	if err != nil {
		return c, err
	}
	n, err := store.RebuildsAt(tx.DB, site.ID, r, tx.Now.Add(-time.Minute))
	if err != nil {
		return c, fmt.Errorf("read the capacity: %w", err)
	}
	c.ClonesLeft = int(copies)*site.ClonesPerCopy - n.Cloning
	c.StartsLeft = site.StartsPerMinute - n.Recent
	if own := r.Options.V.Stagger; own > 0 {
		c.StartsLeft = min(c.StartsLeft, own-n.Mine)
	}
	switch {
	case copies == 0:
		c.NoCopy = "no copy of the version is at " + site.Name + " yet"
	case n.Stuck > 0:
		// What was asked for a minute ago was not taken on. More would all start in one go when it is.
		c.ClonesLeft, c.NoCopy = 0, site.Name+" does not answer"
	}
	return c, nil
}

// tick asks what is to be done for a rollover and does it.
func (e *Engine) tick(ctx context.Context, id int64) error {
	err := e.change(ctx, serviceActor, func(tx *store.Tx) error {
		r, err := store.LockRollover(tx.DB, id)
		if err != nil || r.Settled {
			return err
		}
		pool, err := store.PoolByID(tx.DB, r.PoolID)
		if err != nil {
			return err
		}
		site, err := store.SiteByID(tx.DB, pool.SiteID)
		if err != nil {
			return err
		}
		if err := tx.LockSite(site.ID); err != nil {
			return err
		}
		s, err := e.snapshot(tx, r, pool, site)
		if err != nil {
			return err
		}
		plan := r.Plan.V
		plan.State = r.State
		plan.Limits = e.limits()
		began := time.Now()
		d := rollover.Decide(plan, s, tx.Now)
		decisionTime.Observe(time.Since(began).Seconds())
		ticksDone.Inc()
		if len(d.Actions) == 0 && strings.Join(d.Holds, "\n") == strings.Join(r.Holds, "\n") {
			return nil
		}
		if err := carryOut(tx, &r, site, s.Hosts, d); err != nil {
			return err
		}
		return tx.Save(&r).Error
	})
	if errors.Is(err, store.ErrMoved) {
		return nil // the next tick sees the host as it is now
	}
	return err
}

// carryOut carries out a decision.
func carryOut(tx *store.Tx, r *store.Rollover, site store.Site, hosts []rollover.Host, d rollover.Decision) error {
	at := make(map[int64]*rollover.Host, len(hosts))
	for i := range hosts {
		at[hosts[i].ID] = &hosts[i]
	}
	var (
		steps  []store.Step
		orders []store.Order
		works  []store.Work
	)
	for _, a := range d.Actions {
		actionsDone.WithLabelValues(strings.ReplaceAll(string(a.Kind), " ", "_")).Inc()
		if a.Host == 0 {
			carryOutWhole(tx, r, a)
			continue
		}
		h := at[a.Host]
		if verb, ok := hostVerbs[a.Kind]; ok {
			tx.Record(store.Entry{Verb: verb, Subject: "host " + h.Name, Scope: r.Name(), Reason: a.Why})
		}
		step := store.Step{Host: h.ID, Kind: a.Kind, From: h.State, Batch: a.Batch, Why: a.Why}
		step.Phase, _ = a.Phase()
		step.To, _ = a.HostState()
		steps = append(steps, step)
		switch a.Kind {
		case rollover.WarnHost, rollover.Remind, rollover.SignOff:
			orders = append(orders, ordersFor(tx, r, h, a)...)
		case rollover.Rebuild:
			works = append(works, store.Work{
				Key: fmt.Sprintf("rebuild-%d-%d", r.ID, h.ID), Kind: store.WorkRebuild, SiteID: site.ID,
				VersionID: r.TargetID, HostID: &h.ID, RolloverID: &r.ID,
			})
		}
	}
	if len(steps) > 0 {
		if err := tx.TakeSteps(*r, steps); err != nil {
			return err
		}
	}
	if err := tx.Ask(works...); err != nil {
		return err
	}
	if err := tx.Give(orders...); err != nil {
		return err
	}
	r.Holds = d.Holds
	if r.Settled {
		r.Holds = nil
	}
	if len(d.Actions) == 0 {
		tx.Emit("rollover.holds", r.Name(), nil)
	}
	return nil
}

// carryOutWhole carries out what concerns the rollover itself.
func carryOutWhole(tx *store.Tx, r *store.Rollover, a rollover.Action) {
	record := func(verb string) {
		tx.Record(store.Entry{Verb: verb, Subject: r.Name(), Scope: r.Name(), Reason: a.Why})
	}
	switch a.Kind {
	case rollover.Start:
		r.State, r.StartedAt = rollover.Running, &tx.Now
		record("rollover.start")
	case rollover.Pause:
		pause(tx, r, a.Why)
	case rollover.Finish:
		r.State, r.Settled, r.EndedAt = rollover.Finished, true, &tx.Now
		record("rollover.finish")
	case rollover.Settle:
		r.Settled = true
		record("rollover.settle")
	}
}

// The verbs under which a host's actions stand in the trail. What is not here
// concerns sessions, and is recorded with them.
var hostVerbs = map[rollover.ActionKind]string{
	rollover.DrainHost: "host.drain", rollover.EmptyHost: "host.empty", rollover.Refill: "host.refill",
	rollover.Rebuild: "host.rebuild", rollover.CheckHost: "host.check", rollover.Return: "host.return",
	rollover.Release: "host.release", rollover.Fail: "host.fail", rollover.Leave: "host.leave",
}

// ordersFor are the notices or sign-offs of an action, one for each of its sessions.
func ordersFor(tx *store.Tx, r *store.Rollover, h *rollover.Host, a rollover.Action) []store.Order {
	o := r.Options.V
	order := store.Order{HostID: h.ID, Kind: store.OrderTell, RolloverID: &r.ID, CreatedAt: tx.Now}
	verb := "session.warn"
	switch a.Kind {
	case rollover.WarnHost:
		order.Notice, order.Text = store.NoticeFirst, rollover.Notice(o.FirstText, o.Grace)
	case rollover.Remind:
		verb = "session.remind"
		order.Notice, order.Text = store.NoticeLast, rollover.Notice(o.LastText, o.LastNotice)
	case rollover.SignOff:
		verb = "session.sign-off"
		order.Kind = store.OrderSignOff
	}
	orders := make([]store.Order, len(a.Sessions))
	people := make([]string, 0, len(a.Sessions))
	for i, key := range a.Sessions {
		orders[i] = order
		orders[i].SessionKey = key
		for _, s := range h.Sessions {
			if s.Key == key {
				people = append(people, s.Person)
			}
		}
	}
	tx.Record(store.Entry{Verb: verb, Subject: "host " + h.Name, Scope: r.Name(), Detail: map[string]any{"people": people}})
	return orders
}
