package draft

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
)

const ordersPage = `{"meta": {"count": 2}, "orders": [
 {"id": 881, "orderNo": "W-881", "status": "paid", "createdAt": "2026-11-23T07:27:12Z", "updatedAt": "2026-11-23T07:30:00Z",
  "currency": "EUR", "customer": {"name": "Maren Tolland", "email": "maren@example.test"},
  "shippingAddress": {"name": "Maren Tolland", "street": "Lindenrow 14", "zip": "41360", "city": "Harrowmere", "countryCode": "XW"},
  "items": [{"id": 1, "articleNumber": "HON-250", "name": "Honey", "qty": 2, "price": "9.50", "total": "19.00"}],
  "shippingCost": "4.90", "total": "23.90", "comment": "ring twice"},
 {"id": 882, "orderNo": "W-882", "status": "cancelled", "createdAt": "2026-11-23T08:00:00Z", "updatedAt": "2026-11-23T08:00:00Z",
  "currency": "EUR", "items": [{"id": 1, "articleNumber": "HON-500", "name": "Honey", "qty": 1, "price": "15.00", "total": "15.00"}],
  "total": "15.00"}]}`

// tried loads a draft and maps a sample by it.
func tried(t *testing.T, d Draft, kind message.Feed, sample string) (connector.Trial, map[string]string) {
	t.Helper()
	def, err := connector.Load("draft.yaml", []byte(d.Text), nil)
	require.NoError(t, err)
	line, err := connector.NewLine(def, connector.LineOptions{Base: connector.Nowhere})
	require.NoError(t, err)
	trial, err := line.Try(kind, []byte(sample))
	require.NoError(t, err)
	fields := map[string]string{}
	for _, f := range trial.Fields {
		fields[f.Path] = f.Value
	}
	return trial, fields
}

// TestDraftOfASample maps what it can tell from an answer, and the answer is taken by it as it stands.
func TestDraftOfASample(t *testing.T) {
	d, err := New(Wish{Code: "weftmarket", Title: "Weft Market", Address: "https://weft.example",
		Feeds: []Feed{{Kind: message.OrdersIn, Path: "/v2/orders", Sample: ordersPage}}})
	require.NoError(t, err)
	trial, got := tried(t, d, message.OrdersIn, ordersPage)
	require.Empty(t, trial.Mistake)
	require.Equal(t, 2, trial.Records)
	require.Equal(t, "881", trial.ID)
	for path, want := range map[string]string{"number": "W-881", "status": "open", "state": "paid", "currency": "EUR", "total": "2390",
		"shipping": "490", "buyer_email": "maren@example.test", "ship_to.postcode": "41360", "ship_to.town": "Harrowmere",
		"ship_to.country": "XW", "lines[0].sku": "HON-250", "lines[0].quantity": "2", "lines[0].unit_price": "950", "note": "ring twice",
		"placed_at": "2026-11-23T07:27:12Z"} {
		assert.Equal(t, want, got[path], path)
	}
	require.Contains(t, d.Text, "cancelled: cancelled")
	require.Contains(t, strings.Join(d.Open, "\n"), "tables.order_states: what each state means")
	require.Contains(t, strings.Join(d.Open, "\n"), "read.next")
}

