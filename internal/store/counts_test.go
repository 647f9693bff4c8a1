package store

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
)

// anOrder makes up an order of any stage, kind, place and time.
func anOrder(rng *rand.Rand, id int64) *order.Order {
	at := now.Add(time.Duration(rng.IntN(400)) * time.Minute)
	o := &order.Order{ID: id, Number: fmt.Sprintf("R%d", id), ConnectionID: 1 + rng.Int64N(3), OutsideID: fmt.Sprint("o", id), Version: 1,
		ReceivedAt: at, Via: []string{"push", "poll", "hand"}[rng.IntN(3)], Revision: 1, Test: rng.IntN(9) == 0, Voided: rng.IntN(9) == 0,
		Record: message.Order{Number: fmt.Sprintf("MH-%d", id), State: "confirmed", Status: message.Open,
			Currency: []string{"EUR", "XTS"}[rng.IntN(2)], Total: rng.Int64N(9000), BuyerName: "Maren Tolland"}}
	if o.Via == "hand" {
		o.TypedBy = []string{"Edda", "Ilka"}[rng.IntN(2)]
	}
	if rng.IntN(4) > 0 {
		o.Record.PlacedAt = at.Add(-time.Duration(rng.IntN(100)) * time.Minute)
	}
	for i := range 1 + rng.IntN(2) {
		l := order.Line{ID: order.LineID(id, i+1), Position: i + 1, OutsideID: fmt.Sprint("L", i), SKU: "JAR", ItemID: 1, Quantity: 2}
		switch rng.IntN(5) {
		case 0:
			l.Cancelled = 2
		case 1:
			l.Shipped = 2
			o.ShippedAt = at.Add(time.Hour)
			o.Delivered = rng.IntN(2) == 0
		case 2: // it waits
		default:
			l.Allocations = []order.Allocation{{Location: 1, Quantity: 1}, {Location: 2, Quantity: 1}}
			l.Allocated = 2
		}
		o.Lines = append(o.Lines, l)
	}
	return o
}

// TestNewOrdersAreCountedAsTheyAre: what is kept for pages is what counting all orders anew gives, whichever way they came
// and in whatever batches.
func TestNewOrdersAreCountedAsTheyAre(t *testing.T) {
	s := open(t)
	company(t, s)
	rng := rand.New(rand.NewPCG(3, 5))
	id := int64(0)
	for range 40 {
		write(t, s, func(tx *Tx) error {
			var list []*order.Order
			for range 1 + rng.IntN(12) {
				id++
				list = append(list, anOrder(rng, id))
			}
			return tx.InsertOrders(list)
		})
	}
	for kept, counted := range map[string]string{
		"SELECT stage, connection_id, n FROM order_count": "SELECT stage, connection_id, count(*) FROM orders GROUP BY 1, 2",
		"SELECT what, quarter, connection_id, n FROM order_quarter": `SELECT 'received', received_at/900000000, connection_id, count(*)
			FROM orders GROUP BY 2, 3 UNION ALL SELECT stage, max(shipped_at, received_at)/900000000, connection_id, count(*) FROM orders
			WHERE stage IN ('shipped','delivered','cancelled') GROUP BY 1, 2, 3`,
		"SELECT location_id, what, n FROM place_count": `SELECT p.value, 'to pick', count(*) FROM orders o, json_each(o.places) p
			GROUP BY 1`,
		"SELECT quarter, connection_id, via, typed_by, currency, n, total, cancelled FROM order_sum": `SELECT placed_at/900000000,
			connection_id, via, typed_by, currency, sum(stage<>'cancelled'), sum(CASE WHEN stage<>'cancelled' THEN total ELSE 0 END),
			sum(stage='cancelled') FROM orders WHERE test=0 AND kind<>'summary' AND stage<>'void' GROUP BY 1, 2, 3, 4, 5`,
	} {
		var differ, rows int64
		require.NoError(t, s.read.GetContext(t.Context(), &rows, "SELECT count(*) FROM ("+counted+")"))
		require.Greater(t, rows, int64(1), kept)
		all := "SELECT * FROM (" + counted + ")"
		for _, q := range []string{kept + " EXCEPT " + all, all + " EXCEPT " + kept} {
			require.NoError(t, s.read.GetContext(t.Context(), &differ, "SELECT count(*) FROM ("+q+")"))
			require.Zero(t, differ, q)
		}
	}
}

// TestOrdersOfOneBatchAreOneCount: a batch touches a few rows of counts, however many orders are in it.
func TestOrdersOfOneBatchAreOneCount(t *testing.T) {
	var n newOrderCounts
	rng := rand.New(rand.NewPCG(1, 1))
	for i := range int64(1000) {
		o := anOrder(rng, i+1)
		o.ConnectionID, o.ReceivedAt, o.ShippedAt, o.Record.PlacedAt = 1, now, now, now
		o.Via, o.TypedBy, o.Record.Currency = "push", "", "EUR"
		n.add(o)
	}
	require.LessOrEqual(t, len(n.stages.keys), 8)
	require.LessOrEqual(t, len(n.quarters.keys), 4)
	require.Len(t, n.picks.keys, 2)
	require.LessOrEqual(t, len(n.sums.keys), 2)
}
