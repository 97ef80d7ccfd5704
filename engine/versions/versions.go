// Package versions makes versions of images, delivers their copies to the
// sites, and moves the tracks that name them: capturing, staging, trying,
// activating, barring and retiring.
package versions

import (
	"fmt"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/act"
	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/engine"
	"nimblepane/platform"
	"nimblepane/store"
)

// Versions are the acts on versions and tracks. They are safe for concurrent use.
type Versions struct {
	engine *engine.Engine
	// what is done when a version is
	sealed    []func(*store.Tx, store.Version, platform.Captured) error
	activated []func(*store.Tx, store.Image, store.Version, Activation) error

	captures      engine.Work[ofVersion, platform.Capture, platform.Captured]
	diskDeletions engine.Work[ofVersion, platform.Named, platform.Nothing]
	deliveries    engine.Work[ofCopy, platform.Deliver, platform.Made]
	copyDeletions engine.Work[ofCopy, platform.Named, platform.Nothing]
	readings      engine.Work[ofCopy, platform.Reading, platform.Read]
}

// The inputs of works.
type (
	ofVersion struct {
		Version int64 `json:"version"`
	}
	ofCopy struct {
		Version int64 `json:"version"`
		Copy    int64 `json:"copy"`
	}
)

// New adds versions and tracks to the engine.
func New(e *engine.Engine) *Versions {
	vs := &Versions{engine: e}
	vs.captures = engine.Work[ofVersion, platform.Capture, platform.Captured]{
		Kind: store.WorkCapture, Operation: platform.CaptureMachine, Ask: askCapture, Progressed: captureProgressed,
		Ended: vs.captureEnded,
	}
	vs.diskDeletions = engine.Work[ofVersion, platform.Named, platform.Nothing]{
		Kind: store.WorkDeleteDisk, Operation: platform.DeleteDisk, Ask: askDiskDeletion, Ended: vs.diskDeletionEnded,
	}
	vs.deliveries = engine.Work[ofCopy, platform.Deliver, platform.Made]{
		Kind: store.WorkDeliver, Operation: platform.DeliverCopy, Ask: askDelivery, Ended: deliveryEnded,
		Progressed: deliveryProgressed,
	}
	vs.copyDeletions = engine.Work[ofCopy, platform.Named, platform.Nothing]{
		Kind: store.WorkDeleteCopy, Operation: platform.DeleteCopy, Ask: askCopyDeletion, Ended: vs.copyDeletionEnded,
	}
	vs.readings = engine.Work[ofCopy, platform.Reading, platform.Read]{
		Kind: store.WorkReadCopy, Operation: platform.ReadCopy, Ask: vs.askReading, Ended: readingEnded,
	}
	engine.AddWork(e, vs.captures)
	engine.AddWork(e, vs.diskDeletions)
	engine.AddWork(e, vs.deliveries)
	engine.AddWork(e, vs.copyDeletions)
	engine.AddWork(e, vs.readings)
	e.Add(engine.Subject{
		Matters: []func(*gorm.DB, time.Time, func(engine.Matter)) error{matters},
		Previews: map[act.Name]engine.Previewer{
			act.Stage: vs.previewStage, act.Activate: vs.previewActivate,
			act.Retire: vs.previewRetire,
		},
		Sweeps: map[string]func(*store.Tx) error{
			"copies planned": planAll, "copies read": vs.readCopies, "versions tidied": vs.tidy,
		},
	})
	return vs
}

// Label is how a version is called: "counter-desk 2026.11.1". It is also the
// stamp that is written into its disk.
func Label(img store.Image, v store.Version) string { return img.Name + " " + v.Number }

// Subject is what a version is called in the trail.
func Subject(img store.Image, v store.Version) string { return "version " + Label(img, v) }

// diskName is what a version's disk is called on a platform.
func diskName(img store.Image, v store.Version) string { return img.Name + "-" + v.Number }

// CopyName is what a version's copy is called on a platform.
func CopyName(img store.Image, v store.Version, ordinal int) string {
	return fmt.Sprintf("%s-%s-copy-%d", img.Name, v.Number, ordinal)
}

// Usable returns nil if hosts may be made from the version.
func Usable(img store.Image, v store.Version) error {
	switch {
	case v.State != image.Sealed:
		return problem.WrongState.Errorf("%s is %s: only a sealed version can be used", Label(img, v), v.State)
	case v.Barred != "":
		return problem.VersionBlocked.Errorf("%s is blocked: %s", Label(img, v), v.Barred)
	}
	return nil
}

// Of returns a version with its image.
func Of(db *gorm.DB, id int64) (store.Image, store.Version, error) {
	v, err := store.VersionByID(db, id)
	if err != nil {
		return store.Image{}, v, err
	}
	img, err := store.ImageByID(db, v.ImageID)
	return img, v, err
}
