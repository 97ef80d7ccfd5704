package client

import (
	"context"
	"net/http"
	"time"

	"nimblepane/core/provenance"
)

// Provenance is how a version was made, as the service signed it, and whether that can be trusted.
type Provenance struct {
	Image   string             `json:"image"`
	Number  string             `json:"number"`
	Wrong   []string           `json:"wrong" nullable:"false" doc:"Why it is not to be trusted; empty if it is"`
	KeyID   string             `json:"key_id" doc:"SHA-256 of the key that has signed it"`
	Digest  string             `json:"digest" doc:"Of the disk that it was sealed with, such as sha256:..."`
	BySheet bool               `json:"by_sheet" doc:"A build made it; else it was captured by hand"`
	Manual  bool               `json:"manual_work" doc:"The build was continued after a failure, or a person worked on its machine"`
	Builder string             `json:"builder" doc:"Address of the service that made it"`
	Run     string             `json:"run" doc:"The build, as the service calls it"`
	Began   time.Time          `json:"began"`
	Ended   time.Time          `json:"ended"`
	From    []provenance.Thing `json:"from" nullable:"false" doc:"What went into it: its base, files, what was fetched"`
	Brought []provenance.Thing `json:"brought" nullable:"false" doc:"What came of it beside the disk"`
	Told    map[string]any     `json:"told" doc:"What whoever began it said: sheet, commit, parameters"`
	Did     map[string]any     `json:"did" doc:"Steps and their results, manual work, seal checks and their waivers, sealing"`
}

// Provenance returns how a version was made, once the service has verified that.
func (c *Client) Provenance(ctx context.Context, image, number string) (Provenance, error) {
	return get[Provenance](ctx, c, pathOf("images", image, "versions", number, "provenance"), nil)
}

// ProvenanceDocument returns it as it was signed: an in-toto statement in a DSSE envelope.
func (c *Client) ProvenanceDocument(ctx context.Context, image, number string) ([]byte, error) {
	return c.raw(ctx, request{
		method: http.MethodGet, path: pathOf("images", image, "versions", number, "provenance", "document"),
	}, "application/vnd.dsse+json")
}

// SigningKeys returns the public keys that the service signs with, or did, in PEM form.
func (c *Client) SigningKeys(ctx context.Context) ([]byte, error) {
	return c.raw(ctx, request{method: http.MethodGet, path: "/signing-keys"}, "application/x-pem-file")
}
