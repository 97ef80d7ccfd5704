package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"nimblepane/core/image"
	"nimblepane/core/sheet"
)

// Image is a golden image.
type Image struct {
	Name             string            `json:"name"`
	Title            string            `json:"title"`
	Numbering        image.Scheme      `json:"numbering"`
	MachineClass     string            `json:"machine_class"`
	Testers          int               `json:"testers"`
	Soak             string            `json:"soak" doc:"Such as 24h"`
	Copies           int               `json:"copies" doc:"Copies per site that clearance asks for"`
	CopyPlans        []CopyPlan        `json:"copy_plans" nullable:"false" doc:"How many copies of a version each of its sites gets"`
	Retention        string            `json:"retention" doc:"Which versions are kept, in words"`
	BuildLogs        string            `json:"build_logs" doc:"For how long they are kept, such as 9600h"`
	RollPilot        bool              `json:"roll_pilot" doc:"Pools that follow pilot are rolled over when a build has staged a version"`
	KeepApplications bool              `json:"keep_applications" doc:"Clearance: no application may be missing that the version in use has"`
	NoDowngrades     bool              `json:"no_downgrades" doc:"Clearance: no software may be older than in the version in use, unless that is passed over"`
	NoSeriousFlaws   bool              `json:"no_serious_flaws" doc:"Clearance: no serious known flaw may be there that the version in use does not have"`
	Independent      bool              `json:"independent" doc:"Clearance: the approval of a tester does not count for a version that the same person has made"`
	Accepted         map[string]string `json:"accepted_unchecked" nullable:"false" doc:"Why software is accepted that is not checked for known vulnerabilities, by its ecosystem"`
	Tracks           []Track           `json:"tracks" nullable:"false"`
	Fallback         string            `json:"fallback" doc:"What live would go back to, empty if there is nothing"`
	Versions         int               `json:"versions"`
	NextNumber       string            `json:"next_number"`
	Revision         int               `json:"revision"`
}

// CopyPlan is how many copies of a version a site gets.
type CopyPlan struct {
	Site   string `json:"site"`
	Copies int    `json:"copies"`
	Why    string `json:"why" doc:"In words: what was reckoned with, or that the estate file says so"`
}

// Track is a pointer at a version.
type Track struct {
	Name    string     `json:"name"`
	Version string     `json:"version" doc:"Empty if it names none"`
	Since   *time.Time `json:"since,omitempty"`
}

// TrackMove is one entry of a track's history.
type TrackMove struct {
	Track   string         `json:"track"`
	Kind    image.MoveKind `json:"kind"`
	Version string         `json:"version"`
	Actor   string         `json:"actor"`
	Reason  string         `json:"reason"`
	At      time.Time      `json:"at"`
}

func (c *Client) Images(ctx context.Context) ([]Image, error) {
	return all[Image](ctx, c, "/images", nil)
}

func (c *Client) Image(ctx context.Context, name string) (Image, error) {
	return get[Image](ctx, c, pathOf("images", name), nil)
}

func (c *Client) Moves(ctx context.Context, image string) ([]TrackMove, error) {
	return all[TrackMove](ctx, c, pathOf("images", image, "moves"), nil)
}

