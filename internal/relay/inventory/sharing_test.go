package inventory_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/trial"
)

// sharing is a company whose stall and second stall share the last units of a jar.
func sharing(t *testing.T, units int64, over int) *trial.Kit {
	k := trial.New(t)
	k.Join("kiosk", trial.Stall("kiosk"), nil, message.OrdersIn, message.ListingsIn, message.StockOut)
	k.Stock(units, "JAR")
	for _, code := range []string{"stall", "kiosk"} {
		jar := message.Listing{SKU: "JAR", Title: "A jar", Price: 1000, Currency: "EUR", Live: true}
		k.Take(code, trial.Event("listing", "L-JAR", 1, jar))
	}
	for _, code := range []string{"stall", "kiosk"} {
		setSharing(t, k, code, 20, int64(over))
	}
	salesKnown(k, 1)
	return k
}

// salesKnown lets it become known that all is known that was sold until now.
func salesKnown(k *trial.Kit, version int) {
	k.Later(10 * time.Minute)
	k.Settle()
	for _, code := range []string{"stall", "kiosk"} {
		k.Push(code, trial.Event("order", "CUP", version, trial.Sale("CUP", trial.Units("CUP", 1))))
	}
	k.Settle()
	k.Later(3 * time.Second)
	k.Settle()
}

func setSharing(t *testing.T, k *trial.Kit, code string, below, over int64) {
	c := k.ByCode(code)
	set := *c.Settings()
	set.Offer.ShareBelow, set.Offer.ShareOver = below, over
	require.NoError(t, k.SetSettings(t.Context(), code, set, c.Rec().Revision, "Edda"))
	k.Settle()
}

// shown is the quantity a channel was told last.
func shown(t *testing.T, k *trial.Kit, code string) int64 {
	calls := k.Sent(code, "/stock")
	require.NotEmpty(t, calls, code)
	return int64(calls[len(calls)-1].Body["quantity"].(float64))
}

func sells(k *trial.Kit, code, number string, units int64) {
	k.Take(code, trial.Event("order", number, 1, trial.Sale(number, trial.Units("JAR", units))))
}

// TestTheLastUnitsAreShared: channels that share show no more together than there is; a sale lowers what is left where it was made and
// nowhere else; who has sold most of its share gets more.
func TestTheLastUnitsAreShared(t *testing.T) {
	k := sharing(t, 10, 0)
	require.EqualValues(t, 3, shown(t, k, "stall"), "a quarter each, the half waits")
	require.EqualValues(t, 3, shown(t, k, "kiosk"))
	calls := len(k.Sent("kiosk", "/stock"))
	sells(k, "stall", "S-1", 1)
	require.Len(t, k.Sent("kiosk", "/stock"), calls, "the other shows what it showed")
	sells(k, "stall", "S-2", 2)
	require.Positive(t, shown(t, k, "stall"), "sold out, and there is more")
	k.Holds()

	why, err := k.WhyOffer(t.Context(), "kiosk", "JAR", time.Time{})
	require.NoError(t, err)
	require.EqualValues(t, 3, why.Allowed)
	last := why.Steps[len(why.Steps)-1]
	require.EqualValues(t, 3, last.Result)
	require.Contains(t, last.Text, "From 20 units down they are shared by pace; what others show (1): 2.")
	require.Contains(t, last.Text, "Here 0 of 3 were sold in 28 days")
	list, _, err := k.Compare(t.Context(), "")
	require.NoError(t, err)
	require.Empty(t, list, "all show what they shall")
}

// TestAllOfASharedItemIsSold, and no unit twice, though one channel alone sells: what lies with the other comes back once all that was
// sold there is known.
func TestAllOfASharedItemIsSold(t *testing.T) {
	k := sharing(t, 8, 0)
	has := map[string]int64{"stall": shown(t, k, "stall")}
	told := len(k.Sent("stall", "/stock"))
	sold := int64(0)
	for n := range 60 {
		if calls := k.Sent("stall", "/stock"); len(calls) > told { // a quantity replaces what is shown
			told, has["stall"] = len(calls), shown(t, k, "stall")
		}
		if has["stall"] > 0 {
			has["stall"]--
			sold++
			sells(k, "stall", "S-"+string(rune('A'+n)), 1)
			continue
		}
		salesKnown(k, n+2)
	}
	require.GreaterOrEqual(t, sold, int64(7), "all but the last, which stays with the other")
	require.LessOrEqual(t, sold, int64(8))
	k.Holds()
}

