package store

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	addShipment = `INSERT INTO shipment (number, order_id, location_id, state, created_at) VALUES `
	addLines    = `INSERT INTO shipment_line (shipment_id, line_id, item_id, quantity, picked) VALUES `
	addParcel   = `INSERT INTO parcel (number, shipment_id, state, tracking, created_at) VALUES `
	addMessage  = `INSERT INTO outbox (connection_id, feed, subject, ref, payload, state, answer, created_at, next_at) VALUES `
)

// damages are ways to spoil a good file: the rule that notices, what is done, and what is said of it.
var damages = []struct {
	rule         int
	damage, says string
}{
	{1, "UPDATE level SET on_hand = on_hand + 1", "on hand 11, ledger 10"},
	{1, "UPDATE level SET allocated = 3", "open allocations 0"},
	{1, "UPDATE level SET on_order = 5", "5 on order, open purchase orders 0"},
	{1, "UPDATE level SET in_transit = 4", "4 in transit, open transfers 0"},
	{1, "DELETE FROM level", "has no level"},
	{1, "UPDATE movement SET after_on_hand = 99", "says 99 on hand"},
	{1, "UPDATE bin_level SET on_hand = 7", "10 on hand, 7 in its bins"},
	{2, "DROP INDEX orders_once; UPDATE orders SET outside_id = 'same'", "2 live orders"},
	{3, "UPDATE order_line SET shipped = 5", "1 ordered"},
	{3, "UPDATE order_line SET picked = 1", "allocations 0"},
	{3, "DELETE FROM order_line WHERE order_id = 1", "has no lines"},
	{3, "UPDATE order_line SET position = 2 WHERE order_id = 1", "does not lie with its order 1"},
	{3, `UPDATE orders SET test = 1 WHERE id = 1; INSERT INTO allocation VALUES (1025, 1, 1, 1, 1)`, "test order R1 holds stock"},
	{4, "UPDATE listing SET told_qty = 11", "the policy allows 10"},
	{4, "UPDATE listing SET told_qty = 10; " +
		"INSERT INTO share SELECT id, item_id, connection_id, 11, 0, 0, 1, 1 FROM listing", "the policy allows 10"},
	{5, "INSERT INTO goods_return (id, number, order_id, location_id, state, made_by, created_at) VALUES (1,'B1',1,1,'arrived','',1); " +
		"INSERT INTO goods_return_line VALUES (1,1025,1,1,0,0,1,0)", "of item 1 of line 1025, 1 came back and 0 left"},
	{5, "INSERT INTO goods_return (id, number, order_id, location_id, state, made_by, created_at) VALUES (1,'B1',1,1,'arrived','',1); " +
		"INSERT INTO goods_return_line VALUES (1,1025,1,1,0,1,0,0)", "of item 1 of order 1, 1 came back to stock, and 0 were booked"},
	{5, addShipment + "('S1', 1, 1, 'shipped', 1); " + addParcel + "('S1', 1, 'shipped', 'T1', 1); " +
		"INSERT INTO voided_label VALUES ((SELECT max(id) FROM parcel), 'T1', 'Ann', 9)", "parcel S1 left with label T1, which is voided"},
	{5, addShipment + "('S1', 1, 1, 'shipped', 1); " + addParcel + "('S1', 1, 'shipped', '', 1)", "parcel S1 left without a write-back"},
	{5, addShipment + "('S1', 1, 1, 'packed', 1); " + addParcel + "('S1', 1, 'packed', 'T1', 1), ('S1-2', 1, 'packed', 'T1', 1)",
		"tracking number T1 stands on 2 parcels"},
	{5, addShipment + "('S1', 1, 1, 'shipped', 1); " + addParcel + "('S1', 1, 'shipped', 'T1', 1), ('S2', 1, 'packed', '', 1); " +
		"UPDATE parcel SET travels_in = 1 WHERE number = 'S2'", "parcel S2 is packed  and lies in the carton of S1, which is shipped T1"},
	{5, addShipment + "('S1', 1, 1, 'packed', 1); " + addParcel + "('S1', 1, 'packed', '', 1); UPDATE parcel SET travels_in = 7",
		"lies in the carton of none"},
	{5, addShipment + "('S1', 1, 1, 'packed', 1); " + addParcel + "('S1', 1, 'buying label', '', 1)",
		"parcel S1 waits for a label that nobody asks for"},
	{5, addShipment + "('S1', 1, 1, 'picking', 1); " + addParcel + "('S1', 1, 'packed', '', 1); " + addLines +
		"(1, 1025, 1, 2, 1); INSERT INTO parcel_line VALUES (1, 1025, 1, 1, 2)", "shipment S1: 1 of item 1 picked, 2 in its parcels"},
	{5, addShipment + "('S1', 1, 1, 'picking', 1); " + addParcel + "('S1', 1, 'packed', '', 1); " +
		"INSERT INTO parcel_line VALUES (1, 1025, 1, 1, 2)", "parcel S1 holds what its shipment does not"},
	{
		5,
		addShipment + "('S1', 1, 1, 'packed', 1); " + addLines + "(1, 1025, 1, 2, 2)",
		"shipment S1 is packed, but not all of it is packed",
	},
	{5, addShipment + "('S1', 1, 1, 'shipped', 1); " + addLines + "(1, 1025, 1, 2, 2)", "shipment S1 is shipped, but not all of it left"},
	{5, addMessage + "(1, 'x', 'y', 'r', '{}', 'waiting', '', 1, 0)", "outbox message r is waiting and has no next try"},
	{5, addMessage + `(1, 'labels out', 'S9', 'r', '{}', 'confirmed', '{"tracking": "T9"}', 1, 0)`, "label T9 of S9 was bought"},
	{5, addMessage + `(1, 'return labels out', 'return B1', 'r', '{}', 'confirmed', '{"tracking": "T9"}', 1, 0)`,
		"label T9 of return B1 was bought and stands on no return"},
	{5, "INSERT INTO goods_return (id, number, order_id, location_id, state, made_by, created_at) VALUES (1,'B1',1,1,'arrived','',1); " +
		"INSERT INTO return_label (id, return_id, carrier_id, service, state, asked_at) VALUES (1,1,1,'PP','asked',1)",
		"return B1 waits for a label that nobody asks for"},
	{6, "DELETE FROM timeline", "has no timeline"},
	{6, "UPDATE movement SET reason = ''", "lacks who or why"},
	{7, "UPDATE order_count SET n = n + 1", "count of orders at held"},
	{7, "UPDATE order_count SET n = 0; INSERT INTO order_count VALUES ('ready', 1, 2)", "2 kept, none there"},
	{7, "DELETE FROM order_quarter", "orders taken in by connection 1"},
	{7, "DROP TRIGGER orders_moved; UPDATE orders SET stage = 'shipped', shipped_at = 900000000 WHERE id = 1",
		"orders that became shipped in quarter"},
	{7, "UPDATE order_sum SET total = total + 1", "sums of orders of connection 1 in EUR"},
	{7, "UPDATE listing_count SET matched = 0", "listings of connection 1: 1 kept, 1 there, or one of their states"},
	{7, "INSERT INTO order_tag VALUES ('gift', 1); UPDATE tag_count SET n = 2", "tag gift: 2 kept, 1 there"},
	{7, "INSERT INTO tag_count VALUES ('gift', 2)", "tag gift: 2 kept, none there"},
	{7, "INSERT INTO place_count VALUES (1, 'to ship', 3)", "place 1: 3 to ship kept, 0 there"},
	{7, "UPDATE orders SET stage = 'ready' WHERE id = 1; INSERT INTO allocation VALUES (1025, 1, 1, 1, 1)",
		"order R1 waits at [], and has stock allocated at [1]"},
	{7, "INSERT INTO freight_sum VALUES (1, 1, 'EUR', 3, 0, 0)", "parcels that left: 3 kept, 0 there"},
	{9, addRequest + "('asked', 5)); INSERT INTO request_line VALUES (1, 1025, 1, 'JAR', '', 1, 0, 2, 0)",
		"request Q1 line 1025: 1 asked, 0 sent, 2 refused"},
	{9, addRequest + "('sent', 0)); INSERT INTO request_line VALUES (1, 1025, 1, 'JAR', '', 2, 0, 1, 0)",
		"request Q1 is sent with 1 units open"},
	{9, addRequest + "('sent', 0)); INSERT INTO request_line VALUES (1, 1025, 1, 'JAR', '', 2, 2, 0, 0)",
		"request Q1 line 1025: 2 sent, 0 left in parcels"},
	{9, addRequest + "('asked', 5)); INSERT INTO request_line VALUES (1, 1025, 1, 'JAR', '', 2, 0, 0, 0)",
		"request Q1 line 1025 is to be sent, and only 0 are promised there"},
	{9, addRequest + "('asked', 0)); INSERT INTO request_line VALUES (1, 1025, 1, 'JAR', '', 2, 0, 0, 0)",
		"request Q1 is asked, and nobody looks at it again"},
	{8, "UPDATE orders SET record = json_set(record, '$.status', 'open')", "waits for 1 of JAR, of which 10 are free"},
}

