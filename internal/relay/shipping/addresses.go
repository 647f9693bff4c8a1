package shipping

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/orders"
	"openrelay/internal/store"
)

// AddressPolicy is what becomes of the addresses of orders that come in, where an address service is joined.
type AddressPolicy struct {
	Check string `json:"check" yaml:"check" enum:"never,show,spelling" doc:"never: they are not looked at; show: a better form is shown; spelling: it is taken where only spelling and the postcode's extension differ"`
}

// How addresses are checked.
const (
	CheckNever    = "never"
	CheckShow     = "show"
	CheckSpelling = "spelling"
)

// addressTries is how often an address service is asked about an order before it is let be; answersHold is for how long an answer holds.
const (
	addressTries = 6
	answersHold  = 60 * 24 * time.Hour
)

func (r *Shipping) checkAddressPolicy(_ context.Context, rows []AddressPolicy) error {
	for _, p := range rows {
		if p.Check != CheckNever && p.Check != CheckShow && p.Check != CheckSpelling {
			return engine.Refuse("check %q: never, show or spelling is expected", p.Check)
		}
	}
	return nil
}

// addressService is the connection that checks addresses; nil: none is joined.
func (r *Shipping) addressService() *engine.Conn {
	for _, c := range r.All() {
		if c.Rec().Side == "address service" && c.Works() && c.Line().Def.Calls["address"] != nil {
			return c
		}
	}
	return nil
}

// addressKey names an address without showing it: whoever has the file alone cannot try addresses out.
func (r *Shipping) addressKey(a place.Address) string {
	return hex.EncodeToString(r.Sealer.Mark("address", strings.ToLower(a.Company), a.Street, a.Extra, a.Postcode, a.Town, a.Country)[:16])
}

// SettleAddresses has the addresses of orders looked at that are not known yet. Where no address service is joined, nothing is read.
func (r *Shipping) SettleAddresses(ch *engine.Change, ids []int64) error {
	if r.addressService() == nil {
		return nil
	}
	return orders.EachOrder(r.settleAddress)(ch, ids)
}

// settleAddress has the address of an order looked at that is not known yet.
func (r *Shipping) settleAddress(ch *engine.Change, o *order.Order) error {
	if o.Kind() != message.Ship && o.Kind() != message.Local || !r.toBeSent(o) {
		return nil
	}
	key := r.addressKey(o.ShipTo)
	if o.Ours.Checked != nil && o.Ours.Checked.For == key {
		return nil
	}
	if o.HeldFor(order.Undeliverable) != nil { // of another address
		o.Free(order.Undeliverable)
		o.Ours.Checked = nil
		if err := r.Orders.SaveOrder(ch, o); err != nil {
			return err
		}
	}
	_, err := ch.StartJob(engine.JobAddress, o.Number, "relay", struct{}{})
	return err
}

// toBeSent tells whether an order may still go somewhere else.
func (r *Shipping) toBeSent(o *order.Order) bool {
	if o.Record.FulfilledBy != "" || len(o.ShipTo.Problems()) > 0 {
		return false
	}
	switch o.Stage() {
	case order.Held, order.Ready, order.Routed, order.Picking:
		return true
	}
	return false
}

// AddressStep asks the address service about an order's address. An outage holds nothing: it is asked again for a while, then let be.
func (r *Shipping) AddressStep(ctx context.Context, j *store.Job) (bool, error) {
	o, err := r.Store.OrderByNumber(ctx, j.Subject)
	if errors.Is(err, store.ErrNotFound) {
		return true, nil
	}
	policy, err2 := r.addressPolicy(ctx)
	if err := errors.Join(err, err2); err != nil {
		return false, err
	}
	if policy == CheckNever || !r.toBeSent(o) {
		return true, nil
	}
	key := r.addressKey(o.ShipTo)
	check, err := r.askAddress(ctx, key, o.ShipTo)
	if err != nil {
		if j.Attempts+1 >= addressTries {
			return true, nil // the service is out; its connection says so
		}
		return false, err
	}
	if check == nil {
		return true, nil
	}
	return true, r.Commit(ctx, func(ch *engine.Change) error {
		o, err := ch.OrderByNumber(j.Subject)
		if err != nil || r.addressKey(o.ShipTo) != key || !r.toBeSent(o) {
			return err // it is another address now, which has a job of its own
		}
		return r.addressChecked(ch, o, key, check, policy)
	})
}

