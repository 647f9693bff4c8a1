package listing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/core/money"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/store"
)

// AddItem writes a new item that was checked, matches what waited for it, and publishes it where its marks
// say so.
func (r *Listing) AddItem(ch *engine.Change, it catalog.Item, who, text string) (int64, error) {
	if err := r.checkItem(ch, it); err != nil {
		return 0, err
	}
	id, err := ch.AddItem(it, ch.Now)
	if err != nil {
		return 0, err
	}
	it.ID = id
	ch.ItemsMoved = true
	if it.Kind != catalog.Stocked || it.Archived || it.Serials || len(it.Marks) > 0 {
		inventory.Recast(ch)
	}
	ch.Tell("item", it.SKU)
	if err := ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "item", ThingID: id, What: "added", Text: text}); err != nil {
		return 0, err
	}
	if err := r.meetItem(ch, it); err != nil {
		return 0, err
	}
	return id, r.publishMarked(ch, it)
}

// meetItem lets listings and orders that waited for an item of this SKU find it.
func (r *Listing) meetItem(ch *engine.Change, it catalog.Item) error {
	if it.Archived {
		return nil
	}
	list, err := ch.UnmatchedBySKU(it.SKU)
	if err != nil {
		return err
	}
	for _, l := range list {
		c := r.ByID(l.ConnectionID)
		if c == nil {
			continue
		}
		if err := r.MatchListing(ch, c, &l); err != nil {
			return err
		}
		if l.ItemID == 0 {
			continue
		}
		if err := ch.SetMatch(l); err != nil {
			return err
		}
		Matched(ch, &l)
	}
	ch.Mark(engine.ItemKnown, it.ID)
	return nil
}

// ChangeItem writes a changed item. Where it changes what the item is, what it is offered as follows.
func (r *Listing) ChangeItem(ch *engine.Change, it catalog.Item, who, text string) error {
	before, err := ch.RecordsOf([]int64{it.ID})
	if err != nil {
		return err
	}
	if len(before) == 0 {
		return store.ErrNotFound
	}
	if err := r.checkItem(ch, it); err != nil {
		return err
	}
	if err := ch.UpdateItem(it, ch.Now); err != nil {
		return err
	}
	ch.ItemsMoved = true
	ch.Tell("item", it.SKU)
	if err := ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "item", ThingID: it.ID, What: "changed",
		Text: text}); err != nil {
		return err
	}
	changes := catalog.Differences(before[0], it)
	if slices.ContainsFunc(changes, func(c catalog.Change) bool {
		return c.Field == "weight_g" || c.Field == "length_mm" || c.Field == "width_mm" || c.Field == "height_mm"
	}) {
		if err := engine.AskCartons(ch); err != nil {
			return err
		}
	}
	another := slices.ContainsFunc(changes, func(c catalog.Change) bool {
		return slices.Contains([]string{"kind", "parts", "archived", "marks", "serials"}, c.Field)
	})
	if another {
		inventory.Recast(ch)
		ch.Mark(engine.StockMoved, it.ID)
	}
	if before[0].SKU != it.SKU {
		if err := r.meetItem(ch, it); err != nil {
			return err
		}
	}
	if err := r.publishMarked(ch, it); err != nil {
		return err
	}
	return r.republish(ch, it, changes)
}

// checkItem refuses what only the other records tell: a GTIN of another item, parts that are not there or are
// kits, unknown price lists and groups, variants that do not differ.
func (r *Listing) checkItem(ch *engine.Change, it catalog.Item) error {
	if it.GTIN != "" {
		if other, err := ch.ItemByGTIN(it.GTIN); err == nil && other != it.ID {
			return &engine.Refused{Text: fmt.Sprintf("gtin: %s is another item's", it.GTIN), Conflict: true}
		} else if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
	}
	if err := checkParts(ch, it.Parts); err != nil {
		return err
	}
	if err := checkKind(ch, it); err != nil {
		return err
	}
	if len(it.Prices) > 0 {
		lists, err := ch.PriceListCodes()
		if err != nil {
			return err
		}
		for _, p := range it.Prices {
			if !slices.Contains(lists, p.List) {
				return engine.Refuse("prices: there is no price list %q; there are: %s", p.List, engine.Or(engine.Join(lists), "none"))
			}
		}
	}
	if len(it.Groups) > 0 {
		groups, err := ch.Groups()
		if err != nil {
			return err
		}
		for _, g := range it.Groups {
			if !slices.ContainsFunc(groups, func(k catalog.Group) bool { return k.Code == g }) {
				return engine.Refuse("groups: there is no option group %q", g)
			}
		}
	}
	if it.Family != "" && !it.Archived {
		same, err := ch.VariantWith(it.Family, it.Options, it.ID)
		if err != nil {
			return err
		}
		if same != "" {
			return &engine.Refused{Text: fmt.Sprintf("options: %s of the family %s has the same options (%s); variants differ in them",
				same, it.Family, engine.Or(it.Options, "none")), Conflict: true}
		}
	}
	return nil
}

