package api_test

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
)

// TestAFilterThatNamesNothingIsAnError filters lists by unknown names.
func TestAFilterThatNamesNothingIsAnError(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	ctx, c := t.Context(), s.As(role.Viewer)
	for what, ask := range map[string]func() error{
		`pool "none"`:  func() error { _, err := c.Hosts(ctx, client.HostQuery{Pool: "none", Drifts: true}); return err },
		`site "none"`:  func() error { _, err := c.Hosts(ctx, client.HostQuery{Site: "none"}); return err },
		`image "none"`: func() error { _, err := c.Hosts(ctx, client.HostQuery{Image: "none"}); return err },
		`version "9"`:  func() error { _, err := c.Hosts(ctx, client.HostQuery{Version: "9"}); return err },
		`host "none"`:  func() error { _, err := c.Sessions(ctx, client.SessionQuery{Host: "none"}); return err },
		`account "none"`: func() error {
			_, err := c.Trail(ctx, client.TrailQuery{Actor: "none"}, 10)
			return err
		},
	} {
		err := ask()
		require.ErrorContains(t, err, what)
		require.True(t, client.IsStatus(err, http.StatusNotFound), "%s: %s", what, err)
	}
	get := func(path string) int {
		t.Helper()
		in, err := http.NewRequestWithContext(ctx, http.MethodGet, s.URL+"/api/v1"+path, nil)
		require.NoError(t, err)
		in.Header.Set("Authorization", "Bearer "+s.Token(role.Viewer))
		out, err := http.DefaultClient.Do(in)
		require.NoError(t, err)
		require.NoError(t, out.Body.Close())
		return out.StatusCode
	}
	for _, path := range []string{
		"/rollovers?pool=none", "/builds?image=none", "/proofs?image=none", "/build-machines?site=none",
		"/build-machines?owner=none", "/deliveries?site=none", "/releases?feed=none", "/software?name=none",
	} {
		require.Equal(t, http.StatusNotFound, get(path), path)
	}
	require.Equal(t, http.StatusNotFound, get("/proofs?version=1"))
	_, err := c.Hosts(ctx, client.HostQuery{Pool: "ticket-counters", Drifts: true})
	require.NoError(t, err)
}
