package shipping_test

import (
	"context"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// askVoid asks for a void and does all that follows.
func askVoid(t *testing.T, k *trial.Kit, parcel string) error {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	cancel() // nothing runs by itself here: there is no outcome to wait for
	_, err := k.VoidLabel(ctx, parcel, false, "Pim")
	if _, refused := engine.IsRefused(err); refused {
		return err
	}
	k.Settle()
	return nil
}

func told(t *testing.T, k *trial.Kit, number string) (d message.Dispatch) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(k.OutboxOf(number, message.DispatchOut).Payload), &d))
	return d
}

// TestALabelIsVoidedAndTheParcelIsPackedAgain: the carrier, the stock, the manifest, the reports and the channel agree
// afterwards, and the parcel leaves by another carrier under the same reference.
func TestALabelIsVoidedAndTheParcelIsPackedAgain(t *testing.T) {
	k, s := labelKit(t)
	require.ErrorContains(t, askVoid(t, k, s), "there is nothing to void")
	require.NoError(t, k.Label(s, "ann"))
	first := k.ParcelOf(s)
	require.Equal(t, int64(3), k.OnHand("JAR"))
	reference := told(t, k, "S-1").Reference

	require.NoError(t, askVoid(t, k, s))
	back := k.ParcelOf(s)
	require.Equal(t, []any{store.ToShip, "", int64(0), int64(0), int64(0)},
		[]any{back.State, back.Tracking, back.ManifestID, back.Price, back.ShippedAt})
	require.Equal(t, "packed", k.Stage("S-1"))
	require.Equal(t, int64(5), k.OnHand("JAR"))
	require.Len(t, k.Sent("ann", "/voids"), 1)
	withdrawn := told(t, k, "S-1")
	require.Equal(t, []any{reference, first.Tracking, true}, []any{withdrawn.Reference, withdrawn.Tracking, withdrawn.Withdrawn})
	require.Empty(t, k.Causes())
	k.Holds()

	require.NoError(t, k.Label(s, "bob"))
	again := told(t, k, "S-1")
	require.Equal(t, []any{reference, k.ParcelOf(s).Tracking, false}, []any{again.Reference, again.Tracking, again.Withdrawn})
	require.Equal(t, "shipped", k.Stage("S-1"))
	require.Equal(t, int64(3), k.OnHand("JAR"))
	k.Holds()

	scanned(t, k, "T-1", first.Tracking, "accepted")
	require.Equal(t, []order.Cause{engine.VoidRefused}, k.Causes(), "a voided label moves: a person looks which one is on the carton")
	scanned(t, k, "T-2", k.ParcelOf(s).Tracking, "accepted")
	require.ErrorContains(t, askVoid(t, k, s), "Bob has parcel "+s+" already; only a return brings it back")
	k.Holds()
}

// TestWhatIsOnAClosedListIsNotVoided: what the carrier takes with it has left.
func TestWhatIsOnAClosedListIsNotVoided(t *testing.T) {
	k, s := labelKit(t)
	require.NoError(t, k.Label(s, "ann"))
	manifest := k.ParcelOf(s).ManifestID
	require.NoError(t, k.CloseManifest(t.Context(), manifest, "Pim"))
	require.ErrorContains(t, askVoid(t, k, s), "which is closing; only a return brings it back")
	k.Settle()
	require.ErrorContains(t, askVoid(t, k, s), "which is closed; only a return brings it back")
	require.Empty(t, k.Sent("ann", "/voids"))
	k.Holds()
}

