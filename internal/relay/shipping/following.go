package shipping

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/freight"
	"openrelay/internal/core/journey"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// habitAge is how long what was learned of a service holds; habitParcels of its newest parcels are looked at.
const (
	habitAge     = time.Hour
	habitParcels = 300
	watchAtOnce  = 200
)

// habitKey names a service of a carrier.
type habitKey struct {
	carrier int64
	service string
}

type habitAt struct {
	habit time.Duration
	at    time.Time
}

// habit is for how long parcels of a service may stand still.
func (r *Shipping) habit(carrier int64, service string) (time.Duration, error) {
	key := habitKey{carrier, service}
	r.tariffMu.Lock()
	have, ok := r.habits[key]
	r.tariffMu.Unlock()
	if ok && r.Clock().Sub(have.at) < habitAge {
		return have.habit, nil
	}
	gaps, err := r.Store.Gaps(r.Ctx, carrier, service, habitParcels)
	if err != nil {
		return 0, err
	}
	have = habitAt{journey.Habit(gaps), r.Clock()}
	r.tariffMu.Lock()
	r.habits[key] = have
	r.tariffMu.Unlock()
	return have.habit, nil
}

// follows tells whether a carrier says where its parcels are.
func (r *Shipping) follows(carrier int64) bool {
	c := r.ByID(carrier)
	return c != nil && c.Line() != nil && c.Line().Def.Feeds[message.TrackingIn] != nil
}

// watchOf is what is known of a parcel that is on its way.
func (r *Shipping) watchOf(p *store.Parcel, last journey.Event) (journey.Watch, error) {
	habit, err := r.habit(p.CarrierID, p.Service)
	calendar := freight.Calendar{}
	if t := r.lastTariff(p.CarrierID); t != nil {
		calendar = t.Calendar
	}
	return journey.Watch{Left: store.Time(p.ShippedAt), Last: last, Promised: p.Promised, Habit: habit,
		Rests: func(day time.Time) bool { return !calendar.Works(day.In(r.Zone())) }}, err
}

// watch says when a parcel is to be looked at next.
func (r *Shipping) watch(ch *engine.Change, p *store.Parcel, last journey.Event) error {
	p.WatchAt = 0
	if p.TravelsIn != 0 || !r.follows(p.CarrierID) {
		return nil
	}
	w, err := r.watchOf(p, last)
	if next := w.Next(ch.Now, r.Zone()); err == nil && !next.IsZero() {
		p.WatchAt, ch.Watch = next.UnixMicro(), true
	}
	return err
}

// promise is by when a parcel should be there: as its label says, or by the carrier's last tariff.
func (r *Shipping) promise(c *engine.Conn, asked *message.Parcel, label *message.Label) string {
	if label.Arrives != "" {
		return label.Arrives
	}
	have := r.lastTariff(c.ID)
	if have == nil {
		return ""
	}
	day, err := time.Parse(time.DateOnly, asked.Handover)
	q := have.Quote(asked.Service, freightParcel(asked))
	if err != nil || q.Refused != "" {
		return ""
	}
	return have.Calendar.Arrival(day, q.Days).Format(time.DateOnly)
}

// besideAsked tells what a label should have cost: as its carrier said before it was asked for, else by the carrier's own tariff. It is
// empty where it costs that, or where nothing is known.
func (r *Shipping) besideAsked(c *engine.Conn, asked *message.Parcel, label *message.Label) string {
	if asked.Expected == label.Price {
		return ""
	}
	if asked.Expected > 0 {
		return fmt.Sprintf("; %s was said before it was asked for", Price(asked.Expected, label.Currency))
	}
	t := r.lastTariff(c.ID)
	if t == nil || t.Currency != label.Currency {
		return ""
	}
	sum, known := byTariff(t, asked)
	if !known || sum == label.Price {
		return ""
	}
	return "; by the carrier's tariff it would be " + Price(sum, t.Currency)
}

// byTariff is what all that is asked for costs by a tariff; known is false where it does not cover that.
func byTariff(t *freight.Tariff, asked *message.Parcel) (sum int64, known bool) {
	one := *asked
	each := asked.Parcels
	if len(each) == 0 {
		each = []message.ConsignedParcel{{WeightG: asked.WeightG, LengthMM: asked.LengthMM, WidthMM: asked.WidthMM,
			HeightMM: asked.HeightMM}}
	}
	for i, p := range each {
		one.WeightG, one.LengthMM, one.WidthMM, one.HeightMM = p.WeightG, p.LengthMM, p.WidthMM, p.HeightMM
		if i > 0 {
			one.Insured = 0 // it is asked for once
		}
		q := t.Quote(asked.Service, freightParcel(&one))
		if q.Refused != "" {
			return 0, false
		}
		sum += q.Price
	}
	return sum, true
}

