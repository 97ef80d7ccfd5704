package rollovers

import (
	"context"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize/english"

	"nimblepane/core/clearance"
	"nimblepane/core/image"
	"nimblepane/core/rollover"
	"nimblepane/engine"
	"nimblepane/store"
)

func (rs *Rollovers) previewRoll(ctx context.Context, actor string, r engine.PreviewRequest) (p engine.Preview,
	err error,
) {
	rows, err := rs.Start(ctx, actor, StartRequest{Pools: r.Pools, Options: r.Options})
	if err != nil {
		return p, err
	}
	p.Will, err = rs.rollSentences(ctx, rows)
	return p, err
}

func (rs *Rollovers) previewRollback(ctx context.Context, actor string, r engine.PreviewRequest) (p engine.Preview,
	err error,
) {
	db := rs.engine.Store.DB.WithContext(ctx)
	img, err := store.ImageNamed(db, r.Image)
	if err != nil {
		return p, err
	}
	if p.Leaves, err = store.TrackNames(db, img, image.Live); err != nil {
		return p, err
	}
	result, err := rs.Rollback(ctx, actor, RollbackRequest{
		Image: r.Image, Leaves: p.Leaves, To: r.Number,
		Reason: engine.PreviewReason, KeepUsable: r.KeepUsable, TrackOnly: r.TrackOnly,
	})
	if err != nil {
		return p, err
	}
	p.Will = append(p.Will, fmt.Sprintf("%s of %s %s from %s back to %s.", strings.Join(result.Tracks, " and "),
		img.Name, english.PluralWord(len(result.Tracks), "goes", "go"), result.From, result.To))
	if r.KeepUsable {
		p.Will = append(p.Will, result.From+" can be used again.")
	} else {
		p.Will = append(p.Will, result.From+" is blocked with your reason, until it is unblocked.")
	}
	for _, o := range result.Stopped {
		p.Will = append(p.Will, fmt.Sprintf("Rollover %d is stopped; hosts whose disk is gone already are finished "+
			"first.", o.ID))
	}
	sentences, err := rs.rollSentences(ctx, result.Rollovers)
	p.Will = append(p.Will, sentences...)
	if len(result.Rollovers) == 0 {
		p.Will = append(p.Will, "No host has to change.")
	}
	return p, err
}

// rollSentences says what rollovers would do, and to whom.
func (rs *Rollovers) rollSentences(ctx context.Context, rows []store.Rollover) (out []string, err error) {
	db := rs.engine.Store.DB.WithContext(ctx)
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
			pool.Name, english.Plural(hosts, "host is", "hosts are"), v.Number, plan.BatchSize,
			english.Plural(plan.Floor, "seat", "")))
		if people == 0 {
			out = append(out, "Nobody is signed in there now.")
			continue
		}
		told := "people are waited for, however long they stay"
		switch {
		case plan.LogOff == rollover.Warn:
			told = fmt.Sprintf("people are warned, and signed off %s later", clearance.Span(plan.Grace))
		case plan.Deadline > 0:
			told = fmt.Sprintf("people are waited for; after %s they are warned, and signed off %s later",
				clearance.Span(plan.Deadline), clearance.Span(plan.Grace))
		}
		out = append(out, fmt.Sprintf("%s signed in there now: %s.", english.Plural(people, "person is", "people are"),
			told))
	}
	return out, nil
}
