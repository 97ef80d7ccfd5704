package versions

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/core/seal"
	"nimblepane/core/sheet"
	"nimblepane/engine"
	"nimblepane/platform"
	"nimblepane/store"
)

// CaptureRequest says what a new version is made from.
type CaptureRequest struct {
	Image        string
	Site         string // of the build machine; may be left out if only one site has it
	BuildMachine string
	Number       string // "" for the next one
	Notes        string
	Tags         []string
	EndOfLife    *time.Time
	Discard      bool   // the build machine, afterwards
	BackTo       string // the checkpoint that the build machine goes back to afterwards, if to one
	Fitness             // of a machine that is captured by hand
	Findings     []seal.Finding
	Applications []sheet.Application // that people open on hosts of the version
	Delivery     sheet.Delivery      // of its copies; what it leaves open is as the image says
	// Then, if given, is done in the same change.
	Then func(*store.Tx, store.Version, store.Site) error
}

// Capture begins to make a new version from a build machine.
func (vs *Versions) Capture(ctx context.Context, actor string, r CaptureRequest) (v store.Version, err error) {
	img, err := store.ImageNamed(vs.engine.Store.DB.WithContext(ctx), r.Image)
	if err != nil {
		return v, err
	}
	site, machine, err := vs.findBuildMachine(ctx, r.Site, r.BuildMachine)
	if err != nil {
		return v, err
	}
	if machine.MachineClass != img.MachineClass {
		return v, problem.Incompatible.Errorf("build machine %s is of class %s, but image %s is for class %s",
			machine.Name,
			machine.MachineClass, img.Name, img.MachineClass)
	}
	if machine.State == platform.MachineCapturing {
		return v, problem.Busy.Errorf("build machine %s is being captured: wait for the end of the capture",
			machine.Name)
	}
	if err := r.checkWaivers(); err != nil {
		return v, err
	}
	if r.Discard && r.BackTo != "" {
		return v, problem.InvalidRequest.Errorf("a build machine that is discarded is not reverted to a snapshot: " +
			"choose one of them")
	}
	err = vs.engine.Change(ctx, actor, func(tx *store.Tx) (err error) {
		r.Site, r.BuildMachine = site.Name, machine.Name
		if err := r.canGoBack(tx.DB, site); err != nil {
			return err
		}
		var noted string
		if r.Findings, noted, err = r.fit(tx.DB, site, machine.Name); err != nil {
			return err
		}
		r.Notes = cmp.Or(strings.TrimSpace(r.Notes), noted)
		if r.Number, err = NumberIn(tx, r.Image, r.Number); err != nil {
			return err
		}
		v, err = vs.CaptureIn(tx, actor, r)
		return err
	})
	return v, err
}

// canGoBack refuses a checkpoint that the build machine does not have.
func (r CaptureRequest) canGoBack(db *gorm.DB, site store.Site) error {
	if r.BackTo == "" {
		return nil
	}
	m, err := store.LockMachineAt(db, site, r.BuildMachine)
	if err != nil {
		return err
	}
	if m.Checkpoint(r.BackTo) < 0 {
		return problem.InvalidRequest.Errorf("build machine %s has no snapshot %q: its snapshots: %s", m.Name, r.BackTo,
			orNone(m.CheckpointNames()))
	}
	return nil
}

// NumberIn returns the number of a version that will be captured: the one that
// is wanted, if it can be had, and else the next one. Nobody else is given it
// before the change ends, and afterwards if a version or a build has it.
func NumberIn(tx *store.Tx, imageName, wanted string) (string, error) {
	img, err := store.LockImage(tx.DB, imageName)
	if err != nil {
		return "", err
	}
	taken, err := store.NumbersTaken(tx.DB, img.ID)
	if err != nil {
		return "", err
	}
	scheme := image.Scheme(img.Numbering)
	if wanted == "" {
		return scheme.Next(taken, tx.Now), nil
	}
	if err := scheme.CheckNew(wanted, taken, tx.Now); err != nil {
		return "", problem.InvalidRequest.Errorf("%s", err)
	}
	return wanted, nil
}

// CaptureIn is Capture of a build machine that is known to fit, with a number
// of NumberIn, as part of a change.
func (vs *Versions) CaptureIn(tx *store.Tx, actor string, r CaptureRequest) (v store.Version, err error) {
	if r.EndOfLife != nil && !r.EndOfLife.After(tx.Now) {
		return v, problem.InvalidRequest.Errorf("end-of-life %s is not in the future",
			r.EndOfLife.Format(time.DateOnly))
	}
	img, err := store.LockImage(tx.DB, r.Image)
	if err != nil {
		return v, err
	}
	site, err := store.SiteNamed(tx.DB, r.Site)
	if err != nil {
		return v, err
	}
	source := site.Name + "/" + r.BuildMachine
	// Whatever the image: two captures of one machine would take each other's clone away.
	if busy, err := tx.LockCapture(source); err != nil {
		return v, err
	} else if busy != "" {
		return v, problem.Busy.Errorf("build machine %s is being captured as %s: wait for the end of the capture",
			r.BuildMachine,
			busy)
	}
	v = store.Version{
		ImageID: img.ID, Number: r.Number, State: image.Capturing, Source: source,
		Notes: strings.TrimSpace(r.Notes), Tags: r.Tags, EndOfLife: r.EndOfLife, Discards: r.Discard,
		BackTo:     r.BackTo,
		CapturedBy: actor, CreatedAt: tx.Now, Revision: 1, Findings: store.JSON[[]seal.Finding]{V: r.Findings},
		Applications: store.JSON[[]sheet.Application]{V: r.Applications},
		Delivery:     store.JSON[sheet.Delivery]{V: r.Delivery},
	}
	if err := tx.Create(&v).Error; err != nil {
		return v, err
	}
	tx.Record(store.Entry{
		Verb: "version.capture", Subject: Subject(img, v), Reason: v.Notes,
		Detail: map[string]any{"from": v.Source},
	})
	if r.Then != nil {
		if err := r.Then(tx, v, site); err != nil {
			return v, err
		}
	}
	return v, tx.Ask(vs.captures.Of(site.ID, store.VersionSubject(v.ID), 1, ofVersion{v.ID}))
}

