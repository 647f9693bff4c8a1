package connector

import (
	"net/http"
	"net/http/httptest"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestOnlyPublicAddressesAreCalled, however an inner one is written.
func TestOnlyPublicAddressesAreCalled(t *testing.T) {
	for _, inner := range []string{
		"127.0.0.1", "10.1.2.3", "172.16.0.1", "192.168.1.1", "169.254.169.254", "0.0.0.0", "0.1.2.3", "100.64.0.1", "192.0.0.8",
		"192.0.2.1", "198.18.0.1", "203.0.113.9", "224.0.0.1", "255.255.255.255",
		"::", "::1", "::ffff:127.0.0.1", "::ffff:10.0.0.1", "::127.0.0.1", "::10.0.0.1", "64:ff9b::7f00:1", "64:ff9b:1::a00:1",
		"2002:7f00:1::", "2001::1", "2001:db8::1", "3fff::1", "fe80::1", "fe80::1%eth0", "fec0::1", "fc00::1", "fd12::1", "ff02::1",
		"100::1", "64:ff9b::7f00:1%eth0", "::1%lo", "5f00::1",
	} {
		require.Error(t, Guard{}.Check(netip.MustParseAddr(inner)), inner)
	}
	require.Error(t, Guard{}.Check(netip.Addr{}))
	for _, outer := range []string{"93.184.216.34", "1.1.1.1", "2606:4700::1111", "2a00:1450:4001::1", "::ffff:93.184.216.34"} {
		require.NoError(t, Guard{}.Check(netip.MustParseAddr(outer)), outer)
	}
	allowed := Guard{Allowed: []netip.Prefix{netip.MustParsePrefix("10.1.0.0/16"), netip.MustParsePrefix("fe80::/10")}}
	for addr, ok := range map[string]bool{"10.1.2.3": true, "::ffff:10.1.2.3": true, "fe80::1%eth0": true, "10.2.0.1": false} {
		require.Equal(t, ok, allowed.Check(netip.MustParseAddr(addr)) == nil, addr)
	}
}

// TestTheGuardStandsInTheClient: it is asked once the name is resolved, and no redirect leads around it.
func TestTheGuardStandsInTheClient(t *testing.T) {
	inside := httptest.NewServer(http.RedirectHandler("http://127.0.0.1:1/elsewhere", http.StatusFound))
	defer inside.Close()
	_, err := Guard{}.Client().Get(inside.URL)
	require.ErrorContains(t, err, "is not a public one")
	res, err := Guard{Allowed: Loopback}.Client().Get(inside.URL)
	require.NoError(t, err)
	res.Body.Close()
	require.Equal(t, http.StatusFound, res.StatusCode)
}
