package whole

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/client"
	"openrelay/internal/core/freight"
	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
	"openrelay/internal/core/stock"
	"openrelay/internal/demo"
	"openrelay/internal/relay/joining"
	"openrelay/internal/standin"
	"openrelay/internal/wire"
)

func sellReady(t *testing.T, w *demo.World, s standin.Sale) (id, name string) {
	t.Helper()
	id, name, err := w.Morrow.Place(s)
	require.NoError(t, err)
	eventually(t, "ready", func() bool { stage, _ := orderOf(t, w, name); return stage == "ready" })
	return id, name
}

func confirmed(t *testing.T, w *demo.World, name string, parcels int) wire.Order {
	t.Helper()
	var o wire.Order
	eventually(t, "write-backs confirmed", func() bool {
		var err error
		o, err = w.Client.Order(t.Context(), name)
		require.NoError(t, err)
		n := 0
		for _, m := range o.WriteBacks {
			if m.Feed == "dispatch out" && m.State == "confirmed" {
				n++
			}
		}
		return n == parcels
	})
	return o
}

// TestFromTwoPlaces sells more than one place has: two shipments, two parcels, both told to the store,
// the order part shipped in between.
func TestFromTwoPlaces(t *testing.T) {
	w := openWorld(t, false)
	var sku string
	var alder, pier int64
	levels, err := w.Client.Stock(t.Context(), "limit=200&location=pier")
	require.NoError(t, err)
	for _, l := range levels {
		v, err := w.Client.Item(t.Context(), l.SKU)
		require.NoError(t, err)
		if v.Item.WeightG < 300 && v.Item.LengthMM < 340 && v.Item.HeightMM <= 30 {
			sku, alder, pier = l.SKU, v.Levels[0].Available, v.Levels[1].Available
			break
		}
	}
	require.NotEmpty(t, sku)
	// Leave two at the main place and two at the coast.
	for loc, n := range map[string]int64{"alder": alder - 2, "pier": pier - 2} {
		_, err = w.Client.Adjust(t.Context(), sku, loc, -n, "lent to the museum")
		require.NoError(t, err)
	}
	eventually(t, "the store shows both places", func() bool { return w.Morrow.Shelf()[sku] == 4 })
	sale := jars(1)
	sale.Lines = []standin.SaleLine{{SKU: sku, Qty: 3}}
	id, name := sellReady(t, w, sale)
	o, err := w.Client.Order(t.Context(), name)
	require.NoError(t, err)
	require.Equal(t, []wire.LinePlace{{Location: "Alder Yard", Quantity: 2}, {Location: "Pier Nine", Quantity: 1}}, o.Lines[0].At)

	_, err = w.ShipOne(t.Context(), name)
	require.NoError(t, err)
	o = confirmed(t, w, name, 1)
	require.Equal(t, "part shipped", o.Stage)
	_, err = w.ShipOne(t.Context(), name)
	require.NoError(t, err)
	o = confirmed(t, w, name, 2)
	require.Equal(t, "shipped", o.Stage)
	require.Equal(t, []string{"Alder Yard", "Pier Nine"}, []string{o.Shipments[0].Location, o.Shipments[1].Location})
	var rec struct {
		Order struct {
			State   string
			Parcels []struct {
				Tracking string
				Lines    []struct{ Quantity int64 }
			}
		}
	}
	getJSON(t, w.MorrowURL+"/control/api/orders/"+id, &rec)
	require.Equal(t, "sent", rec.Order.State)
	require.Len(t, rec.Order.Parcels, 2)
	require.Equal(t, int64(2), rec.Order.Parcels[0].Lines[0].Quantity)
	require.Equal(t, o.Shipments[1].Parcels[0].Tracking, rec.Order.Parcels[1].Tracking)
	findings, err := w.Store.Verify(t.Context())
	require.NoError(t, err)
	require.Empty(t, findings)
}