func (vs *Versions) findBuildMachine(ctx context.Context, siteName, name string) (store.Site, platform.BuildMachine,
	error,
) {
	sites, err := store.Sites(vs.engine.Store.DB.WithContext(ctx))
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
		asking.Go(func() { lists[i], errs[i] = vs.engine.BuildMachines(ctx, s) })
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
		return store.Site{}, platform.BuildMachine{},
			problem.SourceFailed.Errorf("build machine %q was not found; existing build machines: %s; %s", name,
				orNone(known),
				strings.Join(silent, "; "))
	}
	switch len(found) {
	case 1:
		return found[0].site, found[0].machine, nil
	case 0:
		return store.Site{}, platform.BuildMachine{},
			problem.InvalidRequest.Errorf("build machine %q does not exist; existing build machines: %s", name,
				orNone(known))
	}
	return store.Site{}, platform.BuildMachine{},
		problem.InvalidRequest.Errorf("several sites have a build machine %q: give the site", name)
}

func orNone(list []string) string { return cmp.Or(strings.Join(list, ", "), "none") }

// WhenActivated has something done in the change by which a version is activated. It is said before the engine runs.
func (vs *Versions) WhenActivated(then func(*store.Tx, store.Image, store.Version, Activation) error) {
	vs.activated = append(vs.activated, then)
}

// WhenSealed has something done in the change by which a version becomes sealed. It is said before the engine runs.
func (vs *Versions) WhenSealed(then func(*store.Tx, store.Version, platform.Captured) error) {
	vs.sealed = append(vs.sealed, then)
}

// SourceOf takes apart what a version was captured from.
func SourceOf(v store.Version) (site, machine string) {
	site, machine, _ = strings.Cut(v.Source, "/")
	return site, machine
}

func askCapture(_ context.Context, db *gorm.DB, _ store.Work, in ofVersion) (platform.Capture, error) {
	img, v, err := Of(db, in.Version)
	_, machine := SourceOf(v)
	return platform.Capture{
		BuildMachine: machine, Disk: diskName(img, v), Stamp: Label(img, v),
		MachineClass: img.MachineClass, Discard: v.Discards, Commands: sheet.Commands(v.Applications.V),
	}, err
}

// captureProgressed tells watchers that a capture gets on.
func captureProgressed(tx *store.Tx, in ofVersion, _ int) error {
	img, v, err := Of(tx.DB, in.Version)
	if err == nil {
		tx.Emit("version.progress", Subject(img, v), nil)
	}
	return err
}

// captureEnded seals the version, and has copies of it delivered where it says, or to every site with a pool of its
// image.
func (vs *Versions) captureEnded(tx *store.Tx, in ofVersion, end *engine.Ending[platform.Captured]) error {
	img, v, err := Of(tx.DB, in.Version)
	if err != nil {
		return err
	}
	v.Revision++
	if end.Failure != "" {
		v.State, v.Failure = image.Failed, end.Failure
		tx.Record(store.Entry{Verb: "version.fail", Subject: Subject(img, v), Reason: end.Failure})
		return tx.Save(&v).Error
	}
	made := end.Output
	v.State, v.Digest, v.SizeBytes, v.SealedAt = image.Sealed, made.Digest, made.Size, &tx.Now
	v.SizeBefore, v.Sealing = made.SizeBefore, append(store.Strings{}, made.Sealing...)
	detail := map[string]any{"digest": made.Digest, "size_bytes": made.Size}
	if len(made.Sealing) > 0 {
		detail["sealing"], detail["size_before_bytes"] = made.Sealing, made.SizeBefore
	}
	tx.Record(store.Entry{Verb: "version.seal", Subject: Subject(img, v), Detail: detail})
	if err := tx.Save(&v).Error; err != nil {
		return err
	}
	for _, then := range vs.sealed {
		if err := then(tx, v, made); err != nil {
			return err
		}
	}
	sites, err := store.SitesOf(tx.DB, img.ID)
	if err != nil {
		return err
	}
	if wanted := v.Delivery.V.Sites; len(wanted) > 0 {
		sites = nil
		for _, name := range wanted {
			site, err := store.SiteNamed(tx.DB, name)
			if errors.Is(err, store.ErrNotFound) {
				continue // it was taken out of the estate meanwhile
			}
			if err != nil {
				return err
			}
			sites = append(sites, site.ID)
		}
		slices.Sort(sites) // as everybody does who plans copies
	}
	for _, site := range sites {
		plan, err := planCopies(tx, img, site)
		if err != nil {
			return err
		}
		for n := 1; n <= cmp.Or(v.Delivery.V.Copies, plan.Copies); n++ {
			if err := vs.deliver(tx, v, site, n); err != nil {
				return err
			}
		}
	}
	return nil
}
