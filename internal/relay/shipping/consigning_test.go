package shipping_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/setup"
	"openrelay/internal/store"
)

// consigned is a company with ann, who takes several parcels in one request, and bob, who numbers each alone; and an order of three
// packed parcels.
func consigned(t *testing.T) (k *trial.Kit, shipment string, parcels []string) {
	t.Helper()
	k = trial.New(t, "bob")
	definition := strings.NewReplacer("  labels out:\n", "  labels out:\n    takes: [consignments]\n",
		"name: msg.to.name,",
		"name: msg.to.name, pieces: { each: msg.parcels, as: part, put: { ref: part.reference, grams: part.weight_g } },",
		"        id: body.id\n", `        id: body.id
        parcels: { each: body.pieces, as: part,
            map: { reference: part.ref, tracking: part.number, document: part.pdf, document_form: part.form } }
`).Replace(trial.Carter("ann"))
	_, err := k.ApplySetup(t.Context(),
		setup.Setup{Version: 1, Connectors: []string{definition}, Connections: []setup.Connection{{Code: "ann", Connector: "ann",
			Name: "Ann", Address: "http://ann.test", Feeds: map[message.Feed]setup.Feed{message.LabelsOut: {On: true},
				message.VoidsOut: {On: true}, message.HandoversOut: {On: true}, message.TrackingIn: {On: true}}}}},
		map[string]map[string]string{"ann": {"key": "ann-key"}}, "test")
	require.NoError(t, err)
	k.Stock(50, "JAR")
	k.Sell("S-1", trial.Units("JAR", 3))
	shipment = k.Picked("S-1")
	for range 3 {
		parcels = append(parcels, k.PackUnits(shipment, "small", map[string]int64{"JAR": 1}))
	}
	return k, shipment, parcels
}

// meanwhile does something that waits for its outcome while all that is due is done, until it is still open when nothing is.
func meanwhile(t *testing.T, k *trial.Kit, open func() bool, do func(ctx context.Context) error) error {
	t.Helper()
	ctx, leave := context.WithCancel(t.Context())
	defer leave()
	done := make(chan error, 1)
	go func() { done <- do(ctx) }()
	for {
		select {
		case err := <-done:
			k.Settle()
			if errors.Is(err, context.Canceled) {
				return nil
			}
			return err
		case <-time.After(5 * time.Millisecond):
			k.Settle()
			if open() {
				leave() // nobody waits for what is not answered
			}
		}
	}
}

func asConsignment(t *testing.T, k *trial.Kit, shipment, carrier string) error {
	t.Helper()
	return meanwhile(t, k, func() bool {
		v, err := k.Shipment(t.Context(), shipment)
		require.NoError(t, err)
		return v.Parcels[len(v.Parcels)-1].State == store.Buying
	}, func(ctx context.Context) error {
		_, err := k.ShipConsignment(ctx, shipment, shipping.Purchase{Carrier: carrier, Service: "slow"}, "Pim")
		return err
	})
}

// TestSeveralParcelsUnderOneNumber are bought in one request: each is told to the channel, all move together, the carrier's list names
// the purchase once, and they are paid for once.
func TestSeveralParcelsUnderOneNumber(t *testing.T) {
	k, shipment, parcels := consigned(t)
	require.ErrorContains(t, asConsignment(t, k, shipment, "bob"), "numbers each parcel alone")
	require.NoError(t, k.Insure(t.Context(), parcels[1], 5000, "Pim"))
	require.NoError(t, asConsignment(t, k, shipment, "ann"))
	require.Equal(t, "shipped", k.Stage("S-1"))
	calls := k.Sent("ann", "/labels")
	require.Len(t, calls, 1)
	require.Len(t, calls[0].Body["pieces"], 3)
	number := k.ParcelOf(parcels[0]).Tracking
	for i, n := range parcels {
		p := k.ParcelOf(n)
		require.Equal(t, store.Gone, p.State)
		require.Equal(t, number, p.Tracking)
		require.Equal(t, map[bool]int64{true: 400}[i == 0], p.Price, "it is paid once")
		var l message.Label
		require.NoError(t, json.Unmarshal([]byte(p.Label), &l))
		require.Equal(t, []int64{int64(i + 1), 3}, []int64{l.Piece, l.Pieces})
	}
	require.Equal(t, int64(5000), asked(t, k, "S-1").Insured)
	require.Len(t, k.Sent("stall", "/parcels"), 3, "each parcel is told with its units")
	k.Holds()

	says(t, k, "e1", number, "delivered", k.Now())
	for _, n := range parcels {
		require.Equal(t, store.Arrived, k.ParcelOf(n).State, n)
	}
	require.Equal(t, "delivered", k.Stage("S-1"))
	id := k.ParcelOf(parcels[0]).ManifestID
	require.NoError(t, k.CloseManifest(t.Context(), id, "Pim"))
	k.Settle()
	require.Len(t, k.Sent("ann", "/manifests")[0].Body["labels"], 1)
	k.Holds()
}

