package browse

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"openrelay/internal/demo"
)

// TestPartners: what they were asked is seen, an order that one refused is let go back to it, and what one calls an item is said, upon
// which what waited for that goes on.
func TestPartners(t *testing.T) {
	t.Parallel()
	w := openWorld(t, true)
	ctx := t.Context()
	require.NoError(t, w.PartnerStories(ctx))
	b := openBrowser(t)
	b.signIn(w, demo.People[0].Email)

	b.do(chromedp.Navigate(w.URL + "/requests"))
	b.sees("what it calls PLAQUE-S is to be said")
	b.click("All")
	b.sees("hall three is flooded")
	b.shot("partners")

	refused, _, err := w.Client.Requests(ctx, "state=refused")
	require.NoError(t, err)
	require.Len(t, refused, 1)
	b.do(chromedp.Navigate(w.URL + "/orders/" + refused[0].Order))
	b.sees("hall three is flooded")
	b.click("Let Fallowgate be asked again")
	b.until(`!document.body.innerText.includes("Let Fallowgate be asked again")`)

	// A wrong name first, then the right one.
	named := func(name string) {
		b.do(chromedp.Navigate(w.URL + "/partners/items?partner=slate"))
		b.sees("Many at once")
		b.field("Our SKU", "PLAQUE-S")
		b.field("They call it", name)
		b.click("Keep")
		b.until(`document.querySelector("table.ledger .code + td + td")?.innerText === "` + name + `"`)
		b.do(chromedp.Navigate(w.URL + "/requests"))
	}
	named("SMALL")
	b.sees("we do not make SMALL")
	named("PLAQUE-S")
	b.sees("1 × PLAQUE-S")
	b.until(`!document.body.innerText.includes("waits")`)
}
