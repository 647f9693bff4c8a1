package sheets

import (
	"context"
	"errors"

	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/partners"
	"openrelay/internal/sheet"
	"openrelay/internal/store"
)

// never stands where a partner is never asked for an item.
const never = "(never)"

// partnerItemsKind is a sheet of what partners call our items.
func partnerItemsKind() SheetKind {
	return SheetKind{
		Kind:  "partner-items",
		About: "What partners who ship for us call our items; requests that wait for a name go on",
		Columns: []Column{{"partner", true, "Code of the partner's connection"}, {"sku", true, "An item of ours"},
			{"name", false, "What the partner calls it; empty: our SKU, " + never + ": it is not asked for it, " + none +
				" forgets what was said"}},
		In: true, Out: true, once: true,
		look: lookPartnerItem, carry: carryPartnerItems,
	}
}

func lookPartnerItem(l *lookup, f map[string]string) (store.SheetRow, error) {
	out := store.SheetRow{Key: f["partner"] + " " + f["sku"]}
	c, err := l.r.Partners.Partner(f["partner"])
	if err != nil {
		return out, engine.Refuse("partner: %v", err)
	}
	it, err := l.item(f["sku"])
	if err != nil {
		return out, err
	}
	was, err := l.r.Store.PartnerItemOf(l.ctx, c.ID, it.ID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return out, err
	}
	said := err == nil
	out.Verdict, out.Changes = "add", engine.Or(f["name"], f["sku"])
	switch {
	case f["name"] == none && !said, said && f["name"] == nameOf(&was):
		out.Verdict = "nothing"
	case said:
		out.Verdict, out.Changes = "change", engine.Or(nameOf(&was), f["sku"])+" → "+out.Changes
	}
	return out, nil
}

// nameOf is how a sheet says what a partner calls an item.
func nameOf(p *store.PartnerItem) string {
	if p.Ignored {
		return never
	}
	return p.Code
}

func carryPartnerItems(r *Sheets, ch *engine.Change, rows []map[string]string, who string) error {
	for _, f := range rows {
		said := partners.PartnerItem{SKU: f["sku"], Code: f["name"]}
		var err error
		switch f["name"] {
		case none:
			err = r.Partners.DropItem(ch, f["partner"], f["sku"], who)
		case never:
			said.Code, said.Ignored = "", true
			fallthrough
		default:
			err = r.Partners.PutItem(ch, f["partner"], said, who)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// savePartnerItems saves what all partners call our items.
func (r *Sheets) savePartnerItems(ctx context.Context, w *sheet.Writer) error {
	for _, c := range r.Partners.List() {
		for after := ""; ; {
			list, err := r.Store.PartnerItems(ctx, c.ID, after, 500)
			if err != nil {
				return err
			}
			for i := range list {
				if err := w.Row(c.Rec().Code, list[i].SKU, nameOf(&list[i])); err != nil {
					return err
				}
			}
			if len(list) < 500 {
				break
			}
			after = list[len(list)-1].SKU
		}
	}
	return nil
}
