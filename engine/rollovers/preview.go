package rollovers

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

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
	rows, left, err := rs.Start(ctx, actor, StartRequest{Pools: r.Pools, Options: r.Options})
	if err != nil {
		return p, err
	}
	if p.Will, err = rs.rollSentences(ctx, rows); err != nil {
		return p, err
	}
	for _, l := range left {
		p.Will = append(p.Will, fmt.Sprintf("Pool %s is not rolled over: %s.", l.Pool, l.Why))
	}
	p.Will = append(p.Will, optionsSentence(r.Options, r.Given, "a rollover"))
	return p, nil
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
		Options: r.Options, FloorGiven: slices.Contains(r.Given, "floor"),
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
	if err != nil {
		return p, err
	}
	p.Will = append(p.Will, sentences...)
	for _, o := range result.Open {
		p.Will = append(p.Will, fmt.Sprintf("Rollover %d already takes the hosts back, and keeps its own options "+
			"(log-off %s).", o.ID, o.Options.V.LogOff))
	}
	switch {
	case len(result.Rollovers) > 0:
		p.Will = append(p.Will, optionsSentence(r.Options, r.Given, "a rollback"))
	case r.TrackOnly:
		p.Will = append(p.Will, "No rollover is started: hosts keep their disks.")
	case len(result.Open) == 0:
		p.Will = append(p.Will, "No host has to change.")
	}
	return p, nil
}

// optionsSentence says which options apply, and where they come from.
func optionsSentence(o rollover.Options, given []string, act string) string {
	list := []string{
		"batch " + o.Batch.String(), "floor " + o.Floor.String(), "log-off " + string(o.LogOff),
		"grace " + clearance.Span(o.Grace), "last notice " + clearance.Span(o.LastNotice),
		fmt.Sprintf("failure budget %d", o.Budget),
	}
	if o.Deadline > 0 {
		list = append(list, "deadline "+clearance.Span(o.Deadline))
	}
	if o.Observe > 0 {
		list = append(list, "observe "+clearance.Span(o.Observe))
	}
	if o.Stagger > 0 {
		list = append(list, fmt.Sprintf("stagger %d", o.Stagger))
	}
	if !o.EarliestStart.IsZero() {
		list = append(list, "earliest start "+o.EarliestStart.Format(time.RFC3339))
	}
	source := "the defaults of " + act
	if len(given) > 0 {
		source = "given: " + english.WordSeries(given, "and") + "; the others are " + source
	}
	return fmt.Sprintf("Options: %s (%s).", strings.Join(list, ", "), source)
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
		ids := make([]int64, len(r.Members))
		for i, m := range r.Members {
			ids[i] = m.HostID
		}
		people, err := store.PeopleOn(db, ids)
		if err != nil {
			return nil, err
		}
		plan := r.Plan.V
		will := fmt.Sprintf("Pool %s: %s taken to %s in batches of %d; %s stay free and in service.",
			pool.Name, english.Plural(len(ids), "host is", "hosts are"), v.Number, plan.BatchSize,
			english.Plural(plan.Floor, "seat", ""))
		on := english.PluralWord(len(ids), "that host", "those hosts")
		if people == 0 {
			out = append(out, will+" No session is open on "+on+" now.")
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
		out = append(out, fmt.Sprintf("%s %s signed in on %s now: %s.", will,
			english.Plural(people, "person is", "people are"), on, told))
	}
	return out, nil
}
