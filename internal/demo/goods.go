package demo

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/listing"
	"openrelay/internal/standin"
	"openrelay/internal/wire"
)

// goods goes through catalog and stock: what waits to be matched, a receipt, a count, a sale at the till, an
// edit in the store's admin, what is listed anew, and a comparison that ends without a difference.
func (k *walk) goods(ctx context.Context) error {
	for _, step := range []func(context.Context) error{
		k.matching, k.kit, k.receipt, k.counting, k.tillSale, k.adminEdit, k.storeRoom, k.listing, k.menu, k.comparing, k.yesterday} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return nil
}

// shown waits until a store shows a quantity of an item.
func (k *walk) shown(ctx context.Context, url, sku string, want int64) error {
	_, err := until(ctx, 8*time.Second, fmt.Sprintf("%s to show %d of %s", url, want, sku), func() (bool, error) {
		var shelf shopStock
		err := control(ctx, "GET", url+"/control/api/stock", nil, &shelf)
		return shelf[sku] == want, err
	})
	return err
}

func (k *walk) matching(ctx context.Context) error {
	w, c := k.w, k.w.Client
	k.step("A listing that no item is known for, and the order that waits for it")
	if _, err := c.RunNow(ctx, "tansy", message.ListingsIn, ""); err != nil {
		return err
	}
	sold, err := w.Tansy.Sell(standin.DeskSale{SKU: "TNS-SMK-M", Quantity: 2})
	if err != nil {
		return err
	}
	var o wire.Order
	if _, err := until(ctx, 20*time.Second, "the marketplace's order", func() (bool, error) {
		o, err = c.Order(ctx, sold)
		if client.StatusOf(err) == http.StatusNotFound {
			_, err = c.RunNow(ctx, "tansy", message.OrdersIn, "")
			return false, err
		}
		return err == nil, err
	}); err != nil {
		return err
	}
	k.check(o.Stage == "held" && len(o.Holds) == 1, "order %s is %s: %s", o.Number, o.Stage, o.Holds[0].Text)
	list, err := c.Listings(ctx, "connection=tansy&match=to+match")
	if err != nil {
		return err
	}
	var found wire.Listing
	for _, l := range list {
		if l.SKU == "TNS-SMK-M" {
			found = l
		}
		best := "nothing is like it"
		if len(l.Suggestions) > 0 {
			best = fmt.Sprintf("%d %% %s, for: %s", l.Suggestions[0].Score, l.Suggestions[0].SKU,
				strings.Join(l.Suggestions[0].Reasons, ", "))
		}
		k.saw("%-10s %-28s %s%s", l.SKU, l.Title, map[bool]string{true: l.Doubt + "; "}[l.Doubt != ""], best)
	}
	k.check(len(found.Suggestions) > 0 && found.Suggestions[0].SKU == "SMOKER-M" && found.Waiting == 1,
		"%q is likely SMOKER-M; one order waits for it", found.Title)
	if _, err := c.Match(ctx, found.ID, "SMOKER-M", false); err != nil {
		return err
	}
	if o, err = c.Order(ctx, o.Number); err != nil {
		return err
	}
	k.check(o.Stage == "ready", "matched, and the order goes on by itself: it is %s", o.Stage)
	return nil
}

func (k *walk) kit(ctx context.Context) error {
	w, c := k.w, k.w.Client
	k.step("A kit of four items")
	why, err := c.Why(ctx, "morrow", "HIVE-STARTER")
	if err != nil {
		return err
	}
	for _, s := range why.Steps {
		k.saw("%+6d  %s", s.Change, s.Text)
	}
	before := why.Allowed
	if _, err := c.Adjust(ctx, "HIVE-ROOF", "alder", -1, "dented"); err != nil {
		return err
	}
	if why, err = c.Why(ctx, "morrow", "HIVE-ROOF"); err != nil {
		return err
	}
	if err := k.shown(ctx, w.MorrowURL, "HIVE-ROOF", why.Allowed); err != nil {
		return err
	}
	if why, err = c.Why(ctx, "morrow", "HIVE-STARTER"); err != nil {
		return err
	}
	k.check(why.Allowed <= before, "one hive roof less: %d kits can be sold (%d before)", why.Allowed, before)
	return k.shown(ctx, w.MorrowURL, "HIVE-STARTER", why.Allowed)
}

