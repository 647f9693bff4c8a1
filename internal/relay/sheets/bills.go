package sheets

import (
	"math"
	"strconv"
	"strings"

	"openrelay/internal/core/money"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/store"
)

// billsKind is a carrier's bill.
func billsKind() SheetKind {
	return SheetKind{
		Kind: "bills",
		About: "Carriers' bills: what was billed for each parcel, beside what was asked when its label was bought. " +
			"The same line twice is one",
		Columns: []Column{{"number", true, "The tracking number, or ours of the parcel"}, {"amount", true, "Such as 4.90, without tax"},
			{"currency", false, "Three letters; without it the company's"}, {"bill", false, "The carrier's number of the bill"},
			{"carrier", false, "Code of the carrier's connection; without it that of the parcel"},
			{"what", false, "Of a surcharge: what for; empty or freight: the freight"},
			{"weight_kg", false, "By which it was billed"}},
		In:    true,
		look:  lookBill,
		carry: carryBills,
	}
}

func (r *Sheets) billOf(f map[string]string) (b shipping.Bill, err error) {
	b = shipping.Bill{Bill: r.Shipping.BillOf(f["bill"]), Number: strings.TrimSpace(f["number"]), What: strings.TrimSpace(f["what"]),
		Currency: engine.Or(strings.ToUpper(f["currency"]), r.Currency()), Carrier: f["carrier"]}
	if b.Number == "" {
		return b, engine.Refuse("number: missing")
	}
	if b.Carrier != "" && r.ByCode(b.Carrier) == nil {
		return b, engine.Refuse("carrier: there is no connection %q", b.Carrier)
	}
	if b.Amount, err = money.Parse(point(f["amount"]), b.Currency); err != nil {
		return b, engine.Refuse("amount: %v", err)
	}
	if f["weight_kg"] != "" {
		kilograms, err := strconv.ParseFloat(point(f["weight_kg"]), 64)
		if err != nil || kilograms < 0 || kilograms > 100_000 {
			return b, engine.Refuse("weight_kg: %q; a weight such as 1.25 is expected", f["weight_kg"])
		}
		b.WeightG = int64(math.Round(kilograms * 1000))
	}
	return b, nil
}

// point writes the comma of a figure that has no point as one.
func point(figure string) string {
	if strings.Contains(figure, ".") {
		return figure
	}
	return strings.Replace(figure, ",", ".", 1)
}

func lookBill(l *lookup, f map[string]string) (store.SheetRow, error) {
	out := store.SheetRow{Key: f["number"]}
	b, err := l.r.billOf(f)
	if err != nil {
		return out, err
	}
	parcel, known, says, err := l.r.Shipping.LookAtBill(l.ctx, b)
	out.Verdict, out.Changes = "add", says
	switch {
	case known:
		out.Verdict = "nothing"
	case parcel != "":
		out.Changes = "parcel " + parcel + ": " + says
	}
	return out, err
}

func carryBills(r *Sheets, ch *engine.Change, rows []map[string]string, _ string) error {
	for _, f := range rows {
		b, err := r.billOf(f)
		if err != nil {
			return err
		}
		if err := r.Shipping.TakeBill(ch, b); err != nil {
			return err
		}
	}
	return nil
}