// Version is one sealed state of an image, or the attempt at one.
type Version struct {
	Image      string        `json:"image"`
	Number     string        `json:"number"`
	State      image.State   `json:"state"`
	Standing   []string      `json:"standing" nullable:"false" doc:"The tracks that name it, fallback, or shelved"`
	Progress   int           `json:"progress" doc:"Of the capture, in per cent"`
	Digest     string        `json:"digest"`
	SizeBytes  int64         `json:"size_bytes"`
	SizeBefore int64         `json:"size_before_bytes,omitempty" doc:"What its disk took before it was compacted"`
	Sealing    []string      `json:"sealing,omitempty" doc:"What was done to seal it"`
	Findings   []SealFinding `json:"findings,omitempty" doc:"Of the seal checks before it was sealed"`

	Applications []sheet.Application `json:"applications,omitempty" doc:"That people open on its hosts"`

	Source     string            `json:"source"`
	Notes      string            `json:"notes"`
	Tags       []string          `json:"tags" nullable:"false"`
	EndOfLife  *time.Time        `json:"end_of_life,omitempty"`
	CapturedBy string            `json:"captured_by"`
	Build      int64             `json:"build,omitempty" doc:"That made it, if one did"`
	Base       string            `json:"base,omitempty" doc:"That the build was made from"`
	Commit     string            `json:"commit,omitempty" doc:"That the build's sheet was taken from, if that is known"`
	Software   int               `json:"software,omitempty" doc:"Entries of its software list"`
	Unlisted   string            `json:"unlisted,omitempty" doc:"Why it has no software list"`
	Waived     map[string]string `json:"waived,omitempty" doc:"Why downgrades are passed over, by the software's name"`
	CreatedAt  time.Time         `json:"created_at"`
	SealedAt   *time.Time        `json:"sealed_at,omitempty"`
	Failure    string            `json:"failure"`
	Barred     string            `json:"barred" doc:"Why it is barred, empty if it is not"`
	BarredBy   string            `json:"barred_by"`
	BarredAt   *time.Time        `json:"barred_at,omitempty"`
	Hosts      int               `json:"hosts" doc:"Hosts that run it"`
	Copies     []Copy            `json:"copies" nullable:"false"`
	Revision   int               `json:"revision"`
}

// Copy is a version's disk at a site.
type Copy struct {
	Site     string          `json:"site"`
	Ordinal  int             `json:"ordinal"`
	State    image.CopyState `json:"state"`
	Progress int             `json:"progress"`
	Failure  string          `json:"failure"`
	ReadAt   *time.Time      `json:"read_at,omitempty" doc:"When it was found intact last"`
	Delivery *Transfer       `json:"delivery,omitempty" doc:"How it came, or comes, if by its blocks"`
}

func (c *Client) Versions(ctx context.Context, image string) ([]Version, error) {
	return all[Version](ctx, c, pathOf("images", image, "versions"), nil)
}

func (c *Client) Version(ctx context.Context, image, number string) (Version, error) {
	return get[Version](ctx, c, pathOf("images", image, "versions", number), nil)
}

// Capture asks for a new version.
type Capture struct {
	BuildMachine string     `json:"build_machine" minLength:"1"`
	Site         string     `json:"site,omitempty"`
	Number       string     `json:"number,omitempty" doc:"The next one if left out"`
	Notes        string     `json:"notes,omitempty" maxLength:"10000"`
	Tags         []string   `json:"tags,omitempty" maxItems:"20"`
	EndOfLife    *time.Time `json:"end_of_life,omitempty"`
	Discard      bool       `json:"discard,omitempty" doc:"Delete the build machine afterwards"`
	BackTo       string     `json:"back_to,omitempty" doc:"The checkpoint that the build machine goes back to afterwards"`

	Waive     map[string]string `json:"waive,omitempty" doc:"Why what a seal check finds is passed over, by check"`
	Prove     bool              `json:"prove,omitempty" doc:"Its first start, on a machine that is thrown away"`
	Unchecked string            `json:"unchecked,omitempty" maxLength:"200" doc:"Why it is captured without seal checks"`
}

func (c *Client) Capture(ctx context.Context, image string, in Capture) (Version, error) {
	return post[Version](ctx, c, pathOf("images", image, "versions"), in)
}

// VersionEdit changes what people write about a version; what is left out stays.
type VersionEdit struct {
	Notes          *string    `json:"notes,omitempty" maxLength:"10000"`
	Tags           *[]string  `json:"tags,omitempty" maxItems:"20"`
	EndOfLife      *time.Time `json:"end_of_life,omitempty"`
	ClearEndOfLife bool       `json:"clear_end_of_life,omitempty"`
}

// EditVersion changes what people write about a version, if it still has the revision that they saw.
func (c *Client) EditVersion(ctx context.Context, image, number string, revision int, in VersionEdit) (Version, error) {
	return answer[Version](ctx, c, request{
		method: http.MethodPatch, path: pathOf("images", image, "versions", number),
		body: in, ifMatch: `"` + strconv.Itoa(revision) + `"`,
	})
}

func (c *Client) actOnVersion(ctx context.Context, image, number, act string, body any) (Version, error) {
	return post[Version](ctx, c, pathOf("images", image, "versions", number, act), body)
}