// checkKind refuses a kind without stock for an item that is part of a kit or of which there is some.
func checkKind(ch *engine.Change, it catalog.Item) error {
	if it.Kind != catalog.Stocked && it.ID != 0 {
		if kits, err := ch.KitsWith(it.ID); err != nil {
			return err
		} else if len(kits) > 0 {
			return &engine.Refused{Text: fmt.Sprintf("kind: it is a part of %s, and parts of kits are stocked items", engine.Join(kits)),
				Conflict: true}
		}
		if n, err := ch.OnHandAnywhere(it.ID); err != nil {
			return err
		} else if n != 0 {
			return &engine.Refused{Text: fmt.Sprintf("kind: there is stock of it; items that are %s hold none. Take the stock out first",
				it.Kind), Conflict: true}
		}
	}
	return nil
}

// checkParts refuses parts of a kit that are not there or hold no stock.
func checkParts(ch *engine.Change, parts []catalog.Part) error {
	skus := make([]string, len(parts))
	for i, p := range parts {
		skus[i] = p.SKU
	}
	have, err := ch.ItemsBySKU(skus)
	if err != nil {
		return err
	}
	ids := make([]int64, 0, len(have))
	for _, s := range skus {
		if have[s] == 0 {
			return engine.Refuse("parts: there is no item %s", s)
		}
		ids = append(ids, have[s])
	}
	items, err := ch.Items(ids)
	if err != nil {
		return err
	}
	for _, p := range items {
		if !catalog.Kind(p.Kind).HoldsStock() {
			return engine.Refuse("parts: %s is %s and holds no stock; a kit is made of stocked items", p.SKU, p.Kind)
		}
	}
	return nil
}

// CreateItem adds an item.
func (r *Listing) CreateItem(ctx context.Context, it catalog.Item, who string) error {
	it.ID, it.Archived = 0, false
	it.Complete(r.Currency())
	if err := it.Check(); err != nil {
		return engine.Refuse("%v", err)
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		have, err := ch.ItemsBySKU([]string{it.SKU})
		if err != nil {
			return err
		}
		if have[it.SKU] != 0 {
			return &engine.Refused{Text: fmt.Sprintf("sku: there is an item %s already", it.SKU), Conflict: true}
		}
		_, err = r.AddItem(ch, it, who, it.Name+" added")
		return err
	})
}

// EditItem replaces the record of an item. Fields that another system owns stay as they are, and asking for
// another value of one is refused.
func (r *Listing) EditItem(ctx context.Context, sku string, it catalog.Item, revision int64, who string) error {
	it.Complete(r.Currency())
	if err := it.Check(); err != nil {
		return engine.Refuse("%v", err)
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		before, err := ch.Record(sku)
		if err != nil {
			return fmt.Errorf("item %s: %w", sku, err)
		}
		if revision != 0 && before.Revision != revision {
			return store.ErrConflict
		}
		it.ID = before.ID
		changes := catalog.Differences(before, it)
		if len(changes) == 0 {
			return nil
		}
		owners, err := ch.Owners()
		if err != nil {
			return err
		}
		for _, c := range changes {
			if k := r.ByID(owners[c.Field]); k != nil {
				return &engine.Refused{Text: fmt.Sprintf("%s: the word of %s counts for it; change it there", c.Field, k.Rec().Name),
					Conflict: true}
			}
			if c.Field == "sku" {
				if have, err := ch.ItemsBySKU([]string{it.SKU}); err != nil {
					return err
				} else if have[it.SKU] != 0 {
					return &engine.Refused{Text: fmt.Sprintf("sku: there is an item %s already", it.SKU), Conflict: true}
				}
			}
		}
		return r.ChangeItem(ch, it, who, "Changed: "+catalog.ChangesText(changes))
	})
}

// Archive ends the selling of an item, or takes it up again.
func (r *Listing) Archive(ctx context.Context, sku string, archived bool, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		it, err := ch.Record(sku)
		if err != nil {
			return fmt.Errorf("item %s: %w", sku, err)
		}
		if it.Archived == archived {
			return nil
		}
		it.Archived = archived
		text := "Taken up again: it is sold"
		if archived {
			text = "Archived: it is no longer sold, its history stays"
			kits, err := ch.KitsWith(it.ID)
			if err != nil {
				return err
			}
			if len(kits) > 0 {
				text += "; neither are the kits that it is part of: " + engine.Join(kits)
			}
		}
		return r.ChangeItem(ch, it, who, text)
	})
}

