package api_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/api"
	"nimblepane/client"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
)

func signInAs(t *testing.T, s *servicetest.Service, name, password string) answer {
	t.Helper()
	return send(t, s, "POST", "/api/v1/session", "",
		fmt.Sprintf(`{"name":%q,"password":%q,"token":"t"}`, name, password))
}

func TestGuessingPasswordsIsSlowedDownHoweverManyAtOnce(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Estate: "none"})
	var crowd sync.WaitGroup
	answers := make(chan answer, 24)
	began := time.Now()
	for range 24 {
		crowd.Go(func() { answers <- signInAs(t, s, "viewer", "a guess of mine") })
	}
	crowd.Wait()
	close(answers)
	tried := 0
	for a := range answers {
		switch a.status {
		case 401:
			tried++
		case 429, 503:
			require.NotEmpty(t, a.header.Get("Retry-After"), a.text)
		default:
			require.Fail(t, a.text)
		}
	}
	// After five, one more for each wait that passes, of 1, 2, 4 s and so on.
	require.LessOrEqual(t, tried, 5+int(math.Log2(1+time.Since(began).Seconds())))
	// Those that the guard turned away were counted and not looked at; five are counted soon.
	var a answer
	for n := 0; n < 12 && a.status != 429; n++ {
		a = signInAs(t, s, "viewer", "a guess of mine")
	}
	require.Equal(t, 429, a.status)
	// however slow the test is
	require.NoError(t, s.Store.DB.Exec("update sign_in_tries set next_at = next_at + interval '20 seconds' where "+
		"key = 'name viewer'").Error)
	a = signInAs(t, s, "viewer", servicetest.Password)
	require.Equal(t, 429, a.status, "the owner waits, too")
	require.Contains(t, a.text, "too many failed sign-ins: wait")
	var wait float64
	require.NoError(t, s.Store.DB.Raw("select extract(epoch from next_at - now()) from sign_in_tries where key = "+
		"'name viewer'").Scan(&wait).Error)
	require.LessOrEqual(t, wait, 60.0, "but not for long")
	require.NoError(t, s.Store.DB.Exec("update sign_in_tries set next_at = now()").Error) // the wait is over
	require.Equal(t, 200, signInAs(t, s, "viewer", servicetest.Password).status)

	// What went wrong is in the trail, summed up, and names nobody who is not there.
	require.Equal(t, 401, signInAs(t, s, "my-password-by-mistake", "x").status)
	s.Until("the trail to tell", func() bool {
		entries, err := s.As(role.Administrator).Trail(t.Context(), client.TrailQuery{Verb: "account.wrong-password"},
			10)
		require.NoError(t, err)
		require.NotContains(t, fmt.Sprint(entries), "by-mistake")
		return len(entries) >= 2
	})
	var kept int
	require.NoError(t, s.Store.DB.Raw("select count(*) from trail where verb = 'account.wrong-password'").Scan(
		&kept).Error)
	require.LessOrEqual(t, kept, 4)
	// A name of a megabyte is not kept.
	require.Equal(t, 422, signInAs(t, s, strings.Repeat("x", 500_000), "y").status)
}

func TestAnAddressThatTriesManyNamesWaits(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Estate: "none"})
	for i := range 30 {
		if a := signInAs(t, s, fmt.Sprintf("name-%d", i), "a guess of mine"); a.status == 429 {
			require.GreaterOrEqual(t, i, 15)
			return
		}
	}
	require.Fail(t, "it never had to wait")
}

func TestPasswords(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Estate: "none"})
	admin := s.Token(role.Administrator)
	a := send(t, s, "POST", "/api/v1/accounts", admin,
		`{"name":"ida","title":"Ida Strand","role":"viewer","password":"password1234"}`)
	require.Equal(t, 422, a.status)
	require.Contains(t, a.text, "among the first to be guessed")
	a = send(t, s, "POST", "/api/v1/accounts", admin,
		`{"name":"ida","title":"Ida Strand","role":"viewer","password":"sh0rt-one"}`)
	require.Equal(t, 422, a.status)
	require.NotContains(t, a.text, "sh0rt-one", "an error repeats no password")
	a = send(t, s, "POST", "/api/v1/accounts", admin, `{"name":"ida","role":"viewer","password":"tide gull lamp"`)
	require.Equal(t, 400, a.status)
	require.NotContains(t, a.text, "tide gull lamp")

	mine, other := s.Token(role.Viewer), s.Token(role.Viewer)
	change := func(old, next string) answer {
		return send(t, s, "POST", "/api/v1/password", mine, fmt.Sprintf(`{"old":%q,"new":%q}`, old, next))
	}
	require.Contains(t, change("not the old one", "tide gull lamp").text, "the old password is wrong")
	require.Contains(t, change(servicetest.Password, "qwertyuiop").text, "among the first to be guessed")
	require.Equal(t, 204, change(servicetest.Password, "tide gull lamp").status)
	require.Equal(t, 200, send(t, s, "GET", "/api/v1/session", mine, "").status, "whoever changed it stays")
	require.Equal(t, 401, send(t, s, "GET", "/api/v1/session", other, "").status, "everybody else is signed out")
	require.Equal(t, 401, signInAs(t, s, "viewer", servicetest.Password).status)
	require.Equal(t, 200, signInAs(t, s, "viewer", "tide gull lamp").status)
}

