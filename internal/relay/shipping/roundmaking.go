package shipping

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"openrelay/internal/core/order"
	"openrelay/internal/core/picking"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

const (
	usualSlots = 12
	mostSlots  = 60
	lookAhead  = 300 // orders among which those of a round are chosen
)

// NewRound is what goes into a round: orders that are named, or those that a rule chooses.
type NewRound struct {
	Orders   []string `json:"orders,omitempty" maxItems:"60" doc:"Numbers of orders; each gets a slot"`
	Rule     string   `json:"rule,omitempty" doc:"Code of a rule for rounds; the most urgent orders that it takes, and those on their way"`
	Location string   `json:"location,omitempty" doc:"Code of the place; empty: where the first order lies"`
}

// RoundMade is a new round, and what could not go into it.
type RoundMade struct {
	Number string    `json:"number"`
	Left   []LeftOut `json:"left" doc:"Orders that could not go into it"`
}

// LeftOut is an order that did not go into a round.
type LeftOut struct {
	Order string `json:"order"`
	Why   string `json:"why"`
}

// MakeRound lets shipments be picked in one walk, each into a slot of its own. Each order has an outcome of its own: one that
// cannot be picked now keeps none of the others back.
func (r *Shipping) MakeRound(ctx context.Context, n NewRound, who string) (out RoundMade, err error) {
	switch {
	case (len(n.Orders) == 0) == (n.Rule == ""):
		return out, engine.Refuse("say which orders, or by which rule")
	case len(n.Orders) > mostSlots:
		return out, engine.Refuse("orders: at most %d fit on a cart", mostSlots)
	}
	numbers := n.Orders
	var location int64
	if n.Location != "" {
		loc, err := r.Inventory.Ours(n.Location)
		if err != nil {
			return out, err
		}
		location = loc.ID
	}
	if n.Rule != "" {
		if numbers, location, err = r.ordersByRule(ctx, n.Rule); err != nil {
			return out, err
		}
	}
	err = r.Commit(ctx, func(ch *engine.Change) error {
		x := store.Round{LocationID: location, State: store.RoundOpen, Rule: n.Rule, MadeBy: who, CreatedAt: ch.Now.UnixMicro()}
		out = RoundMade{Left: []LeftOut{}}
		for _, number := range numbers {
			s, err := r.intoRound(ch, strings.TrimSpace(number), x.LocationID, who)
			why, refused := engine.IsRefused(err)
			if errors.Is(err, store.ErrNotFound) {
				why, refused = "there is no such order", true
			}
			if refused {
				out.Left = append(out.Left, LeftOut{number, why})
				continue
			}
			if err != nil {
				return err
			}
			x.LocationID = s.LocationID
			in, err := intoSlots(ch, &x, s)
			if err != nil {
				return err
			}
			if !in {
				out.Left = append(out.Left, LeftOut{number, "the cart is full"})
			}
		}
		if len(x.Slots) == 0 {
			return &engine.Refused{Text: "none of them can be picked now: " + whyNone(out.Left), Conflict: true}
		}
		if err := ch.AddRound(&x); err != nil {
			return err
		}
		out.Number = x.Number
		ch.Tell("round", x.Number)
		return r.NoteThing(ch, "round", x.ID, who, "made", "%s at %s", engine.Counted(int64(len(x.Slots)), "slot", "slots"),
			r.PlaceName(x.LocationID))
	})
	return out, err
}

// intoSlots gives a shipment a slot of a round, and the next ones to those that travel with it and can be picked now. It says whether
// the shipment has one.
func intoSlots(ch *engine.Change, x *store.Round, s store.Shipment) (in bool, err error) {
	with, err := ch.ShipmentsTogether(s.Together)
	if err != nil {
		return false, err
	}
	for _, one := range append([]store.Shipment{s}, with...) {
		left := slices.ContainsFunc(one.Lines, func(l store.ShipmentLine) bool { return l.Picked < l.Quantity })
		has := slices.ContainsFunc(x.Slots, func(y store.RoundSlot) bool { return y.ShipmentID == one.ID })
		if !left || has || len(x.Slots) >= mostSlots {
			continue
		}
		err := notInRound(ch, &one)
		if _, refused := engine.IsRefused(err); refused {
			continue
		}
		if err != nil {
			return false, err
		}
		x.Slots = append(x.Slots, store.RoundSlot{Slot: len(x.Slots) + 1, ShipmentID: one.ID})
	}
	return slices.ContainsFunc(x.Slots, func(y store.RoundSlot) bool { return y.ShipmentID == s.ID }), nil
}

