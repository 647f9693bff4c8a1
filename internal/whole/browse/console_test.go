package browse

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"openrelay/internal/core/gs1"
	"openrelay/internal/wire"
)

// TestConsoleFromBasketToTracking goes through a sale as people do: the shopper in the store, the clerk
// and the packer in the console.
func TestConsoleFromBasketToTracking(t *testing.T) {
	t.Parallel()
	w := openWorld(t, true)
	clerk := openBrowser(t)
	clerk.signIn(w, "desk@morrowhive.example")
	clerk.do(chromedp.Navigate(w.URL + "/orders"))
	clerk.sees("Their number")

	before, err := w.Client.Item(t.Context(), "JAR-500-T12")
	require.NoError(t, err)

	// 1. The shopper buys two trays of jars and a suit.
	shopper := clerk.tab()
	shopper.do(chromedp.Navigate(w.MorrowURL), chromedp.WaitVisible(chromedp.CSS("#JAR-500-T12")),
		chromedp.SetValue(chromedp.CSS(`#JAR-500-T12 input[name=quantity]`), "2"), chromedp.Click(chromedp.CSS(`#JAR-500-T12 button`)),
		chromedp.WaitVisible(chromedp.CSS("#buy")),
		chromedp.Navigate(w.MorrowURL), chromedp.WaitVisible(chromedp.CSS("#SUIT-M-WHITE")))
	shopper.do(chromedp.Click(chromedp.CSS(`#SUIT-M-WHITE button`)), chromedp.WaitVisible(chromedp.CSS("#buy")),
		chromedp.Click(chromedp.CSS("#buy")), chromedp.WaitVisible(chromedp.CSS("#order-name")))
	theirs := shopper.text("#order-name")

	// 2. The order stands on the clerk's page, which was not loaded again; the other store shows less.
	clerk.sees(theirs)
	other := clerk.tab()
	shows := func(n int64) {
		other.do(chromedp.Navigate(w.SkepURL))
		other.until(fmt.Sprintf(`document.querySelector('[data-stock="JAR-500-T12"]').innerText === "%d"`, n))
	}
	var skep int64
	for _, l := range before.Listings {
		if l.Connection == "skep" {
			skep = l.Allowed
		}
	}
	shows(skep - 2)

	// 3. Ours beside the channel's, recalculated and compared.
	o, err := w.Client.Order(t.Context(), theirs)
	require.NoError(t, err)
	clerk.do(chromedp.Navigate(w.URL + "/orders/" + o.Number))
	clerk.sees("Ours beside the channel's")
	table := clerk.text(`[data-testid="side-by-side"]`)
	require.Contains(t, table, "117.70")
	require.NotContains(t, table, "differs")
	clerk.sees("Stock allocated")
	clerk.shot("order")

	// 4. Pick by scanning; a wrong scan is refused.
	packer := clerk
	packer.click("Pick")
	packer.do(chromedp.WaitVisible(chromedp.CSS(`input[aria-label=Scan]`)), chromedp.SendKeys(chromedp.CSS(`input[aria-label=Scan]`),
		"SMOKER-L"+kb.Enter))
	wrong := packer.text(`[data-testid="said-wrong"]`)
	require.Contains(t, wrong, "SMOKER-L")
	require.Contains(t, wrong, "Expected")
	packer.do(chromedp.EmulateViewport(390, 844))
	packer.do(chromedp.EmulateViewport(1280, 800))
	s, err := w.Client.Shipment(t.Context(), o.Number)
	require.NoError(t, err)
	for _, want := range s.Wants {
		packer.do(chromedp.SendKeys(chromedp.CSS(`input[aria-label=Scan]`), want.Bin+kb.Enter))
		packer.sees("Bin " + want.Bin + ": take")
		for n := int64(1); n <= want.Quantity; n++ {
			packer.do(chromedp.SendKeys(chromedp.CSS(`input[aria-label=Scan]`), want.GTIN+kb.Enter))
			packer.sees(fmt.Sprintf("%s: %d of %d", want.Title, n, want.Quantity))
		}
	}
	packer.click("Pack")
	packer.sees("All that is left goes into one parcel")
	packer.do(chromedp.WaitVisible(chromedp.CSS(`[aria-label="Proposed"] svg`)))
	packer.shot("packing")
	packer.click("Small carton")
	packer.sees("does not fit")
	packer.click("Medium carton")
	packer.do(chromedp.WaitVisible(chromedp.CSS(`[data-testid="rates"]`)))
	packer.sees("Plover Express")
	require.Contains(t, packer.text(`[data-testid="rates"]`), "agrees")
	packer.click("Ship")
	tracking := strings.TrimSpace(packer.text(`[data-testid="tracking"]`))
	require.True(t, gs1.ValidS10(tracking), tracking)

	// 5. The store shows it; the write-back is read back.
	packer.until(`document.querySelector('[data-testid="write-back"]')?.innerText.includes("confirmed")`)
	shopper.do(chromedp.Reload(), chromedp.WaitVisible(chromedp.CSS("a.tracking")))
	require.Equal(t, tracking, shopper.text("a.tracking"))
	require.Equal(t, "on its way", shopper.text("#order-state"))

	// 6. Why does Little Skep show this number?
	clerk.do(chromedp.Navigate(w.URL + "/items/JAR-500-T12"))
	clerk.sees("Where it is listed")
	clerk.do(chromedp.Click(chromedp.CSS(`button[aria-label^="Why does Little Skep"]`)),
		chromedp.WaitVisible(chromedp.CSS(`[data-testid="why"]`)))
	why := clerk.text(`[data-testid="why"]`)
	require.Contains(t, why, "On hand at Alder Yard")
	require.Contains(t, why, "Safety buffer")
	require.Contains(t, why, tracking)
	require.Contains(t, why, fmt.Sprintf("shows %d", skep-2))
	clerk.shot("why")
	shows(skep - 2)
}

