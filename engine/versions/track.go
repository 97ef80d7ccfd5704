package versions

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/store"
)

// Staging says how a version is staged.
type Staging struct {
	Reason string
	// Leaves is the number of the version that the track names, as the person saw it; nil if they did not look.
	Leaves *string
}

// Stage points an image's pilot track at a version.
func (vs *Versions) Stage(ctx context.Context, actor, imageName, number string, s Staging) error {
	return vs.onVersion(ctx, actor, imageName, number, func(tx *store.Tx, img store.Image, v *store.Version) error {
		return advance(tx, img, *v, image.Pilot, "version.stage", Activation{Reason: s.Reason, Leaves: s.Leaves},
			false)
	})
}

// StageIn is Stage as part of a change. A *problem.Problem has changed nothing.
func (vs *Versions) StageIn(tx *store.Tx, imageName, number string) error {
	img, err := store.LockImage(tx.DB, imageName)
	if err != nil {
		return err
	}
	v, err := store.VersionNumbered(tx.DB, img, number)
	if err != nil {
		return err
	}
	return advance(tx, img, v, image.Pilot, "version.stage", Activation{}, false)
}

// Activation says how a version goes live.
type Activation struct {
	Reason string
	// LetGo says that the version in use before is not kept as the fallback.
	LetGo bool
	// Overrule activates without clearance; it needs a reason.
	Overrule bool
	// Leaves is as in Staging.
	Leaves *string
	// Redirect has open rollovers that take hosts to another version take them to this one. Without it, the
	// activation is refused while there are any.
	Redirect bool
	// Redirected is called for each rollover that is redirected, with a sentence about it, unless it is nil. A
	// transaction that is repeated calls it again.
	Redirected func(rollover int64, sentence string)
}

// Activate points an image's live track at a version that has clearance.
func (vs *Versions) Activate(ctx context.Context, actor, imageName, number string, a Activation) error {
	if a.Overrule && strings.TrimSpace(a.Reason) == "" {
		return problem.ReasonRequired.Errorf("overriding clearance needs a reason")
	}
	return vs.onVersion(ctx, actor, imageName, number, func(tx *store.Tx, img store.Image, v *store.Version) error {
		if live, err := store.TrackNamed(tx.DB, img, image.Live); err != nil {
			return err
		} else if live.VersionID != nil && *live.VersionID == v.ID {
			return nil // it was done before
		}
		overruled, err := Cleared(tx, img, *v, a.Overrule)
		if err != nil {
			return err
		}
		if err := advance(tx, img, *v, image.Live, "version.activate", a, overruled); err != nil {
			return err
		}
		for _, then := range vs.activated {
			if err := then(tx, img, *v, a); err != nil {
				return err
			}
		}
		return nil
	})
}

func advance(tx *store.Tx, img store.Image, v store.Version, trackName, verb string, a Activation,
	overridden bool,
) error {
	if err := Usable(img, v); err != nil {
		return err
	}
	t, err := store.TrackNamed(tx.DB, img, trackName)
	if err != nil {
		return err
	}
	if t.VersionID != nil && *t.VersionID == v.ID {
		return nil // it was done before
	}
	before := ""
	if t.VersionID != nil {
		old, err := store.VersionByID(tx.DB, *t.VersionID)
		if err != nil {
			return err
		}
		before = old.Number
	}
	if a.Leaves != nil {
		if err := CheckLeaves(img, trackName, before, *a.Leaves); err != nil {
			return err
		}
	}
	detail := map[string]any{"track": trackName, "before": cmp.Or(before, "nothing"), "let_go": a.LetGo}
	if overridden {
		detail["override"] = true // of clearance
	}
	tx.Record(store.Entry{Verb: verb, Subject: Subject(img, v), Reason: a.Reason, Detail: detail})
	return tx.MoveTrack(&t, store.TrackMove{Kind: image.Advance, VersionID: v.ID, LetGo: a.LetGo, Reason: a.Reason})
}

// CheckLeaves returns a problem if a track names another version than the one that
// somebody who moves it means to leave: somebody else moved it meanwhile.
func CheckLeaves(img store.Image, track, names, meant string) error {
	if names == meant {
		return nil
	}
	return &problem.Problem{Type: problem.ChangedSinceRead, Detail: fmt.Sprintf(
		"track %s of %s names %s, and not %s: somebody moved it since you looked; look again, and repeat it if it "+
			"is still right", track, img.Name, cmp.Or(names, "nothing"), cmp.Or(meant, "nothing"))}
}
