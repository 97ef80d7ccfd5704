package rollovers

import (
	"context"
	"errors"
	"strings"
	"time"

	"nimblepane/agent"
	"nimblepane/core/rollover"
	"nimblepane/engine"
	"nimblepane/store"
)

// tick asks what is to be done for a rollover and does it.
func (rs *Rollovers) tick(ctx context.Context, id int64) error {
	err := rs.engine.Change(ctx, engine.ServiceActor, func(tx *store.Tx) error {
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
		s, err := rs.snapshot(tx, r, pool, site)
		if err != nil {
			return err
		}
		plan := r.Plan.V
		plan.State = r.State
		plan.Limits = rs.fleet.Limits()
		began := time.Now()
		d := rollover.Decide(plan, s, tx.Now)
		decisionTime.Observe(time.Since(began).Seconds())
		ticksDone.Inc()
		if len(d.Actions) == 0 && strings.Join(d.Holds, "\n") == strings.Join(r.Holds, "\n") {
			return nil
		}
		if err := rs.carryOut(tx, &r, pool, s.Hosts, d); err != nil {
			return err
		}
		return tx.Save(&r).Error
	})
	if errors.Is(err, store.ErrMoved) {
		return nil // the next tick sees the host as it is now
	}
	return err
}

// carryOut carries out a decision about a pool's hosts.
func (rs *Rollovers) carryOut(tx *store.Tx, r *store.Rollover, pool store.Pool, hosts []rollover.Host,
	d rollover.Decision,
) error {
	at := make(map[int64]*rollover.Host, len(hosts))
	for i := range hosts {
		at[hosts[i].ID] = &hosts[i]
	}
	target, err := store.VersionByID(tx.DB, r.TargetID)
	if err != nil {
		return err
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
		step := store.Step{Host: h.ID, Kind: a.Kind, From: h.State, Batch: a.Batch, Why: a.Why}
		step.Phase, _ = a.Phase()
		step.To, _ = a.HostState()
		steps = append(steps, step)
		change := store.HostChange{
			Host: h.Name, Pool: pool.Name, Rollover: r.ID, Phase: step.Phase, Batch: a.Batch,
			State: step.To, Why: a.Why,
		}
		if a.Kind == rollover.Rebuild {
			change.Version = target.Number
		}
		if verb, ok := hostVerbs[a.Kind]; ok {
			tx.Record(store.Entry{
				Verb: verb, Subject: "host " + h.Name, Scope: r.Name(), Reason: a.Why,
				Change: change,
			})
		}
		switch a.Kind {
		case rollover.WarnHost, rollover.Remind, rollover.SignOff:
			orders = append(orders, ordersFor(tx, r, h, a, change)...)
		case rollover.Rebuild:
			works = append(works, rs.rebuilds.Of(pool.SiteID, store.RebuildSubject(r.ID, h.ID), 1,
				ofHost{r.TargetID, h.ID, r.ID}))
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
	case rollover.Postpone:
		r.State = rollover.Waiting
		record("rollover.wait")
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
	rollover.Rebuild: "host.rebuild", rollover.BootHost: "host.boot", rollover.CheckHost: "host.check",
	rollover.Return:  "host.return",
	rollover.Release: "host.release", rollover.Fail: "host.fail", rollover.Leave: "host.leave",
}

// ordersFor are the notices or sign-offs of an action, one for each of its sessions.
func ordersFor(tx *store.Tx, r *store.Rollover, h *rollover.Host, a rollover.Action,
	change store.HostChange,
) []store.Order {
	o := r.Options.V
	order := store.Order{HostID: h.ID, Kind: agent.ShowText, RolloverID: &r.ID, CreatedAt: tx.Now}
	verb := "session.warn"
	switch a.Kind {
	case rollover.WarnHost:
		order.Notice, order.Text = store.NoticeFirst, rollover.Notice(o.FirstText, o.Grace)
	case rollover.Remind:
		verb = "session.remind"
		order.Notice, order.Text = store.NoticeLast, rollover.Notice(o.LastText, o.LastNotice)
	case rollover.SignOff:
		verb = "session.sign-off"
		order.Kind = agent.EndSession
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
	tx.Record(store.Entry{
		Verb: verb, Subject: "host " + h.Name, Scope: r.Name(),
		Detail: map[string]any{"people": people}, Change: change,
	})
	return orders
}
