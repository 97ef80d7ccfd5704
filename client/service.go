package client

import (
	"context"
	"time"

	"nimblepane/core/act"
	"nimblepane/core/matter"
)

// Status says what service this is and what time it is there.
type Status struct {
	Version  string    `json:"version" doc:"Version of the service"`
	Practice bool      `json:"practice" doc:"The clock is not the real one"`
	Now      time.Time `json:"now" doc:"What the service's clock shows"`
	Rate     float64   `json:"rate" doc:"Seconds of the service's time in a real second"`
}

func (c *Client) Status(ctx context.Context) (Status, error) {
	return get[Status](ctx, c, "/status", nil)
}

// Matter is one thing that waits for a person.
type Matter struct {
	Kind    matter.Kind `json:"kind"`
	Urgent  bool        `json:"urgent"`
	Title   string      `json:"title"`
	Detail  string      `json:"detail"`
	Link    string      `json:"link" doc:"Page of the console that it is about"`
	Command string      `json:"command" doc:"How to go on by the client"`
}

func (c *Client) Today(ctx context.Context) ([]Matter, error) {
	return all[Matter](ctx, c, "/today", nil)
}

// PreviewRequest names an act and what it is to be done to. What the act has no use for is left out.
type PreviewRequest struct {
	Act        act.Name `json:"act"`
	Image      string   `json:"image,omitempty" maxLength:"40" doc:"For stage, activate, rollback and retire"`
	Number     string   `json:"number,omitempty" maxLength:"40" doc:"The version; for rollback the one to go back to, the fallback if left out"`
	Pools      []string `json:"pools,omitempty" maxItems:"100" doc:"For roll, and the one pool for pin"`
	Options    Options  `json:"options,omitempty" doc:"For roll"`
	LetGo      bool     `json:"let_go,omitempty"`
	Overrule   bool     `json:"overrule,omitempty"`
	Redirect   bool     `json:"redirect_rollovers,omitempty" doc:"For activate"`
	KeepUsable bool     `json:"keep_usable,omitempty"`
	TrackOnly  bool     `json:"track_only,omitempty"`
}

// Preview says what an act would do as things stand.
type Preview struct {
	Will    []string `json:"will" nullable:"false" doc:"What it would do, in sentences"`
	Leaves  string   `json:"leaves" doc:"The version that the track names now: give it with the act, and the act is refused if it names another by then"`
	Refused string   `json:"refused" doc:"Why it would be refused, empty if it would be done"`
	Type    string   `json:"refused_type" doc:"Type of the problem, empty if it would be done"`
	Reasons []string `json:"reasons" nullable:"false" doc:"One by one, if there are several"`
}

// Preview asks what an act would do. Nothing is done.
func (c *Client) Preview(ctx context.Context, in PreviewRequest) (Preview, error) {
	return post[Preview](ctx, c, "/previews", in)
}
