package views

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/picking"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/store"
)

// OrderView is everything known about one order.
type OrderView struct {
	Order     *order.Order
	Channel   store.Connection
	Totals    order.Totals
	Versions  []Version
	Timeline  []store.Entry
	Shipments []ShipmentParcels
	Outbox    []store.OutboxMessage
	Returns   []store.GoodsReturn

	ExchangeFor string // number of the return in whose place it is sent
	Customer    store.Customer
	Assignee    string // what who looks after it is called
	Bought      int64  // orders of the customer, up to 100
	MergedInto  string
	Members     []store.OrderRow // of a summary, the first of them
	Actions     []string         // what can be done with it now
}

// Version is one version of the channel's record, bare of its envelope.
type Version struct {
	store.ChannelVersion
	Record any
}

// Order gathers everything known about one order.
func (r *Views) Order(ctx context.Context, number string) (OrderView, error) {
	var out OrderView
	o, err := r.Store.OrderByNumber(ctx, number)
	if err != nil {
		return out, err
	}
	out.Order, out.Totals = o, order.Recalculate(&o.Record)
	c := r.ByID(o.ConnectionID)
	if c == nil {
		return out, fmt.Errorf("order %s: its connection is gone", number)
	}
	out.Channel = *c.Rec()
	if out.Assignee, err = r.PersonName(ctx, o.Assignee); err != nil {
		return out, err
	}
	versions, err := r.Store.ChannelVersions(ctx, o.ID)
	if err != nil {
		return out, err
	}
	for _, v := range versions {
		out.Versions = append(out.Versions, Version{v, c.Line().Inside(message.OrdersIn, v.Via, v.Raw)})
	}
	if out.Timeline, err = r.Store.Timeline(ctx, "order", o.ID); err != nil {
		return out, err
	}
	if err := r.sentOf(ctx, &out); err != nil {
		return out, err
	}
	if o.CustomerID != 0 {
		if out.Customer, err = r.Store.Customer(ctx, o.CustomerID); err != nil {
			return out, err
		}
		list, err := r.Store.ListOrders(ctx, store.OrderFilter{Customer: o.CustomerID, Limit: 100})
		if err != nil {
			return out, err
		}
		out.Bought = int64(len(list))
	}
	if o.MergedInto != 0 {
		names, err := r.Store.NumbersOf(ctx, []int64{o.MergedInto})
		if err != nil {
			return out, err
		}
		out.MergedInto = names[o.MergedInto]
	}
	if o.Kind() == order.Summary {
		if out.Members, err = r.Store.ListOrders(ctx, store.OrderFilter{Merged: o.ID, Limit: 100}); err != nil {
			return out, err
		}
	}
	out.Actions = actions(o, r.ours(o))
	return out, nil
}

// ours tells whether anything of an order is promised at a place of ours, or at none: what partners send is not picked here.
func (r *Views) ours(o *order.Order) bool {
	promised := false
	for i := range o.Lines {
		for _, a := range o.Lines[i].Allocations {
			promised = true
			if r.PartnerAt(a.Location) == nil {
				return true
			}
		}
	}
	return !promised
}

// actions lists what can be done with an order as it stands.
func actions(o *order.Order, ours bool) []string {
	out := []string{}
	add := func(ok bool, what string) {
		if ok {
			out = append(out, what)
		}
	}
	st := o.Stage()
	open := st == order.Pending || st == order.Held || st == order.Ready || st == order.Routed || st == order.Picking || st == order.Packed
	carrier := o.Kind() == message.Ship
	add(o.Ours.Answer != nil && o.Ours.Answer.State == order.Wanted, "answer")
	add(carrier && ours && (st == order.Ready || st == order.Routed || st == order.Picking || st == order.PartShipped && sendable(o)),
		"pick")
	add(carrier && (open || st == order.PartShipped) && !o.Elsewhere() && !o.Test && unpicked(o) && st != order.Pending, "plan")
	add(!carrier && o.Kind() != order.Summary && (st == order.Ready || st == order.Routed), "hand over")
	add(open && !o.Test, "hold")
	add((open || st == order.PartShipped) && !o.Elsewhere(), "cancel")
	add(o.Kind() != order.Summary && o.MergedInto == 0 && (open || st == order.Cancelled || o.NoStockMoved) && !o.Voided, "void")
	add(o.Voided && o.Kind() != order.Summary, "take in again")
	add(o.Kind() == order.Summary && !o.Voided && !o.Ours.Posted, "undo merge")
	add(o.Kind() == order.Summary && !o.Voided && !o.Ours.Posted, "posted")
	add(st == order.Pending || st == order.Held || st == order.Ready || st == order.Routed || st == order.Picking, "address")
	add(carrier && o.PointOpen(), "point")
	return out
}

