package api

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

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
	State  string `query:"state"`
	Before int64  `query:"before" doc:"Keyset: those before this one"`
}

// documents answers a page of documents, and where the next begins.
func documents[S, W any](in *SupplyInput, path string, list []S, show func(S) W, id func(S) int64) *paged[W] {
	out := &paged[W]{Body: mapped(list, show)}
	if len(list) == in.Limit {
		q := url.Values{"limit": {fmt.Sprint(in.Limit)}}
		if in.State != "" {
			q.Set("state", in.State)
		}
		out.Link = next(path, q, "before", fmt.Sprint(id(list[len(list)-1])))
	}
	return out
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

func (a *API) supplyRoutes() {
	op(a, person.Look, http.MethodGet, "/purchases", "purchases", "Purchase orders, newest first", a.purchases)
	op(a, person.BuyGoods, http.MethodPost, "/purchases", "add-purchase", "Order goods at a supplier", a.addPurchase)
	op(a, person.Look, http.MethodGet, "/purchases/{number}", "purchase", "A purchase order", a.purchase)
	op(a, person.KeepStock, http.MethodPost, "/purchases/{number}/receive", "receive", "Receive goods by scan, or many at once", a.receive)
	op(a, person.BuyGoods, http.MethodPost, "/purchases/{number}/close", "close-purchase",
		"Close a purchase order; what has not come is no longer expected", a.closePurchase)
	op(a, person.Look, http.MethodGet, "/transfers", "transfers", "Transfers between locations, newest first", a.transfers)
	op(a, person.KeepStock, http.MethodPost, "/transfers", "add-transfer", "Prepare a transfer", a.addTransfer)
	op(a, person.Look, http.MethodGet, "/transfers/{number}", "transfer", "A transfer", a.transfer)
	op(a, person.KeepStock, http.MethodPost, "/transfers/{number}/send", "send-transfer", "The goods leave", a.sendTransfer)
	op(a, person.KeepStock, http.MethodPost, "/transfers/{number}/arrive", "arrive-transfer", "Goods of a transfer arrive",
		a.arriveTransfer)
	op(a, person.KeepStock, http.MethodPost, "/transfers/{number}/lose", "lose-transfer", "Give up what has not arrived", a.loseTransfer)
	op(a, person.KeepStock, http.MethodPost, "/transfers/{number}/drop", "drop-transfer", "Forget a transfer that was not sent",
		a.dropTransfer)
	op(a, person.Look, http.MethodGet, "/counts", "counts", "Counts, newest first", a.counts)
	op(a, person.KeepStock, http.MethodPost, "/counts", "start-count", "Begin to count a location", a.startCount)
	op(a, person.Look, http.MethodGet, "/counts/{number}", "count", "A count", a.count)
	op(a, person.KeepStock, http.MethodPost, "/counts/{number}/lines", "count-item", "Note what was counted of an item in a bin",
		a.countItem)
	op(a, person.KeepStock, http.MethodDelete, "/counts/{number}/lines", "uncount-item", "Take a counted line away again", a.uncountItem)
	op(a, person.KeepStock, http.MethodPost, "/counts/{number}/post", "post-count", "Book the differences that a count found", a.postCount)
	op(a, person.KeepStock, http.MethodPost, "/counts/{number}/drop", "drop-count", "Forget a count that was not posted", a.dropCount)
}

func (a *API) purchases(ctx context.Context, in *SupplyInput) (*paged[wire.Purchase], error) {
	list, err := a.relay.Store.Purchases(ctx, in.State, in.Before, in.Limit)
	return documents(in, "/purchases", list, purchase, func(x store.Purchase) int64 { return x.ID }), err
}

func (a *API) getPurchase(ctx context.Context, n string) (*body[wire.Purchase], error) {
	p, err := a.relay.Store.Purchase(ctx, n)
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

func (a *API) addPurchase(ctx context.Context, in *newPurchase) (*body[wire.Purchase], error) {
	n, err := a.relay.AddPurchase(ctx, in.Body, who(ctx))
	if err != nil {
		return nil, err
	}
	return a.getPurchase(ctx, n)
}

func (a *API) purchase(ctx context.Context, in *NumberInput) (*body[wire.Purchase], error) {
	return a.getPurchase(ctx, in.Number)
}

type arrivals struct {
	NumberInput
	Key  string `header:"Idempotency-Key" doc:"Repeating a request with the same key answers like the first"`
	Body struct {
		Items []inventory.Arrival `json:"items"`
	}
}

func (a *API) receive(ctx context.Context, in *arrivals) (*body[wire.Purchase], error) {
	if _, err := a.relay.Receive(ctx, in.Number, in.Body.Items, who(ctx)); err != nil {
		return nil, err
	}
	return a.getPurchase(ctx, in.Number)
}

func (a *API) closePurchase(ctx context.Context, in *NumberInput) (*body[wire.Purchase], error) {
	if err := a.relay.ClosePurchase(ctx, in.Number, who(ctx)); err != nil {
		return nil, err
	}
	return a.getPurchase(ctx, in.Number)
}

func (a *API) transfers(ctx context.Context, in *SupplyInput) (*paged[wire.Transfer], error) {
	list, err := a.relay.Store.Transfers(ctx, in.State, in.Before, in.Limit)
	return documents(in, "/transfers", list, transfer, func(x store.Transfer) int64 { return x.ID }), err
}

func (a *API) getTransfer(ctx context.Context, n string) (*body[wire.Transfer], error) {
	x, err := a.relay.Store.Transfer(ctx, n)
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

func (a *API) addTransfer(ctx context.Context, in *newTransfer) (*body[wire.Transfer], error) {
	n, err := a.relay.AddTransfer(ctx, in.Body, who(ctx))
	if err != nil {
		return nil, err
	}
	return a.getTransfer(ctx, n)
}

func (a *API) transfer(ctx context.Context, in *NumberInput) (*body[wire.Transfer], error) {
	return a.getTransfer(ctx, in.Number)
}

type transferMove struct {
	NumberInput
	Key  string `header:"Idempotency-Key"`
	Body struct {
		Items  []inventory.Arrival `json:"items,omitempty" doc:"What arrived; without them all that is left"`
		Reason string              `json:"reason,omitempty" doc:"What became of goods that are lost"`
	}
}

func (a *API) movedTransfer(ctx context.Context, number string, err error) (*body[wire.Transfer], error) {
	if err != nil {
		return nil, err
	}
	return a.getTransfer(ctx, number)
}

func (a *API) sendTransfer(ctx context.Context, in *transferMove) (*body[wire.Transfer], error) {
	return a.movedTransfer(ctx, in.Number, a.relay.SendTransfer(ctx, in.Number, who(ctx)))
}

func (a *API) arriveTransfer(ctx context.Context, in *transferMove) (*body[wire.Transfer], error) {
	return a.movedTransfer(ctx, in.Number, a.relay.ArriveTransfer(ctx, in.Number, in.Body.Items, who(ctx)))
}

func (a *API) loseTransfer(ctx context.Context, in *transferMove) (*body[wire.Transfer], error) {
	return a.movedTransfer(ctx, in.Number, a.relay.LoseTransfer(ctx, in.Number, in.Body.Reason, who(ctx)))
}

func (a *API) dropTransfer(ctx context.Context, in *transferMove) (*body[wire.Transfer], error) {
	return a.movedTransfer(ctx, in.Number, a.relay.DropTransfer(ctx, in.Number, who(ctx)))
}

func (a *API) counts(ctx context.Context, in *SupplyInput) (*paged[wire.Count], error) {
	list, err := a.relay.Store.Counts(ctx, in.State, in.Before, in.Limit)
	return documents(in, "/counts", list, count, func(x store.Count) int64 { return x.ID }), err
}

func (a *API) getCount(ctx context.Context, n string) (*body[wire.Count], error) {
	c, err := a.relay.Store.Count(ctx, n)
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

func (a *API) startCount(ctx context.Context, in *newCount) (*body[wire.Count], error) {
	n, err := a.relay.StartCount(ctx, in.Body.Location, in.Body.Note, who(ctx))
	if err != nil {
		return nil, err
	}
	return a.getCount(ctx, n)
}

func (a *API) count(ctx context.Context, in *NumberInput) (*body[wire.Count], error) {
	return a.getCount(ctx, in.Number)
}

type counted struct {
	NumberInput
	Key  string `header:"Idempotency-Key"`
	Body inventory.Counted
}

func (a *API) countItem(ctx context.Context, in *counted) (*body[wire.Count], error) {
	if _, err := a.relay.CountItem(ctx, in.Number, in.Body, who(ctx)); err != nil {
		return nil, err
	}
	return a.getCount(ctx, in.Number)
}

type uncount struct {
	NumberInput
	SKU string `query:"sku" required:"true"`
	Bin string `query:"bin"`
}

func (a *API) uncountItem(ctx context.Context, in *uncount) (*body[wire.Count], error) {
	if err := a.relay.Uncount(ctx, in.Number, in.SKU, in.Bin); err != nil {
		return nil, err
	}
	return a.getCount(ctx, in.Number)
}

type countPost struct {
	NumberInput
	Body struct {
		Reason string `json:"reason,omitempty" maxLength:"200"`
	}
}

func (a *API) postCount(ctx context.Context, in *countPost) (*body[wire.Count], error) {
	if err := a.relay.PostCount(ctx, in.Number, in.Body.Reason, who(ctx)); err != nil {
		return nil, err
	}
	return a.getCount(ctx, in.Number)
}

func (a *API) dropCount(ctx context.Context, in *NumberInput) (*body[wire.Count], error) {
	if err := a.relay.DropCount(ctx, in.Number, who(ctx)); err != nil {
		return nil, err
	}
	return a.getCount(ctx, in.Number)
}

type serialPath struct {
	Number string `path:"number"`
}

func (a *API) parcelSerials(ctx context.Context, in *serialPath) (*body[[]store.Serial], error) {
	s, err := a.relay.Store.Parcel(ctx, in.Number)
	if err != nil {
		return nil, err
	}
	list, err := a.relay.Store.SerialsOf(ctx, s.ID)
	return &body[[]store.Serial]{list}, err
}
