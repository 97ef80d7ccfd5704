package builds

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/base"
	"nimblepane/core/build"
	"nimblepane/core/estate"
	"nimblepane/core/problem"
	"nimblepane/core/sheet"
	"nimblepane/engine/bases"
	"nimblepane/engine/versions"
	"nimblepane/platform"
	"nimblepane/store"
)

// StartBuild begins a build of a sheet. If it fails, its machine is held for a while.
func (bs *Builds) StartBuild(ctx context.Context, actor string, o Order, hold time.Duration,
	may func(image string) error,
) (b store.Build, err error) {
	return bs.start(ctx, actor, hold, may, func(*store.Tx) (Order, error) { return o, nil })
}

func (bs *Builds) start(ctx context.Context, actor string, hold time.Duration, may func(image string) error,
	order func(*store.Tx) (Order, error),
) (b store.Build, err error) {
	if err := checkHold(hold); err != nil {
		return b, err
	}
	err = bs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		o, err := order(tx)
		if err != nil {
			return err
		}
		if b, err = bs.planned(tx, o, ""); err != nil {
			return err
		}
		if err := may(b.Plan.V.Image); err != nil {
			return err
		}
		b.HoldSeconds = int64(hold / time.Second)
		return bs.startIn(tx, &b, actor, "")
	})
	return b, err
}

// startIn begins a build that is planned, as part of a change.
func (bs *Builds) startIn(tx *store.Tx, b *store.Build, by, why string) error {
	if b.Release.V != nil && b.FromBaseID == nil {
		of, err := bs.bringRelease(tx, b, by)
		if err != nil {
			return err
		}
		b.FromBaseID = &of.ID
	}
	b.State, b.StartedBy, b.StartedAt = build.Queued, by, tx.Now
	if err := tx.Create(b).Error; err != nil {
		return err
	}
	s := b.Plan.V
	tx.Record(store.Entry{
		Verb: "build.start", Subject: b.Name(), Scope: b.Name(), Reason: why,
		Detail: map[string]any{
			"image": s.Image, "site": s.Machine.Site, "base": s.Base.String(), "steps": len(s.Steps),
			"values": s.Values,
		},
	})
	return nil
}

// bringRelease begins to bring in the release that a build is made from.
func (bs *Builds) bringRelease(tx *store.Tx, b *store.Build, by string) (store.Base, error) {
	w, err := wantedBy(tx.DB, *b)
	if err != nil {
		return store.Base{}, err
	}
	want := b.Plan.V.Base.Vendor.Want()
	want.Serial = b.Release.V.Serial // which was planned: a newer one may have come out at this moment
	r, err := bases.ReleaseIn(tx, b.Release.V.Feed, want, w)
	if err != nil {
		return store.Base{}, err
	}
	b.Release.V.SHA256 = r.Offer.SHA256
	return bs.bases.BringReleaseIn(tx, by, r)
}

// PlannedIn is the build of a kept sheet that a schedule would start now. What it is made of tells it from one of
// another sheet, other files, other values or another base.
func (bs *Builds) PlannedIn(tx *store.Tx, s store.Schedule) (b store.Build, err error) {
	kept, err := store.SheetNamed(tx.DB, s.Sheet)
	if err != nil {
		return b, err
	}
	o, err := orderToBuild(tx.DB, kept)
	if err != nil {
		return b, err
	}
	o.Values = s.Params.V
	if b, err = bs.planned(tx, o, ""); err != nil {
		return b, err
	}
	made := map[string]any{
		"sheet": b.Sheet, "files": b.Files.V, "values": s.Params.V, "version": b.BaseID, "base": b.FromBaseID,
		"steps": b.Plan.V.Steps, // with what those of the library come to now
	}
	if b.Release.V != nil {
		made["base"] = b.Release.V // whether it is here already or not
	}
	of, err := json.Marshal(made)
	sum := sha256.Sum256(of)
	b.MadeOf, b.Schedule, b.ScheduleID = hex.EncodeToString(sum[:]), s.Name, &s.ID
	return b, err
}

// StartIn begins a build that is planned for a schedule, as part of a change, for whom that belongs to.
func (bs *Builds) StartIn(tx *store.Tx, b *store.Build, s store.Schedule) error {
	return bs.startIn(tx, b, s.Owner, "schedule "+s.Name)
}

