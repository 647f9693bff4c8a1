package api

import (
	"bytes"
	"context"
	"net/http"
	"strconv"
	"time"

	"openrelay/internal/core/person"
	"openrelay/internal/paper"
	ipp "openrelay/internal/printing"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/printing"
	"openrelay/internal/wire"
)

// printingRoutes are those of printers and of what waits for them. Papers are drawn here when their turn has come.
func (a *API) printingRoutes() {
	a.relay.Printing.Draw = a.draw
	tableRoutes(a, "/printers", "printers", "printers", a.relay.Printing.Printers, person.Look)
	op(a, person.Ship, http.MethodGet, "/printers/{code}/state", "printer-state", "Ask a printer how it is", a.printerState)
	op(a, person.Ship, http.MethodPost, "/printers/{code}/test", "test-printer", "Print a test page", a.testPrinter)
	op(a, person.Ship, http.MethodGet, "/print-queue", "print-queue", "What waits to be printed, and what was printed last", a.printQueue)
	op(a, person.Ship, http.MethodPost, "/print", "print",
		"Print papers of parcels or a manifest, on the printer of their place or a named one", a.print)
	op(a, person.Ship, http.MethodDelete, "/print-queue/{id}", "unqueue-print", "Take a paper out of the queue", a.takeOutOfQueue)
}

type printerInput struct {
	Code string `path:"code"`
}

func (a *API) printerState(ctx context.Context, in *printerInput) (*body[wire.PrinterState], error) {
	p, err := a.relay.Printing.Look(ctx, in.Code)
	return &body[wire.PrinterState]{wire.PrinterState{Name: p.Name, State: p.State, Reasons: p.Reasons, Formats: p.Formats}}, err
}

func (a *API) testPrinter(ctx context.Context, in *printerInput) (*body[wire.Printing], error) {
	return a.queued(ctx, in.Code, "", printing.Wanted{Paper: printing.Test})
}

func (a *API) queued(ctx context.Context, code, place string, w printing.Wanted) (*body[wire.Printing], error) {
	p, job, err := a.relay.Printing.Print(ctx, code, place, w, who(ctx))
	return &body[wire.Printing]{wire.Printing{Printer: p.Code, PrinterName: p.Name, Job: job}}, err
}

func (a *API) printQueue(ctx context.Context, in *PageInput) (*body[[]wire.PrintJob], error) {
	list, err := a.relay.Store.JobsOf(ctx, string(engine.JobPrint), in.Limit)
	out := make([]wire.PrintJob, len(list))
	for i, j := range list {
		out[i] = wire.PrintJob{ID: j.ID, About: j.Subject, Who: a.called(ctx, j.Who), State: j.State, Error: j.Error, Attempts: j.Attempts,
			CreatedAt: at(j.CreatedAt), NextAt: at(j.NextAt), EndedAt: at(j.EndedAt)}
	}
	return &body[[]wire.PrintJob]{out}, err
}

type printInput struct {
	Body struct {
		Paper   string   `json:"paper" enum:"label,packing slip,customs papers,manifest"`
		Numbers []string `json:"numbers" minItems:"1" maxItems:"500" doc:"Of parcels; of a manifest, its number"`
		Printer string   `json:"printer,omitempty" doc:"Code; empty: the one that prints this at the place of the first parcel"`
		First   int      `json:"first,omitempty" minimum:"0" maximum:"4" doc:"Of A4 sheets of labels: the first free place"`
	}
}

func (a *API) print(ctx context.Context, in *printInput) (*body[wire.Printing], error) {
	b := in.Body
	place := ""
	if b.Paper != printing.List {
		v, err := a.relay.Views.Parcel(ctx, b.Numbers[0])
		if err != nil {
			return nil, wrapNumber("parcel", b.Numbers[0], err)
		}
		place = a.relay.Place(v.LocationID).Code
	}
	return a.queued(ctx, b.Printer, place, printing.Wanted{Paper: b.Paper, Numbers: b.Numbers, First: b.First})
}

