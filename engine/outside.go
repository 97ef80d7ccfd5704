package engine

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"time"
)

// ErrForbidden is why an address is not asked: it is one of the service's own computer or network segment.
var ErrForbidden = errors.New("the address leads to the service's own computer, which is not asked without leave: " +
	"start the service with --fetch-from-here, or bring what is there yourself")

// redirections is how often an address may lead on.
const redirections = 5

// NewExternalClient returns an HTTP client for addresses from user input. It connects to addresses of the service's own
// machine only if here is true: programs that listen there may trust local connections. A server must send its response
// headers within patience.
func NewExternalClient(here bool, patience time.Duration) *http.Client {
	return &http.Client{
		Transport: &http.Transport{
			DialContext: Dialer{Here: here}.DialContext, DisableCompression: true, Proxy: http.ProxyFromEnvironment,
			ResponseHeaderTimeout: patience, TLSHandshakeTimeout: 10 * time.Second, DisableKeepAlives: true,
		},
		CheckRedirect: func(to *http.Request, via []*http.Request) error {
			first := via[0]
			switch {
			case len(via) > redirections:
				return fmt.Errorf("it leads on more than %d times", redirections)
			case first.Header.Get("Authorization") != "" && (to.URL.Host != first.URL.Host || to.URL.Scheme !=
				first.URL.Scheme):
				return fmt.Errorf("it leads on to %s, which the password was not given for: write that address if it "+
					"is meant", to.URL.Redacted())
			}
			return nil
		},
	}
}

// Dialer connects to addresses that people name, for all protocols. A name is resolved once; each of its addresses is
// checked, and these addresses are dialled, so that a second answer for the name is never used.
type Dialer struct {
	Here bool // the service's own computer may be asked
	// Resolve returns the addresses of a name; nil for the system's resolver.
	Resolve func(ctx context.Context, host string) ([]netip.Addr, error)
}

// Dial is DialContext without a context.
func (d Dialer) Dial(network, address string) (net.Conn, error) {
	return d.DialContext(context.Background(), network, address)
}

// DialContext connects to a host and port. The error is ErrForbidden if the host has an address that must not be asked.
func (d Dialer) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	var addresses []netip.Addr
	if ip, err := netip.ParseAddr(host); err == nil {
		addresses = []netip.Addr{ip}
	} else {
		resolve := d.Resolve
		if resolve == nil {
			resolve = func(ctx context.Context, host string) ([]netip.Addr, error) {
				return net.DefaultResolver.LookupNetIP(ctx, "ip", host)
			}
		}
		if addresses, err = resolve(ctx, host); err != nil {
			return nil, err
		}
	}
	if !d.Here {
		own, err := ownAddresses()
		if err != nil {
			return nil, err
		}
		for _, ip := range addresses {
			if forbidden(ip, own) {
				return nil, ErrForbidden
			}
		}
	}
	err = fmt.Errorf("%s has no address", host)
	dialer := net.Dialer{Timeout: 10 * time.Second}
	for _, ip := range addresses {
		var conn net.Conn
		if conn, err = dialer.DialContext(ctx, network, net.JoinHostPort(ip.Unmap().String(), port)); err == nil {
			return conn, nil
		}
	}
	return nil, err
}

// ownAddresses are those of the machine's interfaces.
func ownAddresses() (own []netip.Addr, err error) {
	list, err := net.InterfaceAddrs()
	for _, a := range list {
		if prefix, err := netip.ParsePrefix(a.String()); err == nil {
			own = append(own, prefix.Addr().Unmap().WithZone(""))
		}
	}
	return own, err
}

// thisNetwork is what RFC 791 calls this network: some systems take its addresses for their own.
var thisNetwork = netip.MustParsePrefix("0.0.0.0/8")

// forbidden says whether an address is one of the service's own computer or network segment.
func forbidden(ip netip.Addr, own []netip.Addr) bool {
	ip = ip.Unmap()
	return ip.IsLoopback() || ip.IsUnspecified() || ip.IsLinkLocalUnicast() || ip.IsMulticast() ||
		thisNetwork.Contains(ip) || slices.Contains(own, ip.WithZone(""))
}