func (k *walk) receipt(ctx context.Context) error {
	w, c := k.w, k.w.Client
	k.step("A delivery: ordered, received by scan, serial numbers recorded")
	p, err := c.AddPurchase(ctx, inventory.NewPurchase{Supplier: "Copperlatch Works", Location: "alder",
		Lines: []inventory.Quantity{{SKU: "EXTRACTOR-3", Quantity: 2}, {SKU: "LID-63-100", Quantity: 30}}})
	if err != nil {
		return err
	}
	v, err := c.Item(ctx, "LID-63-100")
	if err != nil {
		return err
	}
	before := v.Levels[0]
	k.check(before.OnOrder == 30, "purchase order %s: %d of LID-63-100 on order, %d on hand", p.Number, before.OnOrder, before.OnHand)
	_, err = c.Receive(ctx, p.Number, []inventory.Arrival{{Code: "EXTRACTOR-3", Quantity: 2, Serials: []string{"EX-9001", "EX-9001"}}})
	k.check(client.StatusOf(err) == http.StatusConflict, "the same serial number twice is refused: %v", err)
	if _, err = c.Receive(ctx, p.Number,
		[]inventory.Arrival{{Code: "EXTRACTOR-3", Quantity: 2, Serials: []string{"EX-9001", "EX-9002"}}}); err != nil {
		return err
	}
	if _, err = c.Receive(ctx, p.Number, []inventory.Arrival{{Code: gtinOf("LID-63-100"), Quantity: 28, Bin: "B-02-1"}}); err != nil {
		return err
	}
	_, err = c.Receive(ctx, p.Number, []inventory.Arrival{{Code: "LID-63-100", Quantity: 5}})
	k.check(client.StatusOf(err) == http.StatusConflict, "more than was ordered is refused until it is meant: %v", err)
	if p, err = c.ClosePurchase(ctx, p.Number); err != nil {
		return err
	}
	if v, err = c.Item(ctx, "LID-63-100"); err != nil {
		return err
	}
	now := v.Levels[0]
	k.check(now.OnHand == before.OnHand+28 && now.OnOrder == 0, "%d of 30 came; closed with two short: %d on hand, %d on order", 28,
		now.OnHand, now.OnOrder)
	var bins []string
	for _, b := range now.Bins {
		bins = append(bins, fmt.Sprintf("%s: %d", b.Bin, b.OnHand))
	}
	k.saw("bins: %s", strings.Join(bins, ", "))
	why, err := c.Why(ctx, "morrow", "LID-63-100")
	if err != nil {
		return err
	}
	if err := k.shown(ctx, w.MorrowURL, "LID-63-100", why.Allowed); err != nil {
		return err
	}
	k.check(true, "the store shows %d", why.Allowed)
	return nil
}

func (k *walk) counting(ctx context.Context) error {
	w, c := k.w, k.w.Client
	k.step("A count, while orders hold some of it")
	const sku = "BRUSH-HAIR"
	if err := control(ctx, "POST", w.MorrowURL+"/control/api/orders",
		map[string]any{"customer": "Ina Brock", "lines": []map[string]any{{"sku": sku, "quantity": 3}},
			"delivery": map[string]any{"name": "Ina Brock", "street": "Lindenrow 2", "postcode": "41360", "town": "Harrowmere",
				"country": "XW", "method": "standard"}}, nil); err != nil {
		return err
	}
	var l wire.Level
	if _, err := until(ctx, 5*time.Second, "the sale", func() (bool, error) {
		v, err := c.Item(ctx, sku)
		if err == nil {
			l = v.Levels[0]
		}
		return err == nil && l.Allocated >= 3, err
	}); err != nil {
		return err
	}
	n, err := c.StartCount(ctx, "alder")
	if err != nil {
		return err
	}
	if n, err = c.CountItem(ctx, n.Number, inventory.Counted{Code: sku, Quantity: l.OnHand - 2}); err != nil {
		return err
	}
	k.check(n.Lines[0].Expected == l.OnHand, "count %s: %d counted where %d should lie", n.Number, n.Lines[0].Counted, n.Lines[0].Expected)
	if _, err = c.EndCount(ctx, n.Number, "post"); err != nil {
		return err
	}
	v, err := c.Item(ctx, sku)
	if err != nil {
		return err
	}
	k.check(v.Levels[0].OnHand == l.OnHand-2 && v.Levels[0].Allocated == l.Allocated, "posted: %d on hand, still %d allocated",
		v.Levels[0].OnHand, v.Levels[0].Allocated)
	return nil
}

