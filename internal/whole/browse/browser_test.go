package browse

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"openrelay/console"
	"openrelay/internal/demo"
	"openrelay/internal/standin"
)

// browser is a tab of a headless Chromium.
type browser struct {
	t   *testing.T
	ctx context.Context
}

func openBrowser(t *testing.T) *browser {
	path, err := exec.LookPath("chromium")
	if err != nil {
		t.Fatal("chromium is needed for the tests of the console; make test installs it")
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-domain-reliability", true),
		chromedp.Flag("host-resolver-rules", "MAP * ~NOTFOUND , EXCLUDE 127.0.0.1, EXCLUDE localhost"))
	alloc, end := chromedp.NewExecAllocator(context.Background(), opts...)
	t.Cleanup(end)
	ctx, end2 := chromedp.NewContext(alloc)
	t.Cleanup(end2)
	// The first run starts the browser, which lives as long as its context: no timeout here.
	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate("about:blank")))
	b := &browser{t, ctx}
	b.do(chromedp.EmulateViewport(1280, 800))
	return b
}

// tab opens a second tab.
func (b *browser) tab() *browser {
	ctx, end := chromedp.NewContext(b.ctx)
	b.t.Cleanup(end)
	require.NoError(b.t, chromedp.Do(ctx, chromedp.Navigate("about:blank")))
	n := &browser{b.t, ctx}
	n.do(chromedp.EmulateViewport(1280, 800))
	return n
}

func (b *browser) do(actions ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	run(b, chromedp.Steps(actions...), false)
}

// gone is what the browser says when it was asked in the page before this one, whose scripts have ended: nothing was done.
func gone(err error) bool {
	return strings.Contains(err.Error(), "Cannot find context with specified id") ||
		strings.Contains(err.Error(), "Inspected target navigated or closed")
}

// ask runs an action that answers.
func ask[T any](b *browser, action chromedp.Action[T]) T {
	b.t.Helper()
	return run(b, action, true)
}

// run runs an action, where it may once more if nothing was done; when it fails, the test ends with what the page shows.
func run[T any](b *browser, action chromedp.Action[T], again bool) T {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, 20*time.Second)
	defer cancel()
	out, err := chromedp.Run(ctx, action)
	for again && err != nil && gone(err) && ctx.Err() == nil {
		out, err = chromedp.Run(ctx, action)
	}
	if err != nil {
		late, end := context.WithTimeout(b.ctx, 2*time.Second)
		defer end()
		page, _ := chromedp.Run(late, chromedp.Text(chromedp.CSS("body")))
		b.t.Fatalf("%v\nthe page says:\n%s", err, page)
	}
	return out
}

// until waits for an expression in the page to become true.
func (b *browser) until(expression string) {
	b.t.Helper()
	ask(b, chromedp.Poll[chromedp.Void](expression, chromedp.WithPollingInterval(50*time.Millisecond),
		chromedp.WithPollingTimeout(15*time.Second)))
}

func (b *browser) text(selector string) string {
	b.t.Helper()
	return ask(b, chromedp.Text(chromedp.CSS(selector), chromedp.NodeVisible))
}

// sees waits until the page holds a text.
func (b *browser) sees(text string) {
	b.t.Helper()
	b.until(fmt.Sprintf("document.body.innerText.includes(%q)", text))
}

// click clicks the button or link of the page whose text begins so; one with just this text comes first.
func (b *browser) click(text string) {
	b.t.Helper()
	find := fmt.Sprintf(`(() => {
		const text = %q, root = document.querySelector("[role=dialog]") ?? document.querySelector("main") ?? document.body;
		const all = [...root.querySelectorAll("button, a")].filter(e => !e.disabled);
		const e = all.find(e => e.innerText.trim() === text) ?? all.find(e => e.innerText.trim().startsWith(text));
		if (!e) return false;
		e.click();
		return true;
	})()`, text)
	b.until(find)
}

// shot keeps a picture of the page when pictures are asked for (make screenshots).
func (b *browser) shot(name string) {
	b.t.Helper()
	dir := os.Getenv("SCREENSHOTS")
	if dir == "" {
		return
	}
	b.do(chromedp.Sleep(300 * time.Millisecond)) // fonts and pictures settle
	png := ask(b, chromedp.CaptureScreenshot())
	require.NoError(b.t, os.WriteFile(filepath.Join(dir, name+".png"), png, 0o644))
}

func openWorld(t *testing.T, seed bool) *demo.World {
	t.Helper()
	w, err := demo.Open(t.Context(), demo.Options{Addrs: demo.FreePorts, Console: console.Files(),
		File: filepath.Join(t.TempDir(), "company.relay")})
	require.NoError(t, err)
	t.Cleanup(w.Close)
	if seed {
		require.NoError(t, w.Seed(t.Context()))
	}
	return w
}

// jars is a sale of some trays of jars.
func jars(n int64) standin.Sale {
	return standin.Sale{Customer: "Maren Tolland", Email: "maren.tolland@example.test", Shipping: 490,
		Lines: []standin.SaleLine{{SKU: "JAR-500-T12", Qty: n}},
		Delivery: standin.Delivery{Name: "Maren Tolland", Street: "Lindenrow 14", Postcode: "41360", Town: "Harrowmere", Country: "XW",
			Method: "standard"}}
}

func (b *browser) signIn(w *demo.World, email string) {
	b.t.Helper()
	b.do(chromedp.Navigate(w.URL), chromedp.WaitVisible(chromedp.CSS(`input[name=email]`)))
	b.do(chromedp.SendKeys(chromedp.CSS(`input[name=email]`), email), chromedp.SendKeys(chromedp.CSS(`input[name=password]`),
		demo.Password))
	b.click("Sign in")
	b.sees("On their way")
}
