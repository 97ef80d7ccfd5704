// Package client is the typed Go client of the API, and the shapes that go
// over the wire.
//
// The methods are named for the operations of the API and take and return its
// shapes. Errors of the service come back as *Error.
package client

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"reflect"
	"strconv"
	"strings"
	"time"

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

// IsStatus says whether an error is a problem of the HTTP status.
func IsStatus(err error, status int) bool {
	var e *Error
	return errors.As(err, &e) && e.Status == status
}

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
	if r.method == http.MethodPost && c.token != "" {
		req.Header.Set("Idempotency-Key", uuid.NewString())
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return nil, fmt.Errorf("cannot reach the service: %w", err)
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

// do sends a request and reads its answer.
func do[T any](ctx context.Context, c *Client, r request) (out T, err error) {
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
	case reflect.Slice:
		for i := range v.Len() {
			cleanTexts(v.Index(i), clean)
		}
	case reflect.Map:
		for _, key := range v.MapKeys() {
			value := v.MapIndex(key)
			v.SetMapIndex(key, reflect.Value{})
			v.SetMapIndex(reflect.ValueOf(clean(key.String())).Convert(key.Type()), value)
		}
	case reflect.String:
		v.SetString(clean(v.String()))
	}
}

func get[T any](ctx context.Context, c *Client, path string, query url.Values) (T, error) {
	return do[T](ctx, c, request{method: http.MethodGet, path: path, query: query})
}

