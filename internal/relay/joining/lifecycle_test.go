package joining_test

import (
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/joining"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// moves changes what lies at Alder Yard.
func moves(t *testing.T, k *trial.Kit, sku string, by int64) {
	t.Helper()
	require.NoError(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: sku, Location: "alder", Change: by, Reason: "counted"}, "Edda"))
	k.Settle()
}

// stateOf is the state of a connection, and "" where there is none.
func stateOf(k *trial.Kit, code string) string {
	if c := k.ByCode(code); c != nil {
		return string(c.Rec().State)
	}
	return ""
}

// conflicts holds that something was refused because of how things are.
func conflicts(t *testing.T, err error, says string) {
	t.Helper()
	var refused *engine.Refused
	require.ErrorAs(t, err, &refused)
	require.True(t, refused.Conflict, refused.Text)
	require.Contains(t, refused.Text, says)
}

// anew joins the stall's system once more, as a consultant does on the page, up to the test of the access.
func anew(t *testing.T, k *trial.Kit, name string) (string, engine.Tested) {
	t.Helper()
	ctx := t.Context()
	code, err := k.StartJoin(ctx, joining.NewJoin{Connector: "stall", Name: name}, "Edda")
	require.NoError(t, err)
	access := joining.Access{Address: "http://stall.test", Secrets: map[string]string{"key": "another key"}}
	out, err := k.TestAccess(ctx, code, access, "Edda")
	require.NoError(t, err)
	return code, out
}

// A connection that is left is told nothing more; its orders are finished here, and the same account goes on later where
// it ended, without one order twice.
func TestLeavingAndComingBack(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(10, "JAR")
	k.Learned()
	k.Listed("JAR")
	k.Sell("S-1", trial.Units("JAR", 2))
	k.Sell("S-2", trial.Units("JAR", 1))
	k.CancelOrder("S-2")

	would, err := k.WouldLeave(ctx, "stall")
	require.NoError(t, err)
	require.Equal(t, []int64{2, 1}, []int64{would.Counts.Orders, would.Counts.Open})
	said := strings.Join(append(would.Removed, would.Stays...), "\n")
	for _, s := range []string{"the credentials of the account", "2 orders with their history; 1 still on their way", "1 listing"} {
		require.Contains(t, said, s)
	}
	require.NoError(t, k.Leave(ctx, "stall", "Edda"))
	require.Equal(t, "left", stateOf(k, "stall"))
	conflicts(t, k.Leave(ctx, "stall", "Edda"), "was left already")
	accounts, err := k.Store.Accounts(ctx)
	require.NoError(t, err)
	require.Empty(t, accounts, "the credentials are gone")

	before := len(k.Sent("stall", "/stock")) + len(k.Sent("stall", "/parcels"))
	k.Packed("S-1")
	moves(t, k, "JAR", 20)
	k.Later(time.Hour)
	k.Settle()
	require.Equal(t, before, len(k.Sent("stall", "/stock"))+len(k.Sent("stall", "/parcels")), "it is told nothing more")
	require.Equal(t, order.Packed, order.Stage(k.Stage("S-1")), "its order is finished here")

	code, out := anew(t, k, "Stall, again")
	require.True(t, out.LetIn, out.Text)
	require.Equal(t, "stall", out.Back, "it says which connection will go on")
	id, err := k.Identity(ctx, code)
	require.NoError(t, err)
	back, err := k.Confirm(ctx, code, id.Number, true, "Edda")
	require.NoError(t, err)
	require.Equal(t, "stall", back)
	require.Empty(t, stateOf(k, code), "the one that was set up anew became the old one")
	require.Equal(t, string(store.Joining), stateOf(k, "stall"))
	again, err := k.WouldLeave(ctx, "stall")
	require.NoError(t, err)
	require.Equal(t, would.Counts.Orders, again.Counts.Orders)

	preview, err := k.StockPreview(ctx, "stall")
	require.NoError(t, err)
	require.True(t, preview.SeenAt.IsZero(), "what sending stock changes has to be looked at anew")
	require.NoError(t, k.AcceptPreview(ctx, "stall", preview.Digest, "Edda"))
	list, err := k.Checklist(ctx, "stall")
	require.NoError(t, err)
	for _, c := range list {
		if c.Required && !c.Done {
			require.Equal(t, "import", c.Key, "%s: %s", c.Text, c.Hint)
		}
	}
	k.Holds()
}