// sendable tells whether something of an order can be picked, packed or sent now.
func sendable(o *order.Order) bool {
	for i := range o.Lines {
		if l := &o.Lines[i]; o.Sendable(l)+l.Picked+l.Packed > 0 {
			return true
		}
	}
	return false
}

// unpicked tells whether something of an order waits or is allocated, so that it can be planned otherwise.
func unpicked(o *order.Order) bool {
	for i := range o.Lines {
		if l := &o.Lines[i]; l.Waiting()+l.Allocated > 0 {
			return true
		}
	}
	return false
}

// ShipmentParcels is a shipment with its parcels.
type ShipmentParcels struct {
	store.Shipment
	Parcels []store.Parcel
}

// sentOf adds what was sent of an order, what came back, and what others are told of it.
func (r *Views) sentOf(ctx context.Context, v *OrderView) (err error) {
	id := v.Order.ID
	if v.Shipments, err = r.shipmentsOf(ctx, id); err != nil {
		return err
	}
	if v.Returns, err = r.Store.ReturnsOfOrder(ctx, id); err != nil {
		return err
	}
	if v.ExchangeFor, err = r.Store.ExchangedFor(ctx, id); err != nil {
		return err
	}
	v.Outbox, err = r.Store.OutboxOfOrder(ctx, id)
	return err
}

func (r *Views) shipmentsOf(ctx context.Context, order int64) ([]ShipmentParcels, error) {
	list, err := r.Store.ShipmentsOfOrder(ctx, order)
	if err != nil {
		return nil, err
	}
	return r.WithParcels(ctx, list)
}

// WithParcels adds to shipments the parcels in which they leave.
func (r *Views) WithParcels(ctx context.Context, list []store.Shipment) ([]ShipmentParcels, error) {
	out := make([]ShipmentParcels, len(list))
	for i, s := range list {
		parcels, err := r.Store.ParcelsOf(ctx, s.ID)
		if err != nil {
			return nil, err
		}
		out[i] = ShipmentParcels{s, parcels}
	}
	return out, nil
}

// ShipmentView is a shipment with what is to be picked.
type ShipmentView struct {
	ShipmentParcels
	Order    *order.Order
	Wants    []picking.Want
	Location store.Location
	Together []ShipmentView // open shipments of other orders that travel with it
}

// Shipment gathers everything known about one shipment. The number may be the order's or a tracking
// number; then the order's newest shipment is meant.
func (r *Views) Shipment(ctx context.Context, number string) (ShipmentView, error) {
	var out ShipmentView
	s, err := r.Store.Shipment(ctx, number)
	if errors.Is(err, store.ErrNotFound) {
		o, oerr := r.Store.OrderByNumber(ctx, number)
		if oerr != nil {
			return out, oerr
		}
		list, lerr := r.Store.ShipmentsOfOrder(ctx, o.ID)
		if lerr != nil {
			return out, lerr
		}
		if len(list) == 0 {
			return out, fmt.Errorf("shipment %s: %w", number, store.ErrNotFound)
		}
		s, err = list[len(list)-1], nil
	}
	if err != nil {
		return out, err
	}
	if out, err = r.shipmentView(ctx, s); err != nil {
		return out, err
	}
	others, err := r.Store.ShipmentsTogether(ctx, s.Together)
	if err != nil {
		return out, err
	}
	for _, other := range others {
		if other.ID == s.ID {
			continue
		}
		v, err := r.shipmentView(ctx, other)
		if err != nil {
			return out, err
		}
		out.Together = append(out.Together, v)
	}
	return out, nil
}

// shipmentView gathers what is known about a shipment itself.
func (r *Views) shipmentView(ctx context.Context, s store.Shipment) (out ShipmentView, err error) {
	all, err := r.WithParcels(ctx, []store.Shipment{s})
	if err != nil {
		return out, err
	}
	out.ShipmentParcels, out.Location = all[0], r.Place(s.LocationID)
	if out.Order, err = r.Store.OrderByID(ctx, s.OrderID); err != nil {
		return out, err
	}
	ids := make([]int64, 0, len(s.Lines))
	for _, sl := range s.Lines {
		ids = append(ids, sl.ItemID)
	}
	items, err := r.Store.Items(ctx, ids)
	if err != nil {
		return out, err
	}
	bins, err := r.Store.Bins(ctx, s.LocationID, ids)
	if err != nil {
		return out, err
	}
	walk, err := r.Store.BinPositions(ctx, s.LocationID, slices.Collect(maps.Values(bins)))
	if err != nil {
		return out, err
	}
	out.Wants = shipping.WantList(s, out.Order, items, bins, walk)
	packed := map[int64]int64{}
	for _, p := range out.Parcels {
		for _, l := range p.Lines {
			if p.State != store.CalledOff {
				packed[l.ItemID] += l.Quantity
			}
		}
	}
	for i := range out.Wants {
		out.Wants[i].Packed = packed[out.Wants[i].ItemID]
	}
	return out, nil
}