// PutGroup writes an option group.
func (r *Listing) PutGroup(ctx context.Context, g catalog.Group) error {
	if err := g.Check(); err != nil {
		return engine.Refuse("%v", err)
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		ch.Tell("item", "")
		return ch.PutGroup(g)
	})
}

// PutPriceList writes a price list.
func (r *Listing) PutPriceList(ctx context.Context, p store.PriceList) error {
	p.Code = strings.TrimSpace(p.Code)
	if p.Code == "" || p.Name == "" || !money.ValidCurrency(p.Currency) {
		return engine.Refuse("price list: code, name and an ISO 4217 currency are expected")
	}
	return r.Commit(ctx, func(ch *engine.Change) error { return ch.PutPriceList(p) })
}

// Owners tells for each field of items whose word counts: the code of a connection, "ours", or nothing where that was
// not said: then it is whoever tells it.
func (r *Listing) Owners(ctx context.Context) (map[string]string, error) {
	ids, err := r.Store.Owners(ctx)
	out := map[string]string{}
	for _, f := range catalog.Fields()[1:] { // the SKU is always ours
		out[f] = ""
	}
	for f, id := range ids {
		if c := r.ByID(id); c != nil {
			out[f] = c.Rec().Code
		} else if id == store.Ours {
			out[f] = catalog.Ours
		}
	}
	return out, err
}

// SetOwners says whose word counts for fields of items: the code of a connection, "ours", or nothing for whoever tells it.
func (r *Listing) SetOwners(ctx context.Context, owners map[string]string, who string) error {
	ids := map[string]int64{}
	var parts []string
	for f, code := range owners {
		if !slices.Contains(catalog.Fields(), f) || f == "sku" {
			return engine.Refuse("%q is no field that could have an owner; there are %s", f, engine.Join(catalog.Fields()[1:]))
		}
		switch code {
		case "":
			ids[f] = store.Whosever
			parts = append(parts, f+": whoever tells it")
			continue
		case catalog.Ours:
			ids[f] = store.Ours
			parts = append(parts, f+": ours")
			continue
		}
		c := r.ByCode(code)
		if c == nil {
			return engine.Refuse("%s: there is no connection %q", f, code)
		}
		if c.Line().Def.Feeds[message.ItemsIn] == nil {
			return engine.Refuse("%s: %s tells no items, so its word cannot count for them", f, c.Rec().Name)
		}
		ids[f] = c.ID
		parts = append(parts, fmt.Sprintf("%s: %s", f, c.Rec().Name))
	}
	slices.Sort(parts)
	return r.Commit(ctx, func(ch *engine.Change) error {
		if err := ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "company", What: "owners",
			Text: "Whose word counts for items: " + engine.Join(parts)}); err != nil {
			return err
		}
		return ch.SetOwners(ids)
	})
}

// FreeGTIN is a GTIN that is right and no other item's, or nothing.
func (r *Listing) FreeGTIN(ch *engine.Change, gtin string) (string, error) {
	probe := catalog.Item{SKU: "x", Name: "x", GTIN: gtin}
	probe.Complete(r.Currency())
	if probe.Check() != nil {
		return "", nil
	}
	switch _, err := ch.ItemByGTIN(gtin); {
	case errors.Is(err, store.ErrNotFound):
		return gtin, nil
	case err != nil:
		return "", err
	}
	return "", nil
}

// Opening is an item with its opening stock.
type Opening struct {
	Item   catalog.Item
	Counts map[int64]int64 // by location
	Bins   map[int64]string
	// Serials are the serial numbers of the units at a location, where the item has them.
	Serials map[int64][]string
}

// AddItems adds items with their opening stock. Kits come after what they are made of.
func (r *Listing) AddItems(ctx context.Context, list []Opening, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		book := stock.NewBook(nil)
		for _, o := range list {
			it := o.Item
			it.Complete(r.Currency())
			if err := it.Check(); err != nil {
				return engine.Refuse("item %s: %v", it.SKU, err)
			}
			id, err := r.AddItem(ch, it, who, it.Name+" added")
			if err != nil {
				return fmt.Errorf("item %s: %w", it.SKU, err)
			}
			for loc, bin := range o.Bins {
				if err := ch.SetBin(id, loc, bin); err != nil {
					return err
				}
			}
			for loc, list := range o.Serials {
				for _, s := range list {
					if err := ch.AddSerial(id, s, loc, "opening count", ch.Now); err != nil {
						return err
					}
				}
			}
			for loc, n := range o.Counts {
				book.Post(stock.Movement{Key: stock.Key{Item: id, Location: loc}, At: ch.Now, Kind: stock.Count, OnHand: n,
					Reason: "opening count", Who: who, DocKind: "hand"})
			}
		}
		return r.Inventory.Post(ch, book)
	})
}
