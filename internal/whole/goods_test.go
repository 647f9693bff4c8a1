package whole

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"

	"openrelay/internal/client"
	"openrelay/internal/core/catalog"
	"openrelay/internal/core/stock"
	"openrelay/internal/demo"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/listing"
	"openrelay/internal/standin"
	"openrelay/internal/wire"
)

// lies is the level of an item at a location.
func lies(t *testing.T, w *demo.World, sku, location string) wire.Level {
	t.Helper()
	v, err := w.Client.Item(t.Context(), sku)
	require.NoError(t, err)
	for _, l := range v.Levels {
		if l.Location == location {
			return l
		}
	}
	return wire.Level{}
}

// sale is a sale of some units of an item.
func sale(sku string, n int64) standin.Sale {
	s := jars(1)
	s.Lines = []standin.SaleLine{{SKU: sku, Qty: n}}
	return s
}

func refused(t *testing.T, err error, say string) {
	t.Helper()
	require.ErrorContains(t, err, say)
	require.Contains(t, []int{http.StatusConflict, http.StatusUnprocessableEntity}, client.StatusOf(err), err)
}

// shows waits until a store shows a quantity.
func shows(t *testing.T, h *standin.Hedgerow, sku string, want int64) {
	t.Helper()
	require.Eventually(t, func() bool {
		return h.Shelf()[sku] == want
	}, 15*time.Second, 15*time.Millisecond, "%s: %d is to be shown, it shows %d", sku, want, h.Shelf()[sku])
}

func TestAKitIsSoldPickedAndShippedByItsParts(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	c := w.Client
	frames, roof := lies(t, w, "FRAMES-10", "alder"), lies(t, w, "HIVE-ROOF", "alder")
	body, floor := lies(t, w, "HIVE-BODY", "alder"), lies(t, w, "HIVE-FLOOR", "alder")
	kits := min(frames.Available/2, body.Available/2, roof.Available, floor.Available)
	shows(t, w.Morrow, "HIVE-STARTER", kits)

	_, name, err := w.Morrow.Place(sale("HIVE-STARTER", 2))
	require.NoError(t, err)
	eventually(t, "the order", func() bool { s, _ := orderOf(t, w, name); return s == "ready" })
	require.Equal(t, frames.Allocated+4, lies(t, w, "FRAMES-10", "alder").Allocated)
	shows(t, w.Morrow, "HIVE-STARTER", kits-2)
	eventually(t, "the other store to show fewer bodies", func() bool {
		return w.Morrow.Shelf()["HIVE-BODY"] == lies(t, w, "HIVE-BODY", "alder").Available
	})

	// A kit that is changed later does not change what was sold.
	kit, err := c.Record(ctx, "HIVE-STARTER")
	require.NoError(t, err)
	changed := kit
	changed.Parts = []catalog.Part{{SKU: "HIVE-FLOOR", Quantity: 1}, {SKU: "HIVE-BODY", Quantity: 1}}
	_, err = c.EditItem(ctx, kit.SKU, changed)
	require.NoError(t, err)
	s, err := c.Pick(ctx, name)
	require.NoError(t, err)
	v, err := c.Shipment(ctx, s)
	require.NoError(t, err)
	require.Len(t, v.Wants, 4)
	for _, want := range v.Wants {
		require.Equal(t, "HIVE-STARTER", want.KitSKU)
		_, err = c.Scan(ctx, s, want.SKU, want.Bin, want.Left())
		require.NoError(t, err)
	}
	o, err := c.Order(ctx, name)
	require.NoError(t, err)
	require.Equal(t, int64(2), o.Lines[0].Picked, "a kit counts as picked when its last part is there")
	_, err = c.Pack(ctx, s, "long", 0, nil)
	require.ErrorContains(t, err, "Long carton", "two kits are too much for a carton")
	require.NoError(t, w.Morrow.Cancel(mustID(t, w, name)))
	eventually(t, "all to be released", func() bool { return lies(t, w, "FRAMES-10", "alder").Allocated == frames.Allocated })

	// Without one of its parts there is no kit, and that is said.
	changed, err = c.Record(ctx, kit.SKU)
	require.NoError(t, err)
	changed.Parts = kit.Parts
	_, err = c.EditItem(ctx, kit.SKU, changed)
	require.NoError(t, err)
	_, err = c.Archive(ctx, "HIVE-ROOF", true)
	require.NoError(t, err)
	shows(t, w.Morrow, "HIVE-STARTER", 0)
	why, err := c.Why(ctx, "morrow", "HIVE-STARTER")
	require.NoError(t, err)
	require.Equal(t, "Its component HIVE-ROOF is archived", why.Steps[len(why.Steps)-1].Text)
	_, err = c.Archive(ctx, "HIVE-ROOF", false)
	require.NoError(t, err)
	shows(t, w.Morrow, "HIVE-STARTER", kits)
	clean(t, w)
}

// mustID is a store's own id of an order.
func mustID(t *testing.T, w *demo.World, name string) string {
	t.Helper()
	o, err := w.Client.Order(t.Context(), name)
	require.NoError(t, err)
	return strings.TrimPrefix(o.Record.URL[strings.LastIndex(o.Record.URL, "/"):], "/")
}

func TestMadeToOrderNeedsNoStock(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	shows(t, w.Morrow, "PLAQUE-S", stock.WithoutStock)
	_, name, err := w.Morrow.Place(sale("PLAQUE-S", 3))
	require.NoError(t, err)
	eventually(t, "the order", func() bool { s, _ := orderOf(t, w, name); return s == "ready" })
	shows(t, w.Morrow, "PLAQUE-S", stock.WithoutStock) // the store took three off, and is told again
	v, err := w.ShipOne(ctx, name)
	require.NoError(t, err)
	require.Equal(t, "shipped", v[0].State)
	_, err = w.Client.Adjust(ctx, "PLAQUE-S", "alder", 5, "found")
	refused(t, err, "holds no stock")
	it, err := w.Client.Item(ctx, "PLAQUE-S")
	require.NoError(t, err)
	require.Empty(t, it.Movements, "nothing moved in the ledger")
	clean(t, w)
}

