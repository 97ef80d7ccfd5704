package api_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/agent"
	"nimblepane/client"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
)

// answer is what a raw request got.
type answer struct {
	status int
	header http.Header
	text   string
}

func send(t *testing.T, s *servicetest.Service, method, path, token, body string, headers ...string) answer {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), method, s.URL+path, strings.NewReader(body))
	require.NoError(t, err)
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	req.Header.Set("Content-Type", "application/json")
	for i := 0; i < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return answer{resp.StatusCode, resp.Header, string(text)}
}

// last returns the number of the newest entry of the trail, which grows with every change.
func last(t *testing.T, s *servicetest.Service) int64 {
	t.Helper()
	var seq int64
	require.NoError(t, s.Store.DB.Raw("select coalesce(max(seq), 0) from trail where actor <> 'service' and actor "+
		"<> 'agent'").Scan(&seq).Error)
	return seq
}

func TestBadInputIsRefusedWithWhatWouldBeRightAndNothingChanges(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	one := s.Live("back-office")
	two := s.Captured("counter-desk", "bm-counter")
	three := s.Captured("counter-desk", "bm-counter")
	chart := s.Captured("chart-desk", "bm-chart")
	_, err := s.As(role.Approver).Bar(t.Context(), "counter-desk", two, "tickets do not print")
	require.NoError(t, err)
	tokens := map[string]string{}
	for _, r := range role.Roles() {
		tokens[string(r)] = s.Token(r)
	}
	counter := "/api/v1/images/counter-desk/versions/"
	for _, tc := range []struct {
		name, role, method, path, body string
		status                         int
		want                           string
	}{
		{"an unknown image", "viewer", "GET", "/api/v1/images/tide-desk", "", 404, `image \"tide-desk\": not found`},
		{
			"an unknown version", "operator", "POST", counter + "2031.01.1/stage", "{}", 404,
			`version \"2031.01.1\" of image counter-desk`,
		},
		{
			"an unknown pool", "operator", "POST", "/api/v1/rollovers", `{"pools":["tea-room"]}`, 404,
			`pool \"tea-room\"`,
		},
		{"an unknown host", "operator", "POST", "/api/v1/hosts/xx-001/drain", "{}", 404, `host \"xx-001\"`},
		{"an unknown rollover", "viewer", "GET", "/api/v1/rollovers/99", "", 404, "rollover 99"},
		{
			"an unknown session", "operator", "POST", "/api/v1/hosts/bo-001/sessions/s0/sign-off", "{}", 404,
			`session \"s0\"`,
		},
		{
			"an unknown build machine", "operator", "POST", "/api/v1/images/counter-desk/versions",
			`{"build_machine":"bm-tea"}`, 422, "bm-chart at south-quay",
		},
		{
			"a build machine of another class", "operator", "POST", "/api/v1/images/counter-desk/versions",
			`{"build_machine":"bm-chart"}`, 409, problem.Incompatible.URI(),
		},
		{
			"a number that is taken", "operator", "POST", "/api/v1/images/counter-desk/versions",
			`{"build_machine":"bm-counter","number":"` + one + `"}`, 422, "is taken: the next one is",
		},
		{
			"a number of another form", "operator", "POST", "/api/v1/images/counter-desk/versions",
			`{"build_machine":"bm-counter","number":"1.0.0"}`, 422, "YYYY.MM.N",
		},
		{
			"an end-of-life in the past", "operator", "POST", "/api/v1/images/counter-desk/versions",
			`{"build_machine":"bm-counter","end_of_life":"2001-01-01T00:00:00Z"}`, 422, "not in the future",
		},
		{
			"a batch of 0", "operator", "POST", "/api/v1/rollovers",
			`{"pools":["ticket-counters"],"options":{"batch":"0"}}`, 422, "a batch has 1 to 8",
		},
		{
			"a batch of 101 %", "operator", "POST", "/api/v1/rollovers",
			`{"pools":["ticket-counters"],"options":{"batch":"101%"}}`, 422, "from 1% to 100%",
		},
		{
			"a batch in words", "operator", "POST", "/api/v1/rollovers",
			`{"pools":["ticket-counters"],"options":{"batch":"some","grace":"soon"}}`, 422,
			"is not a time: write it as 15m",
		},
		{
			"what cannot be read and what cannot be", "operator", "POST", "/api/v1/rollovers",
			`{"pools":["ticket-counters"],"options":{"grace":"soon","batch":"101%"}}`, 422, "from 1% to 100%",
		},
		{
			"a floor above the pool", "operator", "POST", "/api/v1/rollovers",
			`{"pools":["ticket-counters"],"options":{"floor":"32"}}`, 422, "at most 28 can be free",
		},
		{
			"a log-off policy of one's own", "operator", "POST", "/api/v1/rollovers",
			`{"pools":["ticket-counters"],"options":{"log_off":"shove"}}`, 422, "wait, warn",
		},
		{
			"nothing to roll over", "operator", "POST", "/api/v1/rollovers", `{"pools":["back-office"]}`, 409,
			problem.NothingToDo.URI(),
		},
		{
			"a pool whose track names nothing", "operator", "POST", "/api/v1/rollovers", `{"pools":["chart-plotters"]}`,
			409, "stage or activate a version first",
		},
		{"a version of another image", "operator", "POST", "/api/v1/pools/back-office/pin", `{"version":"` + chart +
			`","reason":"r"}`, 404, `version \"1.0.0\" of image counter-desk`},
		{
			"a barred version", "operator", "POST", counter + two + "/stage", "{}", 409,
			"is blocked: tickets do not print",
		},
		{"a barred version to pin", "operator", "POST", "/api/v1/pools/back-office/pin", `{"version":"` + two +
			`","reason":"r"}`, 409, problem.VersionBlocked.URI()},
		{
			"barring what live names", "approver", "POST", counter + one + "/bar", `{"reason":"r"}`, 409,
			"roll back first",
		},
		{
			"a no without a word", "operator", "POST", counter + one + "/sign-off", `{"yes":false}`, 422,
			problem.ReasonRequired.URI(),
		},
		{
			"signing what is not on trial", "operator", "POST", counter + two + "/sign-off", `{"yes":true}`, 409,
			"stage it first",
		},
		{"a rollback to nothing", "approver", "POST", "/api/v1/images/counter-desk/rollback", `{"leaves":"` + one +
			`","reason":"r"}`, 409, "no fallback"},
		{
			"a rollback of what live does not name", "approver", "POST", "/api/v1/images/counter-desk/rollback",
			`{"leaves":"` + two + `","reason":"r"}`, 412, "somebody moved it since you looked",
		},
		{
			"a rollback that names nothing", "approver", "POST", "/api/v1/images/counter-desk/rollback",
			`{"reason":"r"}`,
			422, "leaves",
		},
		{
			"an operator who pins production to what has no clearance", "operator", "POST",
			"/api/v1/pools/back-office/pin", `{"version":"` + three + `","reason":"r"}`, 403,
			"needs the role that activating needs",
		},
		{"an approver who does", "approver", "POST", "/api/v1/pools/back-office/pin", `{"version":"` + three +
			`","reason":"r"}`, 409, "has no clearance"},
		{"an approver who overrules for a pin", "approver", "POST", "/api/v1/pools/back-office/pin", `{"version":"` +
			three + `","reason":"r","overrule":true}`, 403, "needs the role administrator"},
		{
			"a pool named twice", "operator", "POST", "/api/v1/rollovers", `{"pools":["back-office","back-office"]}`,
			422,
			"is listed twice",
		},
		{"a rollback without a reason", "approver", "POST", "/api/v1/images/counter-desk/rollback", `{"leaves":"` +
			one + `","reason":" "}`, 422, "needs a reason"},
		{
			"a viewer who stages", "viewer", "POST", counter + one + "/stage", "{}", 403,
			"has the role viewer; this needs operator",
		},
		{"a viewer who activates", "viewer", "POST", counter + one + "/activate", "{}", 403, "this needs approver"},
		{
			"an operator who activates", "operator", "POST", counter + one + "/activate", "{}", 403,
			"this needs approver",
		},
		{
			"an approver who overrules", "approver", "POST", counter + two + "/activate",
			`{"overrule":true,"reason":"r"}`,
			403, "needs the role administrator",
		},
		{
			"an operator who loads an estate", "operator", "PUT", "/api/v1/estate", "sites: []", 403,
			"this needs administrator",
		},
		{
			"a weak password", "administrator", "POST", "/api/v1/accounts",
			`{"name":"new","title":"","role":"viewer","password":"short"}`, 422, "length >= 10",
		},
		{
			"an account that is there", "administrator", "POST", "/api/v1/accounts",
			`{"name":"viewer","title":"","role":"viewer","password":"long enough now"}`, 409, "already",
		},
		{
			"taking one's own rights away", "administrator", "PATCH", "/api/v1/accounts/administrator",
			`{"role":"viewer"}`, 409, "your own rights",
		},
		{
			"a field that is not there", "operator", "POST", counter + one + "/stage", `{"colour":"blue"}`, 422,
			"unexpected property",
		},
		{"what is not JSON", "operator", "POST", counter + one + "/stage", `{`, 400, "unexpected"},
		{"a malformed estate file", "administrator", "PUT", "/api/v1/estate", "pools:\n  - name: A\n", 422, "line 2"},
		{
			"an estate that turns the class of an image", "administrator", "PUT", "/api/v1/estate",
			"images: [{name: counter-desk, machine-class: graphics}]", 409, "an image keeps its class",
		},
		{"a cursor of one's own", "viewer", "GET", "/api/v1/hosts?cursor=!!", "", 422, "use next of the previous page"},
		{"a state that is none", "viewer", "GET", "/api/v1/hosts?state=happy", "", 422, "serving"},
		{"an address that is none", "viewer", "GET", "/api/v1/tides", "", 404, "tides"},
	} {
		t.Run(tc.name, func(t *testing.T) {
			before := last(t, s)
			a := send(t, s, tc.method, tc.path, tokens[tc.role], tc.body)
			require.Equal(t, tc.status, a.status, a.text)
			require.Contains(t, a.text, tc.want)
			require.Contains(t, a.header.Get("Content-Type"), "application/problem+json")
			require.Equal(t, before, last(t, s), "something changed")
		})
	}
	t.Run("a body of 10 MB", func(t *testing.T) {
		a := send(t, s, "PUT", "/api/v1/estate", tokens["administrator"], strings.Repeat("# tide\n", 10<<20/7))
		require.Equal(t, http.StatusRequestEntityTooLarge, a.status)
		require.Contains(t, a.text, problem.TooLarge.URI())
	})
}

