package browse

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"openrelay/internal/client"
	"openrelay/internal/demo"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/joining"
	"openrelay/internal/standin"
	"openrelay/internal/wire"
)

// choose picks an option of a select as a person does.
func (b *browser) choose(label, value string) {
	b.t.Helper()
	b.until(
		fmt.Sprintf(
			`(() => { const all = [...document.querySelectorAll("select[aria-label=" + JSON.stringify(%q) + "]")];
				const s = all[all.length-1]; if (!s || ![...s.options].some(o => o.value === %q)) return false;
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, %q); s.dispatchEvent(new
		Event("change", { bubbles: true })); return true; })()`, label, value, value))
}

// chooseUnder sets the field whose label begins so.
func (b *browser) chooseUnder(label, value string) {
	b.t.Helper()
	b.until(fmt.Sprintf(`(() => { const l = [...document.querySelectorAll("label")].find(l => l.innerText.startsWith(%q));
		const f = l?.querySelector("input, select, textarea"); if (!f) return false;
		Object.getOwnPropertyDescriptor(Object.getPrototypeOf(f), "value").set.call(f, %q); f.dispatchEvent(new Event(f.tagName
		=== "SELECT" ? "change" : "input", { bubbles: true })); return true; })()`, label, value))
}

// typeInto writes into the last field with a label.
func (b *browser) typeInto(label, text string) {
	b.t.Helper()
	b.until(
		fmt.Sprintf(
			`(() => { const all = [...document.querySelectorAll("[aria-label=" + JSON.stringify(%q) + "]")];`+
				` const i = all[all.length-1]; if (!i) return false; i.focus(); i.select?.(); return true; })()`, label))
	b.do(chromedp.KeyEvent(text))
}

