package engine

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/clearance"
	"nimblepane/core/image"
	"nimblepane/core/rollover"
	"nimblepane/store"
)

// Staging says how a version is staged.
type Staging struct {
	Reason string
	// Leaves is the number of the version that the track names, as the person saw it; nil if they did not look.
	Leaves *string
}

// Stage points an image's pilot track at a version.
func (e *Engine) Stage(ctx context.Context, actor, imageName, number string, s Staging) error {
	return e.onVersion(ctx, actor, imageName, number, func(tx *store.Tx, img store.Image, v *store.Version) error {
		return e.advance(tx, img, *v, image.Pilot, "version.stage", Activation{Reason: s.Reason, Leaves: s.Leaves})
	})
}

// Activation says how a version goes live.
type Activation struct {
	Reason string
	// LetGo says that the version in use before is not kept as the fallback.
	LetGo bool
	// Overrule activates without clearance; it needs a reason.
	Overrule bool
	// Leaves is as in Staging.
	Leaves *string
}

// Activate points an image's live track at a version that has clearance.
func (e *Engine) Activate(ctx context.Context, actor, imageName, number string, a Activation) error {
	if a.Overrule && strings.TrimSpace(a.Reason) == "" {
		return invalid("overruling clearance needs a reason")
	}
	return e.onVersion(ctx, actor, imageName, number, func(tx *store.Tx, img store.Image, v *store.Version) error {
		overruled, err := e.cleared(tx, img, *v, a.Overrule)
		if err != nil {
			return err
		}
		verb := "version.activate"
		if overruled {
			verb = "version.overrule"
		}
		return e.advance(tx, img, *v, image.Live, verb, a)
	})
}

// cleared returns nil if the version may go before production: with clearance,
// or, overruled, without.
func (e *Engine) cleared(tx *store.Tx, img store.Image, v store.Version, overrule bool) (overruled bool, err error) {
	answers, err := e.clearance(tx.DB, img, v, tx.Now)
	if err != nil {
		return false, err
	}
	unmet := clearance.Unmet(answers)
	if len(unmet) == 0 || overrule {
		return len(unmet) > 0, nil
	}
	p := &Problem{Kind: Uncleared, Text: label(img, v) + " has no clearance, so it stays off live"}
	for _, u := range unmet {
		p.Reasons = append(p.Reasons, u.Rule+": "+u.Why)
	}
	return false, p
}

// usable returns nil if hosts may be made from the version.
func usable(img store.Image, v store.Version) error {
	switch {
	case v.State != store.Sealed:
		return conflict("%s is %s: only a sealed version can be used", label(img, v), v.State)
	case v.Barred != "":
		return conflict("%s is barred: %s", label(img, v), v.Barred)
	}
	return nil
}

func (e *Engine) advance(tx *store.Tx, img store.Image, v store.Version, trackName, verb string, a Activation) error {
	if err := usable(img, v); err != nil {
		return err
	}
	t, err := store.TrackNamed(tx.DB, img, trackName)
	if err != nil {
		return err
	}
	if t.VersionID != nil && *t.VersionID == v.ID {
		return conflict("track %s of %s names %s already", trackName, img.Name, v.Number)
	}
	before := ""
	if t.VersionID != nil {
		old, err := store.VersionByID(tx.DB, *t.VersionID)
		if err != nil {
			return err
		}
		before = old.Number
	}
	if a.Leaves != nil {
		if err := leaves(img, trackName, before, *a.Leaves); err != nil {
			return err
		}
	}
	tx.Record(store.Entry{Verb: verb, Subject: subject(img, v), Reason: a.Reason, Detail: map[string]any{"track": trackName, "before": cmp.Or(before, "nothing"), "let_go": a.LetGo}})
	return tx.MoveTrack(&t, store.TrackMove{Kind: image.Advance, VersionID: v.ID, LetGo: a.LetGo, Reason: a.Reason})
}

// Clearance answers every rule for the version, as things stand.
func (e *Engine) Clearance(ctx context.Context, img store.Image, v store.Version) ([]clearance.Answer, error) {
	return e.clearance(e.Store.DB.WithContext(ctx), img, v, e.Clock.Now())
}

