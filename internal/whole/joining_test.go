package whole

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/client"
	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
	"openrelay/internal/demo"
	"openrelay/internal/relay"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/joining"
	"openrelay/internal/setup"
	"openrelay/internal/standin"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

var sells = demo.Joining{Sources: []string{"alder"}, Import: joining.ImportChoices{Items: true, Orders: true}}

func ordersOf(t *testing.T, w *demo.World, connection string) map[string]wire.OrderRow {
	t.Helper()
	list, _, err := w.Client.Orders(t.Context(), "connection="+connection+"&limit=200")
	require.NoError(t, err)
	out := map[string]wire.OrderRow{}
	for _, o := range list {
		require.NotContains(t, out, o.ChannelNumber, "an order stands twice")
		out[o.ChannelNumber] = o
	}
	return out
}

func clean(t *testing.T, w *demo.World) {
	t.Helper()
	findings, err := w.Store.Verify(t.Context())
	require.NoError(t, err)
	require.Empty(t, findings)
}

// again reads a feed at once.
func again(t *testing.T, w *demo.World, code string, kind message.Feed) {
	t.Helper()
	_, err := w.Client.RunNow(t.Context(), code, kind, "")
	require.NoError(t, err)
}

func TestJoinTansyThroughItsConsentPage(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	pending, err := w.Tansy.Sell(standin.DeskSale{SKU: "SMOKER-L", Pending: true})
	require.NoError(t, err)
	own, err := w.Tansy.Sell(standin.DeskSale{SKU: "SMOKER-L", Own: true})
	require.NoError(t, err)
	require.NoError(t, w.Join(ctx, "tansy", "tansy", "Tansy"))

	_, err = w.Client.TestAccess(ctx, "tansy", joining.Access{Address: w.TansyURL, Site: "westmark", Secrets: demo.TansyAccess})
	require.ErrorContains(t, err, "ask for the consent")
	_, err = w.Client.AskConsent(ctx, "tansy", joining.Access{Address: w.TansyURL, Site: "moon", Secrets: demo.TansyAccess}, w.URL)
	require.ErrorContains(t, err, "westmark, eastmark")
	other, err := w.Consent(ctx, w.Client, "tansy", "westmark", "T-9007")
	require.NoError(t, err)
	require.False(t, other.LetIn)
	require.Equal(t, "site", other.Field)
	require.Contains(t, other.Text, "belongs to Tansy Eastmark; Tansy Westmark was chosen")
	_, err = w.Client.Confirm(ctx, "tansy", "T-9007", true)
	require.ErrorContains(t, err, "test the access first", "what was refused was not kept")

	// A state that was forged, used before, or asked for by somebody else is refused.
	page, err := w.Client.AskConsent(ctx, "tansy", joining.Access{Address: w.TansyURL, Site: "westmark", Secrets: demo.TansyAccess}, w.URL)
	require.NoError(t, err)
	state := strings.Split(strings.Split(page, "state=")[1], "&")[0]
	_, err = demo.BringBack(ctx, w.Client, w.URL+"/back?code=abc&state=forged"+state)
	require.Equal(t, 400, client.StatusOf(err))
	admin, err := w.Relay.NewToken(ctx, "Somebody else", "lead")
	require.NoError(t, err)
	_, err = demo.BringBack(ctx, client.New(w.URL, admin), w.URL+"/back?code=abc&state="+state)
	require.Equal(t, 400, client.StatusOf(err), "another person's consent")
	_, err = demo.BringBack(ctx, w.Client, w.URL+"/back?code=abc&state="+state)
	require.Equal(t, 400, client.StatusOf(err), "a state is good once")
	_, err = demo.BringBack(ctx, client.New(w.URL, ""), w.URL+"/back?code=abc&state="+state)
	require.Equal(t, 401, client.StatusOf(err))

	tested, err := w.Consent(ctx, w.Client, "tansy", "westmark", "T-8841")
	require.NoError(t, err)
	require.True(t, tested.LetIn, tested.Text)
	_, err = w.Client.SwitchOn(ctx, "tansy")
	require.ErrorContains(t, err, "not ready yet")
	im, err := w.Finish(ctx, "tansy", "T-8841", sells)
	require.NoError(t, err)
	counts := map[string]int64{}
	for _, c := range im.Counts {
		counts[string(c.Kind)+" "+c.Verdict] += c.Count
	}
	require.Equal(t, int64(1), counts["listings in created"], "the honey dipper is new")
	require.Equal(t, int64(1), counts["orders in taken in"])
	require.Equal(t, int64(1), counts["orders in skipped"], "finished there already")
	eventually(t, "the pending order", func() bool { return ordersOf(t, w, "tansy")[pending].Stage == "pending" })
	o := ordersOf(t, w, "tansy")[pending]
	require.Empty(t, o.Buyer, "who buys is not told yet")

	require.NoError(t, w.Tansy.Complete(pending))
	fresh, err := w.Tansy.Sell(standin.DeskSale{SKU: "SMOKER-L", Own: true})
	require.NoError(t, err)
	again(t, w, "tansy", "orders in")
	eventually(t, "it is cleared", func() bool { return ordersOf(t, w, "tansy")[pending].Stage == "ready" })
	eventually(t, "the marketplace's own", func() bool { return ordersOf(t, w, "tansy")[fresh].Stage == "shipped" })
	v, err := w.Client.Item(ctx, "SMOKER-L")
	require.NoError(t, err)
	require.Equal(t, int64(1), v.Levels[0].Allocated, "only ours holds stock; %s and %s were sent from there", own, fresh)

	s, err := w.ShipOne(ctx, o.Number)
	require.NoError(t, err)
	eventually(t, "the consignment to be read back", func() bool {
		x, err := w.Client.Order(ctx, o.Number)
		require.NoError(t, err)
		return len(x.WriteBacks) == 2 && x.WriteBacks[1].State == "confirmed"
	})
	require.NotEmpty(t, s[0].Tracking)
	clean(t, w)
}