// An account is joined once: whoever sets it up a second time is told as what it is joined, before anything moves.
func TestAnAccountIsJoinedOnce(t *testing.T) {
	k := trial.New(t)
	code, out := anew(t, k, "The stall, twice")
	require.False(t, out.LetIn)
	require.Contains(t, out.Text, "is joined already, as The stall")
	_, err := k.Confirm(t.Context(), code, "No-stall", true, "Edda")
	conflicts(t, err, "test the access first")
	require.NoError(t, k.DropJoin(t.Context(), code, "Edda"))
	require.Empty(t, stateOf(k, code))
	require.Equal(t, string(store.On), stateOf(k, "stall"))
}

// The account that was not meant is forgotten with its credentials, and the set-up goes on with another.
func TestNotTheAccountThatWasMeant(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.On("stall", "/who", func(trial.Call) (int, any) {
		return http.StatusOK, map[string]any{"name": "Somebody", "number": "No-77", "country": "XW"}
	})
	code, out := anew(t, k, "Second stall")
	require.True(t, out.LetIn, out.Text)
	_, err := k.Confirm(ctx, code, "No-78", true, "Edda")
	conflicts(t, err, "the account is number No-77, not No-78")
	before, err := k.Store.Accounts(ctx)
	require.NoError(t, err)
	_, err = k.Confirm(ctx, code, "", false, "Edda")
	require.NoError(t, err)
	after, err := k.Store.Accounts(ctx)
	require.NoError(t, err)
	require.Len(t, after, len(before)-1)
	_, err = k.Confirm(ctx, code, "No-77", true, "Edda")
	conflicts(t, err, "test the access first")
}

// Credentials that expired are replaced at the connection that is at work; what failed for want of them goes on at once.
func TestCredentialsAreRenewed(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(10, "JAR")
	k.Listed("JAR")
	letIn := false
	k.On("stall", "/stock", func(trial.Call) (int, any) {
		if !letIn {
			return http.StatusUnauthorized, map[string]any{"error": "the key has ended"}
		}
		return http.StatusOK, map[string]any{}
	})
	moves(t, k, "JAR", 10)
	require.Contains(t, k.Causes(), engine.CredentialsRefused)

	who := map[string]any{"name": "Somebody else", "number": "No-99", "country": "XW"}
	k.On("stall", "/who", func(trial.Call) (int, any) { return http.StatusOK, who })
	renew := joining.Access{Secrets: map[string]string{"key": "  the new key\n"}}
	out, err := k.Renew(ctx, "stall", renew, "Edda")
	require.NoError(t, err)
	require.False(t, out.LetIn)
	require.Contains(t, out.Text, "belong to Somebody else, number No-99")
	require.Contains(t, k.Causes(), engine.CredentialsRefused, "nothing was changed")

	who["number"], letIn = k.ByCode("stall").Rec().AccountNo, true
	out, err = k.Renew(ctx, "stall", joining.Access{Secrets: map[string]string{"key": "  the new key\n"}}, "Edda")
	require.NoError(t, err)
	require.True(t, out.LetIn, out.Text)
	require.Equal(t, []string{"key"}, out.Trimmed, "it says what it took off")
	require.NotContains(t, k.Causes(), engine.CredentialsRefused)
	k.Settle()
	sent := k.Sent("stall", "/stock")
	require.EqualValues(t, 20, sent[len(sent)-1].Body["quantity"])
	k.Holds()
}

