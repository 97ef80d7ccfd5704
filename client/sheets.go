package client

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"nimblepane/core/build"
	"nimblepane/core/secret"
	"nimblepane/core/sheet"
)

// Sheet is a build sheet that the service keeps, right or not.
type Sheet struct {
	Name      string    `json:"name"`
	Image     string    `json:"image" doc:"That it makes versions of, empty if that cannot be read"`
	Steps     int       `json:"steps"`
	Problems  int       `json:"problems" doc:"Places that are wrong: a build can be started when there are none"`
	Revision  int       `json:"revision"`
	ChangedBy string    `json:"changed_by" doc:"An account, or the commit of its repository, as in commit 0a1b2c3d4e5f"`
	ChangedAt time.Time `json:"changed_at"`

	Build        int64       `json:"build,omitempty" doc:"The last one that was started from it"`
	BuildState   build.State `json:"build_state,omitempty"`
	BuildVersion string      `json:"build_version,omitempty"`

	Commit     string      `json:"commit,omitempty" doc:"That it was taken from"`
	Repository *Repository `json:"repository,omitempty" doc:"That it follows, if it does"`
}

// Repository is where a sheet is that lives in a git repository, and what was seen there.
type Repository struct {
	Address   string     `json:"address"`
	Branch    string     `json:"branch,omitempty"`
	Tag       string     `json:"tag,omitempty"`
	Commit    string     `json:"commit,omitempty" doc:"That is followed, instead of a branch or a tag"`
	Folder    string     `json:"folder,omitempty"`
	File      string     `json:"file"`
	Shows     string     `json:"shows,omitempty" doc:"What kind of credential the service shows: password or key"`
	Announced bool       `json:"announced" doc:"Announcements are taken that are signed with a secret"`
	Every     int64      `json:"every_seconds" doc:"It is looked at again after so long"`
	Tip       string     `json:"tip,omitempty" doc:"The commit that was seen last"`
	LookedAt  *time.Time `json:"looked_at,omitempty" doc:"When it was looked at last"`
	SeenAt    *time.Time `json:"seen_at,omitempty" doc:"When that went well last"`
	Why       string     `json:"why,omitempty" doc:"Why the sheet could not be taken from there last"`
	Gone      bool       `json:"gone,omitempty" doc:"What is there is no such sheet any more: it is not built"`
	AddedBy   string     `json:"added_by"`
}

// NewRepository says where a sheet is. At most one of branch, tag and commit is given; the repository's own default
// branch is meant if none is.
type NewRepository struct {
	Address    string         `json:"address" maxLength:"2000" doc:"https://HOST/PATH, ssh://USER@HOST/PATH or file:///PATH"`
	Branch     string         `json:"branch,omitempty" maxLength:"200"`
	Tag        string         `json:"tag,omitempty" maxLength:"200"`
	Commit     string         `json:"commit,omitempty" doc:"All 40 hexadecimal digits"`
	Folder     string         `json:"folder,omitempty" maxLength:"500" doc:"That the sheet is in, with what it names beside it"`
	File       string         `json:"file" maxLength:"200" doc:"Of the sheet, in the folder"`
	User       string         `json:"user,omitempty" maxLength:"200"`
	Password   *secret.Source `json:"password,omitempty" doc:"Where the service finds a password or token, for HTTPS"`
	Key        *secret.Source `json:"key,omitempty" doc:"Where it finds a private key, for SSH"`
	KnownHosts *secret.Source `json:"known_hosts,omitempty" doc:"Where it finds the known hosts, for SSH"`
	Announced  *secret.Source `json:"announced,omitempty" doc:"Where it finds what announcements are signed with"`
	Every      int64          `json:"every_seconds,omitempty" minimum:"0" doc:"60 to 604800; five minutes if left out"`
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

// FollowRepository has a kept sheet follow one in a git repository.
func (c *Client) FollowRepository(ctx context.Context, name string, in NewRepository) (WholeSheet, error) {
	return answer[WholeSheet](ctx, c, request{
		method: http.MethodPut, path: pathOf("sheets", name) + "/repository", body: in,
	})
}

// UnfollowRepository has a kept sheet be one of its own, as it was seen last.
func (c *Client) UnfollowRepository(ctx context.Context, name string) error {
	_, err := answer[struct{}](ctx, c, request{
		method: http.MethodDelete, path: pathOf("sheets", name) + "/repository",
	})
	return err
}

// LookAtRepository has the repository of a kept sheet looked at now.
func (c *Client) LookAtRepository(ctx context.Context, name string) error {
	_, err := answer[struct{}](ctx, c, request{method: http.MethodPost, path: pathOf("sheets", name) + "/look"})
	return err
}
