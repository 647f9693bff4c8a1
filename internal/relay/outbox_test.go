package relay

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
)

// listed gives the stall a listing of an item, so that its quantity is told there.
func (k *kit) listed(sku string) {
	k.t.Helper()
	k.take("stall", event("listing", "L-"+sku, 1, message.Listing{SKU: sku, Title: "A " + sku, Price: 1000, Currency: "EUR", Live: true}))
}

// TestWhatWasAttemptedKeepsItsWords: a newer quantity does not take the place of one that was sent once without an
// answer: the other side would take it for a repeat. It goes under a reference of its own.
func TestWhatWasAttemptedKeepsItsWords(t *testing.T) {
	k := newKit(t)
	k.stock(9, "JAR")
	k.listed("JAR")
	said := map[string]float64{} // by reference: a careful other side keeps the first words
	k.on("stall", "/stock", func(c call) (int, any) {
		if _, known := said[c.ref]; !known {
			said[c.ref] = c.body["quantity"].(float64)
		}
		return 0, nil // the answer is lost
	})
	k.sell("S-1", units("JAR", 2))
	k.sell("S-2", units("JAR", 3))
	k.on("stall", "/stock", func(c call) (int, any) {
		if _, known := said[c.ref]; !known {
			said[c.ref] = c.body["quantity"].(float64)
		}
		return 200, map[string]any{}
	})
	k.later(time.Minute)
	k.settle()
	calls := k.sent("stall", "/stock")
	last := calls[len(calls)-1]
	require.Equal(t, 4.0, said[last.ref], "what the other side took is what is right")
	l, err := k.Store.Listing(t.Context(), "stall", "L-JAR")
	require.NoError(t, err)
	require.Equal(t, int64(4), l.ToldQty)
	k.holds()
}

// TestABurstIsOneMessage: what was never sent is replaced, so many sales make one message.
func TestABurstIsOneMessage(t *testing.T) {
	k := newKit(t)
	k.stock(9, "JAR")
	k.listed("JAR")
	k.settle()
	before := len(k.sent("stall", "/stock"))
	k.push("stall", event("order", "S-1", 1, sale("S-1", units("JAR", 1))))
	require.NoError(t, k.DecideAll(k.ByCode("stall")))
	k.push("stall", event("order", "S-2", 1, sale("S-2", units("JAR", 1))))
	require.NoError(t, k.DecideAll(k.ByCode("stall")))
	k.settle()
	require.Len(t, k.sent("stall", "/stock"), before+1)
}
