package client

import (
	"context"
	"strconv"
	"time"

	"nimblepane/core/host"
	"nimblepane/core/rollover"
)

// Options of a rollover. Times are written as 15m, 2h, 90s; amounts as 5 or 20%. What is left out is
// taken from the defaults.
type Options struct {
	Batch         string          `json:"batch,omitempty" doc:"Hosts of a batch: 5, or 10% of the pool"`
	Floor         string          `json:"floor,omitempty" doc:"Seats that stay free and in service: 20, or 10% of the pool"`
	LogOff        rollover.LogOff `json:"log_off,omitempty" doc:"wait for people to leave, or warn them and end the session after the grace period"`
	Grace         string          `json:"grace,omitempty" doc:"From the delivered warning to the sign-off"`
	LastNotice    string          `json:"last_notice,omitempty" doc:"How long before the end the last notice is given"`
	FirstText     string          `json:"first_text,omitempty" doc:"What people are told first; {minutes} stands for the grace period" maxLength:"1000"`
	LastText      string          `json:"last_text,omitempty" doc:"What people are told last; {minutes} stands for what is left" maxLength:"1000"`
	Deadline      string          `json:"deadline,omitempty" doc:"How long a host may drain under wait before warn applies"`
	Stagger       int             `json:"stagger,omitempty" doc:"Hosts started per minute at most; 0 for the site's own limit"`
	Observe       string          `json:"observe,omitempty" doc:"How long the last batch is observed before the next one is taken"`
	FailureBudget *int            `json:"failure_budget,omitempty" doc:"Hosts that may fail before the rollover pauses"`
	EarliestStart *time.Time      `json:"earliest_start,omitempty"`
}

// StartRollovers asks for a rollover of each pool.
type StartRollovers struct {
	Pools   []string `json:"pools" minItems:"1" maxItems:"100"`
	Options Options  `json:"options,omitempty"`
	Reason  string   `json:"reason,omitempty" maxLength:"2000"`
}

// StartedRollovers are the rollovers that were started, and the pools for which none was.
type StartedRollovers struct {
	Items []Rollover `json:"items" nullable:"false"`
	Left  []LeftPool `json:"left" nullable:"false" doc:"Pools whose state does not allow a rollover"`
}

// LeftPool is a pool for which no rollover was started.
type LeftPool struct {
	Pool string `json:"pool"`
	Why  string `json:"why"`
}

// Rollover is one rollover of a pool.
type Rollover struct {
	ID         int64                  `json:"id"`
	Pool       string                 `json:"pool"`
	Image      string                 `json:"image"`
	Version    string                 `json:"version" doc:"Version that the hosts are taken to"`
	State      rollover.State         `json:"state"`
	Settled    bool                   `json:"settled" doc:"Nothing of it is in flight any more"`
	Options    Options                `json:"options"`
	BatchSize  int                    `json:"batch_size" doc:"Hosts"`
	FloorSeats int                    `json:"floor_seats"`
	Reverses   int64                  `json:"reverses" doc:"The rollover that it reverses, 0 if none"`
	Reason     string                 `json:"reason"`
	CreatedBy  string                 `json:"created_by"`
	CreatedAt  time.Time              `json:"created_at"`
	StartedAt  *time.Time             `json:"started_at,omitempty"`
	EndedAt    *time.Time             `json:"ended_at,omitempty"`
	PausedWhy  string                 `json:"paused_why"`
	StoppedWhy string                 `json:"stopped_why" doc:"The reason that was given for stopping it"`
	Holds      []string               `json:"holds" nullable:"false" doc:"What it waits for now"`
	Total      int                    `json:"total" doc:"Hosts"`
	Phases     map[rollover.Phase]int `json:"phases" nullable:"false" doc:"Hosts by phase"`
	Batch      int                    `json:"batch" doc:"The newest batch, 0 before the first"`
}

