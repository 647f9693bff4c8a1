// Package paper draws what is printed: pick lists, labels, manifests (PDF). It is given everything it
// draws and asks nobody. Lengths are millimetres; barcodes are Code 128 (ISO/IEC 15417) and Data
// Matrix (ISO/IEC 16022), drawn as rectangles so that they stay sharp on any printer.
package paper

import (
	"bytes"
	"fmt"
	"io"
	"sort"
	"strings"
	"time"
	"unicode/utf8"

	"codeberg.org/go-pdf/fpdf"
	"github.com/boombuler/barcode"
	"github.com/boombuler/barcode/code128"
	"github.com/boombuler/barcode/datamatrix"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/gomono"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/sfnt"

	"openrelay/internal/core/place"
)

const (
	sans = "sans"
	mono = "mono"
)

func newPDF(w, h float64, title string) *fpdf.Fpdf {
	p := fpdf.NewCustom(&fpdf.InitType{UnitStr: "mm", Size: fpdf.SizeType{Wd: w, Ht: h}})
	p.SetTitle(drawable(sans, "", title), true)
	p.SetCreator("Open Relay", true)
	p.SetAutoPageBreak(false, 0)
	p.SetMargins(0, 0, 0)
	p.AddUTF8FontFromBytes(sans, "", goregular.TTF)
	p.AddUTF8FontFromBytes(sans, "B", gobold.TTF)
	p.AddUTF8FontFromBytes(mono, "", gomono.TTF)
	return p
}

// instead stands for a character that our fonts cannot draw.
const instead = '□'

// fonts are the fonts by family and style, as they tell which characters they have.
var fonts = func() map[string]*sfnt.Font {
	out := map[string]*sfnt.Font{}
	for key, ttf := range map[string][]byte{sans: goregular.TTF, sans + "B": gobold.TTF, mono: gomono.TTF} {
		f, err := sfnt.Parse(ttf)
		if err != nil {
			panic(err)
		}
		out[key] = f
	}
	return out
}()

// drawable is a text as far as a font can draw it: characters that it lacks, and those beyond the basic multilingual
// plane, which the PDF cannot hold, are replaced so that one sees that something stood there; control characters are
// spaces. It looks at no more than a line can hold.
func drawable(font, style, s string) string {
	f := fonts[font+style]
	var buf sfnt.Buffer
	var out strings.Builder
	n, plain := 0, true
	for _, r := range s {
		if n++; n > maxLine+1 {
			return out.String()
		}
		switch {
		case r < 0x20 || r == 0x7f || r == 0x2028 || r == 0x2029:
			r, plain = ' ', false
		case r < 0x7f:
		case r == 0x200d || r >= 0xfe00 && r <= 0xfe0f: // joins and variants of what is replaced before them
			plain = false
			continue
		case r > 0xffff || r == utf8.RuneError:
			r, plain = instead, false
		default:
			if g, err := f.GlyphIndex(&buf, r); err != nil || g == 0 {
				r, plain = instead, false
			}
		}
		out.WriteRune(r)
	}
	if plain {
		return s
	}
	return out.String()
}

func finish(p *fpdf.Fpdf, w io.Writer) error {
	var buf bytes.Buffer
	if err := p.Output(&buf); err != nil {
		return fmt.Errorf("draw: %w", err)
	}
	_, err := w.Write(buf.Bytes())
	return err
}

// text writes one line with its top at y, shortened to fit the width.
func text(p *fpdf.Fpdf, font, style string, size, x, y, width float64, s string) {
	p.SetFont(font, style, size)
	s = drawable(font, style, s)
	if width > 0 {
		s = fitted(p, s, width)
	}
	p.Text(x, y+size*0.3528*0.78, s)
}

