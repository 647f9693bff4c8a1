package api

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"openrelay/internal/core/money"
	"openrelay/internal/core/person"
	"openrelay/internal/core/place"
	"openrelay/internal/paper"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/views"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

// deny answers an error of the relay on a raw route.
func (a *API) deny(w http.ResponseWriter, err error) {
	if se, ok := a.failure(err).(huma.StatusError); ok {
		problem(w, se.GetStatus(), se.Error())
		return
	}
	problem(w, http.StatusInternalServerError, "Something broke on our side.")
}

// papers are the routes of what is printed.
func (a *API) papers(g chi.Router) {
	g.Post("/api/v1/pick-lists.pdf", only(person.Ship, a.pickListsPDF)) // it begins to pick what is ready
	g.Get("/api/v1/orders/{number}/pick-list.pdf", only(person.Ship, a.pickListPDF))
	g.Get("/api/v1/rounds/{number}/round.pdf", only(person.Ship, a.roundPDF))
	g.Get("/api/v1/codes.pdf", only(person.Ship, a.codesPDF))
	g.Get("/api/v1/packing-slips.pdf", only(person.Ship, a.packingSlipsPDF))
	g.Get("/api/v1/labels.pdf", only(person.Ship, a.labelsPDF))
	g.Get("/api/v1/parcels/{number}/packing-slip.pdf", only(person.Ship, a.packingSlipPDF))
	g.Get("/api/v1/parcels/{number}/label.pdf", only(person.Ship, a.labelPDF))
	g.Get("/api/v1/returns/{number}/label.pdf", only(person.Ship|person.WorkOrders, a.returnLabelPDF))
	g.Get("/api/v1/parcels/{number}/customs.pdf", only(person.Ship, a.customsPDF))
	g.Get("/api/v1/parcels/{number}/carrier-label", only(person.Ship, a.carrierLabel))
	g.Get("/api/v1/manifests/{id}/manifest.pdf", only(person.Ship|person.KeepBooks, a.manifestPDF))
}

func (a *API) pdf(w http.ResponseWriter, r *http.Request, name string, draw func(*bytes.Buffer) error) {
	if err := a.looked(r.Context(), "paper", name); err != nil {
		a.deny(w, err)
		return
	}
	var buf bytes.Buffer
	if err := draw(&buf); err != nil {
		a.deny(w, err)
		return
	}
	w.Header().Set("Content-Type", "application/pdf")
	w.Header().Set("Content-Disposition", fmt.Sprintf("inline; filename=%q", name))
	w.Write(buf.Bytes())
}

// company is what stands on papers of the company, and the language that they are in.
func (a *API) company(r *http.Request) engine.Company {
	c, err := a.relay.Company(r.Context())
	if err != nil {
		return engine.Company{}
	}
	return c
}

func pickList(company engine.Company, v views.ShipmentView, now time.Time) paper.PickList {
	m := &v.Order.Record
	return paper.PickList{
		Company:      company.Name,
		Language:     company.Language,
		Order:        v.OrderNumber,
		ChannelOrder: m.Number,
		Shipment:     v.Number,
		Place:        v.Location.Name,
		ShipTo:       v.Order.ShipTo,
		Note:         m.Note,
		Gift:         m.GiftNote,
		Wish:         m.RequestedService,
		Wants:        v.Wants,
		Printed:      now,
	}
}

func (a *API) pickListPDF(w http.ResponseWriter, r *http.Request) {
	number := chi.URLParam(r, "number")
	v, err := a.relay.Shipment(r.Context(), number)
	if err != nil {
		a.deny(w, fmt.Errorf("pick list of %s (begin to pick the order first): %w", number, err))
		return
	}
	size, err := sizeOf(r)
	if err != nil {
		a.deny(w, err)
		return
	}
	a.pdf(w, r, "pick-list-"+v.OrderNumber+".pdf", func(buf *bytes.Buffer) error {
		return paper.WritePickLists(buf, size, pickList(a.company(r), v, a.relay.Now()))
	})
}

// sizeOf is what a paper is asked for on; a page where nothing is said.
func sizeOf(r *http.Request) (paper.Size, error) {
	size := paper.Size(engine.Or(r.FormValue("size"), string(paper.A4)))
	if !size.Known() {
		return size, engine.Refuse("size %q: a4, roll or label is expected", size)
	}
	return size, nil
}

