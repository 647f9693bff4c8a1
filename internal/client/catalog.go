package client

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/joining"
	"openrelay/internal/relay/listing"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

// Record loads the whole record of an item.
func (c *Client) Record(ctx context.Context, sku string) (catalog.Item, error) {
	return get[catalog.Item](ctx, c, "/items/"+esc(sku)+"/record")
}

// CreateItem adds an item.
func (c *Client) CreateItem(ctx context.Context, it catalog.Item) (out catalog.Item, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/items", it, &out)
	return out, err
}

// EditItem replaces the record of an item, unless somebody else changed it since.
func (c *Client) EditItem(ctx context.Context, sku string, it catalog.Item) (out catalog.Item, err error) {
	_, err = c.Do(ctx, http.MethodPut, "/items/"+esc(sku)+"/record", it, &out, Match(it.Revision))
	return out, err
}

// Archive ends the selling of an item, or takes it up again.
func (c *Client) Archive(ctx context.Context, sku string, archived bool) (out catalog.Item, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/items/"+esc(sku)+"/archive", map[string]bool{"archived": archived}, &out)
	return out, err
}

// Listings lists listings, those that wait with suggestions.
func (c *Client) Listings(ctx context.Context, query string) ([]wire.Listing, error) {
	return get[[]wire.Listing](ctx, c, "/listings?"+query)
}

// ListingCounts counts the listings of each channel.
func (c *Client) ListingCounts(ctx context.Context) ([]store.ListingCount, error) {
	return get[[]store.ListingCount](ctx, c, "/listings/counts")
}

func (c *Client) listing(ctx context.Context, id int64, what string, in any) (out wire.Listing, err error) {
	_, err = c.Do(ctx, http.MethodPost, fmt.Sprintf("/listings/%d/%s", id, what), in, &out)
	return out, err
}

// Match says which item a listing is; with every, all listings of the channel with its SKU.
func (c *Client) Match(ctx context.Context, id int64, item string, every bool) (wire.Listing, error) {
	return c.listing(ctx, id, "match", map[string]any{"item": item, "every": every})
}

// Unmatch ends a match.
func (c *Client) Unmatch(ctx context.Context, id int64) (wire.Listing, error) {
	return c.listing(ctx, id, "unmatch", nil)
}

// CreateFrom makes an item from a listing; without a SKU under its own.
func (c *Client) CreateFrom(ctx context.Context, id int64, sku string) (wire.Listing, error) {
	return c.listing(ctx, id, "create-item", map[string]any{"sku": sku})
}

// Ignore leaves a listing alone on purpose, or ends that.
func (c *Client) Ignore(ctx context.Context, id int64, ignore bool) (wire.Listing, error) {
	return c.listing(ctx, id, "ignore", map[string]any{"ignore": ignore})
}

// SetOwn says something of an item on one channel only.
func (c *Client) SetOwn(ctx context.Context, id int64, own listing.Own) (out wire.Listing, err error) {
	_, err = c.Do(ctx, http.MethodPut, fmt.Sprintf("/listings/%d/own", id), own, &out)
	return out, err
}

// SetPolicy offers a listing differently from the rest of its channel.
func (c *Client) SetPolicy(ctx context.Context, id int64, o stock.Override) (out wire.Listing, err error) {
	_, err = c.Do(ctx, http.MethodPut, fmt.Sprintf("/listings/%d/policy", id), o, &out)
	return out, err
}

// PreviewPublish shows exactly what publishing would send.
func (c *Client) PreviewPublish(ctx context.Context, connection string, sel listing.Selection) (out listing.PublishPreview, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/connections/"+esc(connection)+"/publish/preview", sel, &out)
	return out, err
}

// Publish sends what a preview showed.
func (c *Client) Publish(ctx context.Context, connection string, sel listing.Selection, digest string) (int64, error) {
	var out wire.Sent
	_, err := c.Do(ctx, http.MethodPost, "/connections/"+esc(connection)+"/publish",
		map[string]any{"skus": sel.SKUs, "mark": sel.Mark, "digest": digest}, &out)
	return out.Sent, err
}

func at(moment time.Time) string {
	if moment.IsZero() {
		return ""
	}
	return "?at=" + url.QueryEscape(moment.Format(time.RFC3339Nano))
}

