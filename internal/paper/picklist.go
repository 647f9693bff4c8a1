package paper

import (
	"fmt"
	"io"
	"strings"
	"time"

	"codeberg.org/go-pdf/fpdf"

	"openrelay/internal/core/picking"
	"openrelay/internal/core/place"
)

// PickList is what a picker takes along.
type PickList struct {
	Company, Order, ChannelOrder, Shipment, Place string
	ShipTo                                        place.Address
	Note, Wish, Gift                              string
	Wants                                         []picking.Want
	Shares                                        [][]picking.Share // of a round: what each slot takes of each of the wants
	Slots                                         []string          // of a round: which order is in which slot
	Printed                                       time.Time
	Language                                      string // two letters of ISO 639-1; English where papers do not speak it
}

// title names a pick list: that of an order, or of a round.
func (l *PickList) title() string {
	if len(l.Slots) > 0 {
		return language(l.Language).say("Round %s", l.Order)
	}
	return language(l.Language).say("Pick list %s", l.Order)
}

// Size is what a paper is printed on.
type Size string

// The sizes of papers: a page, a roll of 80 mm as receipt printers have it, a label of 100 × 150 mm.
const (
	A4        Size = "a4"
	Roll      Size = "roll"
	LabelSize Size = "label"
)

// Known tells whether there is such a size.
func (s Size) Known() bool { return s == A4 || s == Roll || s == LabelSize }

// WritePickLists draws pick lists, each on pages of its own, with a barcode for the order, and for each product and its bin.
func WritePickLists(w io.Writer, size Size, lists ...PickList) error {
	title := ""
	if len(lists) == 1 {
		title = lists[0].title()
	} else if len(lists) > 1 {
		title = language(lists[0].Language).say("%d pick lists", len(lists))
	}
	p := newPDF(210, 297, title)
	for _, l := range lists {
		if size == A4 {
			drawPickList(p, l)
		} else {
			drawNarrow(p, l, size)
		}
	}
	return finish(p, w)
}

func drawPickList(p *fpdf.Fpdf, l PickList) {
	const left, right = 15.0, 195.0
	say := language(l.Language).say
	page := 0
	y := 0.0
	head := func() {
		p.AddPage()
		page++
		text(p, sans, "B", 16, left, 14, 100, l.title())
		text(p, sans, "", 9, left, 22, 110, l.Company+" · "+l.where())
		drawCode128(p, l.Order, 140, 12, 55, 14)
		text(p, mono, "", 9, 140, 27.5, 55, l.Order)
		text(p, sans, "", 8, left, 285, 120, say("Printed %s · page %d", l.Printed.Format("2006-01-02 15:04"), page))
		p.SetLineWidth(0.3)
		p.Line(left, 34, right, 34)
		y = 38
	}
	head()
	y = l.drawAbout(p, left, y)
	columns := func() {
		y += 2
		for _, c := range []struct {
			x float64
			s string
		}{{left, "Bin"}, {42, "Product"}, {118, "Scan"}} {
			text(p, sans, "", 8, c.x, y, 0, say(c.s))
		}
		textRight(p, sans, "", 8, 186, y, say("Take"))
		y += 5
		p.SetLineWidth(0.2)
		p.Line(left, y, right, y)
	}
	columns()
	for i, want := range l.Wants {
		if y+20 > 280 {
			head()
			columns()
		}
		drawWant(p, want, l.into(i), left, y)
		y += 18
		p.SetLineWidth(0.1)
		p.Line(left, y, right, y)
	}
}

// drawAbout draws what a pick list is for: whom, which slots, what the buyer wished. It returns where the next line stands.
func (l *PickList) drawAbout(p *fpdf.Fpdf, left, y float64) float64 {
	say := language(l.Language).say
	if len(l.Slots) == 0 {
		text(p, sans, "", 9, left, y, 90, say("For %s", strings.Join(l.ShipTo.Lines(), ", ")))
		text(p, sans, "", 9, 120, y, 75, say("Channel number %s", l.ChannelOrder))
		y += 6
	}
	for i, s := range l.Slots { // in three columns
		text(p, mono, "", 9, left+float64(i%3)*60, y, 58, s)
		if i%3 == 2 || i == len(l.Slots)-1 {
			y += 5
		}
	}
	if l.Wish != "" {
		text(p, sans, "", 9, left, y, 170, say("Wished: %s", l.Wish))
		y += 6
	}
	for _, n := range []struct{ what, text string }{{"Note: %s", l.Note}, {"Put in: %s", l.Gift}} {
		if n.text != "" {
			text(p, sans, "B", 10, left, y, 180, say(n.what, n.text))
			y += 7
		}
	}
	return y
}

