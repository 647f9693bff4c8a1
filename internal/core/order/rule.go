package order

import (
	"slices"
	"strings"

	"openrelay/internal/core/message"
	"openrelay/internal/core/rules"
)

// known finds the customer and the account of the payment, and tells whether the buyer bought before.
func (o *Order) known(s *Scene) (returning bool) {
	m := &o.Record
	if s.Pays != nil && m.Payment != "" {
		o.Ours.PaymentAccount = s.Pays(m.Payment)
	}
	if s.Customer == nil {
		return false
	}
	id, returning := s.Customer(m)
	if id != 0 {
		o.CustomerID = id
	}
	return returning
}

// facts gathers what rules look at.
func facts(o *Order, s *Scene, returning bool) *rules.Facts {
	m := &o.Record
	f := &rules.Facts{Channel: s.Channel, State: m.State, Kind: string(o.Kind()), FulfilledBy: m.FulfilledBy, Service: m.RequestedService,
		Payment: m.Payment, Currency: m.Currency,
		Country: o.ShipTo.Country, Postcode: o.ShipTo.Postcode, Town: o.ShipTo.Town, Company: o.ShipTo.Company,
		Buyer: or(m.BuyerName, o.ShipTo.Name), Email: m.BuyerEmail, Note: m.Note, Via: o.Via,
		Total: m.Total, Shipping: m.Shipping, Paid: m.Paid, Returning: returning, Lines: int64(len(o.Lines))}
	f.FulfilledBy = or(f.FulfilledBy, "us")
	add := func(list *[]string, v string) {
		if v != "" && !slices.Contains(*list, v) {
			*list = append(*list, v)
		}
	}
	for i := range o.Lines {
		l := &o.Lines[i]
		f.Goods += l.Total
		add(&f.SKUs, l.SKU)
		if !l.Charge {
			f.Units += l.Quantity
		}
		if s.Goods == nil || l.ItemID == 0 {
			continue
		}
		g := s.Goods(l.ItemID)
		f.Weight += g.WeightG * l.Quantity
		add(&f.Categories, g.Category)
		for _, mark := range g.Marks {
			add(&f.Marks, mark)
		}
	}
	return f
}

// rule applies the rules once, when the order can be worked on.
func rule(o *Order, s *Scene, c *Change) {
	if s.Rules == nil || o.Ours.Ruled || o.Record.Status != message.Open || c.Facts == nil {
		return
	}
	o.Ours.Ruled = true
	if s.Rules.Len() == 0 {
		return
	}
	out, touched := s.Rules.Decide(c.Facts, o.Ours.Tags)
	o.Ours.Decided, o.Ours.Touched = out, touched
	for _, t := range out.Tags {
		o.Tag(t)
	}
	for _, t := range touched {
		c.note("rule", "Rule “%s”: %s", t.Name, strings.Join(t.Changes, "; "))
	}
	for _, why := range out.Holds {
		c.hold(o, Hold{Cause: ByRule, Text: why, Expected: "A person to look at it and let it go on."})
	}
}

// Tag puts a tag on the order and tells whether it is new there.
func (o *Order) Tag(tag string) bool {
	i, there := slices.BinarySearch(o.Ours.Tags, tag)
	if !there {
		o.Ours.Tags = slices.Insert(slices.Clone(o.Ours.Tags), i, tag)
	}
	return !there
}

// Untag takes a tag off the order and tells whether it was there.
func (o *Order) Untag(tag string) bool {
	i, there := slices.BinarySearch(o.Ours.Tags, tag)
	if there {
		o.Ours.Tags = slices.Delete(slices.Clone(o.Ours.Tags), i, i+1)
	}
	return there
}

// candidates are the locations from which the order may be sent, best first: the one that a rule chose, then those that feed the
// channel.
func (o *Order) candidates(s *Scene) []int64 {
	if o.Ours.Decided.Location != "" && s.Where != nil {
		if id := s.Where(o.Ours.Decided.Location); id != 0 {
			return append([]int64{id}, slices.DeleteFunc(slices.Clone(s.Sources), func(x int64) bool { return x == id })...)
		}
	}
	return s.Sources
}

// sources are the candidates that have not refused to send it; where the order must not be split, only one that has everything.
func (o *Order) sources(s *Scene) []int64 {
	out := o.candidates(s)
	if len(o.Ours.RefusedBy) > 0 {
		out = slices.DeleteFunc(slices.Clone(out), func(x int64) bool { _, no := o.Ours.RefusedBy[x]; return no })
	}
	if o.Ours.Decided.Split != "never" {
		return out
	}
	for i := range o.Lines { // what was promised somewhere already stays there
		for _, a := range o.Lines[i].Allocations {
			return []int64{a.Location}
		}
	}
	for _, loc := range out {
		if o.allAt(loc, s) {
			return []int64{loc}
		}
	}
	return nil
}

// allAt tells whether a location has everything that waits. Several lines may want the same item.
func (o *Order) allAt(loc int64, s *Scene) bool {
	need := map[int64]int64{}
	for i := range o.Lines {
		l := &o.Lines[i]
		if l.ItemID == 0 || l.NoStock {
			continue
		}
		for _, c := range l.Goods().Components() {
			need[c.Item] += c.Quantity * l.Waiting()
		}
	}
	for item, n := range need {
		if s.Book.Level(stockKey(item, loc)).Available() < n {
			return false
		}
	}
	return true
}
