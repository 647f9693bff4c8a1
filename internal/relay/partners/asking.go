package partners

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
	"openrelay/internal/core/place"
	"openrelay/internal/core/request"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// SettleRequests brings what partners are asked along with an order: how much of each request has left, what the order does not want
// any more, and what is placed with a partner and was not asked for yet.
func (r *Partners) SettleRequests(ch *engine.Change, o *order.Order) error {
	list, err := ch.RequestsOfOrder(o.ID)
	if err != nil {
		return err
	}
	for i := range list {
		if err := r.countSent(ch, o, &list[i]); err != nil {
			return err
		}
	}
	left := promises(o)
	for i := range list {
		if err := r.stopUnwanted(ch, o, &list[i], left); err != nil {
			return err
		}
	}
	if o.Test {
		return r.askForTest(ch, o, list)
	}
	return r.askForRest(ch, o, list, left)
}

// promises counts the units of each order line that each place has promised.
func promises(o *order.Order) map[int64]map[int64]int64 {
	out := map[int64]map[int64]int64{}
	for i := range o.Lines {
		for _, a := range o.Lines[i].Allocations {
			if out[a.Location] == nil {
				out[a.Location] = map[int64]int64{}
			}
			out[a.Location][o.Lines[i].ID] += a.Quantity
		}
	}
	return out
}

// countSent brings a request along with what has left for it: parcels may be corrected, or taken back.
func (r *Partners) countSent(ch *engine.Change, o *order.Order, q *store.Request) error {
	if q.Test {
		return nil
	}
	c := r.ByID(q.ConnectionID)
	sent, err := r.sentOf(ch, q)
	if err != nil || c == nil {
		return err
	}
	changed := false
	for i := range q.Lines {
		changed = changed || q.Lines[i].Sent != min(sent[q.Lines[i].LineID], q.Lines[i].Units)
	}
	if !changed {
		return nil
	}
	q.SetSent(sent)
	return r.save(ch, c, q)
}

// sentOf counts the units of each order line that have left for a request.
func (r *Partners) sentOf(ch *engine.Change, q *store.Request) (map[int64]int64, error) {
	list, err := ch.ShipmentsOfRequest(q.ID)
	if err != nil {
		return nil, err
	}
	out := map[int64]int64{}
	for i := range list {
		for line, n := range list[i].WholeUnits() {
			out[line] += n
		}
	}
	return out, nil
}

// stopUnwanted asks a partner not to send what its order does not want any more, and takes what is left of the promises of its place
// for what it still wants.
func (r *Partners) stopUnwanted(ch *engine.Change, o *order.Order, q *store.Request, left map[int64]map[int64]int64) error {
	if q.State.Ended() || q.Test {
		return nil
	}
	here := left[q.LocationID]
	if q.TooMany(here) {
		reason := "no longer wanted"
		if q.Away {
			reason = "sent from elsewhere"
		}
		if err := r.stop(ch, q, reason, "relay"); err != nil {
			return err
		}
	}
	for i := range q.Lines {
		l := &q.Lines[i]
		if n := min(l.Open(), here[l.LineID]); n > 0 {
			here[l.LineID] -= n
		}
	}
	return nil
}

// stop calls off what is left of a request: at once where it never went out, else by asking its partner.
func (r *Partners) stop(ch *engine.Change, q *store.Request, reason, who string) error {
	c := r.ByID(q.ConnectionID)
	if c == nil {
		return &engine.Refused{Text: "the partner is gone", Conflict: true}
	}
	before := q.State
	asked := q.Stop(reason)
	if q.State == before {
		return nil
	}
	if !asked {
		if err := r.note(ch, q, who, "request called off", "%s is not asked any more (%s): %s", c.Rec().Name, q.Number,
			q.Reason); err != nil {
			return err
		}
		return r.save(ch, c, q)
	}
	if c.Line().Def.Feeds[message.RequestStops] == nil || !r.FeedOn(c, message.RequestStops) {
		if err := r.raise(ch, c, q, engine.RequestLook, fmt.Sprintf("%s has to be told that %s is not to be sent any more (%s of order "+
			"%s): %s. "+
			"It takes no cancellations from here.", c.Rec().Name, goods(q), q.Number, q.OrderNumber, q.Reason),
			"Tell them, then say on the request what they answered: called off, or not any more."); err != nil {
			return err
		}
	} else if err := r.queueStop(ch, c, q); err != nil {
		return err
	}
	if err := r.note(ch, q, who, "request being called off", "%s asked not to send %s (%s): %s", c.Rec().Name, goods(q), q.Number,
		q.Reason); err != nil {
		return err
	}
	return r.save(ch, c, q)
}

