package returns

import (
	"openrelay/internal/core/money"
	"openrelay/internal/core/order"
)

// RefundLine is what the buyer gets back for units of an order line, in minor units.
type RefundLine struct {
	LineID   int64  `json:"line_id"`
	SKU      string `json:"sku"`
	Quantity int64  `json:"quantity"`
	Amount   int64  `json:"amount" doc:"With tax"`
	Tax      int64  `json:"tax"`
}

// Refund is what the buyer gets back, in minor units of the order's currency. Amounts are with tax.
type Refund struct {
	Lines    []RefundLine `json:"lines"`
	Goods    int64        `json:"goods"`
	Shipping int64        `json:"shipping"`
	Tax      int64        `json:"tax" doc:"That is in goods and shipping"`
	Total    int64        `json:"total"`
	Parts    bool         `json:"parts,omitempty" doc:"Of a kit, only parts came back; nothing is proposed for them"`
}

// Propose works out what the buyer gets back for a return: for each unit its share of what its line cost, less its share of the
// order's discount; what was charged for shipping, too, once all that was bought has come back. Others are the order's other
// returns: shares are taken of sums, so that all refunds of an order together are never more than was paid. refunded is what
// was refunded before.
func Propose(o *order.Order, r *Return, others []Return, refunded int64) Refund {
	var out Refund
	before, after := wholeUnits(o, others), wholeUnits(o, append(append([]Return(nil), others...), *r))
	sum := int64(0)
	for i := range o.Lines {
		sum += o.Lines[i].Total
	}
	all := true
	for i := range o.Lines {
		l := &o.Lines[i]
		if l.Charge {
			continue
		}
		all = all && after[l.ID] == l.Live()
		had, has := before[l.ID], after[l.ID]
		if has == had {
			out.Parts = out.Parts || partCame(r, l.ID)
			continue
		}
		gross, tax := l.Total, l.Tax
		off := share(o.Record.Discount, l.Total, sum)
		if o.Record.PricesIncludeTax {
			tax -= share(tax, off, gross)
		} else {
			gross += tax
		}
		gross -= off
		x := RefundLine{LineID: l.ID, SKU: l.SKU, Quantity: has - had,
			Amount: share(gross, has, l.Quantity) - share(gross, had, l.Quantity),
			Tax:    share(tax, has, l.Quantity) - share(tax, had, l.Quantity)}
		out.Lines = append(out.Lines, x)
		out.Goods += x.Amount
		out.Tax += x.Tax
	}
	if all && len(out.Lines) > 0 {
		out.Shipping = o.Record.Shipping
		if goods := lineTax(o); o.Record.Tax > goods { // what of the tax is not the lines'
			out.Tax += o.Record.Tax - goods
			if !o.Record.PricesIncludeTax {
				out.Shipping += o.Record.Tax - goods
			}
		}
	}
	out.Total = min(out.Goods+out.Shipping, max(o.Record.Total-refunded, 0))
	return out
}

func lineTax(o *order.Order) (tax int64) {
	for i := range o.Lines {
		tax += o.Lines[i].Tax
	}
	return tax
}

// wholeUnits counts the units of each line of an order of which every component came back.
func wholeUnits(o *order.Order, list []Return) map[int64]int64 {
	came := map[Key]int64{}
	for i := range list {
		for k := range list[i].Lines {
			l := &list[i].Lines[k]
			came[Key{l.LineID, l.ItemID}] += l.Came()
		}
	}
	out := map[int64]int64{}
	for i := range o.Lines {
		l := &o.Lines[i]
		for k, c := range components(l) {
			if n := came[Key{l.ID, c.Item}] / max(c.Quantity, 1); k == 0 || n < out[l.ID] {
				out[l.ID] = n
			}
		}
	}
	return out
}

func partCame(r *Return, line int64) bool {
	for i := range r.Lines {
		if r.Lines[i].LineID == line && r.Lines[i].Came() > 0 {
			return true
		}
	}
	return false
}

// share is the part of an amount that falls to a part of a whole; 0 of nothing.
func share(amount, part, whole int64) int64 {
	if whole == 0 {
		return 0
	}
	return money.Share(amount, part, whole)
}
