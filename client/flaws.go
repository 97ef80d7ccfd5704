package client

import (
	"context"
	"net/http"
	"time"

	"nimblepane/core/flaw"
)

// FlawList is a list of known flaws that was loaded.
type FlawList struct {
	Name     string    `json:"name"`
	Records  int       `json:"records"`
	Digest   string    `json:"digest" doc:"Of what was loaded"`
	LoadedAt time.Time `json:"loaded_at"`
	LoadedBy string    `json:"loaded_by"`
}

// VersionFlaws are the known flaws of what is in a version.
type VersionFlaws struct {
	Image   string       `json:"image"`
	Number  string       `json:"number"`
	Unknown string       `json:"unknown,omitempty" doc:"Why it is not known which it has"`
	Serious int          `json:"serious" doc:"How many of them must not wait: high or critical"`
	Items   []flaw.Found `json:"items" nullable:"false" doc:"The worst first"`
	// NotChecked is the software that no list covers.
	NotChecked []flaw.Gap `json:"not_checked" nullable:"false" doc:"Software that no list covers, by its ecosystem"`
}

// AcceptUnchecked accepts that software of an ecosystem is not checked, or withdraws that.
type AcceptUnchecked struct {
	Ecosystem string `json:"ecosystem" minLength:"1" maxLength:"200" doc:"As not_checked of a version names it"`
	Reason    string `json:"reason,omitempty" maxLength:"2000"`
	Withdraw  bool   `json:"withdraw,omitempty"`
}

// AcceptUnchecked accepts for an image that software of an ecosystem is not checked for known vulnerabilities.
func (c *Client) AcceptUnchecked(ctx context.Context, image string, in AcceptUnchecked) error {
	_, err := post[struct{}](ctx, c, pathOf("images", image, "accept-unchecked"), in)
	return err
}

// FlawLists returns the lists of known flaws that were loaded.
func (c *Client) FlawLists(ctx context.Context) ([]FlawList, error) {
	p, err := get[Page[FlawList]](ctx, c, "/flaw-lists", nil)
	return p.Items, err
}

// LoadFlaws loads a list of known flaws in the OSV format, a zip or one file, in place of the one that has the name.
func (c *Client) LoadFlaws(ctx context.Context, name string, list []byte) (FlawList, error) {
	return answer[FlawList](ctx, c, request{
		method: http.MethodPut, path: pathOf("flaw-lists", name), body: list, contentType: "application/octet-stream",
	})
}

// DeleteFlaws forgets a list.
func (c *Client) DeleteFlaws(ctx context.Context, name string) error {
	_, err := answer[struct{}](ctx, c, request{method: http.MethodDelete, path: pathOf("flaw-lists", name)})
	return err
}

// VersionFlaws returns the known flaws of what is in a version.
func (c *Client) VersionFlaws(ctx context.Context, image, number string) (VersionFlaws, error) {
	return get[VersionFlaws](ctx, c, pathOf("images", image, "versions", number, "flaws"), nil)
}
