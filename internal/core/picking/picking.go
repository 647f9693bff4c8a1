// Package picking decides what a scan means while goods are collected for a shipment.
package picking

import (
	"fmt"
	"slices"
	"strings"

	"openrelay/internal/core/gs1"
)

// Want is one line to be picked.
type Want struct {
	LineID   int64  `json:"line_id"`
	ItemID   int64  `json:"item_id"`
	SKU      string `json:"sku"`
	GTIN     string `json:"gtin,omitempty"`
	Title    string `json:"title"`
	Bin      string `json:"bin"`
	Quantity int64  `json:"quantity"`
	Picked   int64  `json:"picked"`
	Packed   int64  `json:"packed" doc:"Of those that are picked, how many lie in parcels"`
	KitSKU   string `json:"kit_sku,omitempty" doc:"The kit that it is a part of"`
	Serials  bool   `json:"serials,omitempty" doc:"Each unit has a serial number, chosen at packing"`
}

// Left is what is still to be picked.
func (w Want) Left() int64 { return w.Quantity - w.Picked }

// Outcome is what a scan did.
type Outcome struct {
	Kind     string `json:"kind" doc:"order, bin or product"                             enum:"order,bin,product"`
	Text     string `json:"text"`
	LineID   int64  `json:"line_id,omitempty"`
	ItemID   int64  `json:"item_id,omitempty"`
	SKU      string `json:"sku,omitempty"`
	Quantity int64  `json:"quantity,omitempty"`
	Bin      string `json:"bin,omitempty"`
	Serial   string `json:"serial,omitempty" doc:"The unit's serial number, where the symbol has it"`
}

// Refusal is a scan that must not be accepted: what was read, and what was expected instead.
type Refusal struct {
	Read     string
	Expected string
}

func (r *Refusal) Error() string {
	return fmt.Sprintf("%s. Expected %s", r.Read, r.Expected)
}

// Scan decides about one code. bin is the bin scanned last, or empty; qty counts units for a product
// code (0 means one).
func Scan(number string, wants []Want, code, bin string, qty int64) (Outcome, error) {
	code = strings.TrimSpace(code)
	if code == "" {
		return Outcome{}, &Refusal{"Nothing was read", Expected(wants)}
	}
	code, qty, serial, err := Read(code, qty)
	if err != nil {
		return Outcome{}, &Refusal{err.Error(), Expected(wants)}
	}
	if strings.EqualFold(code, number) {
		return Outcome{Kind: "order", Text: "Order " + number}, nil
	}
	for _, w := range wants {
		if w.Bin != "" && strings.EqualFold(code, w.Bin) {
			if i := slices.IndexFunc(wants, func(o Want) bool { return o.Bin == w.Bin && o.Left() > 0 }); i >= 0 {
				return Outcome{Kind: "bin", Bin: w.Bin, Text: fmt.Sprintf("Bin %s: take %d × %s", w.Bin, wants[i].Left(),
					wants[i].Title)}, nil
			}
			return Outcome{}, &Refusal{fmt.Sprintf("Bin %s is done", w.Bin), Expected(wants)}
		}
	}
	var done *Want
	for i := range wants {
		w := &wants[i]
		if !strings.EqualFold(code, w.SKU) && !gs1.SameGTIN(code, w.GTIN) {
			continue
		}
		if w.Left() == 0 {
			done = w
			continue
		}
		if bin != "" && w.Bin != "" && bin != w.Bin {
			return Outcome{}, &Refusal{fmt.Sprintf("%s lies in bin %s, not in %s", w.SKU, w.Bin, bin), "bin " + w.Bin + " first"}
		}
		n := max(qty, 1)
		if n > w.Left() {
			return Outcome{}, &Refusal{fmt.Sprintf("%d × %s is too many", n, w.SKU), fmt.Sprintf("at most %d", w.Left())}
		}
		return Outcome{Kind: "product", LineID: w.LineID, ItemID: w.ItemID, SKU: w.SKU, Quantity: n, Bin: w.Bin, Serial: serial,
			Text: fmt.Sprintf("%s: %d of %d", w.Title, w.Picked+n, w.Quantity)}, nil
	}
	if done != nil {
		return Outcome{}, &Refusal{fmt.Sprintf("%s is already complete (%d of %d)", done.SKU, done.Picked, done.Quantity), Expected(wants)}
	}
	return Outcome{}, &Refusal{fmt.Sprintf("%q is not part of order %s", short(code), number), Expected(wants)}
}

// Read takes the GTIN, the count and the serial number out of a GS1 symbol; any other code stands for itself.
func Read(code string, qty int64) (string, int64, string, error) {
	e, isGS1, err := gs1.ParseElements(code)
	if err != nil || !isGS1 || e.GTIN == "" {
		return code, qty, "", err
	}
	if qty == 0 {
		qty = e.Count
	}
	return e.GTIN, qty, e.Serial, nil
}

// Expected says what may be scanned next.
func Expected(wants []Want) string {
	var out []string
	for _, w := range wants {
		if w.Left() > 0 {
			text := w.SKU
			if w.Bin != "" {
				text += " from bin " + w.Bin
			}
			out = append(out, text)
		}
	}
	if len(out) == 0 {
		return "nothing more: all is picked, go on to packing"
	}
	if len(out) > 4 {
		out = append(out[:4], fmt.Sprintf("or one of %d more", len(out)-4))
	}
	return strings.Join(out, ", ")
}

func short(s string) string {
	if r := []rune(s); len(r) > 40 {
		return string(r[:40]) + "…"
	}
	return s
}

// Find finds what a code stands for among what a shipment needs, whether it is picked or not.
func Find(wants []Want, code string) (Want, error) {
	code, _, _, err := Read(strings.TrimSpace(code), 0)
	if err != nil {
		return Want{}, &Refusal{err.Error(), "one of its products"}
	}
	for _, w := range wants {
		if strings.EqualFold(code, w.SKU) || gs1.SameGTIN(code, w.GTIN) {
			return w, nil
		}
	}
	return Want{}, &Refusal{fmt.Sprintf("%q is not among what is picked", short(code)), "one of its products"}
}
