package partners

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"openrelay/internal/core/request"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// nameItems writes on the lines of a request what its partner calls the items; "" of one that it is never asked for. Those that it does
// not know are returned by our SKU, and raised.
func (r *Partners) nameItems(ch *engine.Change, c *engine.Conn, q *store.Request) (unknown []string, err error) {
	ids := make([]int64, len(q.Lines))
	for i := range q.Lines {
		ids[i] = q.Lines[i].ItemID
	}
	items, err := ch.Items(ids)
	if err != nil {
		return nil, err
	}
	for i := range q.Lines {
		l := &q.Lines[i]
		it := items[l.ItemID]
		code, known, err := r.code(ch, c, l.ItemID, it.SKU)
		if err != nil {
			return nil, err
		}
		if l.SKU = code; known {
			continue
		}
		l.SKU = it.SKU
		unknown = append(unknown, it.SKU)
		if err := r.raiseUnknown(ch, c, q, it, "it is asked only for what it has a name of its own for"); err != nil {
			return nil, err
		}
	}
	return unknown, nil
}

// code is what a partner calls an item: "" where it is never asked for it.
func (r *Partners) code(ch *engine.Change, c *engine.Conn, item int64, sku string) (code string, known bool, err error) {
	p, err := ch.PartnerItem(c.ID, item)
	switch {
	case errors.Is(err, store.ErrNotFound):
		t, err := r.terms(ch, c)
		return sku, t.Items != request.TheirNames, err
	case err != nil:
		return "", false, err
	case p.Ignored:
		return "", true, nil
	}
	return engine.Or(p.Code, sku), true, nil
}

// raiseUnknown asks what a partner calls an item; once that is said, all requests go on that wait for it.
func (r *Partners) raiseUnknown(ch *engine.Change, c *engine.Conn, q *store.Request, it store.Item, why string) error {
	ch.Tell("exception", "")
	return ch.Raise(store.Exception{Cause: engine.UnknownThere, Subject: it.SKU, ItemID: it.ID, ConnectionID: c.ID, OrderID: q.OrderID,
		Text: fmt.Sprintf("%s does not know %s (%s): %s.", c.Rec().Name, it.SKU, it.Name, why),
		Expected: "What it calls the item, or that it is never asked for it (on the partner's page, or below). Every order that " +
			"waits for this then goes on by itself.", Standing: true}, ch.Now)
}

// PartnerItem is what a person says of an item at a partner.
type PartnerItem struct {
	SKU     string `json:"sku" doc:"Ours" maxLength:"80"`
	Code    string `json:"code,omitempty" doc:"What the partner calls it; empty: by our SKU" maxLength:"80"`
	Ignored bool   `json:"ignored,omitempty" doc:"It is never asked for it: it counts as sent with the rest of an order"`
}

// SayItem says what a partner calls an item. What waited for that goes on.
func (r *Partners) SayItem(ctx context.Context, partner string, p PartnerItem, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error { return r.PutItem(ch, partner, p, who) })
}

// PutItem is SayItem within a change.
func (r *Partners) PutItem(ch *engine.Change, partner string, p PartnerItem, who string) error {
	c, err := r.Partner(partner)
	if err != nil {
		return err
	}
	p.Code = request.Tidy(p.Code)
	if p.Ignored && p.Code != "" {
		return engine.Refuse("code: it is either never asked for, or has a name there")
	}
	item, err := itemBySKU(ch, p.SKU)
	if err != nil {
		return err
	}
	if other, err := ch.ItemOfPartner(c.ID, p.Code); err != nil {
		return err
	} else if other != 0 && other != item {
		return &engine.Refused{Text: fmt.Sprintf("%s calls another item %s already", c.Rec().Name, p.Code), Conflict: true}
	}
	if err := ch.PutPartnerItem(store.PartnerItem{ConnectionID: c.ID, ItemID: item, Code: p.Code, Ignored: p.Ignored},
		ch.Now); err != nil {
		return err
	}
	text := fmt.Sprintf("%s calls %s %s", c.Rec().Name, p.SKU, engine.Or(p.Code, p.SKU))
	if p.Ignored {
		text = fmt.Sprintf("%s is never asked for %s", c.Rec().Name, p.SKU)
	}
	return r.itemSaid(ch, c, item, text, who, p.Code, p.SKU)
}

// ForgetItem forgets what a partner calls an item.
func (r *Partners) ForgetItem(ctx context.Context, partner, sku, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error { return r.DropItem(ch, partner, sku, who) })
}

// DropItem is ForgetItem within a change.
func (r *Partners) DropItem(ch *engine.Change, partner, sku, who string) error {
	c, err := r.Partner(partner)
	if err != nil {
		return err
	}
	item, err := itemBySKU(ch, sku)
	if err != nil {
		return err
	}
	if err := ch.DropPartnerItem(c.ID, item); err != nil {
		return fmt.Errorf("%s at %s: %w", sku, c.Rec().Name, err)
	}
	return r.itemSaid(ch, c, item, fmt.Sprintf("What %s calls %s is not said any more", c.Rec().Name, sku), who, sku)
}

// itemSaid lets go on what waited for a name of an item: requests, and what the partner said of its stock under some names.
func (r *Partners) itemSaid(ch *engine.Change, c *engine.Conn, item int64, text, who string, names ...string) error {
	if some, err := ch.RetakeStock(c.ID, names...); err != nil {
		return err
	} else if some {
		ch.After(c.WakeIn.Now)
	}
	if err := ch.CloseItemException(item, c.ID, engine.UnknownThere, ch.Now); err != nil {
		return err
	}
	ch.Tell("exception", "")
	ch.Tell("partner", c.Rec().Code)
	if err := ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "item", ThingID: item, What: "at a partner",
		Text: text}); err != nil {
		return err
	}
	waiting, err := ch.RequestsWaitingFor(c.ID, item)
	if err != nil {
		return err
	}
	for i := range waiting {
		q := &waiting[i]
		o, err := ch.Order(q.OrderID)
		if err != nil {
			return err
		}
		if err := r.over(ch, q, engine.RequestLook); err != nil {
			return err
		}
		if err := r.send(ch, c, o, q, who); err != nil {
			return err
		}
	}
	return nil
}

func itemBySKU(ch *engine.Change, sku string) (int64, error) {
	sku = strings.TrimSpace(sku)
	found, err := ch.ItemsBySKU([]string{sku})
	if err == nil && found[sku] == 0 {
		err = engine.Refuse("sku: there is no item %q", sku)
	}
	return found[sku], err
}

// Partner is the connection of a code, where it is a partner.
func (r *Partners) Partner(code string) (*engine.Conn, error) {
	c := r.ByCode(code)
	if c == nil {
		return nil, engine.NoConnection(code)
	}
	if !engine.TakesRequests(c) {
		return nil, &engine.Refused{Text: c.Rec().Name + " cannot be asked to send anything: its definition has no requests",
			Conflict: true}
	}
	return c, nil
}
