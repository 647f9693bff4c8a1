package orders

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// OnOrder lets another room change an order with its stock, and writes both, with what is to be noted and what follows.
func (r *Orders) OnOrder(ch *engine.Change, number, who string, f func(*order.Order, *engine.Conn, *order.Scene) (order.Change,
	error)) error {
	return r.onOrder(ch, number, 0, who, f)
}

// onOrder changes one order on a person's word: f decides, and what it decided is saved with all that follows.
func (r *Orders) onOrder(ch *engine.Change, number string, revision int64, who string,
	f func(*order.Order, *engine.Conn, *order.Scene) (order.Change, error)) error {
	o, err := ch.OrderByNumber(number)
	if err != nil {
		return err
	}
	if revision != 0 && o.Revision != revision {
		return store.ErrConflict
	}
	c := r.ByID(o.ConnectionID)
	if c == nil {
		return fmt.Errorf("order %s: its connection is gone", o.Number)
	}
	ids := map[int64]bool{}
	ItemsOf(o, ids)
	book, err := r.Inventory.Book(ch, engine.Keys(ids))
	if err != nil {
		return err
	}
	s, err := r.SceneFor(c, ch, book, who)
	if err != nil {
		return err
	}
	was := findableOf(o)
	got, err := f(o, c, s.Scene)
	if err != nil {
		return engine.OrderStateError(err)
	}
	if err := ch.Note(Notes(got, who, ch.Now)...); err != nil {
		return err
	}
	if err := r.SaveOrder(ch, o); err != nil {
		return err
	}
	ch.Mark(engine.OrderChanged, o.ID)
	if err := r.refind(ch, o, was); err != nil {
		return err
	}
	if got.Answer {
		if err := r.queueAnswer(ch, c, o); err != nil {
			return err
		}
	}
	return r.Inventory.Post(ch, book)
}

// Answer tells a channel that waits for it whether we take an order; minutes is how long it takes to be ready.
func (r *Orders) Answer(ctx context.Context, number string, accept bool, minutes int64, reason, who string) error {
	if minutes < 0 || minutes > 60*24*30 {
		return engine.Refuse("minutes: 0 to 43200 are expected")
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		return r.onOrder(ch, number, 0, who, func(o *order.Order, c *engine.Conn, s *order.Scene) (order.Change, error) {
			return order.GiveAnswer(o, accept, s.Now.Add(time.Duration(minutes)*time.Minute), reason, who, s)
		})
	})
}

// HandOver notes that the buyer has what lay ready, and tells the channel where that can be told.
func (r *Orders) HandOver(ctx context.Context, number, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		return r.onOrder(ch, number, 0, who, func(o *order.Order, c *engine.Conn, s *order.Scene) (order.Change, error) {
			got, err := order.HandOver(o, who, s)
			if err == nil && c.Line().Def.Feeds[message.StatesOut] != nil {
				err = r.queueState(ch, o, "handed over")
			}
			return got, err
		})
	})
}

// Void makes an order one that only stays for the record. With release its number can be given again.
func (r *Orders) Void(ctx context.Context, number, reason string, release bool, revision int64, who string) (string, error) {
	var now string
	err := r.Commit(ctx, func(ch *engine.Change) error {
		return r.onOrder(ch, number, revision, who, func(o *order.Order, _ *engine.Conn, s *order.Scene) (order.Change, error) {
			got, err := order.VoidIt(o, who, reason, s)
			if err != nil {
				return got, err
			}
			if release {
				o.Ours.ReleasedNumber = o.Number
				o.Number = fmt.Sprintf("%s/void-%d", o.Number, o.ID)
				got.Notes = append(got.Notes,
					order.Note{What: "number released", Text: "Number " + o.Ours.ReleasedNumber + " can be given again"})
				ch.Mark(engine.OrderWords, o.ID)
			}
			now = o.Number
			return got, nil
		})
	})
	return now, err
}

// TakeInAgain takes the channel's order behind a voided one in anew, from the newest version that was kept. It
// gets the number that was released, or the next one.
func (r *Orders) TakeInAgain(ctx context.Context, number, who string) (string, error) {
	o, err := r.Store.OrderByNumber(ctx, number)
	if err != nil {
		return "", err
	}
	c := r.ByID(o.ConnectionID)
	switch {
	case !o.Voided:
		return "", &engine.Refused{Text: fmt.Sprintf("order %s is not void; void it first", o.Number), Conflict: true}
	case c == nil:
		return "", fmt.Errorf("order %s: its connection is gone", o.Number)
	}
	in, err := r.Store.NewestInbox(ctx, o.ConnectionID, message.OrdersIn, o.OutsideID)
	if errors.Is(err, store.ErrNotFound) {
		return "", &engine.Refused{Text: "nothing that the channel sent of it is kept any more", Conflict: true}
	}
	if err != nil {
		return "", err
	}
	m, err := r.remap(c, in)
	if err != nil {
		return "", engine.Refuse("what the channel sent of it cannot be read: %v", err)
	}
	free := o.Ours.ReleasedNumber
	if free != "" {
		if _, err := r.Store.OrderByNumber(ctx, free); err == nil {
			free = "" // somebody has it already
		} else if !errors.Is(err, store.ErrNotFound) {
			return "", err
		}
	}
	var out string
	err = r.Commit(ctx, func(ch *engine.Change) (err error) {
		ch.Tell("order", o.Number)
		if out, err = r.takeOn(ch, c, in, m, map[string]string{o.OutsideID: free}, o.TypedBy); err != nil {
			return err
		}
		return r.NoteOrder(ch, o, who, "taken in again", "Taken in again as order %s", out)
	})
	return out, err
}