// TestTwoReceiptsAtOnce: two people receive the same delivery at the same moment. It is received once.
func TestTwoReceiptsAtOnce(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	c := w.Client
	before := lies(t, w, "SMOKER-M", "alder")
	p, err := c.AddPurchase(ctx, inventory.NewPurchase{Number: "PO-77", Supplier: "Copperlatch Works", Location: "alder",
		Expected: "2026-12-01", Lines: []inventory.Quantity{{SKU: "SMOKER-M", Quantity: 10}}})
	require.NoError(t, err)
	require.Equal(t, int64(10), lies(t, w, "SMOKER-M", "alder").OnOrder)
	errs := make([]error, 8)
	var wg sync.WaitGroup
	for i := range errs {
		wg.Go(func() { _, errs[i] = c.Receive(ctx, p.Number, []inventory.Arrival{{Code: "SMOKER-M", Quantity: 10}}) })
	}
	wg.Wait()
	took := 0
	for _, err := range errs {
		if err == nil {
			took++
			continue
		}
		refused(t, err, "more than is to come")
	}
	require.Equal(t, 1, took)
	require.Equal(t, before.OnHand+10, lies(t, w, "SMOKER-M", "alder").OnHand)
	_, err = c.Receive(ctx, p.Number, []inventory.Arrival{{Code: "SMOKER-M", Quantity: 2, Over: true}}, client.Key("over"))
	require.NoError(t, err)
	_, err = c.Receive(ctx, p.Number, []inventory.Arrival{{Code: "SMOKER-M", Quantity: 2, Over: true}}, client.Key("over"))
	require.NoError(t, err)
	got := lies(t, w, "SMOKER-M", "alder")
	require.Equal(t, []int64{before.OnHand + 12, 0}, []int64{got.OnHand, got.OnOrder}, "the same request twice is one receipt")
	_, err = c.Receive(ctx, p.Number, []inventory.Arrival{{Code: "BRUSH-HAIR"}})
	refused(t, err, "not on purchase order")
	_, err = c.ClosePurchase(ctx, p.Number)
	require.NoError(t, err)
	_, err = c.Receive(ctx, p.Number, []inventory.Arrival{{Code: "SMOKER-M", Over: true}})
	refused(t, err, "closed")
	clean(t, w)
}

func TestATransferIsLostOnTheWay(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	c := w.Client
	from, to := lies(t, w, "VEIL-SQUARE", "alder"), lies(t, w, "VEIL-SQUARE", "mill")
	x, err := c.AddTransfer(ctx,
		inventory.NewTransfer{From: "alder", To: "mill", Lines: []inventory.Quantity{{SKU: "VEIL-SQUARE", Quantity: 9}}})
	require.NoError(t, err)
	require.Equal(t, from, lies(t, w, "VEIL-SQUARE", "alder"), "nothing moves before it is sent")
	_, err = c.MoveTransfer(ctx, x.Number, "arrive", nil, "")
	refused(t, err, "draft")
	_, err = c.MoveTransfer(ctx, x.Number, "send", nil, "")
	require.NoError(t, err)
	require.Equal(t, from.OnHand-9, lies(t, w, "VEIL-SQUARE", "alder").OnHand)
	require.Equal(t, int64(9), lies(t, w, "VEIL-SQUARE", "mill").InTransit)
	shows(t, w.Morrow, "VEIL-SQUARE", from.Available-9+lies(t, w, "VEIL-SQUARE", "pier").Available)
	_, err = c.MoveTransfer(ctx, x.Number, "arrive", []inventory.Arrival{{Code: "VEIL-SQUARE", Quantity: 5}}, "")
	require.NoError(t, err)
	_, err = c.MoveTransfer(ctx, x.Number, "lose", nil, "")
	refused(t, err, "what became of it")
	x, err = c.MoveTransfer(ctx, x.Number, "lose", nil, "the van burned out")
	require.NoError(t, err)
	require.Equal(t, []any{"closed", int64(5), int64(4)}, []any{x.State, x.Arrived, x.Lost})
	got := lies(t, w, "VEIL-SQUARE", "mill")
	require.Equal(t, []int64{to.OnHand + 5, 0}, []int64{got.OnHand, got.InTransit})
	v, err := c.Item(ctx, "VEIL-SQUARE")
	require.NoError(t, err)
	require.Equal(t, "lost on the way: the van burned out", v.Movements[0].Reason)

	// What is promised to orders does not leave.
	x, err = c.AddTransfer(ctx,
		inventory.NewTransfer{From: "alder", To: "pier", Lines: []inventory.Quantity{{SKU: "VEIL-SQUARE", Quantity: 500}}})
	require.NoError(t, err)
	_, err = c.MoveTransfer(ctx, x.Number, "send", nil, "")
	refused(t, err, "are available there")
	_, err = c.MoveTransfer(ctx, x.Number, "drop", nil, "")
	require.NoError(t, err)
	clean(t, w)
}

