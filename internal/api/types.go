package api

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"openrelay/internal/core/order"
	"openrelay/internal/core/picking"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/people"
	"openrelay/internal/relay/views"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

func at(us int64) *time.Time {
	if us == 0 {
		return nil
	}
	t := store.Time(us)
	return &t
}

func (a *API) orderRow(ctx context.Context, r store.OrderRow) wire.OrderRow {
	out := wire.OrderRow{Number: r.Number, Connection: r.ConnectionCode, ConnectionName: r.ConnectionName, ChannelNumber: r.ChannelNumber,
		ChannelState: r.ChannelState, Stage: r.Stage, Buyer: r.Buyer, Currency: r.Currency, Total: r.Total, Units: r.Units,
		PlacedAt: at(r.PlacedAt), ReceivedAt: at(r.ReceivedAt), Via: r.Via, Held: []string{},
		Kind: r.Kind, Tags: []string{}, Assignee: r.Assignee, TypedBy: r.TypedBy, ShippedAt: at(r.ShippedAt), AnswerBy: at(r.AnswerBy),
		Merged: r.MergedInto != 0}
	if !sees(ctx) {
		out.Buyer = initials(out.Buyer)
	}
	if json.Unmarshal([]byte(r.Tags), &out.Tags) != nil {
		out.Tags = []string{}
	}
	var holds []order.Hold
	if json.Unmarshal([]byte(r.Holds), &holds) == nil {
		for _, h := range holds {
			out.Held = append(out.Held, string(h.Cause))
		}
	}
	var places []int64
	if json.Unmarshal([]byte(r.Places), &places) == nil {
		out.LeavesBy = a.leavesBy(places, store.Time(r.ReceivedAt))
	}
	return out
}

// leavesBy is when what came at a moment should have left, by the hours of the first of the places to close; nil where
// nothing is known of them.
func (a *API) leavesBy(places []int64, since time.Time) *time.Time {
	var first *time.Time
	for _, id := range places {
		by := a.relay.Place(id).Hours.LeavesBy(since.In(a.relay.Zone()))
		if !by.IsZero() && (first == nil || by.Before(*first)) {
			first = &by
		}
	}
	return first
}

func (a *API) entries(ctx context.Context, list []store.Entry) []wire.Entry {
	out := make([]wire.Entry, len(list))
	for i, e := range list {
		out[i] = wire.Entry{ID: e.ID, At: at(e.At), Who: e.Who, Thing: e.Thing, Name: e.Name, What: e.What, Text: e.Text}
		if !sees(ctx) && !engine.ImpersonalEntry(e) {
			out[i].Text = hidden
		}
	}
	return out
}

func outbox(ctx context.Context, m store.OutboxMessage) wire.Outbox {
	return wire.Outbox{ID: m.ID, Connection: m.ConnectionCode, ConnectionName: m.ConnectionName, Feed: m.Feed, Subject: m.Subject,
		Reference: m.Ref, State: m.State, Attempts: m.Attempts, CreatedAt: at(m.CreatedAt), NextAt: at(m.NextAt), SentAt: at(m.SentAt),
		ConfirmedAt: at(m.ConfirmedAt), Error: quoted(ctx, m.Error)}
}

// pickers is what those are called who picked a shipment.
func (a *API) pickers(ctx context.Context, s store.Shipment) string {
	if s.Pickers == "" {
		return ""
	}
	refs := strings.Split(s.Pickers, store.PickersApart)
	for i, ref := range refs {
		refs[i] = a.called(ctx, ref)
	}
	return strings.Join(refs, ", ")
}

// called is what somebody is called who is kept by an id; the id itself where it cannot be read.
func (a *API) called(ctx context.Context, ref string) string {
	name, err := a.relay.PersonName(ctx, ref)
	if err != nil {
		a.log.Warn("what a person is called could not be read", "person", ref, "error", err)
		return ref
	}
	return name
}

func (a *API) shipment(ctx context.Context, s views.ShipmentParcels) wire.Shipment {
	if !sees(ctx) {
		s.Buyer = initials(s.Buyer)
	}
	out := wire.Shipment{Number: s.Number, OrderNumber: s.OrderNumber, Buyer: s.Buyer, Location: a.relay.Place(s.LocationID).Name,
		State: s.State, Pickers: a.pickers(ctx, s.Shipment), CreatedAt: at(s.CreatedAt), Parcels: []wire.Parcel{}}
	for _, l := range s.Lines {
		out.Quantity += l.Quantity
		out.Picked += l.Picked
	}
	for _, p := range s.Parcels {
		x := a.parcel(ctx, p)
		if p.State != store.CalledOff {
			out.Packed += x.Quantity
		}
		out.Parcels = append(out.Parcels, x)
	}
	return out
}

