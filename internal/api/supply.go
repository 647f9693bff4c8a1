package api

import (
	"context"
	"fmt"
	"net/http"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

func purchase(p store.Purchase) wire.Purchase {
	out := wire.Purchase{Number: p.Number, Supplier: p.Supplier, Location: p.LocationCode, LocationName: p.LocationName, State: p.State,
		Expected: p.Expected, Note: p.Note, Who: p.Who, CreatedAt: at(p.CreatedAt), ClosedAt: at(p.ClosedAt), Ordered: p.Ordered,
		Received: p.Received}
	for _, l := range p.Lines {
		out.Lines = append(out.Lines, wire.PurchaseLine{SKU: l.SKU, GTIN: l.GTIN, Name: l.Name, Bin: l.Bin, Serials: l.Serials,
			Ordered: l.Ordered, Received: l.Received, Short: l.Short, Left: l.Left()})
	}
	return out
}

func transfer(x store.Transfer) wire.Transfer {
	out := wire.Transfer{Number: x.Number, From: x.FromCode, FromName: x.FromName, To: x.ToCode, ToName: x.ToName, State: x.State,
		Note: x.Note, Who: x.Who, CreatedAt: at(x.CreatedAt), SentAt: at(x.SentAt), ClosedAt: at(x.ClosedAt), Units: x.Units,
		Arrived: x.Arrived, Lost: x.Lost}
	for _, l := range x.Lines {
		out.Lines = append(out.Lines, wire.TransferLine{SKU: l.SKU, GTIN: l.GTIN, Name: l.Name, Quantity: l.Quantity, Arrived: l.Arrived,
			Lost: l.Lost, Left: l.Left()})
	}
	return out
}

func count(c store.Count) wire.Count {
	out := wire.Count{Number: c.Number, Location: c.LocationCode, LocationName: c.LocationName,
		State: c.State, Note: c.Note, Who: c.Who, CreatedAt: at(c.CreatedAt), PostedAt: at(c.PostedAt), Counted: c.Counted,
		Differ: c.Differ}
	for _, l := range c.Lines {
		out.Lines = append(out.Lines, wire.CountLine{SKU: l.SKU, GTIN: l.GTIN, Name: l.Name, Bin: l.Bin, Counted: l.Counted,
			Expected: l.Expected, At: at(l.At), Who: l.Who})
	}
	return out
}

// SupplyInput narrows a list of purchases, transfers or counts.
type SupplyInput struct {
	PageInput
	State string `query:"state"`
}

func (a *API) timeline(ctx context.Context, thing string, id int64) ([]wire.Entry, error) {
	tl, err := a.relay.Store.Timeline(ctx, thing, id)
	return a.entries(ctx, tl), err
}

func mapped[I, O any](list []I, f func(I) O) []O {
	out := make([]O, len(list))
	for i, x := range list {
		out[i] = f(x)
	}
	return out
}

func (a *API) supply() {
	st := a.relay.Store
	op(a, person.Viewer, http.MethodGet, "/purchases", "purchases", "Purchase orders, newest first",
		func(ctx context.Context, in *SupplyInput) (*body[[]wire.Purchase], error) {
			list, err := st.Purchases(ctx, in.State, 0, in.Limit)
			return &body[[]wire.Purchase]{mapped(list, purchase)}, err
		})
	getPurchase := func(ctx context.Context, n string) (*body[wire.Purchase], error) {
		p, err := st.Purchase(ctx, n)
		if err != nil {
			return nil, fmt.Errorf("purchase order %s: %w", n, err)
		}
		out := purchase(p)
		out.Timeline, err = a.timeline(ctx, "purchase", p.ID)
		return &body[wire.Purchase]{out}, err
	}
	type newPurchase struct {
		Key  string `header:"Idempotency-Key"`
		Body inventory.NewPurchase
	}
	op(a, person.Operator, http.MethodPost, "/purchases", "add-purchase", "Order goods at a supplier",
		func(ctx context.Context, in *newPurchase) (*body[wire.Purchase], error) {
			n, err := a.relay.AddPurchase(ctx, in.Body, who(ctx))
			if err != nil {
				return nil, err
			}
			return getPurchase(ctx, n)
		})
	op(a, person.Viewer, http.MethodGet, "/purchases/{number}", "purchase", "A purchase order",
		func(ctx context.Context, in *NumberInput) (*body[wire.Purchase], error) {
			return getPurchase(ctx, in.Number)
		})
	type arrivals struct {
		NumberInput
		Key  string `header:"Idempotency-Key" doc:"Repeating a request with the same key answers like the first"`
		Body struct {
			Items []inventory.Arrival `json:"items"`
		}
	}
	op(a, person.Operator, http.MethodPost, "/purchases/{number}/receive", "receive", "Receive goods by scan, or many at once",
		func(ctx context.Context, in *arrivals) (*body[wire.Purchase], error) {
			if _, err := a.relay.Receive(ctx, in.Number, in.Body.Items, who(ctx)); err != nil {
				return nil, err
			}
			return getPurchase(ctx, in.Number)
		})
	op(a, person.Operator, http.MethodPost, "/purchases/{number}/close", "close-purchase",
		"Close a purchase order; what has not come is no longer expected",
		func(ctx context.Context, in *NumberInput) (*body[wire.Purchase], error) {
			if err := a.relay.ClosePurchase(ctx, in.Number, who(ctx)); err != nil {
				return nil, err
			}
			return getPurchase(ctx, in.Number)
		})

	op(a, person.Viewer, http.MethodGet, "/transfers", "transfers", "Transfers between locations, newest first",
		func(ctx context.Context, in *SupplyInput) (*body[[]wire.Transfer], error) {
			list, err := st.Transfers(ctx, in.State, 0, in.Limit)
			return &body[[]wire.Transfer]{mapped(list, transfer)}, err
		})
	getTransfer := func(ctx context.Context, n string) (*body[wire.Transfer], error) {
		x, err := st.Transfer(ctx, n)
		if err != nil {
			return nil, fmt.Errorf("transfer %s: %w", n, err)
		}
		out := transfer(x)
		out.Timeline, err = a.timeline(ctx, "transfer", x.ID)
		return &body[wire.Transfer]{out}, err
	}
	type newTransfer struct {
		Key  string `header:"Idempotency-Key"`
		Body inventory.NewTransfer
	}
	op(a, person.Operator, http.MethodPost, "/transfers", "add-transfer", "Prepare a transfer",
		func(ctx context.Context, in *newTransfer) (*body[wire.Transfer], error) {
			n, err := a.relay.AddTransfer(ctx, in.Body, who(ctx))
			if err != nil {
				return nil, err
			}
			return getTransfer(ctx, n)
		})
	op(a, person.Viewer, http.MethodGet, "/transfers/{number}", "transfer", "A transfer",
		func(ctx context.Context, in *NumberInput) (*body[wire.Transfer], error) {
			return getTransfer(ctx, in.Number)
		})
	type move struct {
		NumberInput
		Key  string `header:"Idempotency-Key"`
		Body struct {
			Items  []inventory.Arrival `json:"items,omitempty" doc:"What arrived; without them all that is left"`
			Reason string              `json:"reason,omitempty" doc:"What became of goods that are lost"`
		}
	}
	for _, m := range []struct {
		path, id, about string
		f               func(context.Context, *move) error
	}{
		{"send", "send-transfer", "The goods leave", func(ctx context.Context, in *move) error {
			return a.relay.SendTransfer(ctx, in.Number, who(ctx))
		}},
		{"arrive", "arrive-transfer", "Goods of a transfer arrive", func(ctx context.Context, in *move) error {
			return a.relay.ArriveTransfer(ctx, in.Number, in.Body.Items, who(ctx))
		}},
		{"lose", "lose-transfer", "Give up what has not arrived", func(ctx context.Context, in *move) error {
			return a.relay.LoseTransfer(ctx, in.Number, in.Body.Reason, who(ctx))
		}},
		{"drop", "drop-transfer", "Forget a transfer that was not sent", func(ctx context.Context, in *move) error {
			return a.relay.DropTransfer(ctx, in.Number, who(ctx))
		}},
	} {
		op(a, person.Operator, http.MethodPost, "/transfers/{number}/"+m.path, m.id, m.about,
			func(ctx context.Context, in *move) (*body[wire.Transfer], error) {
				if err := m.f(ctx, in); err != nil {
					return nil, err
				}
				return getTransfer(ctx, in.Number)
			})
	}

	op(a, person.Viewer, http.MethodGet, "/counts", "counts", "Counts, newest first",
		func(ctx context.Context, in *SupplyInput) (*body[[]wire.Count], error) {
			list, err := st.Counts(ctx, in.State, 0, in.Limit)
			return &body[[]wire.Count]{mapped(list, count)}, err
		})
	getCount := func(ctx context.Context, n string) (*body[wire.Count], error) {
		c, err := st.Count(ctx, n)
		if err != nil {
			return nil, fmt.Errorf("count %s: %w", n, err)
		}
		out := count(c)
		out.Timeline, err = a.timeline(ctx, "count", c.ID)
		return &body[wire.Count]{out}, err
	}
	type newCount struct {
		Key  string `header:"Idempotency-Key"`
		Body struct {
			Location string `json:"location" doc:"Code"`
			Note     string `json:"note,omitempty" maxLength:"500"`
		}
	}
	op(a, person.Operator, http.MethodPost, "/counts", "start-count", "Begin to count a location",
		func(ctx context.Context, in *newCount) (*body[wire.Count], error) {
			n, err := a.relay.StartCount(ctx, in.Body.Location, in.Body.Note, who(ctx))
			if err != nil {
				return nil, err
			}
			return getCount(ctx, n)
		})
	op(a, person.Viewer, http.MethodGet, "/counts/{number}", "count", "A count",
		func(ctx context.Context, in *NumberInput) (*body[wire.Count], error) {
			return getCount(ctx, in.Number)
		})
	type counted struct {
		NumberInput
		Key  string `header:"Idempotency-Key"`
		Body inventory.Counted
	}
	op(a, person.Operator, http.MethodPost, "/counts/{number}/lines", "count-item", "Note what was counted of an item in a bin",
		func(ctx context.Context, in *counted) (*body[wire.Count], error) {
			if _, err := a.relay.CountItem(ctx, in.Number, in.Body, who(ctx)); err != nil {
				return nil, err
			}
			return getCount(ctx, in.Number)
		})
	type uncount struct {
		NumberInput
		SKU string `query:"sku" required:"true"`
		Bin string `query:"bin"`
	}
	op(a, person.Operator, http.MethodDelete, "/counts/{number}/lines", "uncount-item", "Take a counted line away again",
		func(ctx context.Context, in *uncount) (*body[wire.Count], error) {
			if err := a.relay.Uncount(ctx, in.Number, in.SKU, in.Bin); err != nil {
				return nil, err
			}
			return getCount(ctx, in.Number)
		})
	type post struct {
		NumberInput
		Body struct {
			Reason string `json:"reason,omitempty" maxLength:"200"`
		}
	}
	op(a, person.Operator, http.MethodPost, "/counts/{number}/post", "post-count", "Book the differences that a count found",
		func(ctx context.Context, in *post) (*body[wire.Count], error) {
			if err := a.relay.PostCount(ctx, in.Number, in.Body.Reason, who(ctx)); err != nil {
				return nil, err
			}
			return getCount(ctx, in.Number)
		})
	op(a, person.Operator, http.MethodPost, "/counts/{number}/drop", "drop-count", "Forget a count that was not posted",
		func(ctx context.Context, in *NumberInput) (*body[wire.Count], error) {
			if err := a.relay.DropCount(ctx, in.Number, who(ctx)); err != nil {
				return nil, err
			}
			return getCount(ctx, in.Number)
		})
	type serialPath struct {
		Number string `path:"number"`
	}
	op(a, person.Viewer, http.MethodGet, "/shipments/{number}/serials", "shipment-serials", "The serial numbers that go with a shipment",
		func(ctx context.Context, in *serialPath) (*body[[]store.Serial], error) {
			s, err := st.Shipment(ctx, in.Number)
			if err != nil {
				return nil, err
			}
			list, err := st.SerialsOf(ctx, s.ID)
			return &body[[]store.Serial]{list}, err
		})
}
