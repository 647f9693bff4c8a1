// Package printing keeps what is to be printed until its printer has it: named printers at places, a queue that survives a printer that
// is off and an end of the process, and what goes to which printer by itself. It draws nothing: whoever draws papers is asked when the
// time has come, so that what is printed is as it stands then, and no paper is kept.
package printing

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"

	"openrelay/internal/printing"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// Papers that can be printed.
const (
	Label   = "label"
	Slip    = "packing slip"
	Customs = "customs papers"
	List    = "manifest"
	Test    = "test page"
)

// Papers lists them.
var Papers = []string{Label, Slip, Customs, List, Test}

// Printer is one that has a name here.
type Printer struct {
	Code     string   `json:"code" yaml:"code"               maxLength:"31"  doc:"By which it is named"`
	Name     string   `json:"name" yaml:"name"               maxLength:"80"`
	Address  string   `json:"address" yaml:"address"            maxLength:"300" doc:"Such as ipp://printer.example:631/printers/bench"`
	Place    string   `json:"place,omitempty" yaml:"place,omitempty"    maxLength:"60"  doc:"Code of where it stands; empty: anywhere"`
	Papers   []string `json:"papers" yaml:"papers"                             doc:"What it prints where nobody names a printer: label, packing slip, customs papers, manifest" maxItems:"5"`
	Size     string   `json:"size,omitempty" yaml:"size,omitempty"                     doc:"Of labels: 100 × 150 mm, A4 with four, or 80 mm; empty: label"                                           enum:",label,a4,roll"`
	Language string   `json:"language,omitempty" yaml:"language,omitempty"                 doc:"Printer's language that it takes unchanged; empty: none, PDF alone"                                      enum:",zpl,epl"`
	Auto     bool     `json:"auto,omitempty" yaml:"auto,omitempty"                     doc:"Labels are printed as soon as they are bought"`
}

// Wanted is what is to be printed.
type Wanted struct {
	Paper   string   `json:"paper"`
	Numbers []string `json:"numbers,omitempty"` // of parcels, or of a manifest
	First   int      `json:"first,omitempty"`   // of an A4 sheet of labels: the first free place
}

// Drawn is a paper.
type Drawn struct {
	Format   string // of internal/printing
	Document []byte
}

// Drawer draws papers for a printer.
type Drawer func(ctx context.Context, w Wanted, p Printer) ([]Drawn, error)

// Printing prints.
type Printing struct {
	*engine.Engine
	Printers *engine.Table[Printer]
	// Draw draws papers; nil: nobody does yet, and what is to be printed waits.
	Draw Drawer
	ipp  *printing.Client
}

// New makes the printing of a company.
func New(e *engine.Engine) *Printing {
	r := &Printing{Engine: e, ipp: &printing.Client{HTTP: &http.Client{Transport: e.Client.Transport}, User: "openrelay"}}
	r.Printers = &engine.Table[Printer]{Kind: "printers", Most: 500, Check: r.check}
	e.AddSettingKind(r.Printers.SettingKind(e))
	return r
}

// Reach takes another way to printers than that of all outgoing calls.
func (r *Printing) Reach(by http.RoundTripper) { r.ipp.HTTP = &http.Client{Transport: by} }

// check tidies printers and refuses what cannot be.
func (r *Printing) check(_ context.Context, rows []Printer) error {
	for i := range rows {
		p := &rows[i]
		p.Code, p.Name, p.Address = strings.TrimSpace(p.Code), strings.TrimSpace(p.Name), strings.TrimSpace(p.Address)
		if !engine.ValidCode(p.Code) {
			return engine.Refuse("row %d: code %q: small letters, digits and - are expected", i+1, p.Code)
		}
		if p.Name == "" {
			p.Name = p.Code
		}
		if err := printing.CheckAddress(p.Address); err != nil {
			return engine.Refuse("row %d: %v", i+1, err)
		}
		if p.Place != "" {
			if _, err := r.Location(p.Place); err != nil {
				return engine.Refuse("row %d: %v", i+1, err)
			}
		}
		for _, x := range p.Papers {
			if !slices.Contains(Papers, x) || x == Test {
				return engine.Refuse("row %d: paper %q: label, packing slip, customs papers or manifest are expected", i+1, x)
			}
		}
		if p.Auto && !slices.Contains(p.Papers, Label) {
			return engine.Refuse("row %d: it prints no labels, and is to print them by itself", i+1)
		}
		if slices.ContainsFunc(rows[:i], func(o Printer) bool { return o.Code == p.Code }) {
			return engine.Refuse("row %d: %s stands there twice", i+1, p.Code)
		}
	}
	return nil
}

