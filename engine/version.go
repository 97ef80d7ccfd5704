package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"nimblepane/core/image"
	"nimblepane/platform"
	"nimblepane/store"
)

// label is how a version is called: "counter-desk 2026.11.1". It is also the
// stamp that is written into its disk.
func label(img store.Image, v store.Version) string { return img.Name + " " + v.Number }

func subject(img store.Image, v store.Version) string { return "version " + label(img, v) }

// diskName and copyName are what a version's disk and copies are called on a platform.
func diskName(img store.Image, v store.Version) string { return img.Name + "-" + v.Number }

func copyName(img store.Image, v store.Version, ordinal int) string {
	return fmt.Sprintf("%s-%s-copy-%d", img.Name, v.Number, ordinal)
}

// CaptureRequest says what a new version is made from.
type CaptureRequest struct {
	Image        string
	Site         string // of the build machine; may be left out if only one site has it
	BuildMachine string
	Number       string // "" for the next one
	Notes        string
	Tags         []string
	EndOfLife    *time.Time
	Discard      bool // the build machine, afterwards
}

// Capture begins to make a new version from a build machine.
func (e *Engine) Capture(ctx context.Context, actor string, r CaptureRequest) (v store.Version, err error) {
	img, err := store.ImageNamed(e.Store.DB.WithContext(ctx), r.Image)
	if err != nil {
		return v, err
	}
	site, machine, err := e.findBuildMachine(ctx, r.Site, r.BuildMachine)
	if err != nil {
		return v, err
	}
	if machine.MachineClass != img.MachineClass {
		return v, invalid("build machine %s is of class %s, and image %s is for class %s", machine.Name, machine.MachineClass, img.Name, img.MachineClass)
	}
	if machine.State == "capturing" {
		return v, conflict("build machine %s is being captured: wait until that is done", machine.Name)
	}
	now := e.Clock.Now()
	if r.EndOfLife != nil && !r.EndOfLife.After(now) {
		return v, invalid("end-of-life %s is not in the future", r.EndOfLife.Format(time.DateOnly))
	}
	err = e.change(ctx, actor, func(tx *store.Tx) error {
		number := r.Number
		if img, err = store.LockImage(tx.DB, r.Image); err != nil {
			return err
		}
		versions, err := store.Versions(tx.DB, img.ID)
		if err != nil {
			return err
		}
		var numbers []string
		for _, o := range versions {
			numbers = append(numbers, o.Number)
		}
		// Whatever the image: two captures of one machine would take each other's clone away.
		if busy, err := tx.LockCapture(site.Name + "/" + machine.Name); err != nil {
			return err
		} else if busy != "" {
			return conflict("build machine %s is being captured as %s: wait until that is done", machine.Name, busy)
		}
		scheme := image.Scheme(img.Numbering)
		if number == "" {
			number = scheme.Next(numbers, now)
		} else if err := scheme.CheckNew(number, numbers, now); err != nil {
			return invalid("%s", err)
		}
		v = store.Version{
			ImageID: img.ID, Number: number, State: store.Capturing, Source: site.Name + "/" + machine.Name,
			Notes: strings.TrimSpace(r.Notes), Tags: r.Tags, EndOfLife: r.EndOfLife, Discards: r.Discard, CapturedBy: actor, CreatedAt: now, Edition: 1,
		}
		if err := tx.Create(&v).Error; err != nil {
			return err
		}
		tx.Record(store.Entry{Verb: "version.capture", Subject: subject(img, v), Reason: v.Notes, Detail: map[string]any{"from": v.Source}})
		return tx.Ask(store.Work{Key: fmt.Sprintf("capture-%d", v.ID), Kind: store.WorkCapture, SiteID: site.ID, VersionID: v.ID})
	})
	return v, err
}

