package shipping

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"openrelay/internal/core/freight"
	"openrelay/internal/core/message"
	"openrelay/internal/core/money"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

func Price(minor int64, currency string) string {
	return money.Amount{Minor: minor, Currency: currency}.String()
}

// Rate is a carrier's price for a parcel beside our own sum from its tariff.
type Rate struct {
	Carrier     string         `json:"carrier"`
	CarrierName string         `json:"carrier_name"`
	Service     string         `json:"service"`
	ServiceName string         `json:"service_name"`
	Price       int64          `json:"price" doc:"Minor units"`
	Currency    string         `json:"currency"`
	Arrives     string         `json:"arrives,omitempty" doc:"YYYY-MM-DD"`
	Handover    string         `json:"handover" doc:"YYYY-MM-DD: when the carrier takes it, by its cut-off at the place"`
	Late        bool           `json:"late,omitempty" doc:"It arrives after the day that the buyer was promised"`
	Refused     string         `json:"refused,omitempty"`
	Consigns    bool           `json:"consigns,omitempty" doc:"The carrier takes several parcels of a shipment in one request, under one number"`
	Estimated   bool           `json:"estimated" doc:"The carrier did not answer; the price is our own sum"`
	Agrees      bool           `json:"agrees" doc:"Our own sum is the same"`
	Terms       []freight.Term `json:"terms,omitempty" doc:"Our own sum, term by term"`
	Best        []string       `json:"best" doc:"Why it stands out: cheapest, fastest, or decided: by rule, by the channel's words or by the table of services" enum:"cheapest,fastest,decided"`
}

// Rates asks every carrier for its prices, at the same time, and adds our own sums. Cheapest first.
func (r *Shipping) Rates(ctx context.Context, parcel string) ([]Rate, error) {
	return r.ratesBy(ctx, parcel, func(*engine.Conn) bool { return true })
}

// ratesBy asks those carriers for their prices that are wanted.
func (r *Shipping) ratesBy(ctx context.Context, parcel string, wanted func(*engine.Conn) bool) ([]Rate, error) {
	s, err := r.storedParcel(ctx, parcel)
	if _, refused := engine.IsRefused(err); refused || err == nil && s.WeightG == 0 {
		return nil, &engine.Refused{Text: "pack the shipment first: a price needs weight and size", Conflict: true}
	}
	if err != nil {
		return nil, err
	}
	o, err := r.Store.OrderByNumber(ctx, s.OrderNumber)
	if err != nil {
		return nil, err
	}
	d, err := r.Declaration(ctx, &s, o)
	if err != nil {
		return nil, err
	}
	var goods message.Parcel
	if err := r.insured(ctx, &goods, &s, o); err != nil {
		return nil, err
	}
	var mu sync.Mutex
	var out []Rate
	var wg sync.WaitGroup
	for _, c := range r.All() {
		if c.Line().Def.Calls["rates"] == nil || !c.Works() || !wanted(c) {
			continue
		}
		wg.Add(1)
		go func() {
			defer wg.Done()
			asked := r.Parcel(s, o, c)
			asked.Customs, asked.Insured, asked.InsuredIn = d, goods.Insured, goods.InsuredIn
			list := r.ratesOf(ctx, c, asked)
			mu.Lock()
			out = append(out, list...)
			mu.Unlock()
		}()
	}
	wg.Wait()
	for i := range out {
		out[i].Refused = engine.Or(out[i].Refused, r.notAt(o, out[i].Carrier))
		if c := r.ByCode(out[i].Carrier); c != nil {
			out[i].Consigns = consigns(c)
		}
		out[i].Late = o.Record.DeliverBy != "" && out[i].Arrives > o.Record.DeliverBy
	}
	slices.SortFunc(out, byPrice)
	r.markBest(ctx, out, &s, o)
	return out, nil
}

// byPrice puts rates in one order, whoever answered first: those that are carried before those that are not.
func byPrice(a, b Rate) int {
	if (a.Refused == "") != (b.Refused == "") {
		return map[bool]int{true: -1, false: 1}[a.Refused == ""]
	}
	return cmp.Or(cmp.Compare(a.Price, b.Price), cmp.Compare(a.Carrier, b.Carrier), cmp.Compare(a.Service, b.Service))
}

// markBest says which of the services stand out, and which would be taken without a person.
func (r *Shipping) markBest(ctx context.Context, list []Rate, p *store.Parcel, o *order.Order) {
	offers := offersOf(list)
	for i := range list {
		list[i].Best = []string{}
	}
	mark := func(pick freight.Pick, as string) {
		if at := pick.Of(offers, r.today()); at >= 0 {
			list[at].Best = append(list[at].Best, as)
		}
	}
	mark(freight.Pick{Way: freight.Cheapest}, freight.Cheapest)
	mark(freight.Pick{Way: freight.Fastest}, freight.Fastest)
	if pick, by, err := r.pickFor(ctx, p, o); err == nil && by != "" {
		mark(pick, "decided")
	}
}

// today is the day from which working days are counted.
func (r *Shipping) today() time.Time {
	day, _ := time.Parse(time.DateOnly, r.Today()) // it is written so
	return day
}

func offersOf(list []Rate) []freight.Offer {
	out := make([]freight.Offer, len(list))
	for i, x := range list {
		out[i] = freight.Offer{Carrier: x.Carrier, Service: x.Service, Price: x.Price, Arrives: x.Arrives, Refused: x.Refused}
	}
	return out
}

// rateWait is how long a carrier's prices are waited for: one that hangs delays nobody, and its published tariff stands in.
const rateWait = 1200 * time.Millisecond