// lastTariff is what a carrier published last; nil: nothing that is known. Nobody is asked.
func (r *Shipping) lastTariff(carrier int64) *freight.Tariff {
	r.tariffMu.Lock()
	have, known := r.tariffs[carrier]
	r.tariffMu.Unlock()
	if known {
		return have.tariff
	}
	kept, at, err := r.Store.Tariff(r.Ctx, carrier)
	if err != nil {
		return nil
	}
	if c := r.ByID(carrier); c != nil {
		r.rememberTariff(c, kept, at)
	}
	return kept
}

// freightParcel is a parcel as tariffs price it.
func freightParcel(p *message.Parcel) freight.Parcel {
	return freight.Parcel{To: p.To, Kind: p.Kind, WeightG: p.WeightG, LengthMM: p.LengthMM, WidthMM: p.WidthMM, HeightMM: p.HeightMM,
		Insured: p.Insured, InsuredIn: p.InsuredIn, Remote: p.Remote}
}

// moved takes in what a carrier says of a parcel: how it stands now, and what follows from that. It tells whether that was not known.
func (r *Shipping) moved(ch *engine.Change, p *store.Parcel, o *order.Order, told journey.Event) (isNew bool, err error) {
	e := told.Tidied(ch.Now)
	isNew, err = ch.AddParcelEvent(store.ParcelEvent{ParcelID: p.ID, At: e.At.UnixMicro(), State: string(e.State), Text: e.Text,
		Place: e.Where, ToldAt: told.At.UnixMicro(), CameAt: ch.Now.UnixMicro()})
	if err != nil || !isNew {
		return false, err
	}
	known, err := ch.ParcelEvents(p.ID)
	if err != nil {
		return true, err
	}
	events := make([]journey.Event, len(known))
	for i, x := range known {
		events[i] = x.Event()
	}
	last := journey.Stands(events)
	p.Journey, p.JourneyAt = string(last.State), last.At.UnixMicro()
	if err := r.watch(ch, p, last); err != nil {
		return true, err
	}
	if last.State != e.State || !last.At.Equal(e.At.Truncate(time.Microsecond)) {
		return true, nil // it was overtaken before it came
	}
	if err := r.journeySettled(ch, p, last.State); err != nil {
		return true, err
	}
	if last.State == journey.Lost {
		ch.Tell("exception", o.Number)
		if err := ch.Raise(store.Exception{Cause: engine.ParcelLost, ParcelID: p.ID,
			Text: fmt.Sprintf("%s says that parcel %s of order %s is lost: %s", p.CarrierName, p.Number, o.Number,
				engine.Or(e.Text, "it gives no reason")),
			Expected: "A claim at the carrier, and the goods once more for the buyer. Note the claim at the parcel; that settles this.",
			OrderID:  o.ID, ConnectionID: p.CarrierID, Standing: true}, ch.Now); err != nil {
			return true, err
		}
	}
	if last.State == journey.Returning || last.State == journey.Returned {
		ch.Mark(engine.ParcelComesBack, p.ID)
	}
	return true, r.tellJourney(ch, p, o, e)
}

// journeySettled ends what was raised about a parcel that did not move, or is not there, once it has.
func (r *Shipping) journeySettled(ch *engine.Change, p *store.Parcel, now journey.State) error {
	over := []order.Cause{engine.ParcelStuck}
	if now.Ends() || now == journey.Returning {
		over = append(over, engine.ParcelLate)
	}
	for _, cause := range over {
		if err := ch.CloseOfParcel(p.ID, cause, "relay", ch.Now); err != nil {
			return err
		}
	}
	ch.Tell("exception", "")
	return nil
}

// tellJourney tells the channel of an order how one of its parcels stands, where it takes that.
func (r *Shipping) tellJourney(ch *engine.Change, p *store.Parcel, o *order.Order, e journey.Event) error {
	c := r.ByID(o.ConnectionID)
	if c == nil || c.Line() == nil || o.Test {
		return nil
	}
	f := c.Line().Def.Feeds[message.StatesOut]
	if _, on := r.Feed(c, message.StatesOut); !on || f == nil || !slices.Contains(f.Takes, connector.Journeys) {
		return nil
	}
	payload, err := json.Marshal(message.OrderState{Reference: fmt.Sprintf("%s-j-%s-%d", r.Prefix, p.Number, e.At.UnixMicro()),
		OrderID: o.OutsideID, OrderNumber: o.Record.Number, OurNumber: o.Number, State: "parcel", Tracking: p.Tracking,
		Parcel: string(e.State), At: e.At.UTC().Format(time.RFC3339), Text: e.Text})
	if err != nil {
		return err
	}
	_, err = r.Queue(ch, store.OutboxMessage{ConnectionID: o.ConnectionID, Feed: message.StatesOut,
		Subject: fmt.Sprintf("parcel %s %s", p.Number, e.State), Payload: string(payload), OrderID: o.ID, ParcelID: p.ID})
	return err
}

