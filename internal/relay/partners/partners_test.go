package partners_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/request"
	"openrelay/internal/core/routing"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/listing"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/partners"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/setup"
	"openrelay/internal/store"
)

// counted lets a partner say how many of an item lie there.
func counted(k *trial.Kit, code, sku string, n int64) {
	k.Take(code, trial.Event("stock_level", code+"-"+sku+k.Now().String(), 1, message.StockLevel{SKU: sku, Quantity: n, At: k.Now()}))
}

// withMill is a company of which all jars lie at a mill that ships for us.
func withMill(t *testing.T, jars int64) *trial.Kit {
	t.Helper()
	k := trial.New(t)
	k.JoinPartner("mill")
	k.Stock(0, "JAR", "LID")
	counted(k, "mill", "JAR", jars)
	return k
}

// asked is the newest request of an order.
func asked(t *testing.T, k *trial.Kit, number string) store.Request {
	t.Helper()
	o, err := k.Store.OrderByNumber(t.Context(), number)
	require.NoError(t, err)
	list, err := k.Store.RequestsOfOrder(t.Context(), o.ID)
	require.NoError(t, err)
	require.NotEmpty(t, list, "a partner was asked")
	return list[len(list)-1]
}

func reference(k *trial.Kit, q store.Request) string { return k.Prefix + "-" + q.Number }

// says lets a partner say something of a request.
func says(k *trial.Kit, q store.Request, m message.RequestState) {
	m.Reference = reference(k, q)
	k.Take(k.Code(q.ConnectionID), trial.Event("state", q.Number+m.State+k.Now().String(), 1, m))
}

// sends lets a partner say that a parcel left.
func sends(k *trial.Kit, q store.Request, tracking string, lines ...message.DispatchLine) {
	k.Take(k.Code(q.ConnectionID), trial.Event("dispatch", "d-"+tracking, 1, message.Dispatch{Reference: tracking, Request: reference(k, q),
		Carrier: "Ironway", Tracking: tracking, Lines: lines}))
}

// TestAPartnerSends what is placed with it: it is asked once, acknowledges, sends in two parcels, and the channel is told of both.
func TestAPartnerSends(t *testing.T) {
	k := withMill(t, 9)
	k.Sell("S-1", trial.Units("JAR", 3))
	q := asked(t, k, "S-1")
	require.Equal(t, request.Asked, q.State)
	require.Equal(t, "routed", k.Stage("S-1"))
	calls := k.Sent("mill", "/requests")
	require.Len(t, calls, 1)
	require.Equal(t, map[string]any{"reference": reference(k, q), "place": "mill", "to": "Maren Tolland", "again": false,
		"lines": []any{map[string]any{"sku": "JAR", "quantity": float64(3), "note": ""}}}, calls[0].Body)
	require.Equal(t, reference(k, q), calls[0].Ref)
	_, err := k.StartPick(t.Context(), "S-1", "Petra")
	require.ErrorContains(t, err, "what is left is sent by The mill")

	says(k, q, message.RequestState{State: request.SaysAcknowledged, ID: "M77", Expected: "2026-11-24"})
	q = asked(t, k, "S-1")
	require.Equal(t, request.Acknowledged, q.State)
	require.Equal(t, "M77", q.TheirID)

	sends(k, q, "AA1", message.DispatchLine{SKU: "JAR", Quantity: 2})
	require.Equal(t, request.PartSent, asked(t, k, "S-1").State)
	require.Equal(t, "part shipped", k.Stage("S-1"))
	sends(k, q, "AA2")
	sends(k, q, "AA2")
	require.Equal(t, request.Sent, asked(t, k, "S-1").State)
	require.Equal(t, "shipped", k.Stage("S-1"))
	require.Len(t, k.Sent("stall", "/parcels"), 2)
	require.Equal(t, int64(6), k.OnHandAt("JAR", "mill"))
	require.Empty(t, k.Exceptions())
	k.Holds()
}

// TestAnAnswerAtOnce counts like one that comes later.
func TestAnAnswerAtOnce(t *testing.T) {
	k := withMill(t, 9)
	k.On("mill", "/requests", func(trial.Call) (int, any) {
		return 200, map[string]any{"id": "M1", "state": "acknowledged"}
	})
	k.Sell("S-1", trial.Units("JAR", 1))
	require.Equal(t, request.Acknowledged, asked(t, k, "S-1").State)
	require.Equal(t, "M1", asked(t, k, "S-1").TheirID)
	k.Holds()
}

