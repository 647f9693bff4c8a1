package shipping_test

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/people"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/setup"
	"openrelay/internal/store"
)

// pointed is a company with ann, who keeps parcels to be fetched, and bob, who does not.
func pointed(t *testing.T) *trial.Kit {
	t.Helper()
	k := trial.New(t, "bob")
	definition := strings.Replace(trial.Carter("ann"), "  rates:\n", `  points:
    request: { method: POST, path: /points, body: { near: msg.postcode } }
    items: points
    map: { id: item.id, name: item.name, postcode: item.zip, town: item.town, distance_m: item.metres }
  rates:
`, 1)
	definition = strings.Replace(definition, "field: to.street }", `field: to.street }, { when: 'body.at == "counter"', field: point }`, 1)
	_, err := k.ApplySetup(
		t.Context(),
		setup.Setup{Version: 1, Connectors: []string{definition}, Connections: []setup.Connection{{Code: "ann",
			Connector: "ann", Name: "Ann", Address: "http://ann.test", Feeds: map[message.Feed]setup.Feed{message.LabelsOut: {On: true}}}}},
		map[string]map[string]string{"ann": {"key": "ann-key"}},
		"test",
	)
	require.NoError(t, err)
	k.On("ann", "/points", func(trial.Call) (int, any) {
		return 200, map[string]any{
			"points": []any{map[string]any{"id": "K2", "name": "Kiosk", "zip": "41207", "town": "Alderby", "metres": 4200},
				map[string]any{"id": "K1", "name": "Bakery", "zip": "41360", "town": "Harrowmere", "metres": 600}},
		}
	})
	k.Stock(50, "JAR")
	return k
}

// TestAPickupPointIsChosen near the address; then only its carrier takes the parcel, and is told where.
func TestAPickupPointIsChosen(t *testing.T) {
	k := pointed(t)
	ctx := t.Context()
	k.Sell("S-1", trial.Units("JAR", 1))
	near, err := k.Points(ctx, "S-1")
	require.NoError(t, err)
	require.Equal(t, []string{"K1", "K2"}, []string{near.Points[0].ID, near.Points[1].ID}, "the nearest first")
	require.Empty(t, near.Silent)
	require.ErrorContains(t, k.ChoosePoint(ctx, "S-1", "ann", "K9", "Edda"), "no pickup point")
	require.NoError(t, k.ChoosePoint(ctx, "S-1", "ann", "K1", "Edda"))
	o := orderOf(t, k, "S-1")
	require.Equal(t, "Bakery", shipping.PointOf(o).Name)
	s := k.Packed("S-1")
	rates, err := k.Rates(ctx, s)
	require.NoError(t, err)
	for _, r := range rates {
		require.Equal(t, r.Carrier == "bob", r.Refused != "", "%+v", r)
	}
	require.ErrorContains(t, k.AskLabel(ctx, s, shipping.Purchase{Carrier: "bob", Service: "slow"}, "Edda"), "fetched at Bakery of Ann")
	require.NoError(t, k.Label(s, "ann"))
	var asked message.Parcel
	require.NoError(t, json.Unmarshal([]byte(k.OutboxOf("S-1", message.LabelsOut).Payload), &asked))
	require.Equal(t, "K1", asked.Point.ID)
	require.ErrorContains(t, k.ChoosePoint(ctx, "S-1", "", "", "Edda"), "cannot be changed any more", "all of it has left")
	people.Strip(o, "hidden")
	require.Nil(t, shipping.PointOf(o), "where somebody fetches it says where they live")
	k.Holds()
}

// TestAPointThatTheBuyerChose is kept, unless a person sends it to the door; a carrier that is silent is named.
func TestAPointThatTheBuyerChose(t *testing.T) {
	k := pointed(t)
	ctx := t.Context()
	o := trial.Sale("S-1", trial.Units("JAR", 1))
	o.Point = message.PickupPoint{ID: "K2", Name: "Kiosk", Carrier: "ann"}
	k.Take("stall", trial.Event("order", "S-1", 1, o))
	require.Equal(t, "K2", shipping.PointOf(orderOf(t, k, "S-1")).ID)
	require.NoError(t, k.ChoosePoint(ctx, "S-1", "", "", "Edda"))
	require.Nil(t, shipping.PointOf(orderOf(t, k, "S-1")))
	k.On("ann", "/points", func(trial.Call) (int, any) { return 503, map[string]any{} })
	near, err := k.Points(ctx, "S-1")
	require.NoError(t, err)
	require.Equal(t, []string{"Ann"}, near.Silent)
	require.NoError(t, k.Label(k.Packed("S-1"), "bob"))
}

