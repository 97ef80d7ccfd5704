package api_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"html"
	"io"
	"net/http"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/andybalholm/brotli"
	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
)

func TestAnswersAreCompressedAsTheCallerAcceptsIt(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	token := s.Token(role.Operator)
	get := func(path, accept string) answer {
		return send(t, s, "GET", path, token, "", "Accept-Encoding", accept)
	}
	const path = "/api/v1/hosts"
	plain := get(path, "identity")
	require.Equal(t, 200, plain.status)
	require.Empty(t, plain.header.Get("Content-Encoding"))
	require.Greater(t, len(plain.text), 4<<10)
	require.Contains(t, plain.header.Values("Vary"), "Accept-Encoding")
	for accept, encoding := range map[string]string{
		"br": "br", "gzip": "gzip", "gzip, br": "br", "br;q=0, gzip": "gzip", "br;q=0.5, gzip;q=1.0": "br", "zstd": "",
	} {
		a := get(path, accept)
		require.Equal(t, encoding, a.header.Get("Content-Encoding"), accept)
		require.Equal(t, plain.text, opened(t, a), accept)
		if encoding != "" {
			require.Less(t, len(a.text), len(plain.text)/2, accept)
		}
	}

	// Other methods and event streams are not compressed.
	made := send(t, s, "POST", "/api/v1/previews", token, `{"act":"roll","pools":["ticket-counters"]}`,
		"Accept-Encoding", "br, gzip")
	require.Empty(t, made.header.Get("Content-Encoding"))
	ctx, end := context.WithCancel(t.Context())
	defer end()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.URL+"/api/v1/events", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+token)
	req.Header.Set("Accept-Encoding", "br, gzip")
	stream, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	require.NoError(t, stream.Body.Close())
	require.Equal(t, "text/event-stream", stream.Header.Get("Content-Type"))
	require.Empty(t, stream.Header.Get("Content-Encoding"))
}

// opened is the text of an answer, decompressed.
func opened(t *testing.T, a answer) string {
	t.Helper()
	var r io.Reader = strings.NewReader(a.text)
	var err error
	switch a.header.Get("Content-Encoding") {
	case "br":
		r = brotli.NewReader(r)
	case "gzip":
		r, err = gzip.NewReader(r)
		require.NoError(t, err)
	}
	text, err := io.ReadAll(r)
	require.NoError(t, err)
	return string(text)
}

func TestTheConsolesFilesComeAsTheyWereBuilt(t *testing.T) {
	t.Parallel()
	script := strings.Repeat("export const pane = 1;\n", 100)
	var br, gz bytes.Buffer
	b := brotli.NewWriter(&br)
	_, err := b.Write([]byte(script))
	require.NoError(t, err)
	require.NoError(t, b.Close())
	g := gzip.NewWriter(&gz)
	_, err = g.Write([]byte(script))
	require.NoError(t, err)
	require.NoError(t, g.Close())
	s := servicetest.Start(t, servicetest.Options{Estate: "none", Console: fstest.MapFS{
		"index.html":         {Data: []byte("<title>Nimble Pane</title>")},
		"assets/app-1.js":    {Data: []byte(script)},
		"assets/app-1.js.br": {Data: br.Bytes()},
		"assets/app-1.js.gz": {Data: gz.Bytes()},
		"assets/icon-2.svg":  {Data: []byte("<svg/>")},
	}})
	get := func(path string, headers ...string) answer { return send(t, s, "GET", path, "", "", headers...) }
	for accept, content := range map[string]string{
		"br, gzip": br.String(), "gzip": gz.String(), "br;q=0, gzip": gz.String(), "identity": script,
	} {
		a := get("/assets/app-1.js", "Accept-Encoding", accept)
		require.Equal(t, 200, a.status)
		require.Equal(t, content, a.text, accept)
		require.Equal(t, script, opened(t, a))
		require.Contains(t, a.header.Get("Content-Type"), "javascript")
		require.Contains(t, a.header.Get("Cache-Control"), "immutable")
		again := get("/assets/app-1.js", "Accept-Encoding", accept, "If-None-Match", a.header.Get("ETag"))
		require.Equal(t, 304, again.status)
		require.Empty(t, again.text)
	}
	require.Equal(t, "<svg/>", get("/assets/icon-2.svg", "Accept-Encoding", "br").text)

	// A file of another release is not found. The page is not sent in its place.
	for _, path := range []string{"/assets/app-0.js", "/assets", "/assets/", "/assets/../assets/app-0.js"} {
		gone := get(path)
		if gone.status != http.StatusOK { // the page, for a path that names no file
			require.Equal(t, 404, gone.status, path)
			require.Equal(t, "no-store", gone.header.Get("Cache-Control"))
			require.Contains(t, gone.text, "this release of the console has no file")
		} else {
			require.Equal(t, "/assets", path)
		}
	}
	page := get("/images/counter-desk")
	require.Contains(t, page.text, "Nimble Pane")
	require.Equal(t, "no-cache", page.header.Get("Cache-Control"))
	require.Equal(t, 304, get("/pools", "If-None-Match", page.header.Get("ETag")).status)
}

