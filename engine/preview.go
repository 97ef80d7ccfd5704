package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize/english"
	"gorm.io/gorm"

	"nimblepane/core/clearance"
	"nimblepane/core/image"
	"nimblepane/core/rollover"
	"nimblepane/store"
)

// PreviewRequest names an act and what it is done to. Fields that the act has no use for are left out.
type PreviewRequest struct {
	Act     string // "stage", "activate", "rollback", "retire", "pin" or "roll"
	Image   string
	Number  string // the version; for "rollback" the one to go back to, "" for the fallback
	Pools   []string
	Options rollover.Options

	LetGo, Overrule, KeepUsable, TrackOnly bool
	// Approved says that the person may put versions before production.
	Approved bool
}

// Preview says what an act would do.
type Preview struct {
	Will    []string // sentences
	Leaves  string   // the version that the track names, which the act is to name
	Refused *Problem // why it would be refused as things stand; nil if it would be done
}

type rehearsal struct{}

// errRehearsed takes a change back that was only tried.
var errRehearsed = errors.New("rehearsed")

// Preview tries an act and takes it back, so that what it says is what the act
// itself would come to, and puts it into sentences.
func (e *Engine) Preview(ctx context.Context, actor string, r PreviewRequest) (p Preview, err error) {
	ctx = context.WithValue(ctx, rehearsal{}, true)
	const reason = "a reason that is asked for when it is done"
	switch r.Act {
	case "stage":
		if p, err = e.previewTrack(ctx, r, image.Pilot); err == nil {
			err = e.Stage(ctx, actor, r.Image, r.Number, Staging{Reason: reason})
		}
	case "activate":
		if p, err = e.previewTrack(ctx, r, image.Live); err == nil {
			err = e.Activate(ctx, actor, r.Image, r.Number, Activation{Reason: reason, LetGo: r.LetGo, Overrule: r.Overrule})
		}
	case "rollback":
		p, err = e.previewRollback(ctx, actor, r, reason)
	case "retire":
		if p, err = e.previewRetire(ctx, r); err == nil {
			err = e.Retire(ctx, actor, r.Image, r.Number, reason)
		}
	case "pin":
		if len(r.Pools) != 1 {
			return p, invalid("name one pool to pin")
		}
		if p, err = e.previewPin(ctx, r); err == nil {
			err = e.Pin(ctx, actor, r.Pools[0], r.Number, Pinning{Reason: reason, Approved: r.Approved, Overrule: r.Overrule})
		}
	case "roll":
		var rows []store.Rollover
		if rows, err = e.StartRollovers(ctx, actor, StartRequest{Pools: r.Pools, Options: r.Options}); err == nil {
			p.Will, err = e.rollSentences(ctx, rows)
		}
	default:
		return p, invalid("act %q has no preview: use stage, activate, rollback, retire, pin or roll", r.Act)
	}
	var refused *Problem
	if errors.As(err, &refused) {
		p.Refused, err = refused, nil
	}
	return p, err
}

// versionOf is the version that a preview is about.
func versionOf(db *gorm.DB, r PreviewRequest) (img store.Image, v store.Version, err error) {
	if img, err = store.ImageNamed(db, r.Image); err != nil {
		return img, v, err
	}
	v, err = store.VersionNumbered(db, img, r.Number)
	return img, v, err
}

func (e *Engine) previewTrack(ctx context.Context, r PreviewRequest, trackName string) (p Preview, err error) {
	db := e.Store.DB.WithContext(ctx)
	img, v, err := versionOf(db, r)
	if err != nil {
		return p, err
	}
	if p.Leaves, err = store.TrackNames(db, img, trackName); err != nil {
		return p, err
	}
	hosts, pools, err := store.Followers(db, img, trackName, v.ID)
	if err != nil {
		return p, err
	}
	p.Will = []string{
		fmt.Sprintf("Track %s of %s goes from %s to %s.", trackName, img.Name, cmp.Or(p.Leaves, "nothing"), v.Number),
		fmt.Sprintf("%s in %s that follow %s run another version: they drift until they are rolled over. Nobody's session changes now.", english.Plural(hosts, "host", ""), english.Plural(pools, "pool", ""), trackName),
	}
	if trackName == image.Pilot {
		p.Will = append(p.Will, "Production does not change.")
		return p, nil
	}
	switch {
	case p.Leaves != "" && r.LetGo:
		p.Will = append(p.Will, p.Leaves+" is let go: there will be nothing to fall back to.")
	case p.Leaves != "":
		p.Will = append(p.Will, p.Leaves+" is kept as the fallback.")
	}
	if r.Overrule {
		answers, err := e.Clearance(ctx, img, v)
		if err != nil {
			return p, err
		}
		for _, u := range clearance.Unmet(answers) {
			p.Will = append(p.Will, fmt.Sprintf("Clearance is overruled: %s: %s.", u.Rule, u.Why))
		}
	}
	return p, nil
}

