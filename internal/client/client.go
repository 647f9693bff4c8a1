// Package client is the typed client of the relay's HTTP interface. The command line is built on it,
// and the tests drive the service with it. The types are those of the interface itself.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"openrelay/internal/core/freight"
	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/returning"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

// Client speaks to one service.
type Client struct {
	Server string // such as http://127.0.0.1:8410
	Token  string // API token
	HTTP   *http.Client
}

// New makes a client.
func New(server, token string) *Client {
	return &Client{Server: strings.TrimRight(server, "/"), Token: token, HTTP: &http.Client{Timeout: 30 * time.Second}}
}

// Problem is an answer that is not a success (RFC 9457).
type Problem struct {
	Status int    `json:"status"`
	Title  string `json:"title"`
	Detail string `json:"detail"`
	Errors []struct {
		Message  string `json:"message"`
		Location string `json:"location"`
	} `json:"errors"`
}

func (p *Problem) Error() string {
	text := p.Detail
	if text == "" {
		text = p.Title
	}
	if p.Status == http.StatusUnprocessableEntity {
		for _, e := range p.Errors {
			text += fmt.Sprintf("; %s: %s", e.Location, e.Message)
		}
	}
	return text
}

// StatusOf returns the HTTP status of a problem, or 0.
func StatusOf(err error) int {
	var p *Problem
	if errors.As(err, &p) {
		return p.Status
	}
	return 0
}

// Option changes a request.
type Option func(*http.Request)

// Key makes a request safe to repeat.
func Key(key string) Option { return func(r *http.Request) { r.Header.Set("Idempotency-Key", key) } }

// Match sends the revision that the caller has seen.
func Match(revision int64) Option {
	return func(r *http.Request) { r.Header.Set("If-Match", fmt.Sprintf("%q", fmt.Sprint(revision))) }
}

// Do sends a request below /api/v1 and decodes the answer into out, if out is not nil. It returns the
// query of the next page, if there is one.
func (c *Client) Do(ctx context.Context, method, path string, in, out any, opts ...Option) (next string, err error) {
	raw, header, err := c.Raw(ctx, method, "/api/v1"+path, in, opts...)
	if err != nil {
		return "", err
	}
	if out != nil && len(raw) > 0 {
		if err := json.Unmarshal(raw, out); err != nil {
			return "", fmt.Errorf("%s %s: the answer cannot be read: %w", method, path, err)
		}
	}
	if target, _, ok := strings.Cut(header.Get("Link"), ">"); ok {
		if u, err := url.Parse(strings.TrimPrefix(target, "<")); err == nil {
			next = u.RawQuery
		}
	}
	return next, nil
}

// mostRead is how long an answer may be that is read as a whole; tables are streamed.
const mostRead = 64 << 20

// Raw sends a request and returns the body of the answer.
func (c *Client) Raw(ctx context.Context, method, path string, in any, opts ...Option) ([]byte, http.Header, error) {
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return nil, nil, err
		}
		body = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.Server+path, body)
	if err != nil {
		return nil, nil, fmt.Errorf("server %q: %w", c.Server, err)
	}
	if in != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if c.Token != "" {
		req.Header.Set("Authorization", "Bearer "+c.Token)
	}
	for _, o := range opts {
		o(req)
	}
	res, err := c.HTTP.Do(req)
	if err != nil {
		return nil, nil, fmt.Errorf("the service at %s cannot be reached: %w", c.Server, errors.Unwrap(err))
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, mostRead+1))
	if err != nil {
		return nil, nil, fmt.Errorf("%s %s: the answer broke off: %w", method, path, err)
	}
	if len(raw) > mostRead {
		return nil, nil, fmt.Errorf("%s %s: the answer has more than %d MB; nothing of it was taken", method, path, mostRead>>20)
	}
	if res.StatusCode >= 300 {
		return nil, nil, problemOf(res.StatusCode, raw)
	}
	return raw, res.Header, nil
}

func problemOf(status int, raw []byte) error {
	p := &Problem{Status: status, Title: http.StatusText(status)}
	_ = json.Unmarshal(raw, p) // what is no problem document keeps the plain status
	return p
}

