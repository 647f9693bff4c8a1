package shipping

import (
	"context"
	"fmt"
	"strings"

	"openrelay/internal/core/customs"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/rules"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// Insure says what a parcel is insured for, in minor units of its order's currency: 0 for nothing, store.InsuredByRules for what rules
// say. A label that is bought already stays as it is, so that is refused.
func (r *Shipping) Insure(ctx context.Context, parcel string, amount int64, who string) error {
	if amount < store.InsuredByRules {
		return engine.Refuse("insured: an amount of 0 or more")
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		in, err := loadCarton(ch, parcel)
		if err != nil {
			return err
		}
		p, o := in.own(), in[0].order
		if why := notToShip(p); why != "" {
			return &engine.Refused{Text: why, Conflict: true}
		}
		p.Insured = amount
		text := "is insured as rules say"
		switch {
		case amount == 0:
			text = "is not insured"
		case amount > 0:
			text = "is insured for " + Price(amount, o.Record.Currency)
		}
		if err := r.NoteOrder(ch, o, who, "insured", "Parcel %s %s", p.Number, text); err != nil {
			return err
		}
		return in.save(ch)
	})
}

// InsuredFor is what the label of a parcel is bought with, or would be now, in minor units of its order's currency.
func (r *Shipping) InsuredFor(ctx context.Context, p *store.Parcel, o *order.Order) (int64, error) {
	if p.Insured >= 0 {
		return p.Insured, nil
	}
	if o.Ours.Decided.Insure != rules.ItsValue {
		return 0, nil
	}
	goods := &customs.Declaration{}
	other, err := r.declareCarton(ctx, goods, p, o)
	if err != nil {
		return 0, err
	}
	if other != "" {
		return 0, &engine.Refused{
			Conflict: true,
			Text: fmt.Sprintf("parcel %s is to be insured for its value, and holds goods of orders in %s and %s; "+
				"say what it is insured for", p.Number, o.Record.Currency, other),
		}
	}
	var worth int64
	for _, l := range goods.Lines {
		worth += l.Value
	}
	return worth, nil
}

// insured adds to what a carrier is asked what the parcel is insured for.
func (r *Shipping) insured(ctx context.Context, asked *message.Parcel, p *store.Parcel, o *order.Order) error {
	value, err := r.InsuredFor(ctx, p, o)
	if asked.Insured += value; asked.Insured > 0 {
		asked.InsuredIn = o.Record.Currency
	}
	return err
}

// declareCarton adds what lies in a carton, of all its orders. It returns a currency in which some of that was sold, if it is another
// than its own order's.
func (r *Shipping) declareCarton(ctx context.Context, d *customs.Declaration, p *store.Parcel, o *order.Order) (currency string,
	err error) {
	if err := r.declare(ctx, d, p, o); err != nil {
		return "", err
	}
	for number := range strings.FieldsSeq(p.Riders) {
		x, err := r.Store.Parcel(ctx, number)
		if err != nil {
			return "", err
		}
		other, err := r.Store.OrderByID(ctx, x.OrderID)
		if err != nil {
			return "", err
		}
		if other.Record.Currency != o.Record.Currency {
			currency = other.Record.Currency
		}
		if err := r.declare(ctx, d, &x, other); err != nil {
			return "", err
		}
	}
	return currency, nil
}