func post[T any](ctx context.Context, c *Client, path string, body any) (T, error) {
	return do[T](ctx, c, request{method: http.MethodPost, path: path, body: body})
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

// SignIn returns who is signed in, with a bearer token of the name.
func (c *Client) SignIn(ctx context.Context, name, password, tokenName string) (SignedIn, error) {
	return post[SignedIn](ctx, c, "/session", SignIn{Name: name, Password: password, Token: tokenName})
}

// SignInFor signs in as is asked for.
func (c *Client) SignInFor(ctx context.Context, in SignIn) (SignedIn, error) {
	return post[SignedIn](ctx, &Client{url: c.url, http: c.http, clean: c.clean}, "/session", in)
}

// ChangePassword sets one's own password.
func (c *Client) ChangePassword(ctx context.Context, in NewPassword) error {
	_, err := do[struct{}](ctx, c, request{method: http.MethodPost, path: "/password", body: in})
	return err
}

// Preview asks what an act would do. Nothing is done.
func (c *Client) Preview(ctx context.Context, in PreviewRequest) (Preview, error) {
	return post[Preview](ctx, c, "/previews", in)
}

// SignOut revokes the client's token.
func (c *Client) SignOut(ctx context.Context) error {
	_, err := do[struct{}](ctx, c, request{method: http.MethodDelete, path: "/session"})
	return err
}

func (c *Client) WhoAmI(ctx context.Context) (SignedIn, error) {
	return get[SignedIn](ctx, c, "/session", nil)
}

func (c *Client) Status(ctx context.Context) (Status, error) {
	return get[Status](ctx, c, "/status", nil)
}

func (c *Client) Tokens(ctx context.Context) ([]Token, error) {
	return all[Token](ctx, c, "/tokens", nil)
}

func (c *Client) MakeToken(ctx context.Context, in NewToken) (MadeToken, error) {
	return post[MadeToken](ctx, c, "/tokens", in)
}

func (c *Client) RevokeToken(ctx context.Context, id int64) error {
	_, err := do[struct{}](ctx, c, request{method: http.MethodDelete, path: pathOf("tokens", strconv.FormatInt(id, 10))})
	return err
}

func (c *Client) Accounts(ctx context.Context) ([]Account, error) {
	return all[Account](ctx, c, "/accounts", nil)
}

func (c *Client) AddAccount(ctx context.Context, in NewAccount) (Account, error) {
	return post[Account](ctx, c, "/accounts", in)
}

func (c *Client) EditAccount(ctx context.Context, name string, in AccountEdit) (Account, error) {
	return do[Account](ctx, c, request{method: http.MethodPatch, path: pathOf("accounts", name), body: in})
}

func (c *Client) Today(ctx context.Context) ([]Matter, error) {
	return all[Matter](ctx, c, "/today", nil)
}

// LoadEstate sends an estate file; with dryRun it only says what would change.
func (c *Client) LoadEstate(ctx context.Context, file []byte, dryRun bool) (Loaded, error) {
	return do[Loaded](ctx, c, request{method: http.MethodPut, path: "/estate", body: file, query: values("dry_run", flag(dryRun))})
}

// Estate returns the estate as an estate file.
func (c *Client) Estate(ctx context.Context) ([]byte, error) {
	return c.raw(ctx, request{method: http.MethodGet, path: "/estate"}, "application/yaml")
}

func (c *Client) raw(ctx context.Context, r request, accept string) ([]byte, error) {
	resp, err := c.send(ctx, r, accept)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	return io.ReadAll(resp.Body)
}

func (c *Client) Sites(ctx context.Context) ([]Site, error) { return all[Site](ctx, c, "/sites", nil) }

func (c *Client) Site(ctx context.Context, name string) (Site, error) {
	return get[Site](ctx, c, pathOf("sites", name), nil)
}

func buildMachine(site, name, act string) string {
	return "/sites/" + url.PathEscape(site) + "/build-machines/" + url.PathEscape(name) + act
}

// CreateBuildMachine makes a build machine, which is off.
func (c *Client) CreateBuildMachine(ctx context.Context, site string, in NewBuildMachine) (Site, error) {
	return do[Site](ctx, c, request{method: http.MethodPost, path: "/sites/" + url.PathEscape(site) + "/build-machines", body: in})
}

// StartBuildMachine starts a build machine.
func (c *Client) StartBuildMachine(ctx context.Context, site, name string) (Site, error) {
	return do[Site](ctx, c, request{method: http.MethodPost, path: buildMachine(site, name, "/start")})
}

// StopBuildMachine shuts a build machine down and returns when it is off.
func (c *Client) StopBuildMachine(ctx context.Context, site, name string) (Site, error) {
	return do[Site](ctx, c, request{method: http.MethodPost, path: buildMachine(site, name, "/stop")})
}

// DiscardBuildMachine deletes a build machine with what was done on it.
func (c *Client) DiscardBuildMachine(ctx context.Context, site, name string) (Site, error) {
	return do[Site](ctx, c, request{method: http.MethodDelete, path: buildMachine(site, name, "")})
}

// RunOnBuildMachine runs a program in a build machine and returns how it ended.
func (c *Client) RunOnBuildMachine(ctx context.Context, site, name string, in RunProgram) (ProgramEnded, error) {
	return do[ProgramEnded](ctx, c, request{method: http.MethodPost, path: buildMachine(site, name, "/run"), body: in})
}

// PutOnBuildMachine writes a file in a build machine.
func (c *Client) PutOnBuildMachine(ctx context.Context, site, name, path string, content []byte) error {
	if content == nil {
		content = []byte{}
	}
	_, err := c.raw(ctx, request{method: http.MethodPut, path: buildMachine(site, name, "/file"), query: values("path", path), body: content, contentType: "application/octet-stream"}, "application/json")
	return err
}

// GetFromBuildMachine reads a file of a build machine.
func (c *Client) GetFromBuildMachine(ctx context.Context, site, name, path string) ([]byte, error) {
	return c.raw(ctx, request{method: http.MethodGet, path: buildMachine(site, name, "/file"), query: values("path", path)}, "application/octet-stream")
}

// Deliver delivers copies of a version again that failed to arrive or are lacking.
func (c *Client) Deliver(ctx context.Context, image, number string) (Delivering, error) {
	return do[Delivering](ctx, c, request{method: http.MethodPost, path: "/images/" + url.PathEscape(image) + "/versions/" + url.PathEscape(number) + "/deliver"})
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

func (c *Client) Rollback(ctx context.Context, image string, in Rollback) (RolledBack, error) {
	return post[RolledBack](ctx, c, pathOf("images", image, "rollback"), in)
}

func (c *Client) Versions(ctx context.Context, image string) ([]Version, error) {
	return all[Version](ctx, c, pathOf("images", image, "versions"), nil)
}

func (c *Client) Version(ctx context.Context, image, number string) (Version, error) {
	return get[Version](ctx, c, pathOf("images", image, "versions", number), nil)
}

func (c *Client) Capture(ctx context.Context, image string, in Capture) (Version, error) {
	return post[Version](ctx, c, pathOf("images", image, "versions"), in)
}

// EditVersion changes what people write about a version, if it still has the revision that they saw.
func (c *Client) EditVersion(ctx context.Context, image, number string, revision int, in VersionEdit) (Version, error) {
	return do[Version](ctx, c, request{method: http.MethodPatch, path: pathOf("images", image, "versions", number), body: in, ifMatch: `"` + strconv.Itoa(revision) + `"`})
}

func (c *Client) actOnVersion(ctx context.Context, image, number, act string, body any) (Version, error) {
	return post[Version](ctx, c, pathOf("images", image, "versions", number, act), body)
}

func (c *Client) Stage(ctx context.Context, image, number string, in Staging) (Version, error) {
	return c.actOnVersion(ctx, image, number, "stage", in)
}

func (c *Client) Activate(ctx context.Context, image, number string, in Activation) (Version, error) {
	return c.actOnVersion(ctx, image, number, "activate", in)
}

func (c *Client) Bar(ctx context.Context, image, number, reason string) (Version, error) {
	return c.actOnVersion(ctx, image, number, "bar", Reason{reason})
}

func (c *Client) Retire(ctx context.Context, image, number, reason string) (Version, error) {
	return c.actOnVersion(ctx, image, number, "retire", Reason{reason})
}

func (c *Client) Trial(ctx context.Context, image, number string) (Trial, error) {
	return get[Trial](ctx, c, pathOf("images", image, "versions", number, "trial"), nil)
}

func (c *Client) Sign(ctx context.Context, image, number string, in Sign) (Trial, error) {
	return post[Trial](ctx, c, pathOf("images", image, "versions", number, "sign-off"), in)
}

func (c *Client) Pools(ctx context.Context) ([]Pool, error) { return all[Pool](ctx, c, "/pools", nil) }

func (c *Client) Pool(ctx context.Context, name string) (Pool, error) {
	return get[Pool](ctx, c, pathOf("pools", name), nil)
}

func (c *Client) Pin(ctx context.Context, pool string, in Pin) (Pool, error) {
	return post[Pool](ctx, c, pathOf("pools", pool, "pin"), in)
}

func (c *Client) Unpin(ctx context.Context, pool, reason string) (Pool, error) {
	return post[Pool](ctx, c, pathOf("pools", pool, "unpin"), Reason{reason})
}

func (c *Client) TellPool(ctx context.Context, pool, text string) (Told, error) {
	return post[Told](ctx, c, pathOf("pools", pool, "tell"), Tell{text})
}

// HostQuery selects hosts; empty fields select all.
type HostQuery struct {
	Pool, Site, Image, State, Version string
	Drifts                            bool
}

func (q HostQuery) values() url.Values {
	return values("pool", q.Pool, "site", q.Site, "image", q.Image, "state", q.State, "version", q.Version, "drifts", flag(q.Drifts))
}

// Hosts returns all selected hosts by name.
func (c *Client) Hosts(ctx context.Context, q HostQuery) ([]Host, error) {
	return all[Host](ctx, c, "/hosts", q.values())
}

// HostPage returns the first page of the selected hosts.
func (c *Client) HostPage(ctx context.Context, q HostQuery, limit int) (Page[Host], error) {
	v := q.values()
	v.Set("limit", strconv.Itoa(limit))
	return get[Page[Host]](ctx, c, "/hosts", v)
}

func (c *Client) Host(ctx context.Context, name string) (Host, error) {
	return get[Host](ctx, c, pathOf("hosts", name), nil)
}

func (c *Client) DrainHost(ctx context.Context, host, reason string) (Host, error) {
	return post[Host](ctx, c, pathOf("hosts", host, "drain"), Reason{reason})
}

func (c *Client) ReturnHost(ctx context.Context, host, reason string) (Host, error) {
	return post[Host](ctx, c, pathOf("hosts", host, "return"), Reason{reason})
}

func (c *Client) RebuildHost(ctx context.Context, host string, in RebuildHost) (Rollover, error) {
	return post[Rollover](ctx, c, pathOf("hosts", host, "rebuild"), in)
}

// SessionQuery selects sessions; empty fields select all.
type SessionQuery struct{ Pool, Host, Person, State string }

func (c *Client) Sessions(ctx context.Context, q SessionQuery) ([]Session, error) {
	return all[Session](ctx, c, "/sessions", values("pool", q.Pool, "host", q.Host, "person", q.Person, "state", q.State))
}

func (c *Client) TellSession(ctx context.Context, host, key, text string) (Told, error) {
	return post[Told](ctx, c, pathOf("hosts", host, "sessions", key, "tell"), Tell{text})
}

func (c *Client) SignOffSession(ctx context.Context, host, key, reason string) error {
	_, err := post[Told](ctx, c, pathOf("hosts", host, "sessions", key, "sign-off"), Reason{reason})
	return err
}

func (c *Client) StartRollovers(ctx context.Context, in StartRollovers) ([]Rollover, error) {
	p, err := post[Page[Rollover]](ctx, c, "/rollovers", in)
	return p.Items, err
}

// Rollovers returns up to limit of them, newest first.
func (c *Client) Rollovers(ctx context.Context, pool, state string, open bool, limit int) ([]Rollover, error) {
	p, err := get[Page[Rollover]](ctx, c, "/rollovers", values("pool", pool, "state", state, "open", flag(open), "limit", strconv.Itoa(limit)))
	return p.Items, err
}

func (c *Client) Rollover(ctx context.Context, id int64) (Rollover, error) {
	return get[Rollover](ctx, c, rolloverPath(id), nil)
}

func (c *Client) RolloverHosts(ctx context.Context, id int64) ([]RolloverHost, error) {
	return all[RolloverHost](ctx, c, rolloverPath(id)+"/hosts", nil)
}

func rolloverPath(id int64) string { return pathOf("rollovers", strconv.FormatInt(id, 10)) }

// ChangeRollover pauses, resumes, stops or reverses a rollover: act is the verb.
// Reversing returns the new rollover.
func (c *Client) ChangeRollover(ctx context.Context, id int64, act, reason string) (Rollover, error) {
	return post[Rollover](ctx, c, rolloverPath(id)+pathOf(act), Reason{reason})
}

// TrailQuery selects entries of the trail; empty fields select all.
type TrailQuery struct {
	Actor, Verb, Subject, Scope string
	From, To                    time.Time
}

func (q TrailQuery) values() url.Values {
	v := values("actor", q.Actor, "verb", q.Verb, "subject", q.Subject, "scope", q.Scope)
	for name, t := range map[string]time.Time{"from": q.From, "to": q.To} {
		if !t.IsZero() {
			v.Set(name, t.Format(time.RFC3339))
		}
	}
	return v
}

// Trail returns up to limit entries, newest first.
func (c *Client) Trail(ctx context.Context, q TrailQuery, limit int) ([]TrailEntry, error) {
	v := q.values()
	v.Set("limit", strconv.Itoa(limit))
	p, err := get[Page[TrailEntry]](ctx, c, "/trail", v)
	return p.Items, err
}

func (c *Client) VerifyTrail(ctx context.Context) (TrailVerdict, error) {
	return get[TrailVerdict](ctx, c, "/trail/verify", nil)
}

// ExportTrail writes the selected entries as JSON Lines, oldest first.
func (c *Client) ExportTrail(ctx context.Context, q TrailQuery, to io.Writer) error {
	resp, err := c.send(ctx, request{method: http.MethodGet, path: "/trail/export", query: q.values()}, "application/jsonl")
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, err = io.Copy(to, resp.Body)
	return err
}

// Watch calls fn for every event until the context ends or fn returns an
// error. A lost connection is taken up again where it broke off.
func (c *Client) Watch(ctx context.Context, fn func(Event) error) error {
	last := int64(-1)
	for {
		err := c.watch(ctx, &last, fn)
		var stop stopWatching
		if errors.As(err, &stop) {
			return stop.err
		}
		var refused *Error
		if errors.As(err, &refused) && refused.Status < 500 {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
	}
}

type stopWatching struct{ err error }

func (s stopWatching) Error() string { return s.err.Error() }

func (c *Client) watch(ctx context.Context, last *int64, fn func(Event) error) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.url+"/api/v1/events", nil)
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	if *last >= 0 {
		req.Header.Set("Last-Event-ID", strconv.FormatInt(*last, 10))
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return &Error{Status: resp.StatusCode, Title: resp.Status}
	}
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data:")
		if !ok {
			continue
		}
		var e Event
		if err := json.Unmarshal([]byte(data), &e); err != nil {
			return err
		}
		*last = e.Seq
		if err := fn(e); err != nil {
			return stopWatching{err}
		}
	}
	return lines.Err()
}

func flag(b bool) string {
	if b {
		return "true"
	}
	return ""
}