func TestTokensRunOutAndConsentIsTakenBack(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	_, err := w.JoinTansy(ctx, sells)
	require.NoError(t, err)
	// More than a page, and the token runs out while it is read.
	for range 130 {
		_, err := w.Tansy.Sell(standin.DeskSale{SKU: "SMOKER-L"})
		require.NoError(t, err)
	}
	go func() {
		for range 6 {
			time.Sleep(150 * time.Millisecond)
			w.Tansy.ExpireTokens()
		}
	}()
	again(t, w, "tansy", "orders in")
	eventually(t, "all orders", func() bool { return len(ordersOf(t, w, "tansy")) == 130 })

	w.Tansy.Revoke(true)
	_, err = w.Tansy.Sell(standin.DeskSale{SKU: "SMOKER-L"})
	require.NoError(t, err)
	_, err = w.Client.RunNow(ctx, "tansy", "orders in", "")
	require.NoError(t, err)
	eventually(t, "a person is asked", func() bool {
		list, err := w.Client.Exceptions(ctx)
		require.NoError(t, err)
		return slices.ContainsFunc(list, func(x wire.Exception) bool {
			return x.Cause == "credentials refused" && strings.Contains(x.Text, "took the consent back")
		})
	})
	w.Tansy.Revoke(false)
	wrong, err := w.Consent(ctx, w.Client, "tansy", "westmark", "T-9007")
	require.NoError(t, err)
	require.Contains(t, wrong.Text, "the connection is number T-8841. Nothing was changed.")
	tested, err := w.Consent(ctx, w.Client, "tansy", "westmark", "T-8841")
	require.NoError(t, err)
	require.True(t, tested.LetIn, tested.Text)
	eventually(t, "what waited", func() bool { return len(ordersOf(t, w, "tansy")) == 131 })
	list, err := w.Client.Exceptions(ctx)
	require.NoError(t, err)
	require.False(t, slices.ContainsFunc(list, func(x wire.Exception) bool { return x.Cause == "credentials refused" }),
		"renewing ends what was raised")
	clean(t, w)
}

func TestOneAccountIsJoinedOnce(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	_, err := w.JoinBramble(ctx, sells)
	require.NoError(t, err)
	sold, err := w.Bramble.Sell(standin.DeskSale{SKU: "SMOKER-M"})
	require.NoError(t, err)
	again(t, w, "bramble", "orders in")
	eventually(t, "the order", func() bool { return ordersOf(t, w, "bramble")[sold].Stage == "ready" })

	// The same account again, typed in anew or picked from the list, is refused.
	require.NoError(t, w.Join(ctx, "bramble-row", "second", "Second"))
	accounts, err := w.Client.Accounts(ctx)
	require.NoError(t, err)
	i := slices.IndexFunc(accounts, func(a wire.Account) bool { return a.Connector == "bramble-row" })
	for _, a := range []joining.Access{{Address: w.BrambleURL, Secrets: demo.BrambleAccess}, {Account: accounts[i].ID}} {
		got, err := w.Client.TestAccess(ctx, "second", a)
		require.NoError(t, err)
		require.False(t, got.LetIn)
		require.Contains(t, got.Text, "is joined already, as Bramble Row")
	}
	require.NoError(t, w.Client.DropJoin(ctx, "second"))
	_, err = w.Client.Connection(ctx, "second")
	require.Equal(t, 404, client.StatusOf(err))

	// Leaving says what it takes away; the order stays. Joining the same account goes on where it ended.
	l, err := w.Client.WouldLeave(ctx, "bramble")
	require.NoError(t, err)
	require.Equal(t, int64(1), l.Counts.Orders)
	require.Contains(t, strings.Join(l.Stays, "; "), "1 order with its history")
	_, err = w.Client.Leave(ctx, "bramble")
	require.NoError(t, err)
	require.Len(t, ordersOf(t, w, "bramble"), 1)
	accounts, err = w.Client.Accounts(ctx)
	require.NoError(t, err)
	require.False(t, slices.ContainsFunc(accounts, func(a wire.Account) bool { return a.Connector == "bramble-row" }),
		"the credentials are gone")
	meanwhile, err := w.Bramble.Sell(standin.DeskSale{SKU: "SMOKER-M"})
	require.NoError(t, err)
	_, err = w.Client.RunNow(ctx, "bramble", "orders in", "")
	require.ErrorContains(t, err, "left")

	require.NoError(t, w.Join(ctx, "bramble-row", "again", "Again"))
	got, err := w.Client.TestAccess(ctx, "again", joining.Access{Address: w.BrambleURL, Secrets: demo.BrambleAccess})
	require.NoError(t, err)
	require.True(t, got.LetIn)
	require.Equal(t, "bramble", got.Back)
	_, err = w.Finish(ctx, "again", "BR-3302", sells)
	require.NoError(t, err)
	x, err := w.Client.Connection(ctx, "bramble")
	require.NoError(t, err)
	require.Equal(t, "on", x.State, "the old one goes on")
	eventually(t, "what was sold meanwhile", func() bool { return len(ordersOf(t, w, "bramble")) == 2 })
	require.Contains(t, ordersOf(t, w, "bramble"), meanwhile)
	clean(t, w)
}