// planned returns the build of a sheet, if this estate can do it. It may have a version's number already.
func (bs *Builds) planned(tx *store.Tx, o Order, has string) (b store.Build, err error) {
	s, err := bs.sheet(tx, o)
	if err != nil {
		return b, err
	}
	img, err := store.ImageNamed(tx.DB, s.Image)
	if err != nil {
		return b, err
	}
	site, err := store.SiteNamed(tx.DB, s.Machine.Site)
	if err != nil {
		return b, err
	}
	b = store.Build{
		ImageID: img.ID, SiteID: site.ID, SheetName: o.Name, Sheet: o.Text, Plan: store.JSON[sheet.Sheet]{V: s},
	}
	for _, name := range s.Delivery.Sites {
		if _, err := store.SiteNamed(tx.DB, name); err != nil {
			return b, err
		}
	}
	if s.Version.Commits && o.Commit == "" {
		return b, problem.InvalidRequest.Errorf("the notes of the version list the commits since the last build, " +
			"but the request has no commit: start the build with pane build start, in the repository")
	}
	b.Commit, b.Commits.V = o.Commit, append([]string{}, o.Commits...)
	if b.Files.V = map[string]string{}; len(o.Files) > 0 {
		b.Files.V = o.Files
	}
	if s.Version.Number != "" && s.Version.Number != has {
		if b.Number, err = versions.NumberIn(tx, img.Name, s.Version.Number); err != nil {
			return b, err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(s.Secrets)) {
		if _, err := bs.engine.Secrets(s.Secrets[name]); err != nil {
			return b, problem.NotConfigured.Errorf("secret %s: %s", name, err)
		}
	}
	if eol := s.Version.EndOfLifeFrom(tx.Now); eol != nil && !eol.After(tx.Now) {
		return b, problem.InvalidRequest.Errorf("end-of-life %s is not in the future", s.Version.EndOfLife)
	}
	switch {
	case s.Base.Disk != "":
		return b, nil
	case s.Base.Named != "" || s.Base.Vendor != nil:
		system, err := store.SystemBefore(tx.DB, img.ID)
		if err != nil {
			return b, err
		}
		w := wanted(site, img.MachineClass, int64(s.Machine.Disk), system)
		if s.Base.Vendor != nil {
			return ofVendor(tx, b, *s.Base.Vendor, w)
		}
		of, err := bases.UsableIn(tx, s.Base.Named, w)
		b.FromBaseID = &of.ID
		return b, err
	}
	base, err := baseOf(tx, img, s.Base)
	if err != nil {
		return b, err
	}
	if err := versions.Usable(img, base); err != nil {
		return b, err
	}
	copies, err := store.CopiesAt(tx.DB, base.ID, site.ID)
	if err != nil {
		return b, err
	}
	if len(copies) == 0 {
		return b, problem.NoCopy.Errorf("%s has no copy at %s: deliver it to the site first", versions.Label(img, base),
			site.Name)
	}
	b.BaseID = &base.ID
	return b, nil
}

// ofVendor says that a build is made from a release of a feed, which may have to be brought in first.
func ofVendor(tx *store.Tx, b store.Build, v sheet.Vendor, w base.Wanted) (store.Build, error) {
	r, err := bases.ReleaseIn(tx, v.Feed, v.Want(), w)
	if err != nil {
		return b, err
	}
	b.Release = store.JSON[*store.BuildRelease]{V: &store.BuildRelease{
		Feed: r.Feed.Name, Product: r.Offer.Product, Serial: r.Offer.Serial, SHA256: r.Offer.SHA256,
		Title: r.Offer.Title(),
	}}
	if r.Base.ID != 0 {
		b.FromBaseID = &r.Base.ID
	}
	return b, nil
}

// wanted is what a base has to be like of which a machine of a class is made at a site, for an image of a system.
func wanted(site store.Site, class string, disk int64, system string) base.Wanted {
	of := site.MachineSettings.V.MachineClasses[class]
	most, err := estate.Bytes(of.Disk)
	if err != nil {
		most = 0 // none is said
	}
	return base.Wanted{Class: class, Firmware: of.Firmware, Disk: disk, ClassDisk: most, System: system}
}

// wantedBy is what a base has to be like that a build is made from.
func wantedBy(db *gorm.DB, b store.Build) (w base.Wanted, err error) {
	img, err := store.ImageByID(db, b.ImageID)
	if err != nil {
		return w, err
	}
	site, err := store.SiteByID(db, b.SiteID)
	if err != nil {
		return w, err
	}
	system, err := store.SystemBefore(db, img.ID)
	return wanted(site, img.MachineClass, int64(b.Plan.V.Machine.Disk), system), err
}

// baseOf returns the version that a base names now.
func baseOf(tx *store.Tx, img store.Image, b sheet.Base) (store.Version, error) {
	if b.Version != "" {
		return store.VersionNumbered(tx.DB, img, b.Version)
	}
	t, err := store.TrackNamed(tx.DB, img, b.Track)
	if err != nil {
		return store.Version{}, err
	}
	if t.VersionID == nil {
		return store.Version{}, problem.WrongState.Errorf("track %s of %s points to no version: start from a "+
			"version or a base disk", b.Track, img.Name)
	}
	return store.VersionByID(tx.DB, *t.VersionID)
}

// Cancel ends a build before its capture, and discards its machine.
func (bs *Builds) Cancel(ctx context.Context, actor string, id int64, reason string) error {
	return bs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		b, err := store.LockBuild(tx.DB, id)
		switch {
		case err != nil:
			return err
		case b.State.Ended():
			return problem.WrongState.Errorf("%s is already %s", b.Name(), b.State)
		case b.State.Captures():
			return problem.WrongState.Errorf("%s is %s and its version exists: block or retire the version", b.Name(),
				b.State)
		case b.Cancel != "":
			return problem.WrongState.Errorf("%s is already being cancelled: %s", b.Name(), b.Cancel)
		}
		b.Cancel = strings.TrimSuffix(fmt.Sprintf("cancelled by %s: %s", actor, strings.TrimSpace(reason)), ": ")
		tx.Record(store.Entry{Verb: "build.cancel", Subject: b.Name(), Scope: b.Name(), Reason: reason})
		return errors.Join(tx.Save(&b).Error, tx.BuildNow(b.ID))
	})
}

