package orders

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/store"
)

// findable is what of an order is kept beside it for finding it again.
type findable struct{ number, buyer, recipient, tags string }

func findableOf(o *order.Order) findable {
	return findable{o.Record.Number, o.Record.BuyerName, o.ShipTo.Name, engine.Join(o.Ours.Tags)}
}

// refind writes anew what has changed of that.
func (r *Orders) refind(ch *engine.Change, o *order.Order, was findable) error {
	now := findableOf(o)
	if now.tags != was.tags {
		if err := ch.PutTags(o); err != nil {
			return err
		}
	}
	now.tags, was.tags = "", ""
	if now == was {
		return nil
	}
	ch.Mark(engine.OrderWords, o.ID)
	return nil
}

// counter is the number series of an order: the connection's own, and another one for what others fulfil.
func (r *Orders) counter(b *exchange.Batch, open map[string]*store.Counter, set *engine.Settings,
	m *message.Order) (*store.Counter, error) {
	series, prefix := "order", set.NumberPrefix
	if m.FulfilledBy != "" && set.ChannelPrefix != "" {
		prefix = set.ChannelPrefix
	}
	if prefix != "" {
		series = "order " + prefix
	}
	if c := open[series]; c != nil {
		return c, nil
	}
	if prefix != "" {
		if _, err := b.Ch.SeriesWith(series, prefix); err != nil {
			return nil, err
		}
	}
	c, err := b.Ch.Counter(series)
	open[series] = c
	return c, err
}

// customers lets a decision find the customers of the orders: by e-mail on this connection, new where there is
// none, or one for all by setting.
func (r *Orders) customers(b *exchange.Batch, s *order.Scene, msgs []exchange.Mapped) error {
	if b.C.Rec().Test {
		return nil
	}
	if name := b.C.Settings().Customer; name != "" {
		id, err := b.Ch.AddCustomer(store.Customer{ConnectionID: b.C.ID, OutsideID: "generic", Name: name, Address: "{}",
			ChangedAt: b.Ch.Now.UnixMicro()})
		s.Customer = func(*message.Order) (int64, bool) { return id, false }
		return err
	}
	var emails []string
	first := map[string]*message.Order{}
	for _, m := range msgs {
		if o := m.Msg.(*message.Order); o.BuyerEmail != "" && first[o.BuyerEmail] == nil {
			first[o.BuyerEmail] = o
			emails = append(emails, o.BuyerEmail)
		}
	}
	ids, returning, err := b.Ch.CustomersByEmail(b.C.ID, emails)
	if err != nil {
		return err
	}
	for _, email := range emails {
		if ids[email] != 0 {
			continue
		}
		o := first[email]
		address, err := json.Marshal(o.ShipTo)
		if err != nil {
			return err
		}
		if ids[email], err = b.Ch.AddCustomer(store.Customer{ConnectionID: b.C.ID, OutsideID: "mail:" + email,
			Name: engine.Or(o.BuyerName, o.ShipTo.Name), Email: email, Phone: o.ShipTo.Phone,
			Address: string(address), ChangedAt: b.Ch.Now.UnixMicro()}); err != nil {
			return err
		}
	}
	s.Customer = func(m *message.Order) (int64, bool) {
		id := ids[m.BuyerEmail]
		before := returning[id]
		returning[id] = true
		return id, id != 0 && before
	}
	return nil
}

// traits lets rules know what the items of the orders weigh and belong to.
func (r *Orders) traits(b *exchange.Batch, s *order.Scene, items []int64) error {
	traits, err := b.Ch.Traits(items)
	if err != nil {
		return err
	}
	plain := s.Goods
	s.Goods = func(item int64) order.Sells {
		g, t := plain(item), traits[item]
		g.WeightG, g.Category, g.Marks = t.WeightG, t.Category, t.Marks
		return g
	}
	return nil
}

// countedOut lets a decision know what the keeper of the channel's own location has counted out.
func (r *Orders) countedOut(b *exchange.Batch, s *order.Scene, items []int64) error {
	if s.Own == 0 || r.Place(s.Own).Keeper != b.C.ID {
		return nil
	}
	words, err := b.Ch.Words(s.Own, items)
	if err != nil {
		return err
	}
	s.Counted = func(item int64, sold time.Time) bool {
		at, ok := words[item]
		return ok && !at.Before(sold.Add(-engine.AboutThen))
	}
	return nil
}

