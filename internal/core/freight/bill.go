package freight

import (
	"fmt"
	"strings"
)

// BillLine is one line of a carrier's bill about a parcel.
type BillLine struct {
	What    string // in the carrier's words; empty: freight
	Amount  int64  // minor units
	WeightG int64  // by which it was billed; 0: not said
}

// Billed compares what a carrier billed for a parcel with what was asked when its label was bought: by how much more, and why as far
// as that can be told. weightG is what the parcel counts by its tariff.
func Billed(asked, weightG int64, lines []BillLine) (more int64, why string) {
	var extra []string
	sum, by := int64(0), int64(0)
	for _, l := range lines {
		sum += l.Amount
		by = max(by, l.WeightG)
		if w := strings.TrimSpace(l.What); w != "" && !strings.EqualFold(w, "freight") {
			extra = append(extra, w)
		}
	}
	more = sum - asked
	switch {
	case more == 0:
		return 0, ""
	case len(extra) > 0:
		return more, strings.Join(extra, ", ")
	case by > weightG && weightG > 0:
		return more, fmt.Sprintf("weight: billed by %s kg, sent with %s kg", kilograms(by), kilograms(weightG))
	}
	return more, "price"
}

func kilograms(g int64) string { return fmt.Sprintf("%d.%03d", g/1000, g%1000) }