// TestSharingBeginsAndEnds: many units are shown everywhere; a delivery ends sharing; switching it off does.
func TestSharingBeginsAndEnds(t *testing.T) {
	k := sharing(t, 30, 0)
	require.EqualValues(t, 30, shown(t, k, "stall"))
	require.EqualValues(t, 30, shown(t, k, "kiosk"))
	sells(k, "stall", "S-1", 12)
	require.EqualValues(t, 2, shown(t, k, "kiosk"), "eighteen are left, and the other sells more")
	shares, err := k.Store.SharesUnderWay(t.Context())
	require.NoError(t, err)
	require.Len(t, shares, 2, "what they showed before may be sold")
	require.NoError(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: "JAR", Location: "alder", Change: 40, Reason: "receipt"}, "Edda"))
	k.Settle()
	require.EqualValues(t, 58, shown(t, k, "kiosk"))
	rows := 0
	k.Scalar(&rows, "SELECT count(*) FROM share")
	require.Zero(t, rows)

	require.NoError(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: "JAR", Location: "alder", Change: -48, Reason: "count"}, "Edda"))
	k.Settle()
	require.EqualValues(t, 1, shown(t, k, "kiosk"))
	setSharing(t, k, "kiosk", 0, 0)
	require.EqualValues(t, 10, shown(t, k, "kiosk"))
	k.Holds()
}

// TestAnOrderThatIsCalledOff is on the shelf of its channel again: the units are that channel's share.
func TestAnOrderThatIsCalledOff(t *testing.T) {
	k := sharing(t, 10, 0)
	left := func() (n int64) {
		k.Scalar(&n, "SELECT left_qty FROM share s JOIN connection c ON c.id=s.connection_id WHERE c.code='stall'")
		return n
	}
	sells(k, "stall", "S-1", 1)
	require.EqualValues(t, 2, left())
	o := trial.Sale("S-1", trial.Units("JAR", 1))
	o.Status, o.State = message.Cancelled, "cancelled"
	k.Take("stall", trial.Event("order", "S-1", 2, o))
	require.EqualValues(t, 3, left())
	require.EqualValues(t, 3, shown(t, k, "stall"), "nothing had to be told")
	k.Holds()
}

// TestAChannelThatIsPaused keeps what it shows, and nobody else gets it.
func TestAChannelThatIsPaused(t *testing.T) {
	k := sharing(t, 4, 0)
	require.NoError(t, k.Pause(t.Context(), "kiosk", true, 0, "Edda"))
	k.Settle()
	var kiosk int64
	k.Scalar(&kiosk, "SELECT left_qty FROM share s JOIN connection c ON c.id=s.connection_id WHERE c.code='kiosk'")
	require.Positive(t, kiosk)
	for n := range 4 - kiosk {
		sells(k, "stall", "S-"+string(rune('A'+n)), 1)
	}
	var stall int64
	k.Scalar(&stall, "SELECT left_qty FROM share s JOIN connection c ON c.id=s.connection_id WHERE c.code='stall'")
	require.Zero(t, stall, "the rest may be sold there")
	k.Holds()
}

// TestWhatCannotBeShared is refused where it is set.
func TestWhatCannotBeShared(t *testing.T) {
	k := trial.New(t)
	c := k.ByCode("stall")
	set := *c.Settings()
	for _, bad := range []struct {
		below, over int64
		says        string
	}{{-1, 0, "share_below"}, {0, 50, "does nothing without share_below"}, {10, 501, "share_over"}} {
		set.Offer.ShareBelow, set.Offer.ShareOver = bad.below, bad.over
		require.ErrorContains(t, k.SetSettings(t.Context(), "stall", set, c.Rec().Revision, "Edda"), bad.says)
	}
	k.Stock(5, "JAR")
	k.Listed("JAR")
	l, err := k.Store.Listing(t.Context(), "stall", "JAR")
	require.NoError(t, err)
	ten, far := int64(10), int64(900)
	require.ErrorContains(t, k.SetPolicy(t.Context(), l.ID, stock.Override{ShareOver: &far}, "Edda"), "share_over")
	require.ErrorContains(t, k.SetPolicy(t.Context(), l.ID, stock.Override{ShareOver: &ten}, "Edda"), "does nothing without share_below")
	require.NoError(t, k.SetPolicy(t.Context(), l.ID, stock.Override{ShareBelow: &ten}, "Edda"))
	k.Settle()
	require.EqualValues(t, 5, shown(t, k, "stall"), "it shares with nobody")
}

