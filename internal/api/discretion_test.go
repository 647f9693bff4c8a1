package api_test

import (
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/person"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/trial"
)

// private are words that only those may read who may see buyers: of a name, a street, a telephone, a voucher, a note.
var private = []string{"Sorrel", "Quandry", "Mossgate", "555-0199", "sorrel@buyer.example", "GIFT-77-K", "leave it with the hens"}

// privateOrder is an order that holds all of them.
func privateOrder(number string) message.Order {
	o := trial.Sale(number, trial.Units("JAR", 1))
	o.BuyerName = "Sorrel Quandry"
	o.ShipTo.Name, o.ShipTo.Street, o.ShipTo.Phone, o.ShipTo.Email = "Sorrel Quandry", "Mossgate 3", "555-0199", "sorrel@buyer.example"
	o.Note = "leave it with the hens"
	o.Vouchers = []message.Voucher{{Code: "GIFT-77-K", Amount: 100}}
	o.Total -= 100
	return o
}

// TestNothingPrivateIsTold reads every page as a viewer after texts of all kinds quoted what is private: what the other side
// answered, what people wrote, what did not go well.
func TestNothingPrivateIsTold(t *testing.T) {
	d := newDesk(t, "ann")
	ctx := t.Context()
	d.Stock(9, "JAR")
	d.Take("stall", trial.Event("order", "S-1", 1, privateOrder("S-1")), trial.Event("order", "S-2", 1, privateOrder("S-2")))
	_, err := d.Act(ctx, orders.Bulk{Action: orders.Hold, Value: "Sorrel called", Orders: []string{"S-1"}}, "Edda")
	require.NoError(t, err)
	d.Settle()
	require.Equal(t, string(order.Held), d.Stage("S-1"))
	to := trial.Address
	to.Name, to.Street = "Sorrel Quandry", "Mossgate 4"
	require.NoError(t, d.Readdress(ctx, "S-2", to, "Edda", 0))
	shipment := d.Packed("S-2")
	require.NoError(t, d.Label(shipment, "ann"))
	for _, quote := range []string{
		"UPDATE exception SET text=text||' '||?1", "UPDATE outbox SET error=?1", "UPDATE parcel SET error=?1",
		"UPDATE run SET error=?1", "UPDATE feed SET last_error=?1",
		"INSERT INTO run_log (run_id, at, level, text) SELECT id, 1, 'error', ?1 FROM run",
		`INSERT INTO exception (cause, subject, text, expected, order_id, connection_id, opened_at)
			SELECT 'write-back refused', ?1, ?1, 'x', 1, connection_id, 1 FROM feed`,
	} {
		d.Spoil(quote, strings.Join(private, " "))
	}
	pages := 0
	for route := range d.routes() {
		method, path, _ := strings.Cut(route, " ")
		if method != http.MethodGet || !slices.Contains(d.letIn(route), "viewer") {
			continue
		}
		for _, value := range []string{"S-1", "S-2", shipment, "1", "2", "stall", "ann", "JAR", "items"} {
			page := parameter.ReplaceAllString(path, value)
			told := d.ask(person.Viewer, method, page, "").Body.String()
			for _, word := range private {
				require.NotContains(t, told, word, page)
			}
			pages++
			if page == path {
				break
			}
		}
	}
	require.Greater(t, pages, 200)
	for _, page := range []string{"/orders/S-1", "/exceptions", "/activity", "/runs", "/shipments", "/orders"} {
		require.Contains(t, d.ask(person.Clerk, http.MethodGet, "/api/v1"+page, "").Body.String(), "Sorrel", page)
	}
	for _, search := range []string{"Sorrel", "Mossgate", "GIFT-77-K", "555-0199"} {
		require.JSONEq(t, `[]`, d.ask(person.Viewer, http.MethodGet, "/api/v1/orders?q="+search, "").Body.String(), search)
	}
}