// TestACountWhileOrdersHoldSome: units that were picked are on hand by the ledger and no longer in their bin;
// units that are sold between counting and posting stay sold.
func TestACountWhileOrdersHoldSome(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	c := w.Client
	_, name, err := w.Morrow.Place(sale("UNCAP-FORK", 4))
	require.NoError(t, err)
	eventually(t, "the order", func() bool { s, _ := orderOf(t, w, name); return s == "ready" })
	s, err := c.Pick(ctx, name)
	require.NoError(t, err)
	_, err = c.Scan(ctx, s, "UNCAP-FORK", "", 3)
	require.NoError(t, err)
	before := lies(t, w, "UNCAP-FORK", "alder")
	n, err := c.StartCount(ctx, "alder")
	require.NoError(t, err)
	n, err = c.CountItem(ctx, n.Number, inventory.Counted{Code: "UNCAP-FORK", Quantity: before.OnHand - 3 - 2}) // two are gone
	require.NoError(t, err)
	require.Equal(t, before.OnHand-3, n.Lines[0].Expected, "three lie on a cart")
	_, err = c.Adjust(ctx, "UNCAP-FORK", "alder", 10, "receipt in the meantime")
	require.NoError(t, err)
	_, err = c.EndCount(ctx, n.Number, "post")
	require.NoError(t, err)
	got := lies(t, w, "UNCAP-FORK", "alder")
	require.Equal(t, []int64{before.OnHand + 10 - 2, 4}, []int64{got.OnHand, got.Allocated})
	_, err = c.EndCount(ctx, n.Number, "post")
	refused(t, err, "posted")

	// One scan after the other adds up; a line can be taken away again.
	n, err = c.StartCount(ctx, "mill")
	require.NoError(t, err)
	for range 3 {
		n, err = c.CountItem(ctx, n.Number, inventory.Counted{Code: "SMOKER-L", Bin: "TABLE", Quantity: 1, Add: true})
		require.NoError(t, err)
	}
	require.Equal(t, []int64{3, 0}, []int64{n.Lines[0].Counted, n.Lines[0].Expected})
	_, err = c.Do(ctx, http.MethodDelete, "/counts/"+n.Number+"/lines?sku=SMOKER-L&bin=TABLE", nil, nil)
	require.NoError(t, err)
	_, err = c.EndCount(ctx, n.Number, "post")
	refused(t, err, "nothing was counted")
	clean(t, w)
}

func TestSerialNumbers(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	c := w.Client
	p, err := c.AddPurchase(ctx, inventory.NewPurchase{Supplier: "Copperlatch Works", Location: "alder",
		Lines: []inventory.Quantity{{SKU: "REFRACTOMETER", Quantity: 3}}})
	require.NoError(t, err)
	for _, bad := range [][]string{nil, {"R-1"}, {"R-1", "R-1"}, {"R-1", " "}} {
		_, err = c.Receive(ctx, p.Number, []inventory.Arrival{{Code: "REFRACTOMETER", Quantity: 2, Serials: bad}})
		require.Error(t, err, "%q", bad)
	}
	_, err = c.Receive(ctx, p.Number, []inventory.Arrival{{Code: "REFRACTOMETER", Quantity: 2, Serials: []string{"R-1", "R-2"}}})
	require.NoError(t, err)
	_, err = c.Receive(ctx, p.Number, []inventory.Arrival{{Code: "REFRACTOMETER", Serials: []string{"R-2"}}})
	refused(t, err, "R-2 of REFRACTOMETER is known already")
	_, name, err := w.Morrow.Place(sale("REFRACTOMETER", 1))
	require.NoError(t, err)
	eventually(t, "the order", func() bool { s, _ := orderOf(t, w, name); return s == "ready" })
	s, err := c.Pick(ctx, name)
	require.NoError(t, err)
	_, err = c.Scan(ctx, s, "REFRACTOMETER", "", 1)
	require.NoError(t, err)
	_, err = c.Pack(ctx, s, "small", 0, nil)
	refused(t, err, "has serial numbers")
	_, err = c.Pack(ctx, s, "small", 0, map[string][]string{"REFRACTOMETER": {"R-1", "R-2"}})
	refused(t, err, "more than the parcel has units")
	_, err = c.Pack(ctx, s, "small", 0, map[string][]string{"REFRACTOMETER": {"R-1"}})
	require.NoError(t, err)
	_, err = c.Pack(ctx, s, "small", 0, map[string][]string{"REFRACTOMETER": {"R-2"}}) // another after all
	require.NoError(t, err)
	rates, err := c.Rates(ctx, s)
	require.NoError(t, err)
	_, err = c.Ship(ctx, s, rates[0].Carrier, rates[0].Service)
	require.NoError(t, err)
	v, err := c.Item(ctx, "REFRACTOMETER")
	require.NoError(t, err)
	states := map[string]string{}
	for _, x := range v.Serials {
		states[x.Serial] = x.State
	}
	require.Equal(t, []string{"here", "gone"}, []string{states["R-1"], states["R-2"]})
	clean(t, w)
}

// TestALateCounterSale: more was sold over the counter than was known to be there. The sale stands, and it is
// flagged until there is something again.
func TestALateCounterSale(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	_, err := w.JoinTill(ctx, demo.Joining{Sources: []string{"mill"}})
	require.NoError(t, err)
	have := lies(t, w, "JACKET-S", "mill").OnHand
	w.Counterpane.EditShown("JACKET-S", have+50, "the till knows better")
	_, err = w.Counterpane.Sell(standin.DeskSale{SKU: "JACKET-S", Quantity: have + 4})
	require.NoError(t, err)
	again(t, w, "till", "orders in")
	eventually(t, "it is below nothing", func() bool { return lies(t, w, "JACKET-S", "mill").OnHand == -4 })
	flagged := func() bool {
		list, err := w.Client.Exceptions(ctx)
		require.NoError(t, err)
		for _, e := range list {
			if e.Cause == "negative stock" && e.SKU == "JACKET-S" {
				return true
			}
		}
		return false
	}
	require.True(t, flagged())
	rows, err := w.Client.Stock(ctx, "state=negative")
	require.NoError(t, err)
	require.Len(t, rows, 1)
	_, err = w.Client.Adjust(ctx, "JACKET-S", "mill", 6, "found behind the counter")
	require.NoError(t, err)
	require.False(t, flagged())
	clean(t, w)
}