func (k *walk) tillSale(ctx context.Context) error {
	w, c := k.w, k.w.Client
	k.step("A sale over the counter")
	const sku = "JACKET-S"
	var goods map[string]int64
	if err := control(ctx, "GET", w.CounterpaneURL+"/control/api/goods", nil, &goods); err != nil {
		return err
	}
	code := sku
	if _, ok := goods[code]; !ok {
		for g := range goods {
			if v, err := c.Item(ctx, g); err == nil && v.Item.Kind == catalog.Stocked && levelAt(v, "mill").OnHand > 3 {
				code = g
				break
			}
		}
	}
	before, err := c.Item(ctx, code)
	if err != nil {
		return err
	}
	if _, err := w.Counterpane.Sell(standin.DeskSale{SKU: code, Quantity: 2}); err != nil {
		return err
	}
	if _, err := c.RunNow(ctx, "till", message.OrdersIn, ""); err != nil {
		return err
	}
	var after wire.ItemView
	if _, err := until(ctx, 10*time.Second, "the counter sale", func() (bool, error) {
		after, err = c.Item(ctx, code)
		return err == nil && levelAt(after, "mill").OnHand == levelAt(before, "mill").OnHand-2, err
	}); err != nil {
		return err
	}
	k.check(true, "two of %s sold at the till: %d on hand at Mill Lane, %d before", code, levelAt(after, "mill").OnHand,
		levelAt(before, "mill").OnHand)
	return nil
}

func levelAt(v wire.ItemView, location string) wire.Level {
	for _, l := range v.Levels {
		if l.Location == location {
			return l
		}
	}
	return wire.Level{}
}

func (k *walk) adminEdit(ctx context.Context) error {
	w, c := k.w, k.w.Client
	k.step("An edit in the store's admin: put back, or taken in, by setting")
	const sku = "HIVE-TOOL"
	why, err := c.Why(ctx, "morrow", sku)
	if err != nil {
		return err
	}
	showed := why.Allowed
	edit := func(to int64) error {
		return control(ctx, "POST", w.MorrowURL+"/control/api/stock", map[string]any{"sku": sku, "quantity": to}, nil)
	}
	if err := edit(showed + 7); err != nil {
		return err
	}
	if err := k.shown(ctx, w.MorrowURL, sku, showed); err != nil {
		return err
	}
	k.check(true, "set to %d there; it was put back to %d", showed+7, showed)
	x, err := c.Connection(ctx, "morrow")
	if err != nil {
		return err
	}
	s := x.Settings
	s.StockIn = "take in"
	if _, err := c.SetSettings(ctx, "morrow", s, x.Revision); err != nil {
		return err
	}
	before, err := c.Item(ctx, sku)
	if err != nil {
		return err
	}
	skep, err := c.Why(ctx, "skep", sku)
	if err != nil {
		return err
	}
	if err := edit(showed + 7); err != nil {
		return err
	}
	if err := k.shown(ctx, w.SkepURL, sku, skep.Allowed+7); err != nil {
		return err
	}
	after, err := c.Item(ctx, sku)
	if err != nil {
		return err
	}
	k.check(sum(after).onHand == sum(before).onHand+7, "taken in: %d on hand, %d before; the other store shows %d", sum(after).onHand,
		sum(before).onHand, skep.Allowed+7)
	k.saw("ledger: %s %+d, %s", after.Movements[0].Kind, after.Movements[0].OnHand, after.Movements[0].Reason)
	return k.shown(ctx, w.MorrowURL, sku, showed+7)
}

