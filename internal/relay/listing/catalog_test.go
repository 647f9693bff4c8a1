package listing_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/listing"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// TestWhatOnlyOtherRecordsTell: an item is refused for what lies in other records, and the refusal names it.
func TestWhatOnlyOtherRecordsTell(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(4, "JAR", "LID")
	veil := catalog.Item{SKU: "VEIL-M", Name: "Veil", Family: "VEIL", Options: "size M", GTIN: "2007100014508"}
	require.NoError(t, k.CreateItem(ctx, veil, "Edda"))
	require.NoError(t, k.CreateItem(ctx, catalog.Item{SKU: "SET", Name: "A set", Kind: catalog.Kit,
		Parts: []catalog.Part{{SKU: "LID", Quantity: 2}}}, "Edda"))
	made := func(sku string) []catalog.Part { return []catalog.Part{{SKU: sku, Quantity: 1}} }
	for says, it := range map[string]catalog.Item{
		"2007100014508 is another item's":       {GTIN: "2007100014508"},
		`there is no price list "resale"`:       {Prices: []catalog.Price{{List: "resale", Price: 900}}},
		`there is no option group "bread"`:      {Kind: catalog.Prepared, Groups: []string{"bread"}},
		"VEIL-M of the family VEIL has the sam": {Family: "VEIL", Options: "size M"},
		"GHOST":                                 {Kind: catalog.Kit, Parts: made("GHOST")},
		"SET":                                   {Kind: catalog.Kit, Parts: made("SET")},
	} {
		it.SKU, it.Name = "NEW", "New"
		assert.ErrorContains(t, k.CreateItem(ctx, it, "Edda"), says)
	}
	for says, sku := range map[string]string{"it is a part of SET": "LID", "JAR": "JAR"} {
		rec, err := k.Store.Record(ctx, sku)
		require.NoError(t, err)
		rec.Kind = catalog.MadeToOrder
		err = k.EditItem(ctx, sku, rec, rec.Revision, "Edda")
		require.Error(t, err, "there is some of it, or a kit needs it: %s", sku)
		if sku == "LID" {
			assert.ErrorContains(t, err, says)
		}
	}
	_, err := k.Store.Item(ctx, "NEW")
	require.ErrorIs(t, err, store.ErrNotFound, "nothing of what was refused is kept")

	require.NoError(t, k.PutPriceList(ctx, store.PriceList{Code: "resale", Name: "Resale", Currency: "EUR"}))
	bread := catalog.Group{Code: "bread", Name: "Bread", Most: 1, Choices: []catalog.Choice{{Code: "rye", Name: "Rye"}}}
	require.NoError(t, k.PutGroup(ctx, bread))
	require.NoError(t, k.CreateItem(ctx, catalog.Item{SKU: "NEW", Name: "New", Kind: catalog.Prepared, Groups: []string{"bread"},
		Prices: []catalog.Price{{List: "resale", Price: 900}}}, "Edda"))
	assert.ErrorContains(t, k.PutPriceList(ctx, store.PriceList{Code: "x", Name: "X", Currency: "EURO"}), "ISO 4217")
	assert.ErrorContains(t, k.PutGroup(ctx, catalog.Group{Code: "x", Name: "X", Most: 1}), "no choices")
	k.Holds()
}

// TestWhoseWordCounts: what another system tells of an item is taken where its word counts, and named where it does not.
func TestWhoseWordCounts(t *testing.T) {
	k := trial.New(t, "anna")
	ctx := t.Context()
	k.Stock(4, "JAR")
	for says, owners := range map[string]map[string]string{
		`"sku" is no field`:                  {"sku": "stall"},
		`"colour" is no field`:               {"colour": "stall"},
		`there is no connection "back"`:      {"name": "back"},
		"Anna tells no items, so its word":   {"name": "anna"},
		`name: there is no connection "Anna`: {"name": "Anna"},
	} {
		assert.ErrorContains(t, k.SetOwners(ctx, owners, "Edda"), says)
	}
	tell := func(version int, name string, price int64) {
		told := message.Item{SKU: "JAR", Name: name, Price: price, Currency: "EUR", WeightG: 520}
		k.Take("stall", trial.Event("item", "JAR", version, told))
	}
	record := func() string {
		rec, err := k.Store.Record(ctx, "JAR")
		require.NoError(t, err)
		return fmt.Sprint(rec.Name, " ", rec.Price, " ", rec.WeightG)
	}
	require.NoError(t, k.SetOwners(ctx, map[string]string{"name": "stall", "weight_g": "stall"}, "Edda"))
	tell(1, "Their jar", 1500)
	assert.Equal(t, "Their jar 1500 520", record(), "nobody said whose word counts for the price")
	require.NoError(t, k.SetOwners(ctx, map[string]string{"price": "ours"}, "Edda"))
	tell(2, "Their jar", 1700)
	assert.Equal(t, "Their jar 1500 520", record(), "the price is ours")
	owners, err := k.Owners(ctx)
	require.NoError(t, err)
	assert.Equal(t, "stall", owners["name"])
	assert.Equal(t, "ours", owners["price"])
	assert.Empty(t, owners["gtin"])
	assert.NotContains(t, owners, "sku")

	require.NoError(t, k.SetOwners(ctx, map[string]string{"name": "ours", "price": "stall"}, "Edda"))
	tell(3, "Another name", 1600)
	assert.Equal(t, "Their jar 1600 520", record())
	story, err := k.Store.Timeline(ctx, "item", 1)
	require.NoError(t, err)
	assert.Contains(t, story[len(story)-1].Text, "its word does not count for name")
	k.Holds()
}

