package sim

import (
	"context"
	"fmt"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/relay/shipping"
	"openrelay/internal/standin"
	"openrelay/internal/store"
)

// mostEndings is more places than there are at which the process may end while one label is bought.
const mostEndings = 40

// TestALabelIsBoughtOnceWhereverTheProcessEnds, over each of three carriers: one that knows our references, one that does not and is
// asked, and one that takes them as its own names. The process ends before each call and after it, before each commit and after it.
func TestALabelIsBoughtOnceWhereverTheProcessEnds(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := open(t, 1)
		defer w.stop()
		w.odds = odds{}
		for _, by := range []struct {
			carrier, service string
			sold             func() []standin.SoldLabel
		}{{"plover", "PP", w.Plover.Sold}, {"ironway", "IR", w.Ironway.Sold}, {"heron", "SH-ECO", w.Heron.Sold}} {
			ended := 0
			for n := 1; ; n++ {
				require.Less(t, n, mostEndings, "it ends at ever more places")
				if !w.endsWhileBuying(by.carrier, by.service, n, by.sold) {
					break
				}
				ended++
			}
			require.GreaterOrEqual(t, ended, 6, "%s: two commits and a call at least, each before and after", by.carrier)
		}
		findings, err := w.Store.Verify(t.Context())
		require.NoError(t, err)
		require.Empty(t, findings)
	})
}

// endsWhileBuying lets the process end at the nth place while the label of a new order is bought, begins anew, and holds that exactly one
// label was sold and stands on the parcel. It tells whether the process ended at all.
func (w *world) endsWhileBuying(carrier, service string, n int, sold func() []standin.SoldLabel) bool {
	t, ctx := w.t, context.Background()
	where := fmt.Sprintf("%s, ended at place %d", carrier, n)
	_, name, err := w.Morrow.Place(standin.Sale{Customer: "Maren Tolland", Email: "maren.tolland@example.test", Shipping: 490,
		Delivery: standin.Delivery{Name: "Maren Tolland", Street: "Lindenrow 14", Postcode: "41360", Town: "Harrowmere", Country: "XW",
			Method: "standard"}, Lines: []standin.SaleLine{{SKU: "HIVE-TOOL", Qty: 1}}})
	require.NoError(t, err)
	w.settle(time.Minute)
	v, err := w.PackOne(ctx, name)
	require.NoError(t, err, where)
	before := len(sold())
	w.endAfter = n
	w.step("label", func() error {
		if err := w.Relay.AskLabel(ctx, v.Number, shipping.Purchase{Carrier: carrier, Service: service}, "Runa Hollis"); err != nil {
			return err
		}
		for end := time.Now().Add(time.Minute); ; {
			p, err := w.Store.Parcel(ctx, v.Number)
			if err != nil || p.Left() || !w.due(end, false) {
				return err
			}
		}
	})
	ended := w.endAfter == 0
	w.endAfter = 0
	p, err := w.Store.Parcel(ctx, v.Number)
	require.NoError(t, err)
	if p.State == store.ToShip { // it ended before anything was asked for: the packer asks again
		require.NoError(t, w.Relay.AskLabel(ctx, v.Number, shipping.Purchase{Carrier: carrier, Service: service}, "Runa Hollis"), where)
	}
	w.settle(3 * time.Minute)
	p, err = w.Store.Parcel(ctx, v.Number)
	require.NoError(t, err)
	require.True(t, p.Left(), "%s: parcel %s is %s: %s", where, p.Number, p.State, p.Error)
	list := sold()
	require.Len(t, list[before:], 1, "%s: labels sold for parcel %s", where, p.Number)
	require.Equal(t, list[before].Item, p.Tracking, where)
	return ended
}