// TestConsolePages opens every page and looks for what it is there for, for browser errors, and for
// anything wider than the screen.
func TestConsolePages(t *testing.T) {
	t.Parallel()
	w := openWorld(t, true)
	b := openBrowser(t)
	b.signIn(w, "lead@morrowhive.example")
	for _, p := range []struct{ path, sees, shot string }{
		{"/", "Needs a person", ""},
		{"/orders?stage=held", "total differs", ""},
		{"/picking", "orders to pick", ""},
		{"/parcels", "Close the day", ""},
		{"/stock", "Available", ""},
		{"/catalog", "Bee suit with veil", ""},
		{"/connections", "Little Skep", ""},
		{"/connections/morrow", "dispatch out", ""},
		{"/activity", "Tracking number", ""},
		{"/exceptions", "mending one cause", ""},
		{"/rules", "Papers for Eastmark", ""},
		{"/rules/1", "The same as text", ""},
		{"/reports", "charged to buyers", ""},
		{"/settings", "Who is told", ""},
		{"/type", "Take it in", ""},
	} {
		for _, size := range [][2]int64{{1280, 800}, {390, 844}} {
			phone := size[0] == 390
			if phone && p.path != "/picking" && p.path != "/parcels" {
				continue
			}
			b.do(chromedp.EmulateViewport(size[0], size[1]), chromedp.Navigate(w.URL+p.path))
			b.sees(p.sees)
			wide := ask(b, chromedp.Evaluate[int64](`document.documentElement.scrollWidth - document.documentElement.clientWidth`))
			if !phone || p.path == "/picking" {
				require.LessOrEqual(t, wide, int64(0), "%s is wider than %d", p.path, size[0])
			}
			if p.shot != "" && !phone {
				b.shot(p.shot)
			}
		}
	}
	b.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(w.URL+"/"))
	b.sees("Needs a person")
	b.do(chromedp.Evaluate[chromedp.Void](
		`localStorage.setItem("theme", "dark"); document.documentElement.setAttribute("data-theme", "dark")`))

	// A bad address is corrected where it is shown, and the order goes on.
	held, _, err := w.Client.Orders(t.Context(), "stage=held")
	require.NoError(t, err)
	at := slices.IndexFunc(held, func(o wire.OrderRow) bool { return slices.Contains(o.Held, "bad address") })
	b.do(chromedp.Navigate(w.URL + "/orders/" + held[at].Number))
	b.click("Correct the address")
	b.do(chromedp.WaitVisible(chromedp.CSS(`input[name=postcode]`)), chromedp.SendKeys(chromedp.CSS(`input[name=postcode]`), kb.End+"7"))
	b.click("Change the address")
	b.sees("Address changed to")
	o, err := w.Client.Order(t.Context(), held[at].Number)
	require.NoError(t, err)
	require.Equal(t, "ready", o.Stage)
	require.Equal(t, "41207", o.ShipTo.Postcode)

	// A scan anywhere opens what was scanned.
	b.do(chromedp.Evaluate[chromedp.Void](`localStorage.removeItem("theme")`), chromedp.Evaluate[chromedp.Void](`
		for (const key of [..."R10003", "Enter"]) document.body.dispatchEvent(new KeyboardEvent("keydown", { key, bubbles: true }))`))
	b.until(`location.pathname === "/orders/R10003"`)
	b.sees("Ours beside the channel's")
}