// tellChannel queues what the channel is to be told of orders that were just decided on.
func (r *Orders) tellChannel(b *exchange.Batch, created, changed []*order.Order, answers map[int64]bool) error {
	for _, list := range [][]*order.Order{created, changed} {
		for _, o := range list {
			if !answers[o.ID] {
				continue
			}
			if err := r.queueAnswer(b.Ch, b.C, o); err != nil {
				return err
			}
		}
	}
	if !b.C.Settings().TellTaken || b.C.Line().Def.Feeds[message.StatesOut] == nil {
		return nil
	}
	for _, o := range created {
		if o.Record.Status == message.Open && !o.Test && !o.Elsewhere() {
			if err := r.queueState(b.Ch, o, "taken in"); err != nil {
				return err
			}
		}
	}
	return nil
}

// queueAnswer tells the channel whether we take an order.
func (r *Orders) queueAnswer(ch *engine.Change, c *engine.Conn, o *order.Order) error {
	if c.Line().Def.Feeds[message.AnswersOut] == nil {
		return nil
	}
	a := o.Ours.Answer
	payload, err := json.Marshal(message.OrderAnswer{Reference: r.Prefix + "-a-" + o.Number, OrderID: o.OutsideID,
		OrderNumber: o.Record.Number, Accepted: a.State == order.Accepted, ReadyAt: a.ReadyAt, Reason: a.Reason})
	if err != nil {
		return err
	}
	_, err = r.Queue(ch, store.OutboxMessage{ConnectionID: c.ID, Feed: message.AnswersOut, Subject: "order " + o.Number,
		Payload: string(payload), OrderID: o.ID})
	return err
}

// ToldChannel notes on the order that its channel was told something.
func (r *Orders) ToldChannel(what string) func(*engine.Change, *engine.Conn, store.OutboxMessage, any) error {
	return func(ch *engine.Change, c *engine.Conn, m store.OutboxMessage, _ any) error {
		if m.OrderID == 0 {
			return nil
		}
		return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: "relay", Thing: "order", ThingID: m.OrderID, What: "told the channel",
			Text: fmt.Sprintf("%s told %s", c.Rec().Name, what)})
	}
}

// queueState tells the channel how far an order has come.
func (r *Orders) queueState(ch *engine.Change, o *order.Order, state string) error {
	payload, err := json.Marshal(message.OrderState{Reference: r.Prefix + "-s-" + o.Number + "-" + state[:5], OrderID: o.OutsideID,
		OrderNumber: o.Record.Number, OurNumber: o.Number, State: state})
	if err != nil {
		return err
	}
	_, err = r.Queue(ch, store.OutboxMessage{ConnectionID: o.ConnectionID, Feed: message.StatesOut, Subject: "order " + o.Number + " " +
		state, Payload: string(payload), OrderID: o.ID})
	return err
}

// remap reads an inbox message again, as its connection understands it now.
func (r *Orders) remap(c *engine.Conn, in store.InboxMessage) (*message.Order, error) {
	raw, err := r.Store.InboxRaw(r.Ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if store.Thinned(raw) {
		return nil, &engine.Refused{Text: "what was received was removed after its time, so it cannot be read again", Conflict: true}
	}
	if in.Via == typedVia {
		return typedOrder(c, raw)
	}
	u := exchange.MapSafely(c, func() (any, error) { return c.Line().Map(in.Feed, in.Via, raw) })
	if u.Err != nil {
		return nil, u.Err
	}
	o, ok := u.Msg.(*message.Order)
	if !ok {
		return nil, fmt.Errorf("it is no order")
	}
	return o, nil
}

// typedVia is how messages came that a person typed.
const typedVia = "typed"

func typedOrder(c *engine.Conn, raw []byte) (*message.Order, error) {
	var o message.Order
	if err := json.Unmarshal(raw, &o); err != nil {
		return nil, err
	}
	u := exchange.MapSafely(c, func() (any, error) { return &o, nil })
	return &o, u.Err
}

// takeOn decides on one message out of turn: typed by a person, or taken in again.
func (r *Orders) takeOn(ch *engine.Change, c *engine.Conn, in store.InboxMessage, m *message.Order, again map[string]string,
	typed string) (number string, err error) {
	b := r.Exchange.NewBatch(c, ch)
	b.Again, b.Typed = again, typed
	if err := r.TakeOrders(b, []exchange.Mapped{{In: in, Msg: m}}); err != nil {
		return "", err
	}
	if err := b.Finish(nil); err != nil {
		return "", err
	}
	for _, o := range b.Outcomes {
		if o.State == "skipped" {
			return "", &engine.Refused{Text: o.Reason, Conflict: true}
		}
		made, err := ch.Order(o.OrderID)
		if err != nil {
			return "", err
		}
		number = made.Number
	}
	return number, nil
}

func without(list []string, s string) []string {
	return slices.DeleteFunc(slices.Clone(list), func(x string) bool { return x == s })
}
