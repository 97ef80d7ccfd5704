package engine

import (
	"context"
	"errors"
	"maps"

	"github.com/dustin/go-humanize/english"

	"nimblepane/core/act"
	"nimblepane/core/problem"
	"nimblepane/core/rollover"
)

// PreviewRequest names an act and what it is done to. Fields that the act has no use for are left out.
type PreviewRequest struct {
	Act     act.Name
	Image   string
	Number  string // the version; for a rollback the one to go back to, "" for the fallback
	Pools   []string
	Options rollover.Options
	Given   []string // names of the options that the person gave; the others have their defaults

	LetGo, Overrule, Redirect, KeepUsable, TrackOnly bool
	// Approved says that the person may put versions before production.
	Approved bool
}

// Preview says what an act would do.
type Preview struct {
	Will    []string         // sentences
	Leaves  string           // the version that the track names, which the act is to name
	Refused *problem.Problem // why it would be refused as things stand; nil if it would be done
}

// Previewer does an act in a dry run and describes its result in sentences.
type Previewer func(ctx context.Context, actor string, r PreviewRequest) (Preview, error)

// PreviewReason stands for the reason that is asked for when an act is done.
const PreviewReason = "a reason that is asked for when it is done"

// Preview does an act in a dry run, so that it describes the result of the act itself.
func (e *Engine) Preview(ctx context.Context, actor string, r PreviewRequest) (p Preview, err error) {
	known := map[act.Name]Previewer{}
	for _, s := range e.subjects {
		maps.Copy(known, s.Previews)
	}
	preview, ok := known[r.Act]
	if !ok {
		var names []string
		for _, a := range act.Names() {
			if known[a] != nil {
				names = append(names, string(a))
			}
		}
		return p, problem.InvalidRequest.Errorf("act %q has no preview: use %s", r.Act, english.WordSeries(names, "or"))
	}
	p, err = preview(WithDryRun(ctx), actor, r)
	var refused *problem.Problem
	if errors.As(err, &refused) {
		p.Refused, err = refused, nil
	}
	return p, err
}
