package inventory

import (
	"context"
	"errors"
	"slices"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// SharingRehearsal asks what sharing would have made of past sales.
type SharingRehearsal struct {
	Below int64 `json:"below" minimum:"0" maximum:"1000000" doc:"From so many units down the last ones are shared"`
	Over  int64 `json:"over,omitempty" minimum:"0" maximum:"500" doc:"How much more than there is is shown, in hundredths"`
	Days  int   `json:"days,omitempty" minimum:"0" maximum:"90" doc:"Of so many days; 0: 28"`
}

// SharingRehearsed is what came of it.
type SharingRehearsed struct {
	Items  int             `json:"items" doc:"Items that ran low, are listed on several channels and were looked at"`
	More   int             `json:"more,omitempty" doc:"Items that ran low beside and were not looked at; those that moved less"`
	All    stock.Rehearsed `json:"all" doc:"Where every channel shows all there is"`
	Shared stock.Rehearsed `json:"shared" doc:"Where the last units are shared so"`
	List   []SharingOfItem `json:"list" doc:"The items for which it makes most of a difference, at most fifty"`
}

// SharingOfItem is what came of one item.
type SharingOfItem struct {
	SKU    string          `json:"sku"`
	All    stock.Rehearsed `json:"all"`
	Shared stock.Rehearsed `json:"shared"`
}

// Bounds of a rehearsal of sharing.
const (
	mostRehearsed = 300
	mostListed    = 50
)

// lateWord is how late word of a sale may be to count as one that channels could have sold twice: what comes later was read in from before
// we were joined.
const lateWord = 24 * time.Hour

// RehearseSharing lets past sales of the items that ran low happen again, with all shown everywhere and with the last units shared.
func (r *Inventory) RehearseSharing(ctx context.Context, q SharingRehearsal) (SharingRehearsed, error) {
	out := SharingRehearsed{List: []SharingOfItem{}}
	if q.Below < 1 || q.Over < 0 || q.Over > 500 || q.Days < 0 || q.Days > 90 {
		return out, engine.Refuse("below: units from 1 up are expected; over: 0 to 500 hundredths; days: up to 90")
	}
	if q.Days == 0 {
		q.Days = paceDays
	}
	since := r.Clock().AddDate(0, 0, -q.Days)
	items, all, err := r.Store.RanLow(ctx, since, q.Below, mostRehearsed)
	if err != nil {
		return out, err
	}
	out.Items, out.More = len(items), all-len(items)
	ids := make([]int64, len(items))
	for i, it := range items {
		ids[i] = it.ID
	}
	asked, err := r.Store.SalesOf(ctx, ids, since)
	if err != nil {
		return out, err
	}
	sales := map[int64][]store.PastSale{}
	for _, s := range asked {
		sales[s.Item] = append(sales[s.Item], s)
	}
	for _, it := range items {
		past, err := r.pastOf(ctx, it.ID, sales[it.ID], since, q.Days)
		if err != nil {
			return out, err
		}
		one := SharingOfItem{SKU: it.SKU, All: past.Rehearse(-1, 0), Shared: past.Rehearse(q.Below, q.Over)}
		out.All.Add(one.All)
		out.Shared.Add(one.Shared)
		if one.All != one.Shared {
			out.List = append(out.List, one)
		}
		if err := ctx.Err(); err != nil {
			return out, err
		}
	}
	differs := func(o SharingOfItem) int64 { return o.All.Oversold + o.Shared.Oversold + o.Shared.Refused }
	slices.SortStableFunc(out.List, func(a, b SharingOfItem) int { return int(differs(b) - differs(a)) })
	out.List = out.List[:min(len(out.List), mostListed)]
	return out, nil
}

// pastOf is what happened to an item, as far as the ledger and the orders tell.
func (r *Inventory) pastOf(ctx context.Context, item int64, sales []store.PastSale, since time.Time, days int) (*stock.Past, error) {
	changes, free, err := r.Store.ChangesOf(ctx, item, since)
	listings, lerr := r.Store.ListingsOfItems(ctx, []int64{item})
	if err := errors.Join(err, lerr); err != nil {
		return nil, err
	}
	p := &stock.Past{Free: free}
	channel := map[int64]int{}
	for i := range listings {
		c := r.ByID(listings[i].ConnectionID)
		if _, known := channel[listings[i].ConnectionID]; known || c == nil || c.Line().Def.Feeds[message.StockOut] == nil {
			continue
		}
		channel[c.ID] = len(p.Channels)
		p.Channels = append(p.Channels, stock.Share{Sources: []int64{1}, Delay: r.delay(c)})
	}
	for _, m := range changes {
		if !m.Sale { // what orders took is asked for below, whether it was there or not
			p.Stock = append(p.Stock, stock.PastStock{At: store.Time(m.At), Change: m.Change})
		}
	}
	for _, s := range sales {
		i, known := channel[s.Connection]
		placed, received := store.Time(s.PlacedAt), store.Time(s.ReceivedAt)
		if !known || received.Sub(placed) > lateWord {
			p.Stock = append(p.Stock, stock.PastStock{At: received, Change: -s.Units})
			continue
		}
		p.Sales = append(p.Sales, stock.PastSale{At: placed, Known: received, Channel: i, Units: s.Units})
		p.Channels[i].Pace += float64(s.Units) / float64(days)
	}
	return p, nil
}