type jobIDInput struct {
	ID int64 `path:"id"`
}

func (a *API) takeOutOfQueue(ctx context.Context, in *jobIDInput) (*struct{}, error) {
	return nil, a.relay.Printing.Take(ctx, in.ID, a.called(ctx, who(ctx)))
}

// draw draws a paper for a printer.
func (a *API) draw(ctx context.Context, w printing.Wanted, p printing.Printer) ([]printing.Drawn, error) {
	var buf bytes.Buffer
	pdf := func(err error) ([]printing.Drawn, error) {
		if err != nil {
			return nil, err
		}
		return []printing.Drawn{{Format: ipp.PDF, Document: buf.Bytes()}}, nil
	}
	switch w.Paper {
	case printing.Label:
		return a.drawLabels(ctx, w, p)
	case printing.Slip:
		slips, err := a.slips(ctx, w.Numbers)
		if err != nil {
			return nil, err
		}
		return pdf(paper.WritePackingSlips(&buf, slips...))
	case printing.Customs:
		return a.drawCustoms(ctx, w.Numbers)
	case printing.List:
		id, err := strconv.ParseInt(w.Numbers[0], 10, 64)
		if err != nil {
			return nil, engine.Refuse("manifest %q: its number is expected", w.Numbers[0])
		}
		m, _, err := a.manifestPaper(ctx, id)
		if err != nil {
			return nil, err
		}
		return pdf(paper.WriteManifest(&buf, m))
	case printing.Test:
		return pdf(paper.WriteTestPage(&buf, engine.Or(p.Size, paper.OnLabels), p.Name, a.relay.Now().Format(time.DateTime)))
	}
	return nil, engine.Refuse("paper %q is not known", w.Paper)
}

// drawCustoms draws the invoices of parcels, each a document of its own.
func (a *API) drawCustoms(ctx context.Context, numbers []string) (out []printing.Drawn, err error) {
	for _, n := range numbers {
		c, err := a.customsPaper(ctx, n)
		if err != nil {
			return nil, err
		}
		var buf bytes.Buffer
		if err := paper.WriteCustoms(&buf, paper.Invoice, c); err != nil {
			return nil, err
		}
		out = append(out, printing.Drawn{Format: ipp.PDF, Document: buf.Bytes()})
	}
	return out, nil
}

// drawLabels draws labels for a printer; those in its own language go through unchanged.
func (a *API) drawLabels(ctx context.Context, w printing.Wanted, p printing.Printer) (out []printing.Drawn, err error) {
	var drawn []string
	for _, n := range w.Numbers {
		document, form, made, err := a.relay.LabelDocument(ctx, n)
		if _, refused := engine.IsRefused(err); err != nil && !refused {
			return nil, err
		}
		if err == nil && made && form == p.Language {
			out = append(out, printing.Drawn{Format: ipp.Raw, Document: document})
			continue
		}
		drawn = append(drawn, n)
	}
	if len(drawn) == 0 {
		return out, nil
	}
	pages, err := a.labelPages(ctx, drawn)
	if err != nil {
		return nil, err
	}
	var buf bytes.Buffer
	if err := paper.WriteLabelSheets(&buf, engine.Or(p.Size, paper.OnLabels), max(w.First, 1), pages...); err != nil {
		return nil, engine.Refuse("%v", err)
	}
	return append(out, printing.Drawn{Format: ipp.PDF, Document: buf.Bytes()}), nil
}

// slips are the packing slips of parcels.
func (a *API) slips(ctx context.Context, numbers []string) (out []paper.PackingSlip, err error) {
	for _, n := range numbers {
		v, err := a.relay.CartonOf(ctx, n)
		if err != nil {
			return nil, wrapNumber("parcel", n, err)
		}
		s, err := a.packingSlip(ctx, v, false)
		if err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}
