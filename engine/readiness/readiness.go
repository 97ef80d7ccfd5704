// Package readiness answers whether images could be rolled back, from what is known now.
package readiness

import (
	"fmt"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/image"
	"nimblepane/core/matter"
	"nimblepane/core/readiness"
	"nimblepane/core/rollover"
	"nimblepane/engine"
	"nimblepane/store"
)

// Add has Today tell of images that could not be rolled back.
func Add(e *engine.Engine) {
	e.Add(engine.Subject{Matters: []func(*gorm.DB, time.Time, func(engine.Matter)) error{matters}})
}

// Of answers for an image as it is.
func Of(db *gorm.DB, img store.Image, now time.Time) (readiness.Answer, error) {
	live, err := store.TrackNamed(db, img, image.Live)
	if err != nil {
		return readiness.Answer{}, err
	}
	return between(db, img, now, live.VersionID, live.FallbackID, thoseToGoBack)
}

// After answers for an image as it would be once another version is live and every host runs it.
func After(db *gorm.DB, img store.Image, now time.Time, next store.Version) (readiness.Answer, error) {
	live, err := store.TrackNamed(db, img, image.Live)
	if err != nil {
		return readiness.Answer{}, err
	}
	return between(db, img, now, &next.ID, live.VersionID, everyHost)
}

// which hosts are counted.
type which int

const (
	thoseToGoBack which = iota
	everyHost           // as once all of them run what is live
	noHost              // where only matters whether it is possible: counting takes the longest
)

// between answers whether hosts that run one version could go back to another.
func between(db *gorm.DB, img store.Image, now time.Time, live, fallback *int64, hosts which) (a readiness.Answer,
	err error,
) {
	s := readiness.Situation{Image: img.Name, Now: now}
	if live != nil {
		v, err := store.VersionByID(db, *live)
		if err != nil {
			return a, err
		}
		s.Live = v.Number
	}
	if live == nil || fallback == nil {
		return s.Judge(), nil
	}
	good, err := store.VersionByID(db, *fallback)
	if err != nil {
		return a, err
	}
	s.Fallback = good.Number
	switch {
	case good.State != image.Sealed:
		s.Unusable = fmt.Sprintf("%s is %s", good.Number, good.State)
	case good.Barred != "":
		s.Unusable = fmt.Sprintf("%s is barred: %s", good.Number, good.Barred)
	}
	pools, err := store.Unpinned(db, img.ID)
	if err != nil {
		return a, err
	}
	known := map[int64]string{}
	for _, p := range pools {
		if p.Track != image.Live {
			continue
		}
		if _, there := known[p.SiteID]; !there {
			site, err := siteOf(db, p.SiteID, good)
			if err != nil {
				return a, err
			}
			known[p.SiteID] = site.Name
			s.Sites = append(s.Sites, site)
		}
		pool, err := poolOf(db, p, good, hosts)
		if err != nil {
			return a, err
		}
		pool.Site = known[p.SiteID]
		s.Pools = append(s.Pools, pool)
	}
	return s.Judge(), nil
}

func siteOf(db *gorm.DB, id int64, good store.Version) (s readiness.Site, err error) {
	row, err := store.SiteByID(db, id)
	if err != nil {
		return s, err
	}
	s = readiness.Site{Name: row.Name, PerMinute: row.StartsPerMinute, ClonesPerCopy: row.ClonesPerCopy}
	if row.Failures > 1 { // once is a moment
		s.Silent = row.Trouble
	}
	if s.Clone, s.Host, err = store.CloneTimes(db, id); err != nil {
		return s, err
	}
	copies, err := store.Copies(db, good.ID)
	for _, c := range copies {
		if c.SiteID == id {
			s.Copies = append(s.Copies, readiness.Copy{
				Ordinal: c.Ordinal, State: c.State, Failure: c.Failure, Read: c.ReadAt,
			})
		}
	}
	return s, err
}

func poolOf(db *gorm.DB, p store.Pool, good store.Version, hosts which) (out readiness.Pool, err error) {
	o := rollover.UrgentOptions.FloorFor(p.Size())
	out = readiness.Pool{Name: p.Name, Plan: o.Plan(p.Size()), PerMinute: o.Stagger}
	switch hosts {
	case thoseToGoBack:
		out.Hosts, out.People, err = store.OnOtherHosts(db, p.ID, good.ID)
	case everyHost:
		out.Hosts, out.People, err = store.OnOtherHosts(db, p.ID, 0)
	case noHost:
	}
	return out, err
}

// matters tells of images that could not be rolled back everywhere. An image of which one version only was ever live
// has nothing to go back to, and nobody can do anything about that.
func matters(db *gorm.DB, now time.Time, add func(engine.Matter)) error {
	images, err := store.Images(db)
	if err != nil {
		return err
	}
	for _, img := range images {
		live, err := store.TrackNamed(db, img, image.Live)
		if err != nil {
			return err
		}
		if live.VersionID == nil {
			continue
		}
		a, err := between(db, img, now, live.VersionID, live.FallbackID, noHost)
		if err != nil {
			return err
		}
		if a.Ready {
			continue
		}
		m := engine.Matter{
			Kind: matter.Readiness, Title: "The pools of " + img.Name + " could not all be rolled back",
			Link: "images/" + img.Name, Command: "pane image readiness " + img.Name,
		}
		if a.Why != "" {
			moves, err := store.TrackMoves(db, live.ID)
			if err != nil {
				return err
			}
			if a.To == "" && len(moves) < 2 {
				continue
			}
			m.Title, m.Detail = img.Name+" could not be rolled back", a.Why
		} else {
			m.Detail, m.Urgent = a.Lacks(), true
		}
		add(m)
	}
	return nil
}