func TestNothingIsOpenWithoutSignIn(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Estate: "none"})
	var doc struct {
		Paths map[string]map[string]struct {
			OperationID string `json:"operationId"`
		}
	}
	spec := send(t, s, "GET", "/api/openapi.json", "", "")
	require.Equal(t, 200, spec.status)
	require.NoError(t, json.Unmarshal([]byte(spec.text), &doc))
	require.Greater(t, len(doc.Paths), 40)
	for path, operations := range doc.Paths {
		for method, o := range operations {
			if slices.Contains([]string{"sign-in", "health", "readiness", "enrol-agent", "heartbeat", "announce-push"},
				o.OperationID) {
				continue
			}
			path := strings.NewReplacer("{id}", "1", "{", "", "}", "").Replace(path)
			a := send(t, s, strings.ToUpper(method), path, "", "{}", "If-Match", `"1"`)
			require.Equal(t, 401, a.status, "%s %s: %s", method, path, a.text)
		}
	}
	require.Equal(t, 401, send(t, s, "GET", "/api/v1/events", "", "").status)
	require.Equal(t, 401, send(t, s, "POST", agent.HeartbeatPath, "guess", "{}").status)
	require.Equal(t, 401, send(t, s, "POST", agent.EnrolPath, "", `{"token":"guess"}`).status)
	require.Equal(t, 200, send(t, s, "GET", "/healthz", "", "").status)
	require.Equal(t, 200, send(t, s, "GET", "/readyz", "", "").status)
}