func (a *API) parcel(ctx context.Context, p store.Parcel) wire.Parcel {
	if !sees(ctx) {
		p.Buyer = initials(p.Buyer)
	}
	out := wire.Parcel{Number: p.Number, Shipment: p.ShipmentNumber, OrderNumber: p.OrderNumber, Buyer: p.Buyer,
		Location: a.relay.Place(p.LocationID).Name, State: p.State, Profile: p.Profile,
		WeightG: p.WeightG, LengthMM: p.LengthMM, WidthMM: p.WidthMM, HeightMM: p.HeightMM, Carrier: p.CarrierName, Service: p.Service,
		ServiceName: p.ServiceName, Tracking: p.Tracking, TrackingURL: p.TrackingURL, Price: p.Price, Currency: p.Currency,
		Typed: p.Left() && p.CarrierID == 0 &&
			p.ToldBy == 0, ManifestID: p.ManifestID, SSCC: p.SSCC, Error: quoted(ctx, p.Error), WrongField: p.WrongField,
		CreatedAt: at(p.CreatedAt), ShippedAt: at(p.ShippedAt), DeliveredAt: at(p.DeliveredAt), ScannedAt: at(p.ScannedAt),
		VoidAsked: at(p.VoidAskedAt), Carton: p.Carton, Riders: strings.Fields(p.Riders), Journey: p.Journey, JourneyAt: at(p.JourneyAt),
		Promised: p.Promised, Charged: p.Charged, ChargedBy: p.ChargedBy, InsuredFor: p.InsuredFor,
		Quoted: p.Quoted}
	if c := a.relay.ByID(p.CarrierID); c != nil {
		out.CarrierCode = c.Rec().Code
	}
	for _, l := range p.Lines {
		out.Quantity += l.Quantity
	}
	if p.ConsignedIn != 0 {
		if l, err := (views.ParcelView{Parcel: p}).LabelData(); err == nil {
			out.Piece, out.Pieces = l.Piece, l.Pieces
		}
	}
	return out
}

func (a *API) parcelView(ctx context.Context, v views.ParcelView) wire.ParcelView {
	if !sees(ctx) {
		people.Strip(v.Order, hidden)
	}
	out := wire.ParcelView{Parcel: a.parcel(ctx, v.Parcel), Contents: contentsOf(v), ShipTo: v.Order.ShipTo,
		Wish: v.Order.Record.RequestedService, Stage: string(v.Order.Stage()), Gift: v.Order.Record.GiftNote,
		Served: v.Order.Ours.Decided.Service, Inside: []wire.ParcelInside{}, Events: []wire.ParcelEvent{}}
	for _, e := range v.Events {
		out.Events = append(out.Events, wire.ParcelEvent{At: at(e.At), State: e.State, Text: quoted(ctx, e.Text), Place: e.Place})
	}
	if c := v.Claim; c != nil {
		out.Claim = &wire.ParcelClaim{State: c.State, Amount: c.Amount, Currency: c.Currency, Note: quoted(ctx, c.Note),
			MadeBy: a.called(ctx, c.MadeBy), ChangedAt: at(c.ChangedAt)}
	}
	if l, err := v.LabelData(); err == nil {
		out.LabelForm = l.DocumentForm
		if c := a.relay.ByID(v.CarrierID); l.Document == "" && c != nil && c.Line().Def.Calls["document"] != nil {
			out.LabelForm = "document" // it is asked for when it is wanted
		}
	}
	for _, x := range v.Inside {
		out.Inside = append(out.Inside, wire.ParcelInside{Number: x.Number, OrderNumber: x.OrderNumber, Contents: contentsOf(x)})
	}
	return out
}

// contentsOf is what lies in a parcel, each item once.
func contentsOf(v views.ParcelView) []wire.ParcelContent {
	out := []wire.ParcelContent{}
	at := map[int64]int{}
	for _, l := range v.Lines {
		i, known := at[l.ItemID]
		if !known {
			i = len(out)
			at[l.ItemID] = i
			out = append(out, wire.ParcelContent{SKU: v.Items[l.ItemID].SKU, GTIN: v.Items[l.ItemID].GTIN, Name: v.Items[l.ItemID].Name,
				Serials: v.Items[l.ItemID].Serials})
		}
		out[i].Quantity += l.Quantity
	}
	return out
}