// TestACycleOfRefusals: each partner is asked once; then the order waits and says why, until a person lets one be asked again.
func TestACycleOfRefusals(t *testing.T) {
	k := withMill(t, 5)
	k.JoinPartner("forge")
	counted(k, "forge", "JAR", 5)
	k.Sell("S-1", trial.Units("JAR", 2))
	first := asked(t, k, "S-1")
	says(k, first, message.RequestState{State: request.SaysRefused, Reason: "no trays"})
	second := asked(t, k, "S-1")
	require.NotEqual(t, first.ConnectionID, second.ConnectionID)
	require.Equal(t, "routed", k.Stage("S-1"))
	says(k, second, message.RequestState{State: request.SaysRefused, Reason: "too far"})
	require.Equal(t, "held", k.Stage("S-1"))
	require.Equal(t, []order.Cause{order.NoStock}, k.Causes())
	text := k.Exceptions()[0].Text
	require.Contains(t, text, "The mill does not send it: no trays")
	require.Contains(t, text, "The forge does not send it: too far")
	k.Holds()

	require.NoError(t, k.Partners.LetSend(t.Context(), "S-1", "forge", "Edda"))
	k.Settle()
	third := asked(t, k, "S-1")
	require.Equal(t, second.ConnectionID, third.ConnectionID)
	require.NotEqual(t, second.Number, third.Number, "it is another request")
	require.Empty(t, k.Exceptions())

	says(k, second, message.RequestState{State: request.SaysAcknowledged})
	require.Equal(t, []order.Cause{engine.RequestLook}, k.Causes(), "it acknowledges what it had refused")
	k.Holds()
}

// TestARefusalIsPlannedAnew at a place of ours where some lies, and can be picked there.
func TestARefusalIsPlannedAnew(t *testing.T) {
	k := trial.New(t)
	k.JoinPartner("mill")
	k.Stock(1, "JAR")
	counted(k, "mill", "JAR", 5)
	k.Sell("S-1", trial.Units("JAR", 2))
	q := asked(t, k, "S-1")
	require.NoError(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: "JAR", Location: "alder", Change: 5, Reason: "found"}, "Edda"))
	says(k, q, message.RequestState{State: request.SaysChanged, Lines: []message.RequestStateLine{{SKU: "JAR", Quantity: 1}}})
	require.Equal(t, request.Acknowledged, asked(t, k, "S-1").State)
	number, err := k.StartPick(t.Context(), "S-1", "Petra")
	require.NoError(t, err, "the other one is picked at Alder Yard")
	require.NotEmpty(t, number)
	sends(k, q, "AA1")
	require.Equal(t, "part shipped", k.Stage("S-1"))
	k.Holds()

	k.Sell("S-2", trial.Units("JAR", 4))
	require.Equal(t, "ready", k.Stage("S-2"), "all of it lies at Alder Yard")
	k.Holds()
}

// TestAnOrderIsCancelled while a partner is asked: it is called off there; what left before that is raised and changes nothing.
func TestAnOrderIsCancelled(t *testing.T) {
	k := withMill(t, 9)
	k.Sell("S-1", trial.Units("JAR", 2))
	says(k, asked(t, k, "S-1"), message.RequestState{State: request.SaysAcknowledged})
	k.CancelOrder("S-1")
	k.Settle()
	q := asked(t, k, "S-1")
	require.Equal(t, request.Stopping, q.State)
	require.Equal(t, reference(k, q), k.Sent("mill", "/cancellations")[0].Body["request"])
	says(k, q, message.RequestState{State: request.SaysCalledOff})
	require.Equal(t, request.CalledOff, asked(t, k, "S-1").State)
	require.Empty(t, k.Exceptions())
	k.Holds()

	k.Sell("S-2", trial.Units("JAR", 2))
	k.CancelOrder("S-2")
	k.Settle()
	q = asked(t, k, "S-2")
	says(k, q, message.RequestState{State: request.SaysNotCalledOff, Reason: "on the van"})
	require.Equal(t, []order.Cause{engine.RequestLook}, k.Causes())
	sends(k, q, "AA1")
	require.Equal(t, []order.Cause{engine.SentUnwanted}, k.Causes(), "what it was raised for has come to pass")
	require.Contains(t, k.Exceptions()[0].Text, "2 × JAR with Ironway AA1")
	require.Equal(t, "cancelled", k.Stage("S-2"))
	require.True(t, asked(t, k, "S-2").State.Ended())
	require.Empty(t, k.Sent("stall", "/parcels"))
	k.Holds()
}

