package shipping

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// Typed is a tracking number that a person typed: the label was bought elsewhere, at a carrier that is only named.
type Typed struct {
	Carrier string // its code
	Number  string
	Service string // in words; may be empty
}

// longestNumber is how long a tracking number may be, in bytes.
const longestNumber = 80

// TypeNumber lets a packed parcel leave with a number that a person typed. Its channel is told like of any other.
func (r *Shipping) TypeNumber(ctx context.Context, parcel string, t Typed, who string) error {
	t.Number, t.Service = strings.Join(strings.Fields(t.Number), " "), strings.TrimSpace(t.Service)
	carrier, ok := r.NamedCarrier(t.Carrier)
	switch {
	case !ok:
		return engine.Refuse("carrier: there is no carrier %q that is only named; add it in Settings", t.Carrier)
	case len(t.Number) < 3 || len(t.Number) > longestNumber:
		return engine.Refuse("number: 3 to %d characters are expected", longestNumber)
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		p, o, err := loadParcel(ch, parcel)
		if err != nil {
			return err
		}
		if why := notToShip(&p); why != "" {
			return &engine.Refused{Text: why, Conflict: true}
		}
		if err := o.Workable(); err != nil {
			return engine.OrderStateError(err)
		}
		if known, err := ch.Parcel(t.Number); err == nil {
			return &engine.Refused{Text: fmt.Sprintf("number: parcel %s of order %s has %s already", known.Number, known.OrderNumber,
				t.Number), Conflict: true}
		} else if !errors.Is(err, store.ErrNotFound) {
			return err
		}
		channel := r.ByID(o.ConnectionID)
		if channel == nil {
			return &engine.Refused{Text: fmt.Sprintf("the channel of order %s is gone", o.Number), Conflict: true}
		}
		label := &message.Label{Tracking: t.Number, URL: followed(carrier, t.Number), Service: t.Service}
		p.CarrierID, p.CarrierTold, p.Service, p.ServiceName, p.Error = 0, carrier.Name, "", t.Service, ""
		p.Tracking, p.TrackingURL = label.Tracking, label.URL
		if err := r.labelSettled(ch, p.ID, o.ID, who); err != nil { // what was raised about labels is over
			return err
		}
		return r.parcelLeaves(ch, leaving{side: channel, who: who, carrier: carrier.Name,
			note: fmt.Sprintf("%s took it; tracking number %s was typed", carrier.Name, t.Number)}, &p, o, label)
	})
}

// followed is where a parcel of a carrier that is only named is followed; empty where that is not known.
func followed(c store.NamedCarrier, number string) string {
	return strings.ReplaceAll(c.TrackingURL, "{number}", url.PathEscape(strings.ReplaceAll(number, " ", "")))
}
