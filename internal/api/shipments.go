package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"openrelay/internal/core/person"
	"openrelay/internal/core/picking"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/views"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

func (a *API) shipmentsRoutes() {
	op(a, person.Look, http.MethodGet, "/shipments", "shipments", "List shipments, newest first", a.shipments)
	op(a, person.Look, http.MethodGet, "/shipments/{number}", "shipment", "One shipment with what is to be picked, and its parcels",
		a.showShipment)
	op(a, person.Ship, http.MethodPost, "/shipments/{number}/scan", "scan", "Scan an order, a bin or a product", a.scan)
	op(a, person.Ship, http.MethodPost, "/shipments/{number}/take-back", "take-back", "Take back that units were picked", a.takeBack)
	op(a, person.Ship, http.MethodPost, "/shipments/{number}/short", "short",
		"Say that units are not where they should lie; what becomes of them is told", a.short)
	op(a, person.Ship, http.MethodPost, "/shipments/{number}/pack", "pack", "Pack what was picked into a parcel, all of it or some units",
		a.pack)
	op(a, person.Look, http.MethodGet, "/shipments/{number}/proposal", "proposal", "Propose cartons for what is left of a shipment",
		a.proposal)
	op(a, person.Ship, http.MethodPost, "/shipments/{number}/ship", "ship-consignment",
		"Buy the labels of all packed parcels of a shipment in one request, under one number", a.consign)
	op(a, person.Look, http.MethodGet, "/parcels", "parcels", "List parcels, newest first", a.parcels)
	op(a, person.Ship, http.MethodPost, "/parcels/actions", "act-on-parcels", "Do one thing to many parcels, with a result for each",
		a.actOnParcels)
	op(a, person.Look, http.MethodGet, "/parcels/{number}", "parcel", "One parcel with what lies in it", a.showParcel)
	op(a, person.Ship, http.MethodPost, "/parcels/{number}/repack", "repack", "Pack a parcel without a label into another carton",
		a.repack)
	op(a, person.Ship, http.MethodPost, "/parcels/{number}/unpack", "unpack", "Take everything out of a parcel without a label", a.unpack)
	op(a, person.Ship, http.MethodPost, "/parcels/{number}/take-out", "take-out", "Take some units out of a parcel without a label",
		a.takeOut)
	op(a, person.WorkOrders, http.MethodPut, "/parcels/{number}/address", "correct-address",
		"Correct where a packed parcel goes, for all orders in its carton", a.correctAddress)
	op(a, person.Look, http.MethodGet, "/parcels/{number}/rates", "rates", "Compare the carriers' services", a.rates)
	op(a, person.Ship, http.MethodPut, "/parcels/{number}/insurance", "insure", "Say what a packed parcel is insured for", a.insure)
	op(a, person.Ship, http.MethodPost, "/parcels/{number}/ship", "ship", "Buy the label; the parcel leaves", a.ship)
	op(a, person.Ship, http.MethodPost, "/parcels/{number}/typed", "type-number",
		"Let a packed parcel leave with a tracking number that was typed, or correct it", a.typeNumber)
	op(a, person.Ship, http.MethodPost, "/parcels/{number}/void", "void-label",
		"Void the label of a parcel that has not left the place yet; it is packed again", a.voidLabel)
	op(a, person.Ship, http.MethodPost, "/parcels/{number}/keep", "keep-label",
		"Say that a label that is being voided stays: the carrier has not voided it", a.keepLabel)
	op(a, person.Look, http.MethodGet, "/parcels/{number}/serials", "parcel-serials", "The serial numbers that go with a parcel",
		a.parcelSerials)
	op(a, person.Look, http.MethodGet, "/profiles", "profiles", "Parcel profiles, smallest first", a.profiles)
	op(a, person.Look, http.MethodGet, "/manifests", "manifests", "The carriers' lists per day, newest first", a.manifests)
	op(a, person.Ship, http.MethodPost, "/manifests/{id}/close", "close-manifest", "Close the day with a carrier", a.closeManifest)
}

type shipmentListInput struct {
	PageInput
	State  string `query:"state" doc:"One state or several, by comma"`
	Before string `query:"before" doc:"Keyset: a shipment's number"`
}

func (a *API) shipments(ctx context.Context, in *shipmentListInput) (*paged[wire.Shipment], error) {
	var before int64
	if in.Before != "" {
		s, err := a.relay.Store.Shipment(ctx, in.Before)
		if err != nil {
			return nil, wrapNumber("shipment", in.Before, err)
		}
		before = s.ID
	}
	list, err := a.relay.Store.ListShipments(ctx, stateList(in.State), before, in.Limit)
	if err != nil {
		return nil, err
	}
	all, err := a.relay.WithParcels(ctx, list)
	out := &paged[wire.Shipment]{Body: make([]wire.Shipment, len(all))}
	for i, s := range all {
		out.Body[i] = a.shipment(ctx, s)
	}
	if len(list) == in.Limit {
		out.Link = next("/shipments", stateQuery(in.Limit, in.State), "before", list[len(list)-1].Number)
	}
	return out, errors.Join(err, a.looked(ctx, "list", "shipments"))
}