// TestOrdersAndExceptions goes through orders as a clerk does: mends a cause once for three orders, answers a portal
// in time, writes a rule and sees what it would have changed, acts on many and takes it back, voids and takes in again.
func TestOrdersAndExceptions(t *testing.T) {
	t.Parallel()
	w := openWorld(t, true)
	ctx := t.Context()
	c := w.Client
	_, err := w.JoinTill(ctx, demo.Joining{Sources: []string{"mill"}, Import: joining.ImportChoices{Items: true}})
	require.NoError(t, err)
	require.NoError(t, w.JoinKitchen(ctx))
	b := openBrowser(t)
	b.signIn(w, demo.People[0].Email)

	// One cause, three orders.
	b.do(chromedp.Navigate(w.URL + "/exceptions"))
	b.sees("SMOKER-OLD")
	b.until(
		`(() => { const r = [...document.querySelectorAll("tr[data-open]")].find(r => r.innerText.includes("SMOKER-OLD"));` +
			` if (!r) return false; r.click(); return true; })()`)
	b.sees("3 orders wait")
	b.sees("It is this")
	b.typeInto("SKU of the item", "SMOKER-M")
	b.until(
		`(() => { const f = document.querySelector('input[aria-label="SKU of the item"]').closest("form");` +
			` const x = f.querySelector("button[type=submit]"); if (x.disabled) return false; x.click(); return true; })()`)
	b.sees("SMOKER-OLD is SMOKER-M now")
	require.NoError(t, w.Wait(ctx, 10*time.Second, "the orders to go on", func() (bool, error) {
		list, err := c.Groups(ctx, "cause=unknown%20item")
		return len(list) == 0, err
	}))

	// A rule, built as a sentence, seen before it is switched on.
	b.do(chromedp.Navigate(w.URL + "/rules"))
	b.sees("Papers for Eastmark")
	b.sees("the country is XE")
	b.do(chromedp.Navigate(w.URL + "/rules/new"))
	b.sees("As a sentence")
	b.until(
		`(() => { const l = [...document.querySelectorAll("label")].find(l => l.innerText.trim().startsWith("Name"));` +
			` l.querySelector("input").focus(); return true; })()`)
	b.do(chromedp.KeyEvent("Heavy jars"))
	b.click("Add a condition")
	b.choose("Field", "weight")
	b.choose("Comparison", "above")
	b.typeInto("Value", "3.5")
	b.click("Add a condition")
	b.choose("Field", "categories")
	b.typeInto("Value", "Jars")
	b.click("Add an action")
	b.typeInto("Value of the action", "heavy")
	b.until(
		`document.querySelectorAll("textarea")[0].value === 'weight > 3500 && "Jars" in categories' && ` +
			`document.querySelectorAll("textarea")[1].value === 'tag("heavy")'`)
	b.until(`[...document.querySelectorAll("button")].find(x => x.innerText === "Switch it on").disabled`)
	b.click("See what it would have changed")
	b.sees("past orders would have been decided on differently")
	b.sees("tag heavy")
	b.shot("rule")
	b.click("Switch it on")
	b.sees("Heavy jars")
	list, err := c.Rules(ctx)
	require.NoError(t, err)
	require.Len(t, list, len(demo.Rules)+1)
	require.True(t, list[len(list)-1].On)

	// Text and sentence are the same thing.
	b.do(chromedp.Navigate(fmt.Sprintf("%s/rules/%d", w.URL, list[0].ID)))
	b.until(`(() => { const t = document.querySelector("textarea"); if (!t) return false; t.focus(); t.select(); return true; })()`)
	b.do(chromedp.KeyEvent(`country == "XE" || total > 100000`))
	b.until(`document.querySelector('select[aria-label="All or any"]')?.value === "or"`)
	b.until(`(() => { const t = document.querySelector("textarea"); t.focus(); t.select(); return true; })()`)
	b.do(chromedp.KeyEvent(`size(skus) > 3`))
	b.sees("The condition says more than a sentence can")
	b.until(`(() => { const t = document.querySelector("textarea"); t.focus(); t.select(); return true; })()`)
	b.do(chromedp.KeyEvent(`country = "XE"`))
	b.sees("the rule cannot be read")

	// A portal waits; a person answers in time.
	ref, err := w.Nosh.Order(standin.NoshSale{Dishes: []standin.NoshDishSale{{Code: "LUNCH-SOUP", Count: 2, Wish: "without cream"}},
		Brought: true, Kitchen: "Nut allergy", Voucher: 200})
	require.NoError(t, err)
	var o wire.Order
	require.NoError(t, w.Wait(ctx, 8*time.Second, "the portal's order", func() (bool, error) {
		var err error
		o, err = c.Order(ctx, ref)
		if client.StatusOf(err) == 404 {
			return false, nil
		}
		return err == nil, err
	}))
	require.Equal(t, "wanted", o.Ours.Answer.State)
	b.do(chromedp.Navigate(w.URL + "/orders/" + o.Number))
	b.sees("Nosh Lane waits")
	b.sees("Nut allergy")
	b.click("Accept")
	require.NoError(t, w.Wait(ctx, 8*time.Second, "the portal to hear", func() (bool, error) {
		return w.Nosh.Stands(ref) == "accepted", nil
	}))
	b.sees("Accepted, ready at")
	b.click("Hand over")
	require.NoError(t, w.Wait(ctx, 8*time.Second, "the portal to hear", func() (bool, error) { return w.Nosh.Stands(ref) == "out", nil }))

	// From now on it is answered without a person, and ready half an hour later.
	b.do(chromedp.Navigate(w.URL + "/connections/nosh"))
	b.click("Settings")
	b.sees("Orders that want an answer")
	b.chooseUnder("Orders that want an answer", "accept")
	b.chooseUnder("Preparation time", "30")
	b.chooseUnder("Differences within it", "Portal differences")
	b.chooseUnder("Ways to pay", "card = Card clearing")
	b.click("Keep")
	var set engine.Settings
	require.NoError(t, w.Wait(ctx, 5*time.Second, "the settings to be kept", func() (bool, error) {
		nosh, err := c.Connection(ctx, "nosh")
		set = nosh.Settings
		return set.Answer == "accept", err
	}))
	require.EqualValues(t, 30, set.PrepMinutes)
	require.Equal(t, "Portal differences", set.Account)
	require.Equal(t, map[string]string{"card": "Card clearing"}, set.Payments)

	// Many at once, and back.
	b.do(chromedp.Navigate(w.URL + "/orders?stage=ready"))
	b.sees("Keep this filter")
	b.do(chromedp.Click(chromedp.CSS(`input[aria-label="Mark all that are shown"]`)))
	b.sees("Begin to pick")
	b.click("Tag")
	b.until(`!!document.querySelector("[role=dialog] input")`)
	b.do(chromedp.KeyEvent("november"))
	b.click("Tag")
	b.sees("done")
	b.click("Undo")
	b.sees("tag taken off")
	b.do(chromedp.KeyEvent("\x1b"))
	b.click("Keep this filter")
	b.until(`!!document.querySelector("[role=dialog] input")`)
	b.do(chromedp.KeyEvent("Ready now"))
	b.click("Keep it")
	b.sees("Ready now")
	rows, _, err := c.Orders(ctx, "stage=ready&limit=1")
	require.NoError(t, err)
	last := strings.Fields(rows[0].Buyer)
	b.do(chromedp.Navigate(w.URL + "/orders?q=" + strings.ToLower(last[len(last)-1])))
	b.until(`document.querySelectorAll("tbody tr").length > 0`)
	b.sees(rows[0].Buyer)

	// Void, and take in again under the same number.
	number := rows[0].Number
	b.do(chromedp.Navigate(w.URL + "/orders/" + number))
	b.sees("What happened")
	b.until(
		`(() => { const x = [...document.querySelectorAll("button")].find(x => x.innerText === "More"); if (!x) return false;` +
			` x.dispatchEvent(new PointerEvent("pointerdown", { bubbles: true, button: 0, pointerType: "mouse" })); return true; })()`)
	b.until(
		`(() => { const x = [...document.querySelectorAll("[role=menuitem]")].find(x => x.innerText === "Void it");` +
			` if (!x) return false; x.click(); return true; })()`)
	b.until(
		`(() => { const x = document.querySelector("[role=dialog] input[type=checkbox]"); if (!x) return false; x.click();` +
			` return true; })()`)
	b.click("Void the order")
	b.sees(number + "/void-")
	b.until(
		`(() => { const x = [...document.querySelectorAll("button")].find(x => x.innerText === "More");` +
			` x.dispatchEvent(new PointerEvent("pointerdown", { bubbles: true, button: 0, pointerType: "mouse" })); return true; })()`)
	b.until(
		`(() => { const x = [...document.querySelectorAll("[role=menuitem]")].find(x => x.innerText.startsWith("Take the channel"));` +
			` if (!x) return false; x.click(); return true; })()`)
	b.until(fmt.Sprintf(`location.pathname === "/orders/%s"`, number))
	again, err := c.Order(ctx, number)
	require.NoError(t, err)
	require.Equal(t, "ready", again.Stage)

	// Reports and settings.
	b.do(chromedp.Navigate(w.URL + "/reports"))
	b.sees("charged to buyers")
	b.until(`document.querySelectorAll("svg rect").length > 1`)
	b.do(chromedp.Navigate(w.URL + "/settings"))
	b.sees("Who is told")
	b.until(`(() => { const i = document.querySelector("input[type=email]"); if (!i) return false; i.focus(); return true; })()`)
	b.do(chromedp.KeyEvent("desk@morrowhive.example"))
	b.click("Tell them")
	b.sees("desk@morrowhive.example")
	b.sees("Edda Quillon")
	b.do(chromedp.Navigate(w.URL + "/activity?thing=rule"))
	b.sees("added and switched on")

	findings, err := w.Store.Verify(ctx)
	require.NoError(t, err)
	require.Empty(t, findings)
}

