// Package client is the typed Go client of the API, and the shapes that go
// over the wire.
//
// The methods are named for the operations of the API and take and return its
// shapes. Errors of the service come back as *Error.
package client

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"reflect"
	"strings"

	"nimblepane/core/problem"

	"github.com/google/uuid"
)

// Client speaks to one service as one account. It is safe for concurrent use.
type Client struct {
	url   string
	token string
	http  *http.Client
	clean func(string) string // nil to leave texts as they are
}

// New returns a client of the service at the URL, with a bearer token ("" to sign in first).
func New(serviceURL, token string) *Client {
	return &Client{url: strings.TrimSuffix(serviceURL, "/"), token: token, http: &http.Client{}}
}

// Cleaning returns a client that passes every text of every answer through the
// function, for callers that show them.
func (c *Client) Cleaning(clean func(string) string) *Client {
	with := *c
	with.clean = clean
	return &with
}

// Error is a problem that the service answered with (RFC 9457).
type Error struct {
	Type   string // of the problem, a URI; "" if it has none of its own
	Status int
	Title  string
	Detail string
	Errors []ErrorDetail
}

// ErrorDetail is one of several things that are wrong.
type ErrorDetail struct {
	Message  string `json:"message"`
	Location string `json:"location"`
}

func (e *Error) Error() string {
	text := e.Detail
	if text == "" {
		text = e.Title
	}
	for _, d := range e.Errors {
		text += "\n  " + d.Message
		if d.Location != "" {
			text += " (" + d.Location + ")"
		}
	}
	return text
}

// Is reports whether the target is the problem type of the error.
func (e *Error) Is(target error) bool {
	t, is := target.(problem.Type)
	mine, known := problem.FromURI(e.Type)
	return is && known && mine == t
}

// IsStatus says whether an error is a problem of the HTTP status.
func IsStatus(err error, status int) bool {
	var e *Error
	return errors.As(err, &e) && e.Status == status
}

// UnreachableError is the error of a request that the service did not answer.
type UnreachableError struct {
	URL string
	Err error
}

func (e *UnreachableError) Error() string {
	return fmt.Sprintf("cannot reach the service at %s: %s", e.URL, e.Err)
}

func (e *UnreachableError) Unwrap() error { return e.Err }

type request struct {
	method, path string
	query        url.Values
	body         any    // marshalled to JSON, or []byte as it is
	contentType  string // of []byte, application/yaml if empty
	ifMatch      string // ETag
}