func TestMatchingByAPerson(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	c := w.Client
	_, err := w.JoinTansy(ctx, sells)
	require.NoError(t, err)
	waiting := func() map[string]wire.Listing {
		list, err := c.Listings(ctx, "connection=tansy&match=to+match&limit=200")
		require.NoError(t, err)
		out := map[string]wire.Listing{}
		for _, l := range list {
			out[l.Number] = l
		}
		return out
	}
	gift := waiting()["88903"] // a SKU that stands twice there
	require.Contains(t, gift.Doubt, "carries the SKU VEIL-ROUND, too")
	before := lies(t, w, "VEIL-ROUND", "alder")
	sold, err := w.Tansy.SellNo("88903", 1)
	require.NoError(t, err)
	again(t, w, "tansy", "orders in")
	eventually(t, "the order waits", func() bool { s, _ := orderOf(t, w, sold); return s == "held" })
	require.Equal(t, before.Allocated, lies(t, w, "VEIL-ROUND", "alder").Allocated, "nothing is folded silently")
	require.Equal(t, int64(1), waiting()["88903"].Waiting)

	// Kept apart: an item of its own with a SKU of its own.
	_, err = c.CreateFrom(ctx, gift.ID, "")
	refused(t, err, "there is an item VEIL-ROUND already")
	_, err = c.CreateFrom(ctx, gift.ID, "VEIL-GIFT")
	require.NoError(t, err)
	stage, _ := orderOf(t, w, sold)
	require.Equal(t, "held", stage, "the item is known, and there is no stock of it yet")
	_, err = c.Adjust(ctx, "VEIL-GIFT", "alder", 5, "receipt")
	require.NoError(t, err)
	stage, _ = orderOf(t, w, sold)
	require.Equal(t, "ready", stage)

	// Folded on a person's word.
	_, err = c.Unmatch(ctx, gift.ID)
	require.NoError(t, err)
	l, err := c.Match(ctx, gift.ID, "VEIL-ROUND", true)
	require.NoError(t, err)
	require.Equal(t, []string{"VEIL-ROUND", "by a person"}, []string{l.Item, l.MatchedBy})
	sold, err = w.Tansy.SellNo("88903", 2)
	require.NoError(t, err)
	again(t, w, "tansy", "orders in")
	eventually(t, "the next order goes on by itself", func() bool { s, _ := orderOf(t, w, sold); return s == "ready" })

	// Ignored on purpose: visible, counted, reversible.
	bag := waiting()["88904"]
	_, err = c.Ignore(ctx, bag.ID, true)
	require.NoError(t, err)
	require.NotContains(t, waiting(), "88904")
	counts, err := c.ListingCounts(ctx)
	require.NoError(t, err)
	require.Equal(t, int64(1), counts[len(counts)-1].Ignored)
	again(t, w, "tansy", "listings in")
	require.NotContains(t, waiting(), "88904", "it stays so when it is read again")
	sold, err = w.Tansy.SellNo("88904", 1)
	require.NoError(t, err)
	again(t, w, "tansy", "orders in")
	eventually(t, "its order says so", func() bool {
		o, err := c.Order(ctx, sold)
		return err == nil && o.Stage == "held" && strings.Contains(o.Holds[0].Text, "ignored on purpose")
	})
	_, err = c.Ignore(ctx, bag.ID, false)
	require.NoError(t, err)
	require.Contains(t, waiting(), "88904")
	clean(t, w)
}

// TestAnItemMadeLaterMeetsItsOrder: an order for a SKU that nobody knows waits; when an item with this SKU is
// made, it goes on.
func TestAnItemMadeLaterMeetsItsOrder(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	s := jars(1)
	s.Lines = append(s.Lines, standin.SaleLine{SKU: "GIFT-WRAP", Title: "Gift wrap", Qty: 1, Price: 250})
	_, name, err := w.Morrow.Place(s)
	require.NoError(t, err)
	eventually(t, "the order waits", func() bool { st, _ := orderOf(t, w, name); return st == "held" })
	_, err = w.Client.CreateItem(ctx, catalog.Item{SKU: "GIFT-WRAP", Name: "Gift wrap", Kind: catalog.Charge, Price: 250, Currency: "EUR"})
	require.NoError(t, err)
	stage, _ := orderOf(t, w, name)
	require.Equal(t, "ready", stage)
	v, err := w.ShipOne(ctx, name)
	require.NoError(t, err)
	require.Len(t, v[0].Contents, 1, "nothing is picked for a charge")
	o := confirmed(t, w, name, 1)
	require.Equal(t, "shipped", o.Stage)
	eventually(t, "the store to know that all was sent", func() bool {
		o, err := w.Client.Order(ctx, name)
		return err == nil && o.Record.State == "sent"
	})
	clean(t, w)
}