// TestLoweredWhilePicking: the store lowers a quantity while the goods are being collected.
func TestLoweredWhilePicking(t *testing.T) {
	w := openWorld(t, false)
	status, text := push(t, w,
		event(map[string]any{"lines": []any{line(map[string]any{"quantity": 3, "total": "35.70"})}, "total": "40.60"}), nil)
	require.Equal(t, http.StatusAccepted, status, text)
	eventually(t, "ready", func() bool { stage, _ := orderOf(t, w, "X-1001"); return stage == "ready" })
	s, err := w.Client.Pick(t.Context(), "X-1001")
	require.NoError(t, err)
	_, err = w.Client.Scan(t.Context(), s, "JAR-500-T12", "", 1)
	require.NoError(t, err)
	status, _ = push(t, w, event(map[string]any{"revision": 2}), nil) // one tray only
	require.Equal(t, http.StatusAccepted, status)
	eventually(t, "the shipment to follow", func() bool {
		v, err := w.Client.Shipment(t.Context(), s)
		return err == nil && v.Quantity == 1 && v.Picked == 1
	})
	_, err = w.Client.Scan(t.Context(), s, "JAR-500-T12", "", 1)
	require.ErrorContains(t, err, "already complete")
	v, err := w.ShipOne(t.Context(), "X-1001")
	require.NoError(t, err)
	require.Equal(t, "shipped", v[0].State)
	o, err := w.Client.Order(t.Context(), "X-1001")
	require.NoError(t, err)
	require.Equal(t, int64(2), o.Lines[0].Cancelled)
	require.Equal(t, int64(1), o.Lines[0].Shipped)
}

// TestRefusedWriteBackWaitsForAPerson: the store refuses a tracking number for good; a person sends it
// again when that is mended.
func TestRefusedWriteBackWaitsForAPerson(t *testing.T) {
	w := openWorld(t, false)
	_, name := sellReady(t, w, jars(1))
	w.Morrow.Misbehave(standin.Faults{Status: 422, Text: "we are moving house", Only: "/parcels"})
	_, err := w.ShipOne(t.Context(), name)
	require.NoError(t, err)
	var open []wire.Exception
	eventually(t, "an exception", func() bool {
		open, err = w.Client.Exceptions(t.Context())
		require.NoError(t, err)
		return len(open) == 1
	})
	require.EqualValues(t, "write-back refused", open[0].Cause)
	require.Contains(t, open[0].Text, "we are moving house")
	c, err := w.Client.Connection(t.Context(), "morrow")
	require.NoError(t, err)
	require.Equal(t, int64(1), c.Refused)
	require.Equal(t, "caution", c.Lamp.State)
	w.Morrow.Misbehave(standin.Faults{})
	require.NoError(t, w.Client.SendAgain(t.Context(), open[0].OutboxID))
	confirmed(t, w, name, 1)
	open, err = w.Client.Exceptions(t.Context())
	require.NoError(t, err)
	require.Empty(t, open)
	err = w.Client.SendAgain(t.Context(), 1)
	require.Equal(t, http.StatusConflict, client.StatusOf(err), "only refused messages are sent again")
}

// TestSaidButNotSeen: the store says yes and forgets; reading back notices, and it is said again.
func TestSaidButNotSeen(t *testing.T) {
	w := openWorld(t, false)
	id, name := sellReady(t, w, jars(1))
	w.Morrow.ForgetParcels(1)
	_, err := w.ShipOne(t.Context(), name)
	require.NoError(t, err)
	o := confirmed(t, w, name, 1)
	i := slices.IndexFunc(o.WriteBacks, func(m wire.Outbox) bool { return m.Feed == "dispatch out" })
	require.Greater(t, o.WriteBacks[i].Attempts, int64(1))
	var rec struct {
		Order struct{ Parcels []struct{ Tracking string } }
	}
	getJSON(t, w.MorrowURL+"/control/api/orders/"+id, &rec)
	require.Len(t, rec.Order.Parcels, 1)
}

// TestCredentialsRefusedThenRenewed: messages wait while the store does not let us in.
func TestCredentialsRefusedThenRenewed(t *testing.T) {
	w := openWorld(t, false)
	_, name := sellReady(t, w, jars(1))
	w.Morrow.Misbehave(standin.Faults{Status: 401, Text: "who are you?"})
	_, err := w.ShipOne(t.Context(), name)
	require.NoError(t, err)
	eventually(t, "the exception", func() bool {
		open, err := w.Client.Exceptions(t.Context())
		require.NoError(t, err)
		return slices.ContainsFunc(open, func(e wire.Exception) bool { return e.Cause == "credentials refused" })
	})
	w.Morrow.Misbehave(standin.Faults{})
	confirmed(t, w, name, 1)
	eventually(t, "the exception to end by itself", func() bool {
		open, err := w.Client.Exceptions(t.Context())
		require.NoError(t, err)
		return len(open) == 0
	})
}