func stateList(text string) []string {
	if text == "" {
		return nil
	}
	return strings.Split(text, ",")
}

func stateQuery(limit int, state string) url.Values {
	q := url.Values{"limit": {fmt.Sprint(limit)}}
	if state != "" {
		q.Set("state", state)
	}
	return q
}

type parcelListInput struct {
	PageInput
	State    string `query:"state" doc:"One state or several, by comma"`
	Manifest int64  `query:"manifest"`
	Before   string `query:"before" doc:"Keyset: a parcel's number"`
}

func (a *API) parcels(ctx context.Context, in *parcelListInput) (*paged[wire.Parcel], error) {
	var before int64
	if in.Before != "" {
		p, err := a.relay.Store.Parcel(ctx, in.Before)
		if err != nil {
			return nil, wrapNumber("parcel", in.Before, err)
		}
		before = p.ID
	}
	list, err := a.relay.Store.ListParcels(ctx, stateList(in.State), in.Manifest, before, in.Limit)
	out := &paged[wire.Parcel]{Body: make([]wire.Parcel, len(list))}
	for i, p := range list {
		out.Body[i] = a.parcel(ctx, p)
	}
	if len(list) == in.Limit {
		q := stateQuery(in.Limit, in.State)
		if in.Manifest != 0 {
			q.Set("manifest", fmt.Sprint(in.Manifest))
		}
		out.Link = next("/parcels", q, "before", list[len(list)-1].Number)
	}
	return out, errors.Join(err, a.looked(ctx, "list", "parcels"))
}

func (a *API) shipmentByNumber(ctx context.Context, n string) (*body[wire.ShipmentView], error) {
	v, err := a.relay.Shipment(ctx, n)
	if err != nil {
		return nil, fmt.Errorf("shipment %s: %w", n, err)
	}
	return &body[wire.ShipmentView]{a.shipmentView(ctx, v)}, nil
}

func (a *API) showShipment(ctx context.Context, in *NumberInput) (*body[wire.ShipmentView], error) {
	if err := a.looked(ctx, "shipment", in.Number); err != nil {
		return nil, err
	}
	return a.shipmentByNumber(ctx, in.Number)
}

func (a *API) parcelByNumber(ctx context.Context, n string) (*body[wire.ParcelView], error) {
	v, err := a.relay.Views.Parcel(ctx, n)
	if err != nil {
		return nil, fmt.Errorf("parcel %s: %w", n, err)
	}
	out := a.parcelView(ctx, v)
	d, err := a.relay.Declaration(ctx, &v.Parcel, v.Order)
	if err != nil {
		return nil, err
	}
	if v.State == store.ToShip && v.Carton == "" {
		if out.Insurance, err = a.insurance(ctx, &v); err != nil {
			return nil, err
		}
		list, err := a.relay.Store.ParcelsOf(ctx, v.ShipmentID)
		if err != nil {
			return nil, err
		}
		for _, p := range list {
			if p.State == store.ToShip && p.TravelsIn == 0 && p.ID != v.ID {
				out.Beside++
			}
		}
	}
	if d != nil {
		if !sees(ctx) {
			d.RecipientNumber = ""
		}
		out.Customs = &wire.ParcelCustoms{Declaration: *d, Lacks: d.Lacks()}
	}
	return &body[wire.ParcelView]{out}, nil
}

func (a *API) showParcel(ctx context.Context, in *NumberInput) (*body[wire.ParcelView], error) {
	if err := a.looked(ctx, "parcel", in.Number); err != nil {
		return nil, err
	}
	return a.parcelByNumber(ctx, in.Number)
}

type scanInput struct {
	NumberInput
	Body struct {
		Code     string `json:"code" maxLength:"200" doc:"What the scanner read"`
		Bin      string `json:"bin,omitempty" maxLength:"80" doc:"The bin scanned last, if any"`
		Quantity int64  `json:"quantity,omitempty" minimum:"0" doc:"Units; 0 means one"`
	}
}

func (a *API) scan(ctx context.Context, in *scanInput) (*body[wire.Scanned], error) {
	s, err := a.relay.Scan(ctx, in.Number, in.Body.Code, in.Body.Bin, in.Body.Quantity, who(ctx))
	if err != nil {
		return nil, wrapNumber("shipment", in.Number, err)
	}
	return &body[wire.Scanned]{wire.Scanned{Outcome: s.Outcome, Wants: s.Wants, Expected: picking.Expected(s.Wants)}}, nil
}

