package api_test

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/api"
	"nimblepane/client"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
)

// The description of the API, as far as requests are made from it.
type (
	schema struct {
		Ref        string             `json:"$ref"`
		Type       any                `json:"type"`
		Properties map[string]*schema `json:"properties"`
		Required   []string           `json:"required"`
		Items      *schema            `json:"items"`
		Enum       []any              `json:"enum"`
		Format     string             `json:"format"`
	}
	described struct {
		Method, Path string
		OperationID  string `json:"operationId"`
		Parameters   []struct {
			Name, In string
			Schema   *schema
		} `json:"parameters"`
		RequestBody struct {
			Content map[string]struct{ Schema *schema }
		} `json:"requestBody"`
	}
	document struct {
		Paths      map[string]map[string]described
		Components struct{ Schemas map[string]*schema }
	}
)

func (d document) resolve(s *schema) *schema {
	if s != nil && s.Ref != "" {
		return d.Components.Schemas[s.Ref[strings.LastIndex(s.Ref, "/")+1:]]
	}
	return s
}

// kind is the type of a value that a schema asks for.
func (s *schema) kind() string {
	switch t := s.Type.(type) {
	case string:
		return t
	case []any:
		return fmt.Sprint(t[0])
	}
	return "object"
}

// sample is a value that fits.
func (d document) sample(s *schema) any {
	s = d.resolve(s)
	switch {
	case len(s.Enum) > 0:
		return s.Enum[0]
	case s.Format == "date-time":
		return "2031-05-31T00:00:00Z"
	}
	switch s.kind() {
	case "string":
		return "a fitting text"
	case "integer", "number":
		return 1
	case "boolean":
		return false
	case "array":
		return []any{}
	}
	out := map[string]any{}
	for _, name := range s.Required {
		out[name] = d.sample(s.Properties[name])
	}
	return out
}

// operations reads all that are called with a token; the others have tests of their own.
func operations(t testing.TB) (d document, list []described) {
	text, err := api.Describe("test")
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &d))
	for _, path := range slices.Sorted(maps.Keys(d.Paths)) {
		for _, method := range slices.Sorted(maps.Keys(d.Paths[path])) {
			o := d.Paths[path][method]
			o.Path, o.Method = path, strings.ToUpper(method)
			// Signing out ends what the test asks with; a stream does not end.
			if !slices.Contains([]string{"sign-out", "events"}, o.OperationID) {
				list = append(list, o)
			}
		}
	}
	return d, list
}

// good are values of path parameters that name something.
var good = map[string]string{
	"image": "counter-desk", "number": "2026.11.1", "pool": "ticket-counters", "host": "tc-001", "id": "1",
	"site":    "north-quay",
	"machine": "bm-counter", "key": "s1", "name": "viewer",
}

var hostileJSON = []string{
	`null`, `true`, `0`, `-1`, `9223372036854775807`, `9223372036854775808`, `-9223372036854775808`, `1e400`, `1.5`,
	`""`, `" "`, `"\u0000"`, `"a\u0000b"`, `"\ud800"`,
	`"` + strings.Repeat("x", 5000) + `"`, `"0000-01-01T00:00:00Z"`, `"0001-01-01T00:00:00Z"`, `"9999-12-31T23:59:59Z"`,
	`"9999-12-31T23:59:59-23:59"`, `[]`, `{}`, `[null]`, `[""]`, `["\u0000"]`,
	`[[[[[]]]]]`, `{"a":{"b":1}}`, `"-5%"`, `"99999999999999999999%"`, `"101%"`, `"2562047h47m16.854775807s"`, `"-1h"`,
	`"1e9h"`, `"'; drop table hosts; --"`, `"%s%n%x"`,
	`"../../etc/passwd"`, `"😀"`, `"a/b"`, `"\u202e"`, `"\u001b]0;x\u0007"`, "\"\xff\xfe\"", `{`, `"a","a"`, ``, `["` +
		strings.Repeat(`x","`, 2000) + `x"]`,
}

