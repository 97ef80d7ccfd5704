package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"nimblepane/core/rollover"
	"nimblepane/platform"
	"nimblepane/store"
)

// work starts the work of the key on its platform if that was not done, and
// writes down how it stands.
func (e *Engine) work(ctx context.Context, key string) error {
	db := e.Store.DB.WithContext(ctx)
	w, err := store.WorkByKey(db, key)
	if err != nil || !w.Open() {
		return err
	}
	site, err := store.SiteByID(db, w.SiteID)
	if err != nil {
		return err
	}
	if w.State == store.WorkAsked {
		op, err := e.operation(ctx, w)
		if err != nil {
			return err
		}
		_, err = asked(ctx, e, site, func(ctx context.Context, p platform.Platform) (struct{}, error) {
			return struct{}{}, p.Start(ctx, w.Key, op)
		})
		var refusal *platform.Refusal
		if errors.As(err, &refusal) {
			return e.workEnded(ctx, w, platform.Progress{State: platform.Failed, Why: refusal.Why})
		}
		if err != nil {
			return e.workWaits(ctx, w, site, err)
		}
		if err := store.WorkBegan(db, w.Key); err != nil {
			return err
		}
	}
	progress, err := asked(ctx, e, site, func(ctx context.Context, p platform.Platform) (platform.Progress, error) { return p.Ask(ctx, w.Key) })
	if errors.Is(err, platform.ErrUnknown) {
		// The platform lost its memory. Under the same key it is safe to ask again.
		return store.WorkLost(db, w.Key)
	}
	if err != nil {
		return e.workWaits(ctx, w, site, err)
	}
	if err := e.siteAnswers(ctx, site); err != nil {
		return err
	}
	if progress.State != platform.UnderWay {
		return e.workEnded(ctx, w, progress)
	}
	if progress.Why != w.Why {
		// What it waits for, such as a hypervisor that does not answer.
		if err := store.WorkWaits(db, w.Key, progress.Why); err != nil {
			return err
		}
	}
	if progress.Percent/5 != w.Progress/5 {
		return e.change(ctx, serviceActor, func(tx *store.Tx) error {
			tx.Emit("work.progress", "work "+w.Key, nil)
			return tx.WorkProgressed(w, progress.Percent)
		})
	}
	return nil
}

// askAgain is how long a work that does not get on is left alone, in real time.
const askAgain = 2 * time.Second

// workWaits notes why a work does not get on. If that is because its site does
// not answer, the site is left alone for a while.
func (e *Engine) workWaits(ctx context.Context, w store.Work, site store.Site, why error) error {
	ctx = context.WithoutCancel(ctx)
	text := why.Error()
	var busy *platform.Busy
	if !errors.As(why, &busy) {
		text = fmt.Sprintf("%s does not answer, it is asked again: %s", site.Name, why)
		if err := e.siteIsSilent(ctx, site, why); err != nil {
			return err
		}
	}
	return store.WorkIsLater(e.Store.DB.WithContext(ctx), w.Key, text, askAgain)
}