// TestAPartOfAnOrderIsCancelled: all of the request is called off, and what is still wanted is asked for anew.
func TestAPartOfAnOrderIsCancelled(t *testing.T) {
	k := withMill(t, 9)
	k.Sell("S-1", trial.Units("JAR", 3))
	first := asked(t, k, "S-1")
	o, err := k.Store.OrderByNumber(t.Context(), "S-1")
	require.NoError(t, err)
	require.NoError(t, k.CancelUnits(t.Context(), "S-1", orders.Cancelling{Reason: "too many", Lines: map[int64]int64{o.Lines[0].ID: 2}}, 0,
		"Edda"))
	k.Settle()
	require.Equal(t, request.Stopping, asked(t, k, "S-1").State)
	says(k, first, message.RequestState{State: request.SaysCalledOff})
	second := asked(t, k, "S-1")
	require.NotEqual(t, first.Number, second.Number)
	require.EqualValues(t, 1, second.Open())
	require.Equal(t, request.Asked, second.State)
	k.Holds()
}

// TestMoreThanWasAskedFor left: the order has what it wanted, the rest is raised.
func TestMoreThanWasAskedFor(t *testing.T) {
	k := withMill(t, 9)
	k.Sell("S-1", trial.Units("JAR", 1))
	sends(k, asked(t, k, "S-1"), "AA1", message.DispatchLine{SKU: "JAR", Quantity: 3}, message.DispatchLine{SKU: "LID", Quantity: 1})
	require.Equal(t, "shipped", k.Stage("S-1"))
	require.Equal(t, []order.Cause{engine.SentUnwanted}, k.Causes())
	require.Contains(t, k.Exceptions()[0].Text, "sent 2 × JAR, 1 × LID")
	k.Holds()
}

// TestASilentPartner is asked again under the same reference, then a person is; a late word ends that.
func TestASilentPartner(t *testing.T) {
	k := withMill(t, 9)
	require.NoError(t, k.Partners.Agreed.Change(t.Context(), k.Engine, []request.Terms{{Partner: "mill", Within: 2, Sends: 4}}, "Edda"))
	k.Sell("S-1", trial.Units("JAR", 1))
	for range 3 {
		k.Later(2*time.Hour + time.Minute)
		k.Settle()
	}
	calls := k.Sent("mill", "/requests")
	require.Len(t, calls, 3)
	require.Equal(t, calls[0].Ref, calls[2].Ref)
	require.Equal(t, true, calls[2].Body["again"])
	require.Equal(t, []order.Cause{engine.RequestSilent}, k.Causes())
	says(k, asked(t, k, "S-1"), message.RequestState{State: request.SaysAcknowledged})
	require.Empty(t, k.Exceptions())

	k.Later(5 * time.Hour)
	k.Settle()
	require.Equal(t, []order.Cause{engine.RequestSilent}, k.Causes())
	require.Contains(t, k.Exceptions()[0].Text, "has not sent all of request")
	require.NoError(t, k.Partners.SentTyped(t.Context(), asked(t, k, "S-1").Number, partners.SentByHand{Carrier: "Ironway",
		Tracking: "AA1"},
		"Edda"))
	k.Settle()
	require.Equal(t, "shipped", k.Stage("S-1"))
	require.Empty(t, k.Exceptions())
	k.Holds()
}

// TestNoAnswerIsNotANo: the same is asked under the same reference until there is one, and nobody else meanwhile.
func TestNoAnswerIsNotANo(t *testing.T) {
	k := withMill(t, 9)
	dead := true
	k.On("mill", "/requests", func(trial.Call) (int, any) {
		if dead {
			return 0, nil
		}
		return 200, map[string]any{}
	})
	k.Sell("S-1", trial.Units("JAR", 1))
	k.InVain(20)
	require.Equal(t, []order.Cause{engine.RequestSilent}, k.Causes())
	require.Equal(t, request.Asked, asked(t, k, "S-1").State)
	refs := map[string]bool{}
	for _, c := range k.Sent("mill", "/requests") {
		refs[c.Ref] = true
	}
	require.Len(t, refs, 1)
	dead = false
	k.Later(20 * time.Minute)
	k.Settle()
	says(k, asked(t, k, "S-1"), message.RequestState{State: request.SaysAcknowledged})
	k.Later(2 * time.Minute)
	k.Settle()
	require.Empty(t, k.Exceptions())
	k.Holds()
}

// TestARequestThatIsNotTaken waits with what the partner says is wrong; asked again it goes on, or it is planned elsewhere.
func TestARequestThatIsNotTaken(t *testing.T) {
	k := withMill(t, 9)
	wrong := true
	k.On("mill", "/requests", func(trial.Call) (int, any) {
		if wrong {
			return 422, map[string]any{"error": "no such service"}
		}
		return 200, map[string]any{}
	})
	k.Sell("S-1", trial.Units("JAR", 1))
	k.Sell("S-2", trial.Units("JAR", 1))
	require.Equal(t, request.Waits, asked(t, k, "S-1").State)
	require.ElementsMatch(t, []order.Cause{engine.RequestRefused, engine.RequestRefused}, k.AllCauses())
	wrong = false
	require.NoError(t, k.Partners.AskAgain(t.Context(), asked(t, k, "S-1").Number, "Edda"))
	require.NoError(t, k.Partners.CallOff(t.Context(), asked(t, k, "S-2").Number, "", "Edda"))
	k.Settle()
	require.Equal(t, request.Asked, asked(t, k, "S-1").State)
	require.Equal(t, request.CalledOff, asked(t, k, "S-2").State)
	require.Equal(t, "held", k.Stage("S-2"), "it lies nowhere else")
	require.Equal(t, []order.Cause{order.NoStock}, k.Causes())
	k.Holds()
}