// slow is the client for large files: it waits as long as the context does.
func (c *Client) slow() *http.Client { return &http.Client{Transport: c.HTTP.Transport} }

func get[T any](ctx context.Context, c *Client, path string) (out T, err error) {
	_, err = c.Do(ctx, http.MethodGet, path, nil, &out)
	return out, err
}

func esc[T ~string](s T) string { return url.PathEscape(string(s)) }

// Orders lists a page of orders; query is like "stage=ready&limit=50".
func (c *Client) Orders(ctx context.Context, query string) (list []wire.OrderRow, next string, err error) {
	next, err = c.Do(ctx, http.MethodGet, "/orders?"+query, nil, &list)
	return list, next, err
}

// Order returns one order.
func (c *Client) Order(ctx context.Context, number string) (wire.Order, error) {
	return get[wire.Order](ctx, c, "/orders/"+esc(number))
}

// Board returns everything at a glance.
func (c *Client) Board(ctx context.Context) (wire.Board, error) {
	return get[wire.Board](ctx, c, "/board")
}

// Pick begins to pick an order and returns the shipment.
func (c *Client) Pick(ctx context.Context, order string) (string, error) {
	var out wire.ShipmentRef
	_, err := c.Do(ctx, http.MethodPost, "/orders/"+esc(order)+"/pick", nil, &out)
	return out.Shipment, err
}

// Shipment returns one shipment.
func (c *Client) Shipment(ctx context.Context, number string) (wire.ShipmentView, error) {
	return get[wire.ShipmentView](ctx, c, "/shipments/"+esc(number))
}

// Shipments lists shipments; query is like "state=packed".
func (c *Client) Shipments(ctx context.Context, query string) (list []wire.Shipment, err error) {
	return get[[]wire.Shipment](ctx, c, "/shipments?"+query)
}

// Scan scans a code for a shipment.
func (c *Client) Scan(ctx context.Context, shipment, code, bin string, quantity int64) (out wire.Scanned, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/shipments/"+esc(shipment)+"/scan",
		map[string]any{"code": code, "bin": bin, "quantity": quantity}, &out)
	return out, err
}

// Pack packs a shipment into a parcel of a profile.
func (c *Client) Pack(ctx context.Context, shipment, profile string, weight int64, serials map[string][]string) (out wire.ShipmentView,
	err error) {
	return c.PackUnits(ctx, shipment, wire.Packing{Carton: wire.Carton{Profile: profile, WeightG: weight, Serials: serials}})
}

// PackUnits packs units of a shipment into a parcel.
func (c *Client) PackUnits(ctx context.Context, shipment string, p wire.Packing) (out wire.ShipmentView, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/shipments/"+esc(shipment)+"/pack", p, &out)
	return out, err
}

// PlanOrder changes by hand which units of an order are sent, from where and when.
func (c *Client) PlanOrder(ctx context.Context, order string, p shipping.HandPlan) (out wire.Order, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/orders/"+esc(order)+"/plan", p, &out)
	return out, err
}

// Companions lists the open orders that may be sent together with an order.
func (c *Client) Companions(ctx context.Context, order string) ([]shipping.TravelCompanion, error) {
	return get[[]shipping.TravelCompanion](ctx, c, "/orders/"+esc(order)+"/companions")
}

// SendTogether lets an order travel together with others to the same recipient.
func (c *Client) SendTogether(ctx context.Context, order string, with ...string) (out []shipping.TravelCompanion, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/orders/"+esc(order)+"/together", map[string]any{"with": with}, &out)
	return out, err
}

// SendAlone lets an order travel alone again.
func (c *Client) SendAlone(ctx context.Context, order string) (out []shipping.TravelCompanion, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/orders/"+esc(order)+"/alone", nil, &out)
	return out, err
}

// Short says that units are not where they should lie.
func (c *Client) Short(ctx context.Context, shipment string, m shipping.Missing, opts ...Option) (out shipping.Shortage, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/shipments/"+esc(shipment)+"/short", m, &out, opts...)
	return out, err
}