func (r *Partners) queueStop(ch *engine.Change, c *engine.Conn, q *store.Request) error {
	payload, err := json.Marshal(message.RequestStop{Reference: r.reference(q) + "-off", Request: r.reference(q), Number: q.Number,
		TheirID: q.TheirID, Reason: q.Reason, Test: q.Test})
	if err != nil {
		return err
	}
	_, err = r.Queue(ch, store.OutboxMessage{ConnectionID: c.ID, Feed: message.RequestStops, Subject: subject(q), Payload: string(payload),
		OrderID: q.OrderID})
	return err
}

// askForRest asks for what is placed with partners and in no request yet. Where one is being called off, its answer is waited for.
func (r *Partners) askForRest(ch *engine.Change, o *order.Order, list []store.Request, left map[int64]map[int64]int64) error {
	if o.Voided || o.Kind() != message.Ship || o.Workable() != nil {
		return nil
	}
	for _, location := range engine.Keys(left) {
		c := r.PartnerAt(location)
		if c == nil || slices.ContainsFunc(list, func(q store.Request) bool {
			return q.LocationID == location && q.State == request.Stopping
		}) {
			continue
		}
		t, err := r.terms(ch, c)
		if err != nil {
			return err
		}
		if t.ByHand || c.Rec().Test && slices.ContainsFunc(list, func(q store.Request) bool { return q.Test && q.LocationID == location }) {
			continue
		}
		if err := r.askAt(ch, c, o, location, left[location], "relay"); err != nil {
			return err
		}
	}
	return nil
}

// askAt asks a partner for units of an order that are placed with it.
func (r *Partners) askAt(ch *engine.Change, c *engine.Conn, o *order.Order, location int64, units map[int64]int64, who string) error {
	q := store.Request{OrderID: o.ID, OrderNumber: o.Number, ConnectionID: c.ID, LocationID: location, Test: c.Rec().Test,
		CreatedAt: ch.Now.UnixMicro()}
	for i := range o.Lines {
		l := &o.Lines[i]
		if n := min(units[l.ID], o.Sendable(l)); n > 0 && l.ItemID != 0 && !l.Charge {
			q.Lines = append(q.Lines, request.Line{LineID: l.ID, ItemID: l.ItemID, SKU: l.SKU, Title: l.Title, Units: n})
		}
	}
	if len(q.Lines) == 0 {
		return nil
	}
	q.State = request.Waits
	if err := ch.AddRequest(&q); err != nil {
		return err
	}
	if !o.Routed && !q.Test {
		o.Routed = true
		o.Revision++
		if err := r.Orders.SaveOrder(ch, o); err != nil {
			return err
		}
	}
	return r.send(ch, c, o, &q, who)
}

// askForTest tries a partner that is in test with an order that is a test, too: as the place that a rule chose, or the first that feeds
// its channel, would be asked. Nothing is promised to such an order.
func (r *Partners) askForTest(ch *engine.Change, o *order.Order, list []store.Request) error {
	channel := r.ByID(o.ConnectionID)
	if len(list) > 0 || channel == nil || o.Voided || o.Kind() != message.Ship || o.Record.Status != message.Open {
		return nil
	}
	sources := channel.Settings().Offer.Sources
	location := r.PlaceID(o.Ours.Decided.Location)
	if location == 0 && len(sources) > 0 {
		location = sources[0]
	}
	c := r.PartnerAt(location)
	if c == nil || !c.Rec().Test {
		return nil
	}
	q := store.Request{OrderID: o.ID, OrderNumber: o.Number, ConnectionID: c.ID, LocationID: location, Test: true,
		CreatedAt: ch.Now.UnixMicro(), Request: request.Request{State: request.Waits}}
	for i := range o.Lines {
		if l := &o.Lines[i]; l.ItemID != 0 && !l.Charge && l.Live() > 0 {
			q.Lines = append(q.Lines, request.Line{LineID: l.ID, ItemID: l.ItemID, SKU: l.SKU, Title: l.Title, Units: l.Live()})
		}
	}
	if len(q.Lines) == 0 {
		return nil
	}
	if err := ch.AddRequest(&q); err != nil {
		return err
	}
	return r.send(ch, c, o, &q, "relay")
}