func TestATokenCannotGoBeyondWhatMadeIt(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	make := func(by, body string) (client.MadeToken, answer) {
		a := send(t, s, "POST", "/api/v1/tokens", by, body)
		var made client.MadeToken
		_ = json.Unmarshal([]byte(a.text), &made)
		return made, a
	}
	admin := s.Token(role.Administrator)
	day, a := make(admin, `{"name":"day","days":1,"role":"operator","pools":["ticket-pilot"]}`)
	require.Equal(t, 201, a.status, a.text)
	_, a = make(day.Secret, `{"name":"year","days":366}`)
	require.Equal(t, 403, a.status)
	require.Contains(t, a.text, problem.TokenScope.URI())
	_, a = make(day.Secret, `{"name":"more","role":"approver"}`)
	require.Equal(t, 403, a.status)
	_, a = make(day.Secret, `{"name":"more","pools":["back-office"]}`)
	require.Equal(t, 403, a.status)
	_, a = make(day.Secret, `{"name":"more","images":["counter-desk"]}`)
	require.Equal(t, 403, a.status)
	child, a := make(day.Secret, `{"name":"child"}`)
	require.Equal(t, 201, a.status, a.text)
	require.Equal(t, role.Operator, child.Role)
	require.Equal(t, []string{"ticket-pilot"}, child.Pools)
	require.Equal(t, day.ID, child.MadeBy)
	require.False(t, child.ExpiresAt.After(day.ExpiresAt))

	// What it may change, and what not; reading is by role.
	status := func(method, path, body string) int { return send(t, s, method, path, child.Secret, body).status }
	require.Equal(t, 200, status("GET", "/api/v1/pools", ""))
	require.Equal(t, 409, status("POST", "/api/v1/hosts/tp-001/drain", `{}`), "it reaches it: the host is off")
	require.Equal(t, 403, status("POST", "/api/v1/hosts/tc-001/drain", `{}`))
	require.Equal(t, 403, status("POST", "/api/v1/pools/back-office/tell", `{"text":"x"}`))
	require.Equal(t, 200, status("POST", "/api/v1/pools/ticket-pilot/tell", `{"text":"x"}`))
	require.Equal(t, 403, status("POST", "/api/v1/rollovers", `{"pools":["ticket-pilot","back-office"]}`))
	require.Equal(t, 409, status("POST", "/api/v1/rollovers", `{"pools":["ticket-pilot"]}`))
	require.Equal(t, 403, status("POST", "/api/v1/images/counter-desk/versions", `{"build_machine":"bm-counter"}`))
	require.Equal(t, 403, status("PUT", "/api/v1/estate", ""))
	require.Equal(t, 403, status("POST", "/api/v1/sites/north-quay/build-machines/bm/start", ""))
	require.Equal(t, 403, status("POST", "/api/v1/password", `{"old":"x","new":"tide gull lamp"}`))
	require.Equal(t, 403, send(t, s, "DELETE", fmt.Sprintf("/api/v1/tokens/%d", day.ID), child.Secret, "").status)
	image, a := make(admin, `{"name":"image","images":["counter-desk"]}`)
	require.Equal(t, 201, a.status, a.text)
	require.Equal(t, 202, send(t, s, "POST", "/api/v1/images/counter-desk/versions", image.Secret,
		`{"build_machine":"bm-counter"}`).status)
	require.Equal(t, 403, send(t, s, "POST", "/api/v1/images/chart-desk/versions", image.Secret,
		`{"build_machine":"bm-chart"}`).status)
	require.Equal(t, 200, send(t, s, "POST", "/api/v1/pools/back-office/tell", image.Secret, `{"text":"x"}`).status)
	require.Equal(t, 403, send(t, s, "POST", "/api/v1/pools/chart-plotters/tell", image.Secret, `{"text":"x"}`).status)

	// It dies with what made it.
	require.Equal(t, 204, send(t, s, "DELETE", fmt.Sprintf("/api/v1/tokens/%d", day.ID), admin, "").status)
	require.Equal(t, 401, status("GET", "/api/v1/pools", ""))
	require.Equal(t, 422, send(t, s, "POST", "/api/v1/tokens", admin, `{"days":1,"Days":36500,"name":"x"}`).status)

	// Nothing brings old ones back.
	operator := s.Token(role.Operator)
	for _, disabled := range []string{"true", "false"} {
		require.Equal(t, 200, send(t, s, "PATCH", "/api/v1/accounts/operator", admin,
			`{"disabled":`+disabled+`}`).status)
	}
	require.Equal(t, 401, send(t, s, "GET", "/api/v1/session", operator, "").status)
}