// operation says to the platform what the work is.
func (e *Engine) operation(ctx context.Context, w store.Work) (op platform.Operation, err error) {
	db := e.Store.DB.WithContext(ctx)
	v, err := store.VersionByID(db, w.VersionID)
	if err != nil {
		return op, err
	}
	img, err := store.ImageByID(db, v.ImageID)
	if err != nil {
		return op, err
	}
	switch w.Kind {
	case store.WorkCapture:
		_, machine, _ := strings.Cut(v.Source, "/")
		op.Capture = &platform.Capture{BuildMachine: machine, Disk: diskName(img, v), Stamp: label(img, v), MachineClass: img.MachineClass, Discard: v.Discards}
	case store.WorkDeleteDisk:
		op.DeleteDisk = &platform.DeleteDisk{Disk: diskName(img, v)}
	case store.WorkDeliver, store.WorkDeleteCopy:
		c, err := store.CopyByID(db, *w.CopyID)
		if err != nil {
			return op, err
		}
		if w.Kind == store.WorkDeleteCopy {
			op.DeleteCopy = &platform.DeleteCopy{Copy: copyName(img, v, c.Ordinal)}
		} else {
			source, _, _ := strings.Cut(v.Source, "/")
			op.Deliver = &platform.Deliver{Source: source, Disk: diskName(img, v), Digest: v.Digest, Copy: copyName(img, v, c.Ordinal), MachineClass: img.MachineClass}
		}
	case store.WorkRebuild:
		h, err := store.HostByID(db, *w.HostID)
		if err != nil {
			return op, err
		}
		pool, err := store.PoolByID(db, h.PoolID)
		if err != nil {
			return op, err
		}
		copies, err := store.CopiesAt(db, v.ID, w.SiteID)
		if err != nil {
			return op, err
		}
		site, err := store.SiteByID(db, w.SiteID)
		if err != nil {
			return op, err
		}
		r := &platform.Rebuild{Host: h.Name, Digest: v.Digest, MachineClass: pool.MachineClass, Seats: pool.SeatsPerHost, Seed: platform.Seed{Service: cmp.Or(site.Machinery.V.ServiceAddress, e.agentURL), Token: NewSecret()}}
		for _, c := range copies {
			r.Copies = append(r.Copies, copyName(img, v, c.Ordinal))
		}
		// Only the hash is kept. Should this attempt be lost on the way, the next
		// one under the key makes a token of its own, and either will do.
		if err := db.Create(&store.Enrolment{Token: digest(r.Seed.Token), HostID: h.ID, CreatedAt: e.Clock.Now()}).Error; err != nil {
			return op, err
		}
		op.Rebuild = r
	default:
		return op, fmt.Errorf("work %s: kind %q is not known", w.Key, w.Kind)
	}
	return op, nil
}

// workEnded writes down how a work ended, and what follows from it.
func (e *Engine) workEnded(ctx context.Context, w store.Work, p platform.Progress) error {
	err := e.change(ctx, serviceActor, func(tx *store.Tx) error {
		var err error
		if w, err = store.LockWork(tx.DB, w.Key); err != nil || !w.Open() {
			return err
		}
		v, err := store.VersionByID(tx.DB, w.VersionID)
		if err != nil {
			return err
		}
		img, err := store.ImageByID(tx.DB, v.ImageID)
		if err != nil {
			return err
		}
		ok := p.State == platform.Succeeded
		made := w.Kind == store.WorkDeliver || w.Kind == store.WorkRebuild
		if ok && made && p.Digest != v.Digest {
			ok, p.Why = false, fmt.Sprintf("the disk has digest %s, and %s has %s", p.Digest, label(img, v), v.Digest)
		}
		w.State, w.Why, w.EndedAt, w.Progress = store.WorkSucceeded, "", &tx.Now, 100
		if !ok {
			w.State, w.Why, w.Progress = store.WorkFailed, p.Why, p.Percent
		}
		switch w.Kind {
		case store.WorkCapture:
			err = captured(tx, img, v, p, ok)
		case store.WorkDeliver:
			err = delivered(tx, img, v, w, p, ok)
		case store.WorkDeleteCopy:
			if !ok {
				// It is there still, and the failure says why.
				err = errors.Join(tx.CopyStays(*w.CopyID, p.Why), deleteAgain(tx, w, "copy", *w.CopyID))
				break
			}
			tx.Record(store.Entry{Verb: "copy.delete", Subject: subject(img, v)})
			err = tx.CopyIsGone(*w.CopyID)
		case store.WorkDeleteDisk:
			if !ok {
				err = deleteAgain(tx, w, "disk", v.ID)
				break
			}
			tx.Record(store.Entry{Verb: "disk.delete", Subject: subject(img, v)})
		case store.WorkRebuild:
			// The tick of the rollover decides what follows.
			tx.Emit("work.end", "work "+w.Key, nil)
			err = tx.TickNow(*w.RolloverID)
		}
		if err != nil {
			return err
		}
		return tx.Save(&w).Error
	})
	if err == nil {
		worksEnded.WithLabelValues(w.Kind, w.State).Inc()
	}
	return err
}

