package client

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"
)

// TrailEntry is one entry of the audit trail.
type TrailEntry struct {
	Seq     int64           `json:"seq"`
	At      time.Time       `json:"at"`
	Actor   string          `json:"actor"`
	Verb    string          `json:"verb"`
	Subject string          `json:"subject"`
	Scope   string          `json:"scope"`
	Reason  string          `json:"reason"`
	Detail  json.RawMessage `json:"detail,omitempty"`
	Prev    string          `json:"prev"`
	Hash    string          `json:"hash"`
}

// TrailVerdict is what verifying the trail found.
type TrailVerdict struct {
	Entries int64        `json:"entries"`
	Last    string       `json:"last" doc:"Hash of the last entry: kept elsewhere, it also shows a trail that was cut off"`
	Breaks  []TrailBreak `json:"breaks" nullable:"false"`
	// Expected is 0 if no entry has the hash.
	Expected int64 `json:"expected" doc:"Number of the entry that has the hash that was expected; 0 if none has"`
}

// TrailBreak is a place where the chain does not fit.
type TrailBreak struct {
	Seq     int64  `json:"seq"`
	Why     string `json:"why"`
	Missing bool   `json:"missing" doc:"Entries before it are missing, and it is itself as it was written"`
}

// TrailQuery selects entries of the trail; empty fields select all.
type TrailQuery struct {
	Actor, Verb, Subject, Scope string
	From, To                    time.Time
}

func (q TrailQuery) values() url.Values {
	v := values("actor", q.Actor, "verb", q.Verb, "subject", q.Subject, "scope", q.Scope)
	for name, t := range map[string]time.Time{"from": q.From, "to": q.To} {
		if !t.IsZero() {
			v.Set(name, t.Format(time.RFC3339))
		}
	}
	return v
}

// Trail returns up to limit entries, newest first.
func (c *Client) Trail(ctx context.Context, q TrailQuery, limit int) ([]TrailEntry, error) {
	v := q.values()
	v.Set("limit", strconv.Itoa(limit))
	p, err := get[Page[TrailEntry]](ctx, c, "/trail", v)
	return p.Items, err
}

// VerifyTrail has the whole chain verified. Expected is the hash that an entry should have, "" for none.
func (c *Client) VerifyTrail(ctx context.Context, expected string) (TrailVerdict, error) {
	v := url.Values{}
	if expected != "" {
		v.Set("expect", expected)
	}
	return get[TrailVerdict](ctx, c, "/trail/verify", v)
}

// ExportTrail writes the selected entries as JSON Lines, oldest first.
func (c *Client) ExportTrail(ctx context.Context, q TrailQuery, to io.Writer) error {
	resp, err := c.send(ctx, request{method: http.MethodGet, path: "/trail/export", query: q.values()},
		"application/jsonl")
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, err = io.Copy(to, resp.Body)
	return err
}