// Proposal proposes cartons for what is left of a shipment.
func (c *Client) Proposal(ctx context.Context, shipment string) (shipping.CartonProposal, error) {
	return get[shipping.CartonProposal](ctx, c, "/shipments/"+esc(shipment)+"/proposal")
}

// TakeBack takes back that units were picked; quantity 0 means one.
func (c *Client) TakeBack(ctx context.Context, shipment, code string, quantity int64) (out wire.ShipmentView, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/shipments/"+esc(shipment)+"/take-back", map[string]any{"code": code, "quantity": quantity}, &out)
	return out, err
}

// Parcel returns one parcel, by its number or tracking number.
func (c *Client) Parcel(ctx context.Context, number string) (wire.ParcelView, error) {
	return get[wire.ParcelView](ctx, c, "/parcels/"+esc(number))
}

// Parcels lists parcels; query is like "state=packed".
func (c *Client) Parcels(ctx context.Context, query string) ([]wire.Parcel, error) {
	return get[[]wire.Parcel](ctx, c, "/parcels?"+query)
}

// Repack packs a parcel without a label into another carton.
func (c *Client) Repack(ctx context.Context, parcel string, carton wire.Carton) (out wire.ParcelView, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/parcels/"+esc(parcel)+"/repack", carton, &out)
	return out, err
}

// ActOnParcels does one thing to many parcels: ship parcels, unpack parcels, void labels.
func (c *Client) ActOnParcels(ctx context.Context, action orders.ActionKind, parcels ...string) (out orders.BulkDone, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/parcels/actions", map[string]any{"action": action, "parcels": parcels}, &out)
	return out, err
}

// TakeOut takes some units out of a parcel without a label.
func (c *Client) TakeOut(ctx context.Context, parcel string, units map[string]int64) (out wire.ParcelView, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/parcels/"+esc(parcel)+"/take-out", map[string]any{"units": units}, &out)
	return out, err
}

// CorrectAddress corrects where a packed parcel goes, for all orders in its carton.
func (c *Client) CorrectAddress(ctx context.Context, parcel string, to place.Address) (out wire.ParcelView, err error) {
	_, err = c.Do(ctx, http.MethodPut, "/parcels/"+esc(parcel)+"/address", to, &out)
	return out, err
}

// Unpack takes everything out of a parcel without a label.
func (c *Client) Unpack(ctx context.Context, parcel string) (out wire.ParcelView, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/parcels/"+esc(parcel)+"/unpack", nil, &out)
	return out, err
}

// VoidLabel voids the label of a parcel that has not left the place yet; byHand: a person had it voided at the carrier.
func (c *Client) VoidLabel(ctx context.Context, parcel string, byHand bool) (out wire.ParcelView, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/parcels/"+esc(parcel)+"/void", map[string]bool{"by_hand": byHand}, &out)
	return out, err
}

// KeepLabel says that a label that is being voided stays.
func (c *Client) KeepLabel(ctx context.Context, parcel string) (out wire.ParcelView, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/parcels/"+esc(parcel)+"/keep", nil, &out)
	return out, err
}

// Rates compares the carriers' services for a packed parcel.
func (c *Client) Rates(ctx context.Context, parcel string) ([]shipping.Rate, error) {
	return get[[]shipping.Rate](ctx, c, "/parcels/"+esc(parcel)+"/rates")
}

// Ship buys the label of a packed parcel.
func (c *Client) Ship(ctx context.Context, parcel, carrier, service string, opts ...Option) (out wire.ParcelView, err error) {
	return c.Buy(ctx, parcel, shipping.Purchase{Carrier: carrier, Service: service}, opts...)
}

// Buy buys the label of a parcel at a price that was known; one that costs otherwise is bought, and that is said on its order.
func (c *Client) Buy(ctx context.Context, parcel string, by shipping.Purchase, opts ...Option) (out wire.ParcelView, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/parcels/"+esc(parcel)+"/ship", by, &out, opts...)
	return out, err
}