func captured(tx *store.Tx, img store.Image, v store.Version, p platform.Progress, ok bool) error {
	v.Edition++
	if !ok {
		v.State, v.Failure = store.CaptureFailed, p.Why
		tx.Record(store.Entry{Verb: "version.fail", Subject: subject(img, v), Reason: p.Why})
		return tx.Save(&v).Error
	}
	v.State, v.Digest, v.SizeBytes, v.SealedAt = store.Sealed, p.Digest, p.Size, &tx.Now
	v.SizeBefore, v.Sealing = p.SizeBefore, append(store.Strings{}, p.Sealing...)
	detail := map[string]any{"digest": p.Digest, "size_bytes": p.Size}
	if len(p.Sealing) > 0 {
		detail["sealing"], detail["size_before_bytes"] = p.Sealing, p.SizeBefore
	}
	tx.Record(store.Entry{Verb: "version.seal", Subject: subject(img, v), Detail: detail})
	if err := tx.Save(&v).Error; err != nil {
		return err
	}
	// Every site with a pool of the image gets its copies.
	sites, err := store.SitesOf(tx.DB, img.ID)
	if err != nil {
		return err
	}
	for _, site := range sites {
		for n := 1; n <= img.Copies; n++ {
			if err := deliver(tx, v, site, n); err != nil {
				return err
			}
		}
	}
	return nil
}

func deliver(tx *store.Tx, v store.Version, siteID int64, ordinal int) error {
	c := store.Copy{VersionID: v.ID, SiteID: siteID, Ordinal: ordinal, State: store.CopyDelivering}
	if err := tx.Create(&c).Error; err != nil {
		return err
	}
	return tx.Ask(store.Work{Key: fmt.Sprintf("deliver-%d", c.ID), Kind: store.WorkDeliver, SiteID: siteID, VersionID: v.ID, CopyID: &c.ID})
}

func delivered(tx *store.Tx, img store.Image, v store.Version, w store.Work, p platform.Progress, ok bool) error {
	site, err := store.SiteByID(tx.DB, w.SiteID)
	if err != nil {
		return err
	}
	if !ok {
		tx.Record(store.Entry{Verb: "copy.fail", Subject: subject(img, v), Reason: p.Why, Detail: map[string]any{"site": site.Name}})
		return tx.CopyDidNotArrive(*w.CopyID, p.Why)
	}
	tx.Record(store.Entry{Verb: "copy.deliver", Subject: subject(img, v), Detail: map[string]any{"site": site.Name}})
	return tx.CopyArrived(*w.CopyID)
}

// deleteAgain asks for a deletion anew that failed: later each time, up to an
// hour of the database's clock. What nobody needs would fill the storage for ever.
func deleteAgain(tx *store.Tx, w store.Work, what string, id int64) error {
	failed, err := store.FailedBefore(tx.DB, w)
	if err != nil {
		return err
	}
	attempt := int(failed) + 2 // this one has not been written down as failed yet
	next := store.Work{Key: deleteKey(what, id, attempt), Kind: w.Kind, SiteID: w.SiteID, VersionID: w.VersionID, CopyID: w.CopyID}
	if err := tx.Ask(next); err != nil {
		return err
	}
	return store.WorkIsLater(tx.DB, next.Key, "", min(time.Hour, 5*time.Second<<min(failed, 10)))
}

// workState translates the state of a host's work for the decisions.
func workState(state string) rollover.WorkState {
	switch state {
	case store.WorkAsked, store.WorkUnderWay:
		return rollover.UnderWay
	case store.WorkSucceeded:
		return rollover.Succeeded
	case store.WorkFailed:
		return rollover.Broken
	}
	return rollover.Unknown
}
