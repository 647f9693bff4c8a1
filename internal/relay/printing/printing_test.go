package printing_test

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/OpenPrinting/goipp"
	"github.com/stretchr/testify/require"

	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/printing"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// desk is a printer that keeps what it is sent, and may be off, refuse, or lose its answers.
type desk struct {
	*httptest.Server
	mu      sync.Mutex
	printed []string // what was sent, by job-name
	named   map[string]bool
	off     bool
	loses   bool
	refuses bool
}

func newDesk(t *testing.T) *desk {
	d := &desk{named: map[string]bool{}}
	d.Server = httptest.NewServer(http.HandlerFunc(d.answer))
	t.Cleanup(d.Close)
	return d
}

func (d *desk) answer(w http.ResponseWriter, r *http.Request) {
	d.mu.Lock()
	defer d.mu.Unlock()
	raw, _ := io.ReadAll(r.Body)
	var m goipp.Message
	in := bytes.NewReader(raw)
	if d.off || m.Decode(in) != nil {
		panic(http.ErrAbortHandler)
	}
	out := goipp.NewResponse(goipp.DefaultVersion, goipp.StatusOk, m.RequestID)
	switch goipp.Op(m.Code) {
	case goipp.OpPrintJob:
		if d.refuses {
			out.Code = goipp.Code(goipp.StatusErrorDocumentFormatNotSupported)
			break
		}
		name := ""
		for _, a := range m.Operation {
			if a.Name == "job-name" {
				name = a.Values[0].V.String()
			}
		}
		document, _ := io.ReadAll(in)
		d.printed, d.named[name] = append(d.printed, string(document)), true
		if d.loses {
			d.loses = false
			panic(http.ErrAbortHandler)
		}
	case goipp.OpGetJobs:
		for name := range d.named {
			out.Job.Add(goipp.MakeAttribute("job-name", goipp.TagName, goipp.String(name)))
		}
		out.Groups = goipp.Groups{{Tag: goipp.TagOperationGroup, Attrs: out.Operation}, {Tag: goipp.TagJobGroup, Attrs: out.Job}}
	case goipp.OpGetPrinterAttributes:
		out.Printer.Add(goipp.MakeAttribute("printer-state", goipp.TagEnum, goipp.Integer(3)))
	}
	text, _ := out.EncodeBytes()
	w.Header().Set("Content-Type", goipp.ContentType)
	_, _ = w.Write(text)
}

func (d *desk) have() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return append([]string{}, d.printed...)
}

func (d *desk) set(f func()) { d.mu.Lock(); defer d.mu.Unlock(); f() }

// bench is a company with a printer for labels at Alder Yard, which prints by itself.
func bench(t *testing.T) (*trial.Kit, *desk) {
	t.Helper()
	k, d := trial.New(t, "ann"), newDesk(t)
	k.Printing.Reach(http.DefaultTransport)
	k.Printing.Draw = func(_ context.Context, w printing.Wanted, p printing.Printer) ([]printing.Drawn, error) {
		if w.Paper == printing.Customs {
			return nil, engine.Refuse("parcel %s crosses no customs border", w.Numbers[0])
		}
		return []printing.Drawn{{Format: "application/pdf", Document: []byte(w.Paper + " " + strings.Join(w.Numbers, " "))}}, nil
	}
	require.NoError(
		t,
		k.Printing.Printers.Change(t.Context(), k.Engine, []printing.Printer{{Code: "bench", Name: "Bench 1", Place: "alder",
			Address: strings.Replace(d.URL, "http://", "ipp://",
				1) + "/printers/bench", Papers: []string{printing.Label}, Auto: true}}, "Edda"),
	)
	k.Stock(50, "JAR")
	return k, d
}

// TestALabelIsPrintedWhenItIsBought, once, on the printer of its place.
func TestALabelIsPrintedWhenItIsBought(t *testing.T) {
	k, d := bench(t)
	k.Sell("S-1", trial.Units("JAR", 1))
	s := k.Packed("S-1")
	require.NoError(t, k.Label(s, "ann"))
	k.Settle()
	require.Equal(t, []string{"label " + s}, d.have())
	_, _, err := k.Printing.Print(t.Context(), "", "alder", printing.Wanted{Paper: printing.Label, Numbers: []string{s}}, "Pim")
	require.NoError(t, err)
	k.Settle()
	require.Len(t, d.have(), 2, "printed anew when a person wants it")
	_, _, err = k.Printing.Print(t.Context(), "", "alder", printing.Wanted{Paper: printing.Slip, Numbers: []string{s}}, "Pim")
	require.ErrorContains(t, err, "no printer prints a packing slip here")
	_, _, err = k.Printing.Print(t.Context(), "gone", "", printing.Wanted{Paper: printing.Test}, "Pim")
	require.ErrorContains(t, err, `no printer "gone"`)
	state, err := k.Printing.Look(t.Context(), "bench")
	require.NoError(t, err)
	require.Equal(t, "idle", state.State)
}

