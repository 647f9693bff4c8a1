package browse

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"openrelay/internal/demo"

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
	paths := []string{"/", "/exceptions", "/orders", "/orders?stage=held", "/orders/" + held[0].Number, "/type", "/picking", "/parcels",
		"/parcels/" + shipments[0].Number,
		"/stock", "/catalog", "/catalog/terms", "/listings", "/offers", "/publish", "/tables", "/items/new", "/items/JAR-500-T12",
		"/items/JAR-500-T12/edit", "/receiving", "/transfers", "/counts",
		"/compare", "/connections", "/connectors", "/connections/morrow", "/connections/morrow/join", "/connections/morrow/bench",
		"/rules", "/rules/1", "/reports", "/settings", "/activity"}
	for _, theme := range []string{"light", "dark"} {
		t.Run(theme, func(t *testing.T) {
			t.Parallel()
			forEverybody(t, w, string(script), theme, paths)
		})
	}
}

// forEverybody looks at pages in a theme.
func forEverybody(t *testing.T, w *demo.World, script, theme string, paths []string) {
	b := openBrowser(t)
	b.signIn(w, "lead@morrowhive.example")
	b.do(chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`localStorage.setItem("theme", %q)`, theme)))
	titles := map[string]string{}
	for _, path := range paths {
		b.do(chromedp.Navigate(w.URL + path))
		b.until(`document.querySelector("main h1") && !document.querySelector("main [aria-busy=true]")`)
		b.do(chromedp.Evaluate[chromedp.Void](script + ";0"))
		b.do(chromedp.Evaluate[chromedp.Void](
			`window.axeSays = undefined; axe.run({runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]}).then(
				r => window.axeSays = r.violations.flatMap(
					v => v.nodes.map(n => v.id + ": " + n.target + ": " + n.html.slice(0, 120))).join("\n"),
				e => window.axeSays = String(e)); 0`))
		b.until(`window.axeSays !== undefined`)
		found := ask(b, chromedp.Evaluate[string](`window.axeSays`))
		assert.Empty(t, found, path)
		title := ask(b, chromedp.Evaluate[string](`document.title`))
		assert.True(t, strings.HasSuffix(title, " · Open Relay") && len(title) > len(" · Open Relay"), "%s: %q", path, title)
		if other, ok := titles[title]; ok && !strings.Contains(path, "?") {
			assert.Equal(t, other, path, "two pages are called %q", title)
		}
		titles[title] = path
	}
}