// Rounds lists rounds; query is like "state=picking".
func (c *Client) Rounds(ctx context.Context, query string) ([]wire.Round, error) {
	return get[[]wire.Round](ctx, c, "/rounds?"+query)
}

// Round returns one round with what is collected in it.
func (c *Client) Round(ctx context.Context, number string) (wire.RoundView, error) {
	return get[wire.RoundView](ctx, c, "/rounds/"+esc(number))
}

// MakeRound lets orders be picked in one walk.
func (c *Client) MakeRound(ctx context.Context, n shipping.NewRound, opts ...Option) (out wire.RoundView, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/rounds", n, &out, opts...)
	return out, err
}

// TakeRound picks a round; over takes it over from who picks it.
func (c *Client) TakeRound(ctx context.Context, number string, over bool) (out wire.RoundView, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/rounds/"+esc(number)+"/take", map[string]bool{"over": over}, &out)
	return out, err
}

// ScanRound scans a bin or a product in a round.
func (c *Client) ScanRound(ctx context.Context, number string, s shipping.RoundScan, opts ...Option) (out wire.RoundView, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/rounds/"+esc(number)+"/scan", s, &out, opts...)
	return out, err
}

// TakeBackRound takes back that units were picked into a slot.
func (c *Client) TakeBackRound(ctx context.Context, number string, s shipping.RoundScan) (out wire.RoundView, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/rounds/"+esc(number)+"/take-back", s, &out)
	return out, err
}

// ShortRound says that units are not where they should lie.
func (c *Client) ShortRound(ctx context.Context, number string, m shipping.Missing) (out shipping.Shortage, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/rounds/"+esc(number)+"/short", m, &out)
	return out, err
}

// LeaveRound takes a shipment off a round.
func (c *Client) LeaveRound(ctx context.Context, number string, slot int) (out wire.RoundView, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/rounds/"+esc(number)+"/leave", map[string]int{"slot": slot}, &out)
	return out, err
}

// TakeRoundApart ends a round; its shipments are picked by themselves.
func (c *Client) TakeRoundApart(ctx context.Context, number string) (out wire.RoundView, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/rounds/"+esc(number)+"/take-apart", nil, &out)
	return out, err
}

// Services tells by which service parcels go.
func (c *Client) Services(ctx context.Context) (wire.ServiceTable, error) {
	return get[wire.ServiceTable](ctx, c, "/services")
}

// PutServices replaces the table of services.
func (c *Client) PutServices(ctx context.Context, rows []freight.Choice) (out wire.ServiceTable, err error) {
	_, err = c.Do(ctx, http.MethodPut, "/services", map[string]any{"rows": rows}, &out)
	return out, err
}

// RoundRules lists the rules by which rounds are made.
func (c *Client) RoundRules(ctx context.Context) ([]store.RoundRule, error) {
	return get[[]store.RoundRule](ctx, c, "/round-rules")
}

// PutRoundRule sets a rule for rounds.
func (c *Client) PutRoundRule(ctx context.Context, code string, x store.RoundRule) (out store.RoundRule, err error) {
	_, err = c.Do(ctx, http.MethodPut, "/round-rules/"+esc(code), map[string]any{"name": x.Name, "location": x.Location, "slots": x.Slots,
		"services": x.Services, "units": x.Units, "today": x.Today}, &out)
	return out, err
}

// DropRoundRule removes a rule for rounds.
func (c *Client) DropRoundRule(ctx context.Context, code string) error {
	_, err := c.Do(ctx, http.MethodDelete, "/round-rules/"+esc(code), nil, nil)
	return err
}

// Returns lists goods that come back; query is like "state=arrived".
func (c *Client) Returns(ctx context.Context, query string) ([]wire.Return, error) {
	return get[[]wire.Return](ctx, c, "/returns?"+query)
}

// Return returns one return, by its number or that of the parcel in which it comes.
func (c *Client) Return(ctx context.Context, number string) (wire.ReturnView, error) {
	return get[wire.ReturnView](ctx, c, "/returns/"+esc(number))
}