func (e *Engine) clearance(db *gorm.DB, img store.Image, v store.Version, now time.Time) ([]clearance.Answer, error) {
	settings := clearance.Settings{Testers: img.Testers, Soak: time.Duration(img.SoakSeconds) * time.Second, Copies: img.Copies}
	facts := clearance.Facts{State: v.State, Barred: v.Barred}
	if v.EndOfLife != nil {
		facts.EndOfLife = *v.EndOfLife
	}
	pilot, err := store.TrackNamed(db, img, image.Pilot)
	if err != nil {
		return nil, err
	}
	if pilot.VersionID != nil && *pilot.VersionID == v.ID {
		facts.PilotSince = *pilot.Since
	}
	signs, err := store.SignOffs(db, v.ID)
	if err != nil {
		return nil, err
	}
	for _, s := range signs {
		facts.Verdicts = append(facts.Verdicts, clearance.Verdict{Tester: s.Tester, Yes: s.Yes, Comment: s.Comment})
	}
	pools, err := store.Unpinned(db, img.ID)
	if err != nil {
		return nil, err
	}
	sites := map[int64]bool{}
	for _, p := range pools {
		switch p.Track {
		case image.Pilot:
			pool := clearance.PilotPool{Name: p.Name}
			hosts, err := store.Hosts(db, p.ID)
			if err != nil {
				return nil, err
			}
			for _, h := range hosts {
				pool.Hosts++
				switch {
				case h.VersionID == nil || *h.VersionID != v.ID:
					pool.Missing = append(pool.Missing, h.Name+" (another version)")
				case h.State != rollover.HostServing:
					pool.Missing = append(pool.Missing, fmt.Sprintf("%s (%s)", h.Name, h.State))
				default:
					pool.Running++
				}
			}
			facts.PilotPools = append(facts.PilotPools, pool)
		case image.Live:
			if sites[p.SiteID] {
				continue
			}
			sites[p.SiteID] = true
			site, err := store.SiteByID(db, p.SiteID)
			if err != nil {
				return nil, err
			}
			n, err := store.CopiesPresent(db, v.ID, p.SiteID)
			if err != nil {
				return nil, err
			}
			facts.Sites = append(facts.Sites, clearance.SiteCopies{Site: site.Name, Present: int(n)})
		}
	}
	return clearance.Evaluate(settings, facts, now), nil
}

// RollbackRequest says how an image goes back.
type RollbackRequest struct {
	Image  string
	Leaves string // the number of the version that live names, as the person saw it
	To     string // "" for the fallback
	Reason string
	// KeepUsable leaves the version that is rolled back unbarred.
	KeepUsable bool
	// TrackOnly moves the track and starts no rollover.
	TrackOnly bool
}

// RollbackResult is what a rollback set going.
type RollbackResult struct {
	From, To  string
	Tracks    []string // tracks that were pointed back
	Rollovers []store.Rollover
	Stopped   []store.Rollover // those that took hosts elsewhere, or only some of them back
}

// Rollback points an image's live track back at an earlier version, bars the
// version that it named, and rolls every pool that follows the track back:
// hosts that run the earlier version stay as they are. Other tracks that name
// the barred version go back too.
func (e *Engine) Rollback(ctx context.Context, actor string, r RollbackRequest) (result RollbackResult, err error) {
	if strings.TrimSpace(r.Reason) == "" {
		return result, invalid("rolling back needs a reason: it stands on the barred version and in the trail")
	}
	err = e.change(ctx, actor, func(tx *store.Tx) error {
		result = RollbackResult{}
		img, err := store.LockImage(tx.DB, r.Image)
		if err != nil {
			return err
		}
		live, err := store.TrackNamed(tx.DB, img, image.Live)
		if err != nil {
			return err
		}
		if live.VersionID == nil {
			return conflict("image %s was never live: there is nothing to roll back", img.Name)
		}
		bad, err := store.VersionByID(tx.DB, *live.VersionID)
		if err != nil {
			return err
		}
		if err := leaves(img, image.Live, bad.Number, r.Leaves); err != nil {
			return err
		}
		good, err := e.goBackTo(tx, img, live, bad, r.To)
		if err != nil {
			return err
		}
		tracks, err := store.Tracks(tx.DB, img.ID)
		if err != nil {
			return err
		}
		for i := range tracks {
			t := &tracks[i]
			if t.VersionID == nil || *t.VersionID != bad.ID || t.Name != image.Live && r.KeepUsable {
				continue
			}
			if err := tx.MoveTrack(t, store.TrackMove{Kind: image.Return, VersionID: good.ID, Reason: r.Reason}); err != nil {
				return err
			}
			result.Tracks = append(result.Tracks, t.Name)
		}
		result.From, result.To = bad.Number, good.Number
		tx.Record(store.Entry{Verb: "image.rollback", Subject: subject(img, bad), Reason: r.Reason, Detail: map[string]any{"to": good.Number, "tracks": result.Tracks}})
		if !r.TrackOnly {
			if result.Rollovers, result.Stopped, err = e.rollPoolsBack(tx, img, result.Tracks, r.Reason); err != nil {
				return err
			}
		}
		if r.KeepUsable {
			return nil
		}
		if pinned, err := store.PinnedTo(tx.DB, bad.ID); err != nil {
			return err
		} else if len(pinned) > 0 {
			return conflict("pool %s is pinned to %s, which rolling back bars: unpin it first, or keep the version usable", strings.Join(pinned, ", "), label(img, bad))
		}
		if err := e.bar(tx, img, &bad, r.Reason); err != nil {
			return err
		}
		return tx.Save(&bad).Error
	})
	return result, err
}