// RolloverHost is a host within a rollover.
type RolloverHost struct {
	Host     string         `json:"host"`
	State    host.State     `json:"state" doc:"State of the host"`
	Phase    rollover.Phase `json:"phase"`
	Since    time.Time      `json:"since"`
	Batch    int            `json:"batch" doc:"0 while queued"`
	Why      string         `json:"why"`
	From     string         `json:"from" doc:"Version that it ran before"`
	Version  string         `json:"version" doc:"Version that it runs now"`
	Sessions int            `json:"sessions"`
	Progress int            `json:"progress" doc:"Of its new disk, in per cent"`
}

// StartRollovers starts a rollover of each pool whose state allows it, and returns the other pools with the reasons.
func (c *Client) StartRollovers(ctx context.Context, in StartRollovers) ([]Rollover, []LeftPool, error) {
	s, err := post[StartedRollovers](ctx, c, "/rollovers", in)
	return s.Items, s.Left, err
}

// Rollovers returns up to limit of them, newest first.
func (c *Client) Rollovers(ctx context.Context, pool string, state rollover.State, open bool, limit int) ([]Rollover,
	error,
) {
	p, err := get[Page[Rollover]](ctx, c, "/rollovers",
		values("pool", pool, "state", string(state), "open", flag(open), "limit", strconv.Itoa(limit)))
	return p.Items, err
}

func (c *Client) Rollover(ctx context.Context, id int64) (Rollover, error) {
	return get[Rollover](ctx, c, rolloverPath(id), nil)
}

func (c *Client) RolloverHosts(ctx context.Context, id int64) ([]RolloverHost, error) {
	return all[RolloverHost](ctx, c, rolloverPath(id)+"/hosts", nil)
}

func rolloverPath(id int64) string { return pathOf("rollovers", strconv.FormatInt(id, 10)) }

// ChangeRollover pauses, resumes, stops or reverses a rollover: act is the verb.
// Reversing returns the new rollover.
func (c *Client) ChangeRollover(ctx context.Context, id int64, act, reason string) (Rollover, error) {
	return post[Rollover](ctx, c, rolloverPath(id)+pathOf(act), Reason{reason})
}

// RebuildHost asks for a new disk for a host.
type RebuildHost struct {
	Reason     string `json:"reason,omitempty" maxLength:"2000"`
	VouchEmpty bool   `json:"vouch_empty,omitempty" doc:"You have made sure that nobody is on it"`
}

func (c *Client) RebuildHost(ctx context.Context, host string, in RebuildHost) (Rollover, error) {
	return post[Rollover](ctx, c, pathOf("hosts", host, "rebuild"), in)
}

// Rollback says how an image goes back.
type Rollback struct {
	Leaves     string  `json:"leaves" minLength:"1" maxLength:"40" doc:"The version to roll back from. If live was rolled back from it already, nothing is done; if live names another version for another reason, the request is refused"`
	To         string  `json:"to,omitempty" doc:"The fallback if left out"`
	Reason     string  `json:"reason" minLength:"1" maxLength:"2000"`
	KeepUsable bool    `json:"keep_usable,omitempty" doc:"Do not bar the version that is rolled back"`
	TrackOnly  bool    `json:"track_only,omitempty" doc:"Start no rollover"`
	Options    Options `json:"options,omitempty" doc:"Options of the rollovers; the defaults are urgent: GET /rollovers/defaults?act=rollback"`
}

// RolledBack is what a rollback set going.
type RolledBack struct {
	From      string   `json:"from"`
	To        string   `json:"to"`
	Already   bool     `json:"already" doc:"The rollback was done before; nothing was done now"`
	Tracks    []string `json:"tracks" nullable:"false"`
	Rollovers []int64  `json:"rollovers" nullable:"false"`
}

func (c *Client) Rollback(ctx context.Context, image string, in Rollback) (RolledBack, error) {
	return post[RolledBack](ctx, c, pathOf("images", image, "rollback"), in)
}