// fitted shortens a text to a width, in steps that halve what is not decided: a text of any length takes no longer than
// one that fits.
func fitted(p *fpdf.Fpdf, s string, width float64) string {
	r := []rune(s)
	if len(r) <= maxLine && p.GetStringWidth(s) <= width {
		return s
	}
	r = r[:min(len(r), maxLine)]
	fits := sort.Search(len(r), func(n int) bool { return p.GetStringWidth(string(r[:n+1])+"…") > width })
	return string(r[:fits]) + "…"
}

// maxLine is how many characters of a text a line is looked at for; no line of ours holds more.
const maxLine = 400

func textRight(p *fpdf.Fpdf, font, style string, size, right, y float64, s string) {
	p.SetFont(font, style, size)
	s = drawable(font, style, s)
	text(p, font, style, size, right-p.GetStringWidth(s), y, 0, s)
}

// matrix draws a barcode into a box.
func matrix(p *fpdf.Fpdf, code barcode.Barcode, x, y, w, h float64) {
	b := code.Bounds()
	dx, dy := w/float64(b.Dx()), h/float64(b.Dy())
	for row := range b.Dy() {
		for col := 0; col < b.Dx(); {
			if !dark(code, col, row) {
				col++
				continue
			}
			end := col
			for end < b.Dx() && dark(code, end, row) {
				end++
			}
			p.Rect(x+float64(col)*dx, y+float64(row)*dy, float64(end-col)*dx, dy, "F")
			col = end
		}
	}
}

func dark(c barcode.Barcode, x, y int) bool {
	r, _, _, _ := c.At(x, y).RGBA()
	return r < 0x8000
}

// drawCode128 draws a linear barcode. The module is never narrower than 0.19 mm: below that, hand scanners
// begin to fail; a code that would need it is left out and only written.
func drawCode128(p *fpdf.Fpdf, s string, x, y, w, h float64) {
	code, err := code128.Encode(s)
	if err != nil || w/float64(code.Bounds().Dx()) < 0.19 {
		text(p, mono, "", 9, x, y, w, s)
		return
	}
	module := min(w/float64(code.Bounds().Dx()), 0.5)
	matrix(p, code, x, y, module*float64(code.Bounds().Dx()), h)
}

// Label is what is glued on a parcel.
type Label struct {
	Carrier, Service, Tracking, Routing, Imprint string
	From, To                                     place.Address
	Order, Shipment, SSCC                        string
	Piece                                        string // which of several under its number, such as 2 / 3; empty: it is alone
	WeightG                                      int64
	Test                                         bool
	Day                                          string
	Language                                     string // two letters of ISO 639-1; English where papers do not speak it
}

// drawLabel draws a label of 100 × 150 mm at the upper left of what is drawn on.
func drawLabel(p *fpdf.Fpdf, l *Label) {
	const ox, oy = 0.0, 0.0
	say := language(l.Language).say
	p.SetLineWidth(0.3)
	x := ox + 5
	text(p, sans, "B", 15, x, oy+5, 62, l.Carrier)
	text(p, sans, "", 11, x, oy+12, 62, l.Service)
	text(p, sans, "", 7, x, oy+18, 60, l.Imprint)
	if code, err := datamatrix.Encode(l.Tracking); err == nil {
		matrix(p, code, ox+76, oy+4, 19, 19)
	}
	line := func(y float64) { p.Line(ox+4, oy+y, ox+96, oy+y) }
	line(25)
	text(p, sans, "", 7, x, oy+27, 90, say("From %s", strings.Join(l.From.Lines(), ", ")))
	line(32)
	text(p, sans, "", 8, x, oy+34.5, 20, say("To"))
	y := oy + 39
	for i, s := range l.To.Lines() {
		size, style := 13.0, ""
		if i == 0 {
			style = "B"
		}
		if strings.HasPrefix(s, l.To.Postcode) {
			size, style = 16, "B"
		}
		text(p, sans, style, size, x, y, 90, s)
		y += 7.2
	}
	line(80)
	text(p, sans, "B", 26, x, oy+83, 60, l.Routing)
	textRight(p, mono, "", 12, ox+95, oy+84, fmt.Sprintf("%.2f kg", float64(l.WeightG)/1000))
	textRight(p, sans, "", 8, ox+95, oy+90, l.Day)
	textRight(p, sans, "B", 15, ox+95, oy+138, l.Piece)
	line(96)
	drawCode128(p, l.Tracking, ox+8, oy+100, 84, 26)
	text(p, mono, "", 13, ox+8, oy+128.5, 84, spaced(l.Tracking))
	line(136)
	text(p, mono, "", 8, x, oy+138.5, 90, fmt.Sprintf("%s  %s", l.Order, l.Shipment))
	text(p, mono, "", 8, x, oy+143, 90, "SSCC "+l.SSCC)
	if l.Test {
		p.SetAlpha(0.18, "Normal")
		text(p, sans, "B", 80, ox+10, oy+55, 0, say("TEST"))
		p.SetAlpha(1, "Normal")
	}
}

