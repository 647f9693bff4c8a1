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

// reserved are ranges that no public system has, or behind which an address of IPv4 may hide, beside those netip knows by name:
// the special-purpose registries of RFC 6890, and what became of them since.
var reserved = prefixes("0.0.0.0/8", "100.64.0.0/10", "192.0.0.0/24", "192.0.2.0/24", "192.88.99.0/24", "198.18.0.0/15",
	"198.51.100.0/24", "203.0.113.0/24", "240.0.0.0/4", "2001::/23", "2001:db8::/32", "2002::/16", "3fff::/20")

// public is where all public addresses of IPv6 lie (RFC 4291, section 2.4): what is outside of it, such as addresses that are
// compatible with IPv4, translated to it, or of a site, is none.
var public = netip.MustParsePrefix("2000::/3")

func prefixes(texts ...string) []netip.Prefix {
	out := make([]netip.Prefix, len(texts))
	for i, t := range texts {
		out[i] = netip.MustParsePrefix(t)
	}
	return out
}

// Guard decides which addresses outgoing calls may reach. Public ones always; loopback and private ones
// only where they are allowed by name.
type Guard struct{ Allowed []netip.Prefix }

// Check refuses an address. It is asked after names are resolved, so that a name that points inside is
// refused too.
func (g Guard) Check(addr netip.Addr) error {
	addr = addr.Unmap().WithZone("") // with a zone, an address is in no range
	for _, p := range g.Allowed {
		if p.Contains(addr) {
			return nil
		}
	}
	inside := !addr.IsValid() || addr.IsLoopback() || addr.IsPrivate() || addr.IsLinkLocalUnicast() || addr.IsMulticast() ||
		addr.IsUnspecified() || addr.Is6() && !public.Contains(addr)
	for _, p := range reserved {
		inside = inside || p.Contains(addr)
	}
	if inside {
		return fmt.Errorf("the address %s is not a public one; calls to it are allowed by the service's switch -reach", addr)
	}
	return nil
}

// Dial opens connections to addresses that may be called.
func (g Guard) Dial() func(ctx context.Context, network, address string) (net.Conn, error) {
	dialer := &net.Dialer{Timeout: 5 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(address)
		if err != nil {
			return fmt.Errorf("address %s: %w", address, err)
		}
		return g.Check(at.Addr())
	}}
	return dialer.DialContext
}

// Client makes the HTTP client of all outgoing calls. It follows no redirects, which could lead
// anywhere with our credentials, and uses no proxy of its environment.
func (g Guard) Client() *http.Client {
	return &http.Client{
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{
			DialContext:         g.Dial(),
			MaxIdleConnsPerHost: 4, IdleConnTimeout: 90 * time.Second, MaxResponseHeaderBytes: 64 << 10,
			TLSHandshakeTimeout: 5 * time.Second, ForceAttemptHTTP2: true,
		},
	}
}

// Loopback is the range of this machine.
var Loopback = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8"), netip.MustParsePrefix("::1/128")}
