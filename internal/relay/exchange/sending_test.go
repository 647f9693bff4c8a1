package exchange_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// answers lets the stall take quantities as it is told: 0 is no answer.
func answers(k *trial.Kit, status int, body ...map[string]any) {
	k.On("stall", "/stock", func(trial.Call) (int, any) {
		if len(body) > 0 {
			return status, body[0]
		}
		return status, map[string]any{}
	})
}

// listed is a stall that shows an item, of which so many units lie there.
func listed(t *testing.T, units int64) *trial.Kit {
	t.Helper()
	k := trial.New(t)
	k.Stock(units, "JAR")
	k.Listed("JAR")
	return k
}

// quantityMessage is the newest message to the stall about the quantity of its listing.
func quantityMessage(t *testing.T, k *trial.Kit) store.OutboxMessage {
	t.Helper()
	l, err := k.Store.Listing(t.Context(), "stall", "L-JAR")
	require.NoError(t, err)
	var id int64
	k.Scalar(&id, "SELECT max(id) FROM outbox WHERE subject=?", fmt.Sprintf("listing %d", l.ID))
	m, err := k.Store.Outbox(t.Context(), id)
	require.NoError(t, err)
	return m
}

// TestABusySideIsAskedAgain: each time after a longer while, under the same reference, until it takes it.
func TestABusySideIsAskedAgain(t *testing.T) {
	k := listed(t, 9)
	answers(k, 503)
	k.Sell("S-1", trial.Units("JAR", 2))
	first := quantityMessage(t, k)
	require.Equal(t, store.Waiting, first.State)
	require.NotEmpty(t, first.Error)
	before := len(k.Sent("stall", "/stock"))
	var waits []time.Duration
	for range 4 {
		m := quantityMessage(t, k)
		waits = append(waits, store.Time(m.NextAt).Sub(k.Now()))
		k.Later(waits[len(waits)-1] + time.Millisecond)
		k.Settle()
	}
	require.Greater(t, waits[3], waits[0], "%v", waits)
	calls := k.Sent("stall", "/stock")
	require.Greater(t, len(calls), before)
	require.Equal(t, calls[len(calls)-1].Ref, first.Ref)
	require.Empty(t, k.Exceptions(), "nobody is troubled by it yet")
	answers(k, 200)
	k.InVain(1)
	require.Equal(t, store.Confirmed, quantityMessage(t, k).State)
	k.Holds()
}

// TestWhatIsRefusedIsToldAndSentAgain: the exception names the reason; sent again it goes under its reference and the
// exception ends. What went well, or was overtaken, is not sent again.
func TestWhatIsRefusedIsToldAndSentAgain(t *testing.T) {
	k := listed(t, 9)
	ctx := t.Context()
	answers(k, 422, map[string]any{"error": "no such place"})
	k.Sell("S-1", trial.Units("JAR", 2))
	m := quantityMessage(t, k)
	require.Equal(t, store.Refused, m.State)
	open := k.Exceptions()
	require.Len(t, open, 1)
	require.Equal(t, engine.WriteBackRefused, open[0].Cause)
	require.Contains(t, open[0].Text, "The stall refused stock out of listing")
	require.Contains(t, open[0].Text, "no such place")
	require.Equal(t, m.ID, open[0].OutboxID)

	answers(k, 200)
	require.NoError(t, k.SendAgain(ctx, m.ID, "Edda"))
	k.Settle()
	require.Empty(t, k.Exceptions())
	again := quantityMessage(t, k)
	require.Equal(t, store.Confirmed, again.State)
	require.Equal(t, m.Ref, again.Ref)
	require.ErrorContains(t, k.SendAgain(ctx, m.ID, "Edda"), "is confirmed, only refused ones are sent again")
	require.ErrorIs(t, k.SendAgain(ctx, 9999, "Edda"), store.ErrNotFound)
	k.Holds()
}