// In test, what comes and goes is marked and holds no stock; it is cleared before the connection is taken live.
func TestAConnectionInTest(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(10, "JAR")
	k.Listed("JAR")
	k.Sell("S-1", trial.Units("JAR", 2))
	conflicts(t, k.SetTest(ctx, "stall", true, 0, "Edda"), "1 real order is still on the way")
	k.CancelOrder("S-1")
	require.NoError(t, k.SetTest(ctx, "stall", true, 0, "Edda"))
	require.NoError(t, k.SetTest(ctx, "stall", true, 0, "Edda"), "it is so already")

	k.Sell("T-1", trial.Units("JAR", 3))
	levels, err := k.Inventory.Levels(ctx, []int64{1})
	require.NoError(t, err)
	for _, l := range levels {
		require.Zero(t, l.Allocated, "a test holds no stock")
	}
	_, err = k.StartPick(ctx, "T-1", "Pim")
	require.Error(t, err, "a test is not sent")
	conflicts(t, k.SetTest(ctx, "stall", false, 0, "Edda"), "1 test order is still here")
	n, err := k.ClearTests(ctx, "stall", "Edda")
	require.NoError(t, err)
	require.EqualValues(t, 1, n)
	require.NoError(t, k.SetTest(ctx, "stall", false, 0, "Edda"))
	k.Sell("S-2", trial.Units("JAR", 1))
	require.Equal(t, order.Ready, order.Stage(k.Stage("S-2")))
	k.Holds()
}

// What would be sold out stands first, and only a preview that is still true can be accepted.
func TestThePreviewOfStock(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	_, err := k.StockPreview(ctx, "none")
	require.ErrorIs(t, err, store.ErrNotFound)
	empty, err := k.StockPreview(ctx, "stall")
	require.NoError(t, err)
	require.Zero(t, empty.Listings)
	conflicts(t, k.AcceptPreview(ctx, "stall", empty.Digest, "Edda"), "no listing is known yet")

	k.Stock(10, "JAR", "LID")
	shown := func(id, sku string, quantity int64) map[string]any {
		return trial.Event("listing", id, 1, message.Listing{SKU: sku, Title: sku, Price: 100, Currency: "EUR", Live: true,
			Quantity: quantity})
	}
	k.Take("stall", shown("L-1", "JAR", 9), shown("L-2", "LID", 10), shown("L-3", "GHOST", 5))
	require.NoError(t, k.Pause(ctx, "stall", true, 0, "Edda"))
	moves(t, k, "JAR", -10)
	p, err := k.StockPreview(ctx, "stall")
	require.NoError(t, err)
	assert.Equal(t, []int64{3, 1}, []int64{p.Listings, p.Unknown})
	skus := make([]string, len(p.Rows))
	for i, r := range p.Rows {
		skus[i] = r.SKU
		if !r.Matched {
			assert.Equal(t, r.Shows, r.Would, "without an item, nothing is sent for it")
		}
	}
	assert.Equal(t, "JAR", skus[0], "what would be sold out stands first: %v", skus)
	assert.EqualValues(t, 1, p.ToZero)

	moves(t, k, "JAR", 4)
	conflicts(t, k.AcceptPreview(ctx, "stall", p.Digest, "Edda"), "look at the preview again")
	now, err := k.StockPreview(ctx, "stall")
	require.NoError(t, err)
	require.Zero(t, now.ToZero)
	k.Sell("S-1", trial.Units("JAR", 1))
	require.NoError(t, k.AcceptPreview(ctx, "stall", now.Digest, "Edda"), "a sale in the meantime makes it no less true")
	seen, err := k.StockPreview(ctx, "stall")
	require.NoError(t, err)
	require.Equal(t, k.Now(), seen.SeenAt)
}

