package shipping_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/relay/people"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/setup"
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
	require.ErrorContains(t, k.AskLabel(ctx, s, "bob", "slow", "Edda"), "fetched at Bakery of Ann")
	require.NoError(t, k.Label(s, "ann"))
	var asked message.Parcel
	require.NoError(t, json.Unmarshal([]byte(k.OutboxOf("S-1", message.LabelsOut).Payload), &asked))
	require.Equal(t, "K1", asked.Point.ID)
	require.ErrorContains(t, k.ChoosePoint(ctx, "S-1", "", "", "Edda"), "cannot be changed any more")
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
