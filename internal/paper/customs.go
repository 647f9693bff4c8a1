package paper

import (
	"fmt"
	"io"
	"slices"
	"time"

	"codeberg.org/go-pdf/fpdf"

	"openrelay/internal/core/customs"
	"openrelay/internal/core/money"
	"openrelay/internal/core/place"
)

// Customs is what accompanies a parcel across a border. Its papers are in English: customs offices read them.
type Customs struct {
	Number, Order, Tracking, Carrier string
	From, To                         place.Address
	Day                              time.Time
	GrossG                           int64
	Declaration                      *customs.Declaration
	Logo                             []byte // PNG of whoever sends it; none: no logo
}

// Forms in which a declaration is printed.
const (
	Invoice = "invoice" // a commercial invoice on A4
	CN22    = "cn22"    // of the Universal Postal Union, for letters: a label of 74 × 105 mm
	CN23    = "cn23"    // of the Universal Postal Union, for parcels: A5
)

// WriteCustoms draws a declaration in one of its forms.
func WriteCustoms(w io.Writer, form string, c Customs) error {
	switch form {
	case Invoice:
		return writeInvoice(w, c)
	case CN22:
		return writePostal(w, c, "CN 22", 74, 105)
	case CN23:
		return writePostal(w, c, "CN 23", 210, 148)
	}
	return fmt.Errorf("%q: invoice, cn22 or cn23 is expected", form)
}

// writeInvoice draws a commercial invoice.
func writeInvoice(w io.Writer, c Customs) error {
	const left, right = 18.0, 192.0
	p := newPDF(210, 297, "Commercial invoice "+c.Number)
	d, y := c.Declaration, 0.0
	amount := func(minor int64) string { return money.Amount{Minor: minor, Currency: d.Currency}.String() }
	head := func() {
		p.AddPage()
		text(p, sans, "B", 16, left, 14, 120, "Commercial invoice "+c.Number)
		drawLogo(p, c.Logo, c.Number, right-50, 8, 50, 14)
		y = drawBlock(p, left, 28, "Sender", append(c.From.Lines(), numbered(d.SenderNumber)...))
		y = max(y, drawBlock(p, 110, 28, "Recipient", append(c.To.Lines(), numbered(d.RecipientNumber)...)))
		for i, f := range [][2]string{{"Date", c.Day.Format(time.DateOnly)}, {"Order", c.Order},
			{"Sent with", c.Carrier + " " + c.Tracking},
			{"Reason for export", d.Reason}, {"Terms (Incoterms 2020)", d.Terms}} {
			text(p, sans, "", 8, left+float64(i%3)*60, y+4+float64(i/3)*10, 58, f[0])
			text(p, sans, "", 10, left+float64(i%3)*60, y+8+float64(i/3)*10, 58, f[1])
		}
		y = drawGoodsHead(p, left, right, y+28)
	}
	head()
	for _, l := range d.Lines {
		if y > 250 {
			head()
		}
		y = drawGoods(p, l, d.Currency, left, right, y)
	}
	for _, f := range [][2]string{{"Value of the goods", amount(d.Value)}, {"Shipping", amount(d.Shipping)},
		{"Together", amount(d.Value + d.Shipping)},
		{"Net weight", kilograms(d.WeightG)}, {"Gross weight", kilograms(c.GrossG)}} {
		text(p, sans, "", 10, 120, y+3, 45, f[0])
		textRight(p, mono, "", 10, right, y+3, f[1])
		y += 6
	}
	text(p, sans, "", 8, left, 272, 160, "I certify that the particulars given here are correct.")
	p.SetLineWidth(0.2)
	p.Line(left, 284, 100, 284)
	text(p, sans, "", 9, left, 285, 90, d.Signer)
	return finish(p, w)
}

func numbered(number string) []string {
	if number == "" {
		return nil
	}
	return []string{"Customs or tax number " + number}
}

func kilograms(g int64) string { return fmt.Sprintf("%.3f kg", float64(g)/1000) }

// drawBlock draws lines below a heading, and says where they end.
func drawBlock(p *fpdf.Fpdf, x, y float64, title string, lines []string) float64 {
	text(p, sans, "", 8, x, y, 80, title)
	y += 4
	for _, l := range lines {
		text(p, sans, "", 10, x, y, 80, l)
		y += 5
	}
	return y
}

