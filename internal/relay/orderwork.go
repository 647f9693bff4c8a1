package relay

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/store"
)

// onOrder changes one order on a person's word: f decides, and what it decided is saved with all that follows.
func (r *Relay) onOrder(ch *change, number string, revision int64, who string, f func(*order.Order, *conn, *order.Scene) (order.Change, error)) error {
	o, err := ch.OrderByNumber(number)
	if err != nil {
		return err
	}
	if revision != 0 && o.Revision != revision {
		return store.ErrConflict
	}
	c := r.byID(o.ConnectionID)
	if c == nil {
		return fmt.Errorf("order %s: its connection is gone", o.Number)
	}
	ids := map[int64]bool{}
	itemsOf(o, ids)
	book, err := r.book(ch, keys(ids))
	if err != nil {
		return err
	}
	s, err := r.sceneFor(c, ch, book, who)
	if err != nil {
		return err
	}
	was := findableOf(o)
	got, err := f(o, c, s.Scene)
	if err != nil {
		return orderStateError(err)
	}
	if err := ch.Note(notes(got, who, ch.now)...); err != nil {
		return err
	}
	if err := r.saveOrder(ch, o); err != nil {
		return err
	}
	if err := r.syncShipments(ch, o); err != nil {
		return err
	}
	b := &batch{r: r, c: c, ch: ch}
	if err := b.refind(o, was); err != nil {
		return err
	}
	if got.Answer {
		if err := r.queueAnswer(ch, c, o); err != nil {
			return err
		}
	}
	return r.post(ch, book)
}

// Answer tells a channel that waits for it whether we take an order; minutes is how long it takes to be ready.
func (r *Relay) Answer(ctx context.Context, number string, accept bool, minutes int64, reason, who string) error {
	if minutes < 0 || minutes > 60*24*30 {
		return Refuse("minutes: 0 to 43200 are expected")
	}
	return r.commit(ctx, func(ch *change) error {
		return r.onOrder(ch, number, 0, who, func(o *order.Order, c *conn, s *order.Scene) (order.Change, error) {
			return order.GiveAnswer(o, accept, s.Now.Add(time.Duration(minutes)*time.Minute), reason, who, s)
		})
	})
}

// HandOver notes that the buyer has what lay ready, and tells the channel where that can be told.
func (r *Relay) HandOver(ctx context.Context, number, who string) error {
	return r.commit(ctx, func(ch *change) error {
		return r.onOrder(ch, number, 0, who, func(o *order.Order, c *conn, s *order.Scene) (order.Change, error) {
			got, err := order.HandOver(o, who, s)
			if err == nil && c.line().Def.Feeds["states out"] != nil {
				err = r.queueState(ch, o, "handed over")
			}
			return got, err
		})
	})
}

// Void makes an order one that only stays for the record. With release its number can be given again.
func (r *Relay) Void(ctx context.Context, number, reason string, release bool, revision int64, who string) (string, error) {
	var now string
	err := r.commit(ctx, func(ch *change) error {
		return r.onOrder(ch, number, revision, who, func(o *order.Order, _ *conn, s *order.Scene) (order.Change, error) {
			got, err := order.VoidIt(o, who, reason, s)
			if err != nil {
				return got, err
			}
			if release {
				o.Ours.ReleasedNumber = o.Number
				o.Number = fmt.Sprintf("%s/void-%d", o.Number, o.ID)
				got.Notes = append(got.Notes, order.Note{What: "number released", Text: "Number " + o.Ours.ReleasedNumber + " can be given again"})
				if err := ch.Findable(o); err != nil {
					return got, err
				}
			}
			now = o.Number
			return got, nil
		})
	})
	return now, err
}