// TestAConsignmentIsVoided as a whole, whichever of its parcels is named; then each can be shipped alone.
func TestAConsignmentIsVoided(t *testing.T) {
	k, shipment, parcels := consigned(t)
	require.NoError(t, asConsignment(t, k, shipment, "ann"))
	require.NoError(t, askVoid(t, k, parcels[2]))
	require.Len(t, k.Sent("ann", "/voids"), 1)
	require.Equal(t, "packed", k.Stage("S-1"))
	for _, n := range parcels {
		require.Empty(t, k.ParcelOf(n).Tracking)
		require.Zero(t, k.ParcelOf(n).ConsignedIn)
	}
	k.Holds()
	require.NoError(t, k.Label(parcels[1], "bob"))
	require.Equal(t, "part shipped", k.Stage("S-1"))
	require.NoError(t, asConsignment(t, k, shipment, "ann"))
	require.Len(t, k.Sent("ann", "/labels")[1].Body["pieces"], 2, "what has left already is not asked for again")
	require.Equal(t, "shipped", k.Stage("S-1"))
	k.Holds()
}

// TestAConsignmentIsRefused as a whole, and goes as it was when it is sent again; without an answer all of it waits.
func TestAConsignmentIsRefused(t *testing.T) {
	k, shipment, parcels := consigned(t)
	k.On("ann", "/labels", func(trial.Call) (int, any) { return 422, map[string]any{"reason": "too far", "at": "street"} })
	require.NoError(t, asConsignment(t, k, shipment, "ann"))
	for _, n := range parcels {
		require.Equal(t, store.ToShip, k.ParcelOf(n).State)
		require.Equal(t, "to.street", k.ParcelOf(n).WrongField)
	}
	k.Holds()
	k.On("ann", "/labels", func(trial.Call) (int, any) { return 0, nil })
	m := k.OutboxOf("S-1", message.LabelsOut)
	require.NoError(t, k.SendAgain(t.Context(), m.ID, "Edda"))
	k.InVain(14)
	require.Contains(t, k.Causes(), engine.LabelUnknown)
	for _, n := range parcels {
		require.Equal(t, store.Buying, k.ParcelOf(n).State)
		require.Contains(t, k.ParcelOf(n).Error, "has not said whether it sold")
	}
	k.Holds()
	k.On("ann", "/labels", nil)
	require.NoError(t, k.SendAgain(t.Context(), k.OutboxOf("S-1", message.LabelsOut).ID, "Edda"))
	k.Settle()
	require.Equal(t, "shipped", k.Stage("S-1"))
	require.NotContains(t, k.Causes(), engine.LabelUnknown)
	k.Holds()
}

// TestAParcelOfAConsignmentIsCancelled while the labels are on their way: the others leave, and the price stands on one that did.
func TestAParcelOfAConsignmentIsCancelled(t *testing.T) {
	k, shipment, parcels := consigned(t)
	k.On("ann", "/labels", func(trial.Call) (int, any) { return 503, map[string]any{} })
	require.NoError(t, k.AskLabel(t.Context(), parcels[0], shipping.Purchase{Carrier: "ann", Service: "slow"}, "Pim"))
	k.Settle()
	k.On("ann", "/labels", nil)
	k.Later(time.Hour)
	k.Settle()
	require.Equal(t, store.Gone, k.ParcelOf(parcels[0]).State)
	k.On("ann", "/labels", func(trial.Call) (int, any) { return 503, map[string]any{} })
	require.NoError(t, asConsignment(t, k, shipment, "ann"))
	k.CancelOrder("S-1")
	k.On("ann", "/labels", nil)
	k.Later(time.Hour)
	k.Settle()
	for _, n := range parcels[1:] {
		require.Equal(t, store.CalledOff, k.ParcelOf(n).State, n)
	}
	k.Holds()
}

// TestPiecesHaveNumbersOfTheirOwn where the carrier says so: each is followed by its own.
func TestPiecesHaveNumbersOfTheirOwn(t *testing.T) {
	k, shipment, parcels := consigned(t)
	k.On("ann", "/labels", func(c trial.Call) (int, any) {
		var pieces []any
		for i, p := range c.Body["pieces"].([]any) {
			pieces = append([]any{map[string]any{"ref": p.(map[string]any)["ref"], "number": fmt.Sprintf("AN77-%d", i+1),
				"pdf": "JVBERi0xLjQ=", "form": "pdf"}}, pieces...) // told in another order than asked
		}
		return 200, map[string]any{"id": "A7", "tracking": "AN77", "service": "slow", "price": 900, "currency": "EUR", "pieces": pieces}
	})
	require.NoError(t, asConsignment(t, k, shipment, "ann"))
	for i, n := range parcels {
		require.Equal(t, fmt.Sprintf("AN77-%d", i+1), k.ParcelOf(n).Tracking)
		_, form, made, err := k.LabelDocument(t.Context(), n)
		require.NoError(t, err)
		require.True(t, made)
		require.Equal(t, "pdf", form)
	}
	says(t, k, "e1", "AN77-2", "delivered", k.Now())
	require.Equal(t, store.Gone, k.ParcelOf(parcels[0]).State)
	require.Equal(t, store.Arrived, k.ParcelOf(parcels[1]).State)
	k.Holds()
}
