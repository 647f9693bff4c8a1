package api

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/store"
)

// Purchase is an order of ours at a supplier.
type Purchase struct {
	Number       string         `json:"number"`
	Supplier     string         `json:"supplier"`
	Location     string         `json:"location"`
	LocationName string         `json:"location_name"`
	State        string         `json:"state" enum:"open,closed"`
	Expected     string         `json:"expected,omitempty"`
	Note         string         `json:"note,omitempty"`
	Who          string         `json:"who"`
	CreatedAt    *time.Time     `json:"created_at"`
	ClosedAt     *time.Time     `json:"closed_at,omitempty"`
	Ordered      int64          `json:"ordered"`
	Received     int64          `json:"received"`
	Lines        []PurchaseLine `json:"lines,omitempty"`
	Timeline     []Entry        `json:"timeline,omitempty"`
}

// PurchaseLine is one item of a purchase.
type PurchaseLine struct {
	SKU      string `json:"sku"`
	GTIN     string `json:"gtin,omitempty"`
	Name     string `json:"name"`
	Bin      string `json:"bin" doc:"Where it usually lies"`
	Serials  bool   `json:"serials,omitempty"`
	Ordered  int64  `json:"ordered"`
	Received int64  `json:"received"`
	Short    int64  `json:"short" doc:"Given up when it was closed"`
	Left     int64  `json:"left"`
}

func purchase(p store.Purchase) Purchase {
	out := Purchase{Number: p.Number, Supplier: p.Supplier, Location: p.LocationCode, LocationName: p.LocationName, State: p.State, Expected: p.Expected, Note: p.Note, Who: p.Who, CreatedAt: at(p.CreatedAt), ClosedAt: at(p.ClosedAt), Ordered: p.Ordered, Received: p.Received}
	for _, l := range p.Lines {
		out.Lines = append(out.Lines, PurchaseLine{l.SKU, l.GTIN, l.Name, l.Bin, l.Serials, l.Ordered, l.Received, l.Short, l.Left()})
	}
	return out
}

// Transfer is goods on their way between locations of ours.
type Transfer struct {
	Number    string         `json:"number"`
	From      string         `json:"from"`
	FromName  string         `json:"from_name"`
	To        string         `json:"to"`
	ToName    string         `json:"to_name"`
	State     string         `json:"state" enum:"draft,under way,closed"`
	Note      string         `json:"note,omitempty"`
	Who       string         `json:"who"`
	CreatedAt *time.Time     `json:"created_at"`
	SentAt    *time.Time     `json:"sent_at,omitempty"`
	ClosedAt  *time.Time     `json:"closed_at,omitempty"`
	Units     int64          `json:"units"`
	Arrived   int64          `json:"arrived"`
	Lost      int64          `json:"lost"`
	Lines     []TransferLine `json:"lines,omitempty"`
	Timeline  []Entry        `json:"timeline,omitempty"`
}

// TransferLine is one item of a transfer.
type TransferLine struct {
	SKU      string `json:"sku"`
	GTIN     string `json:"gtin,omitempty"`
	Name     string `json:"name"`
	Quantity int64  `json:"quantity"`
	Arrived  int64  `json:"arrived"`
	Lost     int64  `json:"lost"`
	Left     int64  `json:"left"`
}

func transfer(x store.Transfer) Transfer {
	out := Transfer{Number: x.Number, From: x.FromCode, FromName: x.FromName, To: x.ToCode, ToName: x.ToName, State: x.State, Note: x.Note, Who: x.Who, CreatedAt: at(x.CreatedAt), SentAt: at(x.SentAt), ClosedAt: at(x.ClosedAt), Units: x.Units, Arrived: x.Arrived, Lost: x.Lost}
	for _, l := range x.Lines {
		out.Lines = append(out.Lines, TransferLine{l.SKU, l.GTIN, l.Name, l.Quantity, l.Arrived, l.Lost, l.Left()})
	}
	return out
}

// Count is a counting of a location.
type Count struct {
	Number       string      `json:"number"`
	Location     string      `json:"location"`
	LocationName string      `json:"location_name"`
	State        string      `json:"state" enum:"open,posted,dropped"`
	Note         string      `json:"note,omitempty"`
	Who          string      `json:"who"`
	CreatedAt    *time.Time  `json:"created_at"`
	PostedAt     *time.Time  `json:"posted_at,omitempty"`
	Counted      int64       `json:"counted" doc:"Lines"`
	Differ       int64       `json:"differ" doc:"Lines that differ"`
	Lines        []CountLine `json:"lines,omitempty"`
	Timeline     []Entry     `json:"timeline,omitempty"`
}

