package standin

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/OpenPrinting/goipp"
	"github.com/go-chi/chi/v5"
)

// mostSheets is how many of the newest sheets a printer keeps in its tray, for people to look at.
const mostSheets = 200

// Printer is a printer that speaks IPP (RFC 8011): what comes out lies in its tray, it may be switched off, and it misbehaves when told to.
type Printer struct {
	mis   mischief
	mu    sync.Mutex
	off   bool
	count int
	tray  []Sheet // the newest of what came out, the oldest first
	http.Handler
}

// Sheet is a document that came out of a printer.
type Sheet struct {
	No       int
	Name     string // of the job
	Format   string // MIME type
	At       time.Time
	Document []byte
}

// Size is how large it is, as people read it.
func (s Sheet) Size() string { return fmt.Sprintf("%d KB", (len(s.Document)+1023)/1024) }

// NewPrinter sets a printer up.
func NewPrinter() *Printer {
	p := &Printer{}
	r := chi.NewRouter()
	r.With(p.mis.around).Post("/printers/{name}", p.job)
	r.Get("/control", func(w http.ResponseWriter, _ *http.Request) {
		off, count, tray := p.stands()
		for i, j := 0, len(tray)-1; i < j; i, j = i+1, j-1 {
			tray[i], tray[j] = tray[j], tray[i]
		}
		show(w, "printer", map[string]any{"Off": off, "Count": count, "Tray": tray})
	})
	r.Get("/control/sheets/{no}", p.sheet)
	r.Post("/control/switch", func(w http.ResponseWriter, r *http.Request) {
		p.SwitchOff(r.FormValue("off") == "yes")
		http.Redirect(w, r, "/control", http.StatusSeeOther)
	})
	r.Post("/control/api/faults", p.mis.setFaults)
	p.Handler = r
	return p
}

// Live lets it live so long ago.
func (p *Printer) Live(ago time.Duration) { p.mis.Live(ago) }

// Misbehave switches faults on, or off with the zero value.
func (p *Printer) Misbehave(f Faults) { p.mis.set(f) }

// SwitchOff switches it off, or on again.
func (p *Printer) SwitchOff(off bool) { p.mu.Lock(); p.off = off; p.mu.Unlock() }

// Printed is how many documents came out.
func (p *Printer) Printed() int { _, count, _ := p.stands(); return count }

func (p *Printer) stands() (off bool, count int, tray []Sheet) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.off, p.count, append([]Sheet{}, p.tray...)
}

// sheet shows a document in the tray.
func (p *Printer) sheet(w http.ResponseWriter, r *http.Request) {
	no, _ := strconv.Atoi(chi.URLParam(r, "no"))
	_, _, tray := p.stands()
	for _, s := range tray {
		if s.No == no {
			w.Header().Set("Content-Type", s.Format)
			w.Write(s.Document)
			return
		}
	}
	http.NotFound(w, r)
}

// job takes an IPP request: Print-Job, Get-Jobs or Get-Printer-Attributes. One that is off cuts the line.
func (p *Printer) job(w http.ResponseWriter, r *http.Request) {
	raw, err := io.ReadAll(io.LimitReader(r.Body, 32<<20))
	var m goipp.Message
	in := bytes.NewReader(raw)
	if off, _, _ := p.stands(); off {
		panic(http.ErrAbortHandler)
	}
	if err != nil || m.Decode(in) != nil {
		http.Error(w, "this is no IPP", http.StatusBadRequest)
		return
	}
	out := goipp.NewResponse(goipp.DefaultVersion, goipp.StatusOk, m.RequestID)
	switch goipp.Op(m.Code) {
	case goipp.OpPrintJob:
		document, _ := io.ReadAll(in)
		p.print(operation(&m, "job-name"), operation(&m, "document-format"), document)
	case goipp.OpGetJobs:
		out.Groups = goipp.Groups{{Tag: goipp.TagOperationGroup, Attrs: out.Operation}}
		_, _, tray := p.stands()
		for _, s := range tray {
			out.Groups = append(out.Groups, goipp.Group{Tag: goipp.TagJobGroup,
				Attrs: goipp.Attributes{goipp.MakeAttribute("job-name", goipp.TagName, goipp.String(s.Name))}})
		}
	case goipp.OpGetPrinterAttributes:
		out.Printer.Add(goipp.MakeAttribute("printer-name", goipp.TagName, goipp.String(chi.URLParam(r, "name"))))
		out.Printer.Add(goipp.MakeAttribute("printer-state", goipp.TagEnum, goipp.Integer(3)))
		out.Printer.Add(goipp.MakeAttribute("printer-state-reasons", goipp.TagKeyword, goipp.String("none")))
		out.Printer.Add(goipp.MakeAttribute("document-format-supported", goipp.TagMimeType, goipp.String("application/pdf")))
	default:
		out.Code = goipp.Code(goipp.StatusErrorOperationNotSupported)
	}
	text, err := out.EncodeBytes()
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", goipp.ContentType)
	w.Write(text)
}

// operation is an operation attribute of a request; empty: it has none of the name.
func operation(m *goipp.Message, name string) string {
	for _, a := range m.Operation {
		if a.Name == name && len(a.Values) > 0 {
			return a.Values[0].V.String()
		}
	}
	return ""
}

func (p *Printer) print(name, format string, document []byte) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.count++
	p.tray = append(p.tray, Sheet{p.count, name, format, p.mis.clock(), document})
	if len(p.tray) > mostSheets {
		p.tray = append([]Sheet{}, p.tray[len(p.tray)-mostSheets:]...)
	}
}