func TestTokensCanBeRevokedAndPasswordsEndThem(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Estate: "none"})
	ctx := t.Context()
	made, err := s.As(role.Operator).MakeToken(ctx, client.NewToken{Name: "script", Days: 1})
	require.NoError(t, err)
	script := client.New(s.URL, made.Secret)
	_, err = script.Status(ctx)
	require.NoError(t, err)
	list, err := s.As(role.Operator).Tokens(ctx)
	require.NoError(t, err)
	require.Equal(t, "script", list[0].Name)
	require.NotContains(t, fmt.Sprint(list), made.Secret, "the secret is shown once")
	var stored int
	require.NoError(t, s.Store.DB.Raw("select count(*) from tokens where position(convert_to(?, 'UTF8') in secret) > 0",
		made.Secret).Scan(&stored).Error)
	require.Zero(t, stored, "and kept as a hash only")

	err = s.As(role.Viewer).RevokeToken(ctx, made.ID)
	require.True(t, client.IsStatus(err, 404), "another's token: %v", err)
	require.NoError(t, s.As(role.Operator).RevokeToken(ctx, made.ID))
	_, err = script.Status(ctx)
	require.True(t, client.IsStatus(err, 401), "%v", err)
	require.ErrorContains(t, err, "was revoked")

	password := "another long one"
	_, err = s.As(role.Administrator).EditAccount(ctx, "operator", client.AccountEdit{Password: &password})
	require.NoError(t, err)
	_, err = s.As(role.Operator).Status(ctx)
	require.True(t, client.IsStatus(err, 401), "a new password ends the old tokens")
	_, err = client.New(s.URL, "").SignIn(ctx, "operator", servicetest.Password, "x")
	require.ErrorContains(t, err, "name or password is wrong")
	off := true
	_, err = s.As(role.Administrator).EditAccount(ctx, "viewer", client.AccountEdit{Disabled: &off})
	require.NoError(t, err)
	_, err = s.As(role.Viewer).Status(ctx)
	require.True(t, client.IsStatus(err, 401), "%v", err)
}