// TestAnItemWithoutAName: requests wait until it is said what the partner calls it, all of them then go on, by themselves.
func TestAnItemWithoutAName(t *testing.T) {
	k := withMill(t, 9)
	require.NoError(t, k.Partners.Agreed.Change(t.Context(), k.Engine, []request.Terms{{Partner: "mill", Items: request.TheirNames}},
		"Edda"))
	k.Sell("S-1", trial.Units("JAR", 1))
	k.Sell("S-2", trial.Units("JAR", 2))
	require.Empty(t, k.Sent("mill", "/requests"))
	require.Equal(t, request.Waits, asked(t, k, "S-2").State)
	require.Equal(t, []order.Cause{engine.UnknownThere, engine.UnknownThere}, k.Causes(), "for each order that waits")
	require.NoError(t, k.Partners.SayItem(t.Context(), "mill", partners.PartnerItem{SKU: "JAR", Code: " J 500\n"}, "Edda"))
	k.Settle()
	require.Empty(t, k.Exceptions())
	calls := k.Sent("mill", "/requests")
	require.Len(t, calls, 2)
	require.Equal(t, "J 500", calls[0].Body["lines"].([]any)[0].(map[string]any)["sku"])
	sends(k, asked(t, k, "S-2"), "AA1", message.DispatchLine{SKU: "j 500", Quantity: 2})
	require.Equal(t, "shipped", k.Stage("S-2"))
	k.Later(time.Hour)
	counted(k, "mill", "J 500", 4)
	require.Equal(t, int64(4), k.OnHandAt("JAR", "mill"), "its stock comes under that name, too")
	require.NoError(t, k.Partners.SettleDifference(t.Context(), 1, "broken", "Edda"))

	says(k, asked(t, k, "S-1"), message.RequestState{State: request.SaysUnknown})
	require.Equal(t, []order.Cause{engine.UnknownThere}, k.Causes(), "it says that it does not know it after all")
	require.Error(t, k.Partners.SayItem(t.Context(), "mill", partners.PartnerItem{SKU: "LID", Code: "J 500"}, "Edda"))
	require.Error(t, k.Partners.SayItem(t.Context(), "mill", partners.PartnerItem{SKU: "LID", Code: "L", Ignored: true}, "Edda"))
	require.NoError(t, k.Partners.SayItem(t.Context(), "mill", partners.PartnerItem{SKU: "JAR", Code: "J501"}, "Edda"))
	k.Settle()
	require.Equal(t, request.Asked, asked(t, k, "S-1").State)
	require.Empty(t, k.Exceptions())
	k.Holds()
}

// TestAnItemThatIsNeverAskedFor counts as sent with the last of the others.
func TestAnItemThatIsNeverAskedFor(t *testing.T) {
	k := withMill(t, 9)
	counted(k, "mill", "LID", 9)
	require.NoError(t, k.Partners.SayItem(t.Context(), "mill", partners.PartnerItem{SKU: "LID", Ignored: true}, "Edda"))
	k.Sell("S-1", trial.Units("JAR", 2), trial.Units("LID", 1))
	require.Len(t, k.Sent("mill", "/requests")[0].Body["lines"], 1)
	q := asked(t, k, "S-1")
	sends(k, q, "AA1", message.DispatchLine{SKU: "JAR", Quantity: 1})
	require.Equal(t, "part shipped", k.Stage("S-1"))
	sends(k, q, "AA2", message.DispatchLine{SKU: "JAR", Quantity: 1})
	require.Equal(t, "shipped", k.Stage("S-1"))
	k.Holds()

	k.Sell("S-2", trial.Units("LID", 1))
	require.Equal(t, []order.Cause{engine.RequestLook}, k.Causes(), "nothing of it is ever asked for")
	k.Holds()
}