// roundPDF draws the list of a round: each item once, with the slots that it goes into.
func (a *API) roundPDF(w http.ResponseWriter, r *http.Request) {
	v, err := a.relay.Views.Round(r.Context(), chi.URLParam(r, "number"))
	if err != nil {
		a.deny(w, err)
		return
	}
	size, err := sizeOf(r)
	if err != nil {
		a.deny(w, err)
		return
	}
	company := a.company(r)
	l := paper.PickList{Company: company.Name, Language: company.Language, Order: v.Number, Place: a.relay.PlaceName(v.LocationID),
		Printed: a.relay.Now()}
	for _, s := range v.Slots {
		l.Slots = append(l.Slots, fmt.Sprintf("%2d %s", s.Slot, s.OrderNumber))
	}
	for _, s := range v.Stops {
		l.Wants, l.Shares = append(l.Wants, s.Want), append(l.Shares, s.Slots)
	}
	a.pdf(w, r, "round-"+v.Number+".pdf", func(buf *bytes.Buffer) error { return paper.WritePickLists(buf, size, l) })
}

// packingSlipPDF draws what lies in a parcel, in the buyer's language where it is known. Prices are printed where they are asked for.
func (a *API) packingSlipPDF(w http.ResponseWriter, r *http.Request) {
	a.packingSlips(w, r, []string{chi.URLParam(r, "number")})
}

// packingSlipsPDF draws the packing slips of several parcels.
func (a *API) packingSlipsPDF(w http.ResponseWriter, r *http.Request) {
	numbers, err := severalParcels(r)
	if err != nil {
		a.deny(w, err)
		return
	}
	a.packingSlips(w, r, numbers)
}

// severalParcels are the parcels that a print is asked of.
func severalParcels(r *http.Request) ([]string, error) {
	numbers := strings.Split(r.URL.Query().Get("parcels"), ",")
	if len(numbers) > 100 || numbers[0] == "" {
		return nil, engine.Refuse("parcels: 1 to 100 numbers are expected")
	}
	return numbers, nil
}

func (a *API) packingSlips(w http.ResponseWriter, r *http.Request, numbers []string) {
	var slips []paper.PackingSlip
	for _, n := range numbers {
		v, err := a.relay.Views.Parcel(r.Context(), n)
		if err != nil {
			a.deny(w, wrapNumber("parcel", n, err))
			return
		}
		for _, x := range append([]views.ParcelView{v}, v.Inside...) { // each order in a carton has its own
			s, err := a.packingSlip(r.Context(), x, r.URL.Query().Get("prices") == "yes")
			if err != nil {
				a.deny(w, err)
				return
			}
			slips = append(slips, s)
		}
	}
	a.pdf(w, r, "packing-slip-"+numbers[0]+".pdf", func(buf *bytes.Buffer) error { return paper.WritePackingSlips(buf, slips...) })
}

// codesPDF draws the barcodes of what can be done by scan, and of the cartons.
func (a *API) codesPDF(w http.ResponseWriter, r *http.Request) {
	profiles, err := a.relay.Store.Profiles(r.Context())
	if err != nil {
		a.deny(w, err)
		return
	}
	company := a.company(r)
	s := paper.CodeSheet{Company: company.Name, Commands: paper.Commands, Language: company.Language}
	for _, p := range profiles {
		s.Cartons = append(s.Cartons, paper.Code{Text: p.Code, Title: p.Name,
			About: fmt.Sprintf("%d × %d × %d mm", p.LengthMM, p.WidthMM, p.HeightMM)})
	}
	a.pdf(w, r, "codes.pdf", func(buf *bytes.Buffer) error { return paper.WriteCodeSheet(buf, s) })
}