func TestItemRecords(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	c := w.Client
	for say, it := range map[string]catalog.Item{
		"right check digit":        {SKU: "A", Name: "A", GTIN: "2007100010010"},
		"is another item's":        {SKU: "A", Name: "A", GTIN: gtinOf(t, w, "HIVE-TOOL")},
		"expected value to be one": {SKU: "A", Name: "A", Kind: "thing"},
		"at least one item":        {SKU: "A", Name: "A", Kind: catalog.Kit},
		"there is no item NOTHING": {SKU: "A", Name: "A", Kind: catalog.Kit, Parts: []catalog.Part{{SKU: "NOTHING", Quantity: 1}}},
		"holds no stock":           {SKU: "A", Name: "A", Kind: catalog.Kit, Parts: []catalog.Part{{SKU: "PLAQUE-S", Quantity: 1}}},
		"same options":             {SKU: "A", Name: "A", Family: "SUIT", Options: "size M, colour sand"},
		"has no value":             {SKU: "A", Name: "A", Options: "size"},
		"6 to 10 digits":           {SKU: "A", Name: "A", CustomsCode: "12"},
		"not a web address":        {SKU: "A", Name: "A", Images: []string{"javascript:alert(1)"}},
		"there is an item":         {SKU: "HIVE-TOOL", Name: "A"},
		"name: missing":            {SKU: "A"},
	} {
		_, err := c.CreateItem(ctx, it)
		refused(t, err, say)
	}
	it, err := c.CreateItem(ctx, catalog.Item{SKU: "SUIT-XXL-SAND", Family: "SUIT",
		Name: "Bee suit with veil, Sand, XXL", Options: "size XXL,colour  sand", Marks: []string{"Web ", "web", "gift"}, Price: 9400,
		Origin: "xw", CustomsCode: "6211.43"})
	require.NoError(t, err)
	require.Equal(t, []any{"size XXL, colour sand", []string{"gift", "web"}, "XW", "621143", "EUR"},
		[]any{it.Options, it.Marks, it.Origin, it.CustomsCode, it.Currency})
	stale := it
	it.Price = 9600
	it, err = c.EditItem(ctx, it.SKU, it)
	require.NoError(t, err)
	_, err = c.EditItem(ctx, it.SKU, stale)
	require.Equal(t, http.StatusPreconditionFailed, client.StatusOf(err), "two people do not overwrite each other: %v", err)
	list, err := c.Items(ctx, "q=xxl+sand&mark=gift")
	require.NoError(t, err)
	require.Len(t, list, 1)
	_, err = c.Archive(ctx, it.SKU, true)
	require.NoError(t, err)
	list, err = c.Items(ctx, "family=SUIT&limit=50")
	require.NoError(t, err)
	require.Len(t, list, 8, "an archived item is not among those that are sold")

	// A field belongs to one system.
	_, err = w.JoinTill(ctx, demo.Joining{Sources: []string{"mill"}})
	require.NoError(t, err)
	eventually(t, "the menu", func() bool { list, _ := c.Items(ctx, "kind=prepared"); return len(list) == 4 })
	_, err = c.Do(ctx, http.MethodPatch, "/field-owners", map[string]string{"price": "till"}, nil)
	require.NoError(t, err)
	soup, err := c.Record(ctx, "LUNCH-SOUP")
	require.NoError(t, err)
	require.Equal(t, []string{"SIDE", "EXTRA"}, soup.Groups)
	soup.Price = 1
	_, err = c.EditItem(ctx, soup.SKU, soup)
	refused(t, err, "the word of Mill Lane till counts for it")
	_, err = c.Do(ctx, http.MethodPatch, "/field-owners", map[string]string{"price": ""}, nil)
	require.NoError(t, err)
	x, err := c.Connection(ctx, "till")
	require.NoError(t, err)
	set := x.Settings
	set.Keep = []string{"item price"}
	_, err = c.SetSettings(ctx, "till", set, x.Revision)
	require.NoError(t, err)
	w.Counterpane.SetPrice("LUNCH-SOUP", 111)
	again(t, w, "till", "items in")
	soup, err = c.Record(ctx, "LUNCH-SOUP")
	require.NoError(t, err)
	require.Equal(t, int64(690), soup.Price, "a field that we keep is never overwritten from the other end")
	clean(t, w)
}

func gtinOf(t *testing.T, w *demo.World, sku string) string {
	t.Helper()
	it, err := w.Client.Record(t.Context(), sku)
	require.NoError(t, err)
	return it.GTIN
}