func whyNone(left []LeftOut) string {
	var parts []string
	for _, l := range left[:min(len(left), 5)] {
		parts = append(parts, l.Order+" ("+l.Why+")")
	}
	if more := len(left) - len(parts); more > 0 {
		parts = append(parts, fmt.Sprintf("and %d more", more))
	}
	return engine.Join(parts)
}

// intoRound is the shipment of an order that goes into a round of a place (0: of any): one that was begun and that nobody picks
// yet, or a new one.
func (r *Shipping) intoRound(ch *engine.Change, number string, location int64, who string) (store.Shipment, error) {
	o, err := ch.OrderByNumber(number)
	if err != nil {
		return store.Shipment{}, err
	}
	if err := o.Workable(); err != nil {
		return store.Shipment{}, engine.OrderStateError(err)
	}
	if s, err := r.freeShipment(ch, o, location); err != nil || s.ID != 0 {
		return s, err
	}
	if _, err := r.beginPick(ch, o, who); err != nil {
		return store.Shipment{}, err
	}
	if err := r.Orders.SaveOrder(ch, o); err != nil {
		return store.Shipment{}, err
	}
	s, err := r.freeShipment(ch, o, location)
	if err == nil && s.ID == 0 {
		return s, &engine.Refused{Text: "nothing of it lies at " + r.PlaceName(location), Conflict: true}
	}
	return s, err
}

// freeShipment is an open shipment of an order at a place that is in no round and has something left to pick; none has the id 0.
func (r *Shipping) freeShipment(ch *engine.Change, o *order.Order, location int64) (store.Shipment, error) {
	list, err := ch.ShipmentsOfOrder(o.ID)
	if err != nil {
		return store.Shipment{}, err
	}
	var in error
	for i := range list {
		s := &list[i]
		left := slices.ContainsFunc(s.Lines, func(l store.ShipmentLine) bool { return l.Picked < l.Quantity })
		if s.State != store.ToPick || !left || location != 0 && s.LocationID != location {
			continue
		}
		err := notInRound(ch, s)
		if _, refused := engine.IsRefused(err); refused {
			in = err
			continue
		}
		return *s, err
	}
	return store.Shipment{}, in
}

// ordersByRule chooses the orders that a rule puts into a round: the most urgent one, and those that lie on its way.
func (r *Shipping) ordersByRule(ctx context.Context, code string) (numbers []string, location int64, err error) {
	rule, err := r.RoundRule(ctx, code)
	if err != nil {
		return nil, 0, err
	}
	rows, err := r.Store.ToCollect(ctx, rule.LocationID, lookAhead)
	if err != nil {
		return nil, 0, err
	}
	list, err := r.candidates(ctx, rule, rows)
	if err != nil {
		return nil, 0, err
	}
	chosen := picking.Choose(list, rule.Slots)
	if len(chosen) == 0 {
		return nil, 0, &engine.Refused{Text: fmt.Sprintf("nothing that %q takes is to be picked now", rule.Name), Conflict: true}
	}
	for _, i := range chosen {
		o, err := r.Store.OrderByID(ctx, list[i].ID)
		if err != nil {
			return nil, 0, err
		}
		numbers = append(numbers, o.Number)
	}
	return numbers, rule.LocationID, nil
}

// candidates are the orders that a rule takes, the most urgent first, with where in the walk they are collected.
func (r *Shipping) candidates(ctx context.Context, rule store.RoundRule, rows []store.ToCollect) ([]picking.Candidate, error) {
	items := map[int64]bool{}
	units, first := map[int64]int64{}, map[int64]store.ToCollect{}
	byOrder := map[int64][]int64{}
	for _, x := range rows {
		items[x.ItemID] = true
		units[x.OrderID] += x.Units
		first[x.OrderID] = x
		byOrder[x.OrderID] = append(byOrder[x.OrderID], x.ItemID)
	}
	bins, err := r.Store.Bins(ctx, rule.LocationID, engine.Keys(items))
	if err != nil {
		return nil, err
	}
	walk, err := r.Store.BinPositions(ctx, rule.LocationID, slices.Collect(maps.Values(bins)))
	if err != nil {
		return nil, err
	}
	var out []picking.Candidate
	for _, id := range slices.Sorted(maps.Keys(byOrder)) {
		if !r.ruleTakes(rule, first[id], units[id]) {
			continue
		}
		c := picking.Candidate{ID: id}
		for _, item := range byOrder[id] {
			if at, ok := walk[bins[item]]; ok {
				c.Stops = append(c.Stops, at)
			}
		}
		out = append(out, c)
	}
	return out, nil
}