var hostileText = []string{
	"", " ", "%00", "a%00b", "%ff%fe", "..", "..%2f..%2fetc", "%2e%2e%2f", "-1", "0", "9223372036854775808",
	"99999999999999999999999", "'", `"`, "%", "%zz", ";", "a%0d%0ab", "😀", "%f0%9f%98%80",
	strings.Repeat("x", 4000), "null", "true", "1e9", "2026-11-23", "0000-01-01T00:00:00Z", "9999-12-31T23:59:59Z",
	"AAAA", "LTE", "eHg", "!!", "%e2%80%ae", "a/b", "*", "1;2", "{}", "${x}",
}

var hostileEstate = []string{
	"", "[", "pools: 1", "sites: [{}]", "a: &a [*a]", strings.Repeat("[", 60_000), strings.Repeat("- ", 30_000),
	"sites: [{name: \"\\u0000\"}]", "\xff", "\x00", "sites:\n- name: null\n",
	"images: [{name: a, machine-class: b, clearance: {testers: 99999999999999999999}}]",
	"pools: [{name: a, hosts: -1}]", "? x", "!!binary x",
	"sites: [{name: a, platform: practice, address: \"http://%zz\", starts-per-minute: 9223372036854775807}]",
	"%YAML 9.9\n---\na: 1", "a: |\n" + strings.Repeat(" ", 200) + "x",
}

// caller sends requests to a service, and sees that none of them is answered as a fault of the service's.
type caller struct {
	s     *servicetest.Service
	token string
	http  *http.Client
}

func newCaller(t testing.TB) *caller {
	s := servicetest.Start(t, servicetest.Options{})
	s.Captured("counter-desk", "bm-counter")
	token := s.Token(role.Administrator)
	// The token also passes for the credential of a host's agent, so that heartbeats get past the door.
	sum := sha256.Sum256([]byte(token))
	require.NoError(t, s.Store.DB.Exec("update pulses set credential = ? where host_id = (select id from hosts "+
		"where name = 'tc-001')", sum[:]).Error)
	return &caller{s: s, token: token, http: &http.Client{Timeout: 30 * time.Second}}
}

