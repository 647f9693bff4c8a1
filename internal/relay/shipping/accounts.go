package shipping

import (
	"context"
	"slices"

	"openrelay/internal/core/freight"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// checkAccounts tidies on whose accounts carriers are paid, and refuses what cannot be.
func (r *Shipping) checkAccounts(_ context.Context, rows []freight.Account) error {
	for i := range rows {
		a := &rows[i]
		if err := a.Check(); err != nil {
			return engine.Refuse("row %d: %v", i+1, err)
		}
		if err := r.sellsLabels(a.Carrier); err != nil {
			return engine.Refuse("row %d: %v", i+1, err)
		}
		if _, ok := r.Sender(a.Sender); !ok && a.Sender != "" {
			return engine.Refuse("row %d: there is no sender %q", i+1, a.Sender)
		}
		if slices.ContainsFunc(rows[:i], func(o freight.Account) bool { return o.Code == a.Code }) {
			return engine.Refuse("row %d: account %s stands there twice", i+1, a.Code)
		}
	}
	return nil
}

// checkSenderAddresses tidies what senders have of their own, and refuses what cannot be printed.
func (r *Shipping) checkSenderAddresses(_ context.Context, rows []place.SenderAddress) error {
	for i := range rows {
		s := &rows[i]
		if _, ok := r.Sender(s.Sender); !ok {
			return engine.Refuse("row %d: there is no sender %q", i+1, s.Sender)
		}
		if err := s.Check(); err != nil {
			return engine.Refuse("row %d: %v", i+1, err)
		}
		if slices.ContainsFunc(rows[:i], func(o place.SenderAddress) bool { return o.Sender == s.Sender }) {
			return engine.Refuse("row %d: sender %s stands there twice", i+1, s.Sender)
		}
	}
	return nil
}

// shipsAs is as whom an order's channel ships.
func (r *Shipping) SenderOf(o *order.Order) (s store.Sender, ok bool) {
	if c := r.ByID(o.ConnectionID); c != nil {
		return r.Sender(c.Settings().Sender)
	}
	return s, false
}

// senderAddress is what a sender has of its own; the zero value: nothing.
func (r *Shipping) senderAddress(code string) (own place.SenderAddress) {
	rows, err := r.SenderAddresses.Rows(r.Ctx, r.Engine)
	if err != nil {
		r.Log.Error("what senders have of their own is not known", "error", err)
		return own
	}
	for _, s := range rows {
		if s.Sender == code {
			return s
		}
	}
	return own
}

// LogoOf is the logo of the sender of an order, as PNG in base64; empty: it has none.
func (r *Shipping) LogoOf(o *order.Order) string {
	if s, ok := r.SenderOf(o); ok {
		return r.senderAddress(s.Code).Logo
	}
	return ""
}

// billTo says who pays the carrier of a parcel, and where it comes back.
func (r *Shipping) billTo(p *message.Parcel, o *order.Order, c *engine.Conn) {
	p.Payer, p.ReturnTo, p.Point = freight.Sender, p.From, PointOf(o)
	if o.Ours.Checked != nil {
		p.Kind, p.Remote = o.Ours.Checked.Kind, o.Ours.Checked.Remote
	}
	s, ok := r.SenderOf(o)
	if ok {
		if own := r.senderAddress(s.Code); own.ReturnTo != (place.Address{}) {
			p.ReturnTo = own.ReturnTo
			p.ReturnTo.Name = engine.Or(p.ReturnTo.Name, s.Name)
		}
	}
	rows, err := r.Accounts.Rows(r.Ctx, r.Engine)
	if err != nil {
		r.Log.Error("who pays carriers is not known", "error", err)
		return
	}
	a := freight.Pays(rows, freight.Billing{Carrier: c.Rec().Code, Decided: o.Ours.Decided.Account, Payer: o.Record.FreightPayer,
		Number: o.Record.FreightAccount, Email: o.Record.BuyerEmail, Sender: s.Code})
	if a != nil {
		p.Payer, p.Account, p.PayerZip, p.PayerLand = a.Payer, a.Number, a.Postcode, a.Country
	}
}