const addRequest = "INSERT INTO request (id, number, order_id, connection_id, location_id, created_at, state, look_at) " +
	"SELECT 1, 'Q1', 1, 1, 1, 1, column1, column2 FROM (VALUES "

// spoil does a damage to a good file.
func spoil(t *testing.T, s *Store, damage string) {
	t.Helper()
	for _, q := range strings.Split(damage, "; ") {
		_, err := s.conn.ExecContext(t.Context(), q)
		require.NoError(t, err, q)
	}
}

// TestVerifyFindsWhatIsWrong damages a good file in every way that verify promises to notice. A query that no damage
// makes answer is one that nobody has seen work.
func TestVerifyFindsWhatIsWrong(t *testing.T) {
	answered := map[int]bool{}
	for _, c := range damages {
		t.Run(c.damage, func(t *testing.T) {
			s := open(t)
			company(t, s)
			addOrders(t, s, 2)
			found, err := s.Verify(t.Context())
			require.NoError(t, err)
			require.Empty(t, found)
			spoil(t, s, c.damage)
			found, err = s.Verify(t.Context())
			require.NoError(t, err)
			assert.Condition(t, func() bool {
				for _, f := range found {
					if f.Rule == c.rule && strings.Contains(f.Text, c.says) {
						return true
					}
				}
				return false
			}, "%d: %s, of %v", c.rule, c.says, found)
			for i, inv := range invariants {
				var texts []string
				require.NoError(t, s.read.SelectContext(t.Context(), &texts, inv.query))
				answered[i] = answered[i] || len(texts) > 0
			}
		})
	}
	for i, inv := range invariants {
		assert.True(t, answered[i], "no damage is noticed by %s", inv.query)
	}
}