// TestAPrinterThatIsOffForAnHour: what waits for it survives a new start, a person hears of it once, and all is printed when it is on.
func TestAPrinterThatIsOffForAnHour(t *testing.T) {
	k, d := bench(t)
	d.set(func() { d.off = true })
	for _, n := range []string{"S1", "S2"} {
		_, _, err := k.Printing.Print(t.Context(), "bench", "", printing.Wanted{Paper: printing.Label, Numbers: []string{n}}, "Pim")
		require.NoError(t, err)
	}
	draw := k.Printing.Draw
	for range 12 {
		k.Settle()
		k.Later(5 * time.Minute)
	}
	require.Equal(t, []order.Cause{engine.PrinterOff}, k.Causes())
	k.Again()
	k.Printing.Reach(http.DefaultTransport)
	k.Printing.Draw = draw
	d.set(func() { d.off = false })
	k.Later(6 * time.Minute)
	k.Settle()
	require.ElementsMatch(t, []string{"label S1", "label S2"}, d.have())
	require.Empty(t, k.Causes())
}

// TestAnAnswerThatWasLost: the printer is asked whether it has the paper, before it is sent again.
func TestAnAnswerThatWasLost(t *testing.T) {
	k, d := bench(t)
	d.set(func() { d.loses = true })
	_, _, err := k.Printing.Print(t.Context(), "bench", "", printing.Wanted{Paper: printing.Label, Numbers: []string{"S1"}}, "Pim")
	require.NoError(t, err)
	for range 4 {
		k.Settle()
		k.Later(time.Minute)
	}
	require.Equal(t, []string{"label S1"}, d.have())
	require.Empty(t, k.Causes())
}

// TestWhatIsNotPrintedIsSaid: a printer that refuses, a paper that cannot be drawn, a printer that is gone, and what a person takes out.
func TestWhatIsNotPrintedIsSaid(t *testing.T) {
	k, d := bench(t)
	ctx := t.Context()
	print := func(paper string) int64 {
		_, job, err := k.Printing.Print(ctx, "bench", "", printing.Wanted{Paper: paper, Numbers: []string{"S1"}}, "Pim")
		require.NoError(t, err)
		return job
	}
	d.set(func() { d.refuses = true })
	print(printing.Label)
	k.Settle()
	require.Equal(t, []order.Cause{engine.NotPrinted}, k.Causes())
	require.Contains(t, k.Exceptions()[0].Text, "document-format-not-supported")
	print(printing.Customs)
	k.Settle()
	require.Len(t, k.Causes(), 2)
	d.set(func() { d.off = true })
	job := print(printing.Label)
	require.NoError(t, k.Printing.Take(ctx, job, "Pim"))
	require.True(t, errors.Is(k.Printing.Take(ctx, job, "Pim"), store.ErrNotFound))
	print(printing.Test)
	require.NoError(t, k.Printing.Printers.Change(ctx, k.Engine, nil, "Edda"))
	k.Settle()
	require.Len(t, k.Causes(), 3)
	require.Empty(t, d.have())
}

// TestPrintersThatCannotBeAreRefused.
func TestPrintersThatCannotBeAreRefused(t *testing.T) {
	k := trial.New(t, "ann")
	ok := printing.Printer{Code: "a", Address: "ipp://p.example/x", Papers: []string{printing.Label}}
	for _, c := range []struct {
		change func(p *printing.Printer)
		says   string
	}{
		{func(p *printing.Printer) { p.Code = "A B" }, "code"},
		{func(p *printing.Printer) { p.Address = "http://p.example" }, "ipp://"},
		{func(p *printing.Printer) { p.Place = "moon" }, "moon"},
		{func(p *printing.Printer) { p.Papers = []string{"poem"} }, "poem"},
		{func(p *printing.Printer) { p.Papers, p.Auto = nil, true }, "prints no labels"},
	} {
		p := ok
		c.change(&p)
		require.ErrorContains(t, k.Printing.Printers.Change(t.Context(), k.Engine, []printing.Printer{p}, "Edda"), c.says)
	}
	require.ErrorContains(t, k.Printing.Printers.Change(t.Context(), k.Engine, []printing.Printer{ok, ok}, "Edda"), "twice")
}
