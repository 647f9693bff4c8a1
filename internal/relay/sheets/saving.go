package sheets

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/money"
	"openrelay/internal/relay/engine"
	"openrelay/internal/sheet"
	"openrelay/internal/store"
)

// Save writes a table of a kind as CSV, row by row, so that memory does not grow with it. What is saved can be
// handed in again where the kind can be handed in.
func (r *Sheets) Save(ctx context.Context, kind string, out io.Writer) error {
	k, err := sheetKind(kind)
	if err != nil {
		return err
	}
	if !k.Out {
		return engine.Refuse("%s can be handed in, not saved", kind)
	}
	w := sheet.NewWriter(out, k.names()...)
	switch kind {
	case "items":
		err = r.saveItems(ctx, func(it catalog.Item) error {
			cells := make([]string, len(k.Columns))
			for i, c := range k.Columns {
				switch cells[i] = catalog.Text(it, c.Name); {
				case slices.Contains([]string{"serials", "fragile", "upright", "archived"}, c.Name) && cells[i] == "":
					cells[i] = "no"
				}
			}
			return w.Row(cells...)
		})
	case "prices":
		err = r.saveItems(ctx, func(it catalog.Item) error {
			if err := w.Row(it.SKU, "", money.Decimal(it.Price, it.Currency)); err != nil {
				return err
			}
			for _, p := range it.Prices {
				if err := w.Row(it.SKU, p.List, money.Decimal(p.Price, it.Currency)); err != nil {
					return err
				}
			}
			return nil
		})
	case "levels":
		err = r.saveLevels(ctx, w)
	case "listings", "matches":
		err = r.saveListings(ctx, kind, w)
	case "purchases":
		err = r.savePurchases(ctx, w)
	case "transfers":
		err = r.saveTransfers(ctx, w)
	case "partner-items":
		err = r.savePartnerItems(ctx, w)
	}
	if err != nil {
		return err
	}
	return w.End()
}

func (r *Sheets) saveItems(ctx context.Context, f func(catalog.Item) error) error {
	after := ""
	for {
		list, err := r.Store.Records(ctx, after, 500)
		if err != nil || len(list) == 0 {
			return err
		}
		for _, it := range list {
			if err := f(it); err != nil {
				return err
			}
		}
		after = list[len(list)-1].SKU
	}
}

func (r *Sheets) saveLevels(ctx context.Context, w *sheet.Writer) error {
	f := store.StockFilter{Limit: 1000}
	for {
		list, err := r.Store.ListStock(ctx, f)
		if err != nil || len(list) == 0 {
			return err
		}
		for _, l := range list {
			if err := w.Row(l.SKU, l.Name, l.LocationCode, l.Bin, fmt.Sprint(l.OnHand), fmt.Sprint(l.Allocated),
				fmt.Sprint(l.OnHand-l.Allocated), fmt.Sprint(l.OnOrder), fmt.Sprint(l.InTransit)); err != nil {
				return err
			}
		}
		f.AfterSKU, f.AfterLocation = list[len(list)-1].SKU, list[len(list)-1].LocationID
	}
}

func (r *Sheets) saveListings(ctx context.Context, kind string, w *sheet.Writer) error {
	f := store.ListingFilter{Limit: 500}
	for {
		list, err := r.Store.FindListings(ctx, f)
		if err != nil || len(list) == 0 {
			return err
		}
		ids := make([]int64, len(list))
		for i, l := range list {
			ids[i] = l.ItemID
		}
		items, err := r.Store.Items(ctx, ids)
		if err != nil {
			return err
		}
		for _, l := range list {
			item := items[l.ItemID].SKU
			if kind == "matches" {
				if l.IgnoredAt != 0 {
					item = "ignore"
				}
				err = w.Row(l.ConnectionCode, l.OutsideID, engine.Or(item, none))
			} else {
				told := ""
				if l.ToldQty >= 0 {
					told = fmt.Sprint(l.ToldQty)
				}
				err = w.Row(l.ConnectionCode, l.OutsideID, l.SKU, l.Title, item, money.Decimal(l.Price, l.Currency), l.Currency, l.State,
					l.Reason, fmt.Sprint(l.SeenQty), told)
			}
			if err != nil {
				return err
			}
		}
		f.After = list[len(list)-1].ID
	}
}

func (r *Sheets) savePurchases(ctx context.Context, w *sheet.Writer) error {
	var before int64
	for {
		list, err := r.Store.Purchases(ctx, "", before, 200)
		if err != nil || len(list) == 0 {
			return err
		}
		for _, p := range list {
			whole, err := r.Store.Purchase(ctx, p.Number)
			if err != nil {
				return err
			}
			for _, l := range whole.Lines {
				if err := w.Row(p.Number, p.Supplier, p.LocationCode, p.Expected, l.SKU, fmt.Sprint(l.Ordered)); err != nil {
					return err
				}
			}
		}
		before = list[len(list)-1].ID
	}
}

func (r *Sheets) saveTransfers(ctx context.Context, w *sheet.Writer) error {
	var before int64
	for {
		list, err := r.Store.Transfers(ctx, "", before, 200)
		if err != nil || len(list) == 0 {
			return err
		}
		for _, t := range list {
			whole, err := r.Store.Transfer(ctx, t.Number)
			if err != nil {
				return err
			}
			for _, l := range whole.Lines {
				if err := w.Row(t.Number, t.FromCode, t.ToCode, l.SKU, fmt.Sprint(l.Quantity)); err != nil {
					return err
				}
			}
		}
		before = list[len(list)-1].ID
	}
}

// SheetName is what a saved table is called.
func SheetName(kind string) string { return strings.ReplaceAll(kind, " ", "-") + ".csv" }
