package sim

import (
	"context"
	"fmt"
	"strings"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/setup"
	"openrelay/internal/standin"
	"openrelay/internal/store"
)

// joinSecondCarrier joins another account at a carrier, so that a parcel that one refuses goes by the other.
func (w *world) joinSecondCarrier() {
	ctx := w.t.Context()
	text, err := setup.Setup{Version: 1, Connections: []setup.Connection{{Code: "gannet", Connector: "plover-post",
		Name: "Second account", Address: "http://gannet.sim",
		Credentials: map[string]string{"key": "env:KEY", "push_secret": "env:SECRET"},
		Feeds:       map[message.Feed]setup.Feed{message.LabelsOut: {On: true}, message.HandoversOut: {On: true}}}}}.Text()
	require.NoError(w.t, err)
	_, err = w.Client.ApplySetup(ctx, string(text), map[string]map[string]string{"gannet": {"key": "key of the second account",
		"push_secret": "secret of the second account"}})
	require.NoError(w.t, err, strings.Join(w.log[max(0, len(w.log)-20):], "\n"))
	require.NotNil(w.t, w.Relay.ByCode("gannet"))
	require.Equal(w.t, store.On, w.Relay.ByCode("gannet").Rec().State)
}

// checkLabels asks both carriers which labels they sold: each is on one parcel that left with it, or somebody was told that
// nobody needs it. No parcel left with a label that its carrier did not sell.
func (w *world) checkLabels() (wrong []string) {
	ctx := context.Background()
	bad := func(format string, args ...any) { wrong = append(wrong, fmt.Sprintf(format, args...)) }
	parcels := map[string][]store.Parcel{} // by tracking number
	for before := int64(0); ; {
		list, err := w.Store.ListParcels(ctx, nil, 0, before, 200)
		if err != nil {
			bad("parcels: %v", err)
			return wrong
		}
		for _, s := range list {
			if s.Tracking != "" {
				parcels[s.Tracking] = append(parcels[s.Tracking], s)
			}
		}
		if len(list) < 200 {
			break
		}
		before = list[len(list)-1].ID
	}
	raised := map[string]bool{} // labels that nobody needs, by tracking number
	open, err := w.Store.OpenExceptions(ctx, w.Relay.Clock(), 10_000)
	if err != nil {
		bad("exceptions: %v", err)
	}
	for _, e := range open {
		if e.Cause == engine.LabelSurplus {
			raised[e.Subject] = true
		}
	}
	sold := map[string]bool{}
	for code, carrier := range map[string]*standin.Plover{"plover": w.Plover, "gannet": w.second} {
		for _, l := range carrier.Sold() {
			if l.Trial || l.Voided {
				continue
			}
			sold[l.Item] = true
			on := parcels[l.Item]
			switch {
			case len(on) > 1:
				bad("label %s of %s is on %d parcels", l.Item, code, len(on))
			case len(on) == 0 && !raised[l.Item]:
				bad("label %s of %s (%s) is on no parcel, and nobody was told", l.Item, code, l.Reference)
			case len(on) == 1 && on[0].CarrierID != w.Relay.ByCode(code).ID:
				bad("parcel %s has label %s of %s and is said to go by another", on[0].Number, l.Item, code)
			}
		}
	}
	for tracking, on := range parcels {
		left := on[0].State == store.Gone || on[0].State == store.Arrived
		if left && !sold[tracking] && !strings.HasPrefix(tracking, toldPrefix) && !strings.HasPrefix(tracking, "SR") {
			bad("parcel %s left with %s, which no carrier sold", on[0].Number, tracking)
		}
	}
	return wrong
}