// ParcelView is a parcel with its order and what lies in it.
type ParcelView struct {
	store.Parcel
	Order  *order.Order
	Items  map[int64]store.Item
	Inside []ParcelView // what of other orders travels in its carton
	Events []store.ParcelEvent
	Claim  *store.Claim // nil: there is none
}

// Parcel gathers everything known about one parcel, by its number or tracking number.
func (r *Views) Parcel(ctx context.Context, number string) (ParcelView, error) {
	p, err := r.Store.Parcel(ctx, number)
	if err != nil {
		return ParcelView{Parcel: p}, err
	}
	out, err := r.parcelView(ctx, p)
	if err == nil {
		err = r.onItsWay(ctx, &out)
	}
	if err != nil || p.Riders == "" {
		return out, err
	}
	for rider := range strings.FieldsSeq(p.Riders) {
		x, err := r.Store.Parcel(ctx, rider)
		if err != nil {
			return out, err
		}
		v, err := r.parcelView(ctx, x)
		if err != nil {
			return out, err
		}
		out.Inside = append(out.Inside, v)
	}
	return out, nil
}

// onItsWay adds what is known of a parcel since it left.
func (r *Views) onItsWay(ctx context.Context, v *ParcelView) (err error) {
	if v.Events, err = r.Store.ParcelEvents(ctx, v.ID); err != nil {
		return err
	}
	c, err := r.Store.ClaimOf(ctx, v.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	v.Claim = &c
	return err
}

// CartonOf is the parcel in whose carton a parcel lies: itself, where it has its own.
func (r *Views) CartonOf(ctx context.Context, number string) (ParcelView, error) {
	v, err := r.Parcel(ctx, number)
	if err != nil || v.Carton == "" {
		return v, err
	}
	return r.Parcel(ctx, v.Carton)
}

// parcelView gathers what is known about a parcel itself.
func (r *Views) parcelView(ctx context.Context, p store.Parcel) (out ParcelView, err error) {
	out.Parcel = p
	if out.Order, err = r.Store.OrderByID(ctx, p.OrderID); err != nil {
		return out, err
	}
	ids := make([]int64, len(p.Lines))
	for i, l := range p.Lines {
		ids[i] = l.ItemID
	}
	out.Items, err = r.Store.Items(ctx, ids)
	return out, err
}

// LabelData reads what the carrier answered when the label was bought.
func (v ParcelView) LabelData() (message.Label, error) {
	var l message.Label
	if v.Label == "" {
		return l, &engine.Refused{Text: fmt.Sprintf("parcel %s has no label yet", v.Number), Conflict: true}
	}
	return l, json.Unmarshal([]byte(v.Label), &l)
}

// Lamp says how a connection stands.
type Lamp struct {
	State string `json:"state" enum:"go,idle,caution,stop,busy" doc:"go: running well; idle: off or paused; caution: wants a look; stop: stopped; busy: under way"`
	Text  string `json:"text"`
}

// ConnectionView is a connection with its feeds and how they stand.
type ConnectionView struct {
	store.Connection
	Title  string
	Lamp   Lamp
	Feeds  []FeedView
	Orders int64 // taken in today
	Open   map[string]int64
	LastOK time.Time
	Host   string

	Identity     message.Identity // who we are there
	Capabilities connector.Capabilities
}

// FeedView is a feed and how it stands.
type FeedView struct {
	store.Feed
	Lamp  Lamp
	Ways  []string // read, push, send
	Every time.Duration
	Next  time.Time
}

// Connections describes all connections.
func (r *Views) Connections(ctx context.Context) ([]ConnectionView, error) {
	recs, err := r.Store.Connections(ctx)
	if err != nil {
		return nil, err
	}
	feeds, err := r.Store.Feeds(ctx)
	if err != nil {
		return nil, err
	}
	open, err := r.Store.OpenOutbox(ctx)
	if err != nil {
		return nil, err
	}
	failed, err := r.Store.FailedInbox(ctx)
	if err != nil {
		return nil, err
	}
	accounts, err := r.Store.Accounts(ctx)
	if err != nil {
		return nil, err
	}
	bases, names := map[int64]string{}, map[int64]message.Identity{}
	for _, a := range accounts {
		var id message.Identity
		if err := json.Unmarshal([]byte(a.Identity), &id); err != nil {
			return nil, err
		}
		bases[a.ID], names[a.ID] = a.BaseURL, id
	}
	today, err := r.Store.OrdersToday(ctx, r.Midnight())
	if err != nil {
		return nil, err
	}
	out := make([]ConnectionView, 0, len(recs))
	for _, rec := range recs {
		c := r.ByID(rec.ID)
		if c == nil {
			continue
		}
		v := ConnectionView{Connection: rec, Title: c.Line().Def.Title, Orders: today[rec.ID], Open: open[rec.ID],
			Host: bases[rec.AccountID]}
		v.Identity = names[rec.AccountID]
		v.Capabilities = c.Line().Def.Capabilities()
		worst := r.feedViews(c, &v, feeds)
		v.Lamp = v.lamp(worst, failed[rec.ID])
		out = append(out, v)
	}
	return out, nil
}

// feedViews adds the feeds of a connection to its view, and returns the worst of their lamps.
func (r *Views) feedViews(c *engine.Conn, v *ConnectionView, feeds []store.Feed) Lamp {
	worst := Lamp{"go", "running well"}
	for _, f := range feeds {
		if f.ConnectionID != c.ID {
			continue
		}
		fv, ok := r.feedView(c, f)
		if !ok {
			continue
		}
		if rank(fv.Lamp.State) > rank(worst.State) {
			worst = Lamp{fv.Lamp.State, string(f.Kind) + ": " + fv.Lamp.Text}
		}
		if at := store.Time(f.LastOKAt); at.After(v.LastOK) {
			v.LastOK = at
		}
		v.Feeds = append(v.Feeds, fv)
	}
	return worst
}

// lamp is that of a connection, of whose feeds the worst is known.
func (v *ConnectionView) lamp(worst Lamp, failed int64) Lamp {
	rec := &v.Connection
	refused := v.Open[store.Refused]
	switch {
	case rec.State == store.Joining:
		return Lamp{"busy", "being set up"}
	case rec.State == store.Left:
		return Lamp{"idle", "left"}
	case rec.State != store.On:
		return worst
	case rec.Paused:
		return Lamp{"idle", "paused"}
	case rec.Test && rank(worst.State) == 0:
		return Lamp{"caution", "in test: nothing of it is real"}
	case rank(worst.State) >= rank("caution"):
		return worst
	case refused > 0:
		return Lamp{"caution", fmt.Sprintf("%d refused", refused)}
	case failed > 0:
		return Lamp{"caution", engine.Counted(failed, "message could not be taken in", "messages could not be taken in")}
	}
	return worst
}

func rank(state string) int {
	switch state {
	case "stop":
		return 3
	case "caution":
		return 2
	case "busy":
		return 1
	}
	return 0
}

func (r *Views) feedView(c *engine.Conn, f store.Feed) (FeedView, bool) {
	def := c.Line().Def.Feeds[f.Kind]
	if def == nil {
		return FeedView{}, false
	}
	paused := c.Rec().Paused
	v := FeedView{Feed: f}
	if def.Topic != "" {
		v.Ways = append(v.Ways, "push")
	}
	if def.Read != nil {
		v.Ways = append(v.Ways, "read")
		v.Every = time.Duration(def.Read.Every)
		if at, ok := r.Exchange.Due(c, f.Kind); ok {
			v.Next = at
		}
	}
	if def.Send != nil {
		v.Ways = append(v.Ways, "send")
	}
	switch {
	case c.Rec().State == store.Joining && f.On:
		v.Lamp = Lamp{"idle", "begins when the connection is switched on"}
	case paused:
		v.Lamp = Lamp{"idle", "paused"}
	case !f.On:
		v.Lamp = Lamp{"idle", "off"}
	case f.Failures >= 3:
		v.Lamp = Lamp{"stop", fmt.Sprintf("%d failures in a row: %s", f.Failures, f.LastError)}
	case f.Failures > 0:
		v.Lamp = Lamp{"caution", "last try failed: " + f.LastError}
	case f.LastOKAt == 0:
		v.Lamp = Lamp{"idle", "nothing moved yet"}
	default:
		v.Lamp = Lamp{"go", "running well"}
	}
	return v, true
}
