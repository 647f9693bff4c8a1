package returning_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/returns"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/listing"
	"openrelay/internal/relay/returning"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// sent is a company from which order S-1 has left with 3 jars and a lid.
func sent(t *testing.T) *trial.Kit {
	k := trial.New(t, "ann")
	k.Stock(9, "JAR", "LID")
	k.Sell("S-1", trial.Units("JAR", 3), trial.Units("LID", 1))
	require.NoError(t, k.Label(k.Packed("S-1"), "ann"))
	require.Equal(t, int64(6), k.OnHand("JAR"))
	return k
}

func begin(t *testing.T, k *trial.Kit, n returning.NewReturn) string {
	t.Helper()
	number, err := k.AnnounceReturn(t.Context(), n, "Joss")
	require.NoError(t, err)
	return number
}

func scan(t *testing.T, k *trial.Kit, number, code string, n int64, outcome returns.Outcome) {
	t.Helper()
	require.NoError(t, k.ScanReturned(t.Context(), number, returning.Returned{Code: code, Quantity: n, Outcome: outcome}, "Pim"))
	k.Settle()
}

func returnOf(t *testing.T, k *trial.Kit, number string) store.GoodsReturn {
	t.Helper()
	x, err := k.Store.Return(t.Context(), number)
	require.NoError(t, err)
	return x
}

// TestGoodsComeBack: what is fit is stock at once and can be sold again, the rest is not; a person decides on the refund, and the
// channel is told of it once.
func TestGoodsComeBack(t *testing.T) {
	k := sent(t)
	ctx := t.Context()
	number := begin(t, k, returning.NewReturn{Order: "S-1", Reason: "too many"})
	require.Empty(t, k.Causes())
	scan(t, k, number, "jar", 2, returns.ToStock)
	scan(t, k, number, "LID", 1, returns.ToLook)
	require.Equal(t, int64(8), k.OnHand("JAR"))
	require.Equal(t, int64(8), k.OnHand("LID"), "it is looked at first")
	require.Equal(t, []order.Cause{engine.ReturnWaits}, k.Causes())
	require.ErrorContains(t, k.ScanReturned(ctx, number, returning.Returned{Code: "JAR", Quantity: 2, Outcome: returns.ToStock}, "Pim"),
		"return "+number+": 1 more may come back of order O10001, not 2")
	require.ErrorContains(t, k.ScanReturned(ctx, number, returning.Returned{Code: "SMOKER", Outcome: returns.ToStock}, "Pim"),
		`"SMOKER" did not leave with order O10001. Expected 1 × JAR`)
	require.ErrorContains(t, k.ScanReturned(ctx, number, returning.Returned{Code: "JAR", Outcome: "shelf"}, "Pim"), `outcome "shelf"`)

	require.NoError(t,
		k.MoveReturned(ctx, number, returning.MovedReturn{Code: "LID", From: returns.ToLook, To: returns.WrittenOff}, "Pim"))
	require.NoError(t, k.MoveReturned(ctx, number, returning.MovedReturn{Code: "JAR", From: returns.ToStock}, "Pim"))
	require.Equal(t, int64(7), k.OnHand("JAR"), "a scan too many is taken back")

	require.ErrorContains(t, k.SettleReturn(ctx, number, returning.Settlement{Amount: 4001}, 0, "Joss"), "at most 40.00 EUR")
	require.ErrorIs(t, k.SettleReturn(ctx, number, returning.Settlement{}, 1, "Joss"), store.ErrConflict)
	x := returnOf(t, k, number)
	o, err := k.Store.OrderByID(ctx, x.OrderID)
	require.NoError(t, err)
	p, err := k.ProposeRefund(ctx, &x, o)
	require.NoError(t, err)
	require.Equal(t, int64(2000), p.Total, "a jar and the lid")
	require.NoError(t, k.SettleReturn(ctx, number, returning.Settlement{Amount: p.Total}, x.Revision, "Joss"))
	k.Settle()
	require.Empty(t, k.Causes())
	calls := k.Sent("stall", "/refunds")
	require.Len(t, calls, 1)
	require.EqualValues(t, 2000, calls[0].Body["amount"])
	require.ErrorContains(t, k.SettleReturn(ctx, number, returning.Settlement{}, 0, "Joss"), "is settled; nothing is to be decided")
	require.ErrorContains(t, k.ScanReturned(ctx, number, returning.Returned{Code: "JAR", Outcome: returns.ToStock}, "Pim"), "is settled")
	require.ErrorContains(t, k.CallOffReturn(ctx, number, "Joss"), "cannot be called off")
	k.Holds()

	more := begin(t, k, returning.NewReturn{Order: "S-1"})
	scan(t, k, more, "JAR", 2, returns.ToStock)
	require.NoError(t, k.SettleReturn(ctx, more, returning.Settlement{Amount: 2000}, 0, "Joss"))
	last := begin(t, k, returning.NewReturn{Order: "S-1"})
	require.ErrorContains(t, k.ScanReturned(ctx, last, returning.Returned{Code: "JAR", Outcome: returns.ToStock}, "Pim"),
		"0 more may come back of order O10001")
	require.NoError(t, k.CallOffReturn(ctx, last, "Joss"))
	k.Holds()
}

