package listing_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/listing"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

func only(t *testing.T, k *trial.Kit, search string) store.Listing {
	t.Helper()
	list, err := k.Store.FindListings(t.Context(), store.ListingFilter{Search: search, Limit: 5})
	require.NoError(t, err)
	require.Len(t, list, 1)
	return list[0]
}

// TestPublishing: what would be sent is shown first and sent only as it was shown; the new listing shows its price, and a
// refusal is raised with the item and ends when it is sent again.
func TestPublishing(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.JoinShelf()
	k.Stock(6, "JAR", "LID")
	pick := listing.Selection{SKUs: []string{"JAR"}}
	p, err := k.PublishPreview(ctx, "shelf", pick)
	require.NoError(t, err)
	require.Equal(t, []string{"list", "JAR"}, []string{p.Rows[0].Action, p.Rows[0].SKU})
	require.Equal(t, int64(6), p.Rows[0].Message.Quantity)
	require.Len(t, p.Requests, 1)
	require.NotContains(t, fmt.Sprint(p.Requests), "shelf-key", "secrets are blanked")
	require.Empty(t, k.Sent("shelf", "/items"))

	_, err = k.Publish(ctx, "shelf", pick, "something else", "Edda")
	require.Error(t, err, "not what was seen")
	k.On("shelf", "/items", func(c trial.Call) (int, any) { return 200, map[string]any{"id": "SH-1"} })
	n, err := k.Publish(ctx, "shelf", pick, p.Digest, "Edda")
	require.NoError(t, err)
	require.Equal(t, int64(1), n)
	k.Settle()
	l := only(t, k, "JAR")
	require.Equal(t, []any{"SH-1", int64(1000), "EUR", "live"}, []any{l.OutsideID, l.Price, l.Currency, l.State})

	p, err = k.PublishPreview(ctx, "shelf", pick)
	require.NoError(t, err)
	require.Equal(t, "nothing", p.Rows[0].Action, "it is there as it is")
	it, err := k.Store.RecordsOf(ctx, []int64{l.ItemID})
	require.NoError(t, err)
	it[0].Price = 1200
	require.NoError(t, k.EditItem(ctx, "JAR", it[0], it[0].Revision, "Edda"))
	p, err = k.PublishPreview(ctx, "shelf", pick)
	require.NoError(t, err)
	require.Equal(t, "change", p.Rows[0].Action)
	require.Equal(t, int64(1200), p.Rows[0].Message.Price)
	k.Settle() // what is listed follows by itself

	k.On("shelf", "/items", func(c trial.Call) (int, any) { return 422, map[string]any{"error": "no picture"} })
	other := listing.Selection{SKUs: []string{"LID"}}
	p, err = k.PublishPreview(ctx, "shelf", other)
	require.NoError(t, err)
	_, err = k.Publish(ctx, "shelf", other, p.Digest, "Edda")
	require.NoError(t, err)
	k.Settle()
	require.Equal(t, []order.Cause{engine.ListingRejected}, k.Causes())
	require.Contains(t, k.Exceptions()[0].Text, "LID")
	k.On("shelf", "/items", func(c trial.Call) (int, any) { return 200, map[string]any{"id": "SH-2"} })
	p, err = k.PublishPreview(ctx, "shelf", other)
	require.NoError(t, err)
	require.Equal(t, "list", p.Rows[0].Action)
	_, err = k.Publish(ctx, "shelf", other, p.Digest, "Edda")
	require.NoError(t, err)
	k.Settle()
	require.Empty(t, k.Causes())

	it, err = k.Store.RecordsOf(ctx, []int64{l.ItemID})
	require.NoError(t, err)
	k.On("shelf", "/items", func(c trial.Call) (int, any) { return 422, map[string]any{"error": "too dear"} })
	it[0].Price = 90000
	require.NoError(t, k.EditItem(ctx, "JAR", it[0], it[0].Revision, "Edda"))
	p, err = k.PublishPreview(ctx, "shelf", pick)
	require.NoError(t, err)
	_, err = k.Publish(ctx, "shelf", pick, p.Digest, "Edda")
	require.NoError(t, err)
	k.Settle()
	require.Equal(t, []order.Cause{engine.ListingRejected}, k.Causes(), "a change that is not taken is raised, too")
	require.Equal(t, "live", only(t, k, "JAR").State)
	for _, wrong := range []listing.Selection{{}, {SKUs: []string{"JAR"}, Mark: "gift"}, {SKUs: []string{"CUP"}}} {
		_, err = k.PublishPreview(ctx, "shelf", wrong)
		require.Error(t, err, "%+v", wrong)
	}
	k.Holds()
}