func TestVerdictNamesTheField(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	require.NoError(t, w.Join(ctx, "counterpane", "till", "Till"))
	require.NoError(t, w.Join(ctx, "bramble-row", "bramble", "Bramble Row"))
	require.NoError(t, w.Join(ctx, "postbook", "postbook", "Postbook"))
	with := func(m map[string]string, k, v string) map[string]string {
		out := map[string]string{}
		for a, b := range m {
			out[a] = b
		}
		out[k] = v
		return out
	}
	for _, c := range []struct {
		code, address string
		secrets       map[string]string
		field, says   string
	}{
		{"till", w.CounterpaneURL, with(demo.CounterpaneAccess, "user", "nobody"), "user", "nobody of that name works here"},
		{"till", w.CounterpaneURL, with(demo.CounterpaneAccess, "password", "a guess"), "password", "the password is wrong"},
		{"till", w.CounterpaneURL, with(demo.CounterpaneAccess, "shop", "9"), "shop", "there is no shop 9"},
		{"bramble", w.BrambleURL, with(demo.BrambleAccess, "key", "NOT-A-KEY"), "key", "nobody here has this key"},
		{"bramble", w.BrambleURL, with(demo.BrambleAccess, "secret", "wrong-secret"), "secret", "it is the secret that does not fit"},
		{"postbook", w.PostbookURL, with(demo.PostbookAccess, "desk", "7"), "desk", "the contract has no desk 7"},
		{"postbook", w.PostbookURL, with(demo.PostbookAccess, "token", "pb_other"), "token", "this token is not known"},
		{"till", "http://127.0.0.1:1", demo.CounterpaneAccess, "", "was not reached"},
	} {
		got, err := w.Client.TestAccess(ctx, c.code, joining.Access{Address: c.address, Secrets: c.secrets})
		require.NoError(t, err)
		require.False(t, got.LetIn)
		require.Equal(t, c.field, got.Field, got.Text)
		require.Contains(t, got.Text, c.says)
		for k, v := range c.secrets {
			if k == "password" || k == "secret" || k == "token" {
				require.NotContains(t, got.Text, v)
			}
		}
	}
	got, err := w.Client.TestAccess(ctx, "till",
		joining.Access{Address: w.CounterpaneURL + " ", Secrets: with(demo.CounterpaneAccess, "user", " relay\n")})
	require.NoError(t, err)
	require.True(t, got.LetIn)
	require.Equal(t, []string{"user"}, got.Trimmed)
	for _, bad := range []struct {
		a    joining.Access
		says string
	}{
		{joining.Access{Address: w.CounterpaneURL, Secrets: with(demo.CounterpaneAccess, "shop", "three")}, "Shop number"},
		{joining.Access{Address: w.CounterpaneURL, Secrets: map[string]string{"user": "relay"}}, "Password is missing"},
		{joining.Access{Address: w.CounterpaneURL, Secrets: with(demo.CounterpaneAccess, "extra", "x")}, `no field "extra"`},
		{joining.Access{Secrets: demo.CounterpaneAccess}, "where is Counterpane reached"},
		{joining.Access{Address: "ftp://x", Secrets: demo.CounterpaneAccess}, "http or https"},
		{joining.Access{Account: 999}, "no account 999"},
	} {
		_, err := w.Client.TestAccess(ctx, "till", bad.a)
		require.Equal(t, 422, client.StatusOf(err))
		require.ErrorContains(t, err, bad.says)
	}

	// A clock that is wrong is named as such.
	w.Bramble.Misbehave(standin.Faults{ClockMin: 12})
	got, err = w.Client.TestAccess(ctx, "bramble", joining.Access{Address: w.BrambleURL, Secrets: demo.BrambleAccess})
	require.NoError(t, err)
	require.False(t, got.LetIn)
	require.Contains(t, got.Text, "away from ours")
	require.Contains(t, got.Text, "Set the clock of this machine")
}

func TestTillSalesAreFinished(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	im, err := w.JoinTill(ctx,
		demo.Joining{Sources: []string{"mill"}, Import: joining.ImportChoices{Items: true, Stock: true, Orders: true},
			Change: func(s *engine.Settings) { s.NumberPrefix, s.Anonymous = "T", "Counter sale" }})
	require.NoError(t, err)
	cake, err := w.Client.Item(ctx, "CAKE-HONEY")
	require.NoError(t, err, "the cake was created from the till's listing: %v", im.Counts)
	require.Equal(t, int64(12), cake.Levels[0].OnHand, "with its opening stock")
	for range 120 { // more than two pages by number
		_, err := w.Counterpane.Sell(standin.DeskSale{SKU: "CAKE-HONEY"})
		require.NoError(t, err)
	}
	again(t, w, "till", "orders in")
	eventually(t, "all sales", func() bool { return len(ordersOf(t, w, "till")) == 120 })
	o := ordersOf(t, w, "till")["CP-1201"]
	require.Equal(t, "shipped", o.Stage)
	require.Equal(t, "Counter sale", o.Buyer)
	require.True(t, strings.HasPrefix(o.Number, "T-"), o.Number)
	cake, err = w.Client.Item(ctx, "CAKE-HONEY")
	require.NoError(t, err)
	require.Equal(t, int64(12-120), cake.Levels[0].OnHand, "each sale lowered it once; late counter sales may take it below nothing")
	full, err := w.Client.Order(ctx, o.Number)
	require.NoError(t, err)
	require.Contains(t, []string{"cash", "card", "voucher"}, full.Record.Payment)
	clean(t, w)
}

func TestBatchesAreReportedOnLater(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	how := sells
	how.Stock = true
	_, err := w.JoinBramble(ctx, how)
	require.NoError(t, err)
	v, err := w.Client.Item(ctx, "SMOKER-M")
	require.NoError(t, err)
	want := v.Levels[0].Available
	eventually(t, "the marketplace to show our quantity", func() bool { return w.Bramble.Shows()["SMOKER-M"] == want })
	w.Bramble.LookAgain("WAX-1KG") // they take it back into review, and we do not know yet
	for _, sku := range []string{"WAX-1KG", "SMOKER-L"} {
		_, err = w.Client.Adjust(ctx, sku, "alder", -1, "broken")
		require.NoError(t, err)
	}
	eventually(t, "one of them is refused", func() bool {
		list, err := w.Client.Exceptions(ctx)
		require.NoError(t, err)
		return slices.ContainsFunc(list, func(x wire.Exception) bool { return strings.Contains(x.Text, "the listing is in review") })
	})
	require.NotEqual(t, int64(0), w.Bramble.Shows()["WAX-1KG"], "the others of the batch were taken")

	// A report that never comes: the messages wait, a newer quantity replaces them, nothing is lost.
	w.Bramble.NeverReport(true)
	_, err = w.Client.Adjust(ctx, "SMOKER-M", "alder", -4, "broken")
	require.NoError(t, err)
	eventually(t, "it was submitted", func() bool {
		why, err := w.Client.Why(ctx, "bramble", "SMOKER-M")
		require.NoError(t, err)
		return why.Waiting != nil && why.Waiting.State == "sent" && strings.Contains(why.Waiting.Error, "still being worked on")
	})
	require.Equal(t, want, w.Bramble.Shows()["SMOKER-M"])
	w.Bramble.NeverReport(false)
	_, err = w.Client.Adjust(ctx, "SMOKER-M", "alder", -1, "broken, too")
	require.NoError(t, err)
	eventually(t, "the newest quantity", func() bool { return w.Bramble.Shows()["SMOKER-M"] == want-5 })
}