func TestAChangeSaysWhichRevisionItStartsFrom(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	token := s.Token(role.Operator)
	const at = "/api/v1/sheets/desk"
	save := func(headers ...string) answer {
		return send(t, s, "PUT", at, token, `{"text":"image: counter-desk\n"}`, headers...)
	}
	for header, status := range map[string]int{
		`"3"`: 412, `*`: 412, `W/"0"`: 412, `3`: 400, `"3`: 400, `"3" "4"`: 400, "": 428,
	} {
		if a := save("If-Match", header); a.status != status {
			t.Errorf("a new sheet with If-Match: %s: %d, want %d: %s", header, a.status, status, a.text)
		}
	}
	made := save("If-None-Match", "*")
	require.Equal(t, 201, made.status, made.text)
	require.Equal(t, `"1"`, made.header.Get("ETag"))
	require.Equal(t, 412, save("If-None-Match", "*").status, "there is one already")
	revision := 1
	for _, c := range []struct {
		header string
		status int
	}{
		{`"1"`, 200},
		{`"1"`, 412},
		{`"7", "2"`, 200},
		{`"7" , W/"3"`, 412},
		{`W/"3"`, 412},
		{`"3",`, 200},
		{"*", 200},
		{`"4", "5"`, 200},
	} {
		a := save("If-Match", c.header)
		require.Equal(t, c.status, a.status, "%s at revision %d: %s", c.header, revision, a.text)
		if c.status == 200 {
			revision++
			require.Equal(t, fmt.Sprintf(`"%d"`, revision), a.header.Get("ETag"))
		}
	}

	read := func(header string) answer { return send(t, s, "GET", at, token, "", "If-None-Match", header) }
	now := read(`"1"`)
	require.Equal(t, 200, now.status)
	tag := now.header.Get("ETag")
	for _, header := range []string{tag, "W/" + tag, `"1", ` + tag, "*"} {
		same := read(header)
		require.Equal(t, 304, same.status, header)
		require.Empty(t, same.text)
		require.Equal(t, tag, same.header.Get("ETag"))
	}
	require.Equal(t, 200, read("nonsense").status)
	require.Equal(t, 404, send(t, s, "GET", at+"s", token, "", "If-None-Match", "*").status)
}

func TestWhatIsCreatedIsReadAtItsLocation(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	token := s.Token(role.Administrator)
	for path, body := range map[string]string{
		"/bases":    `{"name":"harbour-13","size":4096}`,
		"/feeds":    `{"name":"harbour","address":"https://192.0.2.1/index.json"}`,
		"/accounts": `{"name":"petra","title":"Petra","role":"viewer","password":"a long enough one"}`,
		"/tokens":   `{"name":"script","days":1}`,
	} {
		a := send(t, s, "POST", "/api/v1"+path, token, body, "Idempotency-Key", path)
		require.Equal(t, 201, a.status, "%s: %s", path, a.text)
		at := a.header.Get("Location")
		require.True(t, strings.HasPrefix(at, "/api/v1"+path+"/"), "%s: %q", path, at)
		if path != "/accounts" && path != "/tokens" { // those are read in their lists
			require.Equal(t, 200, send(t, s, "GET", at, token, "").status, at)
		}
		if path != "/tokens" {
			again := send(t, s, "POST", "/api/v1"+path, token, " "+body, "Idempotency-Key", path)
			require.Equal(t, 201, again.status, again.text)
			require.Equal(t, at, again.header.Get("Location"))
		}
	}
}