// Find is the printer of a code, or the one that prints a paper at a place: the place's own before one that stands anywhere.
func (r *Printing) Find(ctx context.Context, code, paper, place string) (Printer, error) {
	rows, err := r.Printers.Rows(ctx, r.Engine)
	if err != nil {
		return Printer{}, err
	}
	want := func(at string) int {
		return slices.IndexFunc(rows, func(p Printer) bool {
			return code == p.Code || code == "" && p.Place == at && slices.Contains(p.Papers, paper)
		})
	}
	at := want(place)
	if at < 0 {
		at = want("")
	}
	switch {
	case at >= 0:
		return rows[at], nil
	case code != "":
		return Printer{}, engine.Refuse("there is no printer %q", code)
	}
	return Printer{}, engine.Refuse("no printer prints a %s here; name one in Settings, Printing", paper)
}

// printArgs are those of a job that prints.
type printArgs struct {
	Printer string `json:"printer"`
	Wanted
}

// Print puts a paper into the queue of a printer. What waits there already is not queued twice.
func (r *Printing) Print(ctx context.Context, code, place string, w Wanted, who string) (printer Printer, job int64, err error) {
	if printer, err = r.Find(ctx, code, w.Paper, place); err != nil {
		return printer, 0, err
	}
	err = r.Commit(ctx, func(ch *engine.Change) (err error) {
		job, err = r.queue(ch, printer, w, who)
		return err
	})
	return printer, job, err
}

func (r *Printing) queue(ch *engine.Change, p Printer, w Wanted, who string) (int64, error) {
	ch.Tell("print", p.Code)
	return ch.StartJob(engine.JobPrint, strings.TrimSpace(fmt.Sprintf("%s %s %s", p.Code, w.Paper, strings.Join(w.Numbers, " "))), who,
		printArgs{Printer: p.Code, Wanted: w})
}

// LabelsBought prints the labels of parcels that were bought, at places whose printer does that by itself.
func (r *Printing) LabelsBought(ch *engine.Change, parcels []int64) error {
	rows, err := r.Printers.RowsIn(ch)
	if err != nil || len(rows) == 0 {
		return err
	}
	for _, id := range parcels {
		p, err := ch.ParcelByID(id)
		if err != nil {
			return err
		}
		here := r.Place(p.LocationID).Code
		at := slices.IndexFunc(rows, func(x Printer) bool { return x.Auto && (x.Place == here || x.Place == "") })
		if at < 0 || !p.Left() || p.Label == "" {
			continue
		}
		if _, err := r.queue(ch, rows[at], Wanted{Paper: Label, Numbers: []string{p.Number}}, "relay"); err != nil {
			return err
		}
	}
	return nil
}

// raiseAfter is how often a printer is tried before a person hears of it.
const raiseAfter = 5

// Step prints the next paper of the queue. A printer that does not answer is tried again, for as long as it takes; where an answer was
// lost, the printer is asked first whether it has the paper.
func (r *Printing) Step(ctx context.Context, j *store.Job) (bool, error) {
	var a printArgs
	if err := json.Unmarshal([]byte(j.Args), &a); err != nil {
		return true, err
	}
	p, err := r.Find(ctx, a.Printer, a.Paper, "")
	if _, refused := engine.IsRefused(err); refused {
		return true, r.printed(ctx, j, a.Printer, "the printer is gone: "+err.Error())
	}
	if err != nil || r.Draw == nil {
		return false, errors.Join(err, errNobodyDraws(r.Draw == nil))
	}
	papers, err := r.Draw(ctx, a.Wanted, p)
	if why, refused := engine.IsRefused(err); refused {
		return true, r.printed(ctx, j, a.Printer, why)
	}
	if err != nil {
		return false, err
	}
	for i, d := range papers {
		if err := r.send(ctx, p, j, i, d); err != nil {
			return r.notPrinted(ctx, j, p, err)
		}
	}
	return true, r.printed(ctx, j, a.Printer, "")
}