// leaves returns a problem if a track names another version than the one that
// somebody who moves it means to leave: somebody else moved it meanwhile.
func leaves(img store.Image, track, names, meant string) error {
	if names == meant {
		return nil
	}
	return &Problem{Kind: Stale, Text: fmt.Sprintf("track %s of %s names %s, and not %s: somebody moved it since you looked; look again, and repeat it if it is still right", track, img.Name, cmp.Or(names, "nothing"), cmp.Or(meant, "nothing"))}
}

func (e *Engine) goBackTo(tx *store.Tx, img store.Image, live store.Track, bad store.Version, number string) (store.Version, error) {
	if number == "" {
		if live.FallbackID == nil {
			return store.Version{}, conflict("image %s has no fallback: it was let go, or this is its first version; name the version to go back to", img.Name)
		}
		good, err := store.VersionByID(tx.DB, *live.FallbackID)
		if err != nil {
			return good, err
		}
		return good, usable(img, good)
	}
	good, err := store.VersionNumbered(tx.DB, img, number)
	if err != nil {
		return good, err
	}
	if good.ID == bad.ID {
		return good, invalid("%s is what live names now: name an earlier version", label(img, good))
	}
	moves, err := store.TrackMoves(tx.DB, live.ID)
	if err != nil {
		return good, err
	}
	if !slices.ContainsFunc(moves, func(m store.TrackMove) bool { return m.VersionID == good.ID }) {
		return good, conflict("%s was never live: rolling back goes to a version that was; to go on to another one, activate it", label(img, good))
	}
	return good, usable(img, good)
}

// rollPoolsBack gives each pool that follows one of the tracks a rollover that
// takes every host of it to what it should run now. What takes hosts of the
// pool elsewhere, or takes only some of them back, is stopped for it.
func (e *Engine) rollPoolsBack(tx *store.Tx, img store.Image, tracks []string, reason string) (started, stopped []store.Rollover, err error) {
	pools, err := store.LockFollowers(tx.DB, img, tracks)
	if err != nil {
		return nil, nil, err
	}
	for _, p := range pools {
		open, err := store.LockOpenRollovers(tx.DB, p.ID)
		if err != nil {
			return nil, nil, err
		}
		if o := running(open); o != nil {
			if covered, err := takesAll(tx, *o, p); err != nil {
				return nil, nil, err
			} else if covered {
				continue
			}
			stop(tx, o, reason)
			if err := tx.Save(o).Error; err != nil {
				return nil, nil, err
			}
			stopped = append(stopped, *o)
		}
		o, err := lastOptions(tx, p)
		if err != nil {
			return nil, nil, err
		}
		if err := fit(o, p); err != nil {
			return nil, nil, err
		}
		r, err := e.startOne(tx, p, StartRequest{Options: o, Reason: reason})
		var nothing *nothingToDo
		if asNothing(err, &nothing) {
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		started = append(started, r)
	}
	return started, stopped, nil
}

// takesAll says whether a rollover takes every host of the pool that needs it
// to what the pool should run.
func takesAll(tx *store.Tx, r store.Rollover, p store.Pool) (bool, error) {
	target, err := store.PoolTarget(tx.DB, p.ID)
	if err != nil || r.TargetID != target {
		return false, err
	}
	members, err := store.RolloverHosts(tx.DB, r.ID)
	if err != nil {
		return false, err
	}
	coming := map[int64]bool{}
	for _, m := range members {
		coming[m.HostID] = !m.Phase.Settled()
	}
	hosts, err := store.Hosts(tx.DB, p.ID)
	if err != nil {
		return false, err
	}
	return !slices.ContainsFunc(hosts, func(h store.Host) bool { return decided(h).Joins(target) && !coming[h.ID] }), nil
}

// lastOptions are those of the pool's last rollover, other than of single
// hosts: its people are used to them.
func lastOptions(tx *store.Tx, p store.Pool) (rollover.Options, error) {
	last, was, err := store.LastRollover(tx.DB, p.ID)
	if err != nil || !was {
		return rollover.DefaultOptions, err
	}
	o := last.Options.V
	o.EarliestStart = time.Time{}
	if fit(o, p) != nil {
		return rollover.DefaultOptions, nil // the pool is another by now
	}
	return o, nil
}