func (e *Engine) previewRollback(ctx context.Context, actor string, r PreviewRequest, reason string) (p Preview, err error) {
	db := e.Store.DB.WithContext(ctx)
	img, err := store.ImageNamed(db, r.Image)
	if err != nil {
		return p, err
	}
	if p.Leaves, err = store.TrackNames(db, img, image.Live); err != nil {
		return p, err
	}
	result, err := e.Rollback(ctx, actor, RollbackRequest{Image: r.Image, Leaves: p.Leaves, To: r.Number, Reason: reason, KeepUsable: r.KeepUsable, TrackOnly: r.TrackOnly})
	if err != nil {
		return p, err
	}
	p.Will = append(p.Will, fmt.Sprintf("%s of %s %s from %s back to %s.", strings.Join(result.Tracks, " and "), img.Name, english.PluralWord(len(result.Tracks), "goes", "go"), result.From, result.To))
	if r.KeepUsable {
		p.Will = append(p.Will, result.From+" can be used again.")
	} else {
		p.Will = append(p.Will, result.From+" is barred with your reason, for good.")
	}
	for _, o := range result.Stopped {
		p.Will = append(p.Will, fmt.Sprintf("Rollover %d is stopped; hosts whose disk is gone already are finished first.", o.ID))
	}
	sentences, err := e.rollSentences(ctx, result.Rollovers)
	p.Will = append(p.Will, sentences...)
	if len(result.Rollovers) == 0 {
		p.Will = append(p.Will, "No host has to change.")
	}
	return p, err
}

func (e *Engine) previewRetire(ctx context.Context, r PreviewRequest) (p Preview, err error) {
	db := e.Store.DB.WithContext(ctx)
	img, v, err := versionOf(db, r)
	if err != nil {
		return p, err
	}
	copies, err := store.Copies(db, v.ID)
	p.Will = []string{
		fmt.Sprintf("Copies of %s are deleted: %d, and the disk that its capture made.", label(img, v), len(copies)),
		"Its record is kept. It cannot be used again; this cannot be undone.",
	}
	return p, err
}

func (e *Engine) previewPin(ctx context.Context, r PreviewRequest) (p Preview, err error) {
	db := e.Store.DB.WithContext(ctx)
	pool, err := store.PoolNamed(db, r.Pools[0])
	if err != nil {
		return p, err
	}
	img, err := store.ImageByID(db, pool.ImageID)
	if err != nil {
		return p, err
	}
	v, err := store.VersionNumbered(db, img, r.Number)
	if err != nil {
		return p, err
	}
	n, err := store.HostsNotOn(db, pool.ID, v.ID)
	p.Will = []string{
		fmt.Sprintf("Pool %s is to run %s, whatever track %s names, until it is unpinned.", pool.Name, v.Number, pool.Track),
		fmt.Sprintf("%d of its %s run another version: they drift until they are rolled over. Nobody's session changes now.", n, english.Plural(pool.HostCount, "host", "")),
	}
	return p, err
}

// rollSentences says what rollovers would do, and to whom.
func (e *Engine) rollSentences(ctx context.Context, rows []store.Rollover) (out []string, err error) {
	db := e.Store.DB.WithContext(ctx)
	for _, r := range rows {
		pool, err := store.PoolByID(db, r.PoolID)
		if err != nil {
			return nil, err
		}
		v, err := store.VersionByID(db, r.TargetID)
		if err != nil {
			return nil, err
		}
		hosts, people, err := store.OnOtherHosts(db, pool.ID, v.ID)
		if err != nil {
			return nil, err
		}
		plan := r.Plan.V
		out = append(out, fmt.Sprintf("Pool %s: %s taken to %s in batches of %d; %s stay free and in service.",
			pool.Name, english.Plural(hosts, "host is", "hosts are"), v.Number, plan.BatchSize, english.Plural(plan.Floor, "seat", "")))
		if people == 0 {
			out = append(out, "Nobody is signed in there now.")
			continue
		}
		told := "people are waited for, however long they stay"
		switch {
		case plan.LogOff == rollover.Warn:
			told = fmt.Sprintf("people are warned, and signed off %s later", clearance.Span(plan.Grace))
		case plan.Deadline > 0:
			told = fmt.Sprintf("people are waited for; after %s they are warned, and signed off %s later", clearance.Span(plan.Deadline), clearance.Span(plan.Grace))
		}
		out = append(out, fmt.Sprintf("%s signed in there now: %s.", english.Plural(people, "person is", "people are"), told))
	}
	return out, nil
}
