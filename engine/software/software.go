// Package software keeps what is in versions, says how they differ, and finds
// who still has what.
package software

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"
	"gorm.io/gorm"

	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/core/software"
	"nimblepane/engine"
	"nimblepane/engine/versions"
	"nimblepane/platform"
	"nimblepane/store"
)

// Software are the acts on what is in versions. They are safe for concurrent use.
type Software struct {
	engine *engine.Engine
}

// New has the list of every version kept that is sealed from now on.
func New(e *engine.Engine, vs *versions.Versions) *Software {
	vs.WhenSealed(Sealed)
	return &Software{e}
}

// Sealed keeps what was listed in the machine of a version. Whatever is wrong
// with that is written down: the version is none the worse for it.
func Sealed(tx *store.Tx, v store.Version, made platform.Captured) error {
	unlisted := made.Unlisted
	if len(made.Software) > 0 {
		l, s, err := read(made.Software)
		if err == nil {
			err = tx.Try(func(tx *store.Tx) error { return keep(tx, v, l, s, "") })
			if err == nil || !store.IsOfData(err) {
				return err
			}
		}
		unlisted = "the list that its site sent cannot be read: " + err.Error()
	}
	if unlisted == "" {
		unlisted = "its site sent no list"
	}
	return store.NotListed(tx, v.ID, unlisted)
}

func read(packed []byte) (l software.List, s software.Subject, err error) {
	document, err := software.Unpack(packed)
	if err != nil {
		return l, s, err
	}
	return software.Read(document)
}

// keep keeps the list of a version that has none, as a document about it.
func keep(tx *store.Tx, v store.Version, l software.List, s software.Subject, broughtBy string) error {
	img, err := store.ImageByID(tx.DB, v.ImageID)
	if err != nil {
		return err
	}
	var apps []software.App
	for _, a := range v.Applications.V {
		apps = append(apps, software.App{Name: a.Name, Command: a.Command})
	}
	l.Applications(apps)
	s.Image, s.Number, s.Digest = img.Name, v.Number, v.Digest
	if s.Taken.IsZero() {
		s.Taken = tx.Now
	}
	kept := store.SoftwareList{
		VersionID: v.ID, Entries: len(l.Entries), Facts: store.JSON[software.Facts]{V: l.Facts}, TakenAt: s.Taken,
		BroughtBy: broughtBy, TakenBy: strings.TrimSpace(s.Tool + " " + s.Version),
	}
	// Both are written while the database notes what is in the version.
	var writing errgroup.Group
	writing.Go(func() error {
		document, err := l.Document(s)
		kept.Document, kept.Packed = software.Pack(document), software.PackEntries(l.Entries)
		return err
	})
	if err := errors.Join(store.KeepSoftware(tx, v.ID, l.Entries), writing.Wait()); err != nil {
		return err
	}
	return tx.Create(&kept).Error
}

// Bring keeps a list that was made elsewhere for a version that has none.
func (ss *Software) Bring(ctx context.Context, actor, imageName, number string, document []byte) error {
	l, s, err := software.Read(document)
	if err != nil {
		return problem.InvalidFile.Errorf("the software list is invalid: %s", err)
	}
	return ss.engine.Change(ctx, actor, func(tx *store.Tx) error {
		img, err := store.LockImage(tx.DB, imageName)
		if err != nil {
			return err
		}
		v, err := store.VersionNumbered(tx.DB, img, number)
		if err != nil {
			return err
		}
		switch _, err := store.SoftwareListOf(tx.DB, v.ID); {
		case err == nil:
			return problem.WrongState.Errorf("%s already has a software list, which cannot change",
				versions.Label(img, v))
		case !errors.Is(err, store.ErrNotFound):
			return err
		}
		if v.State != image.Sealed && v.State != image.Retired {
			return problem.WrongState.Errorf("%s is %s: only a sealed version has a software list", versions.Label(img,
				v), v.State)
		}
		if err := keep(tx, v, l, s, actor); err != nil {
			return err
		}
		tx.Record(store.Entry{
			Verb: "version.list", Subject: versions.Subject(img, v),
			Detail: map[string]any{"entries": len(l.Entries), "taken_by": strings.TrimSpace(s.Tool + " " + s.Version)},
		})
		v.Unlisted = ""
		v.Revision++
		return tx.Save(&v).Error
	})
}

