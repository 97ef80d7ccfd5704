package versions

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
	"gorm.io/gorm"

	"nimblepane/core/clearance"
	"nimblepane/core/image"
	"nimblepane/engine"
	"nimblepane/engine/readiness"
	"nimblepane/store"
)

// previewTrack begins the preview of an act that points a track at a version.
// With done, the track names it already.
func (vs *Versions) previewTrack(ctx context.Context, r engine.PreviewRequest, track string) (img store.Image,
	v store.Version, p engine.Preview, done bool, err error,
) {
	db := vs.engine.Store.DB.WithContext(ctx)
	if img, v, err = versionOf(db, r); err != nil {
		return img, v, p, false, err
	}
	if p.Leaves, err = store.TrackNames(db, img, track); err != nil {
		return img, v, p, false, err
	}
	if done = p.Leaves == v.Number; done {
		p.Will = []string{fmt.Sprintf("Track %s of %s already names %s: nothing changes.", track, img.Name, v.Number)}
	} else {
		p.Will = []string{fmt.Sprintf("Track %s of %s goes from %s to %s.", track, img.Name,
			cmp.Or(p.Leaves, "nothing"), v.Number)}
	}
	return img, v, p, done, nil
}

// Effect is what an act that changes the target version of pools means for their hosts.
type Effect struct {
	Drifting, Pools int // hosts that drift, and the pools that have such hosts
	// Others are sentences about rollovers that take hosts to another version,
	// or a sentence that no session changes if there are none.
	Others []string
}

// EffectOn reads the effect on pools whose target is now a version, within a dry run of the act.
func EffectOn(tx *store.Tx, v store.Version, pools ...store.Pool) (e Effect, err error) {
	ids := make([]int64, len(pools))
	for i, p := range pools {
		ids[i] = p.ID
	}
	if e.Drifting, e.Pools, err = store.DriftIn(tx.DB, ids...); err != nil {
		return e, err
	}
	open, err := store.OpenElsewhere(tx.DB, v.ID, ids...)
	for _, o := range open {
		e.Others = append(e.Others, fmt.Sprintf("Rollover %d of pool %s (%s) to %s continues.", o.ID, o.Pool, o.State,
			o.Number))
	}
	if len(open) == 0 {
		e.Others = []string{"Nobody's session changes now."}
	}
	return e, err
}

// afterTrack describes the pools that follow a track after the track was pointed at a version.
func afterTrack(tx *store.Tx, img store.Image, v store.Version, track string) (will []string, err error) {
	pools, err := store.LockFollowers(tx.DB, img, []string{track})
	if err != nil {
		return nil, err
	}
	e, err := EffectOn(tx, v, pools...)
	return append([]string{fmt.Sprintf("%s in %s that follow %s run another version: they drift until they are rolled "+
		"over.", english.Plural(e.Drifting, "host", ""), english.Plural(e.Pools, "pool", ""), track)}, e.Others...), err
}

// goingBack says what going back would be like once the version is live, or what it costs to let the one before go.
func (vs *Versions) goingBack(db *gorm.DB, img store.Image, next store.Version, before string, letGo bool) ([]string,
	error,
) {
	after, err := readiness.After(db, img, vs.engine.Clock.Now(), next)
	if err != nil {
		return nil, err
	}
	if !letGo {
		return []string{before + " is kept as the fallback.", after.Sentence()}, nil
	}
	hosts := 0
	for _, p := range after.Pools {
		hosts += p.Hosts
	}
	will := []string{fmt.Sprintf("%s is let go: there will be nothing to fall back to. What turns out wrong with %s "+
		"is mended by a new version then, which has to be built, tried and activated while %s it.", before, next.Number,
		english.PluralWord(hosts, "1 host runs", fmt.Sprintf("%d hosts run", hosts)))}
	if after.Ready && after.Takes > 0 {
		will = append(will, fmt.Sprintf("Kept, it could be gone back to in %s, and the time that people take to leave.",
			after.Span()))
	}
	old, err := store.VersionNumbered(db, img, before)
	if err != nil {
		return nil, err
	}
	copies, err := store.Copies(db, old.ID)
	if err != nil {
		return nil, err
	}
	return append(will, fmt.Sprintf("Letting it go frees nothing by itself: retired, it would give back %s.",
		humanize.IBytes(uint64(old.SizeBytes*int64(len(copies)+1))))), nil
}