// TestTheDayIsClosedWhileALabelIsBeingVoided: the parcel is not on the carrier's list; where the carrier then refuses the void,
// it is on the next.
func TestTheDayIsClosedWhileALabelIsBeingVoided(t *testing.T) {
	k, s := labelKit(t)
	k.Sell("S-2", trial.Units("JAR", 1))
	second := k.Packed("S-2")
	require.NoError(t, k.Label(s, "ann"))
	require.NoError(t, k.Label(second, "ann"))
	manifest := k.ParcelOf(s).ManifestID
	k.On("ann", "/voids", silent)
	require.NoError(t, askVoid(t, k, s))
	require.ErrorContains(t, askVoid(t, k, s), "is being voided")
	require.Equal(t, store.Gone, k.ParcelOf(s).State, "until it is known, the label is live")
	require.Equal(t, int64(2), k.OnHand("JAR"))

	require.NoError(t, k.CloseManifest(t.Context(), manifest, "Pim"))
	k.Settle()
	lists := k.Sent("ann", "/manifests")
	require.Len(t, lists, 1)
	require.Len(t, lists[0].Body["labels"], 1)

	k.On("ann", "/voids", func(trial.Call) (int, any) { return 409, map[string]any{"message": "already lodged"} })
	k.Later(time.Hour)
	k.Settle()
	require.Equal(t, []order.Cause{engine.VoidRefused}, k.Causes())
	kept := k.ParcelOf(s)
	require.NotEqual(t, manifest, kept.ManifestID)
	require.NotZero(t, kept.ManifestID)
	require.NoError(t, k.CloseManifest(t.Context(), kept.ManifestID, "Pim"))
	k.Settle()
	scanned(t, k, "T-1", kept.Tracking, "accepted")
	require.Empty(t, k.Causes(), "the carrier has it: there is nothing to void any more")
	k.Holds()
}

// TestAVoidWithoutAnAnswerIsAskedForAgain under the same reference; a person who looked at the carrier ends it either way.
func TestAVoidWithoutAnAnswerIsAskedForAgain(t *testing.T) {
	for _, voided := range []bool{true, false} {
		k, s := labelKit(t)
		require.NoError(t, k.Label(s, "ann"))
		k.On("ann", "/voids", silent)
		require.NoError(t, askVoid(t, k, s))
		k.InVain(exchange.MaxAttempts + 2)
		require.Equal(t, []order.Cause{engine.VoidRefused}, k.Causes())
		refs := map[string]bool{}
		for _, c := range k.Sent("ann", "/voids") {
			refs[c.Ref] = true
		}
		require.Len(t, refs, 1)
		if voided {
			_, err := k.VoidLabel(t.Context(), s, true, "Pim")
			require.NoError(t, err)
			require.Equal(t, store.ToShip, k.ParcelOf(s).State)
		} else {
			require.NoError(t, k.KeepLabel(t.Context(), s, "Pim"))
			require.Equal(t, store.Gone, k.ParcelOf(s).State)
			require.ErrorContains(t, k.KeepLabel(t.Context(), s, "Pim"), "is not being voided")
		}
		before := len(k.Sent("ann", "/voids"))
		k.InVain(4)
		require.Empty(t, k.Causes())
		require.Len(t, k.Sent("ann", "/voids"), before, "it is not asked for any more")
		k.Holds()
	}
}

// TestAVoidBeforeTheChannelHeard: what was not told yet is not told at all.
func TestAVoidBeforeTheChannelHeard(t *testing.T) {
	k, s := labelKit(t)
	require.NoError(t, k.Pause(t.Context(), "stall", true, k.ByCode("stall").Rec().Revision, "Edda"))
	require.NoError(t, k.Label(s, "ann"))
	require.NoError(t, askVoid(t, k, s))
	require.NoError(t, k.Pause(t.Context(), "stall", false, k.ByCode("stall").Rec().Revision, "Edda"))
	k.Settle()
	require.Empty(t, k.Sent("stall", "/parcels"))
	k.Holds()
}

// TestWhatTheChannelCancelledIsCalledOffWhenItComesBack: its goods are put back, and nobody is asked about it any more.
func TestWhatTheChannelCancelledIsCalledOffWhenItComesBack(t *testing.T) {
	k, s := labelKit(t)
	require.NoError(t, k.Label(s, "ann"))
	cancelled := trial.Sale("S-1", trial.Units("JAR", 2))
	cancelled.State, cancelled.Status = "cancelled", message.Cancelled
	k.Take("stall", trial.Event("order", "S-1", 2, cancelled))
	require.Equal(t, []order.Cause{order.LateCancel}, k.Causes())
	require.NoError(t, askVoid(t, k, s))
	require.Equal(t, "cancelled", k.Stage("S-1"))
	require.Equal(t, []order.Cause{engine.PutBack}, k.Causes())
	require.Equal(t, store.CalledOff, k.ParcelOf(s).State)
	require.Equal(t, int64(5), k.OnHand("JAR"))
	k.Holds()
}

