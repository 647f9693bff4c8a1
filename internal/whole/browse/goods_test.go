package browse

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"openrelay/internal/demo"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/standin"
)

// TestGoods goes through catalog and stock as people do: what waits to be matched, an item made and listed, a
// delivery received by scan on a phone, a count, a comparison, a table handed in.
func TestGoods(t *testing.T) {
	t.Parallel()
	w := openWorld(t, true)
	ctx := t.Context()
	c := w.Client
	_, err := w.JoinTansy(ctx, demo.Joining{Sources: []string{"alder", "pier"}, Stock: true})
	require.NoError(t, err)
	_, err = w.JoinBramble(ctx, demo.Joining{Sources: []string{"alder"}, Stock: true})
	require.NoError(t, err)
	sold, err := w.Tansy.Sell(standin.DeskSale{SKU: "TNS-SMK-M", Quantity: 2})
	require.NoError(t, err)
	_, err = c.RunNow(ctx, "tansy", "orders in", "")
	require.NoError(t, err)
	require.NoError(t, w.Wait(ctx, 10*time.Second, "the order", func() (bool, error) {
		o, err := c.Order(ctx, sold)
		return err == nil && o.Stage == "held", nil
	}))
	b := openBrowser(t)
	b.signIn(w, demo.People[0].Email)

	// What waits to be matched.
	b.do(chromedp.Navigate(w.URL + "/listings"))
	b.sees("1 order waits for it")
	b.sees("Listing 88016 there carries the SKU VEIL-ROUND, too")
	b.do(chromedp.Click(chromedp.CSS(`button[aria-label="Bee smoker, medum size is SMOKER-M"]`)))
	b.sees("1 waiting order goes on")
	o, err := c.Order(ctx, sold)
	require.NoError(t, err)
	require.Equal(t, "ready", o.Stage)
	b.click("Undo")
	b.until(`!!document.querySelector('button[aria-label="Bee smoker, medum size is SMOKER-M"]')`)
	b.do(chromedp.Click(chromedp.CSS(`button[aria-label="Bee smoker, medum size is SMOKER-M"]`)))
	b.sees("is SMOKER-M now")

	// A new item, refused first, then listed on a channel.
	b.do(chromedp.Navigate(w.URL + "/items/new"))
	type field struct{ label, value string }
	fill := func(list ...field) {
		for _, f := range list {
			b.until(
				fmt.Sprintf(
					`(() => { const l = [...document.querySelectorAll("label")].find(l => l.innerText.trim().startsWith(%q));`+
						` const i = l?.querySelector("input, textarea"); if (!i) return false; i.focus(); i.select(); return true; })()`,
					f.label))
			b.do(chromedp.KeyEvent(f.value))
		}
	}
	fill(field{"SKU", "APRON"}, field{"Name", "Apron with bees"}, field{"Price", "19.50"}, field{"GTIN", "123"},
		field{"Description", "A cotton apron, printed with bees in flight."})
	b.click("Add item")
	b.sees("not a GTIN with a right check digit")
	b.until(
		`(() => { const l = [...document.querySelectorAll("label")].find(l => l.innerText.trim().startsWith("GTIN"));` +
			` l.querySelector("input").focus(); l.querySelector("input").select(); return true; })()`)
	b.do(chromedp.KeyEvent("\b"))
	b.click("Add item")
	b.sees("None of it lies anywhere yet")
	_, err = c.Adjust(ctx, "APRON", "alder", 25, "receipt")
	require.NoError(t, err)
	b.sees("25")
	b.click("Publish")
	b.until(`document.querySelector("select")?.options.length > 2`)
	b.until(
		`(() => { const s = document.querySelector("select"); Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, ` +
			`"value").set.call(s, "bramble"); s.dispatchEvent(new Event("change", { bubbles: true })); return true; })()`)
	b.sees("items out is off")
	b.sees("a new listing")
	b.click("Switch it on")
	b.click("Send 1")
	b.sees("1 sent")
	require.NoError(t, w.Wait(ctx, 20*time.Second, "the review", func() (bool, error) {
		list, err := c.Listings(ctx, "connection=bramble&q=APRON")
		if err == nil && len(list) == 1 && list[0].State == "in review" {
			_, _ = c.RunNow(ctx, "bramble", "listings in", "")
		}
		return err == nil && len(list) == 1 && list[0].State == "live", err
	}))
	b.do(chromedp.Navigate(w.URL + "/items/APRON"))
	b.sees("live")

	// How it is offered.
	b.do(chromedp.Navigate(w.URL + "/offers?q=SMOKER"))
	b.sees("keeps 2 back")
	b.do(chromedp.Click(chromedp.CSS("tr[data-open]")))
	b.sees("How it is offered there")
	fill(field{"Kept back, percent", "50"})
	b.click("Offer it so")
	b.sees("50% kept back")

	// A delivery, on a phone.
	p, err := c.AddPurchase(ctx, inventory.NewPurchase{Supplier: "Copperlatch Works", Location: "alder", Expected: "2026-11-24",
		Lines: []inventory.Quantity{{SKU: "SMOKER-L", Quantity: 12}, {SKU: "LID-63-100", Quantity: 30},
			{SKU: "REFRACTOMETER", Quantity: 2}}})
	require.NoError(t, err)
	b.do(chromedp.Navigate(w.URL + "/receiving"))
	b.sees("Copperlatch Works")
	b.do(chromedp.EmulateViewport(390, 844), chromedp.Navigate(w.URL+"/receiving/"+p.Number))
	b.sees("0of 44 received")
	scan := func(code string) {
		b.do(chromedp.SendKeys(chromedp.CSS(`input[aria-label=Scan]`), code+"\r"))
	}
	units := func(label, n string) {
		b.until(fmt.Sprintf(`(() => { const i = document.querySelector('input[aria-label=%q]'); i.focus(); i.select(); return true; })()`,
			label))
		b.do(chromedp.KeyEvent(n))
	}
	scan("BRUSH-HAIR")
	b.sees("is not on purchase order")
	units("Units", "12")
	scan("SMOKER-L")
	b.sees("12 × Smoker, large received")
	units("Units", "2")
	scan("REFRACTOMETER")
	b.sees("2 serial numbers")
	scan("R-501")
	b.sees("1 of 2 serial numbers")
	scan("R-501")
	b.sees("scanned already")
	scan("R-502")
	b.sees("2 × Honey refractometer received")
	units("Units", "28")
	scan("LID-63-100")
	b.sees("28 × Lids 63 mm")
	b.click("Close with 2 short")
	b.sees("2 short")
	b.until(`document.documentElement.scrollWidth <= 390`)

	// A count.
	n, err := c.StartCount(ctx, "alder")
	require.NoError(t, err)
	b.do(chromedp.Navigate(w.URL + "/counts/" + n.Number))
	b.sees("each further scan adds one")
	scan("HIVE-TOOL")
	b.sees("Hive tool, stainless: 1")
	scan("HIVE-TOOL")
	b.sees("Hive tool, stainless: 2")
	units("Units", "40")
	scan("HIVE-TOOL")
	b.sees("Hive tool, stainless: 40")
	b.click("Post 1 difference")
	b.sees("posted")
	b.do(chromedp.EmulateViewport(1280, 800))

	// What a channel shows that nobody sent.
	require.NoError(t, w.Wait(ctx, 15*time.Second, "quiet", func() (bool, error) { return w.Quiet(ctx) }))
	require.NoError(t, w.Tansy.EditShown("SMOKER-L", 300, "a ghost"))
	b.do(chromedp.Navigate(w.URL + "/compare"))
	b.click("Read all channels now")
	b.sees("a number that nobody sent")
	b.click("Correct 1")
	b.sees("Every channel shows what it should")

	// A table.
	path := filepath.Join(t.TempDir(), "items.csv")
	require.NoError(t, os.WriteFile(path, []byte("SKU;Name;Price\nHIVE-TOOL;;13,50\nMUG;Mug with a bee;9,90\nBAD;;1\n"), 0o600))
	b.do(chromedp.Navigate(w.URL+"/tables"), chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{path}))
	b.click("Look at it")
	b.sees("name: missing")
	b.sees("price 12.90 → 13.50")
	b.click("Carry out 2 rows")
	b.sees("carried out")
	it, err := c.Record(ctx, "MUG")
	require.NoError(t, err)
	require.Equal(t, int64(990), it.Price)

	// What holds for all items: a price list and a price on it, a field whose word is another's.
	_, err = w.JoinTill(ctx, demo.Joining{Sources: []string{"pier"}, Stock: true})
	require.NoError(t, err)
	b.do(chromedp.Navigate(w.URL + "/catalog/terms"))
	b.sees("Whose word counts for a field")
	b.fill(`input[aria-label="Code of the new list"]`, "trade")
	b.fill(`input[aria-label="Name of the new list"]`, "Trade prices")
	b.click("Add list")
	b.until(`[...document.querySelectorAll("td")].some(c => c.innerText === "Trade prices")`)
	b.until(
		`(() => { const s = document.querySelector('select[aria-label="Whose word counts for description"]');
			if (!s || ![...s.options].some(o => o.value === "till")) return false;
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, "till"); s.dispatchEvent(new
		Event("change", { bubbles: true })); return true; })()`)
	require.Eventually(t, func() bool {
		owners := map[string]string{}
		_, err := c.Do(ctx, "GET", "/field-owners", nil, &owners)
		return err == nil && owners["description"] == "till"
	}, 5*time.Second, 50*time.Millisecond)
	b.do(chromedp.Navigate(w.URL + "/items/MUG/edit"))
	b.sees("The word of till counts")
	fill(field{"Price, Trade prices", "8.20"})
	b.click("Save")
	require.Eventually(t, func() bool {
		it, err := c.Record(ctx, "MUG")
		return err == nil && len(it.Prices) == 1 && it.Prices[0].Price == 820 && it.Price == 990
	}, 5*time.Second, 50*time.Millisecond)

	// Levels, and a moment of the past.
	b.do(chromedp.Navigate(w.URL + "/stock?state=coming"))
	b.sees("No level fits")
	b.do(chromedp.Navigate(w.URL + "/items/HIVE-STARTER"))
	b.sees("Made of")
	b.do(chromedp.Click(chromedp.CSS(`button[aria-label^="Why does Morrow"]`)))
	b.sees("by its scarcest component")
}
