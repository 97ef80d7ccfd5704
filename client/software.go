package client

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"nimblepane/core/compare"
	"nimblepane/core/software"
)

// SoftwareList is what is in a version, a page of it.
type SoftwareList struct {
	Image     string           `json:"image"`
	Number    string           `json:"number"`
	Entries   int              `json:"entries" doc:"All of them"`
	TakenAt   time.Time        `json:"taken_at" doc:"In the machine, before it was sealed"`
	TakenBy   string           `json:"taken_by" doc:"The program that did"`
	BroughtBy string           `json:"brought_by,omitempty" doc:"Whoever brought it later, if somebody did"`
	Counts    []SoftwareCount  `json:"counts" nullable:"false" doc:"Of what was searched for, by origin"`
	Items     []software.Entry `json:"items" nullable:"false"`
	Next      string           `json:"next" doc:"Cursor of the next page; empty on the last"`
}

// SoftwareCount is how many entries are of an origin.
type SoftwareCount struct {
	Origin software.Origin `json:"origin"`
	N      int             `json:"n"`
}

// SoftwareSearch says which of a version's software is meant.
type SoftwareSearch struct {
	Text   string // in names, versions, sources and summaries
	Origin software.Origin
	Cursor string
	Limit  int // 200 if 0
}

// Software returns what is in a version, a page of it.
func (c *Client) Software(ctx context.Context, image, number string, s SoftwareSearch) (SoftwareList, error) {
	limit := ""
	if s.Limit > 0 {
		limit = strconv.Itoa(s.Limit)
	}
	return get[SoftwareList](ctx, c, pathOf("images", image, "versions", number, "software"),
		values("search", s.Text, "origin", string(s.Origin), "cursor", s.Cursor, "limit", limit))
}

// AllSoftware returns what is in a version and meant.
func (c *Client) AllSoftware(ctx context.Context, image, number string, s SoftwareSearch) (SoftwareList, error) {
	s.Limit = 1000
	whole, err := c.Software(ctx, image, number, s)
	for next := whole.Next; err == nil && next != ""; {
		s.Cursor = next
		var more SoftwareList
		more, err = c.Software(ctx, image, number, s)
		whole.Items, next = append(whole.Items, more.Items...), more.Next
	}
	whole.Next = ""
	return whole, err
}

// Facts returns what is known of the system in a version beside its software.
func (c *Client) Facts(ctx context.Context, image, number string) (software.Facts, error) {
	return get[software.Facts](ctx, c, pathOf("images", image, "versions", number, "facts"), nil)
}

// Types of documents.
const (
	cycloneDX = "application/vnd.cyclonedx+json"
	markdown  = "text/markdown"
)

// SoftwareDocument returns the software list of a version as CycloneDX.
func (c *Client) SoftwareDocument(ctx context.Context, image, number string) ([]byte, error) {
	return c.raw(ctx, request{
		method: http.MethodGet, path: pathOf("images", image, "versions", number, "software", "document"),
	}, cycloneDX)
}

// BringSoftware gives a version that has no software list one that was made elsewhere.
func (c *Client) BringSoftware(ctx context.Context, image, number string, document []byte) (Version, error) {
	return answer[Version](ctx, c, request{
		method: http.MethodPut, path: pathOf("images", image, "versions", number, "software", "document"),
		body: document, contentType: cycloneDX,
	})
}

// SoftwareHolder is a version that has what was asked for, and who uses it.
type SoftwareHolder struct {
	Image     string           `json:"image"`
	Number    string           `json:"number"`
	Has       []software.Entry `json:"has" nullable:"false"`
	Unordered []string         `json:"unordered,omitempty" doc:"Why it is not known whether some of it is below what was asked for"`
	Tracks    []string         `json:"tracks" nullable:"false" doc:"That name it, and fallback"`
	Pinned    []string         `json:"pinned" nullable:"false" doc:"Pools that are pinned to it"`
	Pools     []HolderPool     `json:"pools" nullable:"false" doc:"Whose hosts run it"`
	Barred    bool             `json:"barred,omitempty"`
}

// HolderPool is a pool whose hosts run a version.
type HolderPool struct {
	Pool  string   `json:"pool"`
	Hosts []string `json:"hosts" nullable:"false"`
}

// SoftwareQuestion asks which versions have a piece of software.
type SoftwareQuestion struct {
	Name   string // of it or of its source, with * for any text
	Origin software.Origin
	Below  string // versions of it before this one
	All    bool   // also in versions that nothing uses
}

// WhoHas returns the versions that have a piece of software, with the pools and hosts that run them.
func (c *Client) WhoHas(ctx context.Context, q SoftwareQuestion) ([]SoftwareHolder, error) {
	p, err := get[Page[SoftwareHolder]](ctx, c, "/software",
		values("name", q.Name, "origin", string(q.Origin), "below", q.Below, "all", flag(q.All)))
	return p.Items, err
}

// Compare returns how a version differs from another, or from the one in use if from is "".
func (c *Client) Compare(ctx context.Context, image, from, to string) (compare.Comparison, error) {
	return get[compare.Comparison](ctx, c, pathOf("images", image, "versions", to, "comparison"), values("from", from))
}

// CompareMarkdown is Compare for a change ticket.
func (c *Client) CompareMarkdown(ctx context.Context, image, from, to string) ([]byte, error) {
	return c.raw(ctx, request{
		method: http.MethodGet, path: pathOf("images", image, "versions", to, "comparison", "document"),
		query: values("from", from),
	}, markdown)
}