// drawWant draws one row of a pick list.
func drawWant(p *fpdf.Fpdf, want picking.Want, into string, left, y float64) {
	text(p, mono, "", 13, left, y+2.5, 26, want.Bin)
	if want.Bin != "" {
		drawCode128(p, want.Bin, left, y+9, 25, 6)
	}
	text(p, sans, "B", 10, 42, y+3, 72, want.Title)
	text(p, mono, "", 9, 42, y+8, 72, want.SKU)
	text(p, sans, "B", 9, 42, y+12.5, 72, into)
	code := codeOf(want)
	drawCode128(p, code, 118, y+2.5, 50, 9)
	text(p, mono, "", 7.5, 118, y+12.5, 50, code)
	textRight(p, sans, "B", 15, 186, y+4, fmt.Sprint(want.Quantity))
	p.SetLineWidth(0.3)
	p.Rect(190, y+4, 5, 5, "D")
}

// codeOf is what is scanned of a product.
func codeOf(want picking.Want) string {
	if want.GTIN != "" {
		return want.GTIN
	}
	return want.SKU
}

// into says into which slots the nth of the wants goes.
func (l *PickList) into(n int) string {
	var out []string
	if n < len(l.Shares) {
		for _, x := range l.Shares[n] {
			out = append(out, language(l.Language).say("%d into slot %d", x.Quantity, x.Slot))
		}
	}
	return strings.Join(out, ", ")
}

// where says from which place a list is picked, for which shipment.
func (l *PickList) where() string {
	if l.Shipment == "" {
		return l.Place
	}
	return l.Place + " · " + l.Shipment
}

// drawNarrow draws a pick list on a roll, which is as long as the list, or on labels, as many as it takes.
func drawNarrow(p *fpdf.Fpdf, l PickList, size Size) {
	const margin, row = 4.0, 27.0
	width, height := 80.0, 42+5*float64(len(l.Slots))+row*float64(len(l.Wants))
	if size == LabelSize {
		width, height = 100, 150
	}
	inner := width - 2*margin
	say := language(l.Language).say
	y := 0.0
	page := func() {
		p.AddPageFormat("P", fpdf.SizeType{Wd: width, Ht: height})
		text(p, sans, "B", 12, margin, 4, inner, l.title())
		text(p, sans, "", 7, margin, 9.5, inner, l.where())
		drawCode128(p, l.Order, margin, 13, inner, 9)
		y = 25
	}
	page()
	for _, s := range l.Slots {
		text(p, mono, "", 8, margin, y, inner, s)
		y += 5
	}
	for _, n := range []struct{ what, text string }{{"Note: %s", l.Note}, {"Put in: %s", l.Gift}} {
		if n.text != "" {
			text(p, sans, "B", 8, margin, y, inner, say(n.what, n.text))
			y += 5
		}
	}
	for i, want := range l.Wants {
		if size == LabelSize && y+row > height-3 {
			page()
		}
		p.SetLineWidth(0.2)
		p.Line(margin, y, width-margin, y)
		text(p, mono, "", 12, margin, y+1.5, inner-16, want.Bin)
		textRight(p, sans, "B", 14, width-margin, y+1.5, fmt.Sprintf("%d ×", want.Quantity))
		text(p, sans, "", 9, margin, y+7, inner, want.Title)
		text(p, sans, "B", 8, margin, y+11.5, inner, l.into(i))
		drawCode128(p, codeOf(want), margin, y+16, inner, 6)
		text(p, mono, "", 7, margin, y+22.5, inner, codeOf(want))
		y += row
	}
}