// TestAReportThatIsLostIsNotWaitedFor: quantities went out in a batch whose report the definition no longer knows. They are
// submitted anew, and the channel hears of the stock.
func TestAReportThatIsLostIsNotWaitedFor(t *testing.T) {
	k := trial.New(t)
	k.JoinShelf()
	k.Stock(6, "JAR")
	k.On("shelf", "/levels", func(c trial.Call) (int, any) { return 200, map[string]any{"submission": "sub-1"} })
	k.On("shelf", "/levels/sub-1", func(c trial.Call) (int, any) { return 200, map[string]any{"finished": false} })
	k.Take("shelf", trial.Event("listing", "SH-1", 1, message.Listing{SKU: "JAR", Title: "A JAR", Price: 1000, Currency: "EUR",
		Live: true}))
	require.Len(t, k.Sent("shelf", "/levels"), 1)
	k.Later(3 * time.Second)
	k.Settle()
	require.NotEmpty(t, k.Sent("shelf", "/levels/sub-1"))
	require.Len(t, k.Sent("shelf", "/levels"), 1, "the report is waited for")

	c := k.ByCode("shelf")
	over := "feeds: { stock out: { send: { report: null } } }"
	require.NoError(t, k.SetOverrides(t.Context(), "shelf", over, c.Rec().Revision, "Edda"))
	k.Later(5 * time.Second)
	k.Settle()
	require.Len(t, k.Sent("shelf", "/levels"), 2, "it is said again")
	require.Empty(t, k.Causes())
	k.Holds()
}

// TestAListingIsMatchedOrAsksForAPerson: by SKU at once; else it waits with what it may be, and who matches it lets the orders
// go on that waited for it.
func TestAListingIsMatchedOrAsksForAPerson(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(5, "JAR")
	k.Take("stall", trial.Event("listing", "L-9", 1, message.Listing{SKU: "STALL-JAR", Title: "A JAR of glass", Price: 1000,
		Currency: "EUR", Live: true}))
	k.Sell("S-1", message.OrderLine{SKU: "STALL-JAR", Listing: "L-9", Quantity: 1})
	require.Equal(t, "held", k.Stage("S-1"))
	list, err := k.ToMatch(ctx, store.ListingFilter{Search: "L-9", Limit: 5}, 3)
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, int64(1), list[0].Waiting)
	require.NotEmpty(t, list[0].Suggestions)
	require.Equal(t, "JAR", list[0].Suggestions[0].SKU)

	require.Error(t, k.Match(ctx, list[0].ID, "CUP", false, "Edda"))
	require.NoError(t, k.Match(ctx, list[0].ID, "JAR", false, "Edda"))
	k.Settle()
	require.Equal(t, "ready", k.Stage("S-1"))
	require.Equal(t, catalog.ByPerson, only(t, k, "L-9").MatchedBy)
	require.Error(t, k.Ignore(ctx, list[0].ID, true, "Edda"), "it is matched")
	require.NoError(t, k.Unmatch(ctx, list[0].ID, "Edda"))
	require.NoError(t, k.Ignore(ctx, list[0].ID, true, "Edda"))
	require.NoError(t, k.Ignore(ctx, list[0].ID, false, "Edda"))
	sku, err := k.CreateFrom(ctx, list[0].ID, "", "Edda")
	require.NoError(t, err)
	require.Equal(t, "STALL-JAR", sku)
	_, err = k.CreateFrom(ctx, list[0].ID, "JAR", "Edda")
	require.ErrorContains(t, err, "there is an item JAR already")
	k.Holds()
}

// TestItems: what may be changed of an item, and by whom seen.
func TestItems(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(2, "JAR", "LID")
	jar, err := k.Store.Item(ctx, "JAR")
	require.NoError(t, err)
	rec, err := k.Store.RecordsOf(ctx, []int64{jar.ID})
	require.NoError(t, err)
	it := rec[0]
	it.Name = "A better jar"
	require.NoError(t, k.EditItem(ctx, "JAR", it, it.Revision, "Edda"))
	require.Error(t, k.EditItem(ctx, "JAR", it, it.Revision, "Edda"), "somebody changed it meanwhile")
	for what, wrong := range map[string]catalog.Item{
		"sku":   {Name: "x"},
		"JAR":   {SKU: "JAR", Name: "again"},
		"gtin":  {SKU: "CUP", Name: "x", GTIN: "4006381333930"},
		"parts": {SKU: "SET", Name: "x", Kind: catalog.Kit},
	} {
		require.ErrorContains(t, k.CreateItem(ctx, wrong, "Edda"), what)
	}
	k.Sell("S-1", trial.Units("LID", 1))
	require.NoError(t, k.CreateItem(ctx,
		catalog.Item{SKU: "SET", Name: "A set", Kind: catalog.Kit,
			Parts: []catalog.Part{{SKU: "JAR", Quantity: 1}, {SKU: "LID", Quantity: 1}}}, "Edda"))
	k.Listed("SET")
	require.NoError(t, k.Archive(ctx, "JAR", true, "Edda"))
	k.Settle()
	calls := k.Sent("stall", "/stock")
	require.Equal(t, map[string]any{"sku": "SET", "quantity": 0.0}, calls[len(calls)-1].Body, "a kit is sold no more than its parts")
	require.NoError(t, k.Archive(ctx, "JAR", false, "Edda"))
	require.NoError(t, k.Archive(ctx, "SET", true, "Edda"))
	require.NoError(t, k.Archive(ctx, "SET", false, "Edda"))
	require.Error(t, k.Archive(ctx, "CUP", true, "Edda"))
	k.Holds()
}