// A definition that a person added is replaced and removed; one that is in use, or that others extend, stays.
func TestDefinitionsComeAndGo(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	const kiosk = `
connector: kiosk
title: Kiosk
side: channel
access:
  way: key
  fields:
    - { name: key, label: Key, secret: true }
  steps: [ "Ask the kiosk for its key." ]
push:
  signature: { scheme: shared, secret: key, value: header.authorization, prefix: "Bearer " }
  events: messages
calls:
  identity:
    request: { method: GET, path: /who }
    map: { name: body.name, number: body.number }
feeds:
  orders in: { topic: order, record: order, id: event.id, version: event.version, map: item }
`
	_, err := k.AddDefinition(ctx, joining.NewDefinition{File: "kiosk.yaml", Text: strings.Replace(kiosk, "body.name", "body.(", 1)},
		"Edda")
	require.Error(t, err)
	require.Nil(t, k.Connector("kiosk"), "what is wrong leaves nothing behind")
	def, err := k.AddDefinition(ctx, joining.NewDefinition{File: "kiosk.yaml", Text: kiosk}, "Edda")
	require.NoError(t, err)
	require.Equal(t, "Kiosk", def.Title)
	_, err = k.AddDefinition(ctx,
		joining.NewDefinition{File: "kiosk.yaml", Text: strings.Replace(kiosk, "title: Kiosk", "title: The kiosk", 1)}, "Edda")
	require.NoError(t, err)
	require.Equal(t, "The kiosk", k.Connector("kiosk").Title)
	_, err = k.AddDefinition(ctx,
		joining.NewDefinition{File: "hedgerow.yaml", Text: strings.Replace(kiosk, "connector: kiosk", "connector: hedgerow", 1)}, "Edda")
	conflicts(t, err, `there is a connector "hedgerow" already`)

	_, err = k.AddDefinition(ctx, joining.NewDefinition{File: "second.yaml", Text: "connector: second\ntitle: Second\nextends: kiosk\n"},
		"Edda")
	require.NoError(t, err)
	conflicts(t, k.DropDefinition(ctx, "kiosk", "Edda"), "second extends it")
	require.NoError(t, k.DropDefinition(ctx, "second", "Edda"))
	code, err := k.StartJoin(ctx, joining.NewJoin{Connector: "kiosk"}, "Edda")
	require.NoError(t, err)
	conflicts(t, k.DropDefinition(ctx, "kiosk", "Edda"), "uses it")
	more := kiosk + "  listings in: { topic: listing, record: listing, id: event.id, map: item }\n"
	_, err = k.AddDefinition(ctx, joining.NewDefinition{File: "kiosk.yaml", Text: more}, "Edda")
	require.NoError(t, err)
	require.NotNil(t, k.ByCode(code).Line().Def.Feeds[message.ListingsIn], "what is joined learns of it")
	_, err = k.AddDefinition(ctx, joining.NewDefinition{File: "kiosk.yaml", Text: kiosk}, "Edda")
	conflicts(t, err, `uses the feed "listings in", which it has no more`)
	require.NoError(t, k.DropJoin(ctx, code, "Edda"))
	require.NoError(t, k.DropDefinition(ctx, "kiosk", "Edda"))
	require.Nil(t, k.Connector("kiosk"))
	require.ErrorIs(t, k.DropDefinition(ctx, "kiosk", "Edda"), store.ErrNotFound)

	k.Again()
	require.Nil(t, k.Connector("kiosk"), "and it stays away")
	require.NotNil(t, k.Connector("stall"))
	entries, err := k.Store.Activity(ctx, store.ActivityFilter{Thing: "connector", Limit: 50})
	require.NoError(t, err)
	texts := make([]string, len(entries))
	for i, e := range entries {
		texts[i] = e.Text
	}
	require.True(t, slices.ContainsFunc(texts, func(s string) bool { return strings.HasSuffix(s, "removed") }), texts)
}

// A connection that is paused sends and reads nothing; what came in the meantime goes out when it goes on.
func TestAPausedConnectionGoesOn(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(10, "JAR")
	k.Listed("JAR")
	require.NoError(t, k.Pause(ctx, "stall", true, 0, "Edda"))
	before := len(k.Sent("stall", "/stock"))
	moves(t, k, "JAR", -3)
	k.Later(time.Hour)
	k.Settle()
	require.Len(t, k.Sent("stall", "/stock"), before)
	require.NoError(t, k.Pause(ctx, "stall", false, 0, "Edda"))
	k.Settle()
	sent := k.Sent("stall", "/stock")
	require.Len(t, sent, before+1)
	require.EqualValues(t, 7, sent[before].Body["quantity"])
	require.ErrorIs(t, k.Pause(ctx, "none", true, 0, "Edda"), store.ErrNotFound)
	k.Holds()
}
