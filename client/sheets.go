package client

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"nimblepane/core/build"
	"nimblepane/core/sheet"
)

// Sheet is a build sheet that the service keeps, right or not.
type Sheet struct {
	Name      string    `json:"name"`
	Image     string    `json:"image" doc:"That it makes versions of, empty if that cannot be read"`
	Steps     int       `json:"steps"`
	Problems  int       `json:"problems" doc:"Places that are wrong: a build can be started when there are none"`
	Revision  int       `json:"revision"`
	ChangedBy string    `json:"changed_by"`
	ChangedAt time.Time `json:"changed_at"`

	Build        int64       `json:"build,omitempty" doc:"The last one that was started from it"`
	BuildState   build.State `json:"build_state,omitempty"`
	BuildVersion string      `json:"build_version,omitempty"`
}

// WholeSheet is a sheet with its text, and what is to be said of it.
type WholeSheet struct {
	Sheet
	Text  string            `json:"text"`
	Files map[string]string `json:"files" doc:"SHA-256 of what it names beside it, by path"`
	SheetChecked
}

// SheetChecked is what is to be said of a sheet.
type SheetChecked struct {
	Wrong   []SheetProblem   `json:"wrong" nullable:"false" doc:"All that is wrong with it"`
	Unset   []string         `json:"unset" nullable:"false" doc:"What is wrong with the values of its parameters"`
	Missing []string         `json:"missing" nullable:"false" doc:"What is wrong with the files that it names"`
	Explain []string         `json:"explain" nullable:"false" doc:"What a build of it does, in order; none while it is wrong"`
	Names   []SheetSource    `json:"names" nullable:"false" doc:"Files and folders that it names beside it"`
	Wants   []SheetParameter `json:"wants" nullable:"false" doc:"Its parameters"`
}

// SheetProblem is one thing that is wrong with a sheet, and where.
type SheetProblem struct {
	Line   int    `json:"line" doc:"From 1"`
	Column int    `json:"column" doc:"From 1"`
	Text   string `json:"text"`
}

// SheetSource is a file or folder that a sheet names.
type SheetSource struct {
	Path   string `json:"path"`
	Folder bool   `json:"folder"`
}

// SheetParameter is a parameter of a sheet.
type SheetParameter struct {
	Name    string     `json:"name"`
	Type    sheet.Type `json:"type"`
	About   string     `json:"about,omitempty"`
	Value   string     `json:"value" doc:"That it has if nobody gives it another"`
	Given   bool       `json:"given" doc:"It has one"`
	Allowed []string   `json:"allowed,omitempty"`
}

// SheetText is a sheet that is saved or checked.
type SheetText struct {
	Text   string            `json:"text"`
	Files  map[string]string `json:"files,omitempty" doc:"SHA-256 of what it names beside it, by path; sent before, see /sheet-files"`
	Values map[string]string `json:"values,omitempty" doc:"Of its parameters, for a check"`
}

// BuildSheet asks for a build of a kept sheet.
type BuildSheet struct {
	Values      map[string]string `json:"values,omitempty" doc:"Of its parameters, by name"`
	HoldSeconds int64             `json:"hold_seconds,omitempty" minimum:"0" maximum:"604800" doc:"For how long its machine is held if it fails"`
}

// Sheets returns the sheets that the service keeps, by name.
func (c *Client) Sheets(ctx context.Context) ([]Sheet, error) {
	return all[Sheet](ctx, c, "/sheets", nil)
}

// Sheet returns a sheet.
func (c *Client) Sheet(ctx context.Context, name string) (WholeSheet, error) {
	return get[WholeSheet](ctx, c, pathOf("sheets", name), nil)
}

// SaveSheet keeps a sheet under a name if it still has the revision that was seen, 0 for one that there is not yet.
func (c *Client) SaveSheet(ctx context.Context, name string, revision int, in SheetText) (WholeSheet, error) {
	return answer[WholeSheet](ctx, c, request{
		method: http.MethodPut, path: pathOf("sheets", name), body: in, ifMatch: `"` + strconv.Itoa(revision) + `"`,
	})
}

// DeleteSheet forgets a sheet if it still has the revision that was seen.
func (c *Client) DeleteSheet(ctx context.Context, name string, revision int) error {
	_, err := c.raw(ctx, request{
		method: http.MethodDelete, path: pathOf("sheets", name), ifMatch: `"` + strconv.Itoa(revision) + `"`,
	}, "application/json")
	return err
}

// CheckSheet says what is to be said of a sheet. Nothing is kept.
func (c *Client) CheckSheet(ctx context.Context, in SheetText) (SheetChecked, error) {
	return post[SheetChecked](ctx, c, "/sheets/check", in)
}

// BuildSheet begins a build of a kept sheet.
func (c *Client) BuildSheet(ctx context.Context, name string, in BuildSheet) (WholeBuild, error) {
	return post[WholeBuild](ctx, c, pathOf("sheets", name, "builds"), in)
}
