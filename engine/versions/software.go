package versions

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"gorm.io/gorm"

	"nimblepane/core/clearance"
	"nimblepane/core/flaw"
	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/core/software"
	"nimblepane/engine/flaws"
	"nimblepane/store"
)

// softwareBeside says how a version's software differs from that of the version that live names.
func softwareBeside(db *gorm.DB, img store.Image, v store.Version) (s clearance.Software, err error) {
	live, err := store.TrackNamed(db, img, image.Live)
	if err != nil || live.VersionID == nil || *live.VersionID == v.ID {
		return s, err
	}
	used, err := store.VersionByID(db, *live.VersionID)
	if err != nil {
		return s, err
	}
	s.With, s.Waived = Label(img, used), v.Waived.V
	var lists [2]software.List
	for i, of := range []store.Version{used, v} {
		l, err := store.SoftwareListOf(db, of.ID)
		if errors.Is(err, store.ErrNotFound) {
			s.Unknown = fmt.Sprintf("%s has no software list", Label(img, of))
			return s, nil
		}
		if err != nil {
			return s, err
		}
		if lists[i].Entries, err = software.UnpackEntries(l.Packed); err != nil {
			return s, err
		}
	}
	for _, c := range software.Diff(lists[0], lists[1]).Changes {
		switch {
		case c.What == software.Removed && c.Group == software.Applications:
			s.Missing = append(s.Missing, c.Name)
		case c.What == software.Downgraded:
			s.Downgraded = append(s.Downgraded, clearance.Downgrade{Name: c.Name, Before: c.Before, After: c.After})
		}
	}
	return s, nil
}

// flawsBeside says which serious known flaws a version has that the one that live names does not have.
func flawsBeside(db *gorm.DB, img store.Image, v store.Version) (f clearance.Flaws, err error) {
	live, err := store.TrackNamed(db, img, image.Live)
	if err != nil || live.VersionID == nil || *live.VersionID == v.ID {
		return f, err
	}
	used, err := store.VersionByID(db, *live.VersionID)
	if err != nil {
		return f, err
	}
	f.With = Label(img, used)
	var found [2]flaws.Result
	for i, of := range []store.Version{used, v} {
		found[i], err = flaws.Of(db, of)
		var not *flaws.NotLooked
		if errors.As(err, &not) {
			f.Unknown = not.Why
			return f, nil
		}
		if err != nil {
			return f, err
		}
	}
	for _, b := range flaw.Serious(flaw.Diff(found[0].Found, found[1].Found).Brings) {
		f.Brought = append(f.Brought, flaws.Named([]flaw.Found{b}))
	}
	f.NotChecked, f.Accepted = found[1].NotChecked, img.AcceptedEcosystems.V
	return f, nil
}

// Acceptance accepts for an image that software of an ecosystem is not checked for known vulnerabilities, or withdraws
// that.
type Acceptance struct {
	Ecosystem, Reason string
	Withdraw          bool
}

// AcceptUnchecked notes why software of an ecosystem that no list covers is accepted in the versions of an image.
func (vs *Versions) AcceptUnchecked(ctx context.Context, actor, imageName string, a Acceptance) error {
	name, reason := strings.TrimSpace(a.Ecosystem), strings.TrimSpace(a.Reason)
	switch {
	case name == "" || len(name) > 200:
		return problem.InvalidRequest.Errorf("give the name of the ecosystem as in the version's list of unchecked " +
			"software, such as flatpak")
	case reason == "" && !a.Withdraw:
		return problem.ReasonRequired.Errorf("accepting unchecked software needs a reason")
	}
	return vs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		img, err := store.LockImage(tx.DB, imageName)
		if err != nil {
			return err
		}
		accepted := maps.Clone(img.AcceptedEcosystems.V)
		if accepted == nil {
			accepted = map[string]string{}
		}
		verb := "image.accept-unchecked"
		if a.Withdraw {
			if accepted[name] == "" {
				return problem.WrongState.Errorf("image %s does not accept %s unchecked; accepted: %s", img.Name, name,
					orNone(slices.Sorted(maps.Keys(accepted))))
			}
			verb = "image.check-again"
			delete(accepted, name)
		} else {
			accepted[name] = fmt.Sprintf("%s (%s)", reason, actor)
		}
		img.AcceptedEcosystems.V = accepted
		img.Revision++
		tx.Record(store.Entry{
			Verb: verb, Subject: "image " + img.Name, Reason: reason, Detail: map[string]any{"ecosystem": name},
		})
		return tx.Save(&img).Error
	})
}

// Waiver passes over that a piece of software is older than in the version in use, or takes that back.
type Waiver struct {
	Software, Reason string
	Withdraw         bool
}

// Waive notes why a downgrade is passed over.
func (vs *Versions) Waive(ctx context.Context, actor, imageName, number string, w Waiver) error {
	reason := strings.TrimSpace(w.Reason)
	if reason == "" && !w.Withdraw {
		return problem.ReasonRequired.Errorf("accepting that %s is older needs a reason", w.Software)
	}
	return vs.onVersion(ctx, actor, imageName, number, func(tx *store.Tx, img store.Image, v *store.Version) error {
		waived := maps.Clone(v.Waived.V)
		if waived == nil {
			waived = map[string]string{}
		}
		if w.Withdraw {
			if waived[w.Software] == "" {
				return problem.WrongState.Errorf("%s has no accepted downgrade of %q", Label(img, *v), w.Software)
			}
			delete(waived, w.Software)
		} else {
			s, err := softwareBeside(tx.DB, img, *v)
			if err != nil {
				return err
			}
			var older []string
			for _, d := range s.Downgraded {
				older = append(older, d.Name)
			}
			if !slices.Contains(older, w.Software) {
				return problem.WrongState.Errorf("%q is not older in %s than in the version in use; older software: %s",
					w.Software,
					Label(img, *v), orNone(older))
			}
			waived[w.Software] = fmt.Sprintf("%s (%s)", reason, actor)
		}
		v.Waived.V = waived
		v.Revision++
		verb := map[bool]string{true: "version.unwaive", false: "version.waive"}[w.Withdraw]
		tx.Record(store.Entry{
			Verb: verb, Subject: Subject(img, *v), Reason: reason, Detail: map[string]any{"software": w.Software},
		})
		return nil
	})
}