// TestWhatCameBackIsSoldAgain: an order that waited gets it.
func TestWhatCameBackIsSoldAgain(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(2, "JAR")
	k.Sell("S-1", trial.Units("JAR", 2))
	first := k.Packed("S-1")
	require.NoError(t, k.Label(first, "ann"))
	k.Sell("S-2", trial.Units("JAR", 1))
	require.Equal(t, []order.Cause{order.NoStock}, k.Causes())
	number := begin(t, k, returning.NewReturn{Order: k.ParcelOf(first).Tracking})
	scan(t, k, number, "JAR", 1, returns.ToLook)
	require.Contains(t, k.Causes(), order.NoStock)
	require.NoError(t, k.MoveReturned(t.Context(), number, returning.MovedReturn{Code: "JAR", From: returns.ToLook, To: returns.ToStock},
		"Pim"))
	k.Settle()
	require.Equal(t, "ready", k.Stage("S-2"))
	require.Equal(t, []order.Cause{engine.ReturnWaits}, k.Causes())
	k.Holds()
}

// TestAChannelAnnouncesAReturn, changes it and withdraws it; what fits nothing here is raised with what came.
func TestAChannelAnnouncesAReturn(t *testing.T) {
	k := sent(t)
	m := message.Return{OrderNumber: "S-1", Reason: "chipped", Tracking: "RT 1", Lines: []message.ReturnLine{{SKU: "jar", Quantity: 2}}}
	k.Take("stall", trial.Event("return", "R-1", 1, m))
	x := returnOf(t, k, "RT 1")
	require.Equal(t, []any{returns.Announced, "chipped", int64(2)}, []any{x.Status, x.Reason, x.Lines[0].Announced})
	require.Empty(t, k.Causes(), "nothing is to be decided before it comes")

	m.Lines = []message.ReturnLine{{ID: "1", Quantity: 1}, {ID: "2", Quantity: 1}}
	k.Take("stall", trial.Event("return", "R-1", 2, m))
	require.Len(t, returnOf(t, k, x.Number).Lines, 2)
	scan(t, k, x.Number, "JAR", 1, returns.ToStock)
	require.Empty(t, k.Causes(), "the lid is still to come")

	m.Withdrawn = true
	k.Take("stall", trial.Event("return", "R-1", 3, m))
	require.Equal(t, []order.Cause{engine.NotTakenIn}, k.Causes(), "part of it is here")
	_, err := k.TryAgain(t.Context(), "stall", "Edda")
	require.NoError(t, err)

	k.Take("stall", trial.Event("return", "R-2", 1, message.Return{OrderNumber: "S-9", Lines: []message.ReturnLine{{SKU: "JAR",
		Quantity: 1}}}))
	state, reason := k.Outcome("R-2")
	require.Equal(t, []string{"waiting", "there is no such order here"}, []string{state, reason}, "its order may come")
	for id, odd := range map[string]message.Return{
		"R-3": {OrderNumber: "S-1", Lines: []message.ReturnLine{{SKU: "SPOON", Quantity: 1}}},
		"R-4": {OrderNumber: "S-1", Lines: []message.ReturnLine{{SKU: "JAR", Quantity: 3}}},
	} {
		k.Take("stall", trial.Event("return", id, 1, odd))
		state, reason := k.Outcome(id)
		require.Equal(t, "failed", state)
		require.NotEmpty(t, reason)
	}
	k.Take("stall", trial.Event("return", "R-5", 1, message.Return{OrderNumber: "S-1", Withdrawn: true}))
	state, _ = k.Outcome("R-5")
	require.Equal(t, "skipped", state)

	k.Sell("S-9", trial.Units("JAR", 1))
	require.NoError(t, k.Label(k.Packed("S-9"), "ann"))
	k.Later(time.Hour)
	k.Settle()
	state, _ = k.Outcome("R-2")
	require.Equal(t, "done", state, "its order came")
	k.Holds()
}