func TestConsoleSessionsNeedTheirCSRFToken(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Estate: "none"})
	in := send(t, s, "POST", "/api/v1/session", "", `{"name":"administrator","password":"`+servicetest.Password+`"}`)
	require.Equal(t, 200, in.status, in.text)
	cookie := in.header.Get("Set-Cookie")
	require.Contains(t, cookie, "HttpOnly")
	require.Contains(t, cookie, "SameSite=Strict")
	var signed client.SignedIn
	require.NoError(t, json.Unmarshal([]byte(in.text), &signed))
	cookie, _, _ = strings.Cut(cookie, ";")
	body := `{"name":"script","days":1}`
	require.Equal(t, 403, send(t, s, "POST", "/api/v1/tokens", "", body, "Cookie", cookie).status)
	require.Equal(t, 403, send(t, s, "POST", "/api/v1/tokens", "", body, "Cookie", cookie, "X-CSRF-Token",
		"guess").status)
	require.Equal(t, 201, send(t, s, "POST", "/api/v1/tokens", "", body, "Cookie", cookie, "X-CSRF-Token",
		signed.CSRF).status)
	require.Equal(t, 204, send(t, s, "DELETE", "/api/v1/session", "", "", "Cookie", cookie).status)
	require.Equal(t, 401, send(t, s, "GET", "/api/v1/session", "", "", "Cookie", cookie).status)
}