func TestPublishing(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	c := w.Client
	on := func(code string, change func(*engine.Settings)) {
		x, err := c.Connection(ctx, code)
		require.NoError(t, err)
		for _, f := range x.Feeds {
			if f.Kind == "items out" {
				require.False(t, f.On, "nothing is listed anywhere before somebody says so")
				_, err = c.SetFeed(ctx, code, f.Kind, true, "", f.Revision)
				require.NoError(t, err)
			}
		}
		x, err = c.Connection(ctx, code)
		require.NoError(t, err)
		set := x.Settings
		change(&set)
		_, err = c.SetSettings(ctx, code, set, x.Revision)
		require.NoError(t, err)
	}
	on("skep", func(s *engine.Settings) {
		s.Publish = engine.PublishSettings{Mark: "skep", Theirs: []string{"category"}}
	})
	calls := len(w.Skep.Shelf())

	// A new marked item goes out by itself.
	_, err := c.CreateItem(ctx, catalog.Item{SKU: "APRON", Name: "Apron with bees", Category: "Gifts", Marks: []string{"skep"},
		Price: 1900, Currency: "EUR"})
	require.NoError(t, err)
	_, err = c.CreateItem(ctx, catalog.Item{SKU: "MUG", Name: "Mug", Price: 990, Currency: "EUR"})
	require.NoError(t, err)
	eventually(t, "the apron on the shelf", func() bool { _, ok := w.Skep.Shelf()["APRON"]; return ok })
	require.Len(t, w.Skep.Shelf(), calls+1, "and nothing else")
	_, err = c.Adjust(ctx, "APRON", "alder", 12, "receipt")
	require.NoError(t, err)
	shows(t, w.Skep, "APRON", 10)

	// What is said on one channel only; what the channel owns is not sent; a change follows.
	list, err := c.Listings(ctx, "connection=skep&q=APRON")
	require.NoError(t, err)
	require.Equal(t, "live", list[0].State)
	_, err = c.SetOwn(ctx, list[0].ID, listing.Own{Title: "Apron, little bees", Price: 2100})
	require.NoError(t, err)
	eventually(t, "its own words", func() bool {
		it := w.Skep.Item("APRON")
		return it.Title == "Apron, little bees" && it.Price == 2100 && it.Group == ""
	})
	p, err := c.PreviewPublish(ctx, "skep", listing.Selection{SKUs: []string{"APRON", "MUG", "GIFT"}})
	refused(t, err, "there is no item GIFT")
	eventually(t, "its answer", func() bool {
		p, err = c.PreviewPublish(ctx, "skep", listing.Selection{SKUs: []string{"APRON", "MUG"}})
		return err == nil && p.Rows[0].Action == "nothing" && p.Rows[1].Action == "list"
	})
	require.Len(t, p.Requests, 1)
	require.Contains(t, p.Requests[0].Body, `"title":"Mug"`)
	require.NotContains(t, fmt.Sprint(p.Requests[0].Headers), "hr_", "secrets are blanked")
	mug, err := c.Record(ctx, "MUG")
	require.NoError(t, err)
	mug.Price = 1090
	_, err = c.EditItem(ctx, "MUG", mug)
	require.NoError(t, err)
	_, err = c.Publish(ctx, "skep", listing.Selection{SKUs: []string{"APRON", "MUG"}}, p.Digest)
	refused(t, err, "has changed since")
	p, err = c.PreviewPublish(ctx, "skep", listing.Selection{SKUs: []string{"MUG"}})
	require.NoError(t, err)
	n, err := c.Publish(ctx, "skep", listing.Selection{SKUs: []string{"MUG"}}, p.Digest)
	require.NoError(t, err)
	require.Equal(t, int64(1), n)
	eventually(t, "the mug", func() bool { return w.Skep.Item("MUG").Price == 1090 })

	// Archived, perhaps before the channel's answer was taken in: taken off where we put it.
	_, err = c.Archive(ctx, "MUG", true)
	require.NoError(t, err)
	eventually(t, "the mug to be gone", func() bool { return w.Skep.Item("MUG").Hidden })

	// Archived while its first message is out: it is taken off as soon as the channel has answered.
	_, err = c.CreateItem(ctx, catalog.Item{SKU: "RUSH", Name: "Rush skep", Currency: "EUR", Price: 4500, Description: "A skep of rush."})
	require.NoError(t, err)
	p, err = c.PreviewPublish(ctx, "skep", listing.Selection{SKUs: []string{"RUSH"}})
	require.NoError(t, err)
	_, err = c.Publish(ctx, "skep", listing.Selection{SKUs: []string{"RUSH"}}, p.Digest)
	require.NoError(t, err)
	_, err = c.Archive(ctx, "RUSH", true)
	require.NoError(t, err)
	eventually(t, "the skep to be gone", func() bool { return w.Skep.Item("RUSH").Hidden })
	_, err = c.PreviewPublish(ctx, "plover", listing.Selection{Mark: "skep"})
	refused(t, err, "takes no items")
	clean(t, w)
}

// owed is how many units orders wait for: where both stores sell and people lower what they show, more can be
// sold than there is.
func owed(t *testing.T, w *demo.World, sku string) (units int64) {
	t.Helper()
	held, _, err := w.Client.Orders(t.Context(), "stage=held&limit=200")
	require.NoError(t, err)
	for _, row := range held {
		for _, l := range orderNow(t, w, row.Number).Lines {
			if l.SKU == sku {
				units += l.Waiting
			}
		}
	}
	return units
}

// TestTwoWaysInTheRunningRelay: sales, edits by people at both stores and adjustments of ours, while pushes come
// late, twice and mixed up. In the end both stores show what is there, and no unit was invented or lost.
func TestTwoWaysInTheRunningRelay(t *testing.T) {
	for _, seed := range []uint64{1, 2} {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			w := openWorld(t, false)
			ctx := t.Context()
			rng := rand.New(rand.NewPCG(seed, 3))
			shops := map[string]*standin.Hedgerow{"morrow": w.Morrow, "skep": w.Skep}
			for code, h := range shops {
				x, err := w.Client.Connection(ctx, code)
				require.NoError(t, err)
				set := x.Settings
				set.StockIn = "take in"
				_, err = w.Client.SetSettings(ctx, code, set, x.Revision)
				require.NoError(t, err)
				h.Misbehave(standin.Faults{PushTwice: true, PushMixed: true, PushLateMS: 15})
			}
			skus := []string{"HIVE-TOOL", "JAR-500-T12", "WAX-1KG"}
			start := map[string]int64{}
			for _, sku := range skus {
				start[sku] = lies(t, w, sku, "alder").OnHand
			}
			sold, adjusted := map[string]int64{}, map[string]int64{}
			for range 120 {
				sku := skus[rng.IntN(len(skus))]
				h := []*standin.Hedgerow{w.Morrow, w.Skep}[rng.IntN(2)]
				switch rng.IntN(4) {
				case 0, 1:
					n := 1 + rng.Int64N(3)
					if _, _, err := h.Place(sale(sku, n)); err == nil {
						sold[sku] += n
					}
				case 2:
					require.NoError(t, h.EditStock(sku, rng.Int64N(90), "a person"))
				case 3:
					by := 1 + rng.Int64N(5)
					_, err := w.Client.Adjust(ctx, sku, "alder", by, "found")
					require.NoError(t, err)
					adjusted[sku] += by
				}
				if rng.IntN(3) == 0 {
					time.Sleep(time.Duration(rng.IntN(20)) * time.Millisecond)
				}
			}
			for _, h := range shops {
				h.Misbehave(standin.Faults{})
			}
			for _, sku := range skus {
				want := start[sku] + adjusted[sku] - sold[sku] + w.Morrow.Edited(sku) + w.Skep.Edited(sku)
				pier := lies(t, w, sku, "pier").OnHand
				eventually(t, fmt.Sprintf("%s: all to be known", sku), func() bool {
					return lies(t, w, sku, "alder").Available+lies(t, w, sku, "pier").Available-owed(t, w, sku) == want+pier
				})
				eventually(t, sku+": both stores agree", func() bool {
					m, err1 := w.Client.Why(ctx, "morrow", sku)
					s, err2 := w.Client.Why(ctx, "skep", sku)
					return errors.Join(err1, err2) == nil && w.Morrow.Shelf()[sku] == m.Allowed && w.Skep.Shelf()[sku] == s.Allowed
				})
			}
			require.NoError(t, w.Wait(ctx, 10*time.Second, "quiet", func() (bool, error) { return w.Quiet(context.WithoutCancel(ctx)) }))
			clean(t, w)
		})
	}
}

