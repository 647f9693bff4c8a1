package connector

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"syscall"
	"time"
)

// reserved are ranges that no public system has, beside those netip knows by name (RFC 6890).
var reserved = []netip.Prefix{
	netip.MustParsePrefix("0.0.0.0/8"), netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("192.0.0.0/24"),
	netip.MustParsePrefix("198.18.0.0/15"),
	netip.MustParsePrefix("240.0.0.0/4"), netip.MustParsePrefix("64:ff9b::/96"), netip.MustParsePrefix("2002::/16"),
	netip.MustParsePrefix("2001::/32"),
}

// Guard decides which addresses outgoing calls may reach. Public ones always; loopback and private ones
// only where they are allowed by name.
type Guard struct{ Allowed []netip.Prefix }

// Check refuses an address. It is asked after names are resolved, so that a name that points inside is
// refused too.
func (g Guard) Check(addr netip.Addr) error {
	addr = addr.Unmap()
	for _, p := range g.Allowed {
		if p.Contains(addr) {
			return nil
		}
	}
	inside := addr.IsLoopback() || addr.IsPrivate() || addr.IsLinkLocalUnicast() || addr.IsLinkLocalMulticast() ||
		addr.IsInterfaceLocalMulticast() || addr.IsMulticast() || addr.IsUnspecified()
	for _, p := range reserved {
		inside = inside || p.Contains(addr)
	}
	if inside {
		return fmt.Errorf("the address %s is not a public one; calls to it are allowed by the service's switch -reach", addr)
	}
	return nil
}

// Client makes the HTTP client of all outgoing calls. It follows no redirects, which could lead
// anywhere with our credentials, and uses no proxy of its environment.
func (g Guard) Client() *http.Client {
	dialer := &net.Dialer{Timeout: 5 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(address)
		if err != nil {
			return fmt.Errorf("address %s: %w", address, err)
		}
		return g.Check(at.Addr())
	}}
	return &http.Client{
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{
			DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
				return dialer.DialContext(ctx, network, address)
			},
			MaxIdleConnsPerHost: 4, IdleConnTimeout: 90 * time.Second, MaxResponseHeaderBytes: 64 << 10,
			TLSHandshakeTimeout: 5 * time.Second, ForceAttemptHTTP2: true,
		},
	}
}

// Loopback is the range of this machine.
var Loopback = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8"), netip.MustParsePrefix("::1/128")}
