package rollovers

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"nimblepane/core/host"
	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/core/rollover"
	"nimblepane/engine/versions"
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

// Left is a pool for which no rollover was started.
type Left struct{ Pool, Why string }

// Start plans a rollover for each pool whose state allows it, and returns the other pools with the reasons. An unknown
// pool, and options that do not fit one, refuse all of them; so does a state that allows none.
func (rs *Rollovers) Start(ctx context.Context, actor string, r StartRequest) (started []store.Rollover, left []Left,
	err error,
) {
	if len(r.Pools) == 0 {
		return nil, nil, problem.InvalidRequest.Errorf("give at least one pool to roll over")
	}
	if err := notPast(r.Options, rs.engine.Clock.Now()); err != nil {
		return nil, nil, err
	}
	full := map[string]error{}
	for i, name := range r.Pools {
		if slices.Contains(r.Pools[:i], name) {
			return nil, nil, problem.InvalidRequest.Errorf("pool %s is listed twice", name)
		}
	}
	var refused *problem.Problem
	for _, name := range r.Pools {
		if err := rs.checkRoom(ctx, name); errors.As(err, &refused) {
			full[name] = err
		} else if err != nil {
			return nil, nil, err
		}
	}
	err = rs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		started, left = nil, nil
		pools, err := store.LockPools(tx.DB, r.Pools...)
		if err != nil {
			return err
		}
		for _, p := range pools {
			one, err := store.Rollover{}, full[p.Name]
			if err == nil {
				one, err = rs.startOne(tx, p, r)
			}
			switch {
			case errors.As(err, &refused):
				left = append(left, Left{Pool: p.Name, Why: err.Error()})
			case err != nil:
				return err
			default:
				started = append(started, one)
			}
		}
		if len(started) > 0 {
			return fit(func(store.Pool) rollover.Options { return r.Options }, pools...)
		}
		if len(left) == 1 {
			return refused
		}
		none := &problem.Problem{Type: problem.NotPossible, Detail: "none of the pools can be rolled over"}
		for _, l := range left {
			none.Reasons = append(none.Reasons, l.Why)
		}
		return none
	})
	return started, left, err
}

// notPast returns a problem if the earliest start is over.
func notPast(o rollover.Options, now time.Time) error {
	if o.EarliestStart.IsZero() || o.EarliestStart.After(now) {
		return nil
	}
	return problem.InvalidRequest.Errorf("earliest start %s is not in the future: it is %s",
		o.EarliestStart.Format(time.RFC3339),
		now.UTC().Format(time.RFC3339))
}

// Activated handles open rollovers of an image's pools to a version other than the activated one: it refuses the
// activation, or stops them and starts new ones with their options, to the activated version.
func (rs *Rollovers) Activated(tx *store.Tx, img store.Image, v store.Version, a versions.Activation) error {
	pools, err := store.LockFollowers(tx.DB, img, []string{image.Live})
	if err != nil {
		return err
	}
	var going []string
	for _, p := range pools {
		open, err := store.LockOpenRollovers(tx.DB, p.ID)
		if err != nil {
			return err
		}
		o := store.NotStopped(open)
		if o == nil || o.TargetID == v.ID {
			continue
		}
		other, err := store.VersionByID(tx.DB, o.TargetID)
		if err != nil {
			return err
		}
		if !a.Redirect {
			going = append(going, fmt.Sprintf("%s of pool %s (%s) takes hosts to %s", o.Name(), p.Name, o.State,
				other.Number))
			continue
		}
		sentence := fmt.Sprintf("Rollover %d of pool %s (%s) to %s is stopped", o.ID, p.Name, o.State, other.Number)
		reason := fmt.Sprintf("%s is activated", versions.Label(img, v))
		stop(tx, o, reason)
		if err := tx.Save(o).Error; err != nil {
			return err
		}
		switch next, err := rs.startOne(tx, p, StartRequest{Options: o.Options.V, Reason: reason}); {
		case errors.Is(err, problem.NothingToDo):
			sentence += ": all of its hosts run " + v.Number + "."
		case err != nil:
			return err
		default:
			sentence += fmt.Sprintf(", and a new one with its options takes %s to %s.",
				english.Plural(len(next.Members), "host", ""), v.Number)
		}
		if a.Redirected != nil {
			a.Redirected(o.ID, sentence)
		}
	}
	if len(going) > 0 {
		return &problem.Problem{
			Type: problem.RolloversOpen, Reasons: going,
			Detail: "open rollovers would take hosts to another version: redirect them (--redirect-rollovers), or " +
				"stop them first",
		}
	}
	return nil
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
		return img, store.Version{}, problem.WrongState.Errorf("track %s of %s points to no version, so pool %s has "+
			"no target version: stage or activate a version first",
			p.Track, img.Name, p.Name)
	}
	v, err := store.VersionByID(tx.DB, id)
	if err != nil {
		return img, v, err
	}
	return img, v, versions.Usable(img, v)
}

