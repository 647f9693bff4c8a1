package shipping

import (
	"context"
	"fmt"
	"slices"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/customs"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// checkDeclarants tidies how senders declare their parcels, and refuses what cannot be.
func (r *Shipping) checkDeclarants(_ context.Context, rows []customs.Declarant) error {
	for i := range rows {
		d := &rows[i]
		if err := d.Check(); err != nil {
			return engine.Refuse("row %d: %v", i+1, err)
		}
		if _, ok := r.Sender(d.Sender); !ok && d.Sender != "" {
			return engine.Refuse("row %d: there is no sender %q", i+1, d.Sender)
		}
		if slices.ContainsFunc(rows[:i], func(o customs.Declarant) bool { return o.Sender == d.Sender }) {
			return engine.Refuse("row %d: %s stands there twice", i+1, engine.Or(d.Sender, "the row for all"))
		}
	}
	return nil
}

// Declaration is what accompanies a parcel across a customs border; nil: it crosses none.
func (r *Shipping) Declaration(ctx context.Context, p *store.Parcel, o *order.Order) (*customs.Declaration, error) {
	rows, err := r.Declarants.Rows(ctx, r.Engine)
	if err != nil {
		return nil, err
	}
	sender, _ := r.SenderOf(o)
	by := customs.Of(rows, sender.Code)
	if !by.Crosses(r.From(p, o).Country, o.ShipTo.Country) {
		return nil, nil
	}
	d := &customs.Declaration{Reason: by.Reason, Terms: by.Terms, SenderNumber: by.Number, RecipientNumber: o.Record.BuyerTaxNumber,
		Currency: o.Record.Currency, Signer: by.Signer, Shipping: o.Record.Shipping}
	if _, err := r.declareCarton(ctx, d, p, o); err != nil {
		return nil, err
	}
	d.Sum()
	return d, nil
}

// declare adds what lies in a parcel: each kind of goods once. Of a kit, its price is divided among its parts by theirs.
func (r *Shipping) declare(ctx context.Context, d *customs.Declaration, p *store.Parcel, o *order.Order) error {
	ids := make([]int64, len(p.Lines))
	for i, l := range p.Lines {
		ids[i] = l.ItemID
	}
	list, err := r.Store.RecordsOf(ctx, ids)
	if err != nil {
		return err
	}
	items := map[int64]catalog.Item{}
	for _, it := range list {
		items[it.ID] = it
	}
	for start := 0; start < len(p.Lines); {
		end := start + 1
		for end < len(p.Lines) && p.Lines[end].LineID == p.Lines[start].LineID {
			end++
		}
		parts := p.Lines[start:end]
		values := partValues(o, parts, items)
		for i, l := range parts {
			it := items[l.ItemID]
			d.Lines = addGoods(d.Lines, customs.Line{SKU: it.SKU, Description: it.Name, Code: it.CustomsCode, Origin: it.Origin,
				Quantity: l.Quantity, Value: values[i], WeightG: it.WeightG * l.Quantity})
		}
		start = end
	}
	return nil
}

// partValues is what the parts of an order line that lie in a parcel are worth, without tax.
func partValues(o *order.Order, parts []store.ParcelLine, items map[int64]catalog.Item) []int64 {
	weights := make([]int64, len(parts))
	var units int64
	for i, l := range parts {
		weights[i] = items[l.ItemID].Price * l.Quantity
		units = max(units, l.Quantity/max(l.Per, 1))
	}
	line := o.Line(parts[0].LineID)
	told := slices.IndexFunc(o.Record.Lines, func(m message.OrderLine) bool { return m.ID == line.OutsideID })
	if told < 0 || o.Record.Lines[told].Quantity == 0 {
		return customs.Share(0, weights)
	}
	m := o.Record.Lines[told]
	worth := m.Total
	if o.Record.PricesIncludeTax {
		worth -= m.Tax
	}
	return customs.Share(worth*units/m.Quantity, weights)
}

// addGoods adds goods to those of the same kind.
func addGoods(list []customs.Line, x customs.Line) []customs.Line {
	for i := range list {
		if list[i].SKU == x.SKU {
			list[i].Quantity += x.Quantity
			list[i].Value += x.Value
			list[i].WeightG += x.WeightG
			return list
		}
	}
	return append(list, x)
}

// declared adds to what a carrier is asked what customs wants to know, and refuses a parcel of which that is not known.
func (r *Shipping) declared(asked *message.Parcel, p *store.Parcel, o *order.Order) error {
	d, err := r.Declaration(r.Ctx, p, o)
	if err != nil || d == nil {
		return err
	}
	if lacks := d.Lacks(); lacks != "" {
		return &engine.Refused{
			Conflict: true,
			Text: fmt.Sprintf("parcel %s crosses a customs border to %s, and of what lies in it is known %s; "+
				"add it in the catalog", p.Number, o.ShipTo.Country, lacks),
		}
	}
	if asked.Customs == nil {
		asked.Customs = d
		return nil
	}
	for _, l := range d.Lines { // of another parcel of the consignment
		asked.Customs.Lines = addGoods(asked.Customs.Lines, l)
	}
	asked.Customs.Sum()
	return nil
}
