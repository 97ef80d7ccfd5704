package versions

import (
	"context"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/core/sheet"
	"nimblepane/engine"
	"nimblepane/store"
)

// VersionEdit changes what people write about a version; nil leaves a field as it is.
type VersionEdit struct {
	Notes     *string
	Tags      *[]string
	EndOfLife **time.Time
	Revisions engine.Revisions // that the editor saw
}

// EditVersion changes notes, tags or end-of-life.
func (vs *Versions) EditVersion(ctx context.Context, actor, imageName, number string, edit VersionEdit) error {
	return vs.onVersion(ctx, actor, imageName, number, func(tx *store.Tx, img store.Image, v *store.Version) error {
		if !edit.Revisions.Allow(v.Revision) {
			return &problem.Problem{Type: problem.ChangedSinceRead, Detail: fmt.Sprintf(
				"%s was changed since you read it (%s, now %d): read it again and repeat the change",
				Label(img, *v), edit.Revisions, v.Revision)}
		}
		if edit.Notes == nil && edit.Tags == nil && edit.EndOfLife == nil {
			return problem.InvalidRequest.Errorf("the edit changes nothing: give notes, tags or end-of-life")
		}
		detail := map[string]any{}
		if edit.Notes != nil {
			v.Notes, detail["notes"] = *edit.Notes, *edit.Notes
		}
		if edit.Tags != nil {
			v.Tags, detail["tags"] = *edit.Tags, *edit.Tags
		}
		if edit.EndOfLife != nil {
			if at := *edit.EndOfLife; at != nil && !at.After(tx.Now) && (v.EndOfLife == nil ||
				!at.Equal(*v.EndOfLife)) {
				return problem.InvalidRequest.Errorf("end-of-life %s is not in the future", at.Format(time.DateOnly))
			}
			v.EndOfLife, detail["end_of_life"] = *edit.EndOfLife, *edit.EndOfLife
		}
		v.Revision++
		tx.Record(store.Entry{Verb: "version.edit", Subject: Subject(img, *v), Detail: detail})
		return nil
	})
}