// spaced sets a number in groups that people can read out.
func spaced(s string) string {
	if len(s) != 13 { // S10 is printed as AA 000 000 000 AA
		return s
	}
	return s[:2] + " " + s[2:5] + " " + s[5:8] + " " + s[8:11] + " " + s[11:]
}

// Manifest is a carrier's list of one day.
type Manifest struct {
	Company, Carrier, Day, State, Receipt string
	Rows                                  []ManifestRow
	Printed                               time.Time
	Language                              string // two letters of ISO 639-1; English where papers do not speak it
}

// ManifestRow is a parcel on it.
type ManifestRow struct {
	Tracking, Service, Order, To string
	WeightG                      int64
	Price                        string
}

// WriteManifest draws a manifest on A4 with a place to sign.
func WriteManifest(w io.Writer, m Manifest) error {
	say := language(m.Language).say
	p := newPDF(210, 297, say("Manifest %s, %s", m.Carrier, m.Day))
	const left, right = 15.0, 195.0
	y, page := 0.0, 0
	head := func() {
		p.AddPage()
		page++
		text(p, sans, "B", 16, left, 14, 150, say("Manifest %s, %s", m.Carrier, m.Day))
		text(p, sans, "", 9, left, 22, 170, say("%s · %d parcels · %s %s", m.Company, len(m.Rows), m.State, m.Receipt))
		text(p, sans, "", 8, left, 285, 120, say("Printed %s · page %d", m.Printed.Format("2006-01-02 15:04"), page))
		y = 32
		for _, c := range []struct {
			x float64
			s string
		}{{left, "Item number"}, {55, "Service"}, {88, "Order"}, {112, "To"}} {
			text(p, sans, "", 8, c.x, y, 0, say(c.s))
		}
		textRight(p, sans, "", 8, 170, y, say("Weight"))
		textRight(p, sans, "", 8, right, y, say("Price"))
		y += 5
		p.SetLineWidth(0.2)
		p.Line(left, y, right, y)
	}
	head()
	var weight int64
	for _, r := range m.Rows {
		if y+8 > 262 {
			head()
		}
		text(p, mono, "", 9, left, y+2, 38, r.Tracking)
		text(p, sans, "", 9, 55, y+2, 32, r.Service)
		text(p, mono, "", 9, 88, y+2, 23, r.Order)
		text(p, sans, "", 9, 112, y+2, 40, r.To)
		textRight(p, mono, "", 9, 170, y+2, fmt.Sprintf("%.2f kg", float64(r.WeightG)/1000))
		textRight(p, mono, "", 9, right, y+2, r.Price)
		weight += r.WeightG
		y += 7
		p.SetLineWidth(0.1)
		p.Line(left, y, right, y)
	}
	textRight(p, sans, "B", 10, 170, y+3, fmt.Sprintf("%.2f kg", float64(weight)/1000))
	p.SetLineWidth(0.2)
	p.Line(left, 276, 90, 276)
	text(p, sans, "", 8, left, 277.5, 80, say("Taken over by %s", m.Carrier))
	return finish(p, w)
}
