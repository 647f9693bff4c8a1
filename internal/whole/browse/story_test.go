package browse

import (
	"encoding/base64"
	"html"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"openrelay/console"
	"openrelay/internal/cli"
	"openrelay/internal/demo"
	"openrelay/internal/store"
)

// TestAStoryOnEveryPage: the demo opens complete. All systems but the portal are joined and well, the company has days
// behind it, and no main page is empty or complains. Pictures are taken of a month, otherwise a week will do.
func TestAStoryOnEveryPage(t *testing.T) {
	days := 8
	if os.Getenv("SCREENSHOTS") != "" {
		days = 30
	}
	w, err := demo.Open(t.Context(), demo.Options{Addrs: demo.FreePorts, Console: console.Files(), Days: days,
		File: filepath.Join(t.TempDir(), "company.relay")})
	require.NoError(t, err)
	t.Cleanup(w.Close)
	ctx := t.Context()
	require.NoError(t, w.JoinAll(ctx))
	lived := 0
	require.NoError(t, w.Past(ctx, days, func(int) { lived++ }))
	require.Equal(t, days, lived)
	require.NoError(t, w.Seed(ctx))

	b, err := w.Client.Board(ctx)
	require.NoError(t, err)
	require.Len(t, b.Connections, 7)
	for _, c := range b.Connections {
		require.Equal(t, "go", c.Lamp.State, "%s: %s", c.Name, c.Lamp.Text)
	}
	sides := map[string]bool{}
	first := w.Now()
	list, err := w.Store.ListOrders(ctx, store.OrderFilter{Limit: 5000})
	require.NoError(t, err)
	for _, o := range list {
		sides[o.ConnectionCode] = true
		if at := store.Time(o.ReceivedAt); at.Before(first) {
			first = at
		}
	}
	require.Len(t, sides, 5, "orders came from all channels")
	require.Greater(t, w.Now().Sub(first).Hours(), float64(24*(days-3)), "the first order is days old")
	found, err := w.Store.Verify(ctx)
	require.NoError(t, err)
	require.Empty(t, found)

	p := openBrowser(t)
	p.signIn(w, "lead@morrowhive.example")
	for _, page := range []struct{ path, shot string }{
		{"/", "board"}, {"/exceptions", "exceptions"}, {"/orders", "orders"}, {"/picking", "picking"}, {"/parcels", ""},
		{"/stock", "stock"},
		{"/receiving", ""}, {"/transfers", ""}, {"/catalog", "catalog"}, {"/listings", ""}, {"/offers", ""},
		{"/connections", "connections"}, {"/rules", ""}, {"/activity", ""}, {"/reports", "reports"}, {"/settings", ""},
		{"/settings/places", ""}, {"/settings/parcels", ""}, {"/settings/senders", ""}, {"/settings/people", "people"},
		{"/settings/security", ""}, {"/settings/keeping", ""},
	} {
		p.do(chromedp.Navigate(w.URL + page.path))
		p.until(`document.querySelector("main h1") !== null && !document.querySelector("main").innerText.includes("Loading …")`)
		p.until(`document.querySelector("main").innerText.length > 150`)
		empty := ask(p, chromedp.Evaluate[string](
			`[...document.querySelectorAll("main [data-empty], main [role=alert]")].map(e => e.innerText).join("; ")`))
		require.Empty(t, empty, page.path)
		if page.shot != "" {
			p.shot(page.shot)
		}
	}
}

// TestWhatATerminalShows draws what the command line prints, as it stands in a terminal: a list, and the end of the walk.
func TestWhatATerminalShows(t *testing.T) {
	w := openWorld(t, true)
	b := openBrowser(t)
	says := func(args ...string) string {
		var out strings.Builder
		env := map[string]string{"OPENRELAY_SERVER": w.URL, "OPENRELAY_TOKEN": w.Token}
		require.Zero(t, cli.Run(t.Context(), &cli.Env{Out: &out, Err: &out, Getenv: func(k string) string { return env[k] }}, args))
		return out.String()
	}
	b.terminal("openrelay order list -stage ready,packed -limit 12", says("order", "list", "-stage", "ready,packed", "-limit", "12")+
		"\n$ openrelay place\n"+says("place")+"\n$ openrelay exception\n"+says("exception"))
	b.sees("Alder Yard")
	b.sees("unknown item")
	if os.Getenv("SCREENSHOTS") == "" {
		return
	}
	var out strings.Builder
	other, err := demo.Open(t.Context(), demo.Options{Addrs: demo.FreePorts, File: filepath.Join(t.TempDir(), "walk.relay")})
	require.NoError(t, err)
	defer other.Close()
	require.NoError(t, other.Walk(t.Context(), &out))
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	b.terminal("openrelay demo -walk", "…\n"+strings.Join(lines[len(lines)-38:], "\n"))
	b.shot("terminal-walk")
}

// terminal shows a command and what it printed.
func (b *browser) terminal(command, text string) {
	b.t.Helper()
	page := `<!doctype html><meta charset="utf-8"><body style="margin:0;background:#101613"><pre style="margin:0;padding:18px 22px;` +
		`color:#dfe6e0;font:13px/18px 'IBM Plex Mono','DejaVu Sans Mono',monospace;white-space:pre">` +
		html.EscapeString("$ "+command+"\n"+text) + `</pre>`
	b.do(chromedp.Navigate("data:text/html;base64," + base64.StdEncoding.EncodeToString([]byte(page))))
}
