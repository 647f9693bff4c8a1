package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"openrelay/internal/core/request"
	"openrelay/internal/relay/partners"
	"openrelay/internal/wire"
)

// Partners lists whoever ships for us.
func (c *Client) Partners(ctx context.Context) ([]wire.Partner, error) {
	return get[[]wire.Partner](ctx, c, "/partners")
}

// PartnerTerms lists what was agreed with partners.
func (c *Client) PartnerTerms(ctx context.Context) ([]request.Terms, error) {
	out, err := get[struct {
		Rows []request.Terms `json:"rows"`
	}](ctx, c, "/partner-terms")
	return out.Rows, err
}

// SetPartnerTerms replaces it.
func (c *Client) SetPartnerTerms(ctx context.Context, rows []request.Terms) error {
	_, err := c.Do(ctx, http.MethodPut, "/partner-terms", map[string]any{"rows": rows}, nil)
	return err
}

// PartnerItems lists what a partner calls our items, by SKU, all pages.
func (c *Client) PartnerItems(ctx context.Context, partner string) (all []wire.PartnerItem, err error) {
	after := ""
	for {
		list, err := get[[]wire.PartnerItem](ctx, c, "/partners/"+esc(partner)+"/items?limit=500&after="+url.QueryEscape(after))
		all = append(all, list...)
		if err != nil || len(list) < 500 {
			return all, err
		}
		after = list[len(list)-1].SKU
	}
}

// SayPartnerItem says what a partner calls an item.
func (c *Client) SayPartnerItem(ctx context.Context, partner string, p partners.PartnerItem) error {
	_, err := c.Do(ctx, http.MethodPut, "/partners/"+esc(partner)+"/items", p, nil)
	return err
}

// ForgetPartnerItem forgets what a partner calls an item.
func (c *Client) ForgetPartnerItem(ctx context.Context, partner, sku string) error {
	_, err := c.Do(ctx, http.MethodDelete, "/partners/"+esc(partner)+"/items/"+esc(sku), nil, nil)
	return err
}

// StockDifferences lists a page of where the stock of partners was another than our books; query is like "partner=fallowgate&open=true".
func (c *Client) StockDifferences(ctx context.Context, query string) (list []wire.StockDifference, next string, err error) {
	next, err = c.Do(ctx, http.MethodGet, "/stock-differences?"+query, nil, &list)
	return list, next, err
}

// SettleStockDifference says that somebody has looked at one.
func (c *Client) SettleStockDifference(ctx context.Context, id int64, note string) error {
	_, err := c.Do(ctx, http.MethodPost, fmt.Sprintf("/stock-differences/%d/settle", id), map[string]string{"note": note}, nil)
	return err
}

// Requests lists what partners are asked to send; query is like "state=asked&partner=fallowgate".
func (c *Client) Requests(ctx context.Context, query string) (list []wire.Request, next string, err error) {
	next, err = c.Do(ctx, http.MethodGet, "/requests?"+query, nil, &list)
	return list, next, err
}

// Request is one request with what has left for it.
func (c *Client) Request(ctx context.Context, number string) (wire.Request, error) {
	return get[wire.Request](ctx, c, "/requests/"+esc(number))
}

// OrderRequests lists what partners were asked to send of an order.
func (c *Client) OrderRequests(ctx context.Context, order string) ([]wire.Request, error) {
	return get[[]wire.Request](ctx, c, "/orders/"+esc(order)+"/requests")
}

// AskRequestAgain asks a partner again under the same reference.
func (c *Client) AskRequestAgain(ctx context.Context, number string) (wire.Request, error) {
	return post[wire.Request](ctx, c, "/requests/"+esc(number)+"/ask-again", nil)
}

// CallOffRequest asks a partner not to send what is left.
func (c *Client) CallOffRequest(ctx context.Context, number, reason string) (wire.Request, error) {
	return post[wire.Request](ctx, c, "/requests/"+esc(number)+"/call-off", map[string]string{"reason": reason})
}

// SayOfRequest tells what a partner said by telephone or letter.
func (c *Client) SayOfRequest(ctx context.Context, number string, said partners.SaidByHand) (wire.Request, error) {
	return post[wire.Request](ctx, c, "/requests/"+esc(number)+"/say", said)
}

// RequestSent tells of a parcel that a partner sent.
func (c *Client) RequestSent(ctx context.Context, number string, sent partners.SentByHand) (wire.Request, error) {
	return post[wire.Request](ctx, c, "/requests/"+esc(number)+"/sent", sent)
}

// AskPartners asks partners for what is placed with them of an order.
func (c *Client) AskPartners(ctx context.Context, order string) ([]wire.Request, error) {
	return post[[]wire.Request](ctx, c, "/orders/"+esc(order)+"/ask-partners", nil)
}

// LetSend lets a place be asked again that refused to send an order.
func (c *Client) LetSend(ctx context.Context, order, place string) ([]wire.Request, error) {
	return post[[]wire.Request](ctx, c, "/orders/"+esc(order)+"/let-send", map[string]string{"place": place})
}