func (a *API) packingSlip(ctx context.Context, v views.ParcelView, prices bool) (paper.PackingSlip, error) {
	company, err := a.relay.Company(ctx)
	if err != nil {
		return paper.PackingSlip{}, err
	}
	o := v.Order
	s := paper.PackingSlip{Company: company.Name, Order: o.Number, ChannelOrder: o.Record.Number, Parcel: v.Number, To: o.ShipTo,
		Gift: o.Record.GiftNote, Prices: prices, Day: a.relay.Now().In(a.relay.Zone()).Format(time.DateOnly),
		Language: company.Language}
	if paper.Speaks(o.Record.Language) {
		s.Language = o.Record.Language
	}
	s.From = a.relay.From(&v.Parcel, o)
	logo, err := base64.StdEncoding.DecodeString(a.relay.LogoOf(o))
	if err != nil {
		return s, err
	}
	s.Logo = logo
	all, err := a.relay.Store.ParcelsOf(ctx, v.ShipmentID)
	if err != nil {
		return s, err
	}
	at, of := 0, 0
	for i := range all {
		if all[i].State != store.CalledOff {
			if of++; all[i].ID == v.ID {
				at = of
			}
		}
	}
	s.Of = fmt.Sprintf("%d/%d", at, of)
	serials, err := a.relay.Store.SerialsOf(ctx, v.ID)
	if err != nil {
		return s, err
	}
	var total int64
	for _, l := range v.Lines {
		it, line := v.Items[l.ItemID], o.Line(l.LineID)
		row := paper.PackingSlipRow{SKU: it.SKU, Title: it.Name, Quantity: l.Quantity}
		if len(line.Parts) == 0 && line.Quantity > 0 { // what a part of a kit costs, nobody said
			sum := money.Share(line.Total, l.Quantity, line.Quantity)
			total += sum
			row.Price, row.Sum = money.Decimal(line.UnitPrice, o.Record.Currency), money.Decimal(sum, o.Record.Currency)
		}
		for _, n := range serials {
			if n.ItemID == l.ItemID {
				row.Serials = append(row.Serials, n.Serial)
			}
		}
		s.Rows = append(s.Rows, row)
	}
	s.Total = money.Amount{Minor: total, Currency: o.Record.Currency}.String()
	return s, nil
}

// pickListsPDF draws the pick lists of several orders; one whose picking was not begun is begun.
func (a *API) pickListsPDF(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 64<<10)
	numbers := strings.Split(r.FormValue("orders"), ",")
	if len(numbers) > 100 || numbers[0] == "" {
		a.deny(w, engine.Refuse("orders: 1 to 100 numbers are expected"))
		return
	}
	size, err := sizeOf(r)
	if err != nil {
		a.deny(w, err)
		return
	}
	var lists []paper.PickList
	for _, n := range numbers {
		s, err := a.relay.StartPick(r.Context(), n, who(r.Context()))
		var refused *engine.Refused
		if errors.As(err, &refused) {
			continue // it has no pick list now; the action on many said why
		}
		if err == nil {
			var v views.ShipmentView
			if v, err = a.relay.Shipment(r.Context(), s); err == nil {
				lists = append(lists, pickList(a.company(r), v, a.relay.Now()))
			}
		}
		if err != nil {
			a.deny(w, wrapNumber("order", n, err))
			return
		}
	}
	if len(lists) == 0 {
		a.deny(w, &engine.Refused{Text: "none of these orders has anything to pick", Conflict: true})
		return
	}
	a.pdf(w, r, "pick-lists.pdf", func(buf *bytes.Buffer) error { return paper.WritePickLists(buf, size, lists...) })
}

func (a *API) labelPDF(w http.ResponseWriter, r *http.Request) {
	a.labels(w, r, []string{chi.URLParam(r, "number")})
}

// customsPDF draws what accompanies a parcel across a customs border: form is invoice, cn22 or cn23.
func (a *API) customsPDF(w http.ResponseWriter, r *http.Request) {
	form := engine.Or(r.URL.Query().Get("form"), paper.Invoice)
	if !slices.Contains([]string{paper.Invoice, paper.CN22, paper.CN23}, form) {
		a.deny(w, engine.Refuse("form %q: invoice, cn22 or cn23 is expected", form))
		return
	}
	c, err := a.customsPaper(r.Context(), chi.URLParam(r, "number"))
	if err != nil {
		a.deny(w, err)
		return
	}
	a.pdf(w, r, form+"-"+c.Number+".pdf", func(buf *bytes.Buffer) error { return paper.WriteCustoms(buf, form, c) })
}

