package store

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openrelay/internal/core/order"
	"openrelay/internal/core/place"
)

// TestOpenOrdersToOneRecipient are found by who they go to, as long as something of them may be sent.
func TestOpenOrdersToOneRecipient(t *testing.T) {
	s := open(t)
	company(t, s)
	addOrders(t, s, 3)
	ctx := t.Context()
	to := place.Address{Name: "Maren Tolland", Street: "Lindenrow 14", Postcode: "41360", Town: "Harrowmere", Country: "XW"}
	var list []*order.Order
	require.NoError(t, s.Write(ctx, func(tx *Tx) error {
		for id := range int64(3) {
			o, err := tx.Order(id + 1)
			if err != nil {
				return err
			}
			o.ShipTo = to
			if id == 1 {
				o.ShipTo.Name, o.ShipTo.Street = "TOLLAND, Maren", "Lindenrow, 14."
			}
			if id == 2 {
				o.Voided = true
			}
			list = append(list, o)
			if err := tx.UpdateOrder(o); err != nil {
				return err
			}
		}
		return nil
	}))
	found, err := s.OrdersTo(ctx, list[0])
	require.NoError(t, err)
	require.Len(t, found, 1, "the third is void")
	assert.Equal(t, list[1].Number, found[0].Number)
	assert.Equal(t, int64(0), recipientOf(list[2]))
	list[0].ShipTo.Postcode = ""
	found, err = s.OrdersTo(ctx, list[0])
	require.NoError(t, err)
	assert.Empty(t, found, "nobody is found without an address")
}

// TestAnOlderFileLearnsItsRecipients: its open orders are found by who they go to, and no other.
func TestAnOlderFileLearnsItsRecipients(t *testing.T) {
	s, err := Open(t.Context(), oldCompany(t))
	require.NoError(t, err)
	defer s.Close()
	var rows []struct {
		Stage     string `db:"stage"`
		Kind      string `db:"kind"`
		Recipient int64  `db:"recipient"`
	}
	require.NoError(t, s.read.Select(&rows, "SELECT stage, kind, recipient FROM orders"))
	known := 0
	for _, r := range rows {
		require.NotEqual(t, int64(-1), r.Recipient)
		if r.Recipient == 0 {
			continue
		}
		known++
		assert.Equal(t, "ship", r.Kind)
		assert.NotContains(t, []string{"shipped", "delivered", "cancelled", "void"}, r.Stage)
	}
	require.Positive(t, known)
}

// TestWhatTravelsTogetherIsFoundByAnIndex: however many orders and parcels there are.
func TestWhatTravelsTogetherIsFoundByAnIndex(t *testing.T) {
	s := open(t)
	for query, index := range map[string]string{
		parcelQuery + "WHERE p.shipment_id=7":                                  "parcel_travels_in",
		"SELECT id FROM orders WHERE recipient=5 AND recipient<>0 AND id<>7":   "orders_recipient",
		shipmentQuery + "WHERE s.together=3 AND s.together<>0":                 "shipment_together",
		parcelQuery + "WHERE p.travels_in=3 AND p.travels_in<>0 ORDER BY p.id": "parcel_travels_in",
		parcelQuery + "WHERE p.told_by=1 AND p.told_id='x' AND p.told_by<>0":   "parcel_told",
	} {
		var plan []struct {
			ID, Parent, Notused int64
			Detail              string
		}
		require.NoError(t, s.read.SelectContext(t.Context(), &plan, "EXPLAIN QUERY PLAN "+query))
		var text string
		for _, p := range plan {
			text += p.Detail + "\n"
		}
		assert.Contains(t, text, index, query)
		assert.NotContains(t, text, "SCAN", query)
	}
}