// CountLine is what was counted of an item in a bin.
type CountLine struct {
	SKU      string     `json:"sku"`
	GTIN     string     `json:"gtin,omitempty"`
	Name     string     `json:"name"`
	Bin      string     `json:"bin"`
	Counted  int64      `json:"counted"`
	Expected int64      `json:"expected" doc:"What should have lain there when it was counted"`
	At       *time.Time `json:"at"`
	Who      string     `json:"who"`
}

func count(c store.Count) Count {
	out := Count{Number: c.Number, Location: c.LocationCode, LocationName: c.LocationName, State: c.State, Note: c.Note, Who: c.Who, CreatedAt: at(c.CreatedAt), PostedAt: at(c.PostedAt), Counted: c.Counted, Differ: c.Differ}
	for _, l := range c.Lines {
		out.Lines = append(out.Lines, CountLine{l.SKU, l.GTIN, l.Name, l.Bin, l.Counted, l.Expected, at(l.At), l.Who})
	}
	return out
}

// SupplyInput narrows a list of purchases, transfers or counts.
type SupplyInput struct {
	PageInput
	State string `query:"state"`
}

func (a *API) timeline(ctx context.Context, thing string, id int64) ([]Entry, error) {
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
	op(a, person.Viewer, http.MethodGet, "/purchases", "purchases", "Purchase orders, newest first", func(ctx context.Context, in *SupplyInput) (*body[[]Purchase], error) {
		list, err := st.Purchases(ctx, in.State, 0, in.Limit)
		return &body[[]Purchase]{mapped(list, purchase)}, err
	})
	getPurchase := func(ctx context.Context, n string) (*body[Purchase], error) {
		p, err := st.Purchase(ctx, n)
		if err != nil {
			return nil, fmt.Errorf("purchase order %s: %w", n, err)
		}
		out := purchase(p)
		out.Timeline, err = a.timeline(ctx, "purchase", p.ID)
		return &body[Purchase]{out}, err
	}
	type newPurchase struct {
		Key  string `header:"Idempotency-Key"`
		Body inventory.NewPurchase
	}
	op(a, person.Operator, http.MethodPost, "/purchases", "add-purchase", "Order goods at a supplier", func(ctx context.Context, in *newPurchase) (*body[Purchase], error) {
		n, err := a.relay.AddPurchase(ctx, in.Body, who(ctx))
		if err != nil {
			return nil, err
		}
		return getPurchase(ctx, n)
	})
	op(a, person.Viewer, http.MethodGet, "/purchases/{number}", "purchase", "A purchase order", func(ctx context.Context, in *NumberInput) (*body[Purchase], error) {
		return getPurchase(ctx, in.Number)
	})
	type arrivals struct {
		NumberInput
		Key  string `header:"Idempotency-Key" doc:"Repeating a request with the same key answers like the first"`
		Body struct {
			Items []inventory.Arrival `json:"items"`
		}
	}
	op(a, person.Operator, http.MethodPost, "/purchases/{number}/receive", "receive", "Receive goods by scan, or many at once", func(ctx context.Context, in *arrivals) (*body[Purchase], error) {
		if _, err := a.relay.Receive(ctx, in.Number, in.Body.Items, who(ctx)); err != nil {
			return nil, err
		}
		return getPurchase(ctx, in.Number)
	})
	op(a, person.Operator, http.MethodPost, "/purchases/{number}/close", "close-purchase", "Close a purchase order; what has not come is no longer expected", func(ctx context.Context, in *NumberInput) (*body[Purchase], error) {
		if err := a.relay.ClosePurchase(ctx, in.Number, who(ctx)); err != nil {
			return nil, err
		}
		return getPurchase(ctx, in.Number)
	})

	op(a, person.Viewer, http.MethodGet, "/transfers", "transfers", "Transfers between locations, newest first", func(ctx context.Context, in *SupplyInput) (*body[[]Transfer], error) {
		list, err := st.Transfers(ctx, in.State, 0, in.Limit)
		return &body[[]Transfer]{mapped(list, transfer)}, err
	})
	getTransfer := func(ctx context.Context, n string) (*body[Transfer], error) {
		x, err := st.Transfer(ctx, n)
		if err != nil {
			return nil, fmt.Errorf("transfer %s: %w", n, err)
		}
		out := transfer(x)
		out.Timeline, err = a.timeline(ctx, "transfer", x.ID)
		return &body[Transfer]{out}, err
	}
	type newTransfer struct {
		Key  string `header:"Idempotency-Key"`
		Body inventory.NewTransfer
	}
	op(a, person.Operator, http.MethodPost, "/transfers", "add-transfer", "Prepare a transfer", func(ctx context.Context, in *newTransfer) (*body[Transfer], error) {
		n, err := a.relay.AddTransfer(ctx, in.Body, who(ctx))
		if err != nil {
			return nil, err
		}
		return getTransfer(ctx, n)
	})
	op(a, person.Viewer, http.MethodGet, "/transfers/{number}", "transfer", "A transfer", func(ctx context.Context, in *NumberInput) (*body[Transfer], error) {
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
		{"send", "send-transfer", "The goods leave", func(ctx context.Context, in *move) error { return a.relay.SendTransfer(ctx, in.Number, who(ctx)) }},
		{"arrive", "arrive-transfer", "Goods of a transfer arrive", func(ctx context.Context, in *move) error {
			return a.relay.ArriveTransfer(ctx, in.Number, in.Body.Items, who(ctx))
		}},
		{"lose", "lose-transfer", "Give up what has not arrived", func(ctx context.Context, in *move) error {
			return a.relay.LoseTransfer(ctx, in.Number, in.Body.Reason, who(ctx))
		}},
		{"drop", "drop-transfer", "Forget a transfer that was not sent", func(ctx context.Context, in *move) error { return a.relay.DropTransfer(ctx, in.Number, who(ctx)) }},
	} {
		op(a, person.Operator, http.MethodPost, "/transfers/{number}/"+m.path, m.id, m.about, func(ctx context.Context, in *move) (*body[Transfer], error) {
			if err := m.f(ctx, in); err != nil {
				return nil, err
			}
			return getTransfer(ctx, in.Number)
		})
	}

	op(a, person.Viewer, http.MethodGet, "/counts", "counts", "Counts, newest first", func(ctx context.Context, in *SupplyInput) (*body[[]Count], error) {
		list, err := st.Counts(ctx, in.State, 0, in.Limit)
		return &body[[]Count]{mapped(list, count)}, err
	})
	getCount := func(ctx context.Context, n string) (*body[Count], error) {
		c, err := st.Count(ctx, n)
		if err != nil {
			return nil, fmt.Errorf("count %s: %w", n, err)
		}
		out := count(c)
		out.Timeline, err = a.timeline(ctx, "count", c.ID)
		return &body[Count]{out}, err
	}
	type newCount struct {
		Key  string `header:"Idempotency-Key"`
		Body struct {
			Location string `json:"location" doc:"Code"`
			Note     string `json:"note,omitempty" maxLength:"500"`
		}
	}
	op(a, person.Operator, http.MethodPost, "/counts", "start-count", "Begin to count a location", func(ctx context.Context, in *newCount) (*body[Count], error) {
		n, err := a.relay.StartCount(ctx, in.Body.Location, in.Body.Note, who(ctx))
		if err != nil {
			return nil, err
		}
		return getCount(ctx, n)
	})
	op(a, person.Viewer, http.MethodGet, "/counts/{number}", "count", "A count", func(ctx context.Context, in *NumberInput) (*body[Count], error) {
		return getCount(ctx, in.Number)
	})
	type counted struct {
		NumberInput
		Key  string `header:"Idempotency-Key"`
		Body inventory.Counted
	}
	op(a, person.Operator, http.MethodPost, "/counts/{number}/lines", "count-item", "Note what was counted of an item in a bin", func(ctx context.Context, in *counted) (*body[Count], error) {
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
	op(a, person.Operator, http.MethodDelete, "/counts/{number}/lines", "uncount-item", "Take a counted line away again", func(ctx context.Context, in *uncount) (*body[Count], error) {
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
	op(a, person.Operator, http.MethodPost, "/counts/{number}/post", "post-count", "Book the differences that a count found", func(ctx context.Context, in *post) (*body[Count], error) {
		if err := a.relay.PostCount(ctx, in.Number, in.Body.Reason, who(ctx)); err != nil {
			return nil, err
		}
		return getCount(ctx, in.Number)
	})
	op(a, person.Operator, http.MethodPost, "/counts/{number}/drop", "drop-count", "Forget a count that was not posted", func(ctx context.Context, in *NumberInput) (*body[Count], error) {
		if err := a.relay.DropCount(ctx, in.Number, who(ctx)); err != nil {
			return nil, err
		}
		return getCount(ctx, in.Number)
	})
	type serialPath struct {
		Number string `path:"number"`
	}
	op(a, person.Viewer, http.MethodGet, "/shipments/{number}/serials", "shipment-serials", "The serial numbers that go with a shipment", func(ctx context.Context, in *serialPath) (*body[[]store.Serial], error) {
		s, err := st.Shipment(ctx, in.Number)
		if err != nil {
			return nil, err
		}
		list, err := st.SerialsOf(ctx, s.ID)
		return &body[[]store.Serial]{list}, err
	})
}
