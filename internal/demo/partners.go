package demo

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"openrelay/internal/core/message"
	"openrelay/internal/core/request"
	"openrelay/internal/relay/joining"
	"openrelay/internal/relay/orders"
)

// slateWord is by which the relay knows the maker's calls, where a test does not join it by hand.
const slateWord = "slate-word-of-the-demo"

// gateGoods are what lies at the partner warehouse at first.
func gateGoods() map[string]int64 {
	return map[string]int64{"JAR-500-T12": 60, "JAR-250-T24": 48, "SMOKER-M": 25, "BOOK-KITCHEN": 40, "FRAMES-10": 30}
}

// JoinFallowgate joins the partner warehouse by its trays: its place is kept by its word, and the first store sells from it last.
func (w *World) JoinFallowgate(ctx context.Context) error {
	return w.JoinFallowgateBy(ctx, "fallowgate", joining.Access{Address: w.GateURL + "/trays", Secrets: GateAccess}, message.ReceiptsIn)
}

// JoinFallowgateBy joins the partner warehouse by one of its ways, with feeds that only this way has.
func (w *World) JoinFallowgateBy(ctx context.Context, definition string, access joining.Access, more ...message.Feed) error {
	feeds := []message.Feed{message.RequestsOut, message.RequestStops, message.RequestsIn, message.DispatchIn, message.StockIn,
		message.BillsIn}
	return w.joinPartner(ctx, definition, "gate", "Fallowgate", access,
		request.Terms{Partner: "gate", Order: 180, Unit: 12, Tolerance: 5}, append(feeds, more...)...)
}

// JoinSlate joins the maker by account and password.
func (w *World) JoinSlate(ctx context.Context) error {
	return w.joinPartner(ctx, "scribe-and-slate", "slate", "Scribe & Slate", joining.Access{Address: w.SlateURL, Secrets: SlateAccess},
		request.Terms{Partner: "slate", Within: 2, Sends: 96, Order: 300, Unit: 650}, message.RequestsOut, message.RequestStops,
		message.DispatchIn)
}

// joinPartner joins a partner, gives it a place, and agrees on terms.
func (w *World) joinPartner(ctx context.Context, connector, code, name string, access joining.Access, terms request.Terms,
	feeds ...message.Feed) error {
	c := w.Client
	if err := w.Join(ctx, connector, code, name); err != nil {
		return err
	}
	t, err := c.TestAccess(ctx, code, access)
	if err == nil && !t.LetIn {
		err = errors.New(t.Text)
	}
	if err != nil {
		return fmt.Errorf("join %s: %w", name, err)
	}
	if word := t.Given["word"]; word != "" { // shown once; the maker's people put it in
		w.Slate.SetWord(word)
	}
	w.Slate.SetHook(w.URL + "/in/slate")
	if _, err := w.Finish(ctx, code, t.Identity.Number, Joining{}); err != nil {
		return err
	}
	if err := w.SwitchOn(ctx, code, feeds...); err != nil {
		return err
	}
	if _, err := c.PutPlace(ctx, code, joining.Place{Name: name, Keeper: code}); err != nil {
		return err
	}
	rows, err := c.PartnerTerms(ctx)
	if err != nil {
		return err
	}
	if err := c.SetPartnerTerms(ctx, append(rows, terms)); err != nil {
		return err
	}
	return w.sellFrom(ctx, "morrow", code)
}

// sellFrom lets a channel sell from a place, too, after those that it sells from.
func (w *World) sellFrom(ctx context.Context, channel, place string) error {
	places, err := w.Client.Locations(ctx)
	if err != nil {
		return err
	}
	x, err := w.Client.Connection(ctx, channel)
	if err != nil {
		return err
	}
	s := x.Settings
	for _, l := range places {
		if l.Code == place && !slices.Contains(s.Offer.Sources, l.ID) {
			s.Offer.Sources = append(slices.Clone(s.Offer.Sources), l.ID)
		}
	}
	_, err = w.Client.SetSettings(ctx, channel, s, x.Revision)
	return err
}

// StoreRoom lets what lies in the marketplace's store room be sent for the first store, too.
func (w *World) StoreRoom(ctx context.Context) error {
	c := w.Client
	if _, err := c.PutPlace(ctx, "tansy-room", joining.Place{Name: "Tansy store room", Keeper: "tansy"}); err != nil {
		return err
	}
	x, err := c.Connection(ctx, "tansy")
	if err != nil {
		return err
	}
	s := x.Settings
	s.Locations = map[string]string{"store room": "tansy-room"}
	if _, err = c.SetSettings(ctx, "tansy", s, x.Revision); err != nil {
		return err
	}
	if err := w.SwitchOn(ctx, "tansy", message.RequestsOut, message.RequestStops, message.DispatchIn, message.StockIn); err != nil {
		return err
	}
	return w.sellFrom(ctx, "morrow", "tansy-room")
}

// PreferPlace lets orders with an item be sent from a place as far as they can be.
func (w *World) PreferPlace(ctx context.Context, sku, place string) error {
	_, err := w.Client.ChangeRule(ctx, orders.RuleChange{Name: sku + " from " + place, On: true, When: fmt.Sprintf("%q in skus", sku),
		Then: fmt.Sprintf("location(%q)", place)})
	return err
}