// AnnounceReturn notes that goods of an order come back, or are here.
func (c *Client) AnnounceReturn(ctx context.Context, n returning.NewReturn, opts ...Option) (out wire.ReturnView, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/returns", n, &out, opts...)
	return out, err
}

// ScanReturn takes in units that came back.
func (c *Client) ScanReturn(ctx context.Context, number string, g returning.Returned, opts ...Option) (out wire.ReturnView, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/returns/"+esc(number)+"/scan", g, &out, opts...)
	return out, err
}

// MoveReturned decides anew on units that came back, or takes a scan back.
func (c *Client) MoveReturned(ctx context.Context, number string, m returning.MovedReturn, opts ...Option) (out wire.ReturnView,
	err error) {
	_, err = c.Do(ctx, http.MethodPost, "/returns/"+esc(number)+"/move", m, &out, opts...)
	return out, err
}

// SettleReturn decides what the buyer gets back.
func (c *Client) SettleReturn(ctx context.Context, number string, s returning.Settlement,
	opts ...Option) (out wire.ReturnView, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/returns/"+esc(number)+"/settle", s, &out, opts...)
	return out, err
}

// ExchangeReturn sends something in place of what comes back.
func (c *Client) ExchangeReturn(ctx context.Context, number string, x returning.Exchange) (out wire.ReturnView, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/returns/"+esc(number)+"/exchange", x, &out)
	return out, err
}

// CallOffReturn ends a return of which nothing came.
func (c *Client) CallOffReturn(ctx context.Context, number string) (out wire.ReturnView, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/returns/"+esc(number)+"/call-off", nil, &out)
	return out, err
}

// Stock lists levels.
func (c *Client) Stock(ctx context.Context, query string) ([]wire.Level, error) {
	return get[[]wire.Level](ctx, c, "/stock?"+query)
}

// Item returns an item with stock, ledger and listings.
func (c *Client) Item(ctx context.Context, sku string) (wire.ItemView, error) {
	return get[wire.ItemView](ctx, c, "/items/"+esc(sku))
}

// Items lists items.
func (c *Client) Items(ctx context.Context, query string) ([]store.Item, error) {
	return get[[]store.Item](ctx, c, "/items?"+query)
}

// Adjust changes what lies at a location.
func (c *Client) Adjust(ctx context.Context, sku, location string, change int64, reason string, opts ...Option) (out wire.ItemView,
	err error) {
	_, err = c.Do(ctx, http.MethodPost, "/items/"+esc(sku)+"/adjust", map[string]any{"location": location, "change": change,
		"reason": reason}, &out, opts...)
	return out, err
}

// Why explains the quantity a channel shows.
func (c *Client) Why(ctx context.Context, connection, sku string) (wire.OfferView, error) {
	return get[wire.OfferView](ctx, c, "/connections/"+esc(connection)+"/listings/"+esc(sku)+"/why")
}

// Connections lists the connections.
func (c *Client) Connections(ctx context.Context) ([]wire.Connection, error) {
	return get[[]wire.Connection](ctx, c, "/connections")
}

// Connection returns one connection.
func (c *Client) Connection(ctx context.Context, code string) (wire.Connection, error) {
	return get[wire.Connection](ctx, c, "/connections/"+esc(code))
}

// Test asks the other side of a connection who we are there.
func (c *Client) Test(ctx context.Context, code string) (out message.Identity, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/connections/"+esc(code)+"/test", nil, &out)
	return out, err
}

// SetFeed switches a feed; the revision is the one seen.
func (c *Client) SetFeed(ctx context.Context, code string, kind message.Feed, on bool, schedule string,
	revision int64) (out wire.Connection, err error) {
	_, err = c.Do(ctx, http.MethodPatch, "/connections/"+esc(code)+"/feeds/"+esc(kind), map[string]any{"on": on, "schedule": schedule},
		&out, Match(revision))
	return out, err
}

// Pause pauses or resumes a connection; the revision is the one seen.
func (c *Client) Pause(ctx context.Context, code string, paused bool, revision int64) (out wire.Connection, err error) {
	_, err = c.Do(ctx, http.MethodPatch, "/connections/"+esc(code), map[string]any{"paused": paused}, &out, Match(revision))
	return out, err
}