// TestViewersSeeNoPersons: those who only look see neither names nor addresses, on no page and in no answer.
func TestViewersSeeNoPersons(t *testing.T) {
	t.Parallel()
	w := openWorld(t, false)
	_, name, err := w.Morrow.Place(jars(1))
	require.NoError(t, err)
	var number string
	require.NoError(t, w.Wait(t.Context(), 10*time.Second, "the order", func() (bool, error) {
		o, err := w.Client.Order(t.Context(), name)
		number = o.Number
		return err == nil, nil
	}))
	b := openBrowser(t)
	b.signIn(w, "guest@morrowhive.example")
	for _, page := range []string{"/orders", "/orders/" + number, "/", "/activity"} {
		b.do(chromedp.Navigate(w.URL + page))
		b.until(`document.querySelectorAll("main tr, main li").length > 0`)
		text := b.text("body")
		require.NotContains(t, text, "Tolland", page)
		require.NotContains(t, text, "Lindenrow", page)
	}
	b.do(chromedp.Navigate(w.URL + "/orders/" + number))
	b.sees("hidden from your role")
	b.do(chromedp.Navigate(w.URL + "/orders?q=Tolland"))
	b.sees("No order fits")
}

// TestAnOrderIsTyped: somebody calls, and a clerk types what they know of the order; the rest is worked out.
func TestAnOrderIsTyped(t *testing.T) {
	t.Parallel()
	w := openWorld(t, false)
	clerk := openBrowser(t)
	clerk.signIn(w, "desk@morrowhive.example")
	clerk.do(chromedp.Navigate(w.URL + "/type"))
	clerk.sees("Take it in")
	for label, text := range map[string]string{"The channel's number": "CALL-1", "Name": "Ada Moss", "Street": "Mossway 3",
		"Postcode": "77102", "Town": "Greywick", "Country": "XW", "Shipping": "4.90"} {
		clerk.chooseUnder(label, text)
	}
	clerk.typeInto("SKU of line 1", "JAR-500-T12")
	clerk.typeInto("Quantity of line 1", "2")
	clerk.typeInto("Price of line 1", "dear")
	clerk.click("Take it in")
	clerk.sees("“dear” is no amount such as 12.90")
	clerk.typeInto("Price of line 1", "12.90")
	clerk.click("Take it in")
	clerk.sees("Typed here")
	o, err := w.Client.Order(t.Context(), "CALL-1")
	require.NoError(t, err)
	require.EqualValues(t, 2*1290+490, o.Totals.Total)
}