func TestPagesLinkToTheNext(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	token := s.Token(role.Viewer)
	seen, at := 0, "/api/v1/hosts?limit=2&pool=ticket-counters"
	for at != "" {
		a := send(t, s, "GET", at, token, "")
		require.Equal(t, 200, a.status, a.text)
		var p client.Page[client.Host]
		require.NoError(t, json.Unmarshal([]byte(a.text), &p))
		seen += len(p.Items)
		link := a.header.Get("Link")
		require.Equal(t, p.Next != "", link != "")
		at = ""
		if link != "" {
			next, ok := strings.CutSuffix(link, `>; rel="next"`)
			require.True(t, ok, link)
			at = strings.TrimPrefix(next, "<")
		}
	}
	pool, err := s.As(role.Viewer).Pool(t.Context(), "ticket-counters")
	require.NoError(t, err)
	require.Equal(t, pool.Hosts, seen)
	require.Greater(t, seen, 2)
}

func TestARepeatedRequestIsComparedByItsMeaning(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	token := s.Token(role.Operator)
	post := func(path, body string) answer {
		return send(t, s, "POST", path, token, body, "Idempotency-Key", "k")
	}
	const path = "/api/v1/previews"
	require.Equal(t, 200, post(path, `{"act":"roll","pools":["ticket-counters"]}`).status)
	for _, body := range []string{
		`{"pools":["ticket-counters"],"act":"roll"}`,
		"{\n \"act\": \"r\\u006fll\", \"pools\": [\"ticket-counters\"]}\n",
	} {
		again := post(path, body)
		require.Equal(t, 200, again.status, again.text)
		require.Equal(t, "true", again.header.Get("Idempotent-Replay"))
	}
	for _, body := range []string{`{"act":"roll","pools":["back-office"]}`, `{"act":"roll"}`} {
		require.Equal(t, 422, post(path, body).status)
	}
	require.Equal(t, 422, post(path+"?urgent=1", `{"act":"roll","pools":["ticket-counters"]}`).status,
		"the query counts")
}

func TestProblemsHaveATypeForPrograms(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	number := s.Captured("counter-desk", "bm-counter")
	operator, approver := s.Token(role.Operator), s.Token(role.Approver)
	const version = "/api/v1/images/counter-desk/versions/"
	for kind, a := range map[string]answer{
		"not-signed-in":         send(t, s, "GET", "/api/v1/hosts", "", ""),
		"forbidden":             send(t, s, "POST", version+number+"/activate", operator, "{}"),
		"not-found":             send(t, s, "GET", "/api/v1/hosts/none", operator, ""),
		"invalid-request":       send(t, s, "POST", "/api/v1/rollovers", operator, `{"pools":[]}`),
		"malformed-request":     send(t, s, "POST", "/api/v1/rollovers", operator, `{"pools":`),
		"not-cleared":           send(t, s, "POST", version+number+"/activate", approver, "{}"),
		"no-fallback":           send(t, s, "POST", "/api/v1/images/counter-desk/rollback", approver, `{"leaves":"`+number+`","reason":"x"}`),
		"changed-since-read":    send(t, s, "PATCH", version+number, operator, "{}", "If-Match", `"99"`),
		"precondition-required": send(t, s, "PATCH", version+number, operator, "{}"),
		"too-large":             send(t, s, "POST", "/api/v1/rollovers", operator, `{"reason":"`+strings.Repeat("x", 2<<20)+`"}`),
	} {
		var problem client.Error
		require.NoError(t, json.Unmarshal([]byte(a.text), &problem), a.text)
		require.Equal(t, "/problems/"+kind, problem.Type, a.text)
		require.Equal(t, a.status, problem.Status)
	}
}

func TestEveryProblemTypeIsDescribedUnderItsURI(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Estate: "none"})
	list := send(t, s, "GET", problem.Prefix, "", "")
	require.Equal(t, 200, list.status)
	for _, e := range problem.All {
		require.Contains(t, list.text, e.Type.URI())
		page := send(t, s, "GET", e.Type.URI(), "", "")
		require.Equal(t, 200, page.status, e.Type)
		require.Contains(t, page.text, html.EscapeString(e.Remedy))
	}
	require.Equal(t, 404, send(t, s, "GET", problem.Prefix+"none", "", "").status)
}