// TestDraftOfOtherForms: XML and CSV are told apart, and a needed field that nothing seems to be is left open.
func TestDraftOfOtherForms(t *testing.T) {
	xml := `<list><offer><nr>7</nr><sku>HON-250</sku><label>Honey</label><price>9.50</price></offer>` +
		`<offer><nr>8</nr><sku>HON-500</sku><label>More</label><price>15.00</price></offer></list>`
	csv := "Article;Count;Store\nHON-250;12;north\nHON-500;3;north\n"
	for _, c := range []struct {
		kind   message.Feed
		sample string
		want   map[string]string
		says   []string
	}{
		{message.ListingsIn, xml, map[string]string{"sku": "HON-250", "title": "Honey", "price": "950"}, []string{"answer: xml",
			"items: offer"}},
		{message.StockIn, csv, map[string]string{"sku": "HON-250", "quantity": "12", "location": "north"}, []string{"answer: csv",
			"separator: ;"}},
	} {
		d, err := New(Wish{Code: "other", Feeds: []Feed{{Kind: c.kind, Sample: c.sample}}})
		require.NoError(t, err, c.sample)
		for _, s := range c.says {
			require.Contains(t, d.Text, s)
		}
		_, got := tried(t, d, c.kind, c.sample)
		for path, want := range c.want {
			assert.Equal(t, want, got[path], path)
		}
	}
	d, err := New(Wish{Code: "bare", Feeds: []Feed{{Kind: message.OrdersIn, Sample: `{"orders": [{"id": 1, "colour": "green"}]}`}}})
	require.NoError(t, err)
	require.Contains(t, d.Text, "where does it stand?")
	require.Contains(t, strings.Join(d.Open, "\n"), "orders in.map.lines: which list of the record it is")
}

// TestDraftsPassTheCheck in every way in which a system may let us in, with a sample and with nothing at all.
func TestDraftsPassTheCheck(t *testing.T) {
	for _, way := range []string{"", "token", "key", "password", "client", "consent", "files", "inbound"} {
		for _, side := range []string{"", "back office", "fulfiller", "carrier", "courier"} {
			_, err := New(Wish{Code: "any-one", Way: way, Side: side})
			if way == "files" {
				require.ErrorContains(t, err, "which files come in?")
				continue
			}
			require.NoError(t, err, way+side)
		}
		for _, kind := range kindsIn {
			d, err := New(Wish{Code: "any-one", Way: way, Feeds: []Feed{{Kind: kind}}})
			require.NoError(t, err, "%s %s", way, kind)
			require.NotEmpty(t, d.Open)
			d, err = New(Wish{Code: "any-one", Way: way, Feeds: []Feed{{Kind: kind, Sample: ordersPage}}})
			require.NoError(t, err, "%s %s\n%s", way, kind, d.Text)
		}
	}
	for _, wrong := range []Wish{{Code: "Bad Code"}, {Code: "hedgerow"}, {Code: "x-y", Way: "magic"},
		{Code: "x-y", Feeds: []Feed{{Kind: "stock out"}}}, {Code: "x-y", Feeds: []Feed{{Kind: message.OrdersIn, Sample: "{"}}},
		{Code: "x-y", OpenAPI: "swagger: '2.0'"}, {Code: "x-y", OpenAPI: "{"}} {
		_, err := New(wrong)
		require.Error(t, err, "%+v", wrong)
	}
}

const document = `
openapi: 3.0.3
info: { title: Bramblegate, version: "2" }
servers: [ { url: "https://api.bramblegate.example/v2/" } ]
components:
  securitySchemes: { key: { type: apiKey, in: header, name: X-Gate-Key } }
  schemas:
    Address: { type: object, properties: { name: { type: string }, street: { type: string }, zip: { type: string }, city: { type: string },
      country_code: { type: string, example: XW } } }
    Row: { type: object, properties: { id: { type: integer }, sku: { type: string, example: HON-250 }, name: { type: string },
      quantity: { type: integer }, price: { type: string, example: "9.50" }, parent: { $ref: "#/components/schemas/Row" } } }
    Sale:
      allOf:
        - { type: object, properties: { id: { type: integer }, number: { type: string, example: B-7 } } }
        - type: object
          properties:
            status: { type: string, enum: [awaiting, paid, sent, cancelled] }
            currency: { type: string, example: EUR }
            created_at: { type: string, format: date-time }
            updated_at: { type: string, format: date-time }
            delivery_address: { $ref: "#/components/schemas/Address" }
            rows: { type: array, items: { $ref: "#/components/schemas/Row" } }
            total: { type: string, example: "9.50" }
paths:
  /account: { get: { responses: { "200": { description: ok, content: { application/json: { schema: { type: object, properties: {
    name: { type: string } } } } } } } } }
  /orders:
    get:
      parameters:
        - { name: updated_since, in: query, schema: { type: string } }
        - { name: page, in: query, schema: { type: integer } }
        - { name: per_page, in: query, schema: { type: integer, maximum: 100 } }
      responses: { "200": { description: ok, content: { application/json: { schema: { type: object, properties: { data: { type: array,
        items: { $ref: "#/components/schemas/Sale" } } } } } } } }
  /orders/{id}/shipments:
    post:
      requestBody: { content: { application/json: { schema: { type: object, required: [tracking_number, notify], properties: {
        tracking_number: { type: string }, carrier: { type: string }, notify: { type: boolean } } } } } }
      responses: { "201": { description: made } }
  /listings/{id}/stock:
    put:
      requestBody: { content: { application/json: { schema: { type: object, properties: { quantity: { type: integer } } } } } }
      responses: { "200": { description: ok } }
`