// TestTestAndLive: what is asked in test moves nothing, is cleared when the partner goes live, and is then asked for.
func TestTestAndLive(t *testing.T) {
	k := withMill(t, 9)
	require.NoError(t, k.SetTest(t.Context(), "mill", true, 0, "Edda"))
	k.Sell("S-1", trial.Units("JAR", 2))
	q := asked(t, k, "S-1")
	require.True(t, q.Test)
	require.Equal(t, "true", k.Sent("mill", "/requests")[0].Body["test"])
	says(k, q, message.RequestState{State: request.SaysAcknowledged})
	sends(k, q, "AA1")
	require.Equal(t, request.Sent, asked(t, k, "S-1").State)
	require.Equal(t, "ready", k.Stage("S-1"))
	require.Equal(t, int64(9), k.OnHandAt("JAR", "mill"))
	require.Empty(t, k.Sent("stall", "/parcels"))
	k.Holds()

	require.NoError(t, k.SetTest(t.Context(), "mill", false, 0, "Edda"))
	k.Settle()
	real := asked(t, k, "S-1")
	require.False(t, real.Test)
	require.Equal(t, request.Asked, real.State)
	o, err := k.Store.OrderByNumber(t.Context(), "S-1")
	require.NoError(t, err)
	list, err := k.Store.RequestsOfOrder(t.Context(), o.ID)
	require.NoError(t, err)
	require.Len(t, list, 1, "what was tried is cleared")
	k.Holds()
}

// TestAskedByHand: nothing goes out until a person says so.
func TestAskedByHand(t *testing.T) {
	k := withMill(t, 9)
	require.NoError(t, k.Partners.Agreed.Change(t.Context(), k.Engine, []request.Terms{{Partner: "mill", ByHand: true}}, "Edda"))
	k.Sell("S-1", trial.Units("JAR", 2))
	require.Empty(t, k.Sent("mill", "/requests"))
	require.Equal(t, "ready", k.Stage("S-1"))
	require.NoError(t, k.Partners.AskFor(t.Context(), "S-1", "Edda"))
	k.Settle()
	require.Len(t, k.Sent("mill", "/requests"), 1)
	require.ErrorContains(t, k.Partners.AskFor(t.Context(), "S-1", "Edda"), "no partner is to send anything")
	k.Sell("S-2", trial.Units("JAR", 1))
	require.NoError(t, k.Partners.Agreed.Change(t.Context(), k.Engine, []request.Terms{{Partner: "mill"}}, "Edda"))
	k.Settle()
	require.Len(t, k.Sent("mill", "/requests"), 2, "it may be asked by itself now")
	k.Holds()
}

// TestAPartnerOfTwoPlaces is asked for all that waits at both, however the orders of the two follow each other.
func TestAPartnerOfTwoPlaces(t *testing.T) {
	k := withMill(t, 200)
	_, err := k.ApplySetup(t.Context(), setup.Setup{Version: 1, Locations: []setup.Location{{Code: "shed", Name: "Its shed",
		Keeper: "mill"}}}, nil, "Edda")
	require.NoError(t, err)
	s := *k.ByCode("stall").Settings()
	s.Offer.Sources = append(slices.Clone(s.Offer.Sources), k.PlaceID("shed"))
	require.NoError(t, k.SetSettings(t.Context(), "stall", s, k.ByCode("stall").Rec().Revision, "Edda"))
	k.Take("mill", trial.Event("stock_level", "shed-LID", 1, message.StockLevel{SKU: "LID", Location: "shed", Quantity: 200, At: k.Now()}))
	require.Equal(t, int64(200), k.OnHandAt("LID", "shed"))
	require.NoError(t, k.Partners.Agreed.Change(t.Context(), k.Engine, []request.Terms{{Partner: "mill", ByHand: true}}, "Edda"))
	const each = 55 // more than are looked at in one change
	for i := range 2 * each {
		k.Sell(fmt.Sprintf("S-%d", i), trial.Units([]string{"LID", "JAR"}[i/each], 1))
	}
	require.Empty(t, k.Sent("mill", "/requests"))
	require.NoError(t, k.Partners.Agreed.Change(t.Context(), k.Engine, []request.Terms{{Partner: "mill"}}, "Edda"))
	k.Settle()
	require.Len(t, k.Sent("mill", "/requests"), 2*each)
	k.Holds()
}

// TestAPartnerThatWasLeft: an order that it was asked for can still be cancelled; a person is told to tell it, and says what it answered.
func TestAPartnerThatWasLeft(t *testing.T) {
	k := withMill(t, 9)
	k.Sell("S-1", trial.Units("JAR", 2))
	require.NoError(t, k.Leave(t.Context(), "mill", "Edda"))
	k.CancelOrder("S-1")
	k.Settle()
	q := asked(t, k, "S-1")
	require.Equal(t, request.Stopping, q.State)
	require.Contains(t, k.Causes(), engine.RequestLook)
	require.NoError(t, k.Partners.Say(t.Context(), q.Number, partners.SaidByHand{Says: request.SaysCalledOff}, "Edda"))
	require.Equal(t, request.CalledOff, asked(t, k, "S-1").State)
	require.NotContains(t, k.Causes(), engine.RequestLook)
	k.Holds()
}