// TestEachUnitComesBackOnce: a serial number of another order, one that never left, and one that is back already are refused.
func TestEachUnitComesBackOnce(t *testing.T) {
	k := trial.New(t, "ann")
	ctx := t.Context()
	require.NoError(t, k.AddItems(ctx, []listing.Opening{{Item: catalog.Item{SKU: "SCALE", Name: "A scale", WeightG: 500, LengthMM: 100,
		WidthMM: 80, HeightMM: 40, Price: 1000, Currency: "EUR", Serials: true}, Counts: map[int64]int64{k.PlaceID("alder"): 4}}}, "test"))
	for i, serials := range [][]string{{"A1", "A2"}, {"B1"}} {
		number := fmt.Sprintf("S-%d", i+1)
		k.Sell(number, trial.Units("SCALE", int64(len(serials))))
		s := k.Picked(number)
		_, err := k.Pack(ctx, s, shipping.Packing{Profile: "small", LetIn: true, Serials: map[string][]string{"SCALE": serials}}, "Pim")
		require.NoError(t, err)
		require.NoError(t, k.Label(s, "ann"))
	}
	number := begin(t, k, returning.NewReturn{Order: "S-1"})
	refused := func(g returning.Returned, why string) {
		t.Helper()
		g.Outcome = returns.ToStock
		require.ErrorContains(t, k.ScanReturned(ctx, number, g, "Pim"), why)
	}
	refused(returning.Returned{Code: "SCALE"}, "has a serial number: scan it")
	refused(returning.Returned{Code: "B1"}, "of order O10002, not with O10001")
	refused(returning.Returned{Code: "SCALE", Serial: "Z9"}, "is not known")
	scan(t, k, number, "A1", 1, returns.ToLook)
	refused(returning.Returned{Code: "A1"}, "came back with return "+number+" already")
	require.NoError(t, k.MoveReturned(ctx, number, returning.MovedReturn{Code: "A1", From: returns.ToLook, To: returns.ToStock}, "Pim"))
	refused(returning.Returned{Code: "A1"}, "has not left: it is at Alder Yard")
	require.NoError(t,
		k.MoveReturned(ctx, number, returning.MovedReturn{Code: "A1", From: returns.ToStock, To: returns.WrittenOff}, "Pim"))
	refused(returning.Returned{Code: "A1"}, "came back with return "+number+" already")
	require.NoError(t,
		k.MoveReturned(ctx, number, returning.MovedReturn{Code: "A1", From: returns.WrittenOff, To: returns.ToStock}, "Pim"))
	k.Sell("S-3", trial.Units("SCALE", 1))
	s := k.Picked("S-3")
	_, err := k.Pack(ctx, s, shipping.Packing{Profile: "small", LetIn: true, Serials: map[string][]string{"SCALE": {"A1"}}}, "Pim")
	require.NoError(t, err, "it is sold again")
	require.NoError(t, k.Label(s, "ann"))
	again := begin(t, k, returning.NewReturn{Order: "S-3"})
	scan(t, k, again, "A1", 1, returns.ToStock)
	require.NoError(
		t,
		k.ScanReturned(ctx, number, returning.Returned{Code: "SCALE", Serial: "Z9", Sure: true, Outcome: returns.WrittenOff},
			"Pim"),
	)
	list, err := k.Store.SerialsReturned(ctx, returnOf(t, k, number).ID)
	require.NoError(t, err)
	require.Len(t, list, 2)
	k.Holds()
}