// checkRoom asks a pool's site whether its hosts can all have a machine there. A site that does not
// answer now does not keep a rollover from being planned: its works wait for the site.
func (rs *Rollovers) checkRoom(ctx context.Context, pool string) error {
	db := rs.engine.Store.DB.WithContext(ctx)
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
	err = rs.engine.AskTo(ctx, site, func(ctx context.Context,
		on platform.Platform,
	) error {
		return on.CheckRoom(ctx, hosts, p.MachineClass)
	})
	var refusal *platform.Refusal
	if errors.As(err, &refusal) {
		return problem.WrongState.Errorf("pool %s cannot be rolled over: %s", p.Name, refusal.Why)
	}
	if err != nil {
		rs.engine.Log.Warn("whether a pool fits could not be asked", "pool", p.Name, "err", err)
	}
	return nil
}

// fit returns nil if the options can be carried out on all of the pools, or
// all that is wrong: with the pool's name what is wrong with some of them only.
func fit(options func(store.Pool) rollover.Options, pools ...store.Pool) error {
	var names, reasons []string
	where := map[string][]string{} // the pools, by reason
	for _, p := range pools {
		err := options(p).Check(p.Size())
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
	return &problem.Problem{Type: problem.InvalidRequest, Detail: "the options do not fit " +
		english.PluralWord(len(names), "pool ", "pools ") + strings.Join(names, " and "), Reasons: reasons}
}

func (rs *Rollovers) startOne(tx *store.Tx, p store.Pool, r StartRequest) (store.Rollover, error) {
	var row store.Rollover
	open, err := store.LockOpenRollovers(tx.DB, p.ID)
	if err != nil {
		return row, err
	}
	if o := store.NotStopped(open); o != nil {
		return row, problem.Busy.Errorf("pool %s has an open rollover, %s (%s): let it finish, or stop it", p.Name,
			o.Name(),
			o.State)
	}
	img, v, err := poolTarget(tx, p)
	if err != nil {
		return row, err
	}
	if p.MachineClass != img.MachineClass {
		return row, problem.Incompatible.Errorf("pool %s has machines of class %s, but image %s is for class %s",
			p.Name,
			p.MachineClass, img.Name, img.MachineClass)
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
		if len(r.Hosts) > 0 && h.DrainOrder != 0 && (h.State == host.Draining || h.State == host.Emptied) {
			// Somebody drained it in order to rebuild it: the rollover takes over from there.
			m.Phase, m.Batch = rollover.Draining, 1
			if err := tx.TakeOver(h.ID); err != nil {
				return row, err
			}
		}
		members = append(members, m)
	}
	if len(members) == 0 {
		return row, problem.NothingToDo.Errorf("all hosts of pool %s already run %s", p.Name, versions.Label(img, v))
	}
	plan := r.Options.Plan(p.Size())
	plan.State, plan.Target, plan.Forced = rollover.Planned, v.ID, len(r.Hosts) > 0
	return createRollover(tx, p, img, v, store.Rollover{
		Options: store.JSON[rollover.Options]{V: r.Options}, Plan: store.JSON[rollover.Plan]{V: plan}, Reason: r.Reason,
	}, members)
}

// decided is what of a host's record the core decides by.
func decided(h store.Host) rollover.Host {
	d := rollover.Host{ID: h.ID, Name: h.Name, State: h.State, DrainedBy: h.DrainedBy}
	if h.VersionID != nil {
		d.Version = *h.VersionID
	}
	return d
}

func createRollover(tx *store.Tx, p store.Pool, img store.Image, v store.Version, row store.Rollover,
	members []store.RolloverHost,
) (store.Rollover, error) {
	row.PoolID, row.TargetID, row.State, row.CreatedBy, row.CreatedAt = p.ID, v.ID, rollover.Planned, tx.Actor, tx.Now
	if err := tx.AddRollover(&row, members); err != nil {
		return row, err
	}
	detail := map[string]any{
		"pool": p.Name, "version": versions.Label(img, v), "hosts": len(members),
		"batch": row.Options.V.Batch.String(), "floor": row.Options.V.Floor.String(), "log_off": row.Options.V.LogOff,
	}
	if row.Reverses != nil {
		detail["reverses"] = *row.Reverses
	}
	tx.Record(store.Entry{
		Verb: "rollover.plan", Subject: row.Name(), Scope: row.Name(), Reason: row.Reason,
		Detail: detail,
	})
	return row, nil
}
