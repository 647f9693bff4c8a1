package browse

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"openrelay/internal/core/returns"
	"openrelay/internal/demo"
	"openrelay/internal/relay/returning"
	"openrelay/internal/relay/shipping"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestPagesAreForEverybody runs axe-core over every page, light and dark: the rules of WCAG 2.2 up to level AA
// (https://www.w3.org/TR/WCAG22/). Each page also has a title of its own.
func TestPagesAreForEverybody(t *testing.T) {
	t.Parallel()
	script, err := os.ReadFile("../../../console/node_modules/axe-core/axe.min.js")
	require.NoError(t, err, "make build installs it")
	w := openWorld(t, true)
	held, _, err := w.Client.Orders(t.Context(), "stage=held")
	require.NoError(t, err)
	shipments, err := w.Client.Shipments(t.Context(), "")
	require.NoError(t, err)
	parcels, err := w.Client.Parcels(t.Context(), "")
	require.NoError(t, err)
	round, back := benchWork(t, w)
	paths := []string{
		"/",
		"/returns",
		"/returns/" + back,
		"/rounds/" + round,
		"/exceptions",
		"/orders",
		"/orders?stage=held",
		"/orders/" + held[0].Number,
		"/type",
		"/picking",
		"/parcels",
		"/pack/" + shipments[0].Number,
		"/parcels/" + parcels[0].Number,
		"/stock",
		"/catalog",
		"/catalog/terms",
		"/listings",
		"/offers",
		"/publish",
		"/tables",
		"/items/new",
		"/items/JAR-500-T12",
		"/items/JAR-500-T12/edit",
		"/receiving",
		"/transfers",
		"/counts",
		"/compare",
		"/connections",
		"/connectors",
		"/connectors/new",
		"/connectors/hedgerow/edit",
		"/connections/morrow",
		"/connections/morrow/join",
		"/connections/morrow/bench",
		"/rules",
		"/rules/1",
		"/reports",
		"/settings",
		"/settings/places",
		"/settings/routing",
		"/settings/people",
		"/you",
		"/activity",
	}
	b := openBrowser(t)
	b.signIn(w, "lead@morrowhive.example")
	b.do(chromedp.Evaluate[chromedp.Void](string(script) + ";0"))
	titles := map[string]string{}
	for _, path := range paths {
		b.walkTo(path)
		assert.Empty(t, b.axe(everyRule), "%s, light", path)
		b.theme("dark")
		assert.Empty(t, b.axe(colourRules), "%s, dark", path)
		b.theme("light")
		title := ask(b, chromedp.Evaluate[string](`document.title`))
		assert.True(t, strings.HasSuffix(title, " · Open Relay") && len(title) > len(" · Open Relay"), "%s: %q", path, title)
		if other, ok := titles[title]; ok && !strings.Contains(path, "?") {
			assert.Equal(t, other, path, "two pages are called %q", title)
		}
		titles[title] = path
		if shot := map[string]string{"/returns/" + back: "return", "/rounds/" + round: "round"}[path]; shot != "" {
			b.shot(shot)
		}
	}
}

// benchWork begins a round of what is ready, and lets something of an order come back.
func benchWork(t *testing.T, w *demo.World) (round, back string) {
	ctx := t.Context()
	ready, _, err := w.Client.Orders(ctx, "stage=ready&limit=6")
	require.NoError(t, err)
	var orders []string
	for _, o := range ready {
		orders = append(orders, o.Number)
	}
	r, err := w.Client.MakeRound(ctx, shipping.NewRound{Orders: orders, Location: "alder"})
	require.NoError(t, err)
	_, err = w.Client.ScanRound(ctx, r.Number, shipping.RoundScan{Code: r.Stops[0].SKU})
	require.NoError(t, err)
	sent, _, err := w.Client.Orders(ctx, "stage=shipped,delivered&limit=1")
	require.NoError(t, err)
	v, err := w.Client.AnnounceReturn(ctx, returning.NewReturn{Order: sent[0].Number, Reason: "one is chipped"})
	require.NoError(t, err)
	v, err = w.Client.ScanReturn(ctx, v.Number, returning.Returned{Code: v.Lines[0].SKU, Outcome: returns.ToLook})
	require.NoError(t, err)
	return r.Number, v.Number
}

// walkTo goes to another page as a link does, and waits until it stands: pages have titles of their own.
func (b *browser) walkTo(path string) {
	b.t.Helper()
	b.do(chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`
		window.titleBefore = new URL(%[1]q, location).pathname === location.pathname ? "" : document.title;
		history.pushState({}, "", %[1]q); dispatchEvent(new PopStateEvent("popstate")); 0`, path)))
	b.until(`document.title !== window.titleBefore &&
		document.querySelector("main h1") && !document.querySelector("main [aria-busy=true]")`)
}

// theme shows the page in light or dark colours, when all have changed.
func (b *browser) theme(name string) {
	b.t.Helper()
	b.do(chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`document.documentElement.setAttribute("data-theme", %q)`, name)))
	b.until(`document.getAnimations().length === 0`)
}

// Which rules: all up to level AA; and those of them that another set of colours may break.
const (
	everyRule   = `{type: "tag", values: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]}`
	colourRules = `{type: "rule", values: ["color-contrast", "link-in-text-block"]}`
)

// axe lists what on the page breaks the rules.
func (b *browser) axe(rules string) string {
	b.t.Helper()
	b.do(chromedp.Evaluate[chromedp.Void](`window.axeSays = undefined; axe.run({runOnly: ` + rules + `}).then(
		r => window.axeSays = r.violations.flatMap(v => v.nodes.map(n => v.id + ": " + n.target + ": " + n.html.slice(0, 120))).join("\n"),
		e => window.axeSays = String(e)); 0`))
	b.until(`window.axeSays !== undefined`)
	return ask(b, chromedp.Evaluate[string](`window.axeSays`))
}