func (r *Shipping) ratesOf(ctx context.Context, c *engine.Conn, p message.Parcel) []Rate {
	ctx, cancel := context.WithTimeout(ctx, rateWait)
	defer cancel()
	var tariff *freight.Tariff
	var tariffErr error
	read := make(chan struct{})
	go func() { defer close(read); tariff, tariffErr = r.tariff(ctx, c) }()
	answers, err := c.Line().Ask(ctx, "rates", p)
	<-read
	asked := freightParcel(&p)
	var out []Rate
	if err != nil {
		r.Log.Warn("no rates", "carrier", c.Rec().Code, "error", err)
		if tariffErr != nil {
			return []Rate{{Carrier: c.Rec().Code, CarrierName: c.Rec().Name, Refused: "no answer: " + err.Error()}}
		}
		day, _ := time.Parse(time.DateOnly, p.Handover)
		for _, sv := range tariff.Services {
			q := tariff.Quote(sv.Code, asked)
			out = append(out, Rate{Carrier: c.Rec().Code, CarrierName: c.Rec().Name, Service: sv.Code, ServiceName: sv.Name,
				Price: q.Price, Currency: tariff.Currency,
				Handover: p.Handover, Arrives: tariff.Calendar.Arrival(day, q.Days).Format(time.DateOnly), Refused: q.Refused,
				Estimated: true, Terms: q.Terms})
		}
		return out
	}
	for _, a := range answers {
		m := a.(*message.Rate)
		rate := Rate{Carrier: c.Rec().Code, CarrierName: c.Rec().Name, Service: m.Service, ServiceName: m.ServiceName, Price: m.Price,
			Handover: p.Handover, Currency: m.Currency, Arrives: m.Arrives, Refused: m.Refused}
		if tariffErr == nil {
			q := tariff.Quote(m.Service, asked)
			rate.Terms, rate.Agrees = q.Terms, q.Price == m.Price && (q.Refused == "") == (m.Refused == "")
		}
		out = append(out, rate)
	}
	return out
}

// tariff fetches a carrier's published tariff, at most every ten minutes. Where it cannot be fetched, the last one stands, also after
// a new start.
func (r *Shipping) tariff(ctx context.Context, c *engine.Conn) (*freight.Tariff, error) {
	if c.Line().Def.Calls["tariff"] == nil {
		return nil, errNoTariff
	}
	r.tariffMu.Lock()
	have, ok := r.tariffs[c.ID]
	r.tariffMu.Unlock()
	if !ok {
		kept, at, err := r.Store.Tariff(ctx, c.ID)
		if err == nil {
			have, ok = r.rememberTariff(c, kept, at), true
		}
	}
	if ok && r.Clock().Sub(have.at) < 10*time.Minute {
		return have.tariff, nil
	}
	list, err := c.Line().Ask(ctx, "tariff", nil)
	if err != nil {
		if ok {
			return have.tariff, nil // yesterday's tariff is better than none
		}
		return nil, fmt.Errorf("tariff of %s: %w", c.Rec().Name, err)
	}
	t := list[0].(*freight.Tariff)
	r.rememberTariff(c, t, r.Clock())
	err = r.Store.Write(context.WithoutCancel(ctx), func(tx *store.Tx) error { return tx.PutTariff(c.ID, t, r.Clock()) })
	return t, err
}

// KnownTariff is what a carrier at work published last.
type KnownTariff struct {
	Code   string
	Tariff *freight.Tariff
	// Leaves is the day, YYYY-MM-DD, on which it takes what is packed now at a location.
	Leaves func(location int64) string
}

// KnownTariffs lists the tariffs of carriers at work, as they were read last: nobody is asked. Days are looked up once a minute.
func (r *Shipping) KnownTariffs() []KnownTariff {
	var out []KnownTariff
	for _, c := range r.Sorted() {
		if !c.Works() || c.Line().Def.Calls["tariff"] == nil {
			continue
		}
		r.tariffMu.Lock()
		have, ok := r.tariffs[c.ID]
		r.tariffMu.Unlock()
		if !ok {
			kept, at, err := r.Store.Tariff(r.Ctx, c.ID)
			if err != nil {
				continue // it is asked for soon after a carrier is joined
			}
			have = r.rememberTariff(c, kept, at)
		}
		out = append(out, KnownTariff{c.Rec().Code, have.tariff, func(location int64) string { return r.leavesAbout(c, location) }})
	}
	return out
}

// leavesAbout is the day on which a carrier takes what is packed now, as it was within the last minute and since the hours of the place
// were read.
func (r *Shipping) leavesAbout(c *engine.Conn, location int64) string {
	type key struct{ carrier, location int64 }
	type day struct {
		text  string
		at    time.Time
		hours *string // of the week; they are read anew together
	}
	at, now := key{c.ID, location}, r.Clock()
	var hours *string
	if week := r.Place(location).Hours.Week; len(week) > 0 {
		hours = &week[0]
	}
	if known, ok := r.leavesKnown.Load(at); ok {
		if d := known.(day); d.hours == hours && now.Sub(d.at) < time.Minute && !now.Before(d.at) {
			return d.text
		}
	}
	d := day{r.handoverDay(c, location), now, hours}
	r.leavesKnown.Store(at, d)
	return d.text
}

func (r *Shipping) rememberTariff(c *engine.Conn, t *freight.Tariff, at time.Time) tariffAt {
	r.tariffMu.Lock()
	defer r.tariffMu.Unlock()
	r.tariffs[c.ID] = tariffAt{t, at}
	return r.tariffs[c.ID]
}

// Test asks the other side who we are there.
func (r *Shipping) Test(ctx context.Context, code string) (*message.Identity, error) {
	list, err := r.Ask(ctx, code, "identity", nil)
	if err != nil {
		return nil, err
	}
	return list[0].(*message.Identity), nil
}

type tariffAt struct {
	tariff *freight.Tariff
	at     time.Time
}
