package versions

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"gorm.io/gorm"

	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/engine"
	"nimblepane/engine/deliveries"
	"nimblepane/platform"
	"nimblepane/store"
)

// deliver has a new copy of a version delivered to a site.
func (vs *Versions) deliver(tx *store.Tx, v store.Version, siteID int64, ordinal int) error {
	c, was, err := store.DeletedCopy(tx.DB, v.ID, siteID, ordinal)
	if err != nil {
		return err
	}
	if was { // when it was one too many
		return vs.deliverAgain(tx, c)
	}
	c = store.Copy{VersionID: v.ID, SiteID: siteID, Ordinal: ordinal, State: image.CopyDelivering}
	if err := tx.Create(&c).Error; err != nil {
		return err
	}
	return tx.Ask(vs.deliveries.Of(siteID, store.CopySubject(c.ID), 1, ofCopy{v.ID, c.ID}))
}

// deliverAgain has a copy delivered that was there, or was to be.
func (vs *Versions) deliverAgain(tx *store.Tx, c store.Copy) error {
	last, err := store.LastAttempt(tx.DB, store.WorkDeliver, store.CopySubject(c.ID))
	if err != nil {
		return err
	}
	if err := tx.CopyIsComing(c.ID); err != nil {
		return err
	}
	return tx.Ask(vs.deliveries.Of(c.SiteID, store.CopySubject(c.ID), last+1, ofCopy{c.VersionID, c.ID}))
}

// deleteCopy has a copy deleted.
func (vs *Versions) deleteCopy(tx *store.Tx, c store.Copy) error {
	last, err := store.LastAttempt(tx.DB, store.WorkDeleteCopy, store.CopySubject(c.ID))
	if err != nil {
		return err
	}
	return tx.Ask(vs.copyDeletions.Of(c.SiteID, store.CopySubject(c.ID), last+1, ofCopy{c.VersionID, c.ID}))
}

// DeliverIn begins to deliver a copy of a version to a site that has none, as part of a change.
func (vs *Versions) DeliverIn(tx *store.Tx, v store.Version, siteID int64) error {
	img, err := store.ImageByID(tx.DB, v.ImageID)
	if err != nil {
		return err
	}
	if _, err := store.LockImage(tx.DB, img.Name); err != nil { // nobody else does so meanwhile
		return err
	}
	copies, err := store.Copies(tx.DB, v.ID)
	if err != nil || slices.ContainsFunc(copies, func(c store.Copy) bool { return c.SiteID == siteID }) {
		return err
	}
	return vs.deliver(tx, v, siteID, 1)
}

// mostBeside is of how many other versions the copies are named that a new one may be put together from.
const mostBeside = 5

func askDelivery(_ context.Context, db *gorm.DB, w store.Work, in ofCopy) (d platform.Deliver, err error) {
	img, v, name, err := copyOf(db, in)
	if err != nil {
		return d, err
	}
	if v.Barred != "" { // since it was asked for
		return d, &platform.Refusal{Why: Label(img, v) + " was barred: " + v.Barred}
	}
	if err := deliveries.Turn(db, w); err != nil {
		return d, err
	}
	source, _ := SourceOf(v)
	d = platform.Deliver{
		Source: source, Disk: diskName(img, v), Digest: v.Digest, Copy: name, MachineClass: img.MachineClass,
	}
	rows, err := store.CopiesBeside(db, img.ID, w.SiteID, v.ID)
	if err != nil {
		return d, err
	}
	of := map[string]bool{}
	for _, r := range rows {
		if r.VersionID == v.ID {
			d.Same = append(d.Same, CopyName(img, v, r.Ordinal))
		} else if !of[r.Number] && len(of) < mostBeside {
			of[r.Number] = true
			d.Beside = append(d.Beside, CopyName(img, store.Version{Number: r.Number}, r.Ordinal))
		}
	}
	return d, nil
}

// copyOf returns the version of a copy, and what the copy is called on its platform.
func copyOf(db *gorm.DB, in ofCopy) (img store.Image, v store.Version, name string, err error) {
	if img, v, err = Of(db, in.Version); err != nil {
		return img, v, "", err
	}
	c, err := store.CopyByID(db, in.Copy)
	return img, v, CopyName(img, v, c.Ordinal), err
}

// deliveryProgressed writes down how far a copy is, and tells watchers.
func deliveryProgressed(tx *store.Tx, in ofCopy, percent int) error {
	img, v, err := Of(tx.DB, in.Version)
	if err != nil {
		return err
	}
	tx.Emit("version.progress", Subject(img, v), nil)
	return tx.CopyProgressed(in.Copy, percent)
}

