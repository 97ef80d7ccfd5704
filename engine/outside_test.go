package engine

import (
	"context"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
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
		answer, err := NewExternalClient(true, time.Minute).Do(r)
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
	own, err := ownAddresses()
	require.NoError(t, err)
	require.NotEmpty(t, own)
	listener, err := net.Listen("tcp", ":0") // on all addresses
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	_, port, err := net.SplitHostPort(listener.Addr().String())
	require.NoError(t, err)
	addresses := []string{
		"127.0.0.1", "127.8.8.8", "::1", "0.0.0.0", "0.1.2.3", "169.254.169.254", "fe80::1", "::ffff:127.0.0.1",
		"224.0.0.1", "localhost",
	}
	for _, ip := range own {
		addresses = append(addresses, ip.String(), "::ffff:"+ip.String())
	}
	for _, address := range addresses {
		if _, err := netip.ParseAddr(address); err != nil && address != "localhost" {
			continue
		}
		_, err := Dialer{}.Dial("tcp", net.JoinHostPort(address, port))
		require.ErrorIs(t, err, ErrForbidden, address)
	}
	for _, address := range []string{"10.0.0.1", "192.0.2.1", "2001:db8::1"} {
		require.False(t, forbidden(netip.MustParseAddr(address), own), address)
	}
	conn, err := Dialer{Here: true}.Dial("tcp", "localhost:"+port)
	require.NoError(t, err)
	require.NoError(t, conn.Close())
}

func TestANameIsResolvedOnceAndEachOfItsAddressesIsChecked(t *testing.T) {
	t.Parallel()
	asked := 0
	rebinding := Dialer{Resolve: func(context.Context, string) ([]netip.Addr, error) {
		asked++
		return []netip.Addr{netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("127.0.0.1")}, nil
	}}
	_, err := rebinding.Dial("tcp", "vendor.example:80")
	require.ErrorIs(t, err, ErrForbidden)
	require.Equal(t, 1, asked)

	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	_, port, err := net.SplitHostPort(listener.Addr().String())
	require.NoError(t, err)
	asked = 0
	conn, err := Dialer{Here: true, Resolve: func(context.Context, string) ([]netip.Addr, error) {
		asked++
		return []netip.Addr{netip.MustParseAddr("127.0.0.1")}, nil
	}}.Dial("tcp", "vendor.example:"+port)
	require.NoError(t, err)
	require.NoError(t, conn.Close())
	require.Equal(t, 1, asked)
}