// TestWhatAPartnerBills is compared with what was agreed; the same twice, and what never left, is raised.
func TestWhatAPartnerBills(t *testing.T) {
	k := withMill(t, 9)
	require.NoError(t, k.Partners.Agreed.Change(t.Context(), k.Engine, []request.Terms{{Partner: "mill", Order: 200, Unit: 30, Parcel: 50}},
		"Edda"))
	k.Sell("S-1", trial.Units("JAR", 2))
	k.Sell("S-2", trial.Units("JAR", 1))
	q, open := asked(t, k, "S-1"), asked(t, k, "S-2")
	bill := func(number, of, what string, amount int64) {
		k.Take("mill", trial.Event("bill", number+of+what, 1, message.BillLine{Bill: number, Request: of, What: what, Amount: amount,
			Currency: "EUR"}))
	}
	bill("F-1", reference(k, q), "handling", 310)
	require.Equal(t, []order.Cause{engine.BillDiffers}, k.Causes(), "nothing of it has left yet")
	sends(k, q, "AA1")
	require.EqualValues(t, 310, asked(t, k, "S-1").Cost)
	require.Empty(t, k.Exceptions(), "now it agrees")
	bill("F-2", "S-1", "handling", 310)
	require.Equal(t, []order.Cause{engine.BillDiffers}, k.Causes())
	lines, err := k.Store.BillLines(t.Context(), []string{store.BillDiffers}, 0, 9)
	require.NoError(t, err)
	require.Contains(t, lines[0].Why, "billed on F-1 and again on F-2")
	require.NoError(t, k.Partners.DecideBill(t.Context(), lines[0].ID, shipping.SayOfBill{State: "disputed"}, "Bo"))
	require.EqualValues(t, 310, asked(t, k, "S-1").Billed, "what is disputed does not count")
	require.Empty(t, k.Exceptions())
	bill("F-2", "AA1", "surcharge", 0)
	bill("F-2", open.Number, "handling", 100)
	require.Equal(t, []order.Cause{engine.BillDiffers}, k.Causes())
	bill("F-2", "nobody", "handling", 100)
	k.Holds()
}

// TestTheirStock falls by their word: a count that is another than our books is shown until somebody has looked, and what was promised
// and nobody has asked for is planned anew where less lies there.
func TestTheirStock(t *testing.T) {
	k := withMill(t, 9)
	require.Empty(t, k.Exceptions(), "the first word is no difference")
	require.NoError(t, k.Partners.Agreed.Change(t.Context(), k.Engine, []request.Terms{{Partner: "mill", ByHand: true}}, "Edda"))
	k.Sell("S-1", trial.Units("JAR", 2))
	k.Later(time.Minute)
	k.Sell("S-2", trial.Units("JAR", 2))
	k.Later(time.Hour)
	counted(k, "mill", "JAR", 3)
	require.ElementsMatch(t, []order.Cause{engine.StockDiffers, order.NoStock}, k.AllCauses())
	require.Equal(t, "ready", k.Stage("S-1"), "the oldest promise is kept")
	require.Equal(t, "held", k.Stage("S-2"))
	list, err := k.Store.StockDifferences(t.Context(), 0, true, 0, 9)
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.EqualValues(t, []int64{9, 3}, []int64{list[0].Ours, list[0].Theirs})
	require.NoError(t, k.Partners.SettleDifference(t.Context(), list[0].ID, "a leak", "Edda"))
	require.ErrorIs(t, k.Partners.SettleDifference(t.Context(), list[0].ID, "", "Edda"), store.ErrNotFound)
	require.Equal(t, []order.Cause{order.NoStock}, k.Causes())
	k.Holds()
}

// TestWhatWasCountedAlready does not fall twice: their word of the stock came before that of the parcel.
func TestWhatWasCountedAlready(t *testing.T) {
	k := withMill(t, 9)
	k.Sell("S-1", trial.Units("JAR", 2))
	q, left := asked(t, k, "S-1"), k.Now()
	k.Later(time.Hour)
	counted(k, "mill", "JAR", 7)
	k.Take("mill", trial.Event("dispatch", "d-1", 1, message.Dispatch{Reference: "AA1", Request: reference(k, q), Carrier: "Ironway",
		Tracking: "AA1", ShippedAt: left}))
	require.Equal(t, "shipped", k.Stage("S-1"))
	require.Equal(t, int64(7), k.OnHandAt("JAR", "mill"))
	k.Holds()
}