func (k *walk) storeRoom(ctx context.Context) error {
	w, c := k.w, k.w.Client
	k.step("Stock that the marketplace holds for us")
	if _, err := c.PutLocation(ctx, "tansy-room", "Tansy store room", "tansy"); err != nil {
		return err
	}
	x, err := c.Connection(ctx, "tansy")
	if err != nil {
		return err
	}
	s := x.Settings
	s.Locations = map[string]string{"store room": "tansy-room"}
	if _, err = c.SetSettings(ctx, "tansy", s, x.Revision); err != nil {
		return err
	}
	if err := w.Tansy.Hold("TNS-SMK-M", 23); err != nil {
		return err
	}
	var v wire.ItemView
	if _, err := until(ctx, 20*time.Second, "the store room's word", func() (bool, error) {
		if _, err := c.RunNow(ctx, "tansy", message.StockIn, ""); err != nil && client.StatusOf(err) != http.StatusConflict {
			return false, err
		}
		v, err = c.Item(ctx, "SMOKER-M")
		return err == nil && levelAt(v, "tansy-room").OnHand == 23, err
	}); err != nil {
		return err
	}
	k.check(true, "by its word %d of SMOKER-M lie at %s", levelAt(v, "tansy-room").OnHand, levelAt(v, "tansy-room").LocationName)
	_, err = c.Adjust(ctx, "SMOKER-M", "tansy-room", 1, "found")
	k.check(client.StatusOf(err) == http.StatusConflict, "ours does not count there: %v", err)
	return nil
}

func (k *walk) listing(ctx context.Context) error {
	c := k.w.Client
	k.step("Listing items on Bramble Row: seen, sent, reviewed")
	x, err := c.Connection(ctx, "bramble")
	if err != nil {
		return err
	}
	for _, f := range x.Feeds {
		if f.Kind == message.ItemsOut {
			if _, err := c.SetFeed(ctx, "bramble", f.Kind, true, f.Schedule, f.Revision); err != nil {
				return err
			}
		}
	}
	good, err := c.Record(ctx, "CANDLE-MOULD")
	if err != nil {
		return err
	}
	good.Description = "Silicone mould for a candle in the shape of a pine cone, with wick holder."
	if _, err := c.EditItem(ctx, good.SKU, good); err != nil {
		return err
	}
	sel := listing.Selection{SKUs: []string{"CANDLE-MOULD", "BOOK-QUEENS"}}
	p, err := c.PreviewPublish(ctx, "bramble", sel)
	if err != nil {
		return err
	}
	k.check(p.Sent == 2 && len(p.Requests) == 1 && strings.Contains(p.Requests[0].Body, "CANDLE-MOULD"),
		"the preview: %d items in one request of %d bytes to %s", p.Sent, len(p.Requests[0].Body), p.Requests[0].URL)
	if _, err := c.Publish(ctx, "bramble", sel, p.Digest); err != nil {
		return err
	}
	states := map[string]wire.Listing{}
	if _, err := until(ctx, 30*time.Second, "the reviews", func() (bool, error) {
		list, err := c.Listings(ctx, "connection=bramble&limit=200")
		for _, l := range list {
			states[l.Item] = l
		}
		if states["BOOK-QUEENS"].State == "in review" && states["CANDLE-MOULD"].State == "in review" {
			_, err = c.RunNow(ctx, "bramble", message.ListingsIn, "")
		}
		return states["CANDLE-MOULD"].State == "live" && states["BOOK-QUEENS"].State == "rejected", err
	}); err != nil {
		return fmt.Errorf("%w; they are %s and %s", err, states["CANDLE-MOULD"].State, states["BOOK-QUEENS"].State)
	}
	k.check(true, "CANDLE-MOULD is %s there as number %s; BOOK-QUEENS was %s: %s", states["CANDLE-MOULD"].State,
		states["CANDLE-MOULD"].Number, states["BOOK-QUEENS"].State, states["BOOK-QUEENS"].Reason)
	return nil
}

func (k *walk) menu(ctx context.Context) error {
	w, c := k.w, k.w.Client
	k.step("The till's menu on the ordering portal")
	if _, err := until(ctx, 10*time.Second, "the menu", func() (bool, error) {
		items, err := c.Items(ctx, "kind=prepared")
		return len(items) == len(tillMenu()), err
	}); err != nil {
		return err
	}
	if err := w.JoinKitchen(ctx); err != nil {
		return err
	}
	k.check(w.Nosh.Menu()["LUNCH-SOUP"] == 2, "%d dishes on the portal; the soup asks %d questions", len(w.Nosh.Menu()),
		w.Nosh.Menu()["LUNCH-SOUP"])
	w.Counterpane.SetPrice("LUNCH-SOUP", 740)
	if _, err := c.RunNow(ctx, "till", message.ItemsIn, ""); err != nil {
		return err
	}
	if _, err := until(ctx, 10*time.Second, "the new price", func() (bool, error) {
		return w.Nosh.Price("LUNCH-SOUP") == 740, nil
	}); err != nil {
		return err
	}
	k.check(true, "its price was changed at the till, and the portal followed: %s", eur(w.Nosh.Price("LUNCH-SOUP")))
	return nil
}