func (r *Shipping) addressPolicy(ctx context.Context) (string, error) {
	rows, err := r.AddressPolicies.Rows(ctx, r.Engine)
	if err != nil || len(rows) == 0 {
		return CheckShow, err
	}
	return rows[0].Check, nil
}

// askAddress is what is known of an address, or what the service says now; nil: none is joined any more.
func (r *Shipping) askAddress(ctx context.Context, key string, a place.Address) (*message.AddressCheck, error) {
	now := r.Clock()
	kept, err := r.Store.AddressAnswer(ctx, key, now.Add(-answersHold))
	if err == nil {
		out := &message.AddressCheck{}
		return out, json.Unmarshal([]byte(kept), out)
	}
	c := r.addressService()
	if !errors.Is(err, store.ErrNotFound) || c == nil {
		if errors.Is(err, store.ErrNotFound) {
			err = nil
		}
		return nil, err
	}
	list, err := c.Line().Ask(ctx, "address", a)
	if err != nil {
		return nil, err
	}
	out := list[0].(*message.AddressCheck)
	plain := *out
	plain.Corrected.Name, plain.Corrected.Company, plain.Corrected.Phone, plain.Corrected.Email = "", "", "", ""
	text, err := json.Marshal(plain)
	if err != nil {
		return nil, err
	}
	return &plain, r.Store.Write(ctx, func(tx *store.Tx) error {
		return tx.PutAddressAnswer(key, string(text), now, now.Add(-answersHold))
	})
}

// addressChecked notes on an order what the address service says, holds what cannot be delivered to, and takes a better spelling where the
// company wants that.
func (r *Shipping) addressChecked(ch *engine.Change, o *order.Order, key string, check *message.AddressCheck, policy string) error {
	x := &order.Checked{For: key, At: ch.Now, Deliverable: check.Deliverable, Kind: check.Kind, Remote: check.Remote, Note: check.Note}
	if at, err := place.PositionOf(check.Latitude, check.Longitude); err == nil {
		x.Position = &at
	}
	better := o.ShipTo
	if c := check.Corrected; c.Street != "" {
		better.Street, better.Extra, better.Postcode, better.Town, better.Country = c.Street, c.Extra, c.Postcode, c.Town,
			engine.Or(c.Country, better.Country)
		if place.SameLines(better, o.ShipTo) || c.Extra == "" && place.SameLines(better, withExtra(o.ShipTo)) {
			better = o.ShipTo
		}
	}
	o.Ours.Checked = x
	switch {
	case !check.Deliverable:
		o.Hold(order.Hold{Cause: order.Undeliverable, About: []string{o.Number},
			Text: fmt.Sprintf("The address service says that nothing can be delivered there: %s.",
				engine.Or(check.Note, "it does not know the address")),
			Expected: "An address that exists. Correct it here or at the channel; or let the order go on, if you know better."})
		if better != o.ShipTo {
			x.Suggestion = &better
		}
	case better == o.ShipTo:
	case policy == CheckSpelling && place.OnlySpelling(o.ShipTo, better):
		was := strings.Join(o.ShipTo.Lines()[1:], ", ")
		order.Readdress(o, better)
		x.For = r.addressKey(better)
		if err := r.NoteOrder(ch, o, "relay", "address", "Address spelled as the address service has it: %s, instead of %s",
			strings.Join(better.Lines()[1:], ", "), was); err != nil {
			return err
		}
	default:
		x.Suggestion = &better
	}
	ch.Mark(engine.OrderWords, o.ID)
	o.Revision++
	if err := r.Orders.SaveOrder(ch, o); err != nil || x.Position == nil || r.AddressPlaced == nil {
		return err
	}
	return r.AddressPlaced(ch, o)
}

// withExtra is an address whose second line stands behind the first, as address services take it.
func withExtra(a place.Address) place.Address {
	if a.Extra != "" {
		a.Street = a.Street + ", " + a.Extra
	}
	return a
}

// TakeSuggestion lets an order go to its address as the address service would write it.
func (r *Shipping) TakeSuggestion(ctx context.Context, number, who string, revision int64) error {
	o, err := r.Store.OrderByNumber(ctx, number)
	if err != nil {
		return fmt.Errorf("order %s: %w", number, err)
	}
	if o.Ours.Checked == nil || o.Ours.Checked.Suggestion == nil {
		return &engine.Refused{Text: fmt.Sprintf("of order %s no better form of the address is known", number), Conflict: true}
	}
	return r.Readdress(ctx, number, *o.Ours.Checked.Suggestion, who, revision)
}