func (e *Engine) findBuildMachine(ctx context.Context, siteName, name string) (store.Site, platform.BuildMachine, error) {
	sites, err := store.Sites(e.Store.DB.WithContext(ctx))
	if err != nil {
		return store.Site{}, platform.BuildMachine{}, err
	}
	type place struct {
		site    store.Site
		machine platform.BuildMachine
	}
	sites = slices.DeleteFunc(sites, func(s store.Site) bool { return siteName != "" && s.Name != siteName })
	lists, errs := make([][]platform.BuildMachine, len(sites)), make([]error, len(sites))
	var asking sync.WaitGroup
	for i, s := range sites {
		asking.Go(func() { lists[i], errs[i] = e.BuildMachines(ctx, s) })
	}
	asking.Wait()
	var found []place
	var known, silent []string
	for i, s := range sites {
		if errs[i] != nil {
			silent = append(silent, fmt.Sprintf("site %s could not be asked: %s", s.Name, errs[i]))
		}
		for _, m := range lists[i] {
			known = append(known, m.Name+" at "+s.Name)
			if m.Name == name {
				found = append(found, place{s, m})
			}
		}
	}
	if len(found) == 0 && len(silent) > 0 {
		return store.Site{}, platform.BuildMachine{}, conflict("build machine %q was not found; there are: %s; %s", name, orNone(known), strings.Join(silent, "; "))
	}
	switch len(found) {
	case 1:
		return found[0].site, found[0].machine, nil
	case 0:
		return store.Site{}, platform.BuildMachine{}, invalid("there is no build machine %q; there are: %s", name, orNone(known))
	}
	return store.Site{}, platform.BuildMachine{}, invalid("build machine %q is at several sites: say which site is meant", name)
}

func orNone(list []string) string {
	if len(list) == 0 {
		return "none"
	}
	return strings.Join(list, ", ")
}

// BuildMachines lists the build machines of a site.
func (e *Engine) BuildMachines(ctx context.Context, site store.Site) ([]platform.BuildMachine, error) {
	return asked(ctx, e, site, func(ctx context.Context, p platform.Platform) ([]platform.BuildMachine, error) {
		return p.BuildMachines(ctx)
	})
}

// VersionEdit changes what people write about a version; nil leaves a field as it is.
type VersionEdit struct {
	Notes     *string
	Tags      *[]string
	EndOfLife **time.Time
	Edition   int // that the editor saw
}

// EditVersion changes notes, tags or end-of-life.
func (e *Engine) EditVersion(ctx context.Context, actor, imageName, number string, edit VersionEdit) error {
	return e.onVersion(ctx, actor, imageName, number, func(tx *store.Tx, img store.Image, v *store.Version) error {
		if v.Edition != edit.Edition {
			return &Problem{Kind: Stale, Text: fmt.Sprintf("%s was changed since you read it (edition %d, now %d): read it again and repeat the change", label(img, *v), edit.Edition, v.Edition)}
		}
		detail := map[string]any{}
		if edit.Notes != nil {
			v.Notes, detail["notes"] = *edit.Notes, *edit.Notes
		}
		if edit.Tags != nil {
			v.Tags, detail["tags"] = *edit.Tags, *edit.Tags
		}
		if edit.EndOfLife != nil {
			v.EndOfLife, detail["end_of_life"] = *edit.EndOfLife, *edit.EndOfLife
		}
		v.Edition++
		tx.Record(store.Entry{Verb: "version.edit", Subject: subject(img, *v), Detail: detail})
		return nil
	})
}

// onVersion changes a version under the lock of its image.
func (e *Engine) onVersion(ctx context.Context, actor, imageName, number string, fn func(*store.Tx, store.Image, *store.Version) error) error {
	return e.change(ctx, actor, func(tx *store.Tx) error {
		img, err := store.LockImage(tx.DB, imageName)
		if err != nil {
			return err
		}
		v, err := store.VersionNumbered(tx.DB, img, number)
		if err != nil {
			return err
		}
		if err := fn(tx, img, &v); err != nil {
			return err
		}
		return tx.Save(&v).Error
	})
}

// Bar marks a version as never to be used again.
func (e *Engine) Bar(ctx context.Context, actor, imageName, number, reason string) error {
	if strings.TrimSpace(reason) == "" {
		return invalid("barring needs a reason: whoever meets the version later has to know why")
	}
	return e.onVersion(ctx, actor, imageName, number, func(tx *store.Tx, img store.Image, v *store.Version) error {
		tracks, err := store.Tracks(tx.DB, img.ID)
		if err != nil {
			return err
		}
		for _, t := range tracks {
			if t.VersionID != nil && *t.VersionID == v.ID {
				return conflict("track %s of %s names %s: roll back first, or stage another version", t.Name, img.Name, v.Number)
			}
		}
		if pinned, err := store.PinnedTo(tx.DB, v.ID); err != nil {
			return err
		} else if len(pinned) > 0 {
			return conflict("pool %s is pinned to %s: unpin it first", strings.Join(pinned, ", "), label(img, *v))
		}
		return e.bar(tx, img, v, reason)
	})
}