// TestAPointIsLeftWithItsTown: another street of the same town keeps it; another town does not, and the timeline says so.
func TestAPointIsLeftWithItsTown(t *testing.T) {
	k := pointed(t)
	ctx := t.Context()
	k.Sell("S-1", trial.Units("JAR", 1))
	require.NoError(t, k.ChoosePoint(ctx, "S-1", "ann", "K1", "Edda"))
	to := orderOf(t, k, "S-1").ShipTo
	to.Street = "Quay Street 2"
	require.NoError(t, k.Readdress(ctx, "S-1", to, "Edda", 0))
	require.NotNil(t, shipping.PointOf(orderOf(t, k, "S-1")))
	to.Postcode, to.Town = "77102", "Greywick"
	require.NoError(t, k.Readdress(ctx, "S-1", to, "Edda", 0))
	require.Nil(t, shipping.PointOf(orderOf(t, k, "S-1")))
	o, err := k.Order(ctx, "S-1")
	require.NoError(t, err)
	said := ""
	for _, step := range o.Timeline {
		said += step.Text + "\n"
	}
	require.Contains(t, said, "No longer fetched at Bakery")
}

// TestAPointIsLeftWithTheChannelsAddress: the buyer moves, and the point that a clerk chose near the old home stands no more.
func TestAPointIsLeftWithTheChannelsAddress(t *testing.T) {
	k := pointed(t)
	sale := trial.Sale("S-1", trial.Units("JAR", 1))
	k.Take("stall", trial.Event("order", "S-1", 1, sale))
	require.NoError(t, k.ChoosePoint(t.Context(), "S-1", "ann", "K1", "Edda"))
	sale.ShipTo.Street = "Quay Street 2"
	k.Take("stall", trial.Event("order", "S-1", 2, sale))
	require.NotNil(t, shipping.PointOf(orderOf(t, k, "S-1")), "another street of the same town")
	sale.ShipTo.Postcode, sale.ShipTo.Town = "77102", "Greywick"
	k.Take("stall", trial.Event("order", "S-1", 3, sale))
	require.Nil(t, shipping.PointOf(orderOf(t, k, "S-1")))
	o, err := k.Order(t.Context(), "S-1")
	require.NoError(t, err)
	require.True(t, slices.ContainsFunc(o.Timeline, func(s store.Entry) bool {
		return strings.Contains(s.Text, "No longer fetched at Bakery")
	}))
}

// TestAPointThatClosed after it was chosen: the carrier refuses it, a person chooses another for the packed parcel, and it goes.
func TestAPointThatClosed(t *testing.T) {
	k := pointed(t)
	ctx := t.Context()
	k.Sell("S-1", trial.Units("JAR", 1))
	require.NoError(t, k.ChoosePoint(ctx, "S-1", "ann", "K1", "Edda"))
	p := k.Packed("S-1")
	waits := false
	k.On("ann", "/labels", func(c trial.Call) (int, any) {
		if waits {
			return 503, map[string]any{}
		}
		return 422, map[string]any{"reason": "there is no counter K1 any more", "at": "counter"}
	})
	require.NoError(t, k.Label(p, "ann"))
	require.Equal(t, "point", k.ParcelOf(p).WrongField)
	require.Contains(t, k.Causes(), engine.LabelRefused)
	require.NoError(t, k.ChoosePoint(ctx, "S-1", "ann", "K2", "Edda"))
	require.Empty(t, k.ParcelOf(p).Error)
	require.NotContains(t, k.Causes(), engine.LabelRefused, "its cause is gone")
	waits = true
	require.NoError(t, k.Label(p, "ann"))
	require.ErrorContains(t, k.ChoosePoint(ctx, "S-1", "", "", "Edda"), "wait for its answer")
	k.On("ann", "/labels", nil)
	k.Later(time.Minute)
	k.Settle()
	require.Equal(t, "shipped", k.Stage("S-1"))
	k.Holds()
}
