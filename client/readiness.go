package client

import (
	"context"
	"time"
)

// Readiness says whether an image could be rolled back now.
type Readiness struct {
	To      string          `json:"to" doc:"The version that it would go back to, empty if there is none"`
	Ready   bool            `json:"ready"`
	Why     string          `json:"why,omitempty" doc:"Why the image as a whole could not be"`
	Says    string          `json:"says" doc:"All of it in a sentence"`
	Seconds int64           `json:"seconds" doc:"Until every host is back, the time that people take to leave apart; 0 if that cannot be said or no host has to change"`
	Unseen  []string        `json:"unseen" nullable:"false" doc:"Sites at which no host was ever seen to come back: it may take longer there"`
	Pools   []PoolReadiness `json:"pools" nullable:"false" doc:"Those that follow live"`
}

// PoolReadiness says how a pool would go back.
type PoolReadiness struct {
	Pool    string     `json:"pool"`
	Site    string     `json:"site"`
	Hosts   int        `json:"hosts" doc:"That would be taken back"`
	Ready   bool       `json:"ready"`
	Why     []string   `json:"why" nullable:"false" doc:"Why not"`
	But     []string   `json:"but" nullable:"false" doc:"What is worth knowing if it is"`
	Seconds int64      `json:"seconds" doc:"How long its hosts take"`
	Takes   string     `json:"takes,omitempty" doc:"The same in words, as it is an estimate"`
	People  string     `json:"people,omitempty" doc:"What becomes of who is signed in"`
	ReadAt  *time.Time `json:"read_at,omitempty" doc:"When the copies at its site were found intact, of which that is longest ago"`
}

// Readiness returns whether an image could be rolled back now.
func (c *Client) Readiness(ctx context.Context, image string) (Readiness, error) {
	return get[Readiness](ctx, c, pathOf("images", image, "readiness"), nil)
}
