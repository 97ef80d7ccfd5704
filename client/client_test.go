package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"
)

func serve(t *testing.T, handle http.HandlerFunc) *Client {
	t.Helper()
	server := httptest.NewServer(handle)
	t.Cleanup(server.Close)
	return New(server.URL+"/", "secret")
}

func TestProblemsComeBackWithTheirReasons(t *testing.T) {
	t.Parallel()
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		require.Equal(t, "Bearer secret", r.Header.Get("Authorization"))
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusConflict)
		fmt.Fprint(w, `{"title":"Conflict","status":409,"detail":"no clearance","errors":[{"message":"testers: 0 of 2"},{"message":"too long","location":"body.notes"}]}`)
	})
	_, err := c.Activate(t.Context(), "counter-desk", "2026.11.1", Activation{})
	require.True(t, IsStatus(err, 409))
	require.False(t, IsStatus(err, 404))
	require.EqualError(t, err, "no clearance\n  testers: 0 of 2\n  too long (body.notes)")
}

func TestAnswersThatAreNotOursAreStillErrors(t *testing.T) {
	t.Parallel()
	c := serve(t, func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusBadGateway)
		fmt.Fprint(w, "<html>a proxy</html>")
	})
	_, err := c.Status(t.Context())
	require.True(t, IsStatus(err, 502))
	require.ErrorContains(t, err, "a proxy")
	c = serve(t, func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "not JSON") })
	_, err = c.Status(t.Context())
	require.ErrorContains(t, err, "cannot be read")
	_, err = New("http://127.0.0.1:1", "x").Status(t.Context())
	require.ErrorContains(t, err, "cannot reach the service")
}

func TestListsAreReadToTheLastPage(t *testing.T) {
	t.Parallel()
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		require.Equal(t, "a pool", r.URL.Query().Get("pool"))
		page := Page[Host]{Items: []Host{{Name: "h" + r.URL.Query().Get("cursor")}}}
		if n := len(r.URL.Query().Get("cursor")); n < 3 {
			page.Next = strings.Repeat("x", n+1)
		}
		require.NoError(t, json.NewEncoder(w).Encode(page))
	})
	hosts, err := c.Hosts(t.Context(), HostQuery{Pool: "a pool"})
	require.NoError(t, err)
	require.Len(t, hosts, 4)
	require.Equal(t, "hxxx", hosts[3].Name)
}

func TestNamesAreEscapedInPaths(t *testing.T) {
	t.Parallel()
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		require.Equal(t, "/api/v1/hosts/a%2Fb%20c/sessions/%3F/tell", r.URL.EscapedPath())
		require.NotEmpty(t, r.Header.Get("Idempotency-Key"))
		fmt.Fprint(w, `{"sessions":1}`)
	})
	told, err := c.TellSession(t.Context(), "a/b c", "?", "hello")
	require.NoError(t, err)
	require.Equal(t, 1, told.Sessions)
}

func TestWatchingGoesOnAfterALostConnection(t *testing.T) {
	t.Parallel()
	var connections atomic.Int64
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		n := connections.Add(1)
		if n == 2 {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		if n == 3 {
			require.Equal(t, "2", r.Header.Get("Last-Event-ID"))
		}
		for i := range 2 {
			fmt.Fprintf(w, "id:%[1]d\nevent:change\ndata:{\"seq\":%[1]d,\"kind\":\"host.drain\"}\n\n",
				n*2-2+int64(i)+1-(n-1)/2*2)
		}
	})
	var seen []int64
	enough := errors.New("enough")
	err := c.Watch(t.Context(), func(e Event) error {
		seen = append(seen, e.Seq)
		if len(seen) == 4 {
			return enough
		}
		return nil
	})
	require.ErrorIs(t, err, enough)
	require.Equal(t, []int64{1, 2, 3, 4}, seen)
}

func TestWatchingEndsWithItsContextOrARefusal(t *testing.T) {
	t.Parallel()
	c := serve(t, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusUnauthorized) })
	require.True(t, IsStatus(c.Watch(t.Context(), nil), 401))
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(t, New("http://127.0.0.1:1", "x").Watch(ctx, nil), context.Canceled)
}