// TestReportThatNeverComes: after its time the batch is submitted again, and after the third a person is asked.
func TestReportThatNeverComes(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	require.NoError(t, w.Join(ctx, "bramble-row", "bramble", "Bramble Row"))
	_, err := w.Client.SetOverrides(ctx, "bramble",
		"feeds: { stock out: { send: { report: { after: 20ms, every: 20ms, give_up: 150ms } } } }")
	require.NoError(t, err)
	w.Bramble.NeverReport(true)
	got, err := w.Client.TestAccess(ctx, "bramble", joining.Access{Address: w.BrambleURL, Secrets: demo.BrambleAccess})
	require.NoError(t, err)
	require.True(t, got.LetIn)
	how := sells
	how.Stock = true
	_, err = w.Finish(ctx, "bramble", "BR-3302", how)
	require.NoError(t, err)
	eventually(t, "a person is asked", func() bool {
		list, err := w.Client.Exceptions(ctx)
		require.NoError(t, err)
		return slices.ContainsFunc(list, func(x wire.Exception) bool { return strings.Contains(x.Text, "no report on submission") })
	})
}

func TestInTestNothingIsReal(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	how := sells
	how.Stock = true
	_, err := w.JoinTansy(ctx, how)
	require.NoError(t, err)
	smoker, err := w.Client.Item(ctx, "SMOKER-L")
	require.NoError(t, err)
	want := smoker.Levels[0].Available
	eventually(t, "our quantity", func() bool { return w.Tansy.Shows()["SMOKER-L"] == want })
	_, err = w.Client.Try(ctx, "tansy", "stock out", `{"outside_id":"1","quantity":3}`, true)
	require.ErrorContains(t, err, "is live", "nothing real is sent from a bench")
	_, err = w.Client.SetTest(ctx, "tansy", true)
	require.NoError(t, err)

	sold, err := w.Tansy.Sell(standin.DeskSale{SKU: "SMOKER-L"})
	require.NoError(t, err)
	again(t, w, "tansy", "orders in")
	eventually(t, "the test order", func() bool { return ordersOf(t, w, "tansy")[sold].Stage == "held" })
	o := ordersOf(t, w, "tansy")[sold]
	require.Equal(t, []string{"test order"}, o.Held)
	_, err = w.Client.Pick(ctx, o.Number)
	require.Error(t, err, "it cannot be worked on")
	_, err = w.Client.Release(ctx, o.Number, "test order")
	require.Error(t, err, "nor waved through")
	_, err = w.Client.Adjust(ctx, "SMOKER-L", "alder", -2, "broken")
	require.NoError(t, err)
	eventually(t, "the quantity was sent as a test", func() bool { return len(w.Tansy.Trials()) > 0 })
	require.Equal(t, want-1, w.Tansy.Shows()["SMOKER-L"], "nothing was changed there but by the sale")
	clean(t, w)

	// The bench shows what would be sent, sends it with its mark, and keeps the exchange without a secret.
	text, err := w.Client.Sample(ctx, "tansy", "stock out")
	require.NoError(t, err)
	dry, err := w.Client.Try(ctx, "tansy", "stock out", text, false)
	require.NoError(t, err)
	require.False(t, dry.Sent)
	require.Zero(t, dry.Exchange.Status)
	sent, err := w.Client.Try(ctx, "tansy", "stock out", text, true)
	require.NoError(t, err)
	require.Equal(t, 200, sent.Exchange.Status, sent.Error)
	require.Contains(t, fmt.Sprint(sent.Exchange.Headers), "Tansy-Rehearsal yes")
	require.Contains(t, fmt.Sprint(sent.Exchange.Headers), "Authorization •••")
	rows, err := w.Client.Bench(ctx, "tansy")
	require.NoError(t, err)
	require.Len(t, rows, 1)
	trial, err := w.Client.Try(ctx, "tansy", "orders in", `{"pid":"X","rev":1,"phase":"cleared","odd":7}`, false)
	require.NoError(t, err)
	require.Contains(t, trial.Trial.Missing, "currency")
	require.Contains(t, trial.Trial.Unused, "odd")
	broken, err := w.Client.Try(ctx, "tansy", "orders in", `{"pid":`, false)
	require.NoError(t, err)
	require.Contains(t, broken.Error, "ends in the middle")

	_, err = w.Client.SetTest(ctx, "tansy", false)
	require.ErrorContains(t, err, "1 test order is still here; clear them")
	n, err := w.Client.ClearTests(ctx, "tansy")
	require.NoError(t, err)
	require.Equal(t, int64(1), n)
	require.Empty(t, ordersOf(t, w, "tansy"))
	_, err = w.Client.SetTest(ctx, "tansy", false)
	require.NoError(t, err)
	again(t, w, "tansy", "orders in")
	eventually(t, "the same order, now real", func() bool { return ordersOf(t, w, "tansy")[sold].Stage == "ready" })
	eventually(t, "the real quantity", func() bool { return w.Tansy.Shows()["SMOKER-L"] == want-3 })
	_, err = w.Client.SetTest(ctx, "tansy", true)
	require.ErrorContains(t, err, "real order is still on the way")
	clean(t, w)
}

// TestImportGoesOnAfterAnEnd: an import that was at work when the process ended is carried on by the next.
func TestImportGoesOnAfterAnEnd(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	for range 250 {
		_, err := w.Bramble.Sell(standin.DeskSale{SKU: "SMOKER-M"})
		require.NoError(t, err)
	}
	require.NoError(t, w.Join(ctx, "bramble-row", "bramble", "Bramble Row"))
	_, err := w.Client.TestAccess(ctx, "bramble", joining.Access{Address: w.BrambleURL, Secrets: demo.BrambleAccess})
	require.NoError(t, err)
	j, err := w.Client.Confirm(ctx, "bramble", "BR-3302", true)
	require.NoError(t, err)
	s := j.Connection.Settings
	s.Offer.Sources = []int64{1}
	_, err = w.Client.SetSettings(ctx, "bramble", s, j.Connection.Revision)
	require.NoError(t, err)
	_, err = w.Client.LookAtImport(ctx, "bramble", joining.ImportChoices{Items: true, Orders: true})
	require.NoError(t, err)
	eventually(t, "it has looked", func() bool {
		im, err := w.Client.FirstImport(ctx, "bramble")
		require.NoError(t, err)
		return im.State == "looked"
	})
	require.Empty(t, ordersOf(t, w, "bramble"), "looking changes nothing")
	w.Relay.Stop()
	last, err := w.Store.LastImport(ctx, 4)
	require.NoError(t, err)
	require.NoError(t, w.Store.Write(ctx, func(tx *store.Tx) error { return tx.SetImport(last.ID, store.Working, "", time.Time{}) }))
	next, err := relay.Open(ctx, w.Store, engine.Options{Reach: connector.Loopback})
	require.NoError(t, err)
	require.NoError(t, next.Start())
	t.Cleanup(next.Stop)
	eventually(t, "it is done", func() bool {
		im, err := next.FirstImport(ctx, "bramble")
		require.NoError(t, err)
		return im.State == store.Done
	})
	eventually(t, "all orders", func() bool {
		n, err := w.Store.CountsOf(ctx, 4)
		require.NoError(t, err)
		return n.Orders == 250
	})
	clean(t, w)
}