// ruleTakes says whether a rule for rounds takes an order.
func (r *Shipping) ruleTakes(rule store.RoundRule, x store.ToCollect, units int64) bool {
	switch {
	case rule.Units == 1 && units != 1, rule.Units == 2 && units == 1:
		return false
	case len(rule.Services) > 0 && !slices.ContainsFunc(rule.Services, func(s string) bool { return strings.EqualFold(s, x.Service) }):
		return false
	case !rule.Today:
		return true
	}
	zone := r.Zone()
	leaves := r.Place(rule.LocationID).Hours.LeavesBy(store.Time(x.ReceivedAt).In(zone))
	now := r.Clock().In(zone)
	return !leaves.IsZero() && leaves.Before(time.Date(now.Year(), now.Month(), now.Day()+1, 0, 0, 0, 0, zone))
}

// RoundRule finds a rule for rounds.
func (r *Shipping) RoundRule(ctx context.Context, code string) (store.RoundRule, error) {
	list, err := r.Store.RoundRules(ctx)
	if err != nil {
		return store.RoundRule{}, err
	}
	i := slices.IndexFunc(list, func(x store.RoundRule) bool { return x.Code == code })
	if i < 0 {
		return store.RoundRule{}, fmt.Errorf("rule %q for rounds: %w", code, store.ErrNotFound)
	}
	return list[i], nil
}

// RoundRuleKind is what rules for rounds are called where their changes are undone.
const RoundRuleKind = "round rule"

// readRoundRule answers how a rule for rounds stands, so that a change of it can be undone.
func (r *Shipping) readRoundRule(ctx context.Context, code string) (any, bool, error) {
	x, err := r.RoundRule(ctx, code)
	if errors.Is(err, store.ErrNotFound) {
		return nil, false, nil
	}
	x.Revision = 0
	return x, err == nil, err
}

// writeRoundRule puts a rule for rounds back to how it stood.
func (r *Shipping) writeRoundRule(ctx context.Context, _ string, was json.RawMessage, who string) error {
	var x store.RoundRule
	if err := json.Unmarshal(was, &x); err != nil {
		return err
	}
	return r.PutRoundRule(ctx, x, who)
}

// PutRoundRule sets a rule for rounds.
func (r *Shipping) PutRoundRule(ctx context.Context, x store.RoundRule, who string) error {
	x.Code, x.Name = strings.TrimSpace(x.Code), strings.TrimSpace(x.Name)
	if x.Slots == 0 {
		x.Slots = usualSlots
	}
	switch {
	case !engine.ValidCode(x.Code):
		return engine.Refuse("code %q: small letters, digits and - are expected", x.Code)
	case x.Name == "" || len(x.Name) > 80:
		return engine.Refuse("name: 1 to 80 characters are expected")
	case x.Slots < 1 || x.Slots > mostSlots:
		return engine.Refuse("slots: 1 to %d fit on a cart", mostSlots)
	case x.Units < 0 || x.Units > 2:
		return engine.Refuse("units: 0, 1 or 2 is expected")
	}
	loc, err := r.Inventory.Ours(x.Location)
	if err != nil {
		return err
	}
	x.LocationID = loc.ID
	if x.Today && !loc.Hours.Said() {
		return &engine.Refused{Text: fmt.Sprintf("today: %s has no hours, so nothing leaves by them; set its hours first", loc.Name),
			Conflict: true}
	}
	var services []string
	for _, s := range x.Services {
		if s = strings.TrimSpace(s); s != "" && !slices.Contains(services, s) {
			services = append(services, s)
		}
	}
	x.Services = services
	return r.Commit(ctx, func(ch *engine.Change) error {
		ch.Tell("round", "")
		if err := ch.PutRoundRule(x); err != nil {
			return err
		}
		return r.NoteThing(ch, "company", 0, who, "round rule", "Rule %s for rounds set", x.Code)
	})
}

// DropRoundRule removes a rule for rounds. Rounds that it made stay.
func (r *Shipping) DropRoundRule(ctx context.Context, code, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		there, err := ch.DropRoundRule(code)
		if err != nil {
			return err
		}
		if !there {
			return fmt.Errorf("rule %q for rounds: %w", code, store.ErrNotFound)
		}
		ch.Tell("round", "")
		return r.NoteThing(ch, "company", 0, who, "round rule", "Rule %s for rounds removed", code)
	})
}