func (k *walk) comparing(ctx context.Context) error {
	w, c := k.w, k.w.Client
	k.step("Comparing what every channel shows with what it should")
	if err := k.w.Wait(ctx, 20*time.Second, "the outbox to empty", func() (bool, error) { return w.Quiet(ctx) }); err != nil {
		return err
	}
	if err := w.Bramble.EditShown("SMOKER-M", 77, "a person there"); err != nil {
		return err
	}
	compare := func() (wire.Compared, error) {
		if err := k.readAll(ctx); err != nil {
			return wire.Compared{}, err
		}
		return c.Compare(ctx, "")
	}
	got, err := compare()
	if err != nil {
		return err
	}
	for _, d := range got.Differences {
		k.saw("%s shows %d of %s and should show %d: %s", d.ConnectionName, d.Shows, d.SKU, d.Should, d.Guess)
	}
	k.check(len(got.Differences) == 1, "%d listings compared, %d differ", got.Compared, len(got.Differences))
	if _, err := c.Correct(ctx, ""); err != nil {
		return err
	}
	if err := k.w.Wait(ctx, 20*time.Second, "the correction", func() (bool, error) { return w.Quiet(ctx) }); err != nil {
		return err
	}
	if got, err = compare(); err != nil {
		return err
	}
	k.check(len(got.Differences) == 0, "corrected in one go: %d listings compared, %d differ", got.Compared, len(got.Differences))
	return nil
}

// readAll reads what all channels show, and waits until it was taken in.
func (k *walk) readAll(ctx context.Context) error {
	c := k.w.Client
	begun := map[string]*time.Time{}
	conns, err := c.Connections(ctx)
	if err != nil {
		return err
	}
	for _, x := range conns {
		for _, f := range x.Feeds {
			if f.Kind == message.ListingsIn {
				begun[x.Code] = f.LastOK
			}
		}
	}
	codes, err := c.ReadListings(ctx, "")
	if err != nil {
		return err
	}
	_, err = until(ctx, 15*time.Second, "all channels to be read", func() (bool, error) {
		waiting, err := k.w.Store.CountWaitingInbox(ctx)
		if err != nil || waiting > 0 {
			return false, err
		}
		conns, err := c.Connections(ctx)
		if err != nil {
			return false, err
		}
		for _, code := range codes {
			for _, x := range conns {
				for _, f := range x.Feeds {
					if x.Code == code && f.Kind == message.ListingsIn &&
						(f.LastOK == nil || begun[code] != nil && !f.LastOK.After(*begun[code])) {
						return false, nil
					}
				}
			}
		}
		return true, nil
	})
	return err
}

func (k *walk) yesterday(ctx context.Context) error {
	c := k.w.Client
	k.step("Why did the store show what it showed a while ago?")
	v, err := c.Item(ctx, "HIVE-TOOL")
	if err != nil {
		return err
	}
	var edit *time.Time
	for _, m := range v.Movements {
		if m.Kind == string(stock.Edit) {
			edit = m.At
		}
	}
	if edit == nil {
		return errors.New("the edit is not in the ledger")
	}
	then, err := c.WhyAt(ctx, "skep", "HIVE-TOOL", edit.Add(-time.Millisecond))
	if err != nil {
		return err
	}
	now, err := c.Why(ctx, "skep", "HIVE-TOOL")
	if err != nil {
		return err
	}
	for _, s := range then.Steps {
		k.saw("%+6d  %-40s = %d", s.Change, s.Text, s.Result)
	}
	k.check(then.Known && then.Shows == then.Allowed && then.Allowed == now.Allowed-7,
		"before the edit Little Skep showed %d (%s), and the sum of that moment says %d; now it is %d", then.Shows, then.How,
		then.Allowed, now.Allowed)
	return nil
}
