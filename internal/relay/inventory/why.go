package inventory

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// OfferWhy explains the quantity a channel shows for an item, now or at a moment of the past.
type OfferWhy struct {
	Item      store.Item
	Listing   store.Listing
	At        time.Time              // zero: now
	Shows     int64                  // what the channel showed then, as far as it is known
	Known     bool                   // whether it is known
	How       string                 // how it is known: told by us, or seen there
	Since     int64                  // since when it showed this
	Allowed   int64                  // what the policy allowed then
	Steps     []stock.Step           // the sum behind it
	Open      *store.OutboxMessage   // a correction on its way
	Promised  []store.OpenAllocation // the orders behind the allocations
	Movements []store.MovementRow    // the newest ledger entries up to then
	On        bool                   // whether the channel is told at all
}

// past checks a moment of which somebody asks; the zero time is now.
func (r *Inventory) past(at time.Time) error {
	switch {
	case at.IsZero():
		return nil
	case at.After(r.Clock().Add(time.Second)):
		return engine.Refuse("at: %s has not come yet", at.Format(time.RFC3339))
	case at.Before(r.Clock().Add(-KeepShown)):
		return engine.Refuse("at: what was before the last 90 days is not kept in this detail")
	}
	return nil
}

// WhyOffer answers "why this number?" for a listing, now (the zero time) or at a moment of the last 90 days.
func (r *Inventory) WhyOffer(ctx context.Context, connection, sku string, at time.Time) (OfferWhy, error) {
	out := OfferWhy{At: at}
	if err := r.past(at); err != nil {
		return out, err
	}
	c := r.ByCode(connection)
	if c == nil {
		return out, engine.NoConnection(connection)
	}
	l, err := r.Store.Listing(ctx, connection, sku)
	if err != nil {
		return out, err
	}
	out.Listing, out.Shows, out.Known, out.Since = l, l.SeenQty, true, l.SeenAt
	out.How = "seen"
	if l.ToldAt == l.SeenAt && l.ToldQty == l.SeenQty {
		out.How = "told"
	}
	_, out.On = r.Feed(c, message.StockOut)
	if l.ItemID == 0 {
		out.Steps = []stock.Step{{Text: "No item of ours is matched to this listing; it is told nothing"}}
		if l.IgnoredAt != 0 {
			out.Steps[0].Text = "The listing is ignored on purpose; it is told nothing"
		}
		return out, nil
	}
	items, err := r.Store.Items(ctx, []int64{l.ItemID})
	if err != nil {
		return out, err
	}
	out.Item = items[l.ItemID]
	w := r.ItemKinds.Load()
	policy, not := w.offered(c, &out.Listing)
	levels, err := r.levelsBehind(ctx, c, &out, &policy)
	if err != nil {
		return out, err
	}
	goods := w.Goods(l.ItemID)
	parts, err := r.Store.Items(ctx, w.Needed([]int64{l.ItemID}))
	if err != nil {
		return out, err
	}
	level := func(k stock.Key) stock.Level { return levels[k] }
	allowed, steps := policy.Explain(goods, level, stock.Names{Place: r.PlaceName, Item: func(id int64) string { return parts[id].SKU }})
	out.Allowed, out.Steps = allowed, append(r.notSentSteps(not), steps...)
	if policy.Shares(goods, level) {
		if err := r.addShare(ctx, &out, policy); err != nil {
			return out, err
		}
	}
	if at.IsZero() {
		if m, err := r.Store.OpenOutboxFor(ctx, c.Rec().ID, message.StockOut, OfferSubject(l.ID)); err == nil {
			out.Open = &m
		} else if !errors.Is(err, store.ErrNotFound) {
			return out, err
		}
	}
	return out, r.addBehind(ctx, &out, goods)
}