func TestAStaleEditIsRefused(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	ctx := t.Context()
	number := s.Captured("counter-desk", "bm-counter")
	c := s.As(role.Operator)
	v, err := c.Version(ctx, "counter-desk", number)
	require.NoError(t, err)
	mine, theirs := "mine", "theirs"
	_, err = c.EditVersion(ctx, "counter-desk", number, v.Revision,
		client.VersionEdit{Notes: &theirs, Tags: &[]string{"winter"}})
	require.NoError(t, err)
	_, err = c.EditVersion(ctx, "counter-desk", number, v.Revision, client.VersionEdit{Notes: &mine})
	require.True(t, client.IsStatus(err, 412), "%v", err)
	require.ErrorContains(t, err, "read it again")
	v, err = c.Version(ctx, "counter-desk", number)
	require.NoError(t, err)
	require.Equal(t, theirs, v.Notes)
	require.Equal(t, []string{"winter"}, v.Tags)
	require.Equal(t, 428, send(t, s, "PATCH", "/api/v1/images/counter-desk/versions/"+number, s.Token(role.Operator),
		"{}").status)
}

func TestARepeatedRequestDoesTheThingOnce(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	token := s.Token(role.Operator)
	post := func(path, key, body string) answer {
		return send(t, s, "POST", path, token, body, "Idempotency-Key", key)
	}
	const tell = "/api/v1/pools/ticket-counters/tell"
	first := post(tell, "k", `{"text":"hello"}`)
	again := post(tell, "k", `{"text":"hello"}`)
	require.Equal(t, 200, again.status)
	require.Equal(t, first.text, again.text)
	require.Equal(t, "true", again.header.Get("Idempotent-Replay"))
	require.Equal(t, 422, post(tell, "k", `{"text":"other"}`).status)
	require.Equal(t, 422, post(tell, "l", `{"text":""}`).status)
	require.Equal(t, 200, post(tell, "l", `{"text":"hello"}`).status, "what was refused may be tried again")

	// The secret of a token is shown once, and kept nowhere.
	made := post("/api/v1/tokens", "t", `{"name":"script","days":1}`)
	require.Equal(t, 201, made.status, made.text)
	replay := post("/api/v1/tokens", "t", `{"name":"script","days":1}`)
	require.Equal(t, 409, replay.status)
	require.Contains(t, replay.text, "its secret is shown only once")
	var secret client.MadeToken
	require.NoError(t, json.Unmarshal([]byte(made.text), &secret))
	var kept int
	require.NoError(t, s.Store.DB.Raw("select count(*) from replies where position(convert_to(?, 'UTF8') in body) > 0",
		secret.Secret).Scan(&kept).Error)
	require.Zero(t, kept)
}

func TestLoadingAnEstateTwiceChangesNothing(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Estate: "none"})
	ctx := t.Context()
	admin := s.As(role.Administrator)
	file := s.EstateFile(servicetest.Estate)
	dry, err := admin.LoadEstate(ctx, file, true)
	require.NoError(t, err)
	pools, err := admin.Pools(ctx)
	require.NoError(t, err)
	require.Empty(t, pools, "a dry run loads nothing")
	real, err := admin.LoadEstate(ctx, file, false)
	require.NoError(t, err)
	require.Equal(t, dry, real)
	again, err := admin.LoadEstate(ctx, file, false)
	require.NoError(t, err)
	require.Empty(t, again.Changes)
	shown, err := admin.Estate(ctx)
	require.NoError(t, err)
	again, err = admin.LoadEstate(ctx, shown, false)
	require.NoError(t, err, "what is shown can be loaded:\n%s", shown)
	require.Empty(t, again.Changes)

	grown := bytes.Replace(file, []byte("hosts: 4"), []byte("hosts: 6"), 1)
	more, err := admin.LoadEstate(ctx, grown, false)
	require.NoError(t, err)
	require.Equal(t, []string{"pool back-office: hosts from 4 to 6"}, more.Changes)
	hosts, err := admin.Hosts(ctx, client.HostQuery{Pool: "back-office"})
	require.NoError(t, err)
	require.Len(t, hosts, 6)
	_, err = admin.LoadEstate(ctx, file, false)
	require.ErrorContains(t, err, "it can grow, and does not shrink")
}

