package sim

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/demo"
	"openrelay/internal/relay/engine"
	"openrelay/internal/setup"
	"openrelay/internal/standin"
	"openrelay/internal/store"
)

// carriersOfSim are the accounts at carriers over which parcels are sent, and a service of each.
var carriersOfSim = []struct{ code, service string }{{"plover", "PP"}, {"gannet", "PP"}, {"ironway", "IR"}, {"heron", "SH-ECO"}}

// seller is a carrier that tells which labels it sold.
type seller interface{ Sold() []standin.SoldLabel }

func (w *world) sellers() map[string]seller {
	return map[string]seller{"plover": w.Plover, "gannet": w.second, "ironway": w.Ironway, "heron": w.Heron}
}

// joinOtherCarriers joins a carrier that knows no references and whose events are read, and one that lets in by a token.
func (w *world) joinOtherCarriers() {
	for _, code := range []string{"ironway", "heron"} { // always in one order: the same seed takes the same steps
		access := map[string]map[string]string{"ironway": demo.IronwayAccess, "heron": demo.HeronAccess}[code]
		connector := map[string]string{"ironway": "ironway", "heron": "swift-heron"}[code]
		feeds := map[message.Feed]setup.Feed{}
		for _, f := range []message.Feed{message.LabelsOut, message.HandoversOut, message.VoidsOut} {
			feeds[f] = setup.Feed{On: true}
		}
		c := setup.Connection{Code: code, Connector: connector, Name: code, Address: "http://" + code + ".sim", Feeds: feeds,
			Credentials: map[string]string{}}
		if code == "ironway" {
			c.Feeds[message.TrackingIn] = setup.Feed{On: true, Schedule: "@every 30m"}
		}
		for field := range access {
			c.Credentials[field] = "env:" + strings.ToUpper(field)
		}
		text, err := setup.Setup{Version: 1, Connections: []setup.Connection{c}}.Text()
		require.NoError(w.t, err)
		_, err = w.Client.ApplySetup(w.t.Context(), string(text), map[string]map[string]string{code: access})
		require.NoError(w.t, err)
		require.Equal(w.t, store.On, w.Relay.ByCode(code).Rec().State)
	}
}

// moveParcel lets a carrier by rail move one of its parcels, on its way or off it.
func (w *world) moveParcel(context.Context) error {
	sold := w.Ironway.Sold()
	if len(sold) == 0 {
		return nil
	}
	as := ""
	if w.one(8) {
		as = pick(w, []string{standin.NotIn, standin.AtCustoms, standin.GoingBack, standin.GoneLost})
	}
	_ = w.Ironway.MoveAs(pick(w, sold).Item, as) // one that has arrived, or was cancelled, stays where it is
	return nil
}

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
	for code, carrier := range w.sellers() {
		for _, l := range carrier.Sold() {
			if l.Trial || l.Voided {
				continue
			}
			sold[l.Item] = true
			on := parcels[l.Item]
			if _, err := w.Store.Return(ctx, l.Item); err == nil && len(on) == 0 {
				continue // by it goods come back
			}
			switch {
			case len(on) > 1 && on[0].ConsignedIn != 0 && !slices.ContainsFunc(on, func(p store.Parcel) bool {
				return p.ConsignedIn != on[0].ConsignedIn
			}): // under one number
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
		if left && !sold[tracking] && !strings.HasPrefix(tracking, toldPrefix) && !strings.HasPrefix(tracking, "SR") &&
			!partnersNumber(tracking) {
			bad("parcel %s left with %s, which no carrier sold", on[0].Number, tracking)
		}
	}
	return wrong
}
