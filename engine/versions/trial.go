package versions

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/clearance"
	"nimblepane/core/host"
	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/engine"
	"nimblepane/store"
)

// SignOff records what a tester says of a version. The last word of each tester counts.
func (vs *Versions) SignOff(ctx context.Context, tester, imageName, number string, yes bool, comment string) error {
	comment = strings.TrimSpace(comment)
	if !yes && comment == "" {
		return problem.ReasonRequired.Errorf("a negative verdict needs a comment")
	}
	return vs.onVersion(ctx, tester, imageName, number, func(tx *store.Tx, img store.Image, v *store.Version) error {
		pilot, err := store.TrackNamed(tx.DB, img, image.Pilot)
		if err != nil {
			return err
		}
		if pilot.VersionID == nil || *pilot.VersionID != v.ID {
			return problem.WrongState.Errorf("%s is not on trial: stage it first",
				Label(img, *v))
		}
		verdict := map[bool]string{true: "yes", false: "no"}[yes]
		tx.Record(store.Entry{
			Verb: "version.sign", Subject: Subject(img, *v), Reason: comment,
			Detail: map[string]any{"says": verdict},
		})
		return tx.Put(&store.SignOff{VersionID: v.ID, Tester: tester, Yes: yes, Comment: comment, At: tx.Now})
	})
}

// Cleared returns nil if the version may go before production: with clearance,
// or, overruled, without.
func Cleared(tx *store.Tx, img store.Image, v store.Version, overrule bool) (overruled bool, err error) {
	answers, err := Clearance(tx.DB, img, v, tx.Now)
	if err != nil {
		return false, err
	}
	unmet := clearance.Unmet(answers)
	if len(unmet) == 0 || overrule {
		return len(unmet) > 0, nil
	}
	p := &problem.Problem{Type: problem.NotCleared, Detail: Label(img, v) + " has no clearance, so it stays off live"}
	for _, u := range unmet {
		p.Reasons = append(p.Reasons, u.Rule+": "+u.Why)
	}
	return false, p
}

// makers returns who has made a version: who captured it, who started its build, and who worked on its build machine.
func makers(db *gorm.DB, v store.Version) ([]string, error) {
	list := []string{v.CapturedBy}
	site, machine := SourceOf(v)
	build, since := "", time.Time{}
	switch b, err := store.BuildOfVersion(db, v.ID); {
	case err == nil:
		list = append(list, b.StartedBy)
		build, since = b.Name(), b.StartedAt
	case !errors.Is(err, store.ErrNotFound):
		return nil, err
	default:
		m, err := store.LastMachine(db, site, machine, v.CreatedAt)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
		since = m.AskedAt
	}
	entries, _, err := store.Interventions(db, site, machine, build, since)
	for _, e := range entries {
		if e.Actor != engine.ServiceActor && !e.At.After(v.CreatedAt) {
			list = append(list, e.Actor)
		}
	}
	slices.Sort(list)
	return slices.Compact(list), err
}

// Clearance answers every rule for the version, as things stand.
func Clearance(db *gorm.DB, img store.Image, v store.Version, now time.Time) ([]clearance.Answer, error) {
	settings := clearance.Settings{
		Testers: img.Testers, Soak: time.Duration(img.SoakSeconds) * time.Second,
		Copies: img.Copies, KeepApplications: img.KeepApplications, NoDowngrades: img.NoDowngrades,
		NoSeriousFlaws: img.NoSeriousFlaws, Independent: img.Independent,
	}
	facts := clearance.Facts{State: v.State, Barred: v.Barred}
	if v.EndOfLife != nil {
		facts.EndOfLife = *v.EndOfLife
	}
	pilot, err := store.TrackNamed(db, img, image.Pilot)
	if err != nil {
		return nil, err
	}
	if pilot.VersionID != nil && *pilot.VersionID == v.ID {
		facts.PilotSince = *pilot.Since
	}
	proved, there, err := store.LastProof(db, v.ID)
	if err != nil {
		return nil, err
	}
	if there {
		facts.Proof, facts.ProofWhy = proved.State, proved.Why
	}
	signs, err := store.SignOffs(db, v.ID)
	if err != nil {
		return nil, err
	}
	for _, s := range signs {
		facts.Verdicts = append(facts.Verdicts, clearance.Verdict{Tester: s.Tester, Yes: s.Yes, Comment: s.Comment})
	}
	if settings.Independent {
		if facts.Makers, err = makers(db, v); err != nil {
			return nil, err
		}
	}
	if settings.KeepApplications || settings.NoDowngrades {
		if facts.Software, err = softwareBeside(db, img, v); err != nil {
			return nil, err
		}
	}
	if settings.NoSeriousFlaws {
		if facts.Flaws, err = flawsBeside(db, img, v); err != nil {
			return nil, err
		}
	}
	pools, err := store.Unpinned(db, img.ID)
	if err != nil {
		return nil, err
	}
	sites := map[int64]bool{}
	for _, p := range pools {
		switch p.Track {
		case image.Pilot:
			pool := clearance.PilotPool{Name: p.Name}
			hosts, err := store.Hosts(db, p.ID)
			if err != nil {
				return nil, err
			}
			for _, h := range hosts {
				pool.Hosts++
				switch {
				case h.VersionID == nil || *h.VersionID != v.ID:
					pool.Missing = append(pool.Missing, h.Name+" (another version)")
				case h.State != host.Serving:
					pool.Missing = append(pool.Missing, fmt.Sprintf("%s (%s)", h.Name, h.State))
				default:
					pool.Running++
				}
			}
			facts.PilotPools = append(facts.PilotPools, pool)
		case image.Live:
			if sites[p.SiteID] {
				continue
			}
			sites[p.SiteID] = true
			site, err := store.SiteByID(db, p.SiteID)
			if err != nil {
				return nil, err
			}
			n, err := store.CopiesPresent(db, v.ID, p.SiteID)
			if err != nil {
				return nil, err
			}
			facts.Sites = append(facts.Sites, clearance.SiteCopies{Site: site.Name, Present: int(n)})
		}
	}
	return clearance.Evaluate(settings, facts, now), nil
}
