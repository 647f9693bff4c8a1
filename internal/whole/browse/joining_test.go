package browse

import (
	"fmt"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"openrelay/internal/demo"
	"openrelay/internal/standin"
)

// fill types a text into a field of the page, replacing what is there.
func (b *browser) fill(selector, text string) {
	b.t.Helper()
	b.do(chromedp.WaitVisible(chromedp.CSS(selector)),
		chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`document.querySelector(%q).select()`, selector)),
		chromedp.SendKeys(chromedp.CSS(selector), text))
}

// tick sets a checkbox whose label begins so.
func (b *browser) tick(label string) {
	b.t.Helper()
	b.until(fmt.Sprintf(`(() => {
		const l = [...document.querySelectorAll("main label")].find(l => l.innerText.trim().startsWith(%q));
		const box = l?.querySelector("input[type=checkbox]");
		if (!box) return false;
		if (!box.checked) box.click();
		return true;
	})()`, label))
}

// TestConsoleJoinsByKeyAndSecret goes through the whole guided set-up of a marketplace whose requests are
// signed: first with a wrong secret, then left, resumed, and switched on.
func TestConsoleJoinsByKeyAndSecret(t *testing.T) {
	t.Parallel()
	w := openWorld(t, false)
	b := openBrowser(t)
	b.signIn(w, "lead@morrowhive.example")
	b.do(chromedp.Navigate(w.URL + "/connections"))
	b.click("Join a system")
	b.sees("Lets us in by")
	b.sees("requests signed")
	wide := ask(b, chromedp.Evaluate[int64](`document.documentElement.scrollWidth - document.documentElement.clientWidth`))
	require.LessOrEqual(t, wide, int64(0))
	b.do(chromedp.Click(chromedp.CSS(`button[aria-label="Join Bramble Row"]`)))
	b.sees("How to get there")

	b.fill(`input[placeholder="https://"]`, w.BrambleURL)
	b.fill(`input[name=key]`, "  "+demo.BrambleAccess["key"]+" ")
	b.fill(`input[name=secret]`, "not-the-secret")
	b.click("Test")
	b.sees("the proof does not fit the request")
	b.sees("this is the one that is wrong")
	b.sees("Spaces around Trader key were taken off")
	list, err := w.Client.Accounts(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 3, "nothing is kept of an access that was not let in")

	b.fill(`input[name=secret]`, demo.BrambleAccess["secret"])
	b.click("Test")
	b.sees("Is this the account whose orders are to come in here?")
	b.sees("BR-3302")

	// Left in the middle, it stands in the list and goes on where it was.
	b.do(chromedp.Navigate(w.URL + "/connections"))
	b.sees("being set up")
	b.until(
		`(() => { const r = [...document.querySelectorAll("tr")].find(r => r.innerText.includes("being set up")); r?.click();` +
			` return !!r })()`)
	b.click("Yes, this one")
	b.sees("Locations whose stock is sold there")
	b.tick("Alder Yard")
	b.click("Keep and go on")
	b.sees("Each direction has its own switch")
	require.Equal(t, "false",
		ask(b, chromedp.Evaluate[string](`document.querySelector('button[aria-label="stock out on"]').getAttribute("aria-checked")`)),
		"sending stock is off")
	require.True(t, ask(b, chromedp.Evaluate[bool](`document.querySelector('button[aria-label="stock out on"]').disabled`)),
		"and stays off until its preview was seen")
	b.click("Go on")
	b.click("Look at what is there")
	b.sees("nothing was changed yet")
	b.sees("is matched")
	b.click("Bring it over")
	b.sees("done: 21 records")
	b.click("Go on")
	b.sees("listings would show another number")
	b.sees("would be sold out")
	b.click("I have seen this")
	b.sees("Seen")
	b.click("What moves")
	b.do(chromedp.Click(chromedp.CSS(`button[aria-label="stock out on"]`)))
	b.until(`document.querySelector('button[aria-label="stock out on"]').getAttribute("aria-checked") === "true"`)
	b.click("Switch on")
	b.click("Put to work")
	b.sees("is at work")
	c, err := w.Client.Connection(t.Context(), "bramble-row")
	require.NoError(t, err)
	require.Equal(t, "on", c.State)

	// The bench maps what came in, and shows what would go out without a secret.
	_, err = w.Bramble.Sell(standin.DeskSale{SKU: "SMOKER-M"})
	require.NoError(t, err)
	b.do(chromedp.Navigate(w.URL + "/connections/bramble-row/bench"))
	b.click("stock out")
	b.until(`document.querySelector("textarea").value.includes("outside_id")`)
	b.click("Show what would be sent")
	b.sees("POST " + w.BrambleURL + "/br/submissions")
	b.sees("Nothing was sent; this is what would be.")
	require.NotContains(t, b.text("main"), demo.BrambleAccess["secret"])
	_, err = w.Client.RunNow(t.Context(), "bramble-row", "orders in", "")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		list, _, err := w.Client.Orders(t.Context(), "connection=bramble-row")
		return err == nil && len(list) == 1
	}, 10*time.Second, 20*time.Millisecond)
	b.click("orders in")
	b.until(`document.querySelector("textarea").value.includes("Ship-To")`)
	b.click("Map it")
	b.sees("it would be taken in")
	b.do(chromedp.Evaluate[chromedp.Void](`scrollTo(0, 0)`))

	// A connection that is in test, paused or half set up says so in the list.
	_, err = w.JoinTansy(t.Context(), demo.Joining{Sources: []string{"alder"}})
	require.NoError(t, err)
	require.NoError(t, w.Join(t.Context(), "counterpane", "till", "Mill Lane till"))
	_, err = w.Client.SetTest(t.Context(), "tansy", true)
	require.NoError(t, err)
	c, err = w.Client.Connection(t.Context(), "skep")
	require.NoError(t, err)
	_, err = w.Client.Pause(t.Context(), "skep", true, c.Revision)
	require.NoError(t, err)
	b.do(chromedp.Navigate(w.URL + "/connections"))
	b.sees("being set up")
	b.sees("in test: nothing of it is real")
	b.sees("paused")
}