func (vs *Versions) previewStage(ctx context.Context, actor string, r engine.PreviewRequest) (engine.Preview, error) {
	img, v, p, done, err := vs.previewTrack(ctx, r, image.Pilot)
	if err != nil {
		return p, err
	}
	err = vs.Stage(engine.WithInspectedDryRun(ctx, func(tx *store.Tx) error {
		after, err := afterTrack(tx, img, v, image.Pilot)
		if !done {
			p.Will = slices.Concat(p.Will[:1], after, []string{"Production does not change."})
		}
		return err
	}), actor, r.Image, r.Number, Staging{Reason: engine.PreviewReason})
	return p, err
}

func (vs *Versions) previewActivate(ctx context.Context, actor string, r engine.PreviewRequest) (engine.Preview,
	error,
) {
	img, v, p, done, err := vs.previewTrack(ctx, r, image.Live)
	if err != nil {
		return p, err
	}
	var costs []string
	if !done {
		if costs, err = vs.costs(ctx, r, img, v, p.Leaves); err != nil {
			return p, err
		}
		p.Will = append(p.Will, costs...)
	}
	redirected := map[int64]string{}
	err = vs.Activate(engine.WithInspectedDryRun(ctx, func(tx *store.Tx) error {
		after, err := afterTrack(tx, img, v, image.Live)
		if done || err != nil {
			return err
		}
		if len(redirected) > 0 {
			after = after[:1] // sessions do change
		}
		for _, id := range slices.Sorted(maps.Keys(redirected)) {
			after = append(after, redirected[id])
		}
		p.Will = slices.Concat(p.Will[:1], after, costs)
		return nil
	}), actor, r.Image, r.Number, Activation{
		Reason: engine.PreviewReason, LetGo: r.LetGo, Overrule: r.Overrule, Redirect: r.Redirect,
		Redirected: func(id int64, sentence string) { redirected[id] = sentence },
	})
	return p, err
}

// costs says what activating a version means for going back, and which rules of clearance it overrules.
func (vs *Versions) costs(ctx context.Context, r engine.PreviewRequest, img store.Image, v store.Version, before string,
) (will []string, err error) {
	db := vs.engine.Store.DB.WithContext(ctx)
	if before != "" {
		if will, err = vs.goingBack(db, img, v, before, r.LetGo); err != nil {
			return nil, err
		}
	}
	if r.Overrule {
		answers, err := Clearance(db, img, v, vs.engine.Clock.Now())
		if err != nil {
			return nil, err
		}
		for _, u := range clearance.Unmet(answers) {
			will = append(will, fmt.Sprintf("Clearance is overruled: %s: %s.", u.Rule, u.Why))
		}
	}
	return will, nil
}

func (vs *Versions) previewRetire(ctx context.Context, actor string, r engine.PreviewRequest) (p engine.Preview,
	err error,
) {
	img, v, err := versionOf(vs.engine.Store.DB.WithContext(ctx), r)
	if err != nil {
		return p, err
	}
	err = vs.Retire(engine.WithInspectedDryRun(ctx, func(tx *store.Tx) error {
		copies, err := store.Copies(tx.DB, v.ID)
		gone := []string{english.Plural(len(copies), "copy", "copies")}
		if v.Digest != "" {
			gone = append(gone, "the disk that its capture made")
		}
		p.Will = []string{
			fmt.Sprintf("Retiring %s deletes %s.", Label(img, v), english.WordSeries(gone, "and")),
			"Its record is kept. It cannot be used again; this cannot be undone.",
		}
		return err
	}), actor, r.Image, r.Number, engine.PreviewReason)
	return p, err
}

// versionOf is the version that a preview is about.
func versionOf(db *gorm.DB, r engine.PreviewRequest) (img store.Image, v store.Version, err error) {
	if img, err = store.ImageNamed(db, r.Image); err != nil {
		return img, v, err
	}
	v, err = store.VersionNumbered(db, img, r.Number)
	return img, v, err
}
