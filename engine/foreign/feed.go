package foreign

import (
	"context"
	"encoding/json"
	"io"
	"os"
	"strings"
	"time"

	"nimblepane/core/feed"
	"nimblepane/sandbox"
)

const taskFeed = "feed-file"

// FeedFile is the content of one file of a release feed.
type FeedFile struct {
	Named  []feed.Named `json:"named,omitempty"`  // of an index: the files of products
	Offers []feed.Offer `json:"offers,omitempty"` // of a file of products
	Left   []string     `json:"left,omitempty"`   // of a file of products: releases that are left out, and why

	ContentID string    `json:"content_id,omitempty"` // what the file says it is
	SignedAt  time.Time `json:"signed_at,omitzero"`   // of a signed file
}

// feedRequest says how a file is read.
type feedRequest struct {
	Key, Publisher string
	Index          bool // it can be an index
}

// ReadFeedFile reads a file of a release feed. With a key, the file has to be signed with it. Only the first file of a
// feed can be an index. The answer has most bytes at most.
func ReadFeedFile(ctx context.Context, file, key, publisher string, first bool, most int64) (FeedFile, int64, error) {
	return askUpTo[FeedFile](ctx, most, sandbox.Job{
		Task: taskFeed, Request: feedRequest{key, publisher, first}, Input: file,
		Limits: sandbox.Limits{Memory: 1 << 30, CPU: 30 * time.Second, Wall: 2 * time.Minute},
	})
}

func feedFile(request json.RawMessage, answer io.Writer) error {
	var r feedRequest
	if err := json.Unmarshal(request, &r); err != nil {
		return err
	}
	text, err := os.ReadFile(sandbox.InputPath)
	if err != nil {
		return err
	}
	var out FeedFile
	if r.Key != "" {
		if text, out.SignedAt, err = feed.Signed(text, r.Key); err != nil {
			return err
		}
	}
	out.ContentID = feed.ContentID(text)
	if r.Index && !feed.IsProducts(text) {
		out.Named, err = feed.Index(text)
	} else {
		out.Offers, out.Left, err = feed.Products(text, r.Publisher)
	}
	if err != nil {
		return err
	}
	const mostLeft = 1000 // more than anybody is shown
	for i := range out.Left {
		out.Left[i] = strings.ToValidUTF8(out.Left[i][:min(len(out.Left[i]), 1000)], "?")
	}
	out.Left = out.Left[:min(len(out.Left), mostLeft)]
	return json.NewEncoder(answer).Encode(out)
}