// TestVerifySaysHowManyMore: the first of a kind one by one, the rest by their number; none is left out in silence.
func TestVerifySaysHowManyMore(t *testing.T) {
	s := open(t)
	company(t, s)
	addOrders(t, s, 1200)
	spoil(t, s, "UPDATE orders SET record = json_set(record, '$.status', 'open'); DELETE FROM timeline")
	found, err := s.Verify(t.Context())
	require.NoError(t, err)
	var said []string
	for _, f := range found {
		if strings.Contains(f.Text, "more like") {
			said = append(said, fmt.Sprintf("%d: %s", f.Rule, f.Text))
		}
	}
	assert.Equal(t, []string{"6: 1180 more like the one before", "8: 1180 more like the one before"}, said)
	assert.Len(t, found, 42)
}

// TestVerifySaysWhatItCannotRead: settings that are no settings are an error with the connection's name, not a good file.
func TestVerifySaysWhatItCannotRead(t *testing.T) {
	s := open(t)
	company(t, s)
	spoil(t, s, "UPDATE listing SET told_qty = 1; UPDATE connection SET settings = '{'")
	_, err := s.Verify(t.Context())
	require.ErrorContains(t, err, "verify offers of shop")

	ended := errors.New("the file went away")
	_, err = verifyWaiting(func(any, string, ...any) error { return ended })
	require.ErrorIs(t, err, ended)
}
