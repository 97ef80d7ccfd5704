package rollovers

import (
	"context"
	"errors"
	"slices"
	"strings"

	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/core/rollover"
	"nimblepane/engine/versions"
	"nimblepane/store"
)

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
	// Options of the rollovers that it starts; rollover.UrgentOptions if they are the zero value.
	Options rollover.Options
	// FloorGiven says that the person chose the floor: it is not lowered for a pool that cannot keep it.
	FloorGiven bool
}

// optionsFor returns the options of the pool's rollover.
func (r RollbackRequest) optionsFor(p store.Pool) rollover.Options {
	o := r.Options
	if o == (rollover.Options{}) {
		o = rollover.UrgentOptions
	}
	if !r.FloorGiven {
		o = o.FloorFor(p.Size())
	}
	return o
}

// RollbackResult is what a rollback set going.
type RollbackResult struct {
	From, To  string
	Already   bool     // it was done before, and nothing was done now
	Tracks    []string // tracks that were pointed back
	Rollovers []store.Rollover
	Stopped   []store.Rollover // those that took hosts elsewhere, or only some of them back
	Open      []store.Rollover // those that took all hosts back already, and go on with their own options
}

// Rollback points an image's live track back at an earlier version, bars the
// version that it named, and rolls every pool that follows the track back:
// hosts that run the earlier version stay as they are. Other tracks that name
// the barred version go back too.
func (rs *Rollovers) Rollback(ctx context.Context, actor string, r RollbackRequest) (result RollbackResult, err error) {
	if strings.TrimSpace(r.Reason) == "" {
		return result, problem.ReasonRequired.Errorf("rolling back needs a reason")
	}
	err = rs.engine.Change(ctx, actor, func(tx *store.Tx) error {
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
			return problem.NoFallback.Errorf("image %s was never live, so it cannot be rolled back", img.Name)
		}
		bad, err := store.VersionByID(tx.DB, *live.VersionID)
		if err != nil {
			return err
		}
		if bad.Number != r.Leaves {
			if result, err = rolledBack(tx, img, live, r); err != nil || result.Already {
				return err
			}
		}
		if err := versions.CheckLeaves(img, image.Live, bad.Number, r.Leaves); err != nil {
			return err
		}
		// Not before it is known that this is no repetition: its time may have come meanwhile.
		if err := notPast(r.Options, tx.Now); err != nil {
			return err
		}
		good, err := rs.goBackTo(tx, img, live, bad, r.To)
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
			if err := tx.MoveTrack(t, store.TrackMove{
				Kind: image.Return, VersionID: good.ID,
				Reason: r.Reason,
			}); err != nil {
				return err
			}
			result.Tracks = append(result.Tracks, t.Name)
		}
		result.From, result.To = bad.Number, good.Number
		tx.Record(store.Entry{
			Verb: "image.rollback", Subject: versions.Subject(img, bad), Reason: r.Reason,
			Detail: map[string]any{"to": good.Number, "tracks": result.Tracks},
		})
		if !r.TrackOnly {
			if err := rs.rollPoolsBack(tx, img, r, &result); err != nil {
				return err
			}
		}
		if r.KeepUsable {
			return nil
		}
		if pinned, err := store.PinnedTo(tx.DB, bad.ID); err != nil {
			return err
		} else if len(pinned) > 0 {
			return problem.InUse.Errorf("pool %s is pinned to %s, which the rollback would block: unpin the pool, "+
				"or do not block the version", strings.Join(pinned, ", "), versions.Label(img, bad))
		}
		if err := versions.BarIn(tx, img, &bad, r.Reason); err != nil {
			return err
		}
		return tx.Save(&bad).Error
	})
	return result, err
}

