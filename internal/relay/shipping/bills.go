package shipping

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"openrelay/internal/core/freight"
	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// Bill is a line of a carrier's bill as it is handed in.
type Bill struct {
	Bill, Number, What, Currency string
	Carrier                      string // code; empty: that of the parcel of the number
	Amount, WeightG              int64
}

func (b *Bill) line() store.BillLine {
	return store.BillLine{Bill: b.Bill, Tracking: b.Number, What: b.What, Amount: b.Amount, Currency: b.Currency, WeightG: b.WeightG}
}

// LookAtBill says what a line of a bill would say, before it is taken in: the parcel it is about, whether it is known, and by how much
// its amount is another than was asked.
func (r *Shipping) LookAtBill(ctx context.Context, b Bill) (parcel string, known bool, says string, err error) {
	if known, err = r.Store.BillLineKnown(ctx, b.line()); err != nil || known {
		return "", known, "", err
	}
	if q, err := r.Store.Request(ctx, strings.TrimPrefix(b.Number, r.Prefix+"-")); err == nil {
		return "", false, fmt.Sprintf("request %s: billed %s, agreed %s", q.Number, Price(q.Billed+b.Amount, b.Currency),
			Price(q.Cost, q.Currency)), nil
	}
	p, err := r.Store.Parcel(ctx, b.Number)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return "", false, "no parcel of ours has this number", nil
	case err != nil:
		return "", false, "", err
	case p.Currency != b.Currency:
		return p.Number, false, fmt.Sprintf("asked %s", Price(p.Price, p.Currency)), nil
	}
	return p.Number, false, fmt.Sprintf("billed %s, asked %s", Price(p.Billed+b.Amount, b.Currency), Price(p.Price, p.Currency)), nil
}

// TakeBill takes a line of a carrier's bill in, and compares what was billed for its parcel until now with what was asked.
func (r *Shipping) TakeBill(ch *engine.Change, b Bill) error {
	if r.BillOfPartner != nil {
		if taken, err := r.BillOfPartner(ch, b); taken || err != nil {
			return err
		}
	}
	x := b.line()
	p, err := ch.Parcel(b.Number)
	found := err == nil
	switch {
	case errors.Is(err, store.ErrNotFound):
		x.State, x.Why = store.BillUnknown, "no parcel of ours has this number"
		if c := r.ByCode(b.Carrier); c != nil {
			x.CarrierID = c.ID
		}
	case err != nil:
		return err
	default:
		if p.TravelsIn != 0 {
			if p, err = ch.ParcelByID(p.TravelsIn); err != nil {
				return err
			}
		}
		x.ParcelID, x.CarrierID, x.State = p.ID, p.CarrierID, store.BillAgrees
	}
	isNew, err := ch.AddBillLine(&x, ch.Now)
	if err != nil || !isNew {
		return err
	}
	if !found {
		if err := ch.SetBillLine(x); err != nil {
			return err
		}
		return r.RaiseBills(ch, x.CarrierID)
	}
	return r.compareBilled(ch, &p)
}

// compareBilled says of all lines about a parcel whether they agree with what was asked. What a person said of one stands.
func (r *Shipping) compareBilled(ch *engine.Change, p *store.Parcel) error {
	lines, err := ch.BilledFor(p.ID)
	if err != nil {
		return err
	}
	var billed []freight.BillLine
	p.Billed, p.BilledG = 0, 0
	for _, l := range lines {
		if l.Currency == p.Currency {
			p.Billed += l.Amount
		}
		p.BilledG = max(p.BilledG, l.WeightG)
		billed = append(billed, freight.BillLine{What: l.What, Amount: l.Amount, WeightG: l.WeightG})
	}
	countsG, err := r.billableG(ch, p)
	if err != nil {
		return err
	}
	more, why := freight.Billed(p.Price, countsG, billed)
	if slices.ContainsFunc(lines, func(l store.BillLine) bool { return l.Currency != p.Currency }) {
		more, why = 1, fmt.Sprintf("billed in another currency than %s", engine.Or(p.Currency, "was asked"))
	} else if n := Twice(lines); n != "" && more > 0 {
		why = n
	}
	for _, l := range lines {
		if l.State == store.BillAccepted || l.State == store.BillDisputed {
			continue
		}
		l.State, l.Why = store.BillAgrees, ""
		if more != 0 {
			l.State, l.Why = store.BillDiffers, why
		}
		if err := ch.SetBillLine(l); err != nil {
			return err
		}
	}
	tellParcel(ch, p)
	if err := ch.UpdateParcel(p); err != nil {
		return err
	}
	return r.RaiseBills(ch, p.CarrierID)
}

