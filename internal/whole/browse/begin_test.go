package browse

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"openrelay/console"
	"openrelay/internal/api"
	"openrelay/internal/relay"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// emptyCompany is a file that has nobody yet, served with its console, and the key with which it begins.
func emptyCompany(t *testing.T) (url, key string, r *relay.Relay) {
	t.Helper()
	st, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "company.relay"))
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	r, err = relay.Open(t.Context(), st, engine.Options{})
	require.NoError(t, err)
	require.NoError(t, r.Start())
	t.Cleanup(r.Stop)
	a, handler := api.New(r, api.Options{Console: console.Files(), Version: "test"})
	t.Cleanup(a.End)
	server := httptest.NewServer(handler)
	t.Cleanup(server.Close)
	t.Cleanup(http.DefaultClient.CloseIdleConnections)
	key, err = r.OpenFirstRun(t.Context())
	require.NoError(t, err)
	return server.URL, key, r
}

// field types into the field of a label.
func (b *browser) field(label, text string) {
	b.t.Helper()
	mark := fmt.Sprintf(`(() => {
		const root = document.querySelector("[role=dialog]") ?? document;
		const l = [...root.querySelectorAll("label")].find(l => l.innerText.trim().startsWith(%q));
		const e = l?.querySelector("input, select, textarea");
		if (!e || e.disabled) return false;
		document.querySelectorAll("[data-typed]").forEach(x => x.removeAttribute("data-typed"));
		e.setAttribute("data-typed", "");
		return true;
	})()`, label)
	b.until(mark)
	b.do(chromedp.SendKeys(chromedp.CSS(`[data-typed]`), text))
}

// TestACompanyBegins: from a file that has nobody, without the command line, to a place, people and tokens, on the pages.
func TestACompanyBegins(t *testing.T) {
	t.Parallel()
	url, key, r := emptyCompany(t)
	b := openBrowser(t)
	b.do(chromedp.Navigate(url + "/begin#" + key))
	b.sees("A company begins")
	b.field("Name of the company", "Morrow Hive Supply")
	b.field("Country", "xw")
	b.field("Street", "Alder Yard 3")
	b.field("Postcode", "41207")
	b.field("Town", "Alderby")
	b.field("Your name", "Edda Quillon")
	b.field("E-mail\n", "edda@morrow.example")
	b.field("Password", "honeycomb")
	b.field("The same once more", "honeycomb")
	b.click("Begin")

	b.sees("The first day")
	b.sees("0 of 5 steps")
	b.until(`!location.hash`)
	b.click("Leave it out")
	b.sees("1 of 5 steps")
	b.shot("first-day")
	b.click("Take it up")
	b.sees("0 of 5 steps")

	b.click("Add a place")
	b.sees("No place yet.")
	b.click("Add a place")
	b.field("Name", "Alder Yard")
	b.field("Street", "Alder Yard 3")
	b.field("Postcode", "4120")
	b.field("Town", "Alderby")
	b.click("Add the place")
	b.sees("address:")
	b.field("Postcode", "7")
	b.click("Add the place")
	b.until(`document.querySelector("main table")?.innerText.includes("Alder Yard 3, 41207 Alderby, XW")`)
	b.sees("added by Edda Quillon")
	b.click("Undo")
	b.sees("used no more")
	b.click("Change it again")
	b.until(`!document.querySelector("main").innerText.includes("used no more")`)
	b.walkTo("/")
	b.sees("1 of 5 steps")

	b.walkTo("/settings/people")
	b.sees("edda@morrow.example")
	b.click("Add a person")
	b.field("Name", "Joss Fenn")
	b.field("E-mail", "joss@morrow.example")
	b.field("Password", "beekeeper")
	b.click("Add")
	b.until(`document.querySelector("main table")?.innerText.includes("Joss Fenn")`)
	b.field("What it is for", "label printer")
	b.click("Make a token")
	b.sees("It is not told again")
	token := b.text("[role=status] code")
	_, err := r.TokenFor(t.Context(), token)
	require.NoError(t, err)
	b.click("I have it")
	b.click("Revoke")
	b.until(`[...document.querySelectorAll("tbody tr")].some(r => r.innerText.includes("revoked"))`)
	_, err = r.TokenFor(t.Context(), token)
	require.ErrorIs(t, err, store.ErrNotFound)

	b.walkTo("/nowhere/at/all")
	b.sees("There is no such page")
	left, err := r.Nobody(t.Context())
	require.NoError(t, err)
	require.False(t, left)
}