func errNobodyDraws(nobody bool) error {
	if nobody {
		return errors.New("nobody draws papers yet")
	}
	return nil
}

// send sends one paper of a job to its printer, once.
func (r *Printing) send(ctx context.Context, p Printer, j *store.Job, part int, d Drawn) error {
	name := fmt.Sprintf("%s-%d-%d-%d %s", r.Prefix, j.ID, j.Asked, part+1, j.Subject)
	if j.Attempts > 0 {
		known, err := r.ipp.Knows(ctx, p.Address, name)
		if err != nil || known {
			return err
		}
	}
	return r.ipp.Print(ctx, p.Address, printing.Job{Name: name, Format: d.Format, Document: d.Document})
}

// notPrinted keeps a paper in the queue, and says so once it has been tried often.
func (r *Printing) notPrinted(ctx context.Context, j *store.Job, p Printer, err error) (bool, error) {
	var refusal *printing.Refusal
	var slow net.Error
	if errors.As(err, &refusal) && !strings.Contains(refusal.Status, "busy") && !strings.Contains(refusal.Status, "not-accepting") {
		return true, r.printed(ctx, j, p.Code, refusal.Error())
	}
	text := err.Error()
	if errors.As(err, &slow) && slow.Timeout() {
		text = "it does not answer"
	}
	if j.Attempts+1 >= raiseAfter {
		if e := r.Commit(ctx, func(ch *engine.Change) error {
			ch.Tell("exception", "")
			return ch.Raise(store.Exception{Cause: engine.PrinterOff, Subject: p.Code,
				Text:     fmt.Sprintf("Printer %s does not print: %s", p.Name, text),
				Expected: "A printer that is on and reached. What waits is printed then by itself; this is over with the first paper."},
				ch.Now)
		}); e != nil {
			return false, e
		}
	}
	return false, fmt.Errorf("printer %s: %s", p.Name, text)
}

// printed ends a job, and what was raised about its printer. Why says why nothing was printed.
func (r *Printing) printed(ctx context.Context, j *store.Job, printer, why string) error {
	j.Error = why
	return r.Commit(ctx, func(ch *engine.Change) error {
		ch.Tell("print", printer)
		ch.Tell("exception", "")
		if why == "" {
			return ch.CloseConnectionSubject(0, engine.PrinterOff, printer, ch.Now)
		}
		return ch.Raise(
			store.Exception{Cause: engine.NotPrinted, Subject: j.Subject,
				Text:     fmt.Sprintf("Not printed: %s. %s", j.Subject, why),
				Expected: "The paper: print it anew, on another printer, or save it; then settle this here.", Standing: true},
			ch.Now,
		)
	})
}

// Look asks a printer how it is.
func (r *Printing) Look(ctx context.Context, code string) (printing.Printer, error) {
	p, err := r.Find(ctx, code, "", "")
	if err != nil {
		return printing.Printer{}, err
	}
	out, err := r.ipp.Look(ctx, p.Address)
	if err != nil {
		return out, &engine.Refused{Text: fmt.Sprintf("printer %s: %v", p.Name, err), Conflict: true}
	}
	return out, nil
}

// Take takes what waits for a printer out of its queue.
func (r *Printing) Take(ctx context.Context, job int64, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		ch.Tell("print", "")
		if err := ch.EndJob(job, string(engine.JobPrint), "taken out by "+who); err != nil {
			return fmt.Errorf("paper %d: %w", job, err)
		}
		return nil
	})
}