// Twice says that the same is billed on several bills.
func Twice(lines []store.BillLine) string {
	first := map[string]string{}
	for _, l := range lines {
		key := fmt.Sprint(l.What, l.Amount)
		if other, ok := first[key]; ok && other != l.Bill {
			return fmt.Sprintf("billed on %s and again on %s", other, l.Bill)
		}
		first[key] = l.Bill
	}
	return ""
}

// billableG is what a parcel counts, with those that went under its number.
func (r *Shipping) billableG(ch *engine.Change, p *store.Parcel) (int64, error) {
	if p.ConsignedIn == 0 {
		return r.countsG(p), nil
	}
	list, err := ch.ParcelsConsigned(p.ConsignedIn)
	var sum int64
	for i := range list {
		if list[i].Tracking == p.Tracking {
			sum += r.countsG(&list[i])
		}
	}
	return sum, err
}

// countsG is what a parcel counts by its carrier's last tariff: its weight, or by its size.
func (r *Shipping) countsG(p *store.Parcel) int64 {
	t := r.lastTariff(p.CarrierID)
	if t == nil {
		return p.WeightG
	}
	asked := message.Parcel{WeightG: p.WeightG, LengthMM: p.LengthMM, WidthMM: p.WidthMM, HeightMM: p.HeightMM}
	return max(t.Quote(p.Service, freightParcel(&asked)).ChargeableG, p.WeightG)
}

// RaiseBills says once for each carrier what of its bills wants a look; it ends when nothing does.
func (r *Shipping) RaiseBills(ch *engine.Change, carrier int64) error {
	differs, unknown, err := ch.OpenBills(carrier)
	if err != nil {
		return err
	}
	ch.Tell("exception", "")
	ch.Tell("bill", "")
	if differs+unknown == 0 {
		return ch.CloseConnectionException(carrier, engine.BillDiffers, ch.Now)
	}
	var parts []string
	if differs > 0 {
		parts = append(parts, engine.Counted(differs, "line differs", "lines differ")+" from what was asked")
	}
	if unknown > 0 {
		parts = append(parts, engine.Counted(unknown, "line is", "lines are")+" about no parcel of ours")
	}
	name := "A carrier that is not named"
	if c := r.ByID(carrier); c != nil {
		name = c.Rec().Name
	}
	return ch.Raise(store.Exception{Cause: engine.BillDiffers, ConnectionID: carrier,
		Text:     fmt.Sprintf("%s: of its bills, %s.", name, strings.Join(parts, ", and ")),
		Expected: "Each line looked at: accept it, or dispute it with the carrier. This is over when none is left (Activity, Bills).",
		Standing: true}, ch.Now)
}

// SayOfBill is what a person says of a line of a bill: it is right, it is not, or of which parcel it is.
type SayOfBill struct {
	State  string `json:"state,omitempty" enum:",accepted,disputed" doc:"Empty: it is compared anew"`
	Parcel string `json:"parcel,omitempty" doc:"Number of the parcel that it is about; empty: as it was" maxLength:"80"`
	Note   string `json:"note,omitempty" maxLength:"300"`
}

// DecideBill takes what a person says of a line.
func (r *Shipping) DecideBill(ctx context.Context, id int64, say SayOfBill, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		b, err := ch.BillLine(id)
		if err != nil {
			return fmt.Errorf("line %d: %w", id, err)
		}
		was := b.CarrierID
		if say.Parcel != "" {
			p, err := ch.Parcel(say.Parcel)
			if err != nil {
				return fmt.Errorf("parcel %s: %w", say.Parcel, err)
			}
			b.ParcelID, b.CarrierID = p.ID, p.CarrierID
		}
		b.State, b.Note = engine.Or(say.State, store.BillAgrees), strings.TrimSpace(say.Note)
		if b.ParcelID == 0 && say.State == "" {
			b.State = store.BillUnknown
		}
		if err := ch.SetBillLine(b); err != nil {
			return err
		}
		if err := ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "company", What: "bill",
			Text: fmt.Sprintf("Bill %s, %s, %s: %s %s", b.Bill, b.Tracking, Price(b.Amount, b.Currency), b.State, b.Note)}); err != nil {
			return err
		}
		if was != b.CarrierID {
			if err := r.RaiseBills(ch, was); err != nil {
				return err
			}
		}
		if b.ParcelID == 0 {
			return r.RaiseBills(ch, b.CarrierID)
		}
		p, err := ch.ParcelByID(b.ParcelID)
		if err != nil {
			return err
		}
		return r.compareBilled(ch, &p)
	})
}

// billDay is how a bill is called that has no number: by the day on which it came.
func billDay(at time.Time) string { return "of " + at.Format(time.DateOnly) }

// BillOf is the number of a bill, or how one without is called.
func (r *Shipping) BillOf(number string) string {
	return engine.Or(strings.TrimSpace(number), billDay(r.Now()))
}