func TestTheLastAdministratorStays(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Estate: "none"})
	_, err := api.AddAccount(t.Context(), s.Engine, "test",
		client.NewAccount{Name: "second", Role: role.Administrator, Password: servicetest.Password})
	require.NoError(t, err)
	one, two := s.Token(role.Administrator), s.Token("second")
	for range 5 {
		var both sync.WaitGroup
		both.Go(func() { send(t, s, "PATCH", "/api/v1/accounts/second", one, `{"role":"viewer"}`) })
		both.Go(func() { send(t, s, "PATCH", "/api/v1/accounts/administrator", two, `{"role":"viewer"}`) })
		both.Wait()
		var left int
		require.NoError(t, s.Store.DB.Raw("select count(*) from accounts where role = 'administrator'").Scan(
			&left).Error)
		require.Equal(t, 1, left)
		require.NoError(t, s.Store.DB.Exec("update accounts set role = 'administrator' where name in ('second', "+
			"'administrator')").Error)
	}
}

func TestAnEventStreamEndsWithWhatLetItIn(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Estate: "none"})
	admin := s.Token(role.Administrator)
	open := func(token string) *http.Response {
		req, err := http.NewRequestWithContext(t.Context(), "GET", s.URL+"/api/v1/events", nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		return resp
	}
	for name, end := range map[string]func(token string){
		"the token is revoked": func(token string) {
			require.Equal(t, 204, send(t, s, "DELETE", "/api/v1/session", token, "").status)
		},
		"the account is disabled": func(string) {
			require.Equal(t, 200, send(t, s, "PATCH", "/api/v1/accounts/viewer", admin, `{"disabled":true}`).status)
			require.Equal(t, 200, send(t, s, "PATCH", "/api/v1/accounts/viewer", admin, `{"disabled":false}`).status)
		},
	} {
		t.Run(name, func(t *testing.T) {
			token := s.Token(role.Viewer)
			resp := open(token)
			defer resp.Body.Close()
			_, err := bufio.NewReader(resp.Body).ReadString('\n')
			require.NoError(t, err)
			end(token)
			_, err = io.Copy(io.Discard, resp.Body) // until the service ends it
			require.NoError(t, err)
		})
	}
	token := s.Token(role.Operator)
	refused := 0
	for range 20 {
		resp := open(token)
		defer resp.Body.Close()
		if resp.StatusCode == 429 {
			refused++
		}
	}
	require.Equal(t, 8, refused)
	require.Equal(t, 200, open(admin).StatusCode, "others have their own")
}