// TestAChannelShowsWhatNobodySent: found by comparing, and corrected in one go.
func TestAChannelShowsWhatNobodySent(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	how := sells
	how.Stock = true
	_, err := w.JoinTansy(ctx, how)
	require.NoError(t, err)
	require.NoError(t, w.Wait(ctx, 15*time.Second, "quiet", func() (bool, error) { return w.Quiet(ctx) }))
	differ := func(n int) (got wire.Compared) { // a reading that began earlier may still come in
		eventually(t, fmt.Sprintf("%d differences", n), func() bool {
			again(t, w, "tansy", "listings in")
			got, err = w.Client.Compare(ctx, "tansy")
			return err == nil && len(got.Differences) == n
		})
		return got
	}
	differ(0) // what was told by joining has been carried out there
	require.NoError(t, w.Tansy.EditShown("SMOKER-L", 999, "a ghost"))
	got := differ(1)
	require.Contains(t, got.Differences[0].Guess, "nobody sent")
	n, err := w.Client.Correct(ctx, "tansy")
	require.NoError(t, err)
	require.Equal(t, 1, n)
	eventually(t, "it is right again", func() bool { return w.Tansy.Shows()["SMOKER-L"] == got.Differences[0].Should })
}

// TestThePastIsExplained: the quantity of a moment ago, by the policy of that moment.
func TestThePastIsExplained(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	c := w.Client
	_, name, err := w.Skep.Place(sale("SMOKER-M", 5))
	require.NoError(t, err)
	eventually(t, "the order", func() bool { s, _ := orderOf(t, w, name); return s == "ready" })
	require.NoError(t, w.Wait(ctx, 10*time.Second, "quiet", func() (bool, error) { return w.Quiet(ctx) }))
	then := time.Now()
	was, err := c.Why(ctx, "skep", "SMOKER-M")
	require.NoError(t, err)
	list, err := c.Listings(ctx, "connection=skep&q=SMOKER-M")
	require.NoError(t, err)
	ten, percent := int64(10), int64(20)
	_, err = c.SetPolicy(ctx, list[0].ID, stock.Override{Buffer: &ten, BufferPercent: &percent})
	require.NoError(t, err)
	_, err = c.Adjust(ctx, "SMOKER-M", "alder", 40, "found")
	require.NoError(t, err)
	_, err = w.ShipOne(ctx, name)
	require.NoError(t, err)
	require.NoError(t, w.Wait(ctx, 10*time.Second, "quiet", func() (bool, error) { return w.Quiet(ctx) }))
	now, err := c.Why(ctx, "skep", "SMOKER-M")
	require.NoError(t, err)
	sum := lies(t, w, "SMOKER-M", "alder").Available
	require.Equal(t, sum-10-(sum*20+99)/100, now.Allowed)
	back, err := c.WhyAt(ctx, "skep", "SMOKER-M", then)
	require.NoError(t, err)
	require.Equal(t, was.Steps, back.Steps, "the sum of that moment, by the policy of that moment")
	require.True(t, back.Known)
	require.Equal(t, was.Shows, back.Shows)
	require.Equal(t, []string{name}, []string{mustOrder(t, w, back.Promised[0].OrderNumber)})
	v, err := c.ItemAt(ctx, "SMOKER-M", then)
	require.NoError(t, err)
	require.Equal(t, int64(5), v.Levels[0].Allocated)
	_, err = c.WhyAt(ctx, "skep", "SMOKER-M", then.Add(time.Hour))
	refused(t, err, "has not come yet")
	_, err = c.WhyAt(ctx, "skep", "SMOKER-M", then.AddDate(0, -4, 0))
	refused(t, err, "90 days")
}

func mustOrder(t *testing.T, w *demo.World, number string) string {
	t.Helper()
	o, err := w.Client.Order(t.Context(), number)
	require.NoError(t, err)
	return o.Record.Number
}