func (e *Engine) bar(tx *store.Tx, img store.Image, v *store.Version, reason string) error {
	if v.State != store.Sealed {
		return conflict("%s is %s: only a sealed version can be barred", label(img, *v), v.State)
	}
	if v.Barred != "" {
		return conflict("%s is barred already: %s", label(img, *v), v.Barred)
	}
	open, err := store.RolloversTo(tx.DB, v.ID)
	if err != nil {
		return err
	}
	if r := running(open); r != nil {
		return conflict("%s takes hosts to %s: reverse or stop it first", r.Name(), label(img, *v))
	}
	v.Barred, v.BarredBy, v.BarredAt = reason, tx.Actor, &tx.Now
	v.Edition++
	tx.Record(store.Entry{Verb: "version.bar", Subject: subject(img, *v), Reason: reason})
	return nil
}

// Uses tells who needs a version.
func Uses(tx *store.Tx, img store.Image, v store.Version) (image.Use, error) {
	u := image.Use{Sealed: v.State == store.Sealed}
	tracks, err := store.Tracks(tx.DB, img.ID)
	if err != nil {
		return u, err
	}
	for _, t := range tracks {
		if t.VersionID != nil && *t.VersionID == v.ID {
			u.Tracks = append(u.Tracks, t.Name)
		}
		if t.Name == image.Live && t.FallbackID != nil && *t.FallbackID == v.ID {
			u.Fallback = true
		}
	}
	if u.Pools, err = store.PinnedTo(tx.DB, v.ID); err != nil {
		return u, err
	}
	if u.Hosts, err = store.HostsOn(tx.DB, v.ID); err != nil {
		return u, err
	}
	open, err := store.RolloversTo(tx.DB, v.ID)
	if err != nil {
		return u, err
	}
	if len(open) > 0 {
		u.Rollover = open[0].Name()
	}
	return u, nil
}

// deleteKey is the key of an attempt at a deletion. An attempt that failed
// stays failed under its key, so the next one has another.
func deleteKey(what string, id int64, attempt int) string {
	return fmt.Sprintf("delete-%s-%d-%d", what, id, attempt)
}

// Retire deletes a version's copies and keeps its record.
func (e *Engine) Retire(ctx context.Context, actor, imageName, number, reason string) error {
	return e.onVersion(ctx, actor, imageName, number, func(tx *store.Tx, img store.Image, v *store.Version) error {
		u, err := Uses(tx, img, *v)
		if err != nil {
			return err
		}
		if why := u.WhyKeep(); len(why) > 0 {
			return &Problem{Kind: Conflict, Text: label(img, *v) + " cannot be retired", Reasons: why}
		}
		copies, err := store.Copies(tx.DB, v.ID)
		if err != nil {
			return err
		}
		for _, c := range copies {
			if c.State == "delivering" {
				return conflict("%s is being delivered: wait until that is done", label(img, *v))
			}
		}
		for _, c := range copies {
			if err := tx.Ask(store.Work{Key: deleteKey("copy", c.ID, 1), Kind: store.WorkDeleteCopy, SiteID: c.SiteID, VersionID: v.ID, CopyID: &c.ID}); err != nil {
				return err
			}
		}
		if name, _, _ := strings.Cut(v.Source, "/"); v.Digest != "" {
			site, err := store.SiteNamed(tx.DB, name)
			if err != nil {
				return err
			}
			if err := tx.Ask(store.Work{Key: deleteKey("disk", v.ID, 1), Kind: store.WorkDeleteDisk, SiteID: site.ID, VersionID: v.ID}); err != nil {
				return err
			}
		}
		v.State = store.Retired
		v.Edition++
		tx.Record(store.Entry{Verb: "version.retire", Subject: subject(img, *v), Reason: reason, Detail: map[string]any{"copies": len(copies)}})
		return nil
	})
}

// SignOff records what a tester says of a version. The last word of each tester counts.
func (e *Engine) SignOff(ctx context.Context, tester, imageName, number string, yes bool, comment string) error {
	comment = strings.TrimSpace(comment)
	if !yes && comment == "" {
		return invalid("a no needs a comment: say what was wrong")
	}
	return e.onVersion(ctx, tester, imageName, number, func(tx *store.Tx, img store.Image, v *store.Version) error {
		pilot, err := store.TrackNamed(tx.DB, img, image.Pilot)
		if err != nil {
			return err
		}
		if pilot.VersionID == nil || *pilot.VersionID != v.ID {
			return conflict("%s is not on trial: stage it first, then it can be tried and signed", label(img, *v))
		}
		verdict := map[bool]string{true: "yes", false: "no"}[yes]
		tx.Record(store.Entry{Verb: "version.sign", Subject: subject(img, *v), Reason: comment, Detail: map[string]any{"says": verdict}})
		return tx.Save(&store.SignOff{VersionID: v.ID, Tester: tester, Yes: yes, Comment: comment, At: tx.Now}).Error
	})
}