// TestDirectHandIn hands in every published message, each as its example says.
func TestDirectHandIn(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	require.NoError(t, w.Join(ctx, "direct", "office", "Back office"))
	made, err := w.Client.TestAccess(ctx, "office", joining.Access{})
	require.NoError(t, err)
	key := made.Given["key"]
	require.NotEmpty(t, key)
	_, err = w.Client.Confirm(ctx, "office", "office", true)
	require.NoError(t, err)
	j, err := w.Client.Join(ctx, "office")
	require.NoError(t, err)
	shown, err := json.Marshal(j)
	require.NoError(t, err)
	require.NotContains(t, string(shown), key, "the key is shown once")
	s := j.Connection.Settings
	s.StockIn, s.Offer.Sources = "take in", []int64{1}
	_, err = w.Client.SetSettings(ctx, "office", s, 0)
	require.NoError(t, err)
	_, err = w.Client.SwitchOn(ctx, "office")
	require.NoError(t, err)

	hand := func(auth string, messages ...map[string]any) (int, string) {
		b, err := json.Marshal(map[string]any{"messages": messages})
		require.NoError(t, err)
		req, err := http.NewRequest("POST", w.URL+"/in/office", bytes.NewReader(b))
		require.NoError(t, err)
		req.Header.Set("Authorization", auth)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, string(text)
	}
	var all []map[string]any
	for i, shape := range message.Shapes() {
		if shape.Name == "receipt" {
			continue // of files only
		}
		all = append(all, map[string]any{"topic": shape.Name, "id": fmt.Sprintf("m-%d", i), "version": 1, shape.Name: shape.Example})
	}
	status, _ := hand("Bearer wrong", all...)
	require.Equal(t, 401, status)
	status, text := hand("Bearer "+key, all...)
	require.Equal(t, 202, status, text)
	require.JSONEq(t, `{"kept":10,"known":0,"ignored":0}`, text)
	eventually(t, "the order left elsewhere", func() bool { return ordersOf(t, w, "office")["MH-1024"].Stage == "shipped" })
	o, err := w.Client.Order(ctx, "MH-1024")
	require.NoError(t, err)
	require.Equal(t, "PP123456785XW", o.Shipments[0].Parcels[0].Tracking)
	eventually(t, "the counted stock", func() bool {
		v, err := w.Client.Item(ctx, "SMOKER-M")
		require.NoError(t, err)
		return v.Levels[0].OnHand == 40
	})
	item, err := w.Client.Item(ctx, "SMOKER-M")
	require.NoError(t, err)
	require.Equal(t, int64(2990), item.Item.Price)
	eventually(t, "the return of what left", func() bool {
		o, err := w.Client.Order(ctx, "MH-1024")
		require.NoError(t, err)
		return len(o.Returns) == 1 && o.Returns[0].Units == 1
	})
	status, text = hand("Bearer "+key, all...)
	require.Equal(t, 202, status)
	require.JSONEq(t, `{"kept":0,"known":10,"ignored":0}`, text, "a repeat does nothing")

	status, _ = hand("Bearer "+key, map[string]any{"topic": "order", "id": "bad", "version": 1,
		"order": map[string]any{"number": "B-1", "colour": "red"}})
	require.Equal(t, 202, status, "it is kept, and a person is asked")
	eventually(t, "the mistake is named", func() bool {
		list, err := w.Client.Exceptions(ctx)
		require.NoError(t, err)
		return slices.ContainsFunc(list, func(x wire.Exception) bool { return strings.Contains(x.Text, `there is no field "colour"`) })
	})
	clean(t, w)
}

