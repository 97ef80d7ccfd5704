package client

import (
	"context"
	"strconv"
	"time"

	"nimblepane/core/estate"
	"nimblepane/platform"
)

// DeliveryState is how a delivery stands.
type DeliveryState string

// States of a delivery.
const (
	DeliveryWaiting  DeliveryState = "waiting"
	DeliveryUnderWay DeliveryState = "under way"
	DeliveryArrived  DeliveryState = "arrived"
	DeliveryFailed   DeliveryState = "failed"
)

// DeliveryStates are all of them.
func DeliveryStates() []DeliveryState {
	return []DeliveryState{DeliveryWaiting, DeliveryUnderWay, DeliveryArrived, DeliveryFailed}
}

// Delivery is the delivery of a copy of a version, or of a base's disk, to a site.
type Delivery struct {
	Key     string        `json:"key"`
	Image   string        `json:"image,omitempty"`
	Number  string        `json:"number,omitempty"`
	Ordinal int           `json:"ordinal,omitempty" doc:"Which of the site's copies"`
	Base    string        `json:"base,omitempty" doc:"Instead of a version"`
	Site    string        `json:"site"`
	Line    string        `json:"line,omitempty" doc:"That leads to the site"`
	State   DeliveryState `json:"state"`
	Why     string        `json:"why,omitempty" doc:"What it waits for, or why it failed"`
	Percent int           `json:"percent"`
	Before  int           `json:"before,omitempty" doc:"How many go before it over its line"`
	Transfer
}

// Transfer is how a delivery by blocks goes, or went.
type Transfer struct {
	Stage    platform.Stage `json:"stage,omitempty" doc:"What it does just now, or did last; none of a disk that goes as a whole"`
	Whole    int64          `json:"whole_bytes"`
	There    int64          `json:"there_bytes" doc:"Found at the site, in its other copies"`
	Shared   int64          `json:"shared_bytes" doc:"Of these, kept once by the storage for several copies"`
	Lacking  int64          `json:"lacking_bytes" doc:"That have to be sent"`
	Sent     int64          `json:"sent_bytes" doc:"Of these, arrived"`
	OverLine int64          `json:"line_bytes" doc:"Gone over the line for them, packed"`
	Rate     int64          `json:"rate" doc:"Bytes a second over the line, of late"`
	Left     int64          `json:"left_seconds,omitempty" doc:"Until all is sent; left out if that cannot be said"`
	AskedAt  time.Time      `json:"asked_at"`
	EndedAt  *time.Time     `json:"ended_at,omitempty"`
}

// Deliveries says which are meant; what is left out says nothing.
type Deliveries struct {
	Site, Image string
	Ended       bool // those that have ended, too
	Limit       int  // 200 if 0
}

// Deliveries returns deliveries, those that were asked for last first.
func (c *Client) Deliveries(ctx context.Context, d Deliveries) ([]Delivery, error) {
	limit := ""
	if d.Limit > 0 {
		limit = strconv.Itoa(d.Limit)
	}
	p, err := get[Page[Delivery]](ctx, c, "/deliveries", values("site", d.Site, "image", d.Image, "ended",
		strconv.FormatBool(d.Ended), "limit", limit))
	return p.Items, err
}

// Line leads to sites, and is what deliveries share.
type Line struct {
	estate.Line
	Now      int64    `json:"rate_now" doc:"Bytes a second that may go over it at this hour; 0: as much as goes"`
	Sites    []string `json:"sites" nullable:"false"`
	UnderWay int      `json:"under_way"`
	Waiting  int      `json:"waiting"`
}

// Lines returns all lines, with what goes over them.
func (c *Client) Lines(ctx context.Context) ([]Line, error) {
	p, err := get[Page[Line]](ctx, c, "/lines", nil)
	return p.Items, err
}
