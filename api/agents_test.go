package api_test

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/agent"
	"nimblepane/client"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
)

// credentialed gives hosts credentials of their own, "secret-NAME", which the test speaks with.
func credentialed(t *testing.T, s *servicetest.Service, hosts ...string) {
	t.Helper()
	for _, h := range hosts {
		sum := sha256.Sum256([]byte("secret-" + h))
		require.NoError(t, s.Store.DB.Exec("update pulses set credential = ? where host_id = (select id from hosts "+
			"where name = ?)", sum[:], h).Error)
	}
}

func TestAHeartbeatCountsForItsOwnHostOnly(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	credentialed(t, s, "tc-001", "tc-002")
	var id int64
	require.NoError(t, s.Store.DB.Raw("insert into orders (host_id, kind, session_key, text, created_at) select id, "+
		"'tell', 's1', 'hello', now() from hosts where name = 'tc-001' returning id").Scan(&id).Error)
	open := func() (n int) {
		require.NoError(t, s.Store.DB.Raw("select count(*) from orders where id = ? and done_at is null",
			id).Scan(&n).Error)
		return n
	}
	body := fmt.Sprintf(`{"done":[%d]}`, id)
	require.Equal(t, 401, send(t, s, "POST", agent.HeartbeatPath, "secret-of-nobody", body).status)
	require.Equal(t, 1, open(), "a stranger")
	require.Equal(t, 200, send(t, s, "POST", agent.HeartbeatPath, "secret-tc-002", body).status)
	require.Equal(t, 1, open(), "another host")
	// Both in one batch: the order is its own host's to confirm, not that of whoever came along.
	var both sync.WaitGroup
	for range 20 {
		both.Go(func() { send(t, s, "POST", agent.HeartbeatPath, "secret-tc-001", `{}`) })
		both.Go(func() { send(t, s, "POST", agent.HeartbeatPath, "secret-tc-002", body) })
	}
	both.Wait()
	require.Equal(t, 1, open(), "another host, along with its own")
	require.Equal(t, 200, send(t, s, "POST", agent.HeartbeatPath, "secret-tc-001", body).status)
	require.Zero(t, open())
}

func TestHeartbeatsThatMakeNoSenseHarmNobodyElse(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	good := []string{"tc-001", "tc-002", "tc-003", "tc-004"}
	credentialed(t, s, append(good, "tc-008")...)
	session := func(key, person, state, since string) string {
		return fmt.Sprintf(`{"sessions":[{"key":%q,"person":%q,"state":%q,"since":%q}]}`, key, person, state, since)
	}
	many := make([]string, 40)
	for i := range many {
		many[i] = fmt.Sprintf(`{"key":"s%d","person":"Ida","state":"idle","since":"2026-11-23T05:00:00Z"}`, i)
	}
	bad := []struct {
		body   string
		status int
		want   string
	}{
		{`{"stamp":"a\u0000b"}`, 400, "NUL"},
		{`{"Drain":1}`, 400, `no field \"/Drain\"`},
		{`{"drain":1,"drain":0}`, 400, "stands there twice"},
		{`{"drain":-5}`, 422, "drain"},
		{`{"drain":99999999999999999999}`, 400, "does not fit"},
		{`{"load":1e300}`, 422, "load"},
		{`{"load":1e999}`, 400, ""},
		{session("s1", "Ida", "active", "0000-01-01T00:00:00Z"), 422, "begins after the year 2000"},
		{session("s1", "Ida", "active", "9999-12-31T00:00:00Z"), 422, "not later than now"},
		{session("s1", "Ida\x1b]0;owned\x07", "active", "2026-11-23T05:00:00Z"), 400, ""},
		{
			`{"sessions":[{"key":"s1","person":"Ida\u001b[31m","state":"active","since":"2026-11-23T05:00:00Z"}]}`, 422,
			"control characters",
		},
		{session("", "Ida", "active", "2026-11-23T05:00:00Z"), 422, "sessions[0].key"},
		{session("s1", "Ida", "asleep", "2026-11-23T05:00:00Z"), 422, "sessions[0].state"},
		{session("s1", strings.Repeat("x", 201), "idle", "2026-11-23T05:00:00Z"), 422, "at most 200"},
		{`{"sessions":[` + strings.Join(many, ",") + `]}`, 422, "on a host of 4 seats; at most 28"},
		{`{"checks":{"order":1,"state":"fine"}}`, 422, "checks.state"},
		{strings.Repeat("[", 60_000), 400, "nested deeper"},
		{`{"stamp":"` + strings.Repeat("x", agent.MaxBody) + `"}`, 413, problem.TooLarge.URI()},
	}
	var crowd sync.WaitGroup
	for _, host := range good {
		crowd.Go(func() {
			for range 60 {
				a := send(t, s, "POST", agent.HeartbeatPath, "secret-"+host,
					session("s1", "Ida", "active", "2026-11-23T05:00:00Z"))
				require.Equal(t, http.StatusOK, a.status, a.text)
			}
		})
	}
	for _, b := range bad {
		for _, bearer := range []string{"secret-tc-008", "secret-of-nobody"} {
			crowd.Go(func() {
				for range 5 {
					a := send(t, s, "POST", agent.HeartbeatPath, bearer, b.body)
					if bearer == "secret-tc-008" {
						require.Equal(t, b.status, a.status, "%.80s: %s", b.body, a.text)
						require.Contains(t, a.text, b.want)
					} else {
						require.Contains(t, []int{400, 401, 413, 422}, a.status, a.text)
					}
				}
			})
		}
	}
	crowd.Wait()
	// Lists of all hosts and sessions are whole.
	_, err := s.As(role.Viewer).Hosts(t.Context(), client.HostQuery{})
	require.NoError(t, err)
	_, err = s.As(role.Viewer).Sessions(t.Context(), client.SessionQuery{})
	require.NoError(t, err)
}

func TestHeartbeatsOfOneAgentAtOnceAreAllAnswered(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	credentialed(t, s, "tc-001")
	var crowd sync.WaitGroup
	for range 30 {
		crowd.Go(func() {
			for range 10 {
				a := send(t, s, "POST", agent.HeartbeatPath, "secret-tc-001", `{}`)
				require.Equal(t, 200, a.status, a.text)
				var answer agent.Answer
				require.NoError(t, json.Unmarshal([]byte(a.text), &answer))
			}
		})
	}
	crowd.Wait()
}
