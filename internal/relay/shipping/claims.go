package shipping

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// ClaimStates are how a claim may stand.
var ClaimStates = []string{"noted", "sent", "granted", "declined", "paid", "withdrawn"}

// Claim is what is said of a claim about a parcel. What is not said stays as it is.
type Claim struct {
	State    string `json:"state" enum:"noted,sent,granted,declined,paid,withdrawn" doc:"How it stands"`
	Amount   int64  `json:"amount,omitempty" doc:"What is asked for, minor units; 0: as it was"                       minimum:"0"`
	Currency string `json:"currency,omitempty" doc:"Empty: the company's"                                                           maxLength:"3"`
	Note     string `json:"note,omitempty" doc:"The carrier's number of it, and what it is about; empty: as it was"             maxLength:"500"`
}

// PutClaim notes how a claim about a parcel stands. A parcel that was lost is settled with it.
func (r *Shipping) PutClaim(ctx context.Context, parcel string, c Claim, who string) error {
	if !slices.Contains(ClaimStates, c.State) {
		return engine.Refuse("state %q: one of %s is expected", c.State, strings.Join(ClaimStates, ", "))
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		p, err := ch.Parcel(parcel)
		if err != nil {
			return fmt.Errorf("parcel %s: %w", parcel, err)
		}
		if !p.Left() {
			return &engine.Refused{Text: fmt.Sprintf("parcel %s has not left; nothing can be claimed for it", p.Number), Conflict: true}
		}
		have, err := ch.ClaimOf(p.ID)
		if errors.Is(err, store.ErrNotFound) {
			have, err = store.Claim{ParcelID: p.ID, MadeBy: who, MadeAt: ch.Now.UnixMicro(), Currency: r.Currency()}, nil
		}
		if err != nil {
			return err
		}
		have.State, have.Note, have.ChangedAt = c.State, engine.Or(strings.TrimSpace(c.Note), have.Note), ch.Now.UnixMicro()
		if c.Amount > 0 {
			have.Amount = c.Amount
		}
		have.Currency = engine.Or(strings.ToUpper(strings.TrimSpace(c.Currency)), have.Currency)
		if err := ch.PutClaim(have); err != nil {
			return err
		}
		if err := ch.CloseOfParcel(p.ID, engine.ParcelLost, who, ch.Now); err != nil {
			return err
		}
		ch.Tell("exception", p.OrderNumber)
		tellParcel(ch, &p)
		text := "Claim for parcel " + p.Number + " " + have.State
		if have.Amount > 0 {
			text += ": " + Price(have.Amount, have.Currency)
		}
		return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "order", ThingID: p.OrderID, What: "claim", Text: text})
	})
}