// addShare says what of the last units is this listing's share, and where the others are.
func (r *Inventory) addShare(ctx context.Context, out *OfferWhy, policy stock.Policy) error {
	if !out.At.IsZero() {
		out.Steps = append(out.Steps, stock.Step{Result: out.Allowed,
			Text: fmt.Sprintf("From %d units down they were shared by pace; of a share only what was shown is kept", policy.ShareBelow)})
		return nil
	}
	rows, err := r.SharesByListing(ctx, []int64{out.Listing.ItemID})
	if err != nil {
		return err
	}
	mine, ok := rows[out.Listing.ID]
	if !ok {
		return nil
	}
	delete(rows, out.Listing.ID)
	pace, err := r.Store.Paces(ctx, out.Listing.ItemID, r.Clock().AddDate(0, 0, -paceDays))
	if err != nil {
		return err
	}
	var all, others, unsure int64
	for _, units := range pace {
		all += units
	}
	for _, s := range rows {
		others += s.Left
		unsure += s.Before
	}
	may := out.Allowed
	out.Allowed = mine.Left
	out.Steps = append(out.Steps, stock.Step{Change: mine.Left - may, Result: mine.Left,
		Text: fmt.Sprintf("From %d units down they are shared by pace; what others show (%d): %d. Here %d of %d were sold in %d days",
			policy.ShareBelow, len(rows), others, pace[mine.ConnectionID], all, paceDays)})
	if mine.Before+unsure > 0 {
		out.Steps = append(out.Steps, stock.Step{Result: mine.Left,
			Text: fmt.Sprintf("Shown before, and not yet known whether it was sold: %d here, %d elsewhere", mine.Before, unsure)})
	}
	return nil
}

// notSentSteps say which places do not count, and why.
func (r *Inventory) notSentSteps(not []barred) (steps []stock.Step) {
	for _, b := range not {
		steps = append(steps, stock.Step{Text: r.PlaceName(b.location) + " does not count: " + b.why, Location: b.location})
	}
	return steps
}

// addBehind adds what of the goods is promised, and how they moved, newest first.
func (r *Inventory) addBehind(ctx context.Context, out *OfferWhy, goods stock.Goods) error {
	for _, part := range goods.Components() {
		promised, moves, err := r.behind(ctx, part.Item, out.At, 0)
		if err != nil {
			return err
		}
		out.Promised = append(out.Promised, promised...)
		out.Movements = append(out.Movements, moves...)
	}
	slices.SortFunc(out.Movements, func(a, b store.MovementRow) int { return int(b.ID - a.ID) })
	out.Movements = out.Movements[:min(len(out.Movements), 50)]
	return nil
}

// levelsBehind are the levels that an offer is worked out from, now or at a moment: then with what was shown, and under
// which policy.
func (r *Inventory) levelsBehind(ctx context.Context, c *engine.Conn, out *OfferWhy,
	policy *stock.Policy) (map[stock.Key]stock.Level, error) {
	l, at := out.Listing, out.At
	if at.IsZero() {
		return r.Levels(ctx, []int64{l.ItemID})
	}
	var err error
	if *policy, err = r.policyAt(ctx, c, l, at); err != nil {
		return nil, err
	}
	out.Shows, out.How, out.Since, err = r.Store.ShownAt(ctx, l.ID, at)
	switch {
	case err == nil:
		out.Known = true
	case errors.Is(err, store.ErrNotFound):
		out.Known, out.Shows = false, 0
	default:
		return nil, err
	}
	return r.Store.LevelsAt(ctx, r.ItemKinds.Load().Needed([]int64{l.ItemID}), at)
}

// behind lists the orders that held an item at a moment, and the newest ledger entries up to it.
func (r *Inventory) behind(ctx context.Context, item int64, at time.Time, before int64) (promised []store.OpenAllocation,
	moves []store.MovementRow, err error) {
	if at.IsZero() {
		promised, err = r.Store.OpenAllocations(ctx, item, 50)
	} else {
		promised, err = r.Store.PromisedAt(ctx, item, at, 50)
	}
	if err != nil {
		return nil, nil, err
	}
	moves, err = r.Store.Movements(ctx, item, 0, before, at, 50)
	return promised, moves, err
}