// ItemAt shows an item's stock as it was at a moment.
func (c *Client) ItemAt(ctx context.Context, sku string, moment time.Time) (wire.ItemView, error) {
	return get[wire.ItemView](ctx, c, "/items/"+esc(sku)+at(moment))
}

// WhyAt explains the quantity a channel showed at a moment.
func (c *Client) WhyAt(ctx context.Context, connection, sku string, moment time.Time) (wire.OfferView, error) {
	return get[wire.OfferView](ctx, c, "/connections/"+esc(connection)+"/listings/"+esc(sku)+"/why"+at(moment))
}

// Compare compares what channels were last seen to show with what they should; an empty code compares all.
func (c *Client) Compare(ctx context.Context, connection string) (wire.Compared, error) {
	return get[wire.Compared](ctx, c, "/compare?connection="+url.QueryEscape(connection))
}

// ReadListings reads what the channels show now.
func (c *Client) ReadListings(ctx context.Context, connection string) (reading []string, err error) {
	var out wire.ReadBegun
	_, err = c.Do(ctx, http.MethodPost, "/compare/read", map[string]string{"connection": connection}, &out)
	return out.Reading, err
}

// Correct sends the right quantity for every listing that differs.
func (c *Client) Correct(ctx context.Context, connection string) (int, error) {
	var out wire.Corrected
	_, err := c.Do(ctx, http.MethodPost, "/compare/correct", map[string]string{"connection": connection}, &out)
	return out.Corrected, err
}

// Purchases lists purchase orders.
func (c *Client) Purchases(ctx context.Context, query string) ([]wire.Purchase, error) {
	return get[[]wire.Purchase](ctx, c, "/purchases?"+query)
}

// Purchase loads a purchase order.
func (c *Client) Purchase(ctx context.Context, number string) (wire.Purchase, error) {
	return get[wire.Purchase](ctx, c, "/purchases/"+esc(number))
}

// AddPurchase orders goods at a supplier.
func (c *Client) AddPurchase(ctx context.Context, n inventory.NewPurchase, opts ...Option) (out wire.Purchase, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/purchases", n, &out, opts...)
	return out, err
}

// Receive takes in goods of a purchase order.
func (c *Client) Receive(ctx context.Context, number string, list []inventory.Arrival, opts ...Option) (out wire.Purchase, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/purchases/"+esc(number)+"/receive", map[string]any{"items": list}, &out, opts...)
	return out, err
}

// ClosePurchase closes a purchase order.
func (c *Client) ClosePurchase(ctx context.Context, number string) (out wire.Purchase, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/purchases/"+esc(number)+"/close", nil, &out)
	return out, err
}

// Transfers lists transfers.
func (c *Client) Transfers(ctx context.Context, query string) ([]wire.Transfer, error) {
	return get[[]wire.Transfer](ctx, c, "/transfers?"+query)
}

// Transfer loads a transfer.
func (c *Client) Transfer(ctx context.Context, number string) (wire.Transfer, error) {
	return get[wire.Transfer](ctx, c, "/transfers/"+esc(number))
}

// AddTransfer prepares a transfer.
func (c *Client) AddTransfer(ctx context.Context, n inventory.NewTransfer, opts ...Option) (out wire.Transfer, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/transfers", n, &out, opts...)
	return out, err
}

// MoveTransfer sends a transfer, lets goods of it arrive, gives up what is lost, or drops it.
func (c *Client) MoveTransfer(ctx context.Context, number, what string, items []inventory.Arrival, reason string,
	opts ...Option) (out wire.Transfer, err error) {
	_, err = c.Do(
		ctx,
		http.MethodPost,
		"/transfers/"+esc(number)+"/"+what,
		map[string]any{"items": items, "reason": reason},
		&out,
		opts...)
	return out, err
}

// Counts lists counts.
func (c *Client) Counts(ctx context.Context, query string) ([]wire.Count, error) {
	return get[[]wire.Count](ctx, c, "/counts?"+query)
}

// Count loads a count.
func (c *Client) Count(ctx context.Context, number string) (wire.Count, error) {
	return get[wire.Count](ctx, c, "/counts/"+esc(number))
}

// StartCount begins to count a location.
func (c *Client) StartCount(ctx context.Context, location string) (out wire.Count, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/counts", map[string]string{"location": location}, &out)
	return out, err
}

