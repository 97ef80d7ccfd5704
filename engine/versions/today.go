package versions

import (
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"gorm.io/gorm"

	"nimblepane/core/clearance"
	"nimblepane/core/image"
	"nimblepane/core/matter"
	"nimblepane/engine"
	"nimblepane/store"
)

// endOfLifeNear is how long before its end-of-life a version in use is a matter.
const endOfLifeNear = 30 * 24 * time.Hour

// matters are versions in use that reach their end-of-life, trials, and copies that did not arrive.
func matters(db *gorm.DB, now time.Time, add func(engine.Matter)) error {
	images, err := store.Images(db)
	if err != nil {
		return err
	}
	for _, img := range images {
		tracks, err := store.Tracks(db, img.ID)
		if err != nil {
			return err
		}
		named := map[int64][]string{} // tracks by the version that they name
		for _, t := range tracks {
			if t.VersionID != nil {
				named[*t.VersionID] = append(named[*t.VersionID], t.Name)
			}
		}
		for _, t := range tracks {
			if t.VersionID == nil {
				continue
			}
			v, err := store.VersionByID(db, *t.VersionID)
			if err != nil {
				return err
			}
			// Said once, at the first of its tracks.
			if v.EndOfLife != nil && v.EndOfLife.Sub(now) < endOfLifeNear && named[v.ID][0] == t.Name {
				add(engine.Matter{
					Kind: matter.EndOfLife, Urgent: !now.Before(*v.EndOfLife),
					Title: fmt.Sprintf("%s reaches its end-of-life on %s", Label(img, v),
						v.EndOfLife.Format(time.DateOnly)),
					Detail: strings.Join(named[v.ID], " and ") + " of " + img.Name + " still name it", Link: "images/" +
						img.Name, Command: "pane version list " + img.Name,
				})
			}
			if t.Name == image.Pilot {
				if err := trialMatter(db, now, img, v, tracks[len(tracks)-1], add); err != nil {
					return err
				}
			}
		}
		failed, err := store.CopiesFailed(db, img.ID)
		if err != nil {
			return err
		}
		for i := 0; i < len(failed); {
			c, n := failed[i], 1
			for ; i+n < len(failed) && failed[i+n].VersionID == c.VersionID && failed[i+n].SiteID == c.SiteID; n++ {
			}
			add(engine.Matter{
				Kind: matter.Copy, Urgent: true, Title: fmt.Sprintf("%s of %s %s at %s cannot be used",
					english.PluralWord(n, "A copy", fmt.Sprintf("%d copies", n)), img.Name, c.Number, c.Site),
				Detail: c.Failure, Link: fmt.Sprintf("images/%s/versions/%s/copies", img.Name, c.Number),
				Command: fmt.Sprintf("pane version deliver %s %s", img.Name, c.Number),
			})
			i += n
		}
	}
	return nil
}

// trialMatter tells of a version on pilot that waits for sign-offs, or that could go live.
func trialMatter(db *gorm.DB, now time.Time, img store.Image, v store.Version, live store.Track,
	add func(engine.Matter),
) error {
	if live.VersionID != nil && *live.VersionID == v.ID {
		return nil
	}
	answers, err := Clearance(db, img, v, now)
	if err != nil {
		return err
	}
	unmet := clearance.Unmet(answers)
	if len(unmet) == 0 {
		add(engine.Matter{
			Kind: matter.Cleared, Title: Label(img, v) + " has clearance and is not live",
			Detail: "activate it when you are ready", Link: "images/" + img.Name, Command: "pane activate " +
				Label(img, v),
		})
		return nil
	}
	for _, u := range unmet {
		if u.Rule == "testers" {
			add(engine.Matter{
				Kind: matter.Trial, Title: "The trial of " + Label(img, v) + " waits for sign-offs",
				Detail: u.Why, Link: "images/" + img.Name, Command: "pane trial show " + Label(img, v),
			})
		}
	}
	return nil
}
