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

func (vs *Versions) previewTrack(ctx context.Context, r engine.PreviewRequest, trackName string) (p engine.Preview,
	err error,
) {
	db := vs.engine.Store.DB.WithContext(ctx)
	img, v, err := versionOf(db, r)
	if err != nil {
		return p, err
	}
	if p.Leaves, err = store.TrackNames(db, img, trackName); err != nil {
		return p, err
	}
	if p.Leaves == v.Number {
		p.Will = []string{fmt.Sprintf("Track %s of %s already names %s: nothing changes.", trackName, img.Name,
			v.Number)}
		return p, nil
	}
	hosts, pools, err := store.Followers(db, img, trackName, v.ID)
	if err != nil {
		return p, err
	}
	p.Will = []string{
		fmt.Sprintf("Track %s of %s goes from %s to %s.", trackName, img.Name, cmp.Or(p.Leaves, "nothing"), v.Number),
		fmt.Sprintf("%s in %s that follow %s run another version: they drift until they are rolled over.",
			english.Plural(hosts, "host", ""), english.Plural(pools, "pool", ""), trackName),
	}
	open, err := store.OpenElsewhere(db, img, trackName, v.ID)
	if err != nil {
		return p, err
	}
	if len(open) == 0 {
		p.Will[1] += " Nobody's session changes now."
	}
	if trackName == image.Pilot {
		for _, o := range open {
			p.Will = append(p.Will, fmt.Sprintf("Rollover %d of pool %s (%s) to %s continues.", o.ID, o.Pool, o.State,
				o.Number))
		}
		p.Will = append(p.Will, "Production does not change.")
		return p, nil
	}
	switch {
	case p.Leaves != "":
		will, err := vs.goingBack(db, img, v, p.Leaves, r.LetGo)
		if err != nil {
			return p, err
		}
		p.Will = append(p.Will, will...)
	}
	if r.Overrule {
		answers, err := Clearance(db, img, v, vs.engine.Clock.Now())
		if err != nil {
			return p, err
		}
		for _, u := range clearance.Unmet(answers) {
			p.Will = append(p.Will, fmt.Sprintf("Clearance is overruled: %s: %s.", u.Rule, u.Why))
		}
	}
	return p, nil
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

func (vs *Versions) previewStage(ctx context.Context, actor string, r engine.PreviewRequest) (p engine.Preview,
	err error,
) {
	if p, err = vs.previewTrack(ctx, r, image.Pilot); err != nil {
		return p, err
	}
	return p, vs.Stage(ctx, actor, r.Image, r.Number, Staging{Reason: engine.PreviewReason})
}

func (vs *Versions) previewActivate(ctx context.Context, actor string, r engine.PreviewRequest) (p engine.Preview,
	err error,
) {
	if p, err = vs.previewTrack(ctx, r, image.Live); err != nil {
		return p, err
	}
	redirected := map[int64]string{}
	err = vs.Activate(ctx, actor, r.Image, r.Number, Activation{
		Reason: engine.PreviewReason, LetGo: r.LetGo, Overrule: r.Overrule, Redirect: r.Redirect,
		Redirected: func(id int64, sentence string) { redirected[id] = sentence },
	})
	for _, id := range slices.Sorted(maps.Keys(redirected)) {
		p.Will = append(p.Will, redirected[id])
	}
	return p, err
}

func (vs *Versions) previewRetire(ctx context.Context, actor string, r engine.PreviewRequest) (p engine.Preview,
	err error,
) {
	db := vs.engine.Store.DB.WithContext(ctx)
	img, v, err := versionOf(db, r)
	if err != nil {
		return p, err
	}
	copies, err := store.Copies(db, v.ID)
	if err != nil {
		return p, err
	}
	p.Will = []string{
		fmt.Sprintf("Copies of %s are deleted: %d, and the disk that its capture made.", Label(img, v), len(copies)),
		"Its record is kept. It cannot be used again; this cannot be undone.",
	}
	return p, vs.Retire(ctx, actor, r.Image, r.Number, engine.PreviewReason)
}

// versionOf is the version that a preview is about.
func versionOf(db *gorm.DB, r engine.PreviewRequest) (img store.Image, v store.Version, err error) {
	if img, err = store.ImageNamed(db, r.Image); err != nil {
		return img, v, err
	}
	v, err = store.VersionNumbered(db, img, r.Number)
	return img, v, err
}