// customsPaper is what accompanies a parcel across a customs border.
func (a *API) customsPaper(ctx context.Context, number string) (c paper.Customs, err error) {
	v, err := a.relay.CartonOf(ctx, number)
	if err != nil {
		return c, wrapNumber("parcel", number, err)
	}
	d, err := a.relay.Declaration(ctx, &v.Parcel, v.Order)
	if err == nil && d == nil {
		err = &engine.Refused{Text: "parcel " + v.Number + " crosses no customs border", Conflict: true}
	}
	logo, decodeErr := base64.StdEncoding.DecodeString(a.relay.LogoOf(v.Order))
	err = errors.Join(err, decodeErr)
	return paper.Customs{Number: v.Number, Logo: logo, Order: v.OrderNumber, Tracking: v.Tracking, Carrier: v.CarrierName,
		From: a.relay.From(&v.Parcel, v.Order), To: v.Order.ShipTo, Day: a.relay.Now(), GrossG: v.WeightG, Declaration: d}, err
}

// carrierLabel hands out a label as its carrier made it, unchanged: a document, or what a printer of its language prints.
func (a *API) carrierLabel(w http.ResponseWriter, r *http.Request) {
	v, err := a.relay.CartonOf(r.Context(), chi.URLParam(r, "number"))
	if err != nil {
		a.deny(w, wrapNumber("parcel", chi.URLParam(r, "number"), err))
		return
	}
	document, form, made, err := a.relay.LabelDocument(r.Context(), v.Number)
	switch {
	case err != nil && made:
		a.deny(w, engine.Refuse("%v; the label can be drawn here instead", err))
		return
	case err != nil:
		a.deny(w, err)
		return
	case !made:
		a.deny(w, &engine.Refused{Text: v.CarrierName + " makes no label of its own; it is drawn here", Conflict: true})
		return
	}
	name := "label-" + v.Tracking + "." + form
	if err := a.looked(r.Context(), "paper", name); err != nil {
		a.deny(w, err)
		return
	}
	kind := map[string]string{"pdf": "application/pdf", "png": "image/png"}[form]
	if kind == "" {
		kind = "application/octet-stream"
	}
	w.Header().Set("Content-Type", kind)
	w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", name))
	w.Write(document)
}

// labelsPDF draws the labels of several parcels.
func (a *API) labelsPDF(w http.ResponseWriter, r *http.Request) {
	numbers, err := severalParcels(r)
	if err != nil {
		a.deny(w, err)
		return
	}
	a.labels(w, r, numbers)
}

func (a *API) labels(w http.ResponseWriter, r *http.Request, numbers []string) {
	size, first := engine.Or(r.URL.Query().Get("size"), paper.OnLabels), 1
	if text := r.URL.Query().Get("first"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil {
			a.deny(w, engine.Refuse("first %q: a place from 1 to 4 is expected", text))
			return
		}
		first = n
	}
	list, err := a.labelPages(r.Context(), numbers)
	if err != nil {
		a.deny(w, err)
		return
	}
	a.pdf(w, r, "label-"+list[0].Tracking+".pdf", func(buf *bytes.Buffer) error {
		if err := paper.WriteLabelSheets(buf, size, first, list...); err != nil {
			return engine.Refuse("%v", err)
		}
		return nil
	})
}

// labelPages are the labels of parcels, each carton once: as its carrier made it where that is a document, else as it is drawn here.
func (a *API) labelPages(ctx context.Context, numbers []string) (list []paper.LabelPage, err error) {
	for _, n := range numbers {
		l, err := a.labelPage(ctx, n)
		if err != nil {
			return nil, wrapNumber("parcel", n, err)
		}
		if !slices.ContainsFunc(list, func(x paper.LabelPage) bool { return x.Shipment == l.Shipment }) {
			list = append(list, l)
		}
	}
	return list, nil
}