// TestTakenInAgain: a message that was not understood stays, and can be taken in again.
func TestTakenInAgain(t *testing.T) {
	w := openWorld(t, false)
	push(t, w, event(map[string]any{"currency": "EURO"}), nil)
	var open []wire.Exception
	eventually(t, "the exception", func() bool {
		var err error
		open, err = w.Client.Exceptions(t.Context())
		require.NoError(t, err)
		return len(open) == 1
	})
	require.EqualValues(t, "message not understood", open[0].Cause)
	require.Equal(t, "morrow", open[0].Connection)
	var out struct{ Messages int64 }
	_, err := w.Client.Do(t.Context(), "POST", "/connections/morrow/try-again", nil, &out)
	require.NoError(t, err)
	require.Equal(t, int64(1), out.Messages)
	eventually(t, "still not understood, raised once more", func() bool {
		again, err := w.Client.Exceptions(t.Context())
		require.NoError(t, err)
		return len(again) == 1 && again[0].ID > open[0].ID
	})
	// The channel corrects it: the newer version is taken in.
	push(t, w, event(map[string]any{"revision": 2}), nil)
	eventually(t, "the order", func() bool { stage, _ := orderOf(t, w, "X-1001"); return stage == "ready" })
	open, err = w.Client.Exceptions(t.Context())
	require.NoError(t, err)
	require.Empty(t, open, "what was raised about the older version has ended")
}

// TestLoadAgainFromADate reads history again: everything is found, nothing is new.
func TestLoadAgainFromADate(t *testing.T) {
	w := openWorld(t, false)
	for range 5 {
		sellReady(t, w, jars(1))
	}
	id, err := w.Client.RunNow(t.Context(), "morrow", "orders in", time.Now().Add(-time.Hour).UTC().Format(time.RFC3339))
	require.NoError(t, err)
	var r wire.RunLog
	eventually(t, "the run to end", func() bool {
		r, err = w.Client.Run(t.Context(), id)
		return err == nil && r.Run.State == "done"
	})
	require.Equal(t, int64(5), r.Run.Found)
	require.Equal(t, int64(0), r.Run.New)
	require.Equal(t, map[string]int64{"this version is known": 5}, r.Run.Reasons)
	require.Contains(t, r.Run.Cause, "Runa Hollis")
	for format, says := range map[string]string{"csv": "at,level,text", "ndjson": `"level":"info"`} {
		raw, _, err := w.Client.Raw(t.Context(), "GET", fmt.Sprintf("/api/v1/runs/%d/log?format=%s", id, format), nil)
		require.NoError(t, err)
		require.Contains(t, string(raw), says)
	}
}

// TestSwitchedOffStockOut: quantities are not sent while off; switching on sends them all.
func TestSwitchedOffStockOut(t *testing.T) {
	w := openWorld(t, false)
	set := func(on bool) {
		c, err := w.Client.Connection(t.Context(), "skep")
		require.NoError(t, err)
		i := slices.IndexFunc(c.Feeds, func(f wire.Feed) bool { return f.Kind == "stock out" })
		_, err = w.Client.SetFeed(t.Context(), "skep", "stock out", on, "", c.Feeds[i].Revision)
		require.NoError(t, err)
	}
	before := w.Skep.Shelf()["JAR-500-T12"]
	set(false)
	sellReady(t, w, jars(2))
	v, err := w.Client.Why(t.Context(), "skep", "JAR-500-T12")
	require.NoError(t, err)
	require.False(t, v.Listing.On)
	require.Equal(t, before-2, v.Listing.Allowed)
	require.Equal(t, before, w.Skep.Shelf()["JAR-500-T12"])
	set(true)
	eventually(t, "the store in step", func() bool { return w.Skep.Shelf()["JAR-500-T12"] == before-2 })
}

func TestWhatIsOfferedIsSeenAgain(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	stockOut := func(on bool) error {
		c, err := w.Client.Connection(ctx, "skep")
		require.NoError(t, err)
		i := slices.IndexFunc(c.Feeds, func(f wire.Feed) bool { return f.Kind == "stock out" })
		_, err = w.Client.SetFeed(ctx, "skep", "stock out", on, "", c.Feeds[i].Revision)
		return err
	}
	offer := func(change func(*stock.Policy)) {
		j, err := w.Client.Join(ctx, "skep")
		require.NoError(t, err)
		change(&j.Connection.Settings.Offer)
		_, err = w.Client.SetSettings(ctx, "skep", j.Connection.Settings, 0)
		require.NoError(t, err)
	}
	seen := func() joining.Preview {
		p, err := w.Client.Preview(ctx, "skep")
		require.NoError(t, err)
		return p
	}
	offer(func(p *stock.Policy) { p.Buffer++ })
	require.NoError(t, stockOut(false))
	require.NoError(t, stockOut(true), "the numbers are sent already: what they become was for the person to decide")

	require.NoError(t, stockOut(false))
	offer(func(p *stock.Policy) { p.Buffer++ })
	require.ErrorContains(t, stockOut(true), "look at the preview first")
	p := seen()
	sellReady(t, w, jars(2))
	now := seen()
	require.NotEqual(t, p.Rows, now.Rows)
	require.NoError(t, w.Client.AcceptPreview(ctx, "skep", p.Digest), "a sale between looking and accepting is no reason to look again")
	offer(func(p *stock.Policy) { p.Off = true })
	require.ErrorContains(t, w.Client.AcceptPreview(ctx, "skep", p.Digest), "look at the preview again", "now all would be sold out")
	p = seen()
	require.Equal(t, p.Listings-p.Unknown, p.ToZero)
	require.ErrorContains(t, stockOut(true), "look at the preview first")
	offer(func(p *stock.Policy) { p.Off = false })
	require.NoError(t, w.Client.AcceptPreview(ctx, "skep", seen().Digest))
	require.NoError(t, stockOut(true))
	eventually(t, "the store in step", func() bool { return w.Skep.Shelf()["JAR-500-T12"] == 54 })
}

