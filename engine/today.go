package engine

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"gorm.io/gorm"

	"nimblepane/core/clearance"
	"nimblepane/core/image"
	"nimblepane/core/rollover"
	"nimblepane/store"
)

// Matter is one thing that waits for a person.
type Matter struct {
	Kind    string // "site", "rollover", "faulty", "trial", "cleared", "drift", "copy", "end-of-life", "drained"
	Urgent  bool
	Title   string
	Detail  string
	Link    string // what it is about: "rollovers/3", "images/counter-desk", "pools/ticket-counters"
	Command string // how to go on by the client, "" if there is no single command
}

// endOfLifeNear is how long before its end-of-life a version in use is a matter.
const endOfLifeNear = 30 * 24 * time.Hour

// Today answers what waits for a person now, the most urgent first.
func (e *Engine) Today(ctx context.Context) ([]Matter, error) {
	db := e.Store.DB.WithContext(ctx)
	now := e.Clock.Now()
	var urgent, rest []Matter
	add := func(m Matter) {
		if m.Urgent {
			urgent = append(urgent, m)
		} else {
			rest = append(rest, m)
		}
	}
	for _, gather := range []func(*gorm.DB, time.Time, func(Matter)) error{siteMatters, rolloverMatters, hostMatters, e.versionMatters, driftMatters} {
		if err := gather(db, now, add); err != nil {
			return nil, err
		}
	}
	return append(urgent, rest...), nil
}

func siteMatters(db *gorm.DB, _ time.Time, add func(Matter)) error {
	sites, err := store.Sites(db)
	for _, s := range sites {
		if s.Failures > 1 { // once is a moment
			add(Matter{
				Kind: "site", Urgent: true, Title: fmt.Sprintf("Site %s has not answered since %s", s.Name, s.TroubleSince.UTC().Format("2006-01-02 15:04 MST")),
				Detail: s.Trouble, Link: "sites/" + s.Name, Command: "pane site show " + s.Name,
			})
		}
	}
	return err
}

func rolloverMatters(db *gorm.DB, _ time.Time, add func(Matter)) error {
	open, err := store.AllOpenRollovers(db)
	if err != nil {
		return err
	}
	for _, r := range open {
		pool, err := store.PoolByID(db, r.PoolID)
		if err != nil {
			return err
		}
		m := Matter{Kind: "rollover", Title: fmt.Sprintf("Rollover %d of %s is %s", r.ID, pool.Name, r.State), Link: fmt.Sprintf("rollovers/%d", r.ID), Command: fmt.Sprintf("pane rollover watch %d", r.ID)}
		switch {
		case r.State == rollover.Paused:
			m.Urgent, m.Detail, m.Command = true, r.PausedWhy, fmt.Sprintf("pane rollover resume %d", r.ID)
		case len(r.Holds) > 0:
			m.Detail = r.Holds[0]
		}
		add(m)
	}
	return nil
}

func hostMatters(db *gorm.DB, _ time.Time, add func(Matter)) error {
	rows, err := store.HostsOutOfService(db)
	if err != nil {
		return err
	}
	for _, r := range rows {
		what := fmt.Sprintf("%d hosts of %s are", r.N, r.Pool)
		if r.N == 1 {
			what = fmt.Sprintf("Host %s of %s is", r.Name, r.Pool)
		}
		if r.State == string(rollover.HostFaulty) {
			detail := r.Name + ": " + r.Why
			if r.N > 1 {
				detail = fmt.Sprintf("%s, and %d more", detail, r.N-1)
			}
			add(Matter{Kind: "faulty", Urgent: true, Title: what + " faulty", Detail: detail, Link: "pools/" + r.Pool, Command: "pane host list --pool " + r.Pool + " --state faulty"})
		} else {
			add(Matter{Kind: "drained", Title: what + " drained by hand", Detail: "out of service until returned", Link: "pools/" + r.Pool, Command: "pane host return " + r.Name})
		}
	}
	return nil
}

func (e *Engine) versionMatters(db *gorm.DB, now time.Time, add func(Matter)) error {
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
				add(Matter{
					Kind: "end-of-life", Urgent: !now.Before(*v.EndOfLife), Title: fmt.Sprintf("%s reaches its end-of-life on %s", label(img, v), v.EndOfLife.Format(time.DateOnly)),
					Detail: strings.Join(named[v.ID], " and ") + " of " + img.Name + " still name it", Link: "images/" + img.Name, Command: "pane version list " + img.Name,
				})
			}
			if t.Name == image.Pilot {
				if err := e.trialMatter(db, now, img, v, tracks[len(tracks)-1], add); err != nil {
					return err
				}
			}
		}
		failed, err := store.CopiesFailed(db, img.ID)
		if err != nil {
			return err
		}
		for _, c := range failed {
			add(Matter{Kind: "copy", Urgent: true, Title: "A copy of " + img.Name + " could not be delivered", Detail: c.Failure, Link: "images/" + img.Name})
		}
	}
	return nil
}

// trialMatter tells of a version on pilot that waits for sign-offs, or that could go live.
func (e *Engine) trialMatter(db *gorm.DB, now time.Time, img store.Image, v store.Version, live store.Track, add func(Matter)) error {
	if live.VersionID != nil && *live.VersionID == v.ID {
		return nil
	}
	answers, err := e.clearance(db, img, v, now)
	if err != nil {
		return err
	}
	unmet := clearance.Unmet(answers)
	if len(unmet) == 0 {
		add(Matter{Kind: "cleared", Title: label(img, v) + " has clearance and is not live", Detail: "activate it when you are ready", Link: "images/" + img.Name, Command: "pane activate " + label(img, v)})
		return nil
	}
	for _, u := range unmet {
		if u.Rule == "testers" {
			add(Matter{Kind: "trial", Title: "The trial of " + label(img, v) + " waits for sign-offs", Detail: u.Why, Link: "images/" + img.Name, Command: "pane trial show " + label(img, v)})
		}
	}
	return nil
}

func driftMatters(db *gorm.DB, _ time.Time, add func(Matter)) error {
	rows, err := store.Drifts(db)
	if err != nil {
		return err
	}
	for _, r := range rows {
		add(Matter{Kind: "drift", Title: fmt.Sprintf("%d of %s of %s %s", r.N, english.Plural(r.Total, "host", ""), r.Pool, english.PluralWord(r.N, "drifts", "drift")), Detail: "they should run " + r.Target, Link: "pools/" + r.Pool, Command: "pane rollover start --pool " + r.Pool})
	}
	return nil
}