func deliveryEnded(tx *store.Tx, in ofCopy, end *engine.Ending[platform.Made]) error {
	img, v, err := Of(tx.DB, in.Version)
	if err != nil {
		return err
	}
	site, err := store.SiteByID(tx.DB, end.Work.SiteID)
	if err != nil {
		return err
	}
	if err := store.DeliveriesNow(tx); err != nil {
		return err
	}
	end.Failure = cmp.Or(end.Failure, WrongDigest(img, v, end.Output))
	entry := store.Entry{
		Verb: "copy.deliver", Subject: Subject(img, v), Reason: end.Failure,
		Detail: map[string]any{"site": site.Name},
	}
	if end.Failure != "" {
		entry.Verb = "copy.fail"
		tx.Record(entry)
		return tx.CopyDidNotArrive(in.Copy, end.Failure)
	}
	tx.Record(entry)
	return tx.CopyArrived(in.Copy)
}

// WrongDigest says what is wrong with a disk that was made of a version, "" if nothing is.
func WrongDigest(img store.Image, v store.Version, made platform.Made) string {
	if made.Digest == v.Digest {
		return ""
	}
	return fmt.Sprintf("the disk has digest %s, and %s has %s", made.Digest, Label(img, v), v.Digest)
}

// Redeliver delivers copies of a version again that failed to arrive, and
// those that a site lacks by now.
func (vs *Versions) Redeliver(ctx context.Context, actor, imageName, number string) (n int, err error) {
	err = vs.onVersion(ctx, actor, imageName, number, func(tx *store.Tx, img store.Image, v *store.Version) error {
		n = 0
		if err := Usable(img, *v); err != nil {
			return err
		}
		copies, err := store.Copies(tx.DB, v.ID)
		if err != nil {
			return err
		}
		type place struct {
			site    int64
			ordinal int
		}
		have := map[place]bool{}
		for _, c := range copies {
			have[place{c.SiteID, c.Ordinal}] = true
			if c.State != image.CopyFailed {
				continue
			}
			if err := vs.deliverAgain(tx, c); err != nil {
				return err
			}
			n++
		}
		sites, err := store.SitesOf(tx.DB, img.ID)
		if err != nil {
			return err
		}
		for _, site := range sites {
			plan, err := planCopies(tx, img, site)
			if err != nil {
				return err
			}
			for o := 1; o <= plan.Copies; o++ {
				if have[place{site, o}] {
					continue
				}
				if err := vs.deliver(tx, *v, site, o); err != nil {
					return err
				}
				n++
			}
		}
		if n == 0 {
			return problem.NothingToDo.Errorf("every copy of %s is stored or on its way",
				Label(img, *v))
		}
		tx.Record(store.Entry{Verb: "version.deliver", Subject: Subject(img, *v), Detail: map[string]any{"copies": n}})
		return nil
	})
	return n, err
}

func askCopyDeletion(_ context.Context, db *gorm.DB, _ store.Work, in ofCopy) (platform.Named, error) {
	_, _, name, err := copyOf(db, in)
	return platform.Named{Name: name}, err
}

func (vs *Versions) copyDeletionEnded(tx *store.Tx, in ofCopy, end *engine.Ending[platform.Nothing]) error {
	if end.Failure != "" {
		// It is there still, and the failure says why.
		return errors.Join(tx.CopyStays(in.Copy, end.Failure), engine.DeleteAgain(tx, end.Work, vs.copyDeletions.Of,
			in))
	}
	img, v, err := Of(tx.DB, in.Version)
	if err != nil {
		return err
	}
	tx.Record(store.Entry{Verb: "copy.delete", Subject: Subject(img, v)})
	return tx.CopyIsGone(in.Copy)
}

func askDiskDeletion(_ context.Context, db *gorm.DB, _ store.Work, in ofVersion) (platform.Named, error) {
	img, v, err := Of(db, in.Version)
	return platform.Named{Name: diskName(img, v)}, err
}

func (vs *Versions) diskDeletionEnded(tx *store.Tx, in ofVersion, end *engine.Ending[platform.Nothing]) error {
	if end.Failure != "" {
		return engine.DeleteAgain(tx, end.Work, vs.diskDeletions.Of, in)
	}
	img, v, err := Of(tx.DB, in.Version)
	if err != nil {
		return err
	}
	tx.Record(store.Entry{Verb: "disk.delete", Subject: Subject(img, v)})
	return nil
}