func TestHeadersMethodsAndWhatIsNotText(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Estate: "none"})
	token := s.Token(role.Administrator)
	a := send(t, s, "GET", "/api/v1/images", token, "")
	require.Equal(t, "no-store", a.header.Get("Cache-Control"))
	require.Empty(t, a.header.Get("Strict-Transport-Security"), "not without TLS")
	require.Equal(t, 200, send(t, s, "HEAD", "/api/v1/images", token, "").status)
	require.Equal(t, 404, send(t, s, "HEAD", "/api/v1/images/none", token, "").status)
	require.Equal(t, 401, send(t, s, "HEAD", "/api/v1/images", "", "").status)
	require.Equal(t, 200, send(t, s, "HEAD", "/api/v1/events", token, "").status)
	require.Equal(t, 200, send(t, s, "HEAD", "/healthz", "", "").status)
	a = send(t, s, "OPTIONS", "/api/v1/images", "", "")
	require.Equal(t, 204, a.status)
	require.Equal(t, "GET, HEAD, OPTIONS", a.header.Get("Allow"))
	a = send(t, s, "DELETE", "/api/v1/images", token, "")
	require.Equal(t, 405, a.status)
	require.Contains(t, a.text, "use GET, HEAD, OPTIONS")
	for path, status := range map[string]int{
		"/api/v1/images/%00":                         400,
		"/api/v1/images/%ff%fe":                      400,
		"/api/v1/hosts?pool=%00":                     400,
		"/api/v1/hosts?pool=%ff":                     400,
		"/api/v1/hosts?pool=a&pool=b":                400,
		"/api/v1/hosts?pul=a":                        422,
		"/api/v1/hosts?cursor=AAAA":                  422, // NULs
		"/api/v1/rollovers?cursor=eHg":               422, // xx
		"/api/v1/trail?cursor=LTE":                   200, // -1
		"/api/v1/rollovers/99999999999999999999":     422,
		"/api/v1/hosts?limit=99999999999999":         422,
		"/api/v1/trail?from=0000-01-01T00:00:00Z":    200,
		"/api/v1/sites/a/build-machines/b/file?path": 422,
	} {
		a := send(t, s, "GET", path, token, "")
		require.Equal(t, status, a.status, "%s: %s", path, a.text)
	}
	require.Equal(t, 400, send(t, s, "GET", "/api/v1/images", token, "", "Last-Event-ID", "\xff").status)
	require.Equal(t, 400, send(t, s, "POST", "/api/v1/accounts", token,
		`{"name":"ida","title":"\u0000","role":"viewer","password":"tide gull lamp"}`).status)
	require.Equal(t, 400, send(t, s, "POST", "/api/v1/tokens", token, "{\"name\":\"\xff\"}", "Idempotency-Key",
		"k").status)
	require.Equal(t, 400, send(t, s, "PATCH", "/api/v1/accounts/viewer", token,
		`{"role":"viewer","role":"administrator"}`).status)
	require.Equal(t, 422, send(t, s, "PATCH", "/api/v1/accounts/viewer", token,
		`{"password":"tide gull lamp","Password":"x"}`).status)
}

func TestBehindATrustedProxy(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Estate: "none"})
	handler, err := api.New(t.Context(), s.Engine, s.Subjects,
		api.Options{Version: "test", Secure: true, TrustedProxies: []string{"127.0.0.0/8"}, Log: s.Log})
	require.NoError(t, err)
	_, err = api.New(t.Context(), s.Engine, s.Subjects, api.Options{TrustedProxies: []string{"the tide"}, Log: s.Log})
	require.ErrorContains(t, err, "trusted proxies")
	try := func(from, forwarded string) *httptest.ResponseRecorder {
		req := httptest.NewRequestWithContext(t.Context(), "POST", "/api/v1/session",
			strings.NewReader(`{"name":"viewer","password":"`+servicetest.Password+`"}`))
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("X-Forwarded-For", forwarded)
		req.RemoteAddr = from
		w := httptest.NewRecorder()
		handler.ServeHTTP(w, req)
		return w
	}
	w := try("127.0.0.1:1000", "198.51.100.7")
	require.Equal(t, 200, w.Code, w.Body)
	require.Contains(t, w.Header().Get("Set-Cookie"), "Secure")
	require.NotEmpty(t, w.Header().Get("Strict-Transport-Security"))
	try("192.0.2.1:1000", "198.51.100.8")
	var keys []string
	require.NoError(t, s.Store.DB.Raw("select key from sign_in_tries where key like 'address %' order by key").Scan(
		&keys).Error)
	require.Contains(t, keys, "address 198.51.100.7")
	require.Contains(t, keys, "address 192.0.2.1", "a stranger's word about addresses counts for nothing")
	require.NotContains(t, keys, "address 198.51.100.8")
}

func TestABodyThatComesByDropsIsNotWaitedFor(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Estate: "none", BodyWithin: 200 * time.Millisecond})
	conn, err := net.Dial("tcp", strings.TrimPrefix(s.URL, "http://"))
	require.NoError(t, err)
	defer conn.Close()
	fmt.Fprintf(conn, "POST /api/v1/session HTTP/1.1\r\nHost: x\r\nContent-Type: "+
		"application/json\r\nContent-Length: 100\r\n\r\n{")
	said, err := io.ReadAll(conn) // until the service gives up
	require.NoError(t, err)
	require.Contains(t, string(said), "408 Request Timeout")
}