// TakeInAgain takes the channel's order behind a voided one in anew, from the newest version that was kept. It
// gets the number that was released, or the next one.
func (r *Relay) TakeInAgain(ctx context.Context, number, who string) (string, error) {
	o, err := r.Store.OrderByNumber(ctx, number)
	if err != nil {
		return "", err
	}
	c := r.byID(o.ConnectionID)
	switch {
	case !o.Voided:
		return "", &Refused{Text: fmt.Sprintf("order %s is not void; void it first", o.Number), Conflict: true}
	case c == nil:
		return "", fmt.Errorf("order %s: its connection is gone", o.Number)
	}
	in, err := r.Store.NewestInbox(ctx, o.ConnectionID, "orders in", o.OutsideID)
	if errors.Is(err, store.ErrNotFound) {
		return "", &Refused{Text: "nothing that the channel sent of it is kept any more", Conflict: true}
	}
	if err != nil {
		return "", err
	}
	m, err := r.remap(c, in)
	if err != nil {
		return "", Refuse("what the channel sent of it cannot be read: %v", err)
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
	err = r.commit(ctx, func(ch *change) (err error) {
		ch.tell("order", o.Number)
		if out, err = r.takeOn(ch, c, in, m, map[string]string{o.OutsideID: free}, o.TypedBy); err != nil {
			return err
		}
		return r.noteOrder(ch, o, who, "taken in again", "Taken in again by %s as order %s", who, out)
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
func (r *Relay) TypeOrder(ctx context.Context, t TypedOrder, who string) (string, error) {
	c := r.byCode(t.Connection)
	if c == nil {
		return "", fmt.Errorf("connection %s: %w", t.Connection, store.ErrNotFound)
	}
	if c.rec().Side != "channel" {
		return "", Refuse("%s is no channel", c.rec().Name)
	}
	in := store.InboxMessage{ConnectionID: c.id, Feed: "orders in", Via: typedVia, Version: 1}
	if t.Inbox != 0 {
		old, state, err := r.Store.Inbox(ctx, t.Inbox)
		if err != nil {
			return "", err
		}
		if old.ConnectionID != c.id || old.Feed != "orders in" || state != "failed" {
			return "", &Refused{Text: "that message is no order of this channel that waits to be typed", Conflict: true}
		}
		in.OutsideID, in.Version = old.OutsideID, old.Version
	}
	m := t.Order
	now := r.now().UTC()
	if m.PlacedAt.IsZero() {
		m.PlacedAt = now
	}
	if m.ChangedAt.IsZero() {
		m.ChangedAt = m.PlacedAt
	}
	if m.Status == "" {
		m.Status, m.State = message.Open, or(m.State, "typed")
	}
	for i := range m.Lines {
		l := &m.Lines[i]
		l.ID = or(l.ID, fmt.Sprint(i+1))
		if l.Total == 0 {
			l.Total = l.Gross() - l.Discount
		}
	}
	if m.Total == 0 {
		m.Total = order.Recalculate(&m).Total
	}
	if m.Number == "" && in.OutsideID == "" {
		m.Number = "typed-" + randomText(8)
	}
	m.Number = or(m.Number, in.OutsideID)
	in.OutsideID = or(in.OutsideID, "typed:"+m.Number)
	raw, err := json.Marshal(&m)
	if err != nil {
		return "", err
	}
	msg, err := typedOrder(c, raw)
	if err != nil {
		return "", Refuse("the order: %v", err)
	}
	var out string
	err = r.commit(ctx, func(ch *change) error {
		if t.Inbox != 0 {
			in.ID = t.Inbox
			if err := ch.CloseExceptionFor(0, t.Inbox, who, ch.now); err != nil {
				return err
			}
			ch.tell("exception", "")
		} else {
			n, err := ch.Receive(c.id, in.Feed, in.Via, 0, []store.Received{{OutsideID: in.OutsideID, Version: 1, Raw: raw}}, ch.now)
			if err != nil {
				return err
			}
			if n == 0 {
				return &Refused{Text: fmt.Sprintf("an order %s was typed for %s before", m.Number, c.rec().Name), Conflict: true}
			}
			if in.ID, err = ch.InboxID(c.id, in.Feed, in.OutsideID, 1); err != nil {
				return err
			}
		}
		var err error
		if out, err = r.takeOn(ch, c, in, msg, map[string]string{}, who); err != nil {
			return err
		}
		o, err := ch.OrderByNumber(out)
		if err != nil {
			return err
		}
		return r.noteOrder(ch, o, who, "typed by", "Typed by %s; it counts for %s", who, c.rec().Name)
	})
	return out, err
}

// Bulk is one action on many orders.
type Bulk struct {
	Action string   `json:"action" enum:"approve,hold,tag,untag,assign,pick,ship,cancel,void,hand over"`
	Value  string   `json:"value,omitempty" doc:"The tag, the person, or the reason"`
	Orders []string `json:"orders" maxItems:"500" doc:"Numbers"`
}

// BulkResult is what became of one order.
type BulkResult struct {
	Number string `json:"number"`
	OK     bool   `json:"ok"`
	Text   string `json:"text"`

	Was string `json:"was,omitempty" doc:"What undoing brings back"`
}

// BulkDone is an action on many orders with what became of each.
type BulkDone struct {
	ID      int64        `json:"id"`
	Action  string       `json:"action"`
	Value   string       `json:"value,omitempty"`
	Results []BulkResult `json:"results"`
	Done    int          `json:"done"`
	Undo    bool         `json:"undo" doc:"It can be undone"`
}

// undoable are the actions that can be taken back, and how.
var undoable = map[string]string{"tag": "untag", "untag": "tag", "hold": "approve", "assign": "assign", "approve": "hold"}

// Act does one thing to many orders, each for itself: one that it cannot be done to does not keep the others
// from it.
func (r *Relay) Act(ctx context.Context, b Bulk, who string) (BulkDone, error) {
	out := BulkDone{Action: b.Action, Value: b.Value, Results: []BulkResult{}}
	value := strings.TrimSpace(b.Value)
	switch b.Action {
	case "tag", "untag":
		if value == "" || len(value) > 60 || strings.ContainsAny(value, ",\"\\") {
			return out, Refuse("a tag has 1 to 60 characters and neither comma nor quotes")
		}
	case "assign", "approve", "hold", "pick", "ship", "cancel", "void", "hand over":
	default:
		return out, Refuse("action %q is none of approve, hold, tag, untag, assign, pick, ship, cancel, void and hand over", b.Action)
	}
	if len(b.Orders) == 0 || len(b.Orders) > 500 {
		return out, Refuse("1 to 500 orders are expected")
	}
	seen := map[string]bool{}
	for _, number := range b.Orders {
		if seen[number] {
			continue
		}
		seen[number] = true
		res := BulkResult{Number: number}
		text, was, err := r.actOne(ctx, b.Action, value, number, who)
		var refused *Refused
		switch {
		case err == nil:
			res.OK, res.Text, res.Was = true, text, was
			out.Done++
		case errors.As(err, &refused):
			res.Text = refused.Text
		case errors.Is(err, store.ErrNotFound):
			res.Text = "there is no such order"
		case ctx.Err() != nil:
			return out, err
		default:
			r.log.Error("an order could not be acted on", "order", number, "action", b.Action, "error", err)
			res.Text = "something broke on our side; it is in the service's log"
		}
		out.Results = append(out.Results, res)
	}
	out.Undo = undoable[b.Action] != "" && out.Done > 0
	return out, r.keepBulk(ctx, &out, who)
}

func (r *Relay) keepBulk(ctx context.Context, d *BulkDone, who string) error {
	results, err := json.Marshal(d.Results)
	if err != nil {
		return err
	}
	return r.commit(ctx, func(ch *change) (err error) {
		d.ID, err = ch.AddBulk(store.Bulk{Action: d.Action, Value: d.Value, Who: who, At: ch.now.UnixMicro(), Results: string(results)})
		return err
	})
}

func (r *Relay) actOne(ctx context.Context, action, value, number, who string) (text, was string, err error) {
	switch action {
	case "pick":
		s, err := r.StartPick(ctx, number, who)
		return "to be picked as " + s, "", err
	case "ship":
		return r.shipPacked(ctx, number, who)
	case "void":
		now, err := r.Void(ctx, number, value, false, 0, who)
		return "void as " + now, "", err
	case "hand over":
		return "handed over", "", r.HandOver(ctx, number, who)
	}
	err = r.commit(ctx, func(ch *change) error {
		return r.onOrder(ch, number, 0, who, func(o *order.Order, _ *conn, s *order.Scene) (order.Change, error) {
			got := order.Change{Order: o}
			switch action {
			case "approve":
				var freed []string
				for _, h := range slices.Clone(o.Holds) {
					if slices.Contains(order.Waved, h.Cause) {
						one, _ := order.Release(o, h.Cause, who)
						got.Notes = append(got.Notes, one.Notes...)
						freed = append(freed, string(h.Cause))
						if h.Cause == order.ByPerson {
							was = h.Text
						}
					}
				}
				if len(freed) == 0 {
					if len(o.Holds) > 0 {
						return got, &Refused{Text: fmt.Sprintf("held for %s, which ends when its cause does", o.Holds[0].Cause), Conflict: true}
					}
					return got, &Refused{Text: "not held", Conflict: true}
				}
				was = or(was, "held for "+join(freed)+" before")
				text = "goes on although held for " + join(freed)
			case "hold":
				switch st := o.Stage(); st {
				case order.Shipped, order.Delivered, order.Cancelled, order.Void:
					return got, &Refused{Text: fmt.Sprintf("it is %s", st), Conflict: true}
				}
				o.Hold(order.Hold{Cause: order.ByPerson, Text: or(value, "Held by "+who) + ".", Expected: who + ", or somebody else, to let it go on."})
				o.Revision++
				got.Notes = append(got.Notes, order.Note{What: "held", Text: fmt.Sprintf("Held by %s: %s", who, or(value, "no reason given"))})
				text = "held"
			case "tag":
				if !o.Tag(value) {
					return got, &Refused{Text: "has the tag already", Conflict: true}
				}
				o.Revision++
				got.Notes = append(got.Notes, order.Note{What: "tag", Text: fmt.Sprintf("Tagged %s by %s", value, who)})
				text = "tagged"
			case "untag":
				if !o.Untag(value) {
					return got, &Refused{Text: "does not have the tag", Conflict: true}
				}
				o.Revision++
				got.Notes = append(got.Notes, order.Note{What: "tag", Text: fmt.Sprintf("Tag %s taken off by %s", value, who)})
				text = "tag taken off"
			case "assign":
				was = o.Assignee
				if was == value {
					return got, &Refused{Text: "nothing to change", Conflict: true}
				}
				o.Assignee = value
				o.Revision++
				text = "assigned to " + or(value, "nobody")
				got.Notes = append(got.Notes, order.Note{What: "assigned", Text: fmt.Sprintf("Assigned to %s by %s", or(value, "nobody"), who)})
			case "cancel":
				one, err := order.CallOff(o, who, value, s)
				if err != nil {
					return got, err
				}
				got, text = one, "cancelled"
			}
			return got, nil
		})
	})
	return text, was, err
}

// UndoBulk takes back what an action did to the orders that it worked on, as far as that is still as it left it.
func (r *Relay) UndoBulk(ctx context.Context, id int64, who string) (BulkDone, error) {
	old, err := r.Store.Bulk(ctx, id)
	if err != nil {
		return BulkDone{}, err
	}
	back := undoable[old.Action]
	if back == "" || old.UndoneAt != 0 {
		return BulkDone{}, &Refused{Text: "that can no longer be undone", Conflict: true}
	}
	var results []BulkResult
	if err := json.Unmarshal([]byte(old.Results), &results); err != nil {
		return BulkDone{}, err
	}
	out := BulkDone{ID: id, Action: back, Value: old.Value, Results: []BulkResult{}}
	for _, res := range results {
		if !res.OK {
			continue
		}
		value := old.Value
		if old.Action == "assign" || old.Action == "approve" {
			value = res.Was
		}
		one := BulkResult{Number: res.Number, OK: true}
		var refused *Refused
		if one.Text, _, err = r.actOne(ctx, back, value, res.Number, who); errors.As(err, &refused) {
			one.OK, one.Text = false, refused.Text
		} else if err != nil {
			return out, err
		}
		if one.OK {
			out.Done++
		}
		out.Results = append(out.Results, one)
	}
	return out, r.commit(ctx, func(ch *change) error { return ch.BulkUndone(id, who, ch.now) })
}
