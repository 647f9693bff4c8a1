package browse

import (
	"strings"
	"testing"

	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"openrelay/internal/relay/people"
)

// TestSigningInByAPasskey: a device is added on the page, signs in without a password, is asked for where the password alone
// was given, and is removed again. Codes stand in for it on the day it is lost.
func TestSigningInByAPasskey(t *testing.T) {
	t.Parallel()
	w := openWorld(t, false)
	named := strings.Replace(w.URL, "127.0.0.1", "localhost", 1) // passkeys go with names
	b := openBrowser(t)
	const email = "desk@morrowhive.example"
	enter := func(b *browser, base string) {
		b.do(chromedp.Navigate(base), chromedp.WaitVisible(chromedp.CSS(`input[name=email]`)))
		b.do(chromedp.SendKeys(chromedp.CSS(`input[name=email]`), email),
			chromedp.SendKeys(chromedp.CSS(`input[name=password]`), "honeycomb"))
		b.click("Sign in")
	}
	out := func() {
		b.until(`(() => { const e = [...document.querySelectorAll("button")].find(e => e.innerText.trim() === "Sign out");
			e?.click(); return !!e; })()`)
		b.sees("E-mail")
	}

	// By an address of numbers there are none, and the page says why.
	n := openBrowser(t)
	enter(n, w.URL)
	n.sees("On their way")
	n.do(chromedp.Navigate(w.URL + "/you"))
	n.field("Which device is it", "A laptop")
	n.click("Add a passkey")
	n.sees("open it by its name")

	b.do(chromedp.Navigate(named))
	_, err := chromedp.Call(b.ctx, webauthn.Enable, webauthn.EnableParams{})
	require.NoError(t, err)
	_, err = chromedp.Call(b.ctx, webauthn.AddVirtualAuthenticator, webauthn.AddVirtualAuthenticatorParams{
		Options: &webauthn.VirtualAuthenticatorOptions{Protocol: "ctap2", Transport: "internal", HasResidentKey: true,
			HasUserVerification: true, IsUserVerified: true, AutomaticPresenceSimulation: true}})
	require.NoError(t, err)
	enter(b, named)
	b.sees("On their way")
	b.do(chromedp.Navigate(named + "/you"))
	b.field("Which device is it", "A laptop")
	b.click("Add a passkey")
	b.sees("Recovery codes")
	code := b.text("[aria-label='Recovery codes'] li")
	b.click("I have them")
	b.until(`[...document.querySelectorAll("td")].some(e => e.innerText === "A laptop")`)
	out()

	b.click("With a passkey")
	b.sees("On their way")
	out()

	enter(b, named)
	b.sees("Sign in by your passkey, or type a recovery code.")
	b.do(chromedp.WaitVisible(chromedp.CSS(`input[name=code]`)), chromedp.SendKeys(chromedp.CSS(`input[name=code]`), code))
	b.click("Sign in")
	b.sees("On their way")
	u, err := w.Store.UserByEmail(t.Context(), people.NormalEmail(email))
	require.NoError(t, err)
	require.EqualValues(t, 1, u.Passkeys)

	b.do(chromedp.Navigate(named + "/you"))
	b.field("Your password, to remove one", "honeycomb")
	b.click("Remove")
	b.until(`![...document.querySelectorAll("td")].some(e => e.innerText === "A laptop")`)
	out()
	b.click("With a passkey")
	b.sees("This passkey is not known here")
}