func (c *Client) send(ctx context.Context, r request, accept string) (*http.Response, error) {
	var body io.Reader
	contentType := "application/json"
	switch b := r.body.(type) {
	case nil:
	case []byte:
		body, contentType = bytes.NewReader(b), cmp.Or(r.contentType, "application/yaml")
	default:
		text, err := json.Marshal(b)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(text)
	}
	u := c.url + "/api/v1" + r.path
	if len(r.query) > 0 {
		u += "?" + r.query.Encode()
	}
	req, err := http.NewRequestWithContext(ctx, r.method, u, body)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Accept", accept)
	if body != nil {
		req.Header.Set("Content-Type", contentType)
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	if r.ifMatch != "" {
		req.Header.Set("If-Match", r.ifMatch)
	}
	if ctx.Value(dryRunKey{}) != nil {
		req.Header.Set("Dry-Run", "true")
	}
	if r.method == http.MethodPost && c.token != "" {
		key, given := ctx.Value(idempotencyKey{}).(string)
		if !given {
			key = uuid.NewString()
		}
		req.Header.Set("Idempotency-Key", key)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return nil, &UnreachableError{URL: c.url, Err: cause(err)}
	}
	if resp.StatusCode < 300 {
		return resp, nil
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	e := &Error{}
	if json.Unmarshal(text, e) != nil || e.Title == "" {
		e.Title = resp.Status
		e.Detail = strings.TrimSpace(string(text))
	}
	e.Status = resp.StatusCode
	return nil, e
}

type idempotencyKey struct{}

// WithIdempotencyKey returns a context in which a POST has this key in place of one of its own: repeated with the same
// key and content, it returns what the first one returned, and does nothing.
func WithIdempotencyKey(ctx context.Context, key string) context.Context {
	return context.WithValue(ctx, idempotencyKey{}, key)
}

type dryRunKey struct{}

// DryRun returns a context in which operations change nothing: they return a zero value, or the problem for which they
// would be refused. Operations without a dry run are refused.
func DryRun(ctx context.Context) context.Context { return context.WithValue(ctx, dryRunKey{}, true) }

// cause is why a request did not reach the service, without the address that is known.
func cause(err error) error {
	var at *url.Error
	if errors.As(err, &at) {
		err = at.Err
	}
	var op *net.OpError
	if errors.As(err, &op) {
		err = op.Err
	}
	return err
}

// answer sends a request and reads its answer.
func answer[T any](ctx context.Context, c *Client, r request) (out T, err error) {
	resp, err := c.send(ctx, r, "application/json")
	if err != nil {
		return out, err
	}
	defer resp.Body.Close()
	if resp.StatusCode == http.StatusNoContent {
		return out, nil
	}
	if err := json.NewDecoder(resp.Body).Decode(&out); err != nil {
		return out, fmt.Errorf("the answer to %s %s cannot be read: %w", r.method, r.path, err)
	}
	if c.clean != nil {
		cleanTexts(reflect.ValueOf(&out), c.clean)
	}
	return out, nil
}

// cleanTexts passes every string within a value of our shapes through the function.
func cleanTexts(v reflect.Value, clean func(string) string) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			cleanTexts(v.Elem(), clean)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				cleanTexts(v.Field(i), clean)
			}
		}
	case reflect.Interface:
		if !v.IsNil() {
			within := reflect.New(v.Elem().Type()).Elem()
			within.Set(v.Elem())
			cleanTexts(within, clean)
			v.Set(within)
		}
	case reflect.Slice:
		for i := range v.Len() {
			cleanTexts(v.Index(i), clean)
		}
	case reflect.Map:
		for _, key := range v.MapKeys() {
			value := reflect.New(v.Type().Elem()).Elem()
			value.Set(v.MapIndex(key))
			cleanTexts(value, clean)
			v.SetMapIndex(key, reflect.Value{})
			v.SetMapIndex(reflect.ValueOf(clean(key.String())).Convert(key.Type()), value)
		}
	case reflect.String:
		v.SetString(clean(v.String()))
	}
}

func get[T any](ctx context.Context, c *Client, path string, query url.Values) (T, error) {
	return answer[T](ctx, c, request{method: http.MethodGet, path: path, query: query})
}

func post[T any](ctx context.Context, c *Client, path string, body any) (T, error) {
	return answer[T](ctx, c, request{method: http.MethodPost, path: path, body: body})
}

// all reads every page of a list.
func all[T any](ctx context.Context, c *Client, path string, query url.Values) ([]T, error) {
	items := []T{}
	if query == nil {
		query = url.Values{}
	}
	for {
		p, err := get[Page[T]](ctx, c, path, query)
		if err != nil {
			return nil, err
		}
		items = append(items, p.Items...)
		if p.Next == "" {
			return items, nil
		}
		query.Set("cursor", p.Next)
	}
}

// pathOf joins parts into a path; each part is escaped.
func pathOf(parts ...string) string {
	for i, p := range parts {
		parts[i] = url.PathEscape(p)
	}
	return "/" + strings.Join(parts, "/")
}

// values drops empty fields.
func values(pairs ...string) url.Values {
	v := url.Values{}
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			v.Set(pairs[i], pairs[i+1])
		}
	}
	return v
}

func (c *Client) raw(ctx context.Context, r request, accept string) ([]byte, error) {
	resp, err := c.send(ctx, r, accept)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	return io.ReadAll(resp.Body)
}

func flag(b bool) string {
	if b {
		return "true"
	}
	return ""
}

// Page is one page of a list. Next is the cursor of the page after it, "" if there is none.
type Page[T any] struct {
	Items []T    `json:"items" nullable:"false"`
	Next  string `json:"next" doc:"Cursor of the next page; empty on the last"`
}

// Reason is why something is done.
type Reason struct {
	Reason string `json:"reason,omitempty" maxLength:"2000"`
}
