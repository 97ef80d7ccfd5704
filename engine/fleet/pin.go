package fleet

import (
	"context"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize/english"

	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/engine"
	"nimblepane/engine/versions"
	"nimblepane/store"
)

// Pinning says how a pool is pinned.
type Pinning struct {
	Reason string
	// Approved says that the person may put versions before production, and Overrule that they
	// do so without clearance.
	Approved, Overrule bool
}

// Pin makes a pool run one version, whatever its track names. A pool that
// follows live is pinned only to what live named before, or to what might go live.
func (fl *Fleet) Pin(ctx context.Context, actor, poolName, number string, how Pinning) error {
	if strings.TrimSpace(how.Reason) == "" {
		return problem.ReasonRequired.Errorf("pinning a pool needs a reason")
	}
	return fl.engine.Change(ctx, actor, func(tx *store.Tx) error {
		p, err := store.LockPool(tx.DB, poolName)
		if err != nil {
			return err
		}
		img, err := store.ImageByID(tx.DB, p.ImageID)
		if err != nil {
			return err
		}
		v, err := store.VersionNumbered(tx.DB, img, number)
		if err != nil {
			return err
		}
		if err := versions.Usable(img, v); err != nil {
			return err
		}
		if p.PinnedID != nil && *p.PinnedID == v.ID {
			return problem.WrongState.Errorf("pool %s is already pinned to %s", p.Name, v.Number)
		}
		verb := "pool.pin"
		if p.Track == image.Live {
			if overruled, err := mayPin(tx, img, v, how); err != nil {
				return err
			} else if overruled {
				verb = "pool.overrule"
			}
		}
		p.PinnedID, p.PinnedWhy = &v.ID, how.Reason
		p.Revision++
		tx.Record(store.Entry{
			Verb: verb, Subject: "pool " + p.Name, Reason: how.Reason,
			Detail: map[string]any{"version": v.Number},
		})
		return tx.Save(&p).Error
	})
}

// mayPin returns nil if a pool in production may be pinned to the version.
func mayPin(tx *store.Tx, img store.Image, v store.Version, how Pinning) (overruled bool, err error) {
	was, err := store.WasLive(tx.DB, v.ID)
	if err != nil || was {
		return false, err
	}
	if !how.Approved {
		return false, &problem.Problem{Type: problem.Forbidden, Detail: versions.Label(img, v) +
			" was never live: pinning production to it needs the role that activating needs, approver"}
	}
	return versions.Cleared(tx, img, v, how.Overrule)
}

// Unpin makes a pool follow its track again.
func (fl *Fleet) Unpin(ctx context.Context, actor, poolName, reason string) error {
	return fl.engine.Change(ctx, actor, func(tx *store.Tx) error {
		p, err := store.LockPool(tx.DB, poolName)
		if err != nil {
			return err
		}
		if p.PinnedID == nil {
			return nil // it was unpinned before
		}
		p.PinnedID, p.PinnedWhy = nil, ""
		p.Revision++
		tx.Record(store.Entry{Verb: "pool.unpin", Subject: "pool " + p.Name, Reason: reason})
		return tx.Save(&p).Error
	})
}

func (fl *Fleet) previewPin(ctx context.Context, actor string, r engine.PreviewRequest) (p engine.Preview, err error) {
	if len(r.Pools) != 1 {
		return p, problem.InvalidRequest.Errorf("give one pool to pin")
	}
	db := fl.engine.Store.DB.WithContext(ctx)
	pool, err := store.PoolNamed(db, r.Pools[0])
	if err != nil {
		return p, err
	}
	img, err := store.ImageByID(db, pool.ImageID)
	if err != nil {
		return p, err
	}
	v, err := store.VersionNumbered(db, img, r.Number)
	if err != nil {
		return p, err
	}
	err = fl.Pin(engine.WithInspectedDryRun(ctx, func(tx *store.Tx) error {
		effect, err := versions.EffectOn(tx, v, pool)
		p.Will = append([]string{
			fmt.Sprintf("The target version of pool %s becomes %s, regardless of track %s, until the pool is unpinned.",
				pool.Name, v.Number, pool.Track),
			fmt.Sprintf("%d of its %s run another version: they drift until they are rolled over.", effect.Drifting,
				english.Plural(pool.HostCount, "host", "")),
		}, effect.Others...)
		return err
	}), actor, pool.Name, r.Number,
		Pinning{Reason: engine.PreviewReason, Approved: r.Approved, Overrule: r.Overrule})
	return p, err
}