// CountItem notes what was counted.
func (c *Client) CountItem(ctx context.Context, number string, n inventory.Counted, opts ...Option) (out wire.Count, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/counts/"+esc(number)+"/lines", n, &out, opts...)
	return out, err
}

// EndCount posts a count, or drops it.
func (c *Client) EndCount(ctx context.Context, number, what string) (out wire.Count, err error) {
	var in any
	if what == "post" {
		in = map[string]string{}
	}
	_, err = c.Do(ctx, http.MethodPost, "/counts/"+esc(number)+"/"+what, in, &out)
	return out, err
}

// HandIn hands a CSV file in and waits until each of its rows was looked at.
func (c *Client) HandIn(ctx context.Context, kind, name string, file io.Reader) (wire.Sheet, error) {
	var none wire.Sheet
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, c.Server+"/api/v1/sheets/"+esc(kind)+"?name="+url.QueryEscape(name), file)
	if err != nil {
		return none, err
	}
	req.Header.Set("Content-Type", "text/csv")
	req.Header.Set("Authorization", "Bearer "+c.Token)
	res, err := c.slow().Do(req)
	if err != nil {
		return none, fmt.Errorf("the service does not answer: %w", err)
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	if err != nil {
		return none, err
	}
	if res.StatusCode >= 300 {
		return none, problemOf(res.StatusCode, raw)
	}
	var id struct {
		ID int64 `json:"id"`
	}
	if err := json.Unmarshal(raw, &id); err != nil {
		return none, err
	}
	return c.awaitSheet(ctx, id.ID, "checking")
}

// ApplySheet carries out a file that was looked at, and waits until it is done.
func (c *Client) ApplySheet(ctx context.Context, id int64) (wire.Sheet, error) {
	if _, err := c.Do(ctx, http.MethodPost, fmt.Sprintf("/sheets/%d/apply", id), nil, nil); err != nil {
		return wire.Sheet{}, err
	}
	return c.awaitSheet(ctx, id, "applying")
}

// awaitSheet asks how a sheet stands until it is past a state.
func (c *Client) awaitSheet(ctx context.Context, id int64, state string) (wire.Sheet, error) {
	for wait := 20 * time.Millisecond; ; wait = min(2*wait, time.Second) {
		s, err := get[wire.Sheet](ctx, c, fmt.Sprintf("/sheets/%d", id))
		if err != nil || s.State != state {
			return s, err
		}
		select {
		case <-ctx.Done():
			return s, ctx.Err()
		case <-time.After(wait):
		}
	}
}

// SheetRows lists rows of a sheet.
func (c *Client) SheetRows(ctx context.Context, id int64, query string) ([]wire.SheetRow, error) {
	return get[[]wire.SheetRow](ctx, c, fmt.Sprintf("/sheets/%d/rows?%s", id, query))
}

// Save writes a table as CSV.
func (c *Client) Save(ctx context.Context, kind string, out io.Writer) error {
	return c.stream(ctx, "/api/v1/saved/"+esc(kind)+".csv", out)
}

// SaveOrders writes the orders that a filter lets through as CSV, however many they are.
func (c *Client) SaveOrders(ctx context.Context, query string, out io.Writer) error {
	return c.stream(ctx, "/api/v1/orders.csv?"+query, out)
}

// stream passes an answer on as it comes, however long it is and however long that takes.
func (c *Client) stream(ctx context.Context, path string, out io.Writer) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.Server+path, nil)
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+c.Token)
	res, err := c.slow().Do(req)
	if err != nil {
		return fmt.Errorf("the service does not answer: %w", err)
	}
	defer res.Body.Close()
	if res.StatusCode >= 300 {
		raw, _ := io.ReadAll(io.LimitReader(res.Body, 1<<20))
		return problemOf(res.StatusCode, raw)
	}
	_, err = io.Copy(out, res.Body)
	return err
}

// PutLocation adds a location, or changes its name and whose word counts there.
func (c *Client) PutLocation(ctx context.Context, code, name, keeper string) (out wire.Location, err error) {
	return c.PutPlace(ctx, code, joining.Place{Name: name, Keeper: keeper})
}

// RehearseSharing tells what sharing the last units among channels would have made of past sales.
func (c *Client) RehearseSharing(ctx context.Context, q inventory.SharingRehearsal) (inventory.SharingRehearsed, error) {
	return post[inventory.SharingRehearsed](ctx, c, "/stock/rehearse-sharing", q)
}
