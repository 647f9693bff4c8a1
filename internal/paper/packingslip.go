package paper

import (
	"bytes"
	"fmt"
	"image/png"
	"io"
	"strings"

	"codeberg.org/go-pdf/fpdf"

	"openrelay/internal/core/place"
)

// PackingSlip is what lies in a parcel and says what is in it.
type PackingSlip struct {
	Company, Order, ChannelOrder, Parcel string
	Of                                   string // which of how many parcels, such as 1/2
	From, To                             place.Address
	Day                                  string
	Rows                                 []PackingSlipRow
	Prices                               bool // prices are printed, too
	Total                                string
	Gift                                 string // the buyer's words to whoever gets it
	Logo                                 []byte // PNG of whoever sends it; none: its name alone
	Language                             string // two letters of ISO 639-1; English where papers do not speak it
}

// PackingSlipRow is an item in a parcel.
type PackingSlipRow struct {
	SKU, Title, Price, Sum string
	Quantity               int64
	Serials                []string
}

// WritePackingSlips draws packing slips on A4, each on pages of its own.
func WritePackingSlips(w io.Writer, slips ...PackingSlip) error {
	title := ""
	if len(slips) > 0 {
		title = language(slips[0].Language).say("Packing slip %s", slips[0].Parcel)
	}
	p := newPDF(210, 297, title)
	for _, s := range slips {
		drawPackingSlip(p, s)
	}
	return finish(p, w)
}

func drawPackingSlip(p *fpdf.Fpdf, s PackingSlip) {
	const left, right = 20.0, 190.0
	say := language(s.Language).say
	y := 0.0
	from := s.From.Lines()
	if len(from) == 0 || from[0] != s.Company {
		from = append([]string{s.Company}, from...)
	}
	head := func() {
		p.AddPage()
		drawLogo(p, s.Logo, s.Parcel, left, 8, 60, 10)
		text(p, sans, "", 8, left, 20, 110, strings.Join(from, ", "))
		y = 26
		for _, line := range s.To.Lines() {
			text(p, sans, "", 11, left, y, 90, line)
			y += 5.5
		}
		text(p, sans, "B", 16, left, 66, 110, say("Packing slip %s", s.Parcel))
		drawCode128(p, s.Parcel, 140, 20, 50, 12)
		for i, line := range []string{say("Order %s", s.Order), say("Your number %s", s.ChannelOrder), say("Parcel %s", s.Of), s.Day} {
			text(p, sans, "", 9, 140, 36+float64(i)*5, 50, line)
		}
		y = 78
		text(p, sans, "", 8, left, y, 0, say("Units"))
		text(p, sans, "", 8, 38, y, 0, say("Product"))
		if s.Prices {
			textRight(p, sans, "", 8, 162, y, say("Price"))
			textRight(p, sans, "", 8, right, y, say("Sum"))
		}
		y += 5
		p.SetLineWidth(0.3)
		p.Line(left, y, right, y)
	}
	head()
	for _, row := range s.Rows {
		if y+16+4*float64(len(row.Serials)) > 270 {
			head()
		}
		y = drawSlipRow(p, row, s.Prices, left, right, y)
	}
	if s.Prices && s.Total != "" {
		text(p, sans, "B", 10, 38, y+3, 80, say("Together"))
		textRight(p, sans, "B", 10, right, y+3, s.Total)
		y += 10
	}
	if s.Gift != "" {
		if y+40 > 280 {
			head()
		}
		drawGift(p, s.Gift, left, right, y+8)
	}
}

// drawLogo draws a PNG as large as it fits into a box, in mm; one that cannot be read is left out.
func drawLogo(p *fpdf.Fpdf, logo []byte, name string, x, y, width, height float64) {
	if len(logo) == 0 {
		return
	}
	c, err := png.DecodeConfig(bytes.NewReader(logo))
	if err != nil || c.Width == 0 || c.Height == 0 {
		return
	}
	p.RegisterImageOptionsReader("logo "+name, fpdf.ImageOptions{ImageType: "PNG"}, bytes.NewReader(logo))
	w := min(width, height*float64(c.Width)/float64(c.Height))
	p.ImageOptions("logo "+name, x, y, w, w*float64(c.Height)/float64(c.Width), false, fpdf.ImageOptions{ImageType: "PNG"}, 0, "")
}

func drawSlipRow(p *fpdf.Fpdf, row PackingSlipRow, prices bool, left, right, y float64) float64 {
	width := 150.0
	if prices {
		width = 95
	}
	text(p, sans, "B", 11, left, y+3, 16, fmt.Sprint(row.Quantity))
	text(p, sans, "", 10, 38, y+3, width, row.Title)
	text(p, mono, "", 8, 38, y+8, width, row.SKU)
	if prices {
		textRight(p, mono, "", 9, 162, y+3, row.Price)
		textRight(p, mono, "", 9, right, y+3, row.Sum)
	}
	y += 13
	for _, n := range row.Serials {
		text(p, mono, "", 8, 38, y-1, width, n)
		y += 4
	}
	p.SetLineWidth(0.1)
	p.Line(left, y, right, y)
	return y
}

// drawGift draws the buyer's words, each line as long as it may be.
func drawGift(p *fpdf.Fpdf, words string, left, right, y float64) {
	p.SetLineWidth(0.3)
	lines := strings.Split(words, "\n")
	lines = lines[:min(len(lines), 8)]
	p.Rect(left, y, right-left, 8+7*float64(len(lines)), "D")
	for i, line := range lines {
		text(p, sans, "B", 12, left+5, y+5+7*float64(i), right-left-10, line)
	}
}
