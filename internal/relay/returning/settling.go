package returning

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"openrelay/internal/core/message"
	"openrelay/internal/core/money"
	"openrelay/internal/core/order"
	"openrelay/internal/core/returns"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/orders"
	"openrelay/internal/store"
)

// Settlement is what the buyer gets back for a return.
type Settlement struct {
	Amount int64  `json:"amount" minimum:"0" doc:"Minor units of the order's currency, with tax and shipping; 0: nothing"`
	Note   string `json:"note,omitempty" doc:"Why it is another sum than was proposed"                                maxLength:"500"`
}

// ProposeRefund works out what the buyer gets back for a return as it is now.
func (r *Returning) ProposeRefund(ctx context.Context, x *store.GoodsReturn, o *order.Order) (returns.Refund, error) {
	list, err := r.Store.ReturnsOfOrder(ctx, o.ID)
	if err != nil {
		return returns.Refund{}, err
	}
	return proposed(x, o, list), nil
}

func proposed(x *store.GoodsReturn, o *order.Order, list []store.GoodsReturn) returns.Refund {
	var others []returns.Return
	var refunded int64
	for i := range list {
		if list[i].ID != x.ID {
			others = append(others, list[i].Decision())
			refunded += list[i].Refund
		}
	}
	d := x.Decision()
	return returns.Propose(o, &d, others, refunded)
}

// SettleReturn decides what the buyer gets back, and ends a return. The channel is told where it can be; where not, a person is
// asked to give the money back.
func (r *Returning) SettleReturn(ctx context.Context, number string, s Settlement, revision int64, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		x, o, _, err := loadReturn(ch, number)
		if err != nil {
			return err
		}
		if revision != 0 && x.Revision != revision {
			return store.ErrConflict
		}
		if x.Status != returns.Arrived {
			return &engine.Refused{Text: fmt.Sprintf("return %s is %s; nothing is to be decided", x.Number, x.Status), Conflict: true}
		}
		list, err := ch.ReturnsOfOrder(o.ID)
		if err != nil {
			return err
		}
		p := proposed(&x, o, list)
		if err := mayRefund(&x, o, list, s.Amount); err != nil {
			return err
		}
		x.Refund, x.RefundTax, x.RefundShipping = s.Amount, p.Tax, p.Shipping
		if s.Amount != p.Total { // its tax is a share of what was proposed
			x.RefundTax, x.RefundShipping = taxIn(s.Amount, p), min(p.Shipping, s.Amount)
		}
		x.Status, x.SettledAt = returns.Settled, ch.Now.UnixMicro()
		if note := strings.TrimSpace(s.Note); note != "" {
			x.Remark = note
		}
		if err := r.tellRefund(ch, &x, o, p); err != nil {
			return err
		}
		text := fmt.Sprintf("Return %s settled: nothing is given back", x.Number)
		if s.Amount > 0 {
			text = fmt.Sprintf("Return %s settled: %s given back", x.Number, amount(s.Amount, o.Record.Currency))
		}
		return r.save(ch, &x, o, who, "refund", "%s", text)
	})
}

// mayRefund refuses more than was paid for an order, all its refunds together.
func mayRefund(x *store.GoodsReturn, o *order.Order, list []store.GoodsReturn, sum int64) error {
	var before int64
	for i := range list {
		if list[i].ID != x.ID {
			before += list[i].Refund
		}
	}
	if left := max(o.Record.Total-before, 0); sum < 0 || sum > left {
		return &engine.Refused{
			Text:     fmt.Sprintf("amount: at most %s of order %s can be given back", amount(left, o.Record.Currency), o.Number),
			Conflict: true,
		}
	}
	return nil
}

// taxIn is the tax in a sum other than the one that was proposed.
func taxIn(sum int64, p returns.Refund) int64 {
	if p.Total == 0 {
		return 0
	}
	return money.Share(p.Tax, sum, p.Total)
}

func amount(minor int64, currency string) string {
	return money.Amount{Minor: minor, Currency: currency}.String()
}

