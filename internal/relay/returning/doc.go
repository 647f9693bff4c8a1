// Package returning takes back what buyers send back: returns that a channel, a clerk or nobody announced are scanned against
// their order, go to stock, to a bin for a look or are written off, and the channel is told what the buyer gets back. What comes
// back is an order's and a place's; it never changes what the order sold.
package returning

import (
	"fmt"
	"strings"

	"openrelay/internal/core/order"
	"openrelay/internal/core/returns"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/orders"
	"openrelay/internal/store"
)

// Returning takes goods back.
type Returning struct {
	*engine.Engine
	Exchange  *exchange.Exchange
	Inventory *inventory.Inventory
	Orders    *orders.Orders
}

// New makes the returns of a company.
func New(e *engine.Engine, x *exchange.Exchange, inv *inventory.Inventory, o *orders.Orders) *Returning {
	return &Returning{Engine: e, Exchange: x, Inventory: inv, Orders: o}
}

// loadReturn loads a return with its order and what core knows of the order's other returns.
func loadReturn(ch *engine.Change, number string) (r store.GoodsReturn, o *order.Order, others []returns.Return, err error) {
	if r, err = ch.Return(number); err != nil {
		return r, nil, nil, err
	}
	if o, err = ch.Order(r.OrderID); err != nil {
		return r, nil, nil, err
	}
	others, err = othersOf(ch, r.OrderID, r.ID)
	return r, o, others, err
}

// othersOf is what core knows of the returns of an order but for one.
func othersOf(ch *engine.Change, orderID, but int64) ([]returns.Return, error) {
	list, err := ch.ReturnsOfOrder(orderID)
	if err != nil {
		return nil, err
	}
	var out []returns.Return
	for i := range list {
		if list[i].ID != but {
			out = append(out, list[i].Decision())
		}
	}
	return out, nil
}

// refused makes what core does not allow a refusal that people read.
func refused(r *store.GoodsReturn, err error) error {
	if err == nil {
		return nil
	}
	text := strings.TrimPrefix(err.Error(), returns.ErrState.Error()+": ")
	if r.Number != "" {
		text = "return " + r.Number + ": " + text
	}
	return &engine.Refused{Text: text, Conflict: true}
}

// save writes a return, raises what waits for a person, and says on the order what was done.
func (r *Returning) save(ch *engine.Change, x *store.GoodsReturn, o *order.Order, who, what, format string, args ...any) error {
	if err := ch.UpdateReturn(x); err != nil {
		return err
	}
	ch.Tell("return", x.Number)
	ch.Tell("order", o.Number)
	if err := r.raiseWaits(ch, x, o, who); err != nil {
		return err
	}
	return r.NoteOrder(ch, o, who, what, format, args...)
}

// raiseWaits asks a person to decide on a return once all that was announced has come; it ends when that is decided.
func (r *Returning) raiseWaits(ch *engine.Change, x *store.GoodsReturn, o *order.Order, who string) error {
	var awaited int64
	for i := range x.Lines {
		awaited += max(x.Lines[i].Announced-x.Lines[i].Came(), 0)
	}
	ch.Tell("exception", o.Number)
	if x.Status == returns.Settled || x.Status == returns.CalledOff { // no label is wanted any more
		if err := ch.CloseSubject(o.ID, engine.LabelRefused, x.Number, who, ch.Now); err != nil {
			return err
		}
	}
	if x.Status != returns.Arrived || awaited > 0 {
		return ch.CloseSubject(o.ID, engine.ReturnWaits, x.Number, who, ch.Now)
	}
	d := x.Decision()
	return ch.Raise(store.Exception{Cause: engine.ReturnWaits, Subject: x.Number,
		Text: fmt.Sprintf("%s of order %s came back with return %s, and it is not decided what the buyer gets back.",
			engine.Counted(d.Came(), "unit", "units"), o.Number, x.Number),
		Expected:     "A refund, or none: decide on the page of the return. Or send something else in its place.",
		ConnectionID: o.ConnectionID, OrderID: o.ID, Standing: true}, ch.Now)
}
