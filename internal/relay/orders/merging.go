package orders

import (
	"context"
	"errors"
	"fmt"
	"time"

	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// AnswersDue raises the orders whose channel waited in vain.
func (r *Orders) AnswersDue(ctx context.Context) (time.Time, error) {
	next, err := r.Store.NextAnswer(ctx)
	if err != nil || next.IsZero() || next.After(r.Clock()) {
		return next, err
	}
	err = r.Commit(ctx, func(ch *engine.Change) error {
		late, err := ch.OrdersOverdue(ch.Now)
		if err != nil {
			return err
		}
		for _, o := range late {
			c, is := order.Overdue(o, ch.Now)
			if !is {
				continue
			}
			if err := ch.Note(Notes(c, "relay", ch.Now)...); err != nil {
				return err
			}
			if err := r.SaveOrder(ch, o); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return next, err
	}
	return r.Store.NextAnswer(ctx)
}

// MergesDue makes the summaries of days that have ended.
func (r *Orders) MergesDue(ctx context.Context) (next time.Time, err error) {
	now := r.Clock()
	for _, c := range r.Sorted() {
		set := c.Settings()
		if set.Merge != "per day" || c.Rec().State != store.On || c.Rec().Test {
			continue
		}
		zone, minute := set.Zone(), engine.MinuteOfDay(set.MergeAt)
		cut := order.Cut(now, minute, zone)
		tomorrow := cut.In(zone).AddDate(0, 0, 1)
		next = engine.Earlier(next, order.Cut(tomorrow.Add(3*time.Hour), minute, zone))
		if _, e := r.Merge(ctx, c.Rec().Code, cut, "relay"); e != nil {
			err = errors.Join(err, fmt.Errorf("the day of %s could not be merged: %w", c.Rec().Name, e))
		}
	}
	return next, err
}

// mergeMost is how many orders one transaction merges, and one summary holds.
const mergeMost = 2000

// Merge makes summary orders of the orders of a channel that are done and were placed before a moment, one for each
// day that ends at this moment's time of day on the channel's clocks, currency and way of pricing; several where one
// would be too long. Orders that are odd, or not done, stay single. It returns the numbers of the summaries.
func (r *Orders) Merge(ctx context.Context, code string, before time.Time, who string) ([]string, error) {
	c := r.ByCode(code)
	if c == nil {
		return nil, engine.NoConnection(code)
	}
	var out []string
	var last *order.Order
	for {
		err := r.Commit(ctx, func(ch *engine.Change) error {
			placed, id := time.UnixMicro(0), int64(0)
			if last != nil {
				placed, id = last.Record.PlacedAt, last.ID
			}
			list, err := ch.ToMerge(c.ID, before, placed, id, mergeMost)
			last = nil
			if err != nil {
				return err
			}
			if len(list) == mergeMost {
				last = list[mergeMost-1]
			}
			made, err := r.mergeSome(ch, c, list, who)
			out = append(out, made...)
			return err
		})
		if err != nil || last == nil {
			return out, err
		}
	}
}

// dayKey is what the orders of one summary have in common.
type dayKey struct {
	day, currency string
	included      bool
}

// mergeSome makes the summaries of some orders of a channel.
func (r *Orders) mergeSome(ch *engine.Change, c *engine.Conn, list []*order.Order, who string) (out []string, err error) {
	set := c.Settings()
	zone, minute := set.Zone(), engine.MinuteOfDay(set.MergeAt)
	days := map[dayKey][]*order.Order{}
	var sorted []dayKey
	for _, o := range list {
		if !order.Mergeable(o) {
			continue
		}
		// A day is named by the date on which it ends, a moment before the cut.
		begin := order.Cut(o.Record.PlacedAt, minute, zone)
		day := begin.In(zone)
		if minute > 0 {
			day = day.AddDate(0, 0, 1)
		}
		k := dayKey{day.Format(time.DateOnly), o.Record.Currency, o.Record.PricesIncludeTax}
		if days[k] == nil {
			sorted = append(sorted, k)
		}
		days[k] = append(days[k], o)
	}
	series := "order"
	if set.NumberPrefix != "" {
		series = "order " + set.NumberPrefix
		if _, err := ch.SeriesWith(series, set.NumberPrefix); err != nil {
			return nil, err
		}
	}
	for _, k := range sorted {
		made, err := r.mergeDay(ch, c, k, series, days[k], who)
		if err != nil {
			return out, err
		}
		out = append(out, made...)
	}
	return out, nil
}

// mergeDay makes one summary of orders, or several where it would have more lines than an order may.
func (r *Orders) mergeDay(ch *engine.Change, c *engine.Conn, k dayKey, series string, members []*order.Order,
	who string) ([]string, error) {
	counter, err := ch.Counter(series)
	if err != nil {
		return nil, err
	}
	id, err := ch.NewOrderID()
	if err != nil {
		return nil, err
	}
	set := c.Settings()
	customer := engine.Or(set.Customer, engine.Or(set.Anonymous, "Sales of the day"))
	sum, err := order.Merge(id, counter.Next(), members, k.day, fmt.Sprintf("day:%s:%d", k.day, id), customer, ch.Now)
	if errors.Is(err, order.ErrTooLong) && len(members) > 1 {
		first, err := r.mergeDay(ch, c, k, series, members[:len(members)/2], who)
		if err != nil {
			return nil, err
		}
		second, err := r.mergeDay(ch, c, k, series, members[len(members)/2:], who)
		return append(first, second...), err
	}
	if err != nil {
		return nil, engine.OrderStateError(err)
	}
	if err := ch.Keep(counter); err != nil {
		return nil, err
	}
	if err := ch.InsertOrders([]*order.Order{sum}); err != nil {
		return nil, err
	}
	ids := make([]int64, len(members))
	entries := []store.Entry{{At: ch.Now.UnixMicro(), Who: who, Thing: "order", ThingID: id, What: "merged",
		Text: fmt.Sprintf("Summary of %d orders of %s, %s", len(members), k.day, c.Rec().Name)}}
	for i, o := range members {
		ids[i] = o.ID
		entries = append(entries, store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "order", ThingID: o.ID, What: "merged",
			Text: "Part of the day's summary " + sum.Number})
		ch.Tell("order", o.Number)
	}
	if err := ch.SetMerged(ids, id); err != nil {
		return nil, err
	}
	ch.Tell("order", sum.Number)
	return []string{sum.Number}, ch.Note(entries...)
}

// UndoMerge takes a summary apart again, as long as it was not posted: its orders are single, it is void.
func (r *Orders) UndoMerge(ctx context.Context, number, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		sum, err := ch.OrderByNumber(number)
		if err != nil {
			return err
		}
		switch {
		case sum.Kind() != order.Summary:
			return &engine.Refused{Text: fmt.Sprintf("order %s is no summary", number), Conflict: true}
		case sum.Voided:
			return &engine.Refused{Text: fmt.Sprintf("summary %s was undone before", number), Conflict: true}
		case sum.Ours.Posted:
			return &engine.Refused{Text: fmt.Sprintf("summary %s was posted to the books; it can no longer be undone", number),
				Conflict: true}
		}
		members, err := ch.MembersOf(sum.ID)
		if err != nil {
			return err
		}
		entries := []store.Entry{{At: ch.Now.UnixMicro(), Who: who, Thing: "order", ThingID: sum.ID, What: "merge undone",
			Text: fmt.Sprintf("Taken apart: %d orders are single again", len(members))}}
		ids := make([]int64, len(members))
		for i, o := range members {
			ids[i] = o.ID
			entries = append(entries, store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "order", ThingID: o.ID, What: "merge undone",
				Text: "No longer part of " + number})
			ch.Tell("order", o.Number)
		}
		if err := ch.SetMerged(ids, 0); err != nil {
			return err
		}
		sum.Voided = true
		sum.Revision++
		if err := ch.Note(entries...); err != nil {
			return err
		}
		return r.SaveOrder(ch, sum)
	})
}

// Posted notes that a summary went into the books; from then on it cannot be undone.
func (r *Orders) Posted(ctx context.Context, number, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		sum, err := ch.OrderByNumber(number)
		if err != nil {
			return err
		}
		if sum.Kind() != order.Summary || sum.Voided || sum.Ours.Posted {
			return &engine.Refused{Text: fmt.Sprintf("order %s is no summary that waits to be posted", number), Conflict: true}
		}
		sum.Ours.Posted = true
		sum.Revision++
		if err := r.NoteOrder(ch, sum, who, "posted", "Marked as posted to the books"); err != nil {
			return err
		}
		return r.SaveOrder(ch, sum)
	})
}
