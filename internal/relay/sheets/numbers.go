package sheets

import (
	"errors"
	"fmt"

	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/store"
)

// numbersKind is a sheet of tracking numbers from elsewhere.
func numbersKind() SheetKind {
	return SheetKind{
		Kind: "numbers",
		About: "Tracking numbers of labels from elsewhere: a packed parcel leaves with its number, and one " +
			"that left with a number from elsewhere gets the other; the channel is told",
		Columns: []Column{{"parcel", true, "Number of the parcel; the order's, where only one parcel of it wants a number"},
			{
				"carrier",
				true,
				"Code of a carrier that is only named",
			}, {"number", true, "The tracking number"}, {"service", false, "In words"}},
		In:    true,
		once:  true,
		look:  lookNumber,
		carry: carryNumbers,
	}
}

func lookNumber(l *lookup, f map[string]string) (store.SheetRow, error) {
	p, err := l.r.Shipping.WantsNumber(l.ctx, f["parcel"])
	if errors.Is(err, store.ErrNotFound) {
		err = engine.Refuse("parcel: there is no parcel or order %s", f["parcel"])
	}
	if err != nil {
		return store.SheetRow{}, err
	}
	out := store.SheetRow{Key: p.Number, Verdict: "add", Changes: fmt.Sprintf("%s leaves with %s", p.Number, f["number"])}
	if p.Left() {
		out.Verdict, out.Changes = "change", fmt.Sprintf("%s → %s", p.Tracking, f["number"])
	}
	return out, l.r.Shipping.CheckTyped(typedOf(f))
}

func typedOf(f map[string]string) *shipping.Typed {
	return &shipping.Typed{Carrier: f["carrier"], Number: f["number"], Service: f["service"]}
}

func carryNumbers(r *Sheets, ch *engine.Change, rows []map[string]string, who string) error {
	for _, f := range rows {
		if err := r.Shipping.PutNumber(ch, f["parcel"], *typedOf(f), who); err != nil {
			return err
		}
	}
	return nil
}