// TestAnExchangeIsAnOrderOfItsOwn: it costs nothing, goes to the same buyer, and each knows the other.
func TestAnExchangeIsAnOrderOfItsOwn(t *testing.T) {
	k := sent(t)
	ctx := t.Context()
	number := begin(t, k, returning.NewReturn{Order: "S-1"})
	_, err := k.ExchangeReturn(ctx, number, returning.Exchange{Lines: []returning.ExchangeLine{{SKU: "SPOON", Quantity: 1}}}, "Joss")
	require.ErrorContains(t, err, "no item is known as SPOON")
	made, err := k.ExchangeReturn(ctx, number, returning.Exchange{Lines: []returning.ExchangeLine{{SKU: "LID", Quantity: 2}}}, "Joss")
	require.NoError(t, err)
	k.Settle()
	require.Equal(t, "ready", k.Stage(made))
	o, err := k.Store.OrderByNumber(ctx, made)
	require.NoError(t, err)
	require.Zero(t, o.Record.Total)
	require.Equal(t, "Maren Tolland", o.ShipTo.Name)
	require.Equal(t, made, returnOf(t, k, number).Exchange)
	_, err = k.ExchangeReturn(ctx, number, returning.Exchange{Lines: []returning.ExchangeLine{{SKU: "LID", Quantity: 2}}}, "Joss")
	require.ErrorContains(t, err, "order "+made+" is sent in place of return")
	require.NoError(t, k.Label(k.Packed(made), "ann"))
	require.Equal(t, "shipped", k.Stage(made))
	k.Holds()
}

// TestARefundThatCannotBeTold asks a person to give the money back.
func TestARefundThatCannotBeTold(t *testing.T) {
	k := sent(t)
	f, _ := k.Feed(k.ByCode("stall"), message.RefundsOut)
	require.NoError(t, k.SetFeed(t.Context(), "stall", message.RefundsOut, false, "", f.Revision, "Edda"))
	number := begin(t, k, returning.NewReturn{Order: "S-1", Location: "pier"})
	scan(t, k, number, "JAR", 1, returns.ToStock)
	require.Equal(t, int64(6), k.OnHand("JAR"), "it came to the other place")
	require.NoError(t, k.SettleReturn(t.Context(), number, returning.Settlement{Amount: 700, Note: "one is chipped"}, 0, "Joss"))
	require.Equal(t, []order.Cause{engine.RefundUntold}, k.Causes())
	x := returnOf(t, k, number)
	require.Equal(t, []any{int64(700), "one is chipped"}, []any{x.Refund, x.Remark})
	var sum int64
	k.Scalar(&sum, "SELECT sum(on_hand) FROM movement WHERE kind='return'")
	require.Equal(t, int64(1), sum)
	k.Holds()
}

// TestNothingComesBackOfWhatIsHere: an order that has not left has no return.
func TestNothingComesBackOfWhatIsHere(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(9, "JAR")
	k.Sell("S-1", trial.Units("JAR", 3))
	_, err := k.AnnounceReturn(t.Context(), returning.NewReturn{Order: "S-1"}, "Joss")
	require.ErrorContains(t, err, "nothing of order O10001 has left")
	_, err = k.AnnounceReturn(t.Context(), returning.NewReturn{Order: "S-7"}, "Joss")
	require.ErrorIs(t, err, store.ErrNotFound)
	s := k.Packed("S-1")
	require.NoError(t, k.Label(s, "ann"))
	number := begin(t, k, returning.NewReturn{Order: "S-1", Lines: map[int64]int64{order.LineID(1, 1): 3}})
	_, err = k.VoidLabel(t.Context(), s, false, "Pim")
	require.ErrorContains(t, err, "3 × JAR of it are to come back with return "+number)
	require.NoError(t, k.CallOffReturn(t.Context(), number, "Joss"))
	k.Again()
	k.Holds()
}

// TestAReturnOfWhatHasNotLeftAfterAll: it is announced while the carrier is asked to void the label; the carrier does, and it ends.
func TestAReturnOfWhatHasNotLeftAfterAll(t *testing.T) {
	k := sent(t)
	s := k.ParcelOf("S10001").Number
	k.On("ann", "/voids", func(trial.Call) (int, any) { return 0, nil })
	ctx, cancel := context.WithCancel(t.Context())
	cancel() // nothing runs by itself here: there is no outcome to wait for
	_, _ = k.VoidLabel(ctx, s, false, "Pim")
	k.Settle()
	number := begin(t, k, returning.NewReturn{Order: "S-1", Lines: map[int64]int64{order.LineID(1, 1): 3}})
	k.On("ann", "/voids", func(trial.Call) (int, any) { return 200, map[string]any{} })
	k.InVain(3)
	require.Equal(t, "packed", k.Stage("S-1"))
	require.Equal(t, returns.CalledOff, returnOf(t, k, number).Status)
	k.Holds()
}
