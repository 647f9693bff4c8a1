package shipping

import (
	"context"
	"errors"
	"fmt"

	"openrelay/internal/core/freight"
	"openrelay/internal/core/rules"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// mostRehearsed bounds how many past parcels freight rules are tried on.
const mostRehearsed = 500

// charges are freight rules with their conditions ready to be asked.
type charges struct {
	rows  []freight.ChargeRule
	holds []rules.Condition
}

func readCharges(rows []freight.ChargeRule) (*charges, error) {
	out := &charges{rows: rows, holds: make([]rules.Condition, len(rows))}
	for i := range rows {
		c, err := rules.ParseCondition(rows[i].When)
		if err != nil {
			return nil, engine.Refuse("row %d: %v", i+1, err)
		}
		out.holds[i] = c
	}
	return out, nil
}

func (r *Shipping) checkChargeRules(_ context.Context, rows []freight.ChargeRule) error {
	for i := range rows {
		if err := rows[i].Check(); err != nil {
			return engine.Refuse("row %d: %v", i+1, err)
		}
	}
	_, err := readCharges(rows)
	return err
}

// of is what is charged for a parcel, and by which rule; without one, what its carrier asks.
func (c *charges) of(p *store.Parcel, carrier string, f *rules.Facts, tags []string) (charged int64, by string) {
	for i := range c.rows {
		if c.rows[i].Fits(carrier, p.Service, p.Currency) && c.holds[i].Holds(f, tags) {
			return c.rows[i].Charge(p.Price), c.rows[i].Name
		}
	}
	return p.Price, ""
}

// factsOf is what conditions look at of an order; nothing of one that has none.
func factsOf(b []byte, err error) (*rules.Facts, error) {
	f := &rules.Facts{}
	if errors.Is(err, store.ErrNotFound) {
		return f, nil
	}
	if err != nil {
		return nil, err
	}
	return f, f.Read(b)
}

// charge says on a parcel what is charged for it, when its label is bought.
func (r *Shipping) charge(ch *engine.Change, p *store.Parcel, tags []string) error {
	rows, err := r.ChargeRules.RowsIn(ch)
	if err != nil {
		return err
	}
	p.Charged, p.ChargedBy = p.Price, ""
	if len(rows) == 0 {
		return nil
	}
	c, err := readCharges(rows)
	if err != nil {
		return err
	}
	f, err := factsOf(ch.FactsOf(p.OrderID))
	if err == nil {
		p.Charged, p.ChargedBy = c.of(p, r.Code(p.CarrierID), f, tags)
	}
	return err
}

// ChargedOtherwise is a past parcel of which something else would be charged.
type ChargedOtherwise struct {
	Parcel   string `json:"parcel"`
	Order    string `json:"order_number"`
	Service  string `json:"service"`
	Asked    int64  `json:"asked" doc:"By its carrier, minor units"`
	Was      int64  `json:"was" doc:"Charged by the rules as they were then"`
	Would    int64  `json:"would" doc:"Charged by the rules that are tried"`
	Currency string `json:"currency"`
	By       string `json:"by,omitempty" doc:"The rule that would count"`
}

// ChargesRehearsed is what freight rules would have charged.
type ChargesRehearsed struct {
	Parcels int                `json:"parcels" doc:"How many of the newest that left were looked at"`
	Changed []ChargedOtherwise `json:"changed"`
	Sums    []ChargeSum        `json:"sums" doc:"Of all that were looked at, by currency"`
}

// ChargeSum adds what was looked at up.
type ChargeSum struct {
	Currency string `json:"currency"`
	Asked    int64  `json:"asked"`
	Was      int64  `json:"was"`
	Would    int64  `json:"would"`
}

// RehearseCharges says what freight rules would have charged for the newest parcels that left.
func (r *Shipping) RehearseCharges(ctx context.Context, rows []freight.ChargeRule) (out ChargesRehearsed, err error) {
	out.Changed, out.Sums = []ChargedOtherwise{}, []ChargeSum{}
	if err := r.checkChargeRules(ctx, rows); err != nil {
		return out, err
	}
	c, err := readCharges(rows)
	if err != nil {
		return out, err
	}
	list, err := r.Store.ListParcels(ctx, []string{store.Gone, store.Arrived}, 0, 0, mostRehearsed)
	if err != nil {
		return out, err
	}
	at := map[string]int{}
	for i := range list {
		p := &list[i]
		if p.CarrierID == 0 || p.Currency == "" {
			continue
		}
		would, err := r.wouldCharge(ctx, c, p)
		if err != nil {
			return out, err
		}
		out.Parcels++
		k, ok := at[p.Currency]
		if !ok {
			k = len(out.Sums)
			at[p.Currency] = k
			out.Sums = append(out.Sums, ChargeSum{Currency: p.Currency})
		}
		s := &out.Sums[k]
		s.Asked, s.Was, s.Would = s.Asked+p.Price, s.Was+p.Charged, s.Would+would.Would
		if would.Would != p.Charged {
			out.Changed = append(out.Changed, would)
		}
	}
	return out, nil
}

func (r *Shipping) wouldCharge(ctx context.Context, c *charges, p *store.Parcel) (x ChargedOtherwise, err error) {
	o, err := r.Store.OrderByID(ctx, p.OrderID)
	if err != nil {
		return x, fmt.Errorf("parcel %s: %w", p.Number, err)
	}
	f, err := factsOf(r.Store.OrderFacts(ctx, p.OrderID))
	if err != nil {
		return x, fmt.Errorf("parcel %s: %w", p.Number, err)
	}
	x = ChargedOtherwise{
		Parcel:   p.Number,
		Order:    p.OrderNumber,
		Service:  engine.Or(p.ServiceName, p.Service),
		Asked:    p.Price,
		Was:      p.Charged,
		Currency: p.Currency,
	}
	x.Would, x.By = c.of(p, r.Code(p.CarrierID), f, o.Ours.Tags)
	return x, nil
}