// TestAnItemToldByAnotherSystem is added whole, or refused with its record; the ones behind it come in.
func TestAnItemToldByAnotherSystem(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(1, "JAR")
	require.NoError(t, k.CreateItem(ctx, catalog.Item{SKU: "VEIL", Name: "Veil", GTIN: "2007100014508"}, "Edda"))
	k.Take("stall",
		trial.Event("item", "1", 1, message.Item{SKU: "ROLL", Name: "A roll", Price: 250, Currency: "EUR", Groups: []message.OptionGroup{
			{
				Code:    "spread",
				Name:    "Spread",
				Least:   1,
				Most:    1,
				Choices: []message.OptionChoice{{Code: "honey", Name: "Honey", Price: 40}},
			}}}),
		trial.Event("item", "2", 1, message.Item{SKU: "BUN", Name: "A bun", Groups: []message.OptionGroup{
			{Code: "void", Name: "Void", Most: 1}}}),
		trial.Event("item", "3", 1, message.Item{SKU: "HAT", Name: "A hat", GTIN: "2007100014508"}),
		trial.Event("item", "4", 1, message.Item{SKU: "SOCK", Name: "A sock"}))
	rec, err := k.Store.Record(ctx, "ROLL")
	require.NoError(t, err)
	assert.Equal(t, catalog.Prepared, rec.Kind)
	assert.Equal(t, []string{"spread"}, rec.Groups)
	_, err = k.Store.Record(ctx, "SOCK")
	require.NoError(t, err, "what stands behind a refused one comes in")
	_, err = k.Store.Record(ctx, "BUN")
	require.ErrorIs(t, err, store.ErrNotFound)
	texts := ""
	for _, e := range k.Exceptions() {
		texts += e.Text + "\n"
	}
	assert.Contains(t, texts, "no choices")
	assert.Contains(t, texts, "2007100014508")
	k.Holds()
}

// TestTooMuchToPublishIsRefused: nothing is published in part and called done.
func TestTooMuchToPublishIsRefused(t *testing.T) {
	k := trial.New(t)
	k.JoinShelf()
	many := make([]string, 5001)
	for i := range many {
		many[i] = fmt.Sprint("SKU-", i)
	}
	_, err := k.PublishPreview(t.Context(), "shelf", listing.Selection{SKUs: many})
	require.ErrorContains(t, err, "more than 5000 items are meant")
	var refused *engine.Refused
	require.ErrorAs(t, err, &refused)
}

// TestWhatIsSaidOnOneChannelOnly goes out there at once, where we published the listing, and not elsewhere.
func TestWhatIsSaidOnOneChannelOnly(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.JoinShelf()
	k.Stock(6, "JAR")
	k.On("shelf", "/items", func(trial.Call) (int, any) { return 200, map[string]any{"id": "SH-1"} })
	pick := listing.Selection{SKUs: []string{"JAR"}}
	p, err := k.PublishPreview(ctx, "shelf", pick)
	require.NoError(t, err)
	_, err = k.Publish(ctx, "shelf", pick, p.Digest, "Edda")
	require.NoError(t, err)
	k.Settle()
	l := only(t, k, "SH-1")
	before := len(k.Sent("shelf", "/items"))
	require.NoError(t, k.SetOwn(ctx, l.ID, listing.Own{Title: "A jar for the shelf", Price: 1100}, "Edda"))
	k.Settle()
	sent := k.Sent("shelf", "/items")
	require.Len(t, sent, before+1)
	assert.Equal(t, "A jar for the shelf", sent[before].Body["title"])
	assert.Equal(t, 1100.0, sent[before].Body["price"])
	require.NoError(t, k.SetOwn(ctx, l.ID, listing.Own{Title: "A jar for the shelf", Price: 1100}, "Edda"))
	k.Settle()
	assert.Len(t, k.Sent("shelf", "/items"), before+1, "the same again says nothing new")
	require.NoError(t, k.SetOwn(ctx, l.ID, listing.Own{}, "Edda"))
	k.Settle()
	sent = k.Sent("shelf", "/items")
	assert.Equal(t, "A JAR", sent[len(sent)-1].Body["title"], "what is said no more is the item's own again")
	require.ErrorIs(t, k.SetOwn(ctx, 999, listing.Own{Title: "x"}, "Edda"), store.ErrNotFound)
	k.Holds()
}

// TestOffersSayWhatMayBeShown, and whether it is sent.
func TestOffersSayWhatMayBeShown(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(5, "JAR")
	k.Listed("JAR")
	k.Take("stall", trial.Event("listing", "L-9", 1, message.Listing{SKU: "GHOST", Title: "A ghost", Currency: "EUR"}))
	k.Sell("S-1", trial.Units("JAR", 2))
	list, err := k.Store.FindListings(ctx, store.ListingFilter{Limit: 10})
	require.NoError(t, err)
	suggested := make([]listing.Suggested, len(list))
	for i, l := range list {
		suggested[i].Listing = l
	}
	offers, err := k.Offers(ctx, suggested)
	require.NoError(t, err)
	for i, l := range list {
		want := listing.Offered{}
		if l.ItemID != 0 {
			want = listing.Offered{Allowed: 3, On: true}
		}
		assert.Equal(t, want, offers[i], l.SKU)
	}
}