// TestConsoleJoinsByConsent goes to the marketplace's consent page and comes back, once signed in with the
// wrong seller.
func TestConsoleJoinsByConsent(t *testing.T) {
	t.Parallel()
	w := openWorld(t, false)
	b := openBrowser(t)
	b.signIn(w, "lead@morrowhive.example")
	b.do(chromedp.Navigate(w.URL + "/connectors"))
	b.do(chromedp.Click(chromedp.CSS(`button[aria-label="Join Tansy"]`)))
	give := func() {
		b.sees("How to get there")
		b.until(
			`(() => { const s = document.querySelector("main select"); if (!s) return false;` +
				` const set = Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set; set.call(s, "westmark");` +
				` s.dispatchEvent(new Event("change", { bubbles: true })); return true })()`)
		b.fill(`input[placeholder="https://"]`, w.TansyURL)
		b.fill(`input[name=app]`, demo.TansyAccess["app"])
		b.fill(`input[name=app_secret]`, demo.TansyAccess["app_secret"])
		b.click("Go to Tansy's consent page")
		b.do(chromedp.WaitVisible(chromedp.CSS(`#allow`)))
	}
	give()
	b.do(chromedp.Click(chromedp.CSS(`input[value="T-9007"]`)), chromedp.Click(chromedp.CSS(`#allow`)),
		chromedp.WaitVisible(chromedp.CSS(`main [role=status]`)))
	b.sees("belongs to Tansy Eastmark; Tansy Westmark was chosen")
	give()
	b.do(chromedp.Click(chromedp.CSS(`#allow`)), chromedp.WaitVisible(chromedp.CSS(`main [role=status]`)))
	b.sees("T-8841")
	b.click("Is it the right account?")
	b.click("Yes, this one")
	b.sees("Locations whose stock is sold there")
	j, err := w.Client.Join(t.Context(), "tansy")
	require.NoError(t, err)
	require.Equal(t, "T-8841", j.Connection.AccountNo)
	require.Equal(t, "westmark", j.Connection.Site)
}