// TestRehearseSharing lets what was sold happen again: two buyers at two channels for the last jar, of whom word came late.
func TestRehearseSharing(t *testing.T) {
	k := trial.New(t)
	k.Join("kiosk", trial.Stall("kiosk"), nil, message.OrdersIn, message.ListingsIn, message.StockOut)
	k.Stock(2, "JAR")
	for _, code := range []string{"stall", "kiosk"} {
		jar := message.Listing{SKU: "JAR", Title: "A jar", Price: 1000, Currency: "EUR", Live: true}
		k.Take(code, trial.Event("listing", "L-JAR", 1, jar))
	}
	k.Later(time.Hour)
	for n, code := range []string{"stall", "kiosk", "stall"} {
		o := trial.Sale("S-"+string(rune('1'+n)), trial.Units("JAR", 1))
		o.PlacedAt = k.Now().Add(-time.Duration(3-n) * time.Second) // seconds apart, and told of together
		k.Push(code, trial.Event("order", o.Number, 1, o))
	}
	k.Settle()
	got, err := k.RehearseSharing(t.Context(), inventory.SharingRehearsal{Below: 10})
	require.NoError(t, err)
	require.Equal(t, 1, got.Items)
	require.Equal(t, stock.Rehearsed{Asked: 3, Sold: 3, Oversold: 1}, got.All, "as it went")
	require.Zero(t, got.Shared.Oversold)
	require.EqualValues(t, 3, got.Shared.Asked)
	require.Len(t, got.List, 1)
	require.Equal(t, "JAR", got.List[0].SKU)
	for _, bad := range []inventory.SharingRehearsal{{}, {Below: 5, Over: 501}, {Below: 5, Days: 91}} {
		_, err := k.RehearseSharing(t.Context(), bad)
		require.ErrorContains(t, err, "below: units from 1 up")
	}
	none, err := k.RehearseSharing(t.Context(), inventory.SharingRehearsal{Below: 5, Days: 1})
	require.NoError(t, err)
	require.Equal(t, 1, none.Items)
}

// TestAShareThatIsRightIsNotToldAgain: a quantity replaces what is shown, sold or not, so other settings of the channel leave it alone.
func TestAShareThatIsRightIsNotToldAgain(t *testing.T) {
	k := sharing(t, 10, 0)
	calls := len(k.Sent("stall", "/stock"))
	c := k.ByCode("stall")
	set := *c.Settings()
	set.Tolerance = 3
	require.NoError(t, k.SetSettings(t.Context(), "stall", set, c.Rec().Revision, "Edda"))
	k.Settle()
	require.Len(t, k.Sent("stall", "/stock"), calls)
	k.Holds()
}

// TestAnEditOfAShare: a channel that shares shows less after each sale without being told; what somebody sets there is measured against
// that, and is more of its share.
func TestAnEditOfAShare(t *testing.T) {
	k := sharing(t, 16, 0)
	takesIn(t, k)
	salesKnown(k, 5)
	before := shown(t, k, "stall")
	require.Greater(t, before, int64(2))
	sells(k, "stall", "S-1", 1)
	calls := len(k.Sent("stall", "/stock"))
	salesKnown(k, 6)
	require.Len(t, k.Sent("stall", "/stock"), calls, "it sold one of its share, and nobody set anything")
	require.EqualValues(t, 16, k.OnHand("JAR"))
	k.Take("stall", edit("e-1", message.StockLevel{SKU: "JAR", Listing: "L-JAR", Quantity: before - 1 + 3, At: k.Now()}))
	salesKnown(k, 7)
	require.EqualValues(t, 16, k.OnHand("JAR"), "its orders from then are not known yet, so it is put back")
	k.Take("stall", edit("e-2", message.StockLevel{SKU: "JAR", Listing: "L-JAR", Quantity: 9, Change: 3, At: k.Now()}))
	require.EqualValues(t, 19, k.OnHand("JAR"), "three more were set there")
	k.Holds()
}