// TestSetupAsText exports a set-up, sees no difference, changes it, and applies it twice.
func TestSetupAsText(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	text, err := w.Client.ExportSetup(ctx)
	require.NoError(t, err)
	for _, secret := range []string{demo.MorrowPushSecret, "hr_morrow", "PLVR20"} {
		require.NotContains(t, text, secret)
	}
	list, err := w.Client.PlanSetup(ctx, text, nil)
	require.NoError(t, err)
	require.Empty(t, list, "what was exported is what is")

	changed := strings.NewReplacer("buffer: 2", "buffer: 5", "name: Little Skep\n    address", "name: The Little Skep\n    address",
		"stock in: on", "stock in: off").Replace(text)
	changed += `  - code: till
    connector: counterpane
    name: Till
    address: ` + w.CounterpaneURL + `
    credentials: { user: "env:TILL_USER", password: "env:TILL_PASSWORD", shop: "env:TILL_SHOP" }
    settings: { offer: { sources: [mill] }, number_prefix: T }
    feeds: { orders in: on, stock out: on }
`
	secrets := map[string]map[string]string{"till": demo.CounterpaneAccess}
	list, err = w.Client.PlanSetup(ctx, changed, secrets)
	require.NoError(t, err)
	var lines []string
	for _, c := range list {
		lines = append(lines, c.String())
	}
	require.Equal(t, []string{
		"set  connection morrow  feeds.stock in: on → off",
		"set  connection skep  name: Little Skep → The Little Skep",
		"set  connection skep  settings.offer.buffer: 2 → 5",
		"set  connection skep  feeds.stock in: on → off",
		"new  connection till  Till, by counterpane",
		"new  connection till  feeds.orders in: on",
		"new  connection till  feeds.stock out: on",
		"new  connection till  settings.number_prefix: T",
		"new  connection till  settings.offer.sources: mill",
		"see  connection till: stock out stays off until what it changes was seen; say previewed: true where it was",
	}, lines)
	before, err := w.Client.ExportSetup(ctx)
	require.NoError(t, err)
	require.Equal(t, text, before, "planning changes nothing")

	_, err = w.Client.ApplySetup(ctx, changed, secrets)
	require.NoError(t, err)
	x, err := w.Client.Connection(ctx, "till")
	require.NoError(t, err)
	require.Equal(t, "on", x.State)
	require.Equal(t, "3", x.AccountNo)
	list, err = w.Client.PlanSetup(ctx, changed, secrets)
	require.NoError(t, err)
	require.Len(t, list, 1, "only the note is left: %v", list)
	again, err := w.Client.ApplySetup(ctx, changed, secrets)
	require.NoError(t, err)
	require.Len(t, again.Changes, 1)
	skep, err := w.Client.Connection(ctx, "skep")
	require.NoError(t, err)
	require.Equal(t, int64(5), skep.Settings.Offer.Buffer)
	v, err := w.Client.Item(ctx, "WAX-1KG")
	require.NoError(t, err)
	eventually(t, "the store shows less", func() bool { return w.Skep.Shelf()["WAX-1KG"] == v.Levels[0].Available-5 })

	// What was zero when it was exported becomes zero again.
	j, err := w.Client.Join(ctx, "morrow")
	require.NoError(t, err)
	was := j.Connection.Settings
	now := was
	now.Offer.Buffer, now.Offer.Off, now.Tolerance = was.Offer.Buffer+3, true, 0
	require.Zero(t, was.Offer.Buffer)
	_, err = w.Client.SetSettings(ctx, "morrow", now, 0)
	require.NoError(t, err)
	strict, err := w.Client.ExportSetup(ctx)
	require.NoError(t, err)
	list, err = w.Client.PlanSetup(ctx, strict, nil)
	require.NoError(t, err)
	require.Empty(t, list)
	_, err = w.Client.ApplySetup(ctx, text, nil)
	require.NoError(t, err)
	j, err = w.Client.Join(ctx, "morrow")
	require.NoError(t, err)
	require.Equal(t, was, j.Connection.Settings)
	_, err = w.Client.ApplySetup(ctx, strict, nil)
	require.NoError(t, err)
	j, err = w.Client.Join(ctx, "morrow")
	require.NoError(t, err)
	require.Equal(t, now, j.Connection.Settings)

	for _, bad := range []struct{ old, new, says string }{
		{"setup: 1", "setup: 2", `does not begin with "setup: 1"`},
		{"setup: 1", "setup: 1\ncolour: red", "line 2: field colour not found"},
		{"env:MORROW_TOKEN", "hr_plain_secret", "secrets do not stand in a set-up"},
		{"- code: skep", "- code: morrow", "morrow stands twice"},
		{"connector: plover-post", "connector: pigeon-post", `there is no connector "pigeon-post"`},
		{"stock in: on", "gossip in: on", `has no feed "gossip in"`},
		{"buffer: 2", "bufer: 2", "bufer"},
	} {
		require.Contains(t, text, bad.old)
		_, err := w.Client.ApplySetup(ctx, strings.Replace(text, bad.old, bad.new, 1), nil)
		require.Equal(t, 422, client.StatusOf(err), "%s: %v", bad.new, err)
		require.ErrorContains(t, err, bad.says)
	}
}

// TestReadyMadeSetups fills the set-ups that ship with the relay in and applies each to a company of its own.
func TestReadyMadeSetups(t *testing.T) {
	t.Parallel()
	out, err := demo.OpenOutside(demo.OnFreePorts, 0)
	require.NoError(t, err)
	t.Cleanup(out.Close)
	values := map[string]string{"STORE_ADDRESS": out.MorrowURL, "TILL_ADDRESS": out.CounterpaneURL, "MARKETPLACE_ADDRESS": out.BrambleURL,
		"CARRIER_ADDRESS": out.PloverURL, "PARTNER_ADDRESS": out.GateURL + "/trays", "MAKER_ADDRESS": out.SlateURL}
	ways := 0
	for _, name := range setup.Ready() {
		if name == "morrow-hive" {
			continue // the demo itself
		}
		ways++
		t.Run(name, func(t *testing.T) {
			st, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "company.relay"))
			require.NoError(t, err)
			defer st.Close()
			r, err := relay.Open(t.Context(), st, engine.Options{Reach: connector.Loopback})
			require.NoError(t, err)
			text, err := setup.ReadyText(name)
			require.NoError(t, err)
			_, err = setup.Fill(text, func(string) (string, bool) { return "", false })
			require.ErrorContains(t, err, "has no value")
			text, err = setup.Fill(text, func(name string) (string, bool) { v, ok := values[name]; return v, ok })
			require.NoError(t, err)
			s, err := setup.Parse([]byte(text))
			require.NoError(t, err)
			secrets := map[string]map[string]string{"store": {"token": "hr_morrow_hive_supply_demo_token",
				"push_secret": demo.MorrowPushSecret}, "till": demo.CounterpaneAccess, "marketplace": demo.BrambleAccess,
				"carrier": {"key": "PLVR20DEMO7MORROW41X", "push_secret": "plover-signing-word-of-the-demo"},
				"partner": demo.GateAccess, "maker": demo.SlateAccess}
			got, err := r.ApplySetup(t.Context(), s, secrets, "a consultant")
			require.NoError(t, err)
			require.NotEmpty(t, got.Changes)
			views, err := r.Connections(t.Context())
			require.NoError(t, err)
			require.Len(t, views, len(s.Connections))
			for _, v := range views {
				want := store.On
				if v.Connector == "tansy" {
					want = store.Joining // its consent is given on a page of its own
				}
				require.Equal(t, want, v.State, v.Code)
			}
			if name == "store-and-back-office" {
				require.NotEmpty(t, got.Given["office"]["key"])
			}
			left, err := r.PlanSetup(t.Context(), s, secrets)
			require.NoError(t, err)
			left = slices.DeleteFunc(left, func(c setup.Change) bool {
				return c.Thing == "connection marketplace" &&
					name == "funnel-and-store-room"
			})
			require.Empty(t, left, "applied once, nothing is left to do, but for a consent that is given on its page")
		})
	}
	require.Equal(t, 6, ways)
}