// TestAnOldWordIsNotSaidOverANewOne: a refused quantity that was decided anew since cannot be sent again, and its exception
// is over.
func TestAnOldWordIsNotSaidOverANewOne(t *testing.T) {
	k := listed(t, 9)
	answers(k, 422)
	k.Sell("S-1", trial.Units("JAR", 2))
	old := quantityMessage(t, k)
	require.Len(t, k.Exceptions(), 1)
	answers(k, 200)
	k.Sell("S-2", trial.Units("JAR", 1))
	require.Equal(t, store.Confirmed, quantityMessage(t, k).State)
	require.ErrorContains(t, k.SendAgain(t.Context(), old.ID, "Edda"), "a newer message about")
	require.Empty(t, k.Exceptions(), "what the channel shows is right now")
	k.Holds()
}

// TestALockedDoorIsSaidOnce: nothing is lost while we are not let in; when we are again, what waits goes and the exception
// ends.
func TestALockedDoorIsSaidOnce(t *testing.T) {
	k := listed(t, 9)
	answers(k, 401)
	k.Sell("S-1", trial.Units("JAR", 2))
	k.Sell("S-2", trial.Units("JAR", 3))
	require.Equal(t, []order.Cause{engine.CredentialsRefused}, k.Causes())
	list, err := k.Connections(t.Context())
	require.NoError(t, err)
	require.NotEqual(t, "good", list[0].Lamp.State)
	require.Equal(t, store.Waiting, quantityMessage(t, k).State)
	answers(k, 200)
	k.Later(time.Hour)
	k.Settle()
	require.Empty(t, k.Exceptions())
	calls := k.Sent("stall", "/stock")
	require.Equal(t, 4.0, calls[len(calls)-1].Body["quantity"])
	k.Holds()
}

// TestNoAnswerIsNotNo: after the last try a person reads that it may have been carried out, not that it was refused.
func TestNoAnswerIsNotNo(t *testing.T) {
	k := listed(t, 9)
	answers(k, 0)
	k.Sell("S-1", trial.Units("JAR", 2))
	k.InVain(exchange.MaxAttempts)
	require.Len(t, k.Causes(), 1)
	open := k.Exceptions()
	require.Contains(t, open[0].Text, "The stall gave no clear answer to stock out")
	require.Contains(t, open[0].Expected, "It may have been carried out there")
	m := quantityMessage(t, k)
	require.True(t, m.Unclear)
	answers(k, 200)
	require.NoError(t, k.RemakeAll(t.Context()))
	require.NoError(t, k.SendAgain(t.Context(), m.ID, "Edda"))
	k.Settle()
	require.Empty(t, k.Causes())
	k.Holds()
}

// shelved is a company with a shelf that has two of its items and reports on quantities later, as on says.
func shelved(t *testing.T, report func(trial.Call) (int, any)) *trial.Kit {
	t.Helper()
	k := trial.New(t)
	k.Stock(9, "JAR", "LID")
	k.JoinShelf()
	k.On("shelf", "/levels", func(c trial.Call) (int, any) { return 200, map[string]any{"submission": "sub-" + c.Ref} })
	k.Below("shelf", "/levels/", report)
	for _, sku := range []string{"JAR", "LID"} {
		k.Push("shelf", trial.Event("listing", "H-"+sku, 1, message.Listing{SKU: sku, Title: "A " + sku, Price: 1000, Currency: "EUR",
			Live: true}))
	}
	k.Settle()
	k.Later(10 * time.Second)
	k.Settle()
	return k
}

// row is one row of a report of the shelf.
func row(listing string, taken bool, why string) map[string]any {
	return map[string]any{"listing": listing, "taken": taken, "why": why}
}