// onVersion changes a version under the lock of its image.
func (vs *Versions) onVersion(ctx context.Context, actor, imageName, number string,
	fn func(*store.Tx, store.Image, *store.Version) error,
) error {
	return vs.engine.Change(ctx, actor, func(tx *store.Tx) error {
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
func (vs *Versions) Bar(ctx context.Context, actor, imageName, number, reason string) error {
	if strings.TrimSpace(reason) == "" {
		return problem.ReasonRequired.Errorf("blocking a version needs a reason")
	}
	return vs.onVersion(ctx, actor, imageName, number, func(tx *store.Tx, img store.Image, v *store.Version) error {
		tracks, err := store.Tracks(tx.DB, img.ID)
		if err != nil {
			return err
		}
		for _, t := range tracks {
			if t.VersionID != nil && *t.VersionID == v.ID {
				return problem.InUse.Errorf("track %s of %s points to %s: roll back first, or stage another version",
					t.Name,
					img.Name, v.Number)
			}
		}
		if pinned, err := store.PinnedTo(tx.DB, v.ID); err != nil {
			return err
		} else if len(pinned) > 0 {
			return problem.InUse.Errorf("pool %s is pinned to %s: unpin it first", strings.Join(pinned, ", "),
				Label(img, *v))
		}
		return BarIn(tx, img, v, reason)
	})
}

// BarIn bars a version within a change. The image has to be locked.
func BarIn(tx *store.Tx, img store.Image, v *store.Version, reason string) error {
	if v.State != image.Sealed {
		return problem.WrongState.Errorf("%s is %s: only a sealed version can be blocked", Label(img, *v), v.State)
	}
	if v.Barred != "" {
		return problem.WrongState.Errorf("%s is already blocked: %s", Label(img, *v), v.Barred)
	}
	open, err := store.RolloversTo(tx.DB, v.ID)
	if err != nil {
		return err
	}
	if r := store.NotStopped(open); r != nil {
		return problem.InUse.Errorf("%s takes hosts to %s: reverse or stop it first", r.Name(), Label(img, *v))
	}
	v.Barred, v.BarredBy, v.BarredAt = reason, tx.Actor, &tx.Now
	v.Revision++
	tx.Record(store.Entry{Verb: "version.bar", Subject: Subject(img, *v), Reason: reason})
	return nil
}

// Unblock makes a blocked version usable again. A version that is not blocked stays as it is.
func (vs *Versions) Unblock(ctx context.Context, actor, imageName, number, reason string) error {
	if strings.TrimSpace(reason) == "" {
		return problem.ReasonRequired.Errorf("unblocking a version needs a reason")
	}
	return vs.onVersion(ctx, actor, imageName, number, func(tx *store.Tx, img store.Image, v *store.Version) error {
		if v.Barred == "" {
			return nil
		}
		tx.Record(store.Entry{
			Verb: "version.unblock", Subject: Subject(img, *v), Reason: reason,
			Detail: map[string]any{"blocked": v.Barred, "by": v.BarredBy},
		})
		v.Barred, v.BarredBy, v.BarredAt = "", "", nil
		v.Revision++
		return nil
	})
}

// Uses tells who needs a version.
func Uses(db *gorm.DB, img store.Image, v store.Version) (image.Use, error) {
	u := image.Use{Sealed: v.State == image.Sealed}
	tracks, err := store.Tracks(db, img.ID)
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
	if u.Pools, err = store.PinnedTo(db, v.ID); err != nil {
		return u, err
	}
	if u.Hosts, err = store.HostsOn(db, v.ID); err != nil {
		return u, err
	}
	open, err := store.RolloversTo(db, v.ID)
	if err != nil {
		return u, err
	}
	if len(open) > 0 {
		u.Rollover = open[0].Name()
	}
	sheets, err := store.SheetsNaming(db, img.Name, v.Number)
	if err != nil {
		return u, err
	}
	for _, s := range sheets {
		// One that has mistakes begins with it as well, once they are mended.
		if read, _ := sheet.Parse([]byte(s.Text)); read.Base.Version == v.Number {
			u.Sheets = append(u.Sheets, s.Name)
		}
	}
	u.Doing, err = store.DoingWith(db, v.ID)
	return u, err
}

// Retire deletes a version's copies and keeps its record.
func (vs *Versions) Retire(ctx context.Context, actor, imageName, number, reason string) error {
	return vs.onVersion(ctx, actor, imageName, number, func(tx *store.Tx, img store.Image, v *store.Version) error {
		u, err := Uses(tx.DB, img, *v)
		if err != nil {
			return err
		}
		if why := u.WhyKeep(); len(why) > 0 {
			return &problem.Problem{Type: problem.InUse, Detail: Label(img, *v) + " cannot be retired", Reasons: why}
		}
		return vs.retire(tx, img, v, reason)
	})
}

// retire retires a version that nobody needs. The image has to be locked.
func (vs *Versions) retire(tx *store.Tx, img store.Image, v *store.Version, reason string) error {
	copies, err := store.Copies(tx.DB, v.ID)
	if err != nil {
		return err
	}
	for _, c := range copies {
		if c.State == image.CopyLeaving {
			continue // it is being deleted as it is
		}
		if err := vs.deleteCopy(tx, c); err != nil {
			return err
		}
	}
	if name, _ := SourceOf(*v); v.Digest != "" {
		site, err := store.SiteNamed(tx.DB, name)
		if err != nil {
			return err
		}
		if err := tx.Ask(vs.diskDeletions.Of(site.ID, store.VersionSubject(v.ID), 1, ofVersion{v.ID})); err != nil {
			return err
		}
	}
	v.State = image.Retired
	v.Revision++
	tx.Record(store.Entry{
		Verb: "version.retire", Subject: Subject(img, *v), Reason: reason,
		Detail: map[string]any{"copies": len(copies)},
	})
	return nil
}

// Standing reads off the tracks what a version is to its image.
func Standing(tracks []store.Track, v store.Version) []string {
	out := []string{}
	fallback := false
	for _, t := range tracks {
		if t.VersionID != nil && *t.VersionID == v.ID {
			out = append(out, t.Name)
		}
		fallback = fallback || t.Name == image.Live && t.FallbackID != nil && *t.FallbackID == v.ID
	}
	if fallback {
		out = append(out, "fallback")
	}
	if len(out) == 0 && v.State == image.Sealed {
		out = append(out, "shelved")
	}
	return out
}