// TestAParcelThatHadNotLeft is open again, and a corrected number is told.
func TestAParcelThatHadNotLeft(t *testing.T) {
	k := withMill(t, 9)
	k.Sell("S-1", trial.Units("JAR", 2))
	q := asked(t, k, "S-1")
	told := message.Dispatch{Reference: "P1", Request: reference(k, q), Carrier: "Ironway", Tracking: "AA1"}
	k.Take("mill", trial.Event("dispatch", "d-1", 1, told))
	told.Tracking = "AA2"
	k.Take("mill", trial.Event("dispatch", "d-1", 2, told))
	require.Equal(t, "AA2", k.Sent("stall", "/parcels")[1].Body["tracking"])
	require.Equal(t, request.Sent, asked(t, k, "S-1").State)
	told.Withdrawn = true
	k.Take("mill", trial.Event("dispatch", "d-1", 3, told))
	require.Equal(t, request.Acknowledged, asked(t, k, "S-1").State)
	require.EqualValues(t, 2, func() int64 { q := asked(t, k, "S-1"); return q.Open() }())
	require.Len(t, k.Sent("mill", "/requests"), 1, "it is not asked twice")
	k.Holds()
}

// TestSendItFromElsewhere: a person calls it off, and it is planned anew only once the partner has agreed.
func TestSendItFromElsewhere(t *testing.T) {
	k := withMill(t, 9)
	k.Sell("S-1", trial.Units("JAR", 2))
	require.NoError(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: "JAR", Location: "alder", Change: 5, Reason: "found"}, "Edda"))
	k.Settle()
	q := asked(t, k, "S-1")
	require.NoError(t, k.Partners.CallOff(t.Context(), q.Number, "", "Edda"))
	k.Settle()
	_, err := k.StartPick(t.Context(), "S-1", "Petra")
	require.Error(t, err, "it may still be sent from there")
	require.NoError(t, k.Partners.Say(t.Context(), q.Number, partners.SaidByHand{Says: request.SaysCalledOff}, "Edda"))
	k.Settle()
	_, err = k.StartPick(t.Context(), "S-1", "Petra")
	require.NoError(t, err)
	require.ErrorContains(t, k.Partners.CallOff(t.Context(), q.Number, "", "Edda"), "is called off")
	require.ErrorContains(t, k.Partners.Say(t.Context(), q.Number, partners.SaidByHand{Says: request.SaysClosed}, "Edda"),
		"nothing follows")
	k.Holds()
}

// TestWhatFitsNoRequest is raised with what came, and keeps back no other.
func TestWhatFitsNoRequest(t *testing.T) {
	k := withMill(t, 9)
	k.Sell("S-1", trial.Units("JAR", 2))
	q := asked(t, k, "S-1")
	k.Take("mill", trial.Event("state", "x-1", 1, message.RequestState{Reference: "ZZ-9", State: request.SaysAcknowledged}),
		trial.Event("dispatch", "x-3", 1, message.Dispatch{Reference: "x", Request: "ZZ-9", Tracking: "ZZ1"}),
		trial.Event("state", "x-4", 1, message.RequestState{Reference: reference(k, q), State: request.SaysAcknowledged}))
	require.Equal(t, request.Acknowledged, asked(t, k, "S-1").State)
	require.ElementsMatch(t, []order.Cause{engine.NotApplied, engine.NotApplied}, k.AllCauses())
	k.Holds()
}

func TestTermsAreChecked(t *testing.T) {
	k := withMill(t, 1)
	for _, bad := range [][]request.Terms{{{Partner: "stall"}}, {{Partner: "mill"}, {Partner: "mill"}}, {{Partner: "mill", Unit: -1}}} {
		require.Error(t, k.Partners.Agreed.Change(t.Context(), k.Engine, bad, "Edda"))
	}
}

// TestAPartnerIsWeighed by what it asks: it sends where that costs less than our own freight and work.
func TestAPartnerIsWeighed(t *testing.T) {
	k := withMill(t, 9)
	require.NoError(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: "JAR", Location: "alder", Change: 9, Reason: "found"}, "Edda"))
	require.NoError(t, k.Routing.SetPolicy(t.Context(), routing.Policy{On: true, Parcel: 300}, "Edda"))
	agree := func(order int64) {
		require.NoError(t, k.Partners.Agreed.Change(t.Context(), k.Engine, []request.Terms{{Partner: "mill", Order: order, Days: 2}},
			"Edda"))
	}
	agree(500)
	k.Sell("S-1", trial.Units("JAR", 1))
	require.Equal(t, "ready", k.Stage("S-1"), "Alder Yard sends it")
	agree(100)
	k.Sell("S-2", trial.Units("JAR", 1))
	require.Equal(t, request.Asked, asked(t, k, "S-2").State)
	p, err := k.Routing.PlanOf(t.Context(), "S-2")
	require.NoError(t, err)
	require.EqualValues(t, 100, p.Plan.Cost)
	says(k, asked(t, k, "S-2"), message.RequestState{State: request.SaysRefused, Reason: "closed today"})
	require.Equal(t, "ready", k.Stage("S-2"))
	p, err = k.Routing.PlanOf(t.Context(), "S-2")
	require.NoError(t, err)
	require.Equal(t, "alder", p.Plan.Entries[0].Place)
	require.Contains(t, p.Bars, routing.Bar{Place: "mill", Why: "has refused: closed today"})
	k.Holds()
}