func (c *caller) call(o described, path, query, body, contentType string) error {
	var reader io.Reader
	if body != "" {
		reader = strings.NewReader(body)
	}
	req, err := http.NewRequest(o.Method, c.s.URL, reader)
	if err != nil {
		return nil // no client could send it
	}
	req.URL = &url.URL{Scheme: "http", Host: req.URL.Host, Opaque: path, RawQuery: query}
	req.Header.Set("Authorization", "Bearer "+c.token)
	req.Header.Set("Content-Type", contentType)
	req.Header.Set("If-Match", `"1"`)
	resp, err := c.http.Do(req)
	if err != nil {
		return nil // refused before it was a request
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(resp.Body)
	// A queue for passwords that is full says so.
	if resp.StatusCode >= 500 && resp.Header.Get("Retry-After") == "" {
		return fmt.Errorf("%s %s?%s %.200q: %d %s", o.Method, path, query, body, resp.StatusCode, text)
	}
	return nil
}

// address fills the path of an operation, with one parameter as is given.
func address(o described, name, value string) string {
	path := o.Path
	for n, v := range good {
		if n == name {
			v = value
		}
		path = strings.ReplaceAll(path, "{"+n+"}", v)
	}
	return path
}

// bodies are the body of an operation with each field in turn as each value.
func (d document) bodies(s *schema, values []string, each func(string)) {
	s = d.resolve(s)
	if s == nil || s.kind() != "object" {
		return
	}
	for _, v := range values {
		each(v)
	}
	for _, name := range slices.Sorted(maps.Keys(s.Properties)) {
		base, _ := d.sample(s).(map[string]any)
		put := func(raw string) {
			base[name] = "FIELD"
			text, _ := json.Marshal(base)
			each(strings.Replace(string(text), `"FIELD"`, raw, 1))
		}
		for _, v := range values {
			put(v)
		}
		if inner := d.resolve(s.Properties[name]); inner.kind() == "object" {
			d.bodies(inner, values, put)
		}
	}
}

func TestHostileValuesAreTheCallersFault(t *testing.T) {
	t.Parallel()
	c := newCaller(t)
	d, list := operations(t)
	type request struct {
		o                              described
		path, query, body, contentType string
	}
	requests := make(chan request)
	var crowd sync.WaitGroup
	for range 8 {
		crowd.Go(func() {
			for r := range requests {
				if err := c.call(r.o, r.path, r.query, r.body, r.contentType); err != nil {
					t.Error(err)
				}
			}
		})
	}
	n := 0
	for _, o := range list {
		send := func(path, query, body string) {
			contentType := "application/json"
			if _, ok := o.RequestBody.Content["application/yaml"]; ok {
				contentType = "application/yaml"
			}
			n++
			requests <- request{o, path, query, body, contentType}
		}
		var body *schema
		if content, ok := o.RequestBody.Content["application/json"]; ok {
			body = content.Schema
		}
		fitting := ""
		if body != nil {
			text, err := json.Marshal(d.sample(body))
			require.NoError(t, err)
			fitting = string(text)
		}
		for _, p := range o.Parameters {
			for _, v := range hostileText {
				switch p.In {
				case "path":
					send(address(o, p.Name, v), "", fitting)
				case "query":
					send(address(o, "", ""), p.Name+"="+v, fitting)
				}
			}
		}
		d.bodies(body, hostileJSON, func(text string) { send(address(o, "", ""), "", text) })
		if _, raw := o.RequestBody.Content["application/yaml"]; raw {
			for _, text := range hostileEstate {
				send(address(o, "", ""), "", text)
			}
		}
	}
	close(requests)
	crowd.Wait()
	require.Greater(t, n, 5000)
	t.Logf("%d requests", n)
	_, err := client.New(c.s.URL, c.token).Hosts(t.Context(), client.HostQuery{})
	require.NoError(t, err)
}

// FuzzAPI makes requests from whatever the fuzzer comes up with: an operation,
// and values for all of its parameters and fields.
func FuzzAPI(f *testing.F) {
	slog.SetDefault(slog.New(slog.DiscardHandler))
	c := newCaller(f)
	d, list := operations(f)
	for i := range list {
		f.Add(uint16(i), uint64(i), "x", "y")
	}
	f.Fuzz(func(t *testing.T, which uint16, seed uint64, one, two string) {
		o := list[int(which)%len(list)]
		r := rand.New(rand.NewPCG(seed, 3))
		text := func() string {
			return []string{
				one, two, url.PathEscape(one), url.QueryEscape(two),
				hostileText[r.IntN(len(hostileText))],
			}[r.IntN(5)]
		}
		raw := func() string {
			quoted, _ := json.Marshal(one)
			return []string{
				one, two, string(quoted), `"` + two + `"`, hostileJSON[r.IntN(len(hostileJSON))],
				fmt.Sprint(int64(seed)),
			}[r.IntN(6)]
		}
		path, query := o.Path, url.Values{}
		for _, p := range o.Parameters {
			v := good[p.Name]
			if v == "" || r.IntN(3) == 0 {
				v = text()
			}
			if p.In == "path" {
				path = strings.ReplaceAll(path, "{"+p.Name+"}", v)
			} else if p.In == "query" && r.IntN(2) == 0 {
				query.Set(p.Name, v)
			}
		}
		body := two
		if content, ok := o.RequestBody.Content["application/json"]; ok && r.IntN(8) > 0 {
			var fields []string
			for name, s := range d.resolve(content.Schema).Properties {
				value, _ := json.Marshal(d.sample(s))
				if r.IntN(2) == 0 {
					value = []byte(raw())
				}
				fields = append(fields, fmt.Sprintf("%q:%s", name, value))
			}
			body = "{" + strings.Join(fields, ",") + "}"
		}
		contentType := "application/json"
		if o.OperationID == "load-estate" {
			contentType = "application/yaml"
		}
		if err := c.call(o, path, query.Encode(), body, contentType); err != nil {
			t.Error(err)
		}
	})
}
