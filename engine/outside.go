package engine

import (
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"syscall"
	"time"
)

// ErrForbidden is why an address is not asked: it is one of the service's own computer or network segment.
var ErrForbidden = errors.New("the address leads to the service's own computer, which is not asked without leave: " +
	"start the service with --fetch-from-here, or bring what is there yourself")

// redirections is how often an address may lead on.
const redirections = 5

// Outside returns a client for addresses that people name. It asks nobody on the service's own computer unless here
// gives leave: what listens there may trust whoever comes from there. An address has to begin its answer in time.
func Outside(here bool, patience time.Duration) *http.Client {
	dialer := &net.Dialer{Timeout: 10 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		if here {
			return nil
		}
		return CheckOutside(address)
	}}
	return &http.Client{
		Transport: &http.Transport{
			DialContext: dialer.DialContext, DisableCompression: true, Proxy: http.ProxyFromEnvironment,
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

// CheckOutside returns ErrForbidden for an address and port of the service's own computer or network segment.
func CheckOutside(address string) error {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	if ip := at.Addr().Unmap(); ip.IsLoopback() || ip.IsUnspecified() || ip.IsLinkLocalUnicast() {
		return ErrForbidden
	}
	return nil
}