// Step is how a step of a build stands.
type Step struct {
	build.Task                   // the last attempt
	Done       platform.StepDone // what the last attempt that came to an end came to
	Attempts   int
	BeganAt    time.Time // the first attempt; zero if it was not tried yet
}

// StepsOf returns how the steps of a build stand, from its works.
func StepsOf(b store.Build, works []store.Work) []Step {
	steps := make([]Step, len(b.Plan.V.Steps))
	for i, step := range b.Plan.V.Steps {
		s := &steps[i]
		for _, w := range works {
			if w.Kind != store.WorkDoStep || w.Subject != store.StepSubject(b.ID, i) {
				continue
			}
			if s.Attempts++; s.Attempts == 1 {
				s.BeganAt = w.AskedAt
			}
			if s.Task, s.Done = stepTask(step, w); w.Attempt <= b.Before.V.Of(i) {
				s.Task = build.Task{} // it is done anew
			}
		}
	}
	return steps
}

// Took is how long a step took, from its first try to the end of its last; 0 if it has not ended.
func (s Step) Took() time.Duration {
	if s.BeganAt.IsZero() || s.EndedAt.IsZero() {
		return 0
	}
	return s.EndedAt.Sub(s.BeganAt)
}

// Expected is what earlier builds of the image at the site say about one.
type Expected struct {
	build.Expectation
	Steps map[string]time.Duration // how long they took in the last that became ready, by name
}

// Expect looks at the builds of the image at the site that became ready before.
func Expect(db *gorm.DB, b store.Build) (e Expected, err error) {
	past, last, err := store.PastBuilds(db, b)
	if err != nil || last == 0 {
		return e, err
	}
	e = Expected{build.Expect(past), map[string]time.Duration{}}
	before, err := store.BuildByID(db, last)
	if err != nil {
		return e, err
	}
	works, err := store.BuildWorks(db, last)
	for i, s := range StepsOf(before, works) {
		e.Steps[before.Plan.V.Steps[i].Name] = s.Took()
	}
	return e, err
}

// find returns the last attempt of a kind after a number of others.
func find(works []store.Work, kind store.WorkKind, after int) (last store.Work, ok bool) {
	for _, w := range works {
		if w.Kind == kind && w.Attempt > after && w.Attempt > last.Attempt {
			last, ok = w, true
		}
	}
	return last, ok
}