// TestATypedNumberIsTakenBack at once; so is a label of a carrier that takes no voids, for which a person is asked.
func TestATypedNumberIsTakenBack(t *testing.T) {
	k, s := labelKit(t)
	require.NoError(t, k.PutNamedCarrier(t.Context(), store.NamedCarrier{Code: "barge", Name: "Barge"}, "Edda"))
	require.NoError(t, k.TypeNumber(t.Context(), s, shipping.Typed{Carrier: "barge", Number: "BG 1"}, "Pim"))
	k.Settle()
	require.NoError(t, askVoid(t, k, s))
	require.Equal(t, store.ToShip, k.ParcelOf(s).State)
	require.Empty(t, k.Causes())
	require.True(t, told(t, k, "S-1").Withdrawn)
	k.Holds()
}

// TestAChannelThatOnlyAdds is told a corrected number beside the first, and a person is asked to take that off; once for each.
func TestAChannelThatOnlyAdds(t *testing.T) {
	k := trial.New(t, "ann")
	k.JoinPole()
	k.Stock(5, "JAR")
	k.Take("pole", trial.Event("order", "P-1", 1, trial.Sale("P-1", trial.Units("JAR", 2))))
	s := k.Packed("P-1")
	require.NoError(t, k.PutNamedCarrier(t.Context(), store.NamedCarrier{Code: "barge", Name: "Barge"}, "Edda"))
	for _, number := range []string{"BG 1", "BG 2", "BG 3"} {
		require.NoError(t, k.TypeNumber(t.Context(), s, shipping.Typed{Carrier: "barge", Number: number}, "Pim"))
		k.Settle()
	}
	var numbers []string
	refs := map[any]bool{}
	for _, c := range k.Sent("pole", "/parcels") {
		numbers = append(numbers, c.Body["tracking"].(string))
		refs[c.Body["reference"]] = true
	}
	require.Equal(t, []string{"BG 1", "BG 2", "BG 3"}, numbers)
	require.Len(t, refs, 3, "under one reference, the other side would take them for the first told again")
	var subjects []string
	for _, e := range k.Exceptions() {
		require.Equal(t, engine.NumberStands, e.Cause)
		subjects = append(subjects, e.Subject)
	}
	require.ElementsMatch(t, []string{"BG 1", "BG 2"}, subjects)

	require.NoError(t, askVoid(t, k, s))
	require.Len(t, k.Exceptions(), 3, "the last stands there, too, and is not right any more")
	require.Len(t, k.Sent("pole", "/parcels"), 3)
	require.NoError(t, k.Label(s, "ann"))
	require.Len(t, k.Exceptions(), 3)
	require.Equal(t, k.ParcelOf(s).Tracking, k.Sent("pole", "/parcels")[3].Body["tracking"])
	k.Holds()
}

// TestAPersonEndsAVoidAfterTheDayWasClosed: the parcel was left off the list, so its label can still be voided by hand.
func TestAPersonEndsAVoidAfterTheDayWasClosed(t *testing.T) {
	k, s := labelKit(t)
	k.Sell("S-2", trial.Units("JAR", 1))
	second := k.Packed("S-2")
	require.NoError(t, k.Label(s, "ann"))
	require.NoError(t, k.Label(second, "ann"))
	k.On("ann", "/voids", silent)
	require.NoError(t, askVoid(t, k, s))
	require.NoError(t, k.CloseManifest(t.Context(), k.ParcelOf(second).ManifestID, "Pim"))
	k.Settle()
	_, err := k.VoidLabel(t.Context(), s, true, "Pim")
	require.NoError(t, err)
	require.Equal(t, store.ToShip, k.ParcelOf(s).State)
	k.Holds()
}
