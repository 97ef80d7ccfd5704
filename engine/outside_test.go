package engine

import (
	"errors"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestAPasswordIsShownOnlyToWhomItWasGivenFor(t *testing.T) {
	t.Parallel()
	asked := 0
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked++ }))
	t.Cleanup(other.Close)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/away":
			http.Redirect(w, r, other.URL, http.StatusFound)
		case "/here":
			http.Redirect(w, r, "/there", http.StatusFound)
		}
	}))
	t.Cleanup(server.Close)
	get := func(path, authorization string) error {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, server.URL+path, nil)
		require.NoError(t, err)
		if authorization != "" {
			r.Header.Set("Authorization", authorization)
		}
		answer, err := Outside(true, time.Minute).Do(r)
		if err != nil {
			return err
		}
		return answer.Body.Close()
	}
	require.ErrorContains(t, get("/away", "Basic dGlkZQ=="), "which the password was not given for")
	require.Zero(t, asked)
	require.NoError(t, get("/here", "Basic dGlkZQ=="))
	require.NoError(t, get("/away", ""))
	require.Equal(t, 1, asked)
}

func TestTheServicesOwnComputerIsNotAskedWithoutLeave(t *testing.T) {
	t.Parallel()
	for _, address := range []string{
		"127.0.0.1:80", "127.8.8.8:80", "[::1]:80", "0.0.0.0:80", "169.254.169.254:80",
		"[fe80::1]:80", "[::ffff:127.0.0.1]:80",
	} {
		require.ErrorIs(t, CheckOutside(address), ErrForbidden, address)
	}
	for _, address := range []string{"10.0.0.1:80", "192.0.2.1:443", "[2001:db8::1]:443"} {
		require.NoError(t, CheckOutside(address), address)
	}
	server := httptest.NewServer(http.NotFoundHandler())
	t.Cleanup(server.Close)
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, server.URL, nil)
	require.NoError(t, err)
	answer, err := Outside(false, time.Minute).Do(r)
	if err == nil {
		answer.Body.Close()
	}
	require.True(t, errors.Is(err, ErrForbidden), "%v", err)
}
