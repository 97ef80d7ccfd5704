package api

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"reflect"
	"regexp"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"
)

type ginKey struct{}

// reachable stores the gin context, so that operations can set headers outside of their output type.
func reachable(c *gin.Context) {
	c.Request = c.Request.WithContext(context.WithValue(c.Request.Context(), ginKey{}, c))
	c.Next()
}

// links are the links in the responses of an operation.
type links struct {
	made   string // path of what was created, such as /builds/{id}
	cursor []int  // where an answer has the cursor of its next page, by field index; nil for an answer without pages
}

// linksOf returns the links of an operation, and adds them to its description.
func linksOf(o operation, op *huma.Operation, in, out reflect.Type) links {
	l := links{made: o.made}
	answer := func() *huma.Response {
		status := strconv.Itoa(max(o.status, http.StatusOK))
		if op.Responses == nil {
			op.Responses = map[string]*huma.Response{}
		}
		if op.Responses[status] == nil {
			op.Responses[status] = &huma.Response{Headers: map[string]*huma.Param{}}
		}
		return op.Responses[status]
	}
	header := func(name, description string) {
		answer().Headers[name] = &huma.Header{Schema: &huma.Schema{Type: huma.TypeString}, Description: description}
	}
	if l.made != "" {
		header("Location", "URL of the new resource")
	}
	_, pages := in.FieldByName("Cursor")
	if f, is := out.FieldByName("Body"); is && pages && f.Type.Kind() == reflect.Struct {
		if next, is := f.Type.FieldByName("Next"); is {
			l.cursor = append(append([]int{}, f.Index...), next.Index...)
			header("Link", `The next page, as <...>; rel="next" (RFC 8288); missing on the last`)
		}
	}
	if o.media != "" {
		answer().Content = map[string]*huma.MediaType{o.media: {Schema: schemaOf(o.media)}}
	}
	return l
}

// schemaOf describes a file of a media type.
func schemaOf(media string) *huma.Schema {
	switch {
	case strings.HasSuffix(media, "+json"), media == "application/yaml":
		return &huma.Schema{Type: huma.TypeObject, AdditionalProperties: true}
	case media == "image/png" || media == "application/octet-stream":
		return &huma.Schema{Type: huma.TypeString, Format: "binary"}
	}
	return &huma.Schema{Type: huma.TypeString}
}

// set adds the links of an answer.
func (l links) set(ctx context.Context, in, out any) {
	c, is := ctx.Value(ginKey{}).(*gin.Context)
	if !is {
		return
	}
	if l.made != "" {
		c.Header("Location", "/api/v1"+fill(l.made, reflect.ValueOf(in).Elem(), reflect.ValueOf(out).Elem()))
	}
	if l.cursor != nil {
		if next := reflect.ValueOf(out).Elem().FieldByIndex(l.cursor).String(); next != "" {
			query := c.Request.URL.Query()
			query.Set("cursor", next)
			c.Header("Link", fmt.Sprintf(`<%s?%s>; rel="next"`, c.Request.URL.EscapedPath(), query.Encode()))
		}
	}
}

var placeholder = regexp.MustCompile(`\{(\w+)\}`)

// fill puts parameters of the request's path, or fields of the answer's body, into a path.
func fill(path string, in, out reflect.Value) string {
	body := out.FieldByName("Body")
	return placeholder.ReplaceAllStringFunc(path, func(name string) string {
		name = strings.Trim(name, "{}")
		for _, f := range reflect.VisibleFields(in.Type()) {
			if f.Tag.Get("path") == name {
				return url.PathEscape(fmt.Sprint(in.FieldByIndex(f.Index)))
			}
		}
		for _, f := range reflect.VisibleFields(body.Type()) {
			if key, _, _ := strings.Cut(f.Tag.Get("json"), ","); key == name {
				return url.PathEscape(fmt.Sprint(body.FieldByIndex(f.Index)))
			}
		}
		panic("there is no " + name + " for " + path)
	})
}

// tags group the operations in the API's description.
var tags = []*huma.Tag{
	{Name: "service", Description: "The service itself: its state and its events"},
	{Name: "people", Description: "Accounts, sessions of the console, and tokens"},
	{Name: "estate", Description: "Sites, and the estate as a file"},
	{Name: "images", Description: "Images, their tracks and their retention"},
	{Name: "versions", Description: "Versions, their trials and where they are used"},
	{Name: "software", Description: "Software lists, known vulnerabilities, comparisons and provenance"},
	{Name: "deliveries", Description: "Copies of versions at the sites"},
	{Name: "bases", Description: "Bases and release feeds"},
	{Name: "builds", Description: "Build sheets, builds, schedules and repositories"},
	{Name: "build machines", Description: "Work on build machines by hand"},
	{Name: "pools", Description: "Pools and what they run"},
	{Name: "hosts", Description: "Hosts and what is done with one of them"},
	{Name: "sessions", Description: "Sessions of users on hosts"},
	{Name: "rollovers", Description: "Rollovers and what a change would do"},
	{Name: "trail", Description: "The audit log"},
	{Name: "agents", Description: "The protocol of the agents on hosts and build machines"},
}
