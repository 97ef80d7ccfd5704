package api_test

import (
	"fmt"
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

func TestAHostSaysWhyItDrifts(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	ctx, c := t.Context(), s.As(role.Operator)
	one := s.Live("back-office")
	reason := func(host string) string {
		t.Helper()
		h, err := c.Host(ctx, host)
		require.NoError(t, err)
		require.Equal(t, h.Drifts, h.DriftReason != "")
		require.Equal(t, h.Drifts, h.TargetSince != nil)
		return h.DriftReason
	}
	require.Empty(t, reason("bo-001"))
	two := s.Captured("counter-desk", "bm-counter")
	s.Tried(two)
	s.Activated(two)
	require.Contains(t, reason("bo-001"), "not rolled over yet")
	_, err := c.DrainHost(ctx, "bo-001", "to be looked at")
	require.NoError(t, err)
	require.Equal(t, "drained by operator", reason("bo-001"))
	_, err = c.ReturnHost(ctx, "bo-001", "looked at")
	require.NoError(t, err)

	_, err = s.As(role.Approver).Pin(ctx, "back-office", client.Pin{Version: two, Reason: "printers"})
	require.NoError(t, err)
	require.Contains(t, reason("bo-002"), "its pool is pinned")
	hosts, err := c.Hosts(ctx, client.HostQuery{Pool: "back-office", Drifts: true})
	require.NoError(t, err)
	require.Len(t, hosts, 4)
	for _, h := range hosts {
		require.Equal(t, one, h.Version)
		require.Contains(t, h.DriftReason, "its pool is pinned")
	}
	begun, _, err := c.StartRollovers(ctx, client.StartRollovers{
		Pools: []string{"back-office"}, Options: client.Options{Batch: "1", Floor: "12", LogOff: "wait"},
	})
	require.NoError(t, err)
	require.Contains(t, reason("bo-004"), fmt.Sprintf("waits in rollover %d", begun[0].ID))
}