// Staging says how a version is staged.
type Staging struct {
	Reason string  `json:"reason,omitempty" maxLength:"2000"`
	Leaves *string `json:"leaves,omitempty" maxLength:"40" doc:"What pilot names as you saw it, empty for nothing: refused if it names another version by now"`
}

func (c *Client) Stage(ctx context.Context, image, number string, in Staging) (Version, error) {
	return c.actOnVersion(ctx, image, number, "stage", in)
}

// Activation says how a version goes live.
type Activation struct {
	Reason   string  `json:"reason,omitempty" maxLength:"2000"`
	Leaves   *string `json:"leaves,omitempty" maxLength:"40" doc:"What live names as you saw it, empty for nothing: refused if it names another version by now"`
	LetGo    bool    `json:"let_go,omitempty" doc:"Do not keep the version in use before as the fallback"`
	Redirect bool    `json:"redirect_rollovers,omitempty" doc:"Have open rollovers that take hosts to another version take them to this one; without it the activation is refused while there are any"`
	Overrule bool    `json:"overrule,omitempty" doc:"Activate without clearance; needs the role administrator and a reason"`
}

func (c *Client) Activate(ctx context.Context, image, number string, in Activation) (Version, error) {
	return c.actOnVersion(ctx, image, number, "activate", in)
}

func (c *Client) Bar(ctx context.Context, image, number, reason string) (Version, error) {
	return c.actOnVersion(ctx, image, number, "bar", Reason{reason})
}

// Unblock makes a blocked version usable again.
func (c *Client) Unblock(ctx context.Context, image, number, reason string) (Version, error) {
	return c.actOnVersion(ctx, image, number, "unblock", Reason{reason})
}

func (c *Client) Retire(ctx context.Context, image, number, reason string) (Version, error) {
	return c.actOnVersion(ctx, image, number, "retire", Reason{reason})
}

// Delivering says how many copies are on their way.
type Delivering struct {
	Copies int `json:"copies"`
}

// Deliver delivers copies of a version again that failed to arrive or are lacking.
func (c *Client) Deliver(ctx context.Context, image, number string) (Delivering, error) {
	return answer[Delivering](ctx, c, request{method: http.MethodPost, path: "/images/" + url.PathEscape(image) +
		"/versions/" + url.PathEscape(number) + "/deliver"})
}

// Rule is what one clearance rule answers.
type Rule struct {
	Rule string `json:"rule"`
	Met  bool   `json:"met"`
	Why  string `json:"why"`
}

// Trial is how the trial of a version stands.
type Trial struct {
	Image    string    `json:"image"`
	Number   string    `json:"number"`
	Cleared  bool      `json:"cleared"`
	Rules    []Rule    `json:"rules" nullable:"false"`
	SignOffs []SignOff `json:"sign_offs" nullable:"false"`
}

// SignOff is what a tester said.
type SignOff struct {
	Tester  string    `json:"tester"`
	Yes     bool      `json:"yes"`
	Comment string    `json:"comment"`
	At      time.Time `json:"at"`
}

func (c *Client) Trial(ctx context.Context, image, number string) (Trial, error) {
	return get[Trial](ctx, c, pathOf("images", image, "versions", number, "trial"), nil)
}

// Waiver passes over that a piece of software is older than in the version in use.
type Waiver struct {
	Software string `json:"software" minLength:"1" maxLength:"2000" doc:"Its name, as the comparison has it"`
	Reason   string `json:"reason,omitempty" maxLength:"2000" doc:"Why; needed unless it is withdrawn"`
	Withdraw bool   `json:"withdraw,omitempty" doc:"Take an earlier one back"`
}

// Waive passes over that a piece of software of a version is older than in the one in use.
func (c *Client) Waive(ctx context.Context, image, number string, in Waiver) (Trial, error) {
	return post[Trial](ctx, c, pathOf("images", image, "versions", number, "trial", "waivers"), in)
}

// Sign is a tester's word on a version.
type Sign struct {
	Yes     bool   `json:"yes"`
	Comment string `json:"comment,omitempty" maxLength:"2000"`
}

func (c *Client) Sign(ctx context.Context, image, number string, in Sign) (Trial, error) {
	return post[Trial](ctx, c, pathOf("images", image, "versions", number, "sign-off"), in)
}