// TestOurSumAgreesWithTheCarrier prices random parcels at the carrier and by our own arithmetic from the
// tariff that it publishes. Two programs that share no code say the same.
func TestOurSumAgreesWithTheCarrier(t *testing.T) {
	w := openWorld(t, false)
	require.NoError(t, w.JoinIronway(t.Context()))
	require.NoError(t, w.JoinHeron(t.Context()))
	for _, carrier := range []string{"plover", "ironway", "heron"} {
		sumsAgree(t, w, carrier)
	}
}

func sumsAgree(t *testing.T, w *demo.World, carrier string) {
	t.Helper()
	rng := rand.New(rand.NewPCG(12, 34))
	tariff, err := w.Relay.Ask(t.Context(), carrier, "tariff", nil)
	require.NoError(t, err)
	own := tariff[0].(*freight.Tariff)
	priced, refused := 0, 0
	for range 150 {
		p := message.Parcel{To: place.Address{Country: []string{"XW", "XW", "XE", "XQ"}[rng.IntN(4)],
			Postcode: []string{"41207", "42001", "60277", "97310", "99051", "208114"}[rng.IntN(6)],
			Company:  []string{"", "Orchard Ltd"}[rng.IntN(2)]},
			WeightG: rng.Int64N(24000), LengthMM: 1 + rng.Int64N(1300), WidthMM: 1 + rng.Int64N(500), HeightMM: 1 + rng.Int64N(400),
			Handover: "2026-11-20"}
		offers, err := w.Relay.Ask(t.Context(), carrier, "rates", p)
		require.NoError(t, err)
		for _, x := range offers {
			r := x.(*message.Rate)
			q := own.Quote(r.Service, freight.Parcel{To: p.To, WeightG: p.WeightG, LengthMM: p.LengthMM, WidthMM: p.WidthMM,
				HeightMM: p.HeightMM})
			require.Equal(t, r.Refused == "", q.Refused == "", "%+v: theirs %q, ours %q", p, r.Refused, q.Refused)
			if q.Refused != "" {
				refused++
				continue
			}
			priced++
			require.Equal(t, r.Price, q.Price, "%+v", p)
			day, err := time.Parse(time.DateOnly, p.Handover)
			require.NoError(t, err)
			require.Equal(t, r.Arrives, freight.Arrival(day, q.Days).Format(time.DateOnly))
		}
	}
	require.Greater(t, priced, 20, carrier)
	require.Greater(t, refused, 20, carrier)
}

// TestTheStoryIsTheSameEveryTime opens the demo twice and compares what it tells.
func TestTheStoryIsTheSameEveryTime(t *testing.T) {
	tell := func() (out []string) {
		w := openWorld(t, true)
		list, _, err := w.Client.Orders(t.Context(), "limit=200")
		require.NoError(t, err)
		stages := map[string]int{}
		for _, o := range list {
			out = append(out, strings.Join([]string{o.Number, o.ChannelNumber, o.Stage, o.Buyer, strings.Join(o.Held, ",")}, " "))
			stages[o.Stage]++
		}
		for _, stage := range []string{"pending", "held", "ready", "routed", "picking", "packed", "shipped", "delivered", "cancelled"} {
			require.Positive(t, stages[stage], stage)
		}
		open, err := w.Client.Exceptions(t.Context())
		require.NoError(t, err)
		var causes []string
		for _, e := range open {
			causes = append(causes, string(e.Cause))
		}
		require.ElementsMatch(t,
			[]string{"unknown item", "bad address", "total differs", "no stock", "held by a rule", "bill differs", "bill differs"}, causes)
		findings, err := w.Store.Verify(t.Context())
		require.NoError(t, err)
		require.Empty(t, findings)
		return out
	}
	require.Equal(t, tell(), tell())
}
