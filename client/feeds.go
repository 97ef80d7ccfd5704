package client

import (
	"context"
	"net/http"
	"time"

	"nimblepane/core/base"
	"nimblepane/core/feed"
)

// Feed is a list of a vendor's releases, in the simplestreams format.
type Feed struct {
	Name      string     `json:"name"`
	Address   string     `json:"address"`
	Publisher string     `json:"publisher,omitempty" doc:"Of releases that do not say theirs"`
	Signed    bool       `json:"signed" doc:"It has to be signed by the key that was given"`
	SignedAt  *time.Time `json:"signed_at,omitempty" doc:"When the oldest of its files was signed, for a signed feed that was read"`
	Every     int64      `json:"every_seconds" doc:"It is read again after so long"`
	Releases  int        `json:"releases" doc:"That stand in it"`
	LookedAt  *time.Time `json:"looked_at,omitempty" doc:"When it was read last"`
	SeenAt    *time.Time `json:"seen_at,omitempty" doc:"When that went well last"`
	Why       string     `json:"why,omitempty" doc:"Why it could not be read last"`
	LeftOut   []string   `json:"left_out,omitempty" doc:"What of it could not be taken, and why"`
	AddedBy   string     `json:"added_by"`
}

// NewFeed asks for a feed to be read.
type NewFeed struct {
	Name      string `json:"name"`
	Address   string `json:"address" maxLength:"2000" doc:"Of the vendor's mirror, its index or a file of products"`
	Publisher string `json:"publisher,omitempty" maxLength:"200" doc:"Of releases that do not say theirs"`
	Key       string `json:"key,omitempty" maxLength:"100000" doc:"OpenPGP public key that it has to be signed by"`
	Every     int64  `json:"every_seconds,omitempty" minimum:"0" doc:"60 to 604800; an hour if left out"`
}

// Offer is a release that stands in a feed.
type Offer struct {
	Feed         string       `json:"feed"`
	Product      string       `json:"product" doc:"The feed's own name of what it is of"`
	Serial       string       `json:"serial"`
	Labels       base.Labels  `json:"labels"`
	Codename     string       `json:"codename,omitempty"`
	Architecture string       `json:"architecture,omitempty"`
	Supported    string       `json:"supported,omitempty" doc:"Until when, as the feed says it"`
	Address      string       `json:"address" doc:"Of its disk"`
	Kind         string       `json:"kind,omitempty" doc:"Of file that the feed says the disk is"`
	Size         int64        `json:"size" doc:"Of the file, in bytes; 0 if that is not said"`
	SHA256       string       `json:"sha256"`
	With         []feed.Extra `json:"with" nullable:"false" doc:"What else comes with it"`
	Base         string       `json:"base,omitempty" doc:"The base that it is here, if it was brought in"`
}

// Feeds lists the feeds.
func (c *Client) Feeds(ctx context.Context) ([]Feed, error) {
	p, err := get[Page[Feed]](ctx, c, "/feeds", nil)
	return p.Items, err
}

// Feed returns a feed.
func (c *Client) Feed(ctx context.Context, name string) (Feed, error) {
	return get[Feed](ctx, c, pathOf("feeds", name), nil)
}

// AddFeed has a feed read from now on.
func (c *Client) AddFeed(ctx context.Context, in NewFeed) (Feed, error) {
	return answer[Feed](ctx, c, request{method: http.MethodPost, path: "/feeds", body: in})
}

// ReadFeed has a feed read now.
func (c *Client) ReadFeed(ctx context.Context, name string) (Feed, error) {
	return answer[Feed](ctx, c, request{method: http.MethodPost, path: pathOf("feeds", name) + "/read"})
}

// DeleteFeed forgets a feed.
func (c *Client) DeleteFeed(ctx context.Context, name string) error {
	_, err := answer[struct{}](ctx, c, request{method: http.MethodDelete, path: pathOf("feeds", name)})
	return err
}

// MostReleases is how many are listed at most: a feed may have very many.
const MostReleases = 500

// Releases finds releases in a feed, or in all if its name is "": those that are wanted, the newest of each product
// first, and at most MostReleases of them.
func (c *Client) Releases(ctx context.Context, name string, w feed.Want) ([]Offer, error) {
	p, err := get[Page[Offer]](ctx, c, "/releases", values("feed", name, "publisher", w.Publisher, "product", w.Product,
		"edition", w.Edition, "release", w.Release, "serial", w.Serial, "text", w.Text))
	return p.Items, err
}