// TestKilledInEachStep: wherever the process ends, each request goes out under one reference, and nothing is sent or booked twice.
func TestKilledInEachStep(t *testing.T) {
	k := withMill(t, 9)
	k.On("mill", "/requests", func(trial.Call) (int, any) { return 200, map[string]any{"id": "M1"} })
	lives := func() {
		for range 60 {
			steps, err := k.Steps()
			require.NoError(t, err)
			did := false
			for _, s := range steps {
				if s.At.After(k.Now()) || s.Name == "watch" {
					continue
				}
				require.NoError(t, s.Do(), s.Name)
				k.Again() // it ended right after that, and begins anew
				did = true
				break
			}
			if !did {
				return
			}
			k.Later(exchange.StockPace)
		}
	}
	k.Push("stall", trial.Event("order", "S-1", 1, trial.Sale("S-1", trial.Units("JAR", 3))))
	lives()
	q := asked(t, k, "S-1")
	say := func(topic, id string, m any) {
		k.Push("mill", trial.Event(topic, id, 1, m))
		k.Again()
		lives()
	}
	say("state", "a", message.RequestState{Reference: reference(k, q), State: request.SaysAcknowledged})
	say("dispatch", "b", message.Dispatch{Reference: "P1", Request: reference(k, q), Carrier: "Ironway", Tracking: "AA1",
		Lines: []message.DispatchLine{{SKU: "JAR", Quantity: 1}}})
	say("state", "c", message.RequestState{Reference: reference(k, q), State: request.SaysClosed, Reason: "one only"})
	refs := map[string]bool{}
	for _, c := range k.Sent("mill", "/requests") {
		refs[c.Ref] = true
	}
	require.Len(t, refs, 1)
	require.Len(t, k.Sent("stall", "/parcels"), 1)
	require.Equal(t, request.Sent, asked(t, k, "S-1").State)
	require.Equal(t, int64(8), k.OnHandAt("JAR", "mill"))
	k.Holds()
}

// TestAKitIsAskedForInItsParts where the partner has no name for it, and leaves with them.
func TestAKitIsAskedForInItsParts(t *testing.T) {
	k := withMill(t, 9)
	counted(k, "mill", "LID", 9)
	require.NoError(t, k.AddItems(t.Context(), []listing.Opening{{Item: catalog.Item{SKU: "SET", Name: "A set", Kind: catalog.Kit,
		Price:    900,
		Currency: "EUR", Parts: []catalog.Part{{SKU: "JAR", Quantity: 2}, {SKU: "LID", Quantity: 2}}}}}, "test"))
	k.Sell("S-1", trial.Units("SET", 2))
	lines := k.Sent("mill", "/requests")[0].Body["lines"].([]any)
	require.Len(t, lines, 2)
	require.Equal(t, []any{"JAR", 4.0}, []any{lines[0].(map[string]any)["sku"], lines[0].(map[string]any)["quantity"]})
	sends(k, asked(t, k, "S-1"), "AA1", message.DispatchLine{SKU: "JAR", Quantity: 2}, message.DispatchLine{SKU: "LID", Quantity: 2})
	require.Equal(t, request.PartSent, asked(t, k, "S-1").State)
	sends(k, asked(t, k, "S-1"), "AA2")
	require.Equal(t, "shipped", k.Stage("S-1"))
	require.Equal(t, int64(5), k.OnHandAt("JAR", "mill"))
	k.Holds()
}

// TestItsStockWaitsForAName: what it said of an item under a name that was not known is taken in once that is said.
func TestItsStockWaitsForAName(t *testing.T) {
	k := withMill(t, 1)
	k.Take("mill", trial.Event("stock_level", "L-77", 1, message.StockLevel{SKU: "L-77", Quantity: 6, At: k.Now()}))
	state, why := k.Outcome("L-77")
	require.Equal(t, "skipped", state)
	require.Contains(t, why, "no item with SKU L-77")
	require.NoError(t, k.Partners.SayItem(t.Context(), "mill", partners.PartnerItem{SKU: "LID", Code: "L-77"}, "Edda"))
	k.Settle()
	require.Equal(t, int64(6), k.OnHandAt("LID", "mill"))
	k.Holds()
}