type takeBackInput struct {
	NumberInput
	Body struct {
		Code     string `json:"code" maxLength:"200" doc:"SKU or barcode of the item"`
		Quantity int64  `json:"quantity,omitempty" minimum:"0" doc:"Units; 0 means one"`
	}
}

func (a *API) takeBack(ctx context.Context, in *takeBackInput) (*body[wire.ShipmentView], error) {
	if err := a.relay.TakeBack(ctx, in.Number, in.Body.Code, in.Body.Quantity, who(ctx)); err != nil {
		return nil, wrapNumber("shipment", in.Number, err)
	}
	return a.shipmentByNumber(ctx, in.Number)
}

type shortInput struct {
	NumberInput
	Key  string `header:"Idempotency-Key" doc:"Repeating a request with the same key answers like the first"`
	Body shipping.Missing
}

func (a *API) short(ctx context.Context, in *shortInput) (*body[shipping.Shortage], error) {
	out, err := a.relay.ReportShort(ctx, in.Number, in.Body, who(ctx))
	if err != nil {
		return nil, wrapNumber("shipment", in.Number, err)
	}
	return &body[shipping.Shortage]{out}, nil
}

type packInput struct {
	NumberInput
	Body wire.Packing
}

func (a *API) pack(ctx context.Context, in *packInput) (*body[wire.ShipmentView], error) {
	w, err := packingOf(ctx, in.Body.Carton)
	if err != nil {
		return nil, err
	}
	w.Units, w.Into = in.Body.Units, in.Body.Into
	if _, err := a.relay.Pack(ctx, in.Number, w, who(ctx)); err != nil {
		return nil, wrapNumber("shipment", in.Number, err)
	}
	return a.shipmentByNumber(ctx, in.Number)
}

// packingOf is what goes into a parcel, as far as who asks may say it.
func packingOf(ctx context.Context, c wire.Carton) (shipping.Packing, error) {
	if c.LetIn && !may(personOf(ctx), person.WorkOrders) {
		return shipping.Packing{}, huma.Error403Forbidden("Serial numbers that were not recorded at receipt are let in by those who " +
			"work on orders.")
	}
	return shipping.Packing{Profile: c.Profile, WeightG: c.WeightG, Serials: c.Serials, Sure: c.Sure, LetIn: c.LetIn}, nil
}

func (a *API) proposal(ctx context.Context, in *NumberInput) (*body[shipping.CartonProposal], error) {
	p, err := a.relay.Propose(ctx, in.Number)
	if err != nil {
		return nil, wrapNumber("shipment", in.Number, err)
	}
	return &body[shipping.CartonProposal]{p}, nil
}

type repackInput struct {
	NumberInput
	Body wire.Carton
}

func (a *API) repack(ctx context.Context, in *repackInput) (*body[wire.ParcelView], error) {
	w, err := packingOf(ctx, in.Body)
	if err != nil {
		return nil, err
	}
	if err := a.relay.Repack(ctx, in.Number, w, who(ctx)); err != nil {
		return nil, wrapNumber("parcel", in.Number, err)
	}
	return a.parcelByNumber(ctx, in.Number)
}

type parcelActionInput struct {
	Body struct {
		Action  orders.ActionKind `json:"action" enum:"ship parcels,unpack parcels,void labels"`
		Parcels []string          `json:"parcels" minItems:"1" maxItems:"5000" doc:"Numbers"`
	}
}

func (a *API) actOnParcels(ctx context.Context, in *parcelActionInput) (*body[orders.BulkDone], error) {
	d, err := a.relay.ActOnParcels(ctx, in.Body.Action, in.Body.Parcels, who(ctx))
	return a.bulk(ctx, d, err)
}

type voidLabelInput struct {
	NumberInput
	Key  string `header:"Idempotency-Key" doc:"Repeating a request with the same key answers like the first"`
	Body struct {
		ByHand bool `json:"by_hand,omitempty" doc:"A person had it voided at the carrier; the carrier is not asked"`
	}
}

func (a *API) voidLabel(ctx context.Context, in *voidLabelInput) (*body[wire.ParcelView], error) {
	if _, err := a.relay.VoidLabel(ctx, in.Number, in.Body.ByHand, who(ctx)); err != nil {
		return nil, wrapNumber("parcel", in.Number, err)
	}
	return a.parcelByNumber(ctx, in.Number)
}

func (a *API) keepLabel(ctx context.Context, in *NumberInput) (*body[wire.ParcelView], error) {
	if err := a.relay.KeepLabel(ctx, in.Number, who(ctx)); err != nil {
		return nil, wrapNumber("parcel", in.Number, err)
	}
	return a.parcelByNumber(ctx, in.Number)
}

