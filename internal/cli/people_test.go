package cli

import (
	"net"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestCompanysPeopleTokensAndPlaces: each verb on a small company, what it says, and what it refuses.
func TestCompanysPeopleTokensAndPlaces(t *testing.T) {
	o := newOffice(t)
	o.file("password", "honeycomb\n")
	o.file("short", "honey\n")
	o.does(strings.ReplaceAll(`
		person add edda@morrow.example -name Edda -role lead -password-file DIR/password ⇒ edda@morrow.example
		!person add edda@morrow.example -name Edda ⇒ -password-file must be given
		!person add pim@morrow.example -name Pim -password-file DIR/short ⇒ at least 8 characters
		!person add pim@morrow.example -name Pim -password-file DIR/none ⇒ read the password
		!person add pim@morrow.example -name Pim -role king -password-file DIR/password ⇒ body.role
		person add pim@morrow.example -name Pim -password-file DIR/password ⇒ clerk
		!person add PIM@morrow.example -name Pim -password-file DIR/password ⇒ signs in as pim@morrow.example already
		person change pim@morrow.example -role viewer -name "Pim Oster" ⇒ Pim Oster
		person change pim@morrow.example -email oster@morrow.example ⇒ oster@morrow.example
		!person change pim@morrow.example -name x ⇒ nobody here signs in as pim@morrow.example
		person sessions oster@morrow.example ⇒ Used last
		!person end-session oster@morrow.example 99 ⇒ There is no session 99
		!person end-session oster@morrow.example x ⇒ no number
		!person sessions nobody@morrow.example ⇒ nobody here signs in
		person reset-second-factor oster@morrow.example ⇒ Pim Oster
		security ⇒ Edda added, as lead
		security demand leads ⇒ A second factor is demanded of leads
		security terms ⇒ leads
		!security demand cats ⇒ body.of
		security demand nobody ⇒ nobody
		person end-sessions oster@morrow.example ⇒ Pim Oster
		person leave Oster@morrow.example ⇒ Pim Oster
		person return oster@morrow.example ⇒ viewer
		!person leave edda@morrow.example ⇒ Edda is the last with the role lead
		!person dance ⇒ one of list, add, change, leave, return, sessions
		person list ⇒ Signed in last
		token make scale -role viewer -days 30 ⇒ relay_
		token list ⇒ scale
		!token make scale -role king ⇒ body.role
		!token revoke 99 ⇒ There is no token 99
		!token revoke two ⇒ two
		token revoke 2 ⇒ token 2 is revoked
		company -country XW -currency XTS -street "Alder Yard 3" -postcode 41207 -town Alderby ⇒ Alder Yard 3
		company ⇒ XTS
		!company -currency euro ⇒ body.currency
		!company -postcode 4 ⇒ address
		place put loft -name "The loft" -street "Heron Lane 2" -postcode 41360 -town Harrowmere ⇒ XW
		place put loft -name "The high loft" ⇒ Heron Lane 2
		!place put loft -postcode 4 ⇒ address
		!place put Loft -name x ⇒ small letters
		place list ⇒ The high loft
		profile put crate -name Crate -length 600 -width 400 -height 300 -holds 20000 ⇒ 600×400×300
		profile put crate -tare 900 ⇒ 900
		!profile put sack -name Sack ⇒ millimetres
		profile archive crate ⇒ crate
		profile restore crate ⇒ crate
		!profile archive sack ⇒ There is no parcel profile sack
		series put order -prefix MH- -next 501 ⇒ MH-
		series put order -next 600 ⇒ 600
		!series put order -next 0 -prefix "a b" ⇒ prefix
		series list ⇒ MH-
		place put pier -keeper stall ⇒ stall
		place put pier -name "Pier Nine and a half" ⇒ stall
		place put pier -keeper ours ⇒ us
	`, "DIR", o.dir))
}

// TestACompanyBeginsByInit: once, with what it needs; what is missing is named.
func TestACompanyBeginsByInit(t *testing.T) {
	file := filepath.Join(t.TempDir(), "company.relay")
	begin := func(password string, args ...string) (int, string, string) {
		var out, errs strings.Builder
		env := &Env{In: strings.NewReader(password), Out: &out, Err: &errs, Getenv: func(string) string { return "" }}
		code := Run(t.Context(), env, append([]string{"init", "-data", file}, args...))
		return code, out.String(), errs.String()
	}
	who := []string{"-company", "Morrow Hive Supply", "-name", "Edda Quillon", "-email", "edda@morrow.example"}
	code, _, errs := begin("honeycomb\n", "-company", "Morrow Hive Supply")
	require.Equal(t, 2, code)
	require.Contains(t, errs, "-email, -name must be given")
	code, _, errs = begin("", who...)
	require.Equal(t, 1, code)
	require.Contains(t, errs, "nothing was given")
	code, _, errs = begin("honey\n", who...)
	require.Equal(t, 1, code)
	require.Contains(t, errs, "at least 8 characters")
	code, _, errs = begin("honeycomb\n", append(who, "-country", "XW", "-town", "Alderby")...)
	require.Equal(t, 1, code)
	require.Contains(t, errs, "street is missing")
	code, out, errs := begin("honeycomb\n", append(who, "-country", "XW", "-time-zone", "Etc/GMT-1")...)
	require.Zero(t, code, errs)
	require.Contains(t, out, "Edda Quillon signs in as edda@morrow.example")
	require.NotContains(t, out+errs, "honeycomb")
	code, _, errs = begin("honeycomb\n", who...)
	require.Equal(t, 1, code)
	require.Contains(t, errs, "has people already")
}

// TestPlainHTTPBeyondThisMachineIsSaid, but not what stays on it, or has TLS before it.
func TestPlainHTTPBeyondThisMachineIsSaid(t *testing.T) {
	for _, c := range []struct {
		ip     string
		secure bool
		warned bool
	}{{"127.0.0.1", false, false}, {"::1", false, false}, {"0.0.0.0", false, true}, {"10.1.2.3", false, true}, {"::", false, true},
		{"10.1.2.3", true, false}} {
		require.Equal(t, c.warned, plainBeyond(&net.TCPAddr{IP: net.ParseIP(c.ip)}, c.secure), c.ip)
	}
}