// policyAt is how the quantity of a listing was worked out at a moment.
func (r *Inventory) policyAt(ctx context.Context, c *engine.Conn, l store.Listing, at time.Time) (stock.Policy, error) {
	var p stock.Policy
	text, err := r.Store.PolicyAt(ctx, c.ID, 0, at)
	if err != nil {
		return p, err
	}
	if text != "" {
		if err := json.Unmarshal([]byte(text), &p); err != nil {
			return p, fmt.Errorf("policy of %s: %w", c.Rec().Code, err)
		}
	}
	if text, err = r.Store.PolicyAt(ctx, c.ID, l.ID, at); err != nil || text == "" {
		return p, err
	}
	var o stock.Override
	if err := json.Unmarshal([]byte(text), &o); err != nil {
		return p, fmt.Errorf("policy of listing %d: %w", l.ID, err)
	}
	return p.With(&o), nil
}

// LevelWhy explains the stock of an item: levels, who holds it, the ledger, and what channels show.
type LevelWhy struct {
	Item      catalog.Item
	Levels    map[stock.Key]stock.Level
	Usual     map[int64]string // usual bin by location
	Bins      []store.BinRow
	Promised  []store.OpenAllocation
	Movements []store.MovementRow
	Listings  []ListingWhy
	Kits      []string // that it is part of
	Serials   []store.Serial
	Barred    string // why it cannot be sold
}

// ListingWhy is a listing beside what it may show.
type ListingWhy struct {
	store.Listing
	Allowed int64
	On      bool
}

// WhyLevel answers "why this number?" for an item, now (the zero time) or at a moment of the last 90 days.
func (r *Inventory) WhyLevel(ctx context.Context, sku string, before int64, at time.Time) (LevelWhy, error) {
	var out LevelWhy
	if err := r.past(at); err != nil {
		return out, err
	}
	it, err := r.Store.Record(ctx, sku)
	if err != nil {
		return out, err
	}
	out.Item = it
	if at.IsZero() {
		out.Levels, err = r.Store.Levels(ctx, []int64{it.ID})
	} else {
		out.Levels, err = r.Store.LevelsAt(ctx, []int64{it.ID}, at)
	}
	if err != nil {
		return out, err
	}
	out.Usual = map[int64]string{}
	for k := range out.Levels {
		bins, err := r.Store.Bins(ctx, k.Location, []int64{it.ID})
		if err != nil {
			return out, err
		}
		out.Usual[k.Location] = bins[it.ID]
	}
	if out.Bins, err = r.Store.BinLevels(ctx, []int64{it.ID}); err != nil {
		return out, err
	}
	if out.Promised, out.Movements, err = r.behind(ctx, it.ID, at, before); err != nil {
		return out, err
	}
	if out.Kits, err = r.Store.KitsWith(ctx, it.ID); err != nil {
		return out, err
	}
	if it.Serials {
		if out.Serials, err = r.Store.Serials(ctx, it.ID, 500); err != nil {
			return out, err
		}
	}
	out.Barred = r.ItemKinds.Load().Goods(it.ID).Barred
	out.Listings, err = r.listingsWhy(ctx, it.ID)
	return out, err
}

// listingsWhy are the listings of an item beside what each shall show.
func (r *Inventory) listingsWhy(ctx context.Context, item int64) (out []ListingWhy, err error) {
	levels, err := r.Levels(ctx, []int64{item})
	listings, err1 := r.Store.ListingsOfItems(ctx, []int64{item})
	shares, err2 := r.SharesByListing(ctx, []int64{item})
	if err := errors.Join(err, err1, err2); err != nil {
		return nil, err
	}
	for _, l := range listings {
		v := ListingWhy{Listing: l}
		if c := r.ByID(l.ConnectionID); c != nil {
			_, v.On = r.Feed(c, message.StockOut)
			v.Allowed = Shows(c, r.ItemKinds.Load(), &l, func(k stock.Key) stock.Level { return levels[k] }, shares)
		}
		out = append(out, v)
	}
	return out, nil
}

// KeepShown is how long it is known what listings showed.
const KeepShown = 90 * 24 * time.Hour
