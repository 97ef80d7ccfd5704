package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"nimblepane/core/image"
)

// RetentionPlan is which versions of an image are kept, and what that comes to now.
type RetentionPlan struct {
	Rule     image.Retention `json:"rule" doc:"Without a number to keep, nothing is retired by itself"`
	Says     string          `json:"says" doc:"What it keeps, in words"`
	Set      bool            `json:"set" doc:"It is the image's rule, and not one that is tried out"`
	Versions []KeptVersion   `json:"versions" nullable:"false" doc:"Those that are sealed, the newest first"`
	Retires  []string        `json:"retires" nullable:"false" doc:"The numbers of those that are retired by it"`
	Frees    int64           `json:"frees_bytes" doc:"What is given back, with copies that are too many"`
}

// KeptVersion is what a rule says of a version.
type KeptVersion struct {
	Number string   `json:"number"`
	Goes   bool     `json:"goes"`
	Why    []string `json:"why" nullable:"false" doc:"Why it is kept"`
	Sites  []string `json:"sites" nullable:"false" doc:"That have copies of it"`
	Bytes  int64    `json:"bytes" doc:"What its copies take, and the disk that its capture made"`
	Frees  int64    `json:"frees_bytes" doc:"What of that is given back"`
	Spare  int      `json:"spare" doc:"How many copies of it go because its sites have more than they are to have"`
}

// RetentionChange gives an image a rule.
type RetentionChange struct {
	Keep    int      `json:"keep" minimum:"0" doc:"The newest so many that can be used; 0, with nothing else, keeps everything"`
	Days    int      `json:"days,omitempty" minimum:"0" doc:"And what was sealed less than so many days ago"`
	Tagged  []string `json:"tagged,omitempty" doc:"And what has one of these tags"`
	Retires []string `json:"retires,omitempty" doc:"The numbers of the versions that the person saw go by it; if others would go by now, nothing is changed"`
}

// Retention returns an image's rule, and what it comes to.
func (c *Client) Retention(ctx context.Context, image string) (RetentionPlan, error) {
	return get[RetentionPlan](ctx, c, pathOf("images", image, "retention"), nil)
}

// TryRetention returns what another rule would come to. Nothing is changed.
func (c *Client) TryRetention(ctx context.Context, image string, rule image.Retention) (RetentionPlan, error) {
	return get[RetentionPlan](ctx, c, pathOf("images", image, "retention"), url.Values{
		"keep": {strconv.Itoa(rule.Keep)}, "days": {strconv.Itoa(rule.Days)},
		"tagged": {strings.Join(rule.Tagged, ",")},
	})
}

// SetRetention gives an image a rule.
func (c *Client) SetRetention(ctx context.Context, image string, change RetentionChange) (RetentionPlan, error) {
	return answer[RetentionPlan](ctx, c, request{
		method: http.MethodPut, path: pathOf("images", image, "retention"), body: change,
	})
}