// send asks a partner, or lets the request wait where it does not know what it is to be asked for.
func (r *Partners) send(ch *engine.Change, c *engine.Conn, o *order.Order, q *store.Request, who string) error {
	unknown, err := r.nameItems(ch, c, q)
	if err != nil {
		return err
	}
	if len(unknown) > 0 {
		q.State, q.Reason = request.Waits, "what it calls "+engine.Join(unknown)+" is to be said"
		return r.save(ch, c, q)
	}
	if len(asked(q)) == 0 {
		q.State, q.Reason = request.Waits, "it is never asked for any of this"
		if err := r.raise(ch, c, q, engine.RequestLook, fmt.Sprintf("Nothing of what %s is to send of order %s is ever asked of it (%s)",
			c.Rec().Name, o.Number, q.Number), "Another place for it, on the order; or say what it calls the items."); err != nil {
			return err
		}
		return r.save(ch, c, q)
	}
	m, err := r.message(ch, c, o, q)
	if err != nil {
		return err
	}
	payload, err := json.Marshal(m)
	if err != nil {
		return err
	}
	if _, err := r.Queue(ch, store.OutboxMessage{ConnectionID: c.ID, Feed: message.RequestsOut, Subject: subject(q),
		Payload: string(payload),
		OrderID: o.ID}); err != nil {
		return err
	}
	q.State, q.Reason, q.AskedAt = request.Asked, "", ch.Now.UnixMicro()
	q.Asks++
	what := "asked"
	if q.Asks > 1 {
		what = "asked again"
	}
	if q.Test {
		what += ", as a test,"
	}
	if err := r.note(ch, q, who, "asked a partner", "%s %s to send %s (%s)", c.Rec().Name, what, goods(q), q.Number); err != nil {
		return err
	}
	return r.save(ch, c, q)
}

// asked are the lines of a request that its partner is asked for.
func asked(q *store.Request) (out []*request.Line) {
	for i := range q.Lines {
		if l := &q.Lines[i]; l.SKU != "" && l.Open() > 0 {
			out = append(out, l)
		}
	}
	return out
}

// message is what a partner is asked, its texts without what other systems stumble over.
func (r *Partners) message(ch *engine.Change, c *engine.Conn, o *order.Order, q *store.Request) (message.Request, error) {
	to := o.ShipTo
	if to.Email == "" {
		to.Email = o.Record.BuyerEmail
	}
	m := message.Request{Reference: r.reference(q), Number: q.Number, OrderNumber: o.Number, ChannelNumber: request.Tidy(o.Record.Number),
		Channel: r.Code(o.ConnectionID), Place: r.placeThere(c, q.LocationID), Test: q.Test, Again: q.Asks > 0,
		Service: request.Tidy(o.Record.RequestedService), DeliverBy: o.Record.DeliverBy, PlacedAt: o.Record.PlacedAt,
		Currency: o.Record.Currency, Language: o.Record.Language, To: tidyAddress(to), Note: request.Tidy(o.Record.Note),
		GiftNote: request.Tidy(o.Record.GiftNote)}
	if s, ok := r.Shipping.SenderOf(o); ok {
		m.Sender = request.Tidy(s.Name)
	}
	var ids []int64
	for _, l := range asked(q) {
		ids = append(ids, l.ItemID)
		for _, p := range o.Line(l.LineID).Parts {
			ids = append(ids, p.Item)
		}
	}
	items, err := ch.Items(ids)
	if err != nil {
		return m, err
	}
	for _, l := range asked(q) {
		if err := r.addLine(ch, c, o, l, items, &m); err != nil {
			return m, err
		}
	}
	return m, nil
}