func (a *API) shipmentView(ctx context.Context, v views.ShipmentView) wire.ShipmentView {
	if !sees(ctx) {
		people.Strip(v.Order, hidden)
	}
	out := wire.ShipmentView{Profiled: v.Order.Ours.Decided.Profile, Gift: v.Order.Record.GiftNote,
		Shipment: a.shipment(ctx, v.ShipmentParcels), Wants: v.Wants, Expected: picking.Expected(v.Wants), ShipTo: v.Order.ShipTo,
		Note: v.Order.Record.Note, Wish: v.Order.Record.RequestedService, Stage: string(v.Order.Stage()), Together: []wire.ShipmentPart{}}
	for _, x := range v.Together {
		if !sees(ctx) {
			people.Strip(x.Order, hidden)
		}
		out.Together = append(out.Together, wire.ShipmentPart{Number: x.Number, OrderNumber: x.OrderNumber, State: x.State, Wants: x.Wants,
			Parcels: a.shipment(ctx, x.ShipmentParcels).Parcels, Note: x.Order.Record.Note, Gift: x.Order.Record.GiftNote})
	}
	return out
}

func (a *API) order(ctx context.Context, v views.OrderView) wire.Order {
	o := v.Order
	if !sees(ctx) {
		people.Strip(o, hidden)
		for i := range v.Versions {
			v.Versions[i].Record = nil
		}
		for i := range o.Holds {
			o.Holds[i].Text = hidden
		}
		v.Totals = order.Recalculate(&o.Record) // its steps name what was paid with
	}
	out := wire.Order{Number: o.Number, Revision: o.Revision, Stage: string(o.Stage()), Connection: v.Channel.Code,
		ConnectionName: v.Channel.Name, OutsideID: o.OutsideID, Via: o.Via,
		ReceivedAt: timeAt(o.ReceivedAt), ShippedAt: timeAt(o.ShippedAt), ShipTo: o.ShipTo, Holds: o.Holds, Record: o.Record,
		Totals: v.Totals, Timeline: a.entries(ctx, v.Timeline),
		Lines: []wire.Line{}, Versions: []wire.ChannelVersion{}, Shipments: []wire.Shipment{}, WriteBacks: []wire.Outbox{},
		Returns: []wire.Return{}, ExchangeFor: v.ExchangeFor}
	a.sentOf(ctx, v, &out)
	if out.Holds == nil {
		out.Holds = []order.Hold{}
	}
	var places []int64
	for i := range o.Lines {
		l := wire.Line{Line: o.Lines[i], Waiting: o.Lines[i].Waiting(), Kept: o.Kept(&o.Lines[i]), At: []wire.LinePlace{}}
		for _, p := range l.Allocations {
			places = append(places, p.Location)
			l.At = append(l.At, wire.LinePlace{Location: a.relay.Place(p.Location).Name, Quantity: p.Quantity})
		}
		l.Allocations = nil
		out.Lines = append(out.Lines, l)
	}
	out.LeavesBy = a.leavesBy(places, o.ReceivedAt)
	for _, x := range v.Versions {
		out.Versions = append(out.Versions, wire.ChannelVersion{Version: x.Version, Via: x.Via, ReceivedAt: at(x.ReceivedAt),
			State: x.State, Reason: x.Reason, Record: x.Record})
	}
	out.Kind, out.Assignee, out.TypedBy, out.Ours, out.Hidden, out.Forgotten = string(o.Kind()), v.Assignee, a.called(ctx,
		o.TypedBy), o.Ours, !sees(ctx), timeAt(
		o.ForgottenAt,
	)
	out.MergedInto, out.Actions, out.Compared = v.MergedInto, v.Actions, compared(ctx, v.Versions)
	for _, r := range v.Members {
		out.Members = append(out.Members, a.orderRow(ctx, r))
	}
	if v.Customer.ID != 0 {
		out.Customer = &wire.OrderCustomer{ID: v.Customer.ID, Name: v.Customer.Name, Orders: v.Bought}
		if !sees(ctx) {
			out.Customer.Name = initials(v.Customer.Name)
		}
	}
	return out
}

