package paper

import (
	"bytes"
	"fmt"
	"io"

	"codeberg.org/go-pdf/fpdf"
	"codeberg.org/go-pdf/fpdf/contrib/gofpdi"
)

// Sizes on which labels are printed.
const (
	OnLabels = "label" // 100 × 150 mm, one a page
	OnA4     = "a4"    // four a sheet, whose free places are used
	OnRoll   = "roll"  // 80 mm wide
)

// placesOnA4 is how many labels an A4 sheet holds.
const placesOnA4 = 4

// LabelPage is a label as it is drawn here, or as its carrier made it.
type LabelPage struct {
	Label
	Document []byte // of the carrier; none: it is drawn
	Form     string // of the document: pdf or png
}

// labelBox is where a label goes, in mm.
type labelBox struct{ x, y, w, h float64 }

// WriteLabelSheets draws labels on one of the sizes; first is the first free place of an A4 sheet, from 1.
func WriteLabelSheets(w io.Writer, size string, first int, labels ...LabelPage) error {
	pages := map[string][2]float64{OnLabels: {100, 150}, OnA4: {210, 297}, OnRoll: {80, 120}}
	page, known := pages[size]
	if !known {
		return fmt.Errorf("size %q: label, a4 or roll is expected", size)
	}
	if first < 1 || first > placesOnA4 {
		return fmt.Errorf("place %d: an A4 sheet has the places 1 to %d", first, placesOnA4)
	}
	title := ""
	if len(labels) > 0 {
		title = language(labels[0].Language).say("Label %s", labels[0].Tracking)
	}
	p := newPDF(page[0], page[1], title)
	importer := gofpdi.NewImporter()
	at := first - 1
	for i := range labels {
		box := labelBox{0, 0, page[0], page[1]}
		if size == OnA4 {
			if i == 0 || at%placesOnA4 == 0 {
				p.AddPage()
				cutLines(p)
			}
			box = labelBox{float64(at%2)*105 + 2.5, float64(at%placesOnA4/2)*148.5 + 1, 100, 146.5}
			at++
		} else {
			p.AddPage()
		}
		if err := placeLabel(p, importer, &labels[i], box); err != nil {
			return err
		}
	}
	return finish(p, w)
}

// cutLines are where an A4 sheet of labels is cut.
func cutLines(p *fpdf.Fpdf) {
	p.SetLineWidth(0.1)
	p.SetDashPattern([]float64{1.5, 1.5}, 0)
	p.Line(105, 0, 105, 297)
	p.Line(0, 148.5, 210, 148.5)
	p.SetDashPattern(nil, 0)
}

// placeLabel draws a label into a box, as large as it fits.
func placeLabel(p *fpdf.Fpdf, importer *gofpdi.Importer, l *LabelPage, box labelBox) error {
	const width, height = 100.0, 150.0
	scale := min(box.w/width, box.h/height)
	switch l.Form {
	case "pdf":
		return placePDF(p, importer, l, labelBox{box.x, box.y, width * scale, height * scale})
	case "png":
		options := fpdf.ImageOptions{ImageType: "PNG"}
		info := p.RegisterImageOptionsReader("label "+l.Tracking, options, bytes.NewReader(l.Document))
		if p.Err() {
			err := fmt.Errorf("the label %s as its carrier made it cannot be read: %w; print it by itself", l.Tracking, p.Error())
			return err
		}
		scale = min(box.w/info.Width(), box.h/info.Height())
		p.ImageOptions("label "+l.Tracking, box.x, box.y, info.Width()*scale, info.Height()*scale, false, options, 0, "")
		return nil
	}
	p.TransformBegin()
	p.TransformTranslate(box.x, box.y)
	p.TransformScale(scale*100, scale*100, 0, 0)
	drawLabel(p, &l.Label)
	p.TransformEnd()
	return nil
}

// placePDF draws the first page of a document of a carrier into a box. The library that reads it gives up by a panic.
func placePDF(p *fpdf.Fpdf, importer *gofpdi.Importer, l *LabelPage, box labelBox) (err error) {
	defer func() {
		if broken := recover(); broken != nil {
			err = fmt.Errorf("the label %s as its carrier made it cannot be read: %v; print it by itself", l.Tracking, broken)
		}
	}()
	var from io.ReadSeeker = bytes.NewReader(l.Document)
	page := importer.ImportPageFromStream(p, &from, 1, "/MediaBox")
	importer.UseImportedTemplate(p, page, box.x, box.y, box.w, box.h)
	return nil
}

// WriteTestPage draws a page by which somebody sees that a printer prints, and how large.
func WriteTestPage(w io.Writer, size, printer, when string) error {
	page := map[string][2]float64{OnA4: {210, 297}, OnRoll: {80, 120}}[size]
	if page == [2]float64{} {
		page = [2]float64{100, 150}
	}
	p := newPDF(page[0], page[1], "Test page")
	p.AddPage()
	p.SetLineWidth(0.3)
	p.Rect(4, 4, page[0]-8, page[1]-8, "D")
	text(p, sans, "B", 16, 8, 10, page[0]-16, "Test page")
	text(p, sans, "", 10, 8, 20, page[0]-16, printer)
	text(p, sans, "", 9, 8, 26, page[0]-16, when)
	text(p, sans, "", 8, 8, 36, page[0]-16, fmt.Sprintf("The frame is %.0f × %.0f mm.", page[0]-8, page[1]-8))
	drawCode128(p, "TEST-PAGE", 8, 46, min(page[0]-16, 60), 18)
	return finish(p, w)
}