// addLine adds a line to what a partner is asked: a kit that it has no name for in its components.
func (r *Partners) addLine(ch *engine.Change, c *engine.Conn, o *order.Order, l *request.Line, items map[int64]store.Item,
	m *message.Request) error {
	of := o.Line(l.LineID)
	add := func(item store.Item, code string, units, price int64) {
		m.Lines = append(m.Lines, message.RequestLine{ID: fmt.Sprint(len(m.Lines) + 1), SKU: request.Tidy(code), OurSKU: item.SKU,
			GTIN: item.GTIN, Title: request.Tidy(item.Name), Quantity: units, UnitPrice: price, Note: wishes(o, of)})
	}
	if len(of.Parts) > 0 {
		if p, err := ch.PartnerItem(c.ID, of.ItemID); err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		} else if p.Code == "" {
			for _, part := range of.Parts {
				code, _, err := r.code(ch, c, part.Item, items[part.Item].SKU)
				if err != nil {
					return err
				}
				add(items[part.Item], engine.Or(code, items[part.Item].SKU), l.Open()*part.Quantity, 0)
			}
			return nil
		}
	}
	add(items[l.ItemID], l.SKU, l.Open(), of.UnitPrice)
	return nil
}

// wishes are what the buyer wants of a line.
func wishes(o *order.Order, l *order.Line) string {
	for i := range o.Record.Lines {
		rec := &o.Record.Lines[i]
		if rec.ID != l.OutsideID {
			continue
		}
		parts := []string{}
		for _, c := range rec.Choices {
			parts = append(parts, c.Name)
		}
		if rec.Note != "" {
			parts = append(parts, rec.Note)
		}
		return request.Tidy(strings.Join(parts, "; "))
	}
	return ""
}

// placeThere is what a partner calls a place of its own.
func (r *Partners) placeThere(c *engine.Conn, location int64) string {
	ours := r.Place(location).Code
	for theirs, code := range c.Settings().Locations {
		if code == ours {
			return theirs
		}
	}
	return ours
}

func tidyAddress(a place.Address) place.Address {
	for _, s := range []*string{&a.Name, &a.Company, &a.Street, &a.Extra, &a.Postcode, &a.Town, &a.Country, &a.Phone, &a.Email} {
		*s = request.Tidy(*s)
	}
	return a
}

// SettlePartners lets partners be asked for what they were not asked for yet: they were switched on, or what was agreed is another. A job
// that is under way has passed orders as it was before, so it does not stand for this one.
func (r *Partners) SettlePartners(ch *engine.Change, connections []int64) error {
	for _, id := range connections {
		c := r.ByID(id)
		if !engine.TakesRequests(c) {
			continue
		}
		if _, err := ch.StartJob(engine.JobAsk, c.Rec().Code, "relay", struct{}{}); err != nil {
			return err
		}
	}
	return nil
}

// askBatch is how many orders are looked at in one change.
const askBatch = 50

// AskStep asks a partner for what is placed with it in the next orders and was not asked for.
func (r *Partners) AskStep(ctx context.Context, j *store.Job) (done bool, err error) {
	c := r.ByCode(j.Subject)
	if c == nil || !engine.TakesRequests(c) {
		return true, nil
	}
	return done, r.Commit(ctx, func(ch *engine.Change) error {
		test, err := ch.InTest(c.ID)
		if err != nil {
			return err
		}
		if test != c.Rec().Test { // it was set a moment ago, and is being made ready
			j.NextAt = ch.Now.Add(100 * time.Millisecond).UnixMicro()
			return nil
		}
		if j.Mark == 0 && !test {
			if _, err := ch.DropTestRequests(c.ID); err != nil { // it is live: what was only tried is over
				return err
			}
		}
		mark := int64(0) // up to which all of its places were looked at; 0: to the end
		for _, location := range r.PlacesOf(c.ID) {
			ids, err := ch.OrdersPromisedUnasked(location, j.Mark, askBatch)
			if err != nil {
				return err
			}
			ch.Mark(engine.RequestsMoved, ids...)
			if len(ids) == askBatch && (mark == 0 || ids[askBatch-1] < mark) {
				mark = ids[askBatch-1]
			}
		}
		done, j.Mark = mark == 0, mark
		return nil
	})
}