// TypedOrder is an order that a person types, beside a message that could not be taken in, or from a call.
type TypedOrder struct {
	Connection string        `json:"connection" doc:"Code of the channel it counts for"`
	Inbox      int64         `json:"inbox,omitempty" doc:"The message that could not be taken in; 0: there is none"`
	Order      message.Order `json:"order"`
}

// TypeOrder takes in an order that a person typed. It counts for its channel; the message beside which it was
// typed is settled with it.
func (r *Orders) TypeOrder(ctx context.Context, t TypedOrder, who string) (string, error) {
	c := r.ByCode(t.Connection)
	if c == nil {
		return "", fmt.Errorf("connection %s: %w", t.Connection, store.ErrNotFound)
	}
	if c.Rec().Side != "channel" {
		return "", engine.Refuse("%s is no channel", c.Rec().Name)
	}
	in := store.InboxMessage{ConnectionID: c.ID, Feed: message.OrdersIn, Via: typedVia, Version: 1}
	if t.Inbox != 0 {
		old, state, err := r.Store.Inbox(ctx, t.Inbox)
		if err != nil {
			return "", err
		}
		if old.ConnectionID != c.ID || old.Feed != message.OrdersIn || state != "failed" {
			return "", &engine.Refused{Text: "that message is no order of this channel that waits to be typed", Conflict: true}
		}
		in.OutsideID, in.Version = old.OutsideID, old.Version
	}
	m := completed(t.Order, in.OutsideID, r.Clock().UTC())
	in.OutsideID = engine.Or(in.OutsideID, "typed:"+m.Number)
	raw, err := json.Marshal(&m)
	if err != nil {
		return "", err
	}
	msg, err := typedOrder(c, raw)
	if err != nil {
		return "", engine.Refuse("the order: %v", err)
	}
	var out string
	err = r.Commit(ctx, func(ch *engine.Change) error {
		if have, err := ch.LiveOrder(c.ID, m.Number); err != nil {
			return err
		} else if have != "" {
			return &engine.Refused{Text: fmt.Sprintf("number %s of %s is order %s already", m.Number, c.Rec().Name, have), Conflict: true}
		}
		if in.ID, err = r.receiveTyped(ch, c, in, t.Inbox, raw, who); err != nil {
			return err
		}
		if out, err = r.takeOn(ch, c, in, msg, map[string]string{}, who); err != nil {
			return err
		}
		o, err := ch.OrderByNumber(out)
		if err != nil {
			return err
		}
		return r.NoteOrder(ch, o, who, "typed by", "Typed here; it counts for %s", c.Rec().Name)
	})
	return out, err
}

// receiveTyped keeps a typed order as a message of its channel, or takes the message beside which it was typed, and
// returns the message's id.
func (r *Orders) receiveTyped(ch *engine.Change, c *engine.Conn, in store.InboxMessage, inbox int64, raw []byte,
	who string) (int64, error) {
	if inbox != 0 {
		ch.Tell("exception", "")
		return inbox, ch.CloseExceptionFor(0, inbox, who, ch.Now)
	}
	n, err := ch.Receive(c.ID, in.Feed, in.Via, 0, []store.Received{{OutsideID: in.OutsideID, Version: 1, Raw: raw}}, ch.Now)
	if err != nil {
		return 0, err
	}
	if n == 0 {
		return 0, &engine.Refused{Text: fmt.Sprintf("an order %s was typed for %s before", strings.TrimPrefix(in.OutsideID, "typed:"),
			c.Rec().Name), Conflict: true}
	}
	return ch.InboxID(c.ID, in.Feed, in.OutsideID, 1)
}

// completed fills in what a person who types an order may leave out. outsideID is the channel's number of it, where one
// is known.
func completed(m message.Order, outsideID string, now time.Time) message.Order {
	if m.PlacedAt.IsZero() {
		m.PlacedAt = now
	}
	if m.ChangedAt.IsZero() {
		m.ChangedAt = m.PlacedAt
	}
	if m.Status == "" {
		m.Status, m.State = message.Open, engine.Or(m.State, "typed")
	}
	for i := range m.Lines {
		l := &m.Lines[i]
		l.ID = engine.Or(l.ID, fmt.Sprint(i+1))
		if l.Total == 0 {
			l.Total = l.Gross() - l.Discount
		}
	}
	if m.Total == 0 {
		m.Total = order.Recalculate(&m).Total
	}
	if m.Number == "" && outsideID == "" {
		m.Number = "typed-" + engine.RandomText(8)
	}
	m.Number = engine.Or(m.Number, outsideID)
	return m
}

// Typed says whether a person typed an order: its channel does not know of it.
func Typed(o *order.Order) bool { return o.Via == typedVia }
