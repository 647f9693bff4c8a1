package client

import (
	"context"
	"fmt"
	"net/http"

	"openrelay/internal/core/freight"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/wire"
)

// TakeAddress lets an order go to its address as the address service would write it.
func (c *Client) TakeAddress(ctx context.Context, number string) (wire.Order, error) {
	return post[wire.Order](ctx, c, "/orders/"+esc(number)+"/address/take", nil)
}

// PickupPoints asks all carriers where an order could be fetched.
func (c *Client) PickupPoints(ctx context.Context, number string) (shipping.NearbyPoints, error) {
	return get[shipping.NearbyPoints](ctx, c, "/orders/"+esc(number)+"/pickup-points")
}

// ChoosePoint says where an order is fetched. Without a carrier and a point it goes to the door.
func (c *Client) ChoosePoint(ctx context.Context, number, carrier, point string) (out wire.Order, err error) {
	in := map[string]string{"carrier": carrier, "id": point}
	_, err = c.Do(ctx, http.MethodPut, "/orders/"+esc(number)+"/pickup-point", in, &out)
	return out, err
}

// RehearseCharges tells what freight rules would have charged for the newest parcels that left.
func (c *Client) RehearseCharges(ctx context.Context, rows []freight.ChargeRule) (shipping.ChargesRehearsed, error) {
	return post[shipping.ChargesRehearsed](ctx, c, "/freight-rules/rehearse", map[string]any{"rows": rows})
}

// Bills lists lines of carriers' bills in some states, such as "differs,unknown", newest first.
func (c *Client) Bills(ctx context.Context, states string) ([]wire.BillLine, error) {
	return get[[]wire.BillLine](ctx, c, "/bills?state="+esc(states))
}

// PrintQueue lists the newest jobs that were given to printers.
func (c *Client) PrintQueue(ctx context.Context) ([]wire.PrintJob, error) {
	return get[[]wire.PrintJob](ctx, c, "/print-queue?limit=100")
}

// Paper is what is to be printed of parcels or manifests.
type Paper struct {
	Kind    string   `json:"paper"`             // "label", "packing slip", "customs papers", "manifest"
	Numbers []string `json:"numbers"`           // of parcels; of a manifest, its number
	Printer string   `json:"printer,omitempty"` // code; without it the one that prints this at the place of the parcel
	First   int      `json:"first"`             // of an A4 sheet of labels: the first free place, 1 to 4
}

// Print gives papers to a printer.
func (c *Client) Print(ctx context.Context, p Paper) (wire.Printing, error) {
	return post[wire.Printing](ctx, c, "/print", p)
}

// TestPrint prints a test page.
func (c *Client) TestPrint(ctx context.Context, printer string) (wire.Printing, error) {
	return post[wire.Printing](ctx, c, "/printers/"+esc(printer)+"/test", nil)
}

func post[T any](ctx context.Context, c *Client, path string, body any) (out T, err error) {
	_, err = c.Do(ctx, http.MethodPost, path, body, &out)
	return out, err
}

// Insure says what a packed parcel is insured for, in minor units of its order's currency: 0 for nothing, -1 for what rules say.
func (c *Client) Insure(ctx context.Context, parcel string, amount int64) (out wire.ParcelView, err error) {
	_, err = c.Do(ctx, http.MethodPut, "/parcels/"+esc(parcel)+"/insurance", map[string]int64{"amount": amount}, &out)
	return out, err
}

// Consign buys the labels of all packed parcels of a shipment in one request, under one number.
func (c *Client) Consign(ctx context.Context, shipment string, by shipping.Purchase) (wire.ShipmentView, error) {
	return post[wire.ShipmentView](ctx, c, "/shipments/"+esc(shipment)+"/ship", by)
}

// ReturnRates compares the services of carriers that bring goods back.
func (c *Client) ReturnRates(ctx context.Context, number string, box shipping.ReturnParcel) ([]shipping.Rate, error) {
	return get[[]shipping.Rate](ctx, c, fmt.Sprintf("/returns/%s/rates?profile=%s&weight_g=%d", esc(number), esc(box.Profile), box.WeightG))
}

// BuyReturnLabel buys a label by which the buyer sends goods back.
func (c *Client) BuyReturnLabel(ctx context.Context, number string, by wire.ReturnPurchase) (wire.ReturnView, error) {
	return post[wire.ReturnView](ctx, c, "/returns/"+esc(number)+"/label", by)
}

// VoidReturnLabel has a label voided by which nothing was sent.
func (c *Client) VoidReturnLabel(ctx context.Context, number string) (wire.ReturnView, error) {
	return post[wire.ReturnView](ctx, c, "/returns/"+esc(number)+"/label/void", nil)
}