// TestEachRowOfAReportHasItsOutcome: what was taken is confirmed, what was refused is raised with its reason, and what the
// report does not mention is submitted again.
func TestEachRowOfAReportHasItsOutcome(t *testing.T) {
	full := false
	k := shelved(t, func(trial.Call) (int, any) {
		rows := []any{row("H-JAR", false, "price first")}
		if full {
			rows = []any{row("H-JAR", true, ""), row("H-LID", true, "")}
		}
		return 200, map[string]any{"finished": true, "rows": rows}
	})
	open := k.Exceptions()
	require.Len(t, open, 1)
	require.Contains(t, open[0].Text, "price first")
	before := len(k.Sent("shelf", "/levels"))
	full = true
	k.Later(time.Minute)
	k.Settle()
	require.Greater(t, len(k.Sent("shelf", "/levels")), before, "H-LID was not mentioned")
	k.Later(time.Minute)
	k.Settle()
	lid, err := k.Store.Listing(t.Context(), "shelf", "H-LID")
	require.NoError(t, err)
	require.Equal(t, int64(9), lid.ToldQty)
	require.NoError(t, k.SendAgain(t.Context(), open[0].OutboxID, "Edda"))
	for range 3 {
		k.Settle()
		k.Later(time.Minute)
	}
	jar, err := k.Store.Listing(t.Context(), "shelf", "H-JAR")
	require.NoError(t, err)
	require.Equal(t, int64(9), jar.ToldQty)
	require.Empty(t, k.Exceptions())
	k.Holds()
}

// TestAReportThatNeverComes: the batch is submitted three times, then a person is asked.
func TestAReportThatNeverComes(t *testing.T) {
	k := shelved(t, func(trial.Call) (int, any) { return 200, map[string]any{"finished": false} })
	require.Empty(t, k.Exceptions(), "it is still being worked on there")
	for range 12 {
		k.Later(10 * time.Minute)
		k.Settle()
	}
	require.Len(t, k.Sent("shelf", "/levels"), 3)
	open := k.Exceptions()
	require.Len(t, open, 2, "one for each quantity")
	require.Contains(t, open[0].Text, "came in 20m0s")
	k.Holds()
}

// TestAReportThatCannotBeRead is asked for again, and the submission is not sent twice meanwhile.
func TestAReportThatCannotBeRead(t *testing.T) {
	broken := true
	k := shelved(t, func(trial.Call) (int, any) {
		if broken {
			return 500, map[string]any{}
		}
		return 200, map[string]any{"finished": true, "rows": []any{row("H-JAR", true, ""), row("H-LID", true, "")}}
	})
	for range 3 {
		k.Later(time.Minute)
		k.Settle()
	}
	require.Len(t, k.Sent("shelf", "/levels"), 1)
	broken = false
	for range 3 {
		k.Later(6 * time.Minute)
		k.Settle()
	}
	require.Len(t, k.Sent("shelf", "/levels"), 1)
	jar, err := k.Store.Listing(t.Context(), "shelf", "H-JAR")
	require.NoError(t, err)
	require.Equal(t, int64(9), jar.ToldQty)
	require.Empty(t, k.Exceptions())
	k.Holds()
}

// nicheDefinition is a channel on which what was sent can be read back.
const nicheDefinition = `
connector: niche
title: Niche
side: channel
access:
  way: key
  fields:
    - { name: key, label: Key, secret: true }
  steps: [ "Ask the niche for its key." ]
push:
  signature: { scheme: shared, secret: key, value: header.authorization, prefix: "Bearer " }
  events: messages
calls:
  identity:
    request: { method: GET, path: /who }
    map: { name: body.name, number: body.number, country: body.country }
feeds:
  orders in: { topic: order, record: order, id: event.id, version: event.version, map: item }
  dispatch out:
    send:
      request: { method: POST, path: /parcels, headers: { Idempotency-Key: ref }, body: { order: msg.order_id, tracking: msg.tracking } }
    confirm:
      request: { method: GET, path: "/orders/{msg.order_id}" }
      when: body.tracking == msg.tracking
`

