package browse

import (
	"fmt"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"openrelay/internal/standin"
)

// press presses keys as a person does, on whatever has the focus.
func (b *browser) press(keys string) {
	b.t.Helper()
	b.do(chromedp.KeyEvent(keys))
}

// TestConsoleLeadAtWork switches, pauses, adjusts and closes the day, each with what is asked before.
func TestConsoleLeadAtWork(t *testing.T) {
	t.Parallel()
	w := openWorld(t, true)
	b := openBrowser(t)
	b.do(chromedp.Navigate(w.URL), chromedp.WaitVisible(chromedp.CSS(`input[name=email]`)),
		chromedp.SendKeys(chromedp.CSS(`input[name=email]`), "lead@morrowhive.example"),
		chromedp.SendKeys(chromedp.CSS(`input[name=password]`), "wrong one"+kb.Enter))
	b.sees("do not belong together")
	b.do(chromedp.Navigate(w.URL))
	b.signIn(w, "lead@morrowhive.example")

	// A feed is switched off only after it was said what that means, and on again at once.
	b.do(chromedp.Navigate(w.URL + "/connections/skep"))
	b.sees("Feeds")
	b.do(chromedp.Click(chromedp.CSS(`button[aria-label="stock out on"]`)))
	b.sees("will go on showing the quantities it shows now")
	b.click("Switch off")
	b.until(`document.querySelector('button[aria-label="stock out on"]').getAttribute("aria-checked") === "false"`)
	b.do(chromedp.Click(chromedp.CSS(`button[aria-label="stock out on"]`)))
	b.until(`document.querySelector('button[aria-label="stock out on"]').getAttribute("aria-checked") === "true"`)
	b.click("Test")
	b.sees("let in as Little Skep, number H-31415")
	b.click("Run now")
	b.sees("by Edda Quillon")
	b.click("Pause")
	b.sees("nothing is sent to it until it is resumed")
	b.click("Pause")
	b.sees("paused")
	b.click("Resume")
	b.sees("running well")

	// Stock is adjusted with a reason; the page shows before and after; the store follows.
	v, err := w.Client.Item(t.Context(), "WAX-1KG")
	require.NoError(t, err)
	have := v.Levels[0].OnHand
	b.do(chromedp.Navigate(w.URL + "/items/WAX-1KG"))
	b.click("Adjust stock")
	b.do(chromedp.WaitVisible(chromedp.CSS(`[role=dialog] input[inputmode=numeric]`)),
		chromedp.SendKeys(chromedp.CSS(`[role=dialog] input[inputmode=numeric]`), "-3"),
		chromedp.SendKeys(chromedp.CSS(`[role=dialog] input[placeholder^=broken]`), "melted in the sun"))
	b.sees(fmt.Sprintf("%d → %d", have, have-3))
	b.click("Adjust")
	b.sees("melted in the sun")

	// The day is closed once, after being asked.
	b.do(chromedp.Navigate(w.URL + "/parcels"))
	b.click("Close the day")
	b.sees("is asked to come for them")
	b.click("Close the day")
	b.sees("closed, DE0001")
}

// TestConsoleByKeyboard searches, walks along a list and opens an order without a pointer.
func TestConsoleByKeyboard(t *testing.T) {
	t.Parallel()
	w := openWorld(t, true)
	b := openBrowser(t)
	b.signIn(w, "desk@morrowhive.example")
	b.do(chromedp.Navigate(w.URL + "/orders"))
	b.sees("R10037")
	b.press("?")
	b.sees("to the search field")
	b.press(kb.Escape)
	b.press("/")
	b.until(`document.activeElement.type === "search"`)
	b.press(kb.Backspace) // the protocol sends the character apart from the key, so that it cannot be held back
	b.press("Fenn")
	b.until(`location.search === "?q=Fenn"`)
	b.until(
		`[...document.querySelectorAll("tbody tr")].length > 1 && [...document.querySelectorAll("tbody tr")].every(r => ` +
			`r.innerText.includes("Fenn"))`)
	b.do(chromedp.Evaluate[chromedp.Void](`document.querySelector("tbody tr").focus()`))
	b.press(kb.ArrowDown)
	second := ask(b, chromedp.Evaluate[string](`document.activeElement.cells[1].innerText`))
	require.Equal(t, second, ask(b, chromedp.Evaluate[string](`document.querySelectorAll("tbody tr")[1].cells[1].innerText`)))
	b.press(kb.Enter)
	b.until(fmt.Sprintf("location.pathname === %q", "/orders/"+second))
	b.do(chromedp.NavigateBack())
	b.until(`location.search.includes("q=Fenn")`)
}

// TestConsoleKeepsRowsStill: while the pointer is over a list, none of its rows moves.
func TestConsoleKeepsRowsStill(t *testing.T) {
	t.Parallel()
	w := openWorld(t, true)
	b := openBrowser(t)
	b.signIn(w, "desk@morrowhive.example")
	b.do(chromedp.Navigate(w.URL + "/orders"))
	b.sees("R10037")
	b.do(chromedp.MouseEvent("mouseMoved", 600, 300))
	_, name, err := w.Morrow.Place(jars(1))
	require.NoError(t, err)
	b.sees("1 more, shown when the pointer leaves")
	require.NotContains(t, b.text("tbody"), name)
	b.do(chromedp.MouseEvent("mouseMoved", 600, 20))
	b.sees(name)
}

// TestConsoleViewerAndBadDay: who may only look cannot switch; a store that fails shows with its words.
func TestConsoleViewerAndBadDay(t *testing.T) {
	t.Parallel()
	w := openWorld(t, false)
	b := openBrowser(t)
	b.signIn(w, "books@morrowhive.example") // a bookkeeper sees what the stores say, and switches nothing
	b.do(chromedp.Navigate(w.URL + "/connections/morrow"))
	b.sees("Feeds")
	require.True(t, ask(b, chromedp.Evaluate[bool](`[...document.querySelectorAll("[role=switch]")].every(s => s.disabled)`)))
	require.NotContains(t, b.text("main"), "Pause")
	w.Morrow.Misbehave(standin.Faults{Status: 503, Text: "closed for stocktaking"})
	_, err := w.Client.RunNow(t.Context(), "morrow", "orders in", "")
	require.NoError(t, err)
	b.sees("closed for stocktaking")
	b.do(chromedp.Navigate(w.URL + "/"))
	b.sees("closed for stocktaking")
	w.Morrow.Misbehave(standin.Faults{})
	b.sees("Everything is moving")
	b.do(chromedp.Navigate(w.URL + "/orders/R77777"))
	b.sees("There is no order R77777.")
	b.do(chromedp.Navigate(w.URL + "/orders"))
	b.sees("Nobody has bought yet")
}