// ListOf returns the list of a version. The error says why it has none.
func ListOf(db *gorm.DB, img store.Image, v store.Version) (store.SoftwareList, error) {
	l, err := store.SoftwareListOf(db, v.ID)
	if errors.Is(err, store.ErrNotFound) {
		return l, problem.NotRecorded.Errorf("%s has no software list: %s", versions.Label(img, v), whyNone(v))
	}
	return l, err
}

func whyNone(v store.Version) string {
	switch {
	case v.Unlisted != "":
		return v.Unlisted
	case v.State == image.Capturing:
		return "it is being captured"
	}
	return "it was not sealed"
}

// Question asks which versions have a piece of software.
type Question struct {
	Name   string // of it or of its source, with * for any text
	Origin software.Origin
	Below  string // versions of it before this one; all if ""
	All    bool   // also in versions that nothing names and no host runs
}

// Holder is a version that has what was asked for.
type Holder struct {
	Image, Number string
	Has           []software.Entry
	Unordered     []string // why it is not known whether some of it is below what was asked for
	Tracks        []string // that name the version, and "fallback"
	Pinned        []string // pools that are pinned to it
	Hosts         []store.HostOfVersion
	Barred        bool
}

// mostNamed is how many versions of software one question may be about: each may be in all versions of images.
const mostNamed = 2000

// Who answers which versions have a piece of software, and who uses them. What
// no rule can order is named too: better one too many than one that is missed.
func Who(db *gorm.DB, q Question) (holders []Holder, err error) {
	if strings.Trim(q.Name, "* ") == "" {
		return nil, problem.InvalidRequest.Errorf("give the name of a software package, such as openssl or fare-*")
	}
	named, err := store.SoftwareNamed(db, strings.TrimSpace(q.Name), q.Origin, mostNamed+1)
	if err != nil {
		return nil, err
	}
	if len(named) == 0 {
		anywhere, err := store.SoftwareNamed(db, strings.TrimSpace(q.Name), "", 1)
		if err != nil || len(anywhere) > 0 { // of another origin
			return nil, err
		}
		return nil, fmt.Errorf("software that is called %q (use * for any text, such as *%s*): %w", q.Name,
			strings.Trim(q.Name, "*"), store.ErrNotFound)
	}
	if len(named) > mostNamed {
		return nil, problem.InvalidRequest.Errorf("more than %d versions of software match %q: give more of the name",
			mostNamed,
			q.Name)
	}
	meant, unordered := map[int64]software.Entry{}, map[int64]string{}
	var ids []int64
	for _, s := range named {
		if q.Below != "" {
			switch n, err := software.Compare(s.Origin, s.Version, q.Below); {
			case err != nil:
				unordered[s.ID] = fmt.Sprintf("%s: %s", s.Entry().Label(), err)
			case n >= 0:
				continue
			}
		}
		meant[s.ID] = s.Entry()
		ids = append(ids, s.ID)
	}
	if len(ids) == 0 {
		return nil, nil
	}
	uses, err := store.SoftwareUses(db, ids)
	if err != nil {
		return nil, err
	}
	var of []int64
	for _, u := range uses {
		of = append(of, u.VersionID)
	}
	hosts, err := store.HostsOfVersions(db, slices.Compact(of))
	if err != nil {
		return nil, err
	}
	running := map[int64][]store.HostOfVersion{}
	for _, h := range hosts {
		running[h.VersionID] = append(running[h.VersionID], h)
	}
	names, err := store.NamedVersions(db)
	if err != nil {
		return nil, err
	}
	tracks, pinned := map[int64][]string{}, map[int64][]string{}
	for _, n := range names {
		if n.Pinned {
			pinned[n.VersionID] = append(pinned[n.VersionID], n.Name)
		} else {
			tracks[n.VersionID] = append(tracks[n.VersionID], n.Name)
		}
	}
	at := map[int64]int{}
	for _, u := range uses {
		id := u.VersionID
		if !q.All && len(tracks[id]) == 0 && len(pinned[id]) == 0 && len(running[id]) == 0 {
			continue
		}
		i, there := at[id]
		if !there {
			i = len(holders)
			at[id] = i
			holders = append(holders, Holder{
				Image: u.Image, Number: u.Number, Tracks: tracks[id], Pinned: pinned[id], Hosts: running[id],
				Barred: u.Barred,
			})
		}
		holders[i].Has = append(holders[i].Has, meant[u.SoftwareID])
		if why := unordered[u.SoftwareID]; why != "" {
			holders[i].Unordered = append(holders[i].Unordered, why)
		}
	}
	return holders, nil
}