// TestWhatWasTakenIsReadBack: a message is confirmed once it is seen there; what was taken and is not there is said again
// under its reference; in the end a person is asked, and the exception ends with the confirmation.
func TestWhatWasTakenIsReadBack(t *testing.T) {
	k := trial.New(t, "carter")
	k.Learned()
	k.Stock(5, "JAR")
	k.Join("niche", nicheDefinition, nil, message.OrdersIn, message.DispatchOut)
	shown := ""
	k.On("niche", "/orders/N-1", func(trial.Call) (int, any) { return 200, map[string]any{"tracking": shown} })
	k.Take("niche", trial.Event("order", "N-1", 1, trial.Sale("N-1", trial.Units("JAR", 1))))
	shipment := k.Packed("N-1")
	require.NoError(t, k.Label(shipment, "carter"))
	k.Settle()
	m := k.OutboxOf("N-1", message.DispatchOut)
	require.Equal(t, store.Sent, m.State)
	require.Contains(t, m.Error, "reading it back does not show it")
	for range 16 {
		k.Later(10 * time.Minute)
		k.Settle()
	}
	calls := k.Sent("niche", "/parcels")
	require.Len(t, calls, 2, "it was said again, once")
	require.Equal(t, calls[0].Ref, calls[1].Ref)
	require.Equal(t, []order.Cause{engine.WriteBackRefused}, k.Causes())
	shown = k.ParcelOf(shipment).Tracking
	require.NoError(t, k.SendAgain(t.Context(), k.OutboxOf("N-1", message.DispatchOut).ID, "Edda"))
	for range 3 {
		k.Settle()
		k.Later(10 * time.Minute)
	}
	require.Equal(t, store.Confirmed, k.OutboxOf("N-1", message.DispatchOut).State)
	require.Empty(t, k.Exceptions())
	k.Holds()
}

const lookAtStall = `feeds:
  stock out:
    send:
      look: { request: { method: GET, path: /shown, query: { sku: msg.sku } }, found: body.quantity == msg.quantity }
`

// looked is a stall whose answer to a quantity was lost; it can be asked what it shows.
func looked(t *testing.T, shown func(trial.Call) (int, any)) (k *trial.Kit, told int) {
	t.Helper()
	k = listed(t, 9)
	require.NoError(t, k.SetOverrides(t.Context(), "stall", lookAtStall, k.ByCode("stall").Rec().Revision, "Edda"))
	k.On("stall", "/shown", shown)
	answers(k, 0)
	k.Sell("S-1", trial.Units("JAR", 2))
	require.True(t, quantityMessage(t, k).Unclear)
	told = len(k.Sent("stall", "/stock"))
	answers(k, 200)
	return k, told
}

// TestWhatMayHaveArrivedIsLookedFor: it is said again only where the other side does not have it.
func TestWhatMayHaveArrivedIsLookedFor(t *testing.T) {
	for quantity, again := range map[int]int{7: 0, 9: 1} {
		k, told := looked(t, func(trial.Call) (int, any) { return 200, map[string]any{"quantity": quantity} })
		k.InVain(1)
		m := quantityMessage(t, k)
		require.Equal(t, store.Confirmed, m.State)
		require.False(t, m.Unclear)
		require.Len(t, k.Sent("stall", "/stock"), told+again)
		require.Len(t, k.Sent("stall", "/shown"), 1)
		k.Holds()
	}
}

// TestWhereNobodyCanLookItWaits, and after the last try a person reads that it may have been carried out.
func TestWhereNobodyCanLookItWaits(t *testing.T) {
	for _, status := range []int{500, 400} {
		k, told := looked(t, func(trial.Call) (int, any) { return status, map[string]any{} })
		k.InVain(2)
		m := quantityMessage(t, k)
		require.Equal(t, store.Waiting, m.State)
		require.True(t, m.Unclear)
		require.Contains(t, m.Error, "whether it arrived could not be asked")
		require.Len(t, k.Sent("stall", "/stock"), told, "nothing is said twice meanwhile")
		k.InVain(exchange.MaxAttempts)
		require.Contains(t, k.Exceptions()[0].Expected, "It may have been carried out there")
	}
}

// TestAProcessThatEndedWhileItSentHeardNoAnswer, so that it looks first when it is back.
func TestAProcessThatEndedWhileItSentHeardNoAnswer(t *testing.T) {
	k, told := looked(t, func(trial.Call) (int, any) { return 200, map[string]any{"quantity": 7} })
	k.Spoil("UPDATE outbox SET state='sending', unclear=0, next_at=0 WHERE id=?", quantityMessage(t, k).ID)
	k.Again()
	k.InVain(1)
	require.Equal(t, store.Confirmed, quantityMessage(t, k).State)
	require.Len(t, k.Sent("stall", "/stock"), told)
}
