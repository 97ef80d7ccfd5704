package versions

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/delivery"
	"nimblepane/core/image"
	"nimblepane/core/readiness"
	"nimblepane/engine"
	"nimblepane/platform"
	"nimblepane/store"
)

const (
	// planAgain is how long after a site's copies were thought over that is done again.
	planAgain = 10 * time.Minute
	// readLater is how long a copy is left alone that could not be read.
	readLater = time.Hour
)

// planCopies says how many copies of an image's versions a site is to have, and keeps that. What the estate file says
// counts; else it is what hosts there will be cloned with.
func planCopies(tx *store.Tx, img store.Image, siteID int64) (store.CopyPlan, error) {
	plan := store.CopyPlan{ImageID: img.ID, SiteID: siteID, At: tx.Now}
	site, err := store.SiteByID(tx.DB, siteID)
	if err != nil {
		return plan, err
	}
	before, err := store.CopyPlanFor(tx.DB, img.ID, siteID)
	if err != nil {
		return plan, err
	}
	if plan.Copies = img.FixedCopiesAt.V[site.Name]; plan.Copies == 0 {
		plan.Copies = img.FixedCopies
	}
	if plan.Why = "as the estate file says"; plan.Copies == 0 {
		proposed, err := propose(tx.DB, img, site, before.Copies)
		if err != nil {
			return plan, err
		}
		plan.Copies, plan.Why = proposed.Copies, proposed.Why
		if plan.Copies < img.Copies {
			plan.Copies, plan.Why = img.Copies, "as many as clearance asks for"
		}
	}
	if before.Copies != plan.Copies {
		tx.Record(store.Entry{
			Verb: "copies.plan", Subject: "image " + img.Name, Reason: plan.Why,
			Detail: map[string]any{"site": site.Name, "copies": plan.Copies},
		})
	}
	return plan, tx.Put(&plan)
}

func propose(db *gorm.DB, img store.Image, site store.Site, before int) (p delivery.Proposal, err error) {
	cloning := delivery.Cloning{ClonesPerCopy: site.ClonesPerCopy}
	if cloning.Clone, _, err = store.CloneTimes(db, site.ID); err != nil {
		return p, err
	}
	pools, err := store.PoolsAt(db, img.ID, site.ID)
	if err != nil {
		return p, err
	}
	for _, pool := range pools {
		o, err := store.UsualOptions(db, pool)
		if err != nil {
			return p, err
		}
		taking := delivery.Taking{
			Pool: pool.Name, Batch: o.Plan(pool.Size()).BatchSize, PerMinute: site.StartsPerMinute,
		}
		if o.Stagger > 0 {
			taking.PerMinute = min(taking.PerMinute, o.Stagger)
		}
		cloning.Takings = append(cloning.Takings, taking)
	}
	return cloning.ProposeAfter(before), nil
}

// planAll thinks over how many copies sites are to have, where that was not done for a while.
func planAll(tx *store.Tx) error {
	old, err := store.OldCopyPlans(tx.DB, tx.Now.Add(-planAgain))
	if err != nil {
		return err
	}
	for _, o := range old {
		img, err := store.ImageByID(tx.DB, o.ImageID)
		if err != nil {
			return err
		}
		if _, err := planCopies(tx, img, o.SiteID); err != nil {
			return err
		}
	}
	return nil
}

// readCopies has the copies read again that somebody may have to go back to, and that were not for a while.
func (vs *Versions) readCopies(tx *store.Tx) error {
	due, err := store.CopiesToRead(tx.DB, tx.Now.Add(-readiness.ReadAgain), tx.Now.Add(-readLater))
	if err != nil {
		return err
	}
	for _, c := range due {
		last, err := store.LastAttempt(tx.DB, store.WorkReadCopy, store.CopySubject(c.ID))
		if err != nil {
			return err
		}
		work := vs.readings.Of(c.SiteID, store.CopySubject(c.ID), last+1, ofCopy{c.VersionID, c.ID})
		if err := errors.Join(tx.ForgetReadings(c.ID, last), tx.Ask(work)); err != nil {
			return err
		}
	}
	return nil
}

// askReading lets hosts that are made from copies go first, for a day at the most: a rollover can take longer than
// what is in a copy is remembered.
func (vs *Versions) askReading(_ context.Context, db *gorm.DB, w store.Work, in ofCopy) (r platform.Reading,
	err error,
) {
	_, v, name, err := copyOf(db, in)
	if err != nil {
		return r, err
	}
	c, err := store.CopyByID(db, in.Copy)
	if err != nil {
		return r, err
	}
	if c.State != image.CopyPresent || v.State != image.Sealed { // since it was asked for
		return r, &platform.Refusal{Why: fmt.Sprintf("copy %s is %s, and its version %s", name, c.State, v.State)}
	}
	busy, err := store.OpenRebuildsAt(db, w.SiteID)
	if err != nil {
		return r, err
	}
	if busy > 0 && vs.engine.Clock.Now().Sub(w.AskedAt) < readiness.ReadAgain {
		return r, &platform.Busy{Why: "hosts are being made anew there, which need the storage"}
	}
	site, err := store.SiteByID(db, w.SiteID)
	return platform.Reading{Copy: name, Digest: v.Digest, Rate: site.Deliveries.V.Reading()}, err
}

func readingEnded(tx *store.Tx, in ofCopy, end *engine.Ending[platform.Read]) error {
	if end.Failure != "" {
		return nil // nothing is known of it; it is tried again later
	}
	img, v, err := Of(tx.DB, in.Version)
	if err != nil {
		return err
	}
	if end.Output.Wrong == "" {
		tx.Emit("copy.read", Subject(img, v), nil)
		return tx.MarkCopyIntact(in.Copy)
	}
	if v.State != image.Sealed {
		return nil // it was retired meanwhile, and its copies go
	}
	was, err := tx.MarkCopyCorrupt(in.Copy, end.Output.Wrong)
	if err != nil || !was {
		return err
	}
	site, err := store.SiteByID(tx.DB, end.Work.SiteID)
	if err != nil {
		return err
	}
	tx.Record(store.Entry{
		Verb: "copy.spoil", Subject: Subject(img, v), Reason: end.Output.Wrong,
		Detail: map[string]any{"site": site.Name},
	})
	return nil
}