func (a *API) labelPage(ctx context.Context, number string) (out paper.LabelPage, err error) {
	v, err := a.relay.CartonOf(ctx, number)
	if err != nil {
		return out, err
	}
	l, err := v.LabelData()
	if err != nil {
		return out, err
	}
	company, err := a.relay.Company(ctx)
	if err != nil {
		return out, err
	}
	out.Label = paper.Label{
		Carrier:  v.CarrierName,
		Service:  v.ServiceName,
		Tracking: v.Tracking,
		Routing:  l.Routing,
		Imprint:  l.PrintLines,
		From:     a.relay.From(&v.Parcel, v.Order),
		To:       v.Order.ShipTo,
		Order:    v.OrderNumber,
		Shipment: v.Number,
		SSCC:     v.SSCC,
		WeightG:  v.WeightG,
		Language: company.Language,
		Day:      time.UnixMicro(v.ShippedAt).In(a.relay.Zone()).Format(time.DateOnly),
	}
	if l.Pieces > 0 {
		out.Piece = fmt.Sprintf("%d / %d", l.Piece, l.Pieces)
	}
	if p := shipping.PointOf(v.Order); p != nil {
		out.To = place.Address{Name: v.Order.ShipTo.Name, Company: p.Name, Street: p.Street, Postcode: p.Postcode, Town: p.Town,
			Country: engine.Or(p.Country, v.Order.ShipTo.Country)}
	}
	document, form, made, err := a.relay.LabelDocument(ctx, v.Number)
	if err != nil {
		a.relay.Log.Warn("a label as its carrier made it cannot be had, it is drawn here", "parcel", v.Number, "error", err)
		return out, nil
	}
	if made && (form == "pdf" || form == "png") {
		out.Document, out.Form = document, form
	}
	return out, nil
}

// onManifest lists all parcels of a manifest, newest first.
func (a *API) onManifest(ctx context.Context, id int64) (list []store.Parcel, err error) {
	const part = 1000
	for before := int64(0); ; before = list[len(list)-1].ID {
		more, err := a.relay.Store.ListParcels(ctx, nil, id, before, part)
		if err != nil {
			return nil, err
		}
		if list = append(list, more...); len(more) < part {
			return list, nil
		}
	}
}

func (a *API) manifestPDF(w http.ResponseWriter, r *http.Request) {
	id, err := strconv.ParseInt(chi.URLParam(r, "id"), 10, 64)
	if err != nil {
		problem(w, http.StatusNotFound, "There is no such manifest.")
		return
	}
	doc, name, err := a.manifestPaper(r.Context(), id)
	if err != nil {
		a.deny(w, err)
		return
	}
	a.pdf(w, r, name, func(buf *bytes.Buffer) error { return paper.WriteManifest(buf, doc) })
}

// manifestPaper is a manifest as it is printed, and the name of its file.
func (a *API) manifestPaper(ctx context.Context, id int64) (doc paper.Manifest, name string, err error) {
	m, err := a.relay.Store.Manifest(ctx, id)
	if err != nil {
		return doc, "", fmt.Errorf("manifest %d: %w", id, err)
	}
	list, err := a.onManifest(ctx, id)
	if err != nil {
		return doc, "", err
	}
	company, err := a.relay.Company(ctx)
	doc = paper.Manifest{Company: company.Name, Language: company.Language, Carrier: m.CarrierName, Day: m.Day, State: m.State,
		Receipt: m.Receipt, Printed: a.relay.Now()}
	for i := len(list) - 1; i >= 0; i-- {
		s := list[i]
		doc.Rows = append(doc.Rows, paper.ManifestRow{Tracking: s.Tracking, Service: s.ServiceName, Order: s.OrderNumber, To: s.Buyer,
			WeightG: s.WeightG, Price: money.Amount{Minor: s.Price, Currency: s.Currency}.String()})
	}
	return doc, fmt.Sprintf("manifest-%s-%s.pdf", m.CarrierCode, m.Day), err
}

// runLog downloads a run's log as NDJSON or CSV.
func (a *API) runLog(w http.ResponseWriter, r *http.Request) {
	id, err := strconv.ParseInt(chi.URLParam(r, "id"), 10, 64)
	if err != nil {
		problem(w, http.StatusNotFound, "There is no such run.")
		return
	}
	if _, err := a.relay.Store.Run(r.Context(), id); err != nil {
		a.deny(w, err)
		return
	}
	lines, err := a.relay.Store.RunLog(r.Context(), id)
	if err != nil {
		a.deny(w, err)
		return
	}
	if r.URL.Query().Get("format") == "csv" {
		out := table(w, fmt.Sprintf("run-%d.csv", id), "at", "level", "text")
		for _, l := range lines {
			_ = out.Row(at(l.At).Format(time.RFC3339Nano), l.Level, l.Text)
		}
		_ = out.End() // who asked may have left
		return
	}
	w.Header().Set("Content-Type", "application/x-ndjson")
	w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=run-%d.ndjson", id))
	enc := json.NewEncoder(w)
	for _, l := range lines {
		enc.Encode(wire.LogLine{At: at(l.At), Level: l.Level, Text: l.Text})
	}
}
