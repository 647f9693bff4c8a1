package paper

import (
	"io"
)

// Code is a barcode of a sheet, with what it does when it is scanned.
type Code struct {
	Text  string // what the scanner reads
	Title string
	About string
}

// CodeSheet is a sheet of barcodes to be scanned at a bench.
type CodeSheet struct {
	Company  string
	Commands []Code // in English; they are put into the sheet's language
	Cartons  []Code // as the company calls them
	Language string // two letters of ISO 639-1; English where papers do not speak it
}

// Commands are what can be done by scan while goods are picked and packed.
var Commands = []Code{
	{"DO-BACK", "Take back", "Takes the last scan back"},
	{"DO-NEXT", "Next carton", "Packs what was scanned into the proposed carton"},
	{"DO-DONE", "Done", "Goes on: from picking to packing, from packing to the label"},
	{"DO-STOCK", "To stock", "Of what comes back: what is scanned now"},
	{"DO-LOOK", "To be looked at", "Of what comes back: what is scanned now"},
	{"DO-OFF", "Written off", "Of what comes back: what is scanned now"},
}

// WriteCodeSheet draws a sheet of barcodes on A4.
func WriteCodeSheet(w io.Writer, s CodeSheet) error {
	const left, width, high, bottom = 20.0, 82.0, 38.0, 280.0
	say := language(s.Language).say
	p := newPDF(210, 297, say("Codes to scan"))
	x, y := left, 0.0
	head := func() {
		p.AddPage()
		text(p, sans, "B", 16, left, 14, 120, say("Codes to scan"))
		text(p, sans, "", 9, left, 22, 120, s.Company)
		x, y = left, 32
	}
	head()
	draw := func(c Code) {
		if y+high > bottom {
			head()
		}
		text(p, sans, "B", 13, x, y, width, c.Title)
		text(p, sans, "", 8, x, y+6.5, width, c.About)
		drawCode128(p, c.Text, x, y+12, 70, 14)
		text(p, mono, "", 9, x, y+27, width, c.Text)
		if x == left {
			x = left + width + 8
		} else {
			x, y = left, y+high
		}
	}
	for _, c := range s.Commands {
		draw(Code{c.Text, say(c.Title), say(c.About)})
	}
	if x != left {
		x, y = left, y+high
	}
	p.SetLineWidth(0.2)
	p.Line(left, y, 190, y)
	y += 5
	for _, c := range s.Cartons {
		draw(c)
	}
	return finish(p, w)
}