func (a *API) unpack(ctx context.Context, in *NumberInput) (*body[wire.ParcelView], error) {
	if err := a.relay.Unpack(ctx, in.Number, who(ctx)); err != nil {
		return nil, wrapNumber("parcel", in.Number, err)
	}
	return a.parcelByNumber(ctx, in.Number)
}

func (a *API) rates(ctx context.Context, in *NumberInput) (*body[[]shipping.Rate], error) {
	list, err := a.relay.Rates(ctx, in.Number)
	if list == nil {
		list = []shipping.Rate{}
	}
	return &body[[]shipping.Rate]{list}, wrapNumber("parcel", in.Number, err)
}

type shipInput struct {
	NumberInput
	Key  string `header:"Idempotency-Key" doc:"Repeating a request with the same key answers like the first"`
	Body shipping.Purchase
}

func (a *API) ship(ctx context.Context, in *shipInput) (*body[wire.ParcelView], error) {
	if _, err := a.relay.Ship(ctx, in.Number, in.Body, who(ctx)); err != nil {
		return nil, wrapNumber("parcel", in.Number, err)
	}
	return a.parcelByNumber(ctx, in.Number)
}

// insurance is what a parcel would be insured for now; nil: that cannot be said, which is refused when its label is asked for.
func (a *API) insurance(ctx context.Context, v *views.ParcelView) (*wire.ParcelInsured, error) {
	amount, err := a.relay.InsuredFor(ctx, &v.Parcel, v.Order)
	if _, refused := engine.IsRefused(err); refused {
		return nil, nil
	}
	return &wire.ParcelInsured{Amount: amount, Currency: v.Order.Record.Currency, ByHand: v.Insured >= 0}, err
}

type consignInput struct {
	NumberInput
	Key  string `header:"Idempotency-Key" doc:"Repeating a request with the same key answers like the first"`
	Body shipping.Purchase
}

func (a *API) consign(ctx context.Context, in *consignInput) (*body[wire.ShipmentView], error) {
	if _, err := a.relay.ShipConsignment(ctx, in.Number, in.Body, who(ctx)); err != nil {
		return nil, wrapNumber("shipment", in.Number, err)
	}
	return a.shipmentByNumber(ctx, in.Number)
}

type insureInput struct {
	NumberInput
	Body struct {
		Amount int64 `json:"amount" minimum:"-1" doc:"Minor units of its order's currency; 0: it is not insured; -1: as rules say"`
	}
}

func (a *API) insure(ctx context.Context, in *insureInput) (*body[wire.ParcelView], error) {
	if err := a.relay.Insure(ctx, in.Number, in.Body.Amount, who(ctx)); err != nil {
		return nil, wrapNumber("parcel", in.Number, err)
	}
	return a.parcelByNumber(ctx, in.Number)
}

type takeOutInput struct {
	NumberInput
	Body struct {
		Units map[string]int64 `json:"units" doc:"By SKU"`
	}
}

func (a *API) takeOut(ctx context.Context, in *takeOutInput) (*body[wire.ParcelView], error) {
	if err := a.relay.TakeOut(ctx, in.Number, in.Body.Units, who(ctx)); err != nil {
		return nil, wrapNumber("parcel", in.Number, err)
	}
	return a.parcelByNumber(ctx, in.Number)
}

type correctAddressInput struct {
	NumberInput
	Body place.Address
}

func (a *API) correctAddress(ctx context.Context, in *correctAddressInput) (*body[wire.ParcelView], error) {
	if err := a.relay.CorrectAddress(ctx, in.Number, in.Body, who(ctx)); err != nil {
		return nil, wrapNumber("parcel", in.Number, err)
	}
	return a.parcelByNumber(ctx, in.Number)
}

type typeNumberInput struct {
	NumberInput
	Key  string `header:"Idempotency-Key" doc:"Repeating a request with the same key answers like the first"`
	Body struct {
		Carrier string `json:"carrier" maxLength:"31" doc:"Code of a carrier that is only named"`
		Number  string `json:"number" maxLength:"80"`
		Service string `json:"service,omitempty" maxLength:"120" doc:"In words"`
	}
}

func (a *API) typeNumber(ctx context.Context, in *typeNumberInput) (*body[wire.ParcelView], error) {
	b := in.Body
	if err := a.relay.TypeNumber(ctx, in.Number, shipping.Typed{Carrier: b.Carrier, Number: b.Number, Service: b.Service},
		who(ctx)); err != nil {
		return nil, wrapNumber("parcel", in.Number, err)
	}
	return a.parcelByNumber(ctx, in.Number)
}