// arrived counts a parcel that arrived for the reports.
func (r *Shipping) arrived(ch *engine.Change, p *store.Parcel, o *order.Order) error {
	if p.TravelsIn != 0 || p.CarrierID == 0 || p.ShippedAt == 0 {
		return nil
	}
	at := store.Time(p.DeliveredAt).In(r.Zone())
	monday := at.AddDate(0, 0, -(int(at.Weekday())+6)%7)
	return ch.AddTransit(store.Transit{Week: monday.Format(time.DateOnly), Carrier: p.CarrierID,
		Service: engine.Or(p.ServiceName, p.Service), Region: regionOf(o.ShipTo), Promised: p.Promised != "",
		InTime: p.Promised != "" && at.Format(time.DateOnly) <= p.Promised,
		Hours:  max((p.DeliveredAt-p.ShippedAt)/time.Hour.Microseconds(), 0)})
}

// regionOf is a part of a country: the first two of its postcode.
func regionOf(a place.Address) string {
	return strings.TrimSpace(a.Country + " " + a.Postcode[:min(2, len(a.Postcode))])
}

// ParcelsDue raises parcels that should be there, and those that have not moved for longer than is usual for their service. It returns
// when the next is to be looked at.
func (r *Shipping) ParcelsDue(ctx context.Context) (time.Time, error) {
	for {
		next, err := r.Store.NextWatch(ctx)
		if err != nil || next.IsZero() || next.After(r.Clock()) {
			return next, err
		}
		if err := r.Commit(ctx, func(ch *engine.Change) error {
			list, err := ch.ParcelsToWatch(ch.Now, watchAtOnce)
			if err != nil {
				return err
			}
			for i := range list {
				if err := r.lookAt(ch, &list[i]); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return time.Time{}, err
		}
	}
}

// lookAt raises what is to be said of one parcel, and says when it is to be looked at again.
func (r *Shipping) lookAt(ch *engine.Change, p *store.Parcel) error {
	if p.State != store.Gone {
		p.WatchAt = 0
		return ch.UpdateParcel(p)
	}
	last := journey.Event{State: journey.State(p.Journey), At: store.Time(p.JourneyAt)}
	if p.JourneyAt == 0 {
		last = journey.Event{}
	}
	w, err := r.watchOf(p, last)
	if err != nil {
		return err
	}
	said := "the carrier said nothing of it yet"
	if p.Journey != "" {
		said = fmt.Sprintf("last it was %s, %s", p.Journey, store.Time(p.JourneyAt).In(r.Zone()).Format("2 Jan 15:04"))
	}
	if w.Late(ch.Now, r.Zone()) {
		if err := r.raiseParcel(ch, p, engine.ParcelLate, fmt.Sprintf("Parcel %s of order %s should have arrived on %s; %s", p.Number,
			p.OrderNumber, p.Promised, said), "The parcel at the door: this is over when it is. Ask the carrier where it is, tell the "+
			"buyer, or note a claim at the parcel."); err != nil {
			return err
		}
	}
	if w.Stuck(ch.Now) {
		if err := r.raiseParcel(ch, p, engine.ParcelStuck, fmt.Sprintf("Parcel %s of order %s has not moved for %d hours; %s", p.Number,
			p.OrderNumber, int(w.Habit.Hours()), said), "A next event: this is over when one comes. Parcels of this service rarely stand "+
			"still for so long: ask the carrier."); err != nil {
			return err
		}
	}
	if err := r.watch(ch, p, last); err != nil {
		return err
	}
	return ch.UpdateParcel(p)
}

func (r *Shipping) raiseParcel(ch *engine.Change, p *store.Parcel, cause order.Cause, text, expected string) error {
	ch.Tell("exception", p.OrderNumber)
	tellParcel(ch, p)
	return ch.Raise(store.Exception{Cause: cause, ParcelID: p.ID, Text: text, Expected: expected,
		OrderID: p.OrderID, ConnectionID: p.CarrierID, Standing: true}, ch.Now)
}

// unfollowed forgets the way of a parcel whose label does not stand any more.
func unfollowed(ch *engine.Change, p *store.Parcel) error {
	p.Journey, p.JourneyAt, p.Promised, p.WatchAt, p.ScannedAt = "", 0, "", 0, 0
	for _, cause := range []order.Cause{engine.ParcelLate, engine.ParcelStuck, engine.ParcelLost} {
		if err := ch.CloseOfParcel(p.ID, cause, "relay", ch.Now); err != nil {
			return err
		}
	}
	return ch.DropParcelEvents(p.ID)
}
