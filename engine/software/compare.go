package software

import (
	"errors"

	"gorm.io/gorm"

	"nimblepane/core/compare"
	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/core/software"
	"nimblepane/engine/flaws"
	"nimblepane/engine/versions"
	"nimblepane/store"
)

// Compare says how a version differs from another of its image: from the one
// that live names, if none is given, and from the fallback if it is that one itself.
func Compare(db *gorm.DB, imageName, from, to string) (c compare.Comparison, err error) {
	img, err := store.ImageNamed(db, imageName)
	if err != nil {
		return c, err
	}
	v, err := store.VersionNumbered(db, img, to)
	if err != nil {
		return c, err
	}
	if from == "" {
		if from, err = before(db, img, v); err != nil {
			return c, err
		}
	}
	was, err := store.VersionNumbered(db, img, from)
	if err != nil {
		return c, err
	}
	if was.ID == v.ID {
		return c, problem.InvalidRequest.Errorf("%s cannot be compared with itself: give another version",
			versions.Label(img, v))
	}
	origins, err := store.Origins(db, img.ID)
	if err != nil {
		return c, err
	}
	a, err := side(db, img, was, origins[was.ID])
	if err != nil {
		return c, err
	}
	b, err := side(db, img, v, origins[v.ID])
	if err != nil {
		return c, err
	}
	return compare.Of(img.Name, a, b), nil
}

// before is the number of the version that one is compared with if nobody says which.
func before(db *gorm.DB, img store.Image, v store.Version) (string, error) {
	live, err := store.TrackNamed(db, img, image.Live)
	if err != nil {
		return "", err
	}
	id := live.VersionID
	if id != nil && *id == v.ID {
		id = live.FallbackID
	}
	if id == nil {
		return "", problem.InvalidRequest.Errorf("live of %s points to no version other than %s: give the version "+
			"to compare with", img.Name,
			v.Number)
	}
	other, err := store.VersionByID(db, *id)
	return other.Number, err
}

// side is a version with all that is compared of it.
func side(db *gorm.DB, img store.Image, v store.Version, from store.Origin) (s compare.Side, err error) {
	listed, err := ListOf(db, img, v)
	if err != nil {
		return s, err
	}
	s.Version = compare.Version{
		Number: v.Number, SealedAt: v.SealedAt, SizeBytes: v.SizeBytes, Base: from.Base, Commit: from.Commit,
		Build: from.Build,
	}
	tracks, err := store.Tracks(db, img.ID)
	if err != nil {
		return s, err
	}
	s.Standing = versions.Standing(tracks, v)
	s.List.Facts, s.Checks = listed.Facts.V, v.Findings.V
	if s.List.Entries, err = software.UnpackEntries(listed.Packed); err != nil {
		return s, err
	}
	var not *flaws.NotLooked
	known, err := flaws.Of(db, v)
	s.Flaws, s.NotChecked = known.Found, known.NotChecked
	if errors.As(err, &not) {
		s.Unlooked = not.Why
	} else if err != nil {
		return s, err
	}
	if from.Build != 0 {
		b, err := store.BuildByID(db, from.Build)
		if err != nil {
			return s, err
		}
		s.Plan = &b.Plan.V
		if v.SealedAt != nil {
			s.BuildSeconds = v.SealedAt.Sub(b.StartedAt).Seconds()
		}
	}
	s.FirstStart, err = firstStart(db, v)
	return s, err
}

// firstStart is how long the machine that proved a version took to start, in seconds; 0 if that is not known.
func firstStart(db *gorm.DB, v store.Version) (float64, error) {
	p, there, err := store.LastProof(db, v.ID)
	if err != nil || !there || p.SpokeAt == nil {
		return 0, err
	}
	w, there, err := store.LastWork(db, store.WorkProveMachine, p.Name())
	if err != nil || !there {
		return 0, err
	}
	return p.SpokeAt.Sub(w.AskedAt).Seconds(), nil
}