// tellRefund tells the channel of an order what the buyer gets back, or asks a person to.
func (r *Returning) tellRefund(ch *engine.Change, x *store.GoodsReturn, o *order.Order, p returns.Refund) error {
	c := r.ByID(o.ConnectionID)
	if x.Refund == 0 || o.Test || c == nil {
		return nil
	}
	if _, on := r.Feed(c, message.RefundsOut); !on || orders.Typed(o) {
		ch.Tell("exception", o.Number)
		return ch.Raise(store.Exception{Cause: engine.RefundUntold, Subject: x.Number,
			Text: fmt.Sprintf("%s are to be given back for return %s of order %s. %s is not told of refunds.",
				amount(x.Refund, o.Record.Currency), x.Number, o.Number, c.Rec().Name),
			Expected: "A buyer who has their money: give it back there, then settle this here; or switch “refunds out” on, where the " +
				"channel can be told.",
			ConnectionID: o.ConnectionID, OrderID: o.ID, Standing: true}, ch.Now)
	}
	m := message.Refund{Reference: r.Prefix + "-r-" + x.Number, OrderID: o.OutsideID, OrderNumber: o.Record.Number, OurNumber: o.Number,
		ReturnNumber: x.Number, Currency: o.Record.Currency, Amount: x.Refund, Shipping: x.RefundShipping, Tax: x.RefundTax,
		Reason: x.Reason}
	if x.ToldBy == o.ConnectionID {
		m.Announced = x.ToldID
	}
	for _, l := range p.Lines {
		m.Lines = append(m.Lines, message.RefundLine{ID: o.Line(l.LineID).OutsideID, SKU: l.SKU, Quantity: l.Quantity, Amount: l.Amount})
	}
	payload, err := json.Marshal(m)
	if err != nil {
		return err
	}
	_, err = r.Exchange.Queue(ch, store.OutboxMessage{ConnectionID: c.ID, Feed: message.RefundsOut, Subject: "return " + x.Number,
		Payload: string(payload), OrderID: o.ID})
	return err
}

// Exchange is what is sent in place of what came back.
type Exchange struct {
	Lines []ExchangeLine `json:"lines"`
	Note  string         `json:"note,omitempty" maxLength:"500"`
}

// ExchangeLine is units of an item that are sent in exchange.
type ExchangeLine struct {
	SKU      string `json:"sku" maxLength:"80"`
	Quantity int64  `json:"quantity" minimum:"1"`
}

// ExchangeReturn sends something in place of what came back, or is to: a new order to the same buyer that costs nothing, linked to
// the return. It returns the number of the order.
func (r *Returning) ExchangeReturn(ctx context.Context, number string, x Exchange, who string) (string, error) {
	back, err := r.Store.Return(ctx, number)
	if err != nil {
		return "", err
	}
	if back.ExchangeID != 0 {
		return "", &engine.Refused{
			Text:     fmt.Sprintf("order %s is sent in place of return %s already", back.Exchange, number),
			Conflict: true,
		}
	}
	if back.Status == returns.CalledOff {
		return "", &engine.Refused{Text: fmt.Sprintf("return %s is called off", number), Conflict: true}
	}
	if len(x.Lines) == 0 {
		return "", engine.Refuse("lines: say what is sent")
	}
	o, err := r.Store.OrderByID(ctx, back.OrderID)
	if err != nil {
		return "", err
	}
	c := r.ByID(o.ConnectionID)
	if c == nil {
		return "", &engine.Refused{Text: fmt.Sprintf("the channel of order %s is gone", o.Number), Conflict: true}
	}
	m := message.Order{
		Number:           o.Record.Number + "-X-" + back.Number,
		Currency:         o.Record.Currency,
		PricesIncludeTax: o.Record.PricesIncludeTax,
		BuyerName:        o.Record.BuyerName,
		BuyerEmail:       o.Record.BuyerEmail,
		ShipTo:           o.ShipTo,
		Paid:             true,
		Note:             strings.TrimSpace("Exchange for return " + back.Number + " of order " + o.Number + ". " + x.Note),
	}
	for _, l := range x.Lines {
		it, err := r.Store.Item(ctx, l.SKU)
		if err != nil {
			return "", engine.Refuse("lines: no item is known as %s", l.SKU)
		}
		m.Lines = append(m.Lines, message.OrderLine{SKU: it.SKU, Title: it.Name, Quantity: l.Quantity})
	}
	made, err := r.typedBefore(ctx, m.Number)
	if err == nil && made == "" {
		made, err = r.Orders.TypeOrder(ctx, orders.TypedOrder{Connection: c.Rec().Code, Order: m}, who)
	}
	if err != nil {
		return "", err
	}
	return made, r.Commit(ctx, func(ch *engine.Change) error { return r.link(ch, number, made, who) })
}

// typedBefore is the order that was typed for an exchange and not linked, because the process ended in between; empty: none was.
func (r *Returning) typedBefore(ctx context.Context, number string) (string, error) {
	o, err := r.Store.OrderByNumber(ctx, number)
	if errors.Is(err, store.ErrNotFound) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	return o.Number, nil
}

// link notes which order is sent in place of a return.
func (r *Returning) link(ch *engine.Change, number, made, who string) error {
	x, o, _, err := loadReturn(ch, number)
	if err != nil {
		return err
	}
	sent, err := ch.OrderByNumber(made)
	if err != nil {
		return err
	}
	x.ExchangeID, x.Exchange = sent.ID, sent.Number
	if err := r.NoteOrder(ch, sent, who, "exchange", "Sent in place of return %s of order %s", x.Number, o.Number); err != nil {
		return err
	}
	return r.save(ch, &x, o, who, "exchange", "Order %s is sent in place of return %s", sent.Number, x.Number)
}
