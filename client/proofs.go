package client

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"nimblepane/core/proof"
)

// Proof is a machine that is made from a version, looked at, and thrown away.
type Proof struct {
	ID      int64       `json:"id"`
	Image   string      `json:"image"`
	Version string      `json:"version"`
	Site    string      `json:"site"`
	Build   int64       `json:"build,omitempty" doc:"That it belongs to, if to one"`
	Machine string      `json:"machine" doc:"What its machine is called"`
	State   proof.State `json:"state"`
	Settled bool        `json:"settled" doc:"Its machine is gone"`
	Why     string      `json:"why,omitempty" doc:"Why it ended as it did"`
	AskedBy string      `json:"asked_by"`
	AskedAt time.Time   `json:"asked_at"`
	Until   *time.Time  `json:"until,omitempty" doc:"Until when it is kept for a person; none if it proves the first start"`
	EndedAt *time.Time  `json:"ended_at,omitempty"`
	// FirstStart counts from the asking: an agent may speak before the platform reports that its machine is made.
	FirstStart float64 `json:"first_start_seconds,omitempty" doc:"From when its machine was asked for until its agent spoke"`
}

// WholeProof is a proof with what was tried.
type WholeProof struct {
	Proof
	Results []ProofResult `json:"results" nullable:"false"`
	Picture bool          `json:"picture" doc:"There is one of its display"`
	Runs    *Machine      `json:"runs,omitempty" doc:"The machine, while it is there and its platform can say"`
}

// ProofResult is what became of one thing that was tried.
type ProofResult struct {
	Name    string  `json:"name"`
	Kind    string  `json:"kind" enum:"application,proof"`
	Why     string  `json:"why,omitempty" doc:"Why it failed; none if it did not"`
	Seconds float64 `json:"seconds" doc:"That it took"`
	Output  string  `json:"output,omitempty" doc:"Last lines that it wrote"`
	Picture bool    `json:"picture" doc:"There is a picture of what it opened"`
}

// AtSite names a site.
type AtSite struct {
	Site string `json:"site" minLength:"1"`
}

// TryMachine asks for a machine of a version for a person.
type TryMachine struct {
	Site    string `json:"site" minLength:"1"`
	Seconds int64  `json:"seconds" minimum:"60" maximum:"604800" doc:"For how long it is kept"`
}

// LetGo says why a machine is not needed any more.
type LetGo struct {
	Reason string `json:"reason,omitempty" maxLength:"2000"`
}

// Proofs returns proofs, the newest first; of one version if image and number are given.
func (c *Client) Proofs(ctx context.Context, image, number string, limit int) ([]Proof, error) {
	p, err := get[Page[Proof]](ctx, c, "/proofs",
		values("image", image, "version", number, "limit", strconv.Itoa(limit)))
	return p.Items, err
}

func proofPath(id int64, act ...string) string {
	return pathOf(append([]string{"proofs", strconv.FormatInt(id, 10)}, act...)...)
}

// Proof returns the proof.
func (c *Client) Proof(ctx context.Context, id int64) (WholeProof, error) {
	return get[WholeProof](ctx, c, proofPath(id), nil)
}

// ProofPicture returns the picture of the machine's display, as PNG.
func (c *Client) ProofPicture(ctx context.Context, id int64) ([]byte, error) {
	return c.raw(ctx, request{method: http.MethodGet, path: proofPath(id, "picture.png")}, "image/png")
}

// Prove begins to prove the first start of a version at a site.
func (c *Client) Prove(ctx context.Context, image, number, site string) (WholeProof, error) {
	return post[WholeProof](ctx, c, pathOf("images", image, "versions", number, "prove"), AtSite{site})
}

// TryVersion begins to make a machine of a version for a person.
func (c *Client) TryVersion(ctx context.Context, image, number string, in TryMachine) (WholeProof, error) {
	return post[WholeProof](ctx, c, pathOf("images", image, "versions", number, "try"), in)
}

// LetGoOfProof ends a proof, and throws its machine away.
func (c *Client) LetGoOfProof(ctx context.Context, id int64, reason string) (WholeProof, error) {
	return post[WholeProof](ctx, c, proofPath(id, "let-go"), LetGo{reason})
}
