package browse

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// weftOrders is what a made-up store answers when it is asked for its orders.
const weftOrders = `{"orders":[{"id":881,"no":"W-881","status":"paid","created":"2026-11-23T07:27:12Z",` +
	`"updated":"2026-11-23T07:30:00Z","currency":"EUR","to":{"name":"Maren Tolland","street":"Lindenrow 14","zip":"41360",` +
	`"city":"Harrowmere","country":"XW"},"rows":[{"n":1,"sku":"HON-250","text":"Honey","qty":2,"price":"9.50","total":"19.00"}],` +
	`"total":"19.00"}]}`

// TestADefinitionIsWritten on the page, from a sample: what may stand there is offered, what is wrong is said, what becomes of a record
// is shown as it is typed; a second version is compared, taken, and taken back.
func TestADefinitionIsWritten(t *testing.T) {
	t.Parallel()
	w := openWorld(t, false)
	b := openBrowser(t)
	b.signIn(w, "lead@morrowhive.example")
	b.do(chromedp.Navigate(w.URL + "/connectors"))
	b.click("Add a definition")
	b.sees("What people call it")
	b.chooseUnder("Code", "weft")
	b.chooseUnder("What people call it", "Weft Market")
	b.chooseUnder("Feed", "orders in")
	b.chooseUnder("Where it is listed", "/orders")
	b.chooseUnder("What it answers there", weftOrders)
	b.click("Write a first definition")
	b.sees("no mistakes; not added yet")
	b.sees("things to look at")

	b.typeInto("Sample", weftOrders)
	b.until(`[...document.querySelectorAll("tr")].some(r => r.innerText.includes("ship_to.postcode") && r.innerText.includes("41360"))`)
	b.shot("definition")
	b.atTheEnd("\nlimi")
	b.until(`(() => { const li = document.querySelector(".cm-tooltip-autocomplete li"); 
		if (!li?.innerText.startsWith("limits")) return false;
		li.dispatchEvent(new MouseEvent("mousedown", { bubbles: true, cancelable: true })); return true })()`)
	b.until(`document.querySelector(".cm-content").innerText.trim().endsWith("limits:")`)
	b.sees("1 mistake")
	b.until(`document.querySelector("main ul[aria-label=Mistakes] button")?.innerText.includes("limits")`)
	require.Contains(t, b.text("header"), "1 mistake")
	typed := ask(b, chromedp.Evaluate[string](`sessionStorage.getItem("definition ")`))
	require.Contains(t, typed, "\nlimits: ", "what was typed is not lost when the page is left")
	b.rewrite(strings.Replace(typed, "\nlimits: ", "", 1))
	b.sees("no mistakes; not added yet")
	b.click("Add")
	b.sees("no connection works by it yet")
	b.click("Add it")
	b.sees("Systems that can be joined")

	b.until(`(() => { const e = [...document.querySelectorAll("main button")].find(e => e.innerText === "Weft Market");
		e?.click(); return !!e })()`)
	b.click("Change it")
	b.sees("as it is at work")
	b.rewrite(strings.Replace(w.Relay.Connector("weft").Text, "title: Weft Market", "title: Weft", 1))
	b.sees("no mistakes; not taken yet")
	b.click("Compare and take")
	b.sees("+title: Weft")
	b.chooseUnder("What was changed", "shorter")
	b.click("Take it as version 2")
	b.sees("as it is at work")
	b.click("Versions")
	b.sees("shorter")
	b.until(`(() => { const e = document.querySelector('[aria-label="Look at version 1"]'); e?.click(); return !!e })()`)
	b.sees("Back from version 2 to version 1")
	b.click("Take version 2 back")
	b.sees("as version 1")
	require.Equal(t, "Weft Market", w.Relay.Connector("weft").Title)
}

// atTheEnd types at the end of the definition.
func (b *browser) atTheEnd(text string) {
	b.t.Helper()
	b.until(`(() => { const e = document.querySelector(".cm-content"); e?.focus(); return !!e })()`)
	b.do(chromedp.KeyEvent(kb.End, chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	for _, key := range text {
		if key == '\n' {
			b.press(kb.Enter)
			continue
		}
		b.press(string(key))
	}
}

// rewrite puts a text in the place of the definition.
func (b *browser) rewrite(text string) {
	b.t.Helper()
	b.until(`(() => { const e = document.querySelector(".cm-content"); e?.focus(); return !!e })()`)
	b.do(chromedp.KeyEvent("a", chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	b.until(fmt.Sprintf(`(() => { const data = new DataTransfer(); data.setData("text/plain", %q);
		document.querySelector(".cm-content").dispatchEvent(new ClipboardEvent("paste", { clipboardData: data, bubbles: true,
			cancelable: true })); return true })()`, text))
}