// TestDefinitionsOfOnesOwn adds a connector that extends another, joins through it, and finds its mistakes named.
func TestDefinitionsOfOnesOwn(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	_, err := w.Client.AddConnector(ctx,
		"mine.yaml", "connector: mine\nextends: bramble-row\ntitle: Mine\nfeeds:\n  orders in:\n    map: { note: item.Nothing + , "+
			"numbr: item._no }\n", "", false)
	require.Equal(t, 422, client.StatusOf(err))
	require.ErrorContains(t, err, "mine.yaml:6:")
	require.ErrorContains(t, err, `there is no field "numbr"`)
	_, err = w.Client.AddConnector(ctx, "b.yaml", "connector: bramble-row\nextends: hedgerow\n", "", false)
	require.Equal(t, 409, client.StatusOf(err), "a built-in one is not replaced")
	good := "connector: mine\nextends: bramble-row\ntitle: Mine\nfeeds:\n  orders in:\n    map: { note: '\"by our own definition\"' }\n"
	_, err = w.Client.AddConnector(ctx, "mine.yaml", good, "", false)
	require.NoError(t, err)
	require.NoError(t, w.Join(ctx, "mine", "mine", "Mine"))
	_, err = w.Client.TestAccess(ctx, "mine", joining.Access{Address: w.BrambleURL, Secrets: demo.BrambleAccess})
	require.NoError(t, err)
	_, err = w.Finish(ctx, "mine", "BR-3302", sells)
	require.NoError(t, err)
	sell := func(note string) {
		id, err := w.Bramble.Sell(standin.DeskSale{SKU: "SMOKER-M"})
		require.NoError(t, err)
		again(t, w, "mine", "orders in")
		eventually(t, "the order", func() bool { return ordersOf(t, w, "mine")[id].Number != "" })
		o, err := w.Client.Order(ctx, ordersOf(t, w, "mine")[id].Number)
		require.NoError(t, err)
		require.Equal(t, note, o.Record.Note)
	}
	sell("by our own definition")
	newer := strings.Replace(good, "our own definition", "the newer one", 1)
	_, err = w.Client.AddConnector(ctx, "mine.yaml", newer, "", false)
	require.ErrorContains(t, err, "would be mapped or written otherwise")
	_, err = w.Client.AddConnector(ctx, "mine.yaml", newer, "", true)
	require.NoError(t, err)
	sell("by the newer one")
	_, err = w.Client.SetOverrides(ctx, "mine", `feeds: { orders in: { map: { note: '"by the connection"' } } }`)
	require.NoError(t, err)
	sell("by the connection")
	_, err = w.Client.SetOverrides(ctx, "mine", `feeds: { orders in: { map: { note: thing } } }`)
	require.ErrorContains(t, err, "undeclared reference")
	require.ErrorContains(t, w.Client.DropConnector(ctx, "mine"), "Mine uses it")

	// It is there after a restart, and a file in a folder is found, too.
	dir := t.TempDir()
	require.NoError(t,
		os.WriteFile(filepath.Join(dir, "other.yaml"), []byte("connector: other\nextends: hedgerow\ntitle: Other\n"), 0o600))
	w.Relay.Stop()
	next, err := relay.Open(ctx, w.Store, engine.Options{Reach: connector.Loopback, Folder: dir})
	require.NoError(t, err)
	require.NotNil(t, next.Connector("mine"))
	require.NotNil(t, next.Connector("other"))
}

// TestPublicAddressesOnly: without a switch that names them, loopback and private addresses are not called.
func TestPublicAddressesOnly(t *testing.T) {
	t.Parallel()
	out, err := demo.OpenOutside(demo.OnFreePorts, 0)
	require.NoError(t, err)
	t.Cleanup(out.Close)
	st, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "company.relay"))
	require.NoError(t, err)
	defer st.Close()
	r, err := relay.Open(t.Context(), st, engine.Options{})
	require.NoError(t, err)
	_, err = r.StartJoin(t.Context(), joining.NewJoin{Connector: "counterpane", Code: "till"}, "x")
	require.NoError(t, err)
	for _, address := range []string{out.CounterpaneURL, strings.Replace(out.CounterpaneURL, "127.0.0.1", "localhost", 1),
		"http://10.0.0.1", "http://169.254.169.254"} {
		got, err := r.TestAccess(t.Context(), "till", joining.Access{Address: address, Secrets: demo.CounterpaneAccess}, "x")
		require.NoError(t, err)
		require.False(t, got.LetIn)
		require.Contains(t, got.Text, "is not a public one", address)
	}
	require.Zero(t, out.Counterpane.Calls())
}

// TestSlowMarketplaceDelaysNobody: while one channel hangs, the others are read when they are due.
func TestSlowMarketplaceDelaysNobody(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	_, err := w.JoinTansy(ctx, sells)
	require.NoError(t, err)
	_, err = w.JoinBramble(ctx, sells)
	require.NoError(t, err)
	w.Tansy.Misbehave(standin.Faults{HangMS: 20_000})
	again(t, w, "tansy", "orders in")
	sold, err := w.Bramble.Sell(standin.DeskSale{SKU: "SMOKER-M"})
	require.NoError(t, err)
	begin := time.Now()
	again(t, w, "bramble", "orders in")
	eventually(t, "the other channel's order", func() bool { return ordersOf(t, w, "bramble")[sold].Stage == "ready" })
	require.Less(t, time.Since(begin), 3*time.Second)
	w.Tansy.Misbehave(standin.Faults{})
}