// rolledBack says whether the last move of live was this very rollback: a
// request that is repeated must not roll back once more.
func rolledBack(tx *store.Tx, img store.Image, live store.Track, r RollbackRequest) (result RollbackResult, err error) {
	left, err := store.VersionNumbered(tx.DB, img, r.Leaves)
	if err != nil {
		return result, err
	}
	moves, err := store.TrackMoves(tx.DB, live.ID)
	if err != nil {
		return result, err
	}
	n := len(moves)
	if n < 2 || moves[n-1].Kind != image.Return || moves[n-2].VersionID != left.ID {
		return result, nil
	}
	now, err := store.VersionByID(tx.DB, moves[n-1].VersionID)
	if err != nil || r.To != "" && r.To != now.Number {
		return result, err
	}
	pools, err := store.LockFollowers(tx.DB, img, []string{image.Live})
	if err != nil {
		return result, err
	}
	result = RollbackResult{From: left.Number, To: now.Number, Already: true}
	for _, p := range pools {
		open, err := store.OpenRollovers(tx.DB, p.ID)
		if err != nil {
			return result, err
		}
		if o := store.NotStopped(open); o != nil && o.TargetID == now.ID {
			result.Rollovers = append(result.Rollovers, *o)
		}
	}
	return result, nil
}

func (rs *Rollovers) goBackTo(tx *store.Tx, img store.Image, live store.Track, bad store.Version,
	number string,
) (store.Version, error) {
	if number == "" {
		if live.FallbackID == nil {
			return store.Version{}, problem.NoFallback.Errorf("image %s has no fallback: it was discarded, or this "+
				"is the first version; give the version to roll back to", img.Name)
		}
		good, err := store.VersionByID(tx.DB, *live.FallbackID)
		if err != nil {
			return good, err
		}
		return good, versions.Usable(img, good)
	}
	good, err := store.VersionNumbered(tx.DB, img, number)
	if err != nil {
		return good, err
	}
	if good.ID == bad.ID {
		return good, problem.InvalidRequest.Errorf("%s is the live version: give an earlier version",
			versions.Label(img, good))
	}
	moves, err := store.TrackMoves(tx.DB, live.ID)
	if err != nil {
		return good, err
	}
	var history []image.Move
	for _, m := range moves {
		history = append(history, image.Move{Kind: m.Kind, Version: m.VersionID})
	}
	// The last of the line is the version that live names.
	if !slices.Contains(image.Line(history), good.ID) {
		return good, problem.InvalidRequest.Errorf("%s was not live before %s: a rollback goes to an earlier "+
			"version; activate any other version instead", versions.Label(img, good), bad.Number)
	}
	return good, versions.Usable(img, good)
}

// rollPoolsBack gives each pool that follows one of the tracks a rollover of every
// host that does not serve on the version that the pool should run now. Hosts that
// are off or faulty are included: without their seats, the floor could block the
// other hosts. An open rollover of the pool to another version, or of only some of
// these hosts, is stopped.
func (rs *Rollovers) rollPoolsBack(tx *store.Tx, img store.Image, r RollbackRequest, result *RollbackResult) error {
	pools, err := store.LockFollowers(tx.DB, img, result.Tracks)
	if err != nil {
		return err
	}
	var rolled []store.Pool
	for _, p := range pools {
		open, err := store.LockOpenRollovers(tx.DB, p.ID)
		if err != nil {
			return err
		}
		if o := store.NotStopped(open); o != nil {
			if covered, err := takesAll(tx, *o, p); err != nil {
				return err
			} else if covered {
				result.Open = append(result.Open, *o)
				continue
			}
			stop(tx, o, r.Reason)
			if err := tx.Save(o).Error; err != nil {
				return err
			}
			result.Stopped = append(result.Stopped, *o)
		}
		one, err := rs.startOne(tx, p, StartRequest{Options: r.optionsFor(p), Reason: r.Reason})
		if errors.Is(err, problem.NothingToDo) {
			continue
		}
		if err != nil {
			return err
		}
		rolled, result.Rollovers = append(rolled, p), append(result.Rollovers, one)
	}
	return fit(r.optionsFor, rolled...)
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
	return !slices.ContainsFunc(hosts, func(h store.Host) bool { return decided(h).Joins(target) && !coming[h.ID] }),
		nil
}