func TestPagesFollowOneAnother(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	token := s.Token(role.Viewer)
	var names []string
	path := "/api/v1/hosts?limit=4"
	for path != "" {
		var p client.Page[client.Host]
		require.NoError(t, json.Unmarshal([]byte(send(t, s, "GET", path, token, "").text), &p))
		require.LessOrEqual(t, len(p.Items), 4)
		for _, h := range p.Items {
			names = append(names, h.Name)
		}
		path = ""
		if p.Next != "" {
			path = "/api/v1/hosts?limit=4&cursor=" + p.Next
		}
	}
	require.Len(t, names, 15)
	require.IsIncreasing(t, names)
}

func TestTheEventStreamIsTakenUpWhereItBrokeOff(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Estate: "none"})
	token := s.Token(role.Viewer)
	listen := func(lastID string, n int, act func()) (ids, kinds []string) {
		req, err := http.NewRequestWithContext(t.Context(), "GET", s.URL+"/api/v1/events", nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		if lastID != "" {
			req.Header.Set("Last-Event-ID", lastID)
		}
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		require.Equal(t, "text/event-stream", resp.Header.Get("Content-Type"))
		lines := bufio.NewScanner(resp.Body)
		for lines.Scan() {
			if strings.HasPrefix(lines.Text(), "retry:") {
				act()
			}
			if id, ok := strings.CutPrefix(lines.Text(), "id:"); ok {
				ids = append(ids, id)
			}
			if data, ok := strings.CutPrefix(lines.Text(), "data:"); ok {
				var e client.Event
				require.NoError(t, json.Unmarshal([]byte(data), &e))
				kinds = append(kinds, e.Kind)
				if len(kinds) == n {
					return ids, kinds
				}
			}
		}
		require.NoError(t, lines.Err())
		return ids, kinds
	}
	act := func() {
		_, err := s.As(role.Administrator).AddAccount(t.Context(),
			client.NewAccount{
				Name: fmt.Sprintf("a%d", time.Now().UnixNano()), Role: role.Viewer,
				Password: servicetest.Password,
			})
		require.NoError(t, err)
	}
	s.As(role.Administrator) // signs in, which is an event itself
	ids, kinds := listen("", 1, act)
	require.Equal(t, []string{"account.add"}, kinds)
	act()
	act()
	missed, kinds := listen(ids[0], 2, func() {})
	require.Equal(t, []string{"account.add", "account.add"}, kinds)
	require.NotEqual(t, ids[0], missed[0])
	require.Equal(t, 400, send(t, s, "GET", "/api/v1/events", token, "", "Last-Event-ID", "soon").status)
}

func TestAnEstateThatIsShownCanBeLoaded(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Estate: "none"})
	admin := s.As(role.Administrator)
	file := strings.NewReplacer("soak: 0s, copies: 2", "soak: 30s, copies: 2", "soak: 0s, copies: 1",
		"soak: 1h0m30s, copies: 1", "name: back-office,",
		`name: back-office, title: "1e3: it's # \"odd\"",`).Replace(servicetest.Estate)
	_, err := admin.LoadEstate(t.Context(), s.EstateFile(file), false)
	require.NoError(t, err)
	shown, err := admin.Estate(t.Context())
	require.NoError(t, err)
	require.Contains(t, string(shown), "soak: 30s")
	loaded, err := admin.LoadEstate(t.Context(), shown, false)
	require.NoError(t, err, string(shown))
	require.Empty(t, loaded.Changes)
}