// TestPlantedSecretsStayInside joins with secrets that are easy to find, makes everything fail that can,
// and looks for them wherever the relay speaks.
func TestPlantedSecretsStayInside(t *testing.T) {
	log := &journal{}
	w := openWorldLogging(t, log)
	ctx := t.Context()
	how := sells
	how.Stock = true
	_, err := w.JoinTansy(ctx, how)
	require.NoError(t, err)
	_, err = w.JoinBramble(ctx, how)
	require.NoError(t, err)
	_, err = w.JoinTill(ctx, demo.Joining{Sources: []string{"mill"}, Import: joining.ImportChoices{Items: true}, Stock: true})
	require.NoError(t, err)
	planted := []string{demo.TansyAccess["app_secret"], demo.BrambleAccess["secret"], demo.CounterpaneAccess["password"],
		demo.MorrowPushSecret, "hr_morrow_hive_supply_demo_token", "plover-signing-word"}
	for code, part := range map[string]struct { // systems that repeat in their errors what they were sent
		misbehave func(standin.Faults)
		secret    string
	}{"tansy": {w.Tansy.Misbehave, demo.TansyAccess["app_secret"]}, "bramble": {w.Bramble.Misbehave,
		demo.BrambleAccess["secret"]}, "till": {w.Counterpane.Misbehave, demo.CounterpaneAccess["password"]}} {
		part.misbehave(standin.Faults{Status: 403, Text: "not let in with " + part.secret, Count: 3})
		_, _ = w.Client.RunNow(ctx, code, "orders in", "")
		_, err := w.Client.Test(ctx, code)
		require.NotContains(t, fmt.Sprint(err), part.secret)
		got, err := w.Client.Renew(ctx, code, joining.Access{Secrets: map[string]string{"secret": "x"}})
		require.NotContains(t, got.Text+fmt.Sprint(err), part.secret)
	}
	w.Tansy.Misbehave(standin.Faults{})
	_, err = w.Client.Try(ctx, "bramble", "stock out", `{"outside_id":"1","quantity":1}`, false)
	require.NoError(t, err)

	var said strings.Builder
	for _, path := range []string{"/connections", "/connectors", "/accounts", "/runs?limit=200",
		"/exceptions?limit=200", "/activity?limit=200", "/setup", "/board", "/connections/tansy/join", "/connections/bramble/join",
		"/connections/till/join",
		"/connections/bramble/bench", "/connections/bramble/import", "/connections/till/leave", "/openapi.json"} {
		raw, _, err := w.Client.Raw(ctx, http.MethodGet, "/api/v1"+path, nil)
		require.NoError(t, err, path)
		said.Write(raw)
	}
	runs, err := w.Client.Runs(ctx, "limit=200")
	require.NoError(t, err)
	for _, r := range runs {
		for _, format := range []string{"csv", "ndjson"} {
			raw, _, err := w.Client.Raw(ctx, http.MethodGet, fmt.Sprintf("/api/v1/runs/%d/log?format=%s", r.ID, format), nil)
			require.NoError(t, err)
			said.Write(raw)
		}
	}
	said.WriteString(log.String())
	w.Relay.Stop()
	require.NoError(t, w.Store.Close())
	files, err := filepath.Glob(filepath.Join(filepath.Dir(w.Store.Path()), "company.relay*"))
	require.NoError(t, err)
	for _, f := range files {
		if strings.HasSuffix(f, ".key") {
			continue
		}
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		said.Write(b)
	}
	for _, secret := range append(planted, "ta_", "tr_") {
		if secret == "ta_" || secret == "tr_" { // tokens that were issued begin so, followed by hex
			require.False(t, regexp.MustCompile(secret+"[0-9a-f]{32}").MatchString(said.String()), "a token of Tansy's was given away")
			continue
		}
		at := strings.Index(said.String(), secret)
		require.Equal(t, -1, at, "%q was given away: …%s…", secret, said.String()[max(0, at-80):max(0, at+40)])
	}
	require.True(t, strings.Contains(said.String(), "not let in with •••"), "what was said is kept, without the secret")
}

// TestAddressService asks it through its connection: a token that comes with account numbers.
func TestAddressService(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	_, err := w.Client.CheckAddress(ctx, place.Address{Street: "x 1"})
	require.ErrorContains(t, err, "no address service is joined")
	require.NoError(t, w.Join(ctx, "postbook", "postbook", "Postbook"))
	got, err := w.Client.TestAccess(ctx, "postbook", joining.Access{Address: w.PostbookURL, Secrets: demo.PostbookAccess})
	require.NoError(t, err)
	require.Equal(t, "C-77120/1", got.Identity.Number)
	_, err = w.Client.Confirm(ctx, "postbook", "C-77120/1", true)
	require.NoError(t, err)
	_, err = w.Client.SwitchOn(ctx, "postbook")
	require.NoError(t, err)
	a, err := w.Client.CheckAddress(ctx, place.Address{Name: "Maren Tolland", Street: "Lindenrow  14", Postcode: "41361",
		Town: "Harrowmere", Country: "XW"})
	require.NoError(t, err)
	require.True(t, a.Deliverable)
	require.Equal(t, "41360", a.Corrected.Postcode)
	require.Equal(t, "Lindenrow 14", a.Corrected.Street)
	a, err = w.Client.CheckAddress(ctx, place.Address{Name: "Maren Tolland", Street: "Lindenrow", Postcode: "97310", Town: "Farholm",
		Country: "XW"})
	require.NoError(t, err)
	require.False(t, a.Deliverable)
	require.True(t, a.Remote)
}

// TestOneAccountServesTwoSites: the second connection takes the account that is there, and leaving the
// first one leaves it its access.
func TestOneAccountServesTwoSites(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	_, err := w.Client.AddConnector(ctx,
		"sites.yaml", "connector: two-shops\nextends: counterpane\ntitle: Two shops\nsites: [{ code: east, name: East }, { code: "+
			"west, name: West }]\n", "", false)
	require.NoError(t, err)
	how := demo.Joining{Sources: []string{"mill"}, Import: joining.ImportChoices{}}
	require.NoError(t, w.Join(ctx, "two-shops", "east", "East"))
	got, err := w.Client.TestAccess(ctx, "east", joining.Access{Address: w.CounterpaneURL, Site: "east", Secrets: demo.CounterpaneAccess})
	require.NoError(t, err)
	require.True(t, got.LetIn)
	_, err = w.Finish(ctx, "east", "3", how)
	require.NoError(t, err)
	require.NoError(t, w.Join(ctx, "two-shops", "west", "West"))
	j, err := w.Client.Join(ctx, "west")
	require.NoError(t, err)
	require.Len(t, j.Accounts, 1)
	require.Equal(t, []string{"East"}, j.Accounts[0].Used)
	got, err = w.Client.TestAccess(ctx, "west", joining.Access{Account: j.Accounts[0].ID, Site: "west"})
	require.NoError(t, err)
	require.True(t, got.LetIn, got.Text)
	_, err = w.Finish(ctx, "west", "3", how)
	require.NoError(t, err)
	l, err := w.Client.WouldLeave(ctx, "east")
	require.NoError(t, err)
	require.Contains(t, strings.Join(l.Stays, "; "), "the account, which 1 other connection uses")
	_, err = w.Client.Leave(ctx, "east")
	require.NoError(t, err)
	_, err = w.Client.Test(ctx, "west")
	require.NoError(t, err)
	text, err := w.Client.ExportSetup(ctx)
	require.NoError(t, err)
	require.Contains(t, text, "extends: counterpane", "a connector of one's own goes along")
	changes, err := w.Client.PlanSetup(ctx, text, nil)
	require.NoError(t, err)
	require.Empty(t, changes)
}