// sentOf adds what was sent of an order, what came back, and what others are told of it.
func (a *API) sentOf(ctx context.Context, v views.OrderView, out *wire.Order) {
	for _, s := range v.Shipments {
		out.Shipments = append(out.Shipments, a.shipment(ctx, s))
	}
	for _, m := range v.Outbox {
		out.WriteBacks = append(out.WriteBacks, outbox(ctx, m))
	}
	for i := range v.Returns {
		out.Returns = append(out.Returns, a.goodsReturn(ctx, &v.Returns[i]))
	}
}

func timeAt(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

func (a *API) connection(ctx context.Context, v views.ConnectionView) wire.Connection {
	c := wire.Connection{Code: v.Code, Name: v.Name, Connector: v.Connector, Title: v.Title, Side: v.Side, BaseURL: v.Host,
		Paused: v.Paused, Revision: v.Revision, Lamp: v.Lamp,
		Orders: v.Orders, Waiting: v.Open[store.Waiting] + v.Open[store.Sending] + v.Open[store.Sent], Refused: v.Open[store.Refused],
		LastOK: timeAt(v.LastOK), BeganAt: at(v.BeganAt), Feeds: []wire.Feed{},
		State: v.State, Test: v.Test, Site: v.Site, AccountNo: v.AccountNo, AccountID: v.AccountID, Account: v.Identity.Name,
		Overrides: v.Overrides, Can: v.Capabilities, Previewed: at(v.PreviewedAt)}
	if err := json.Unmarshal([]byte(v.Connection.Settings), &c.Settings); err != nil {
		a.log.Error("settings cannot be read", "connection", v.Code, "error", err)
	}
	if d := a.relay.Connector(v.Connector); d != nil && d.Push != nil {
		c.PushPath = "/in/" + v.Code
	}
	for _, f := range v.Feeds {
		out := wire.Feed{Kind: f.Kind, On: f.On, Lamp: f.Lamp, Ways: f.Ways, Schedule: f.Schedule,
			Every: "", Mark: f.Mark, LastOK: at(f.LastOKAt), Next: timeAt(f.Next), Failures: f.Failures, Error: quoted(ctx, f.LastError),
			Revision: f.Revision}
		if f.Every > 0 {
			out.Every = f.Every.String()
		}
		c.Feeds = append(c.Feeds, out)
	}
	return c
}

func run(ctx context.Context, r store.Run) wire.Run {
	out := wire.Run{ID: r.ID, Connection: r.ConnectionCode, ConnectionName: r.ConnectionName, Feed: r.FeedKind, Cause: r.Cause,
		State: r.State, StartedAt: at(r.StartedAt), EndedAt: at(r.EndedAt), Found: r.Found, New: r.New, Changed: r.Changed,
		Skipped: r.Skipped, Failed: r.Failed, Reasons: map[string]int64{}, Error: quoted(ctx, r.Error)}
	if json.Unmarshal([]byte(r.Reasons), &out.Reasons) != nil {
		out.Reasons = map[string]int64{}
	}
	return out
}

func (a *API) manifest(m store.Manifest) wire.Manifest {
	return wire.Manifest{
		ID:       m.ID,
		Place:    a.relay.PlaceName(m.LocationID),
		Carrier:  m.CarrierCode,
		Name:     m.CarrierName,
		Day:      m.Day,
		State:    m.State,
		Receipt:  m.Receipt,
		Window:   m.Window,
		Refused:  m.Refused,
		Parcels:  m.Parcels,
		ClosedAt: at(m.ClosedAt),
	}
}

func etag(revision int64) string { return strconv.Quote(strconv.FormatInt(revision, 10)) }

// revisionOf reads an If-Match header made by etag; empty means any.
func revisionOf(ifMatch string) (int64, error) {
	if ifMatch == "" {
		return 0, nil
	}
	text, err := strconv.Unquote(ifMatch)
	if err != nil {
		return 0, fmt.Errorf("If-Match %s: the ETag of the thing is expected", ifMatch)
	}
	return strconv.ParseInt(text, 10, 64)
}

// seenRevision is the revision that the caller has seen, refused in words for people where it is none.
func seenRevision(ifMatch string) (int64, error) {
	rev, err := revisionOf(ifMatch)
	if err != nil {
		return 0, engine.Refuse("%v", err)
	}
	return rev, nil
}
