package bases

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/base"
	"nimblepane/core/build"
	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/engine"
	"nimblepane/engine/deliveries"
	"nimblepane/platform"
	"nimblepane/store"
)

// A base's disk is brought to a site when the first machine is made of it there, and stays until the base is retired.

// The inputs of works.
type (
	ofCopy struct {
		Base int64 `json:"base"`
		Copy int64 `json:"copy"`
	}
	ofDeletion struct {
		Base int64  `json:"base"`
		Disk string `json:"disk"`
	}
)

// UsableIn returns a base that machines can be made of, as part of a change, or a problem that says why it is not.
func UsableIn(tx *store.Tx, name string, w base.Wanted) (b store.Base, err error) {
	if b, err = store.LockBase(tx.DB, name); err != nil {
		return b, err
	}
	if b.State != base.Ready {
		return b, problem.WrongState.Errorf("base %s is %s: machines are made from bases that are ready", name,
			strings.TrimSuffix(string(b.State)+", "+b.Why, ", "))
	}
	return b, fits(b, w)
}

// Brought says how the bringing of a base, and of its disk to a site, stands for whoever needs it since a time: what
// failed before that is not asked for. One that comes in meanwhile may turn out not to fit.
func Brought(db *gorm.DB, id, siteID int64, since time.Time, w base.Wanted) (t build.Task, err error) {
	b, err := store.BaseByID(db, id)
	if err != nil {
		return t, err
	}
	unfit := fits(b, w)
	switch {
	case b.State.Coming():
		return build.Task{State: build.UnderWay, Why: "its base " + b.Name + " " + howFar(b)}, nil
	case b.State != base.Ready:
		return build.Task{State: build.TaskFailed, Why: strings.TrimSuffix(fmt.Sprintf("base %s is %s: %s", b.Name,
			b.State, b.Why), ": ")}, nil
	case unfit != nil:
		return build.Task{State: build.TaskFailed, Why: unfit.Error()}, nil
	}
	c, err := store.BaseCopyAt(db, id, siteID)
	if errors.Is(err, store.ErrNotFound) {
		return t, nil
	}
	switch {
	case err != nil:
		return t, err
	case c.State == image.CopyPresent:
		t.State = build.Done
	case c.State == image.CopyDelivering:
		t.State, t.Why = build.UnderWay, fmt.Sprintf("its base is being brought to its site, %d%%", c.Progress)
	case c.EndedAt != nil && !c.EndedAt.Before(since):
		t.State, t.Why = build.TaskFailed, c.Why
	}
	return t, nil
}

// howFar says how far a base is that comes.
func howFar(b store.Base) string {
	if b.State == base.Converting {
		return fmt.Sprintf("is being converted and looked into, %d%%", b.Progress)
	}
	text := "is being brought in"
	if b.Size > 0 {
		text += fmt.Sprintf(", %d%%", 100*b.Have/b.Size)
	}
	if b.Why != "" {
		text += " (" + b.Why + ")"
	}
	return text
}

// BringIn begins to bring a base's disk to a site, as part of a change, unless it is there or on its way.
func (bs *Bases) BringIn(tx *store.Tx, id, siteID int64) error {
	b, err := store.LockBaseByID(tx.DB, id) // nobody else does so meanwhile
	if err != nil {
		return err
	}
	c, err := store.BaseCopyAt(tx.DB, b.ID, siteID)
	if errors.Is(err, store.ErrNotFound) {
		c, err = store.BaseCopy{BaseID: b.ID, SiteID: siteID}, nil
	}
	if err != nil || c.State == image.CopyPresent || c.State == image.CopyDelivering {
		return err
	}
	c.State, c.Why, c.Progress, c.EndedAt = image.CopyDelivering, "", 0, nil
	if err := tx.Save(&c).Error; err != nil {
		return err
	}
	n, err := store.LastAttempt(tx.DB, store.WorkDeliverBase, store.BaseCopySubject(c.ID))
	if err != nil {
		return err
	}
	return tx.Ask(bs.deliveries.Of(siteID, store.BaseCopySubject(c.ID), n+1, ofCopy{b.ID, c.ID}))
}

func askDelivery(_ context.Context, db *gorm.DB, w store.Work, in ofCopy) (d platform.Deliver, err error) {
	if err := deliveries.Turn(db, w); err != nil {
		return d, err
	}
	b, err := store.BaseByID(db, in.Base)
	if err != nil {
		return d, err
	}
	return platform.Deliver{Source: platform.OfService, Disk: b.Disk(), Digest: b.Digest, Copy: b.Disk()}, nil
}

func deliveryProgressed(tx *store.Tx, in ofCopy, percent int) error {
	b, err := store.BaseByID(tx.DB, in.Base)
	if err != nil {
		return err
	}
	tx.Emit("base", b.Subject(), nil)
	return tx.BaseCopyProgressed(in.Copy, percent)
}

// deliveryEnded writes down that a base's disk arrived. One that did not is tried again by whoever needs it next.
func deliveryEnded(tx *store.Tx, in ofCopy, end *engine.Ending[platform.Made]) error {
	b, err := store.BaseByID(tx.DB, in.Base)
	if err != nil {
		return err
	}
	if err := tx.BuildsOfBaseNow(b.ID); err != nil { // and locked before the copy is, as they are by who looks at them
		return err
	}
	site, err := store.SiteByID(tx.DB, end.Work.SiteID)
	if err != nil {
		return err
	}
	c, err := store.BaseCopyByID(tx.DB, in.Copy)
	if err != nil {
		return err
	}
	if err := store.DeliveriesNow(tx); err != nil {
		return err
	}
	if end.Failure == "" && end.Output.Digest != b.Digest {
		end.Failure = fmt.Sprintf("what arrived has digest %s, and the base %s", end.Output.Digest, b.Digest)
	}
	verb := "base.deliver"
	c.State, c.Progress, c.Why, c.EndedAt = image.CopyPresent, 100, end.Failure, &tx.Now
	if end.Failure != "" {
		verb, c.State = "base.deliver-fail", image.CopyFailed
	}
	tx.Record(store.Entry{Verb: verb, Subject: b.Subject(), Reason: end.Failure, Detail: map[string]any{
		"site": site.Name,
	}})
	tx.Emit("base", b.Subject(), nil)
	return tx.Save(&c).Error
}

func askDeletion(_ context.Context, db *gorm.DB, _ store.Work, in ofDeletion) (platform.Named, error) {
	again, err := store.BaseWithDisk(db, in.Base, in.Disk)
	if err == nil && again {
		err = &platform.Refusal{Why: "a base with the same disk was added again"}
	}
	return platform.Named{Name: in.Disk}, err
}

func (bs *Bases) deletionEnded(tx *store.Tx, in ofDeletion, end *engine.Ending[platform.Nothing]) error {
	b, err := store.BaseByID(tx.DB, in.Base)
	if err != nil {
		return err
	}
	tx.Record(store.Entry{
		Verb: cmp.Or(map[bool]string{true: "base.delete-fail"}[end.Failure != ""], "base.delete"), Subject: b.Subject(),
		Reason: end.Failure,
	})
	if end.Failure == "" {
		return nil
	}
	again, err := store.BaseWithDisk(tx.DB, in.Base, in.Disk)
	if err != nil || again {
		return err
	}
	return engine.DeleteAgain(tx, end.Work, bs.deletions.Of, in)
}