// RunNow runs a feed now, from a time on if one is given.
func (c *Client) RunNow(ctx context.Context, code string, kind message.Feed, from string) (int64, error) {
	var out wire.RunRef
	_, err := c.Do(ctx, http.MethodPost, "/connections/"+esc(code)+"/feeds/"+esc(kind)+"/run", map[string]any{"from": from}, &out)
	return out.Run, err
}

// Runs lists runs.
func (c *Client) Runs(ctx context.Context, query string) ([]wire.Run, error) {
	return get[[]wire.Run](ctx, c, "/runs?"+query)
}

// Run returns one run with its log.
func (c *Client) Run(ctx context.Context, id int64) (wire.RunLog, error) {
	return get[wire.RunLog](ctx, c, fmt.Sprintf("/runs/%d", id))
}

// Manifests lists the carriers' lists per day.
func (c *Client) Manifests(ctx context.Context) ([]wire.Manifest, error) {
	return get[[]wire.Manifest](ctx, c, "/manifests")
}

// CloseManifest closes a carrier's day.
func (c *Client) CloseManifest(ctx context.Context, id int64) (out wire.Manifest, err error) {
	_, err = c.Do(ctx, http.MethodPost, fmt.Sprintf("/manifests/%d/close", id), nil, &out)
	return out, err
}

// Exceptions lists what needs a person, the same of it together.
func (c *Client) Exceptions(ctx context.Context) ([]wire.Exception, error) {
	return c.Groups(ctx, "limit=200")
}

// Activity lists what happened, newest first.
func (c *Client) Activity(ctx context.Context, query string) ([]wire.Entry, error) {
	return get[[]wire.Entry](ctx, c, "/activity?"+query)
}

// Profiles lists the parcel profiles.
func (c *Client) Profiles(ctx context.Context) ([]wire.Profile, error) {
	return get[[]wire.Profile](ctx, c, "/profiles")
}

// Release lets a held order go on.
func (c *Client) Release(ctx context.Context, order, cause string) (out wire.Order, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/orders/"+esc(order)+"/release", map[string]any{"cause": cause}, &out)
	return out, err
}

// SendAgain puts a refused message back into the queue.
func (c *Client) SendAgain(ctx context.Context, id int64) error {
	_, err := c.Do(ctx, http.MethodPost, fmt.Sprintf("/outbox/%d/send-again", id), nil, nil)
	return err
}

// PDF fetches a paper: the path is below /api/v1 and ends in .pdf.
func (c *Client) PDF(ctx context.Context, path string) ([]byte, error) {
	raw, _, err := c.Raw(ctx, http.MethodGet, "/api/v1"+path, nil)
	return raw, err
}

// Rows lists the rows of a setting that is a list.
func Rows[T any](ctx context.Context, c *Client, path string) ([]T, error) {
	out, err := get[struct{ Rows []T }](ctx, c, path)
	return out.Rows, err
}

// PutRows replaces the rows of a setting that is a list.
func PutRows[T any](ctx context.Context, c *Client, path string, rows []T) ([]T, error) {
	var out struct{ Rows []T }
	_, err := c.Do(ctx, http.MethodPut, path, map[string]any{"rows": rows}, &out)
	return out.Rows, err
}

// PutClaim notes how a claim about a parcel stands.
func (c *Client) PutClaim(ctx context.Context, parcel string, claim shipping.Claim) (out wire.ParcelView, err error) {
	_, err = c.Do(ctx, http.MethodPut, "/parcels/"+esc(parcel)+"/claim", claim, &out)
	return out, err
}

// DecideBill says of a line of a carrier's bill that it is right, that it is not, or of which parcel it is.
func (c *Client) DecideBill(ctx context.Context, id int64, say shipping.SayOfBill) error {
	_, err := c.Do(ctx, http.MethodPost, fmt.Sprintf("/bills/%d", id), say, nil)
	return err
}

// List gets a list.
func List[T any](ctx context.Context, c *Client, path string) ([]T, error) {
	return get[[]T](ctx, c, path)
}