// TestDraftOfADocument: what an OpenAPI document tells of access, lists, paging, states and what is taken.
func TestDraftOfADocument(t *testing.T) {
	d, err := New(Wish{Code: "bramblegate", OpenAPI: document})
	require.NoError(t, err)
	for _, says := range []string{"title: Bramblegate", "default: https://api.bramblegate.example/v2", "X-Gate-Key: secret.key",
		"path: /orders", "items: data", "page: page", "size: 100", "size_as: per_page", "updated_since: mark", "mark: item.updated_at",
		"awaiting: pending", "paid: open", "sent: shipped", "cancelled: cancelled", "path: /orders/{msg.order_id}/shipments",
		"tracking_number: msg.tracking", "path: /listings/{msg.outside_id}/stock", "quantity: msg.quantity", "path: /account"} {
		assert.Contains(t, d.Text, says)
	}
	require.Contains(t, strings.Join(d.Open, "\n"), `it wants "notify"`)
	_, got := tried(t, d, message.OrdersIn, `{"data": [{"id": 4, "number": "B-4", "status": "sent", "currency": "EUR",
		"created_at": "2026-11-23T07:27:12Z", "updated_at": "2026-11-23T07:27:12Z", "total": "9.50",
		"delivery_address": {"name": "Maren Tolland", "zip": "41360", "city": "Harrowmere", "country_code": "XW"},
		"rows": [{"id": 1, "sku": "HON-250", "name": "Honey", "quantity": 1, "price": "9.50"}]}]}`)
	require.Equal(t, "shipped B-4 HON-250 950 41360", strings.Join([]string{got["status"], got["number"], got["lines[0].sku"],
		got["lines[0].unit_price"], got["ship_to.postcode"]}, " "))
	elsewhere, err := New(Wish{Code: "bramblegate", OpenAPI: strings.Replace(document, `"#/components/schemas/Sale"`,
		`"http://elsewhere.example/sale.json"`, 1)})
	require.Error(t, err, elsewhere.Text)
}

// FuzzDraft: whatever is given as a sample, what is written passes the check, or the sample is refused.
func FuzzDraft(f *testing.F) {
	for _, s := range []string{ordersPage, "a;b\n1;2", "<a><b>1</b></a>", `[{"id":{"id":[{"x":1}]}}]`, `{"items":[{"a b":1}]}`} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, sample string) {
		for _, kind := range []message.Feed{message.OrdersIn, message.StockIn} {
			d, err := New(Wish{Code: "any-one", Feeds: []Feed{{Kind: kind, Sample: sample}}})
			if err != nil && !strings.HasPrefix(err.Error(), string(kind)+": the sample") {
				t.Fatalf("%v\n%s", err, d.Text)
			}
		}
	})
}