func drawGoodsHead(p *fpdf.Fpdf, left, right, y float64) float64 {
	for _, c := range []struct {
		x float64
		s string
	}{{left, "Units"}, {32, "Description of contents"}, {100, "HS code"}, {126, "Origin"}} {
		text(p, sans, "", 8, c.x, y, 0, c.s)
	}
	textRight(p, sans, "", 8, 160, y, "Net weight")
	textRight(p, sans, "", 8, right, y, "Value")
	p.SetLineWidth(0.3)
	p.Line(left, y+5, right, y+5)
	return y + 6
}

func drawGoods(p *fpdf.Fpdf, l customs.Line, currency string, left, right, y float64) float64 {
	text(p, mono, "", 9, left, y+1, 12, fmt.Sprint(l.Quantity))
	text(p, sans, "", 9, 32, y+1, 66, l.Description)
	text(p, mono, "", 9, 100, y+1, 25, l.Code)
	text(p, mono, "", 9, 126, y+1, 12, l.Origin)
	textRight(p, mono, "", 9, 160, y+1, kilograms(l.WeightG))
	textRight(p, mono, "", 9, right, y+1, money.Amount{Minor: l.Value, Currency: currency}.String())
	p.SetLineWidth(0.1)
	p.Line(left, y+6.5, right, y+6.5)
	return y + 7
}

// postalReasons are the boxes of the postal union's forms.
var postalReasons = []struct{ reason, box string }{{"gift", "Gift"}, {"documents", "Documents"}, {"sale", "Sale of goods"},
	{"sample", "Commercial sample"}, {"returned goods", "Returned goods"}, {"other", "Other"}}

// writePostal draws a customs declaration of the Universal Postal Union: CN 22 and CN 23 of its Convention Manual. What does not fit on
// one sheet goes on the next.
func writePostal(w io.Writer, c Customs, form string, width, height float64) error {
	p := newPDF(width, height, form+" "+c.Number)
	d := c.Declaration
	wide := width > 100
	size := map[bool]float64{true: 9, false: 6.5}[wide]
	left, right, line := 5.0, width-5, size*0.52
	rows := slices.Clone(d.Lines)
	for first := true; first || len(rows) > 0; first = false {
		p.AddPage()
		text(p, sans, "B", size+3, left, 4, width-40, "CUSTOMS DECLARATION")
		textRight(p, sans, "B", size+5, right, 4, form)
		y := 11.0
		if wide {
			end := drawBlock(p, left, y, "From", append(c.From.Lines(), numbered(d.SenderNumber)...))
			y = max(end, drawBlock(p, 105, y, "To", append(c.To.Lines(), numbered(d.RecipientNumber)...))) + 2
		} else {
			text(p, sans, "", size, left, y, width-10, c.From.Name+", "+c.From.Country+" to "+c.To.Name+", "+c.To.Country)
			y += line + 1
		}
		text(p, mono, "", size, left, y, width-10, c.Tracking)
		y += line + 1.5
		for i, r := range postalReasons {
			mark := map[bool]string{true: "[X] ", false: "[  ] "}[r.reason == d.Reason]
			text(p, sans, "", size, left+float64(i%3)*(width-10)/3, y+float64(i/3)*(line+0.8), (width-10)/3, mark+r.box)
		}
		y += 2*(line+0.8) + 2
		text(p, sans, "", size-1, left, y, width-10, "Quantity and description · HS tariff number · origin · net weight · value")
		p.SetLineWidth(0.2)
		p.Line(left, y+line, right, y+line)
		y += line + 1
		for len(rows) > 0 && y < height-3*line-14 {
			l := rows[0]
			rows = rows[1:]
			text(p, sans, "", size, left, y, width-10, fmt.Sprintf("%d × %s", l.Quantity, l.Description))
			y += line
			text(p, mono, "", size-0.5, left, y, width-10, fmt.Sprintf("%s  %s  %s", l.Code, l.Origin, kilograms(l.WeightG)))
			textRight(p, mono, "", size-0.5, right, y, money.Amount{Minor: l.Value, Currency: d.Currency}.String())
			y += line + 0.8
		}
		p.Line(left, height-2*line-10, right, height-2*line-10)
		text(p, sans, "B", size, left, height-2*line-9, width/2, "Total "+kilograms(d.WeightG))
		textRight(p, mono, "", size, right, height-2*line-9, money.Amount{Minor: d.Value, Currency: d.Currency}.String())
		text(
			p,
			sans,
			"",
			size-1.5,
			left,
			height-line-8.5,
			width-10,
			"I certify that the particulars given here are correct and that this item "+
				"holds nothing dangerous or forbidden.",
		)
		text(p, sans, "", size, left, height-5.5, width-10, c.Day.Format(time.DateOnly)+"  "+d.Signer)
	}
	return finish(p, w)
}
