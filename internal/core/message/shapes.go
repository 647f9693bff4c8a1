package message

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"time"

	"openrelay/internal/core/place"
)

// Shape is a message that outside systems may hand to us, with an example of it.
type Shape struct {
	Name    string // as in the topic of a hand-in
	About   string
	Example any
}

// Shapes lists the messages whose form is published, each with a made-up example.
func Shapes() []Shape {
	at := time.Date(2026, 11, 23, 7, 27, 12, 0, time.UTC)
	home := place.Address{Name: "Maren Tolland", Street: "Lindenrow 14", Postcode: "41360", Town: "Harrowmere", Country: "XW",
		Email: "maren.tolland@example.test"}
	return []Shape{
		{"order", "What a buyer bought on a channel.",
			&Order{Number: "MH-1024", State: "confirmed", Status: Open, PlacedAt: at, ChangedAt: at, Currency: "EUR",
				PricesIncludeTax: true,
				BuyerName:        "Maren Tolland", BuyerEmail: "maren.tolland@example.test", ShipTo: home, Shipping: 490, Tax: 478,
				Total: 2870, Payment: "card", Paid: true, RequestedService: "standard",
				Lines: []OrderLine{{ID: "1", SKU: "JAR-500-T12", Title: "Glass jars 500 g, tray of 12", Quantity: 2, UnitPrice: 1190,
					Tax: 397, Total: 2380}}}},
		{"item", "A thing sold.", &Item{SKU: "SMOKER-M", Name: "Smoker, medium", GTIN: "2007100014508", Category: "Tools", WeightG: 780,
			LengthMM: 260, WidthMM: 130, HeightMM: 140, Price: 2990, Currency: "EUR"}},
		{"listing", "An item as one channel knows it.",
			&Listing{SKU: "SMOKER-M", Title: "Smoker, medium", GTIN: "2007100014508", Price: 2990, Currency: "EUR", Quantity: 12,
				Live: true}},
		{"stock_level", "A quantity that lies somewhere.", &StockLevel{SKU: "SMOKER-M", Quantity: 40, Location: "alder", At: at,
			Who: "count of the back office"}},
		{"dispatch", "A parcel with part or all of an order has left.",
			&Dispatch{Reference: "bo-7715", OrderNumber: "MH-1024", Carrier: "Plover Post", Service: "PP", Tracking: "PP123456785XW",
				ShippedAt: at,
				Lines:     []DispatchLine{{SKU: "JAR-500-T12", Quantity: 2}}}},
		{"request_state", "What a partner says of something that it was asked to send.",
			&RequestState{Reference: "MH-Q10012", State: "changed", Expected: "2026-11-26", Reason: "one tray is broken",
				Lines: []RequestStateLine{{SKU: "JAR-500-T12", Quantity: 1}}}},
		{"bill_line", "A line of what a partner bills.",
			&BillLine{Bill: "F-2026-11", Request: "MH-Q10012", What: "handling", Amount: 240, Currency: "EUR"}},
		{"return", "Goods of an order come back.",
			&Return{Number: "RET-77", OrderNumber: "MH-1024", Reason: "one is chipped", Tracking: "PP999456785XW", AnnouncedAt: at,
				Lines: []ReturnLine{{SKU: "JAR-500-T12", Quantity: 1}}}},
		{"customer", "Somebody who buys.", &Customer{Number: "C-204", Name: "Maren Tolland", Email: "maren.tolland@example.test",
			Address: home}},
		{
			"receipt",
			"What became of something that was sent and is answered later.",
			&Receipt{Reference: "MH10240001", Taken: true, At: at},
		},
		{"tracking_event", "An event on a parcel's way.", &Tracking{Tracking: "PP123456785XW", State: "under way",
			Text: "Sorted at Greywick", At: at}},
	}
}

// Schema is the JSON Schema (2020-12) of a message, made from its Go type.
func (s Shape) Schema() map[string]any {
	out := schemaOf(reflect.TypeOf(s.Example).Elem())
	out["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	out["title"] = s.Name
	out["description"] = s.About + " Amounts are whole minor units of the currency, weights grams, lengths millimetres, times RFC 3339."
	out["examples"] = []any{s.Example}
	return out
}

func schemaOf(t reflect.Type) map[string]any {
	switch {
	case t == reflect.TypeFor[time.Time]():
		return map[string]any{"type": "string", "format": "date-time"}
	case t == reflect.TypeFor[Status]():
		return map[string]any{"type": "string", "enum": []Status{Pending, Open, Shipped, Cancelled}}
	case t == reflect.TypeFor[Kind]():
		return map[string]any{"type": "string", "enum": Kinds}
	}
	switch t.Kind() {
	case reflect.String:
		return map[string]any{"type": "string"}
	case reflect.Int64:
		return map[string]any{"type": "integer"}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Slice:
		return map[string]any{"type": "array", "items": schemaOf(t.Elem())}
	case reflect.Struct:
	default:
		panic(fmt.Sprintf("a message holds a %s", t))
	}
	props, required := map[string]any{}, []string{}
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if name == "" || name == "-" {
			continue
		}
		p := schemaOf(f.Type)
		if doc := f.Tag.Get("doc"); doc != "" {
			p["description"] = doc
		}
		if enum := f.Tag.Get("enum"); enum != "" {
			p["enum"] = strings.Split(enum, ",")
		}
		props[name] = p
		if f.Tag.Get("need") == "yes" {
			required = append(required, name)
		}
	}
	out := map[string]any{"type": "object", "properties": props, "additionalProperties": false}
	if len(required) > 0 {
		out["required"] = required
	}
	return out
}

// SchemaText is the schema as indented JSON.
func (s Shape) SchemaText() ([]byte, error) {
	b, err := json.MarshalIndent(s.Schema(), "", "  ")
	return append(b, '\n'), err
}