// TestTables: CSV files are looked at row by row and change nothing; each row that is refused says why; carried
// out, they do what was shown.
func TestTables(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	c := w.Client
	text := "SKU;Name;Price;Marks;Parts;GTIN\r\n" +
		"KÖNIGIN;\"Königin, \r\nmarkiert\";39,90;web;;\r\n" + // a new one, in two lines, with a decimal comma
		"HIVE-TOOL;;13.90;;;\r\n" + // a change
		"SMOKER-M;Smoker, medium;;;;\r\n" + // as it is
		"SET-1;Set of two;20;;2×HIVE-TOOL 1xSMOKER-M;\r\n" + // a kit
		"BAD-1;Bad;;;;123\r\n" +
		"BAD-2;;1;;;\r\n" +
		"HIVE-TOOL;;15;;;\r\n" +
		"BAD-3;Bad;ten;;;\r\n"
	raw, err := charmap.Windows1252.NewEncoder().Bytes([]byte(text))
	require.NoError(t, err)
	s, err := c.HandIn(ctx, "items", "items.csv", bytes.NewReader(raw))
	require.NoError(t, err)
	require.Equal(t, []any{"checked", "Windows-1252", ";", int64(8)}, []any{s.State, s.Form.Encoding, s.Form.Separator, s.Total})
	rows, err := c.SheetRows(ctx, s.ID, "limit=100")
	require.NoError(t, err)
	verdicts := map[string]string{}
	for _, r := range rows {
		verdicts[fmt.Sprint(r.Row)] = strings.TrimSpace(r.Verdict + " " + r.Reason)
	}
	require.Equal(t, map[string]string{"2": "add", "4": "change", "5": "nothing", "6": "add",
		"7": "refused gtin: 123 is not a GTIN with a right check digit",
		"8": "refused name: missing", "9": "refused HIVE-TOOL stands in row 4 already",
		"10": `refused price: "ten" is no amount such as 12.90`}, verdicts)
	require.Equal(t, "price 12.90 → 13.90", rows[1].Changes)
	_, err = c.Record(ctx, "SET-1")
	require.Equal(t, http.StatusNotFound, client.StatusOf(err), "nothing is changed by looking")
	s, err = c.ApplySheet(ctx, s.ID)
	require.NoError(t, err)
	require.Equal(t, []any{"done", int64(3)}, []any{s.State, s.Done})
	it, err := c.Record(ctx, "KÖNIGIN")
	require.NoError(t, err)
	require.Equal(t, []any{"Königin, \nmarkiert", int64(3990), []string{"web"}}, []any{it.Name, it.Price, it.Marks})
	kit, err := c.Record(ctx, "SET-1")
	require.NoError(t, err)
	require.Equal(t, catalog.Kit, kit.Kind, "what is made of parts is a kit")
	_, err = c.ApplySheet(ctx, s.ID)
	refused(t, err, "done")

	for _, bad := range []struct{ kind, text, say string }{
		{"items", "", "empty"}, {"items", "name\nx\n", "column sku is missing"},
		{"items", "sku,colour\nA,red\n", `column "colour" is not known`}, {"levels", "sku\nA\n", "not handed in"},
		{"dreams", "sku\nA\n", "no kind of sheet"},
	} {
		_, err = c.HandIn(ctx, bad.kind, "x.csv", strings.NewReader(bad.text))
		refused(t, err, bad.say)
	}
	do := func(kind, text string, refusals int) wire.Sheet {
		t.Helper()
		s, err := c.HandIn(ctx, kind, kind+".csv", strings.NewReader(text))
		require.NoError(t, err)
		s, err = c.ApplySheet(ctx, s.ID)
		require.NoError(t, err)
		require.Equal(t, "done", s.State, s.Error)
		rows, err := c.SheetRows(ctx, s.ID, "verdict=refused")
		require.NoError(t, err)
		require.Len(t, rows, refusals, "%+v", rows)
		return s
	}
	do("counts", "sku,location,bin,counted\nHIVE-TOOL,alder,,100\nHIVE-TOOL,mill,,3\nNOBODY,alder,,3\nPLAQUE-S,alder,,1\n", 2)
	require.Equal(t, int64(100), lies(t, w, "HIVE-TOOL", "alder").OnHand)
	do("adjustments",
		"sku,location,bin,change,reason\nHIVE-TOOL,alder,,-7,broken\nHIVE-TOOL,alder,E-12-5,+2,found\nHIVE-TOOL,alder,,-5000,too many\n",
		1)
	require.Equal(t, int64(95), lies(t, w, "HIVE-TOOL", "alder").OnHand)
	do("purchases",
		"number,supplier,location,sku,quantity\nPO-1,Copperlatch,alder,HIVE-TOOL,50\nPO-1,Copperlatch,alder,SMOKER-M,5\n"+
			"PO-2,Copperlatch,alder,BOOK-QUEENS,5\nPO-3,Copperlatch,nowhere,BOOK-QUEENS,5\n", 1)
	require.Equal(t, int64(50), lies(t, w, "HIVE-TOOL", "alder").OnOrder)
	do("receipts", "number,sku,quantity,bin\nPO-1,HIVE-TOOL,48,A-09-1\nPO-2,BOOK-QUEENS,99,\n", 1)
	require.Equal(t, []int64{143, 2}, []int64{lies(t, w, "HIVE-TOOL", "alder").OnHand, lies(t, w, "HIVE-TOOL", "alder").OnOrder})
	do("transfers", "transfer,from,to,sku,quantity\nto the shop,alder,mill,HIVE-TOOL,9\nto the shop,alder,mill,SMOKER-M,2\n", 0)
	list, err := c.Transfers(ctx, "state=draft")
	require.NoError(t, err)
	require.Equal(t, int64(11), list[0].Units)

	// What is saved can be handed in again, and changes nothing.
	for _, kind := range []string{"items", "prices", "matches"} {
		var b bytes.Buffer
		require.NoError(t, c.Save(ctx, kind, &b))
		s, err := c.HandIn(ctx, kind, kind+".csv", &b)
		require.NoError(t, err)
		for _, n := range s.Counts {
			require.Equal(t, "nothing", n.Verdict, kind)
		}
		require.Positive(t, s.Total)
	}
	for _, kind := range []string{"levels", "listings", "purchases", "transfers"} {
		var b bytes.Buffer
		require.NoError(t, c.Save(ctx, kind, &b))
		require.Greater(t, strings.Count(b.String(), "\r\n"), 2, kind)
	}
	clean(t, w)
}
