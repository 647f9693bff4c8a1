package shipping_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/people"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/setup"
)

const bookDefinition = `
connector: book
title: Book
side: address service
access:
  way: key
  fields: [{ name: key, label: Key, secret: true }]
  steps: [ "Ask for a key." ]
  send: { X-Key: secret.key }
calls:
  identity:
    request: { method: GET, path: /who }
    map: { name: body.name, number: body.number, country: body.country }
  address:
    request: { method: POST, path: /look, body: { street: msg.street, town: msg.town, zip: msg.postcode } }
    map:
      deliverable: body.ok
      corrected: { name: msg.name, street: body.street, postcode: body.zip, town: body.town, country: msg.country }
      kind: body.kind
      note: body.note
`

// book is a company with an address service that answers what a test says.
func book(t *testing.T, policy string, answer func(c trial.Call) (int, any)) *trial.Kit {
	t.Helper()
	k := trial.New(t, "ann")
	k.Stock(50, "JAR")
	k.On("book", "/look", answer)
	_, err := k.ApplySetup(
		t.Context(),
		setup.Setup{Version: 1, Connectors: []string{bookDefinition}, Connections: []setup.Connection{{Code: "book",
			Connector: "book", Name: "Book", Address: "http://book.test"}}, Addresses: policy},
		map[string]map[string]string{"book": {"key": "book-key"}},
		"test",
	)
	require.NoError(t, err)
	return k
}

// says answers with an address as it should be.
func writes(street, zip, town string) func(trial.Call) (int, any) {
	return func(trial.Call) (int, any) {
		return 200, map[string]any{"ok": true, "street": street, "zip": zip, "town": town, "kind": "home"}
	}
}

// saleTo is an order to a street.
func saleTo(k *trial.Kit, number, street string) {
	o := trial.Sale(number, trial.Units("JAR", 1))
	o.ShipTo.Street = street
	k.Take("stall", trial.Event("order", number, 1, o))
	k.Settle()
}

// TestABetterAddressIsShown and taken by a person; the same address is asked about once.
func TestABetterAddressIsShown(t *testing.T) {
	a := trial.Address
	k := book(t, shipping.CheckShow, writes("Market Row 9", a.Postcode, a.Town))
	saleTo(k, "S-1", "Markt Rw 9")
	o := orderOf(t, k, "S-1")
	require.Equal(t, "Markt Rw 9", o.ShipTo.Street, "never silently")
	require.Equal(t, "Market Row 9", o.Ours.Checked.Suggestion.Street)
	require.Equal(t, a.Name, o.Ours.Checked.Suggestion.Name)
	require.Equal(t, "home", o.Ours.Checked.Kind)
	saleTo(k, "S-2", "Markt Rw 9")
	require.NotNil(t, orderOf(t, k, "S-2").Ours.Checked)
	require.Len(t, k.Sent("book", "/look"), 1)
	people.Strip(o, "hidden")
	require.Nil(t, o.Ours.Checked.Suggestion, "who may not see the address does not see what it should be")
	require.NoError(t, k.TakeSuggestion(t.Context(), "S-1", "Edda", 0))
	k.Settle()
	now := orderOf(t, k, "S-1")
	require.Equal(t, "Market Row 9", now.ShipTo.Street)
	require.Nil(t, now.Ours.Checked.Suggestion)
	require.ErrorContains(t, k.TakeSuggestion(t.Context(), "S-1", "Edda", 0), "no better form")
	require.NoError(t, k.Label(k.Packed("S-1"), "ann"))
	require.Contains(t, k.OutboxOf("S-1", message.LabelsOut).Payload, `"recipient_kind":"home"`)
}

// TestOnlySpellingIsTakenByItself where the company wants that; another house is not.
func TestOnlySpellingIsTakenByItself(t *testing.T) {
	a := trial.Address
	k := book(t, shipping.CheckSpelling, writes("Market Row 9", a.Postcode, a.Town))
	saleTo(k, "S-1", "market rw 9")
	o := orderOf(t, k, "S-1")
	require.Equal(t, "Market Row 9", o.ShipTo.Street)
	require.Len(t, k.Sent("book", "/look"), 1, "its own form is not asked about again")
	saleTo(k, "S-2", "Market Row 11")
	require.Equal(t, "Market Row 11", orderOf(t, k, "S-2").ShipTo.Street)
	require.NotNil(t, orderOf(t, k, "S-2").Ours.Checked.Suggestion)
}

// TestWhatCannotBeDeliveredToIsHeld until the address is another one, or a person knows better.
func TestWhatCannotBeDeliveredToIsHeld(t *testing.T) {
	k := book(t, "", func(c trial.Call) (int, any) {
		return 200, map[string]any{"ok": c.Body["street"] != "Nowhere 1", "note": "there is no such street", "street": c.Body["street"],
			"zip": c.Body["zip"], "town": c.Body["town"]}
	})
	saleTo(k, "S-1", "Nowhere 1")
	saleTo(k, "S-2", "Nowhere 1")
	require.Equal(t, []order.Cause{order.Undeliverable, order.Undeliverable}, k.Causes())
	require.Contains(t, k.Exceptions()[0].Text, "there is no such street")
	right := trial.Address
	require.NoError(t, k.Readdress(t.Context(), "S-1", right, "Edda", 0))
	k.Settle()
	require.Equal(t, "ready", k.Stage("S-1"))
	require.NoError(t, k.Release(t.Context(), "S-2", order.Undeliverable, "Edda", 0))
	k.Settle()
	require.Equal(t, "ready", k.Stage("S-2"), "who knows better is not asked again")
	require.Empty(t, k.Causes())
	k.Holds()
}

// TestAnAddressServiceThatIsOutHoldsNothing, and is asked again for a while.
func TestAnAddressServiceThatIsOutHoldsNothing(t *testing.T) {
	k := book(t, "", func(trial.Call) (int, any) { return 503, map[string]any{} })
	saleTo(k, "S-1", "Market Row 9")
	require.Equal(t, "ready", k.Stage("S-1"))
	for range 12 {
		k.Settle()
		k.Later(5 * time.Minute)
	}
	require.Nil(t, orderOf(t, k, "S-1").Ours.Checked)
	asked := len(k.Sent("book", "/look"))
	k.Later(time.Hour)
	k.Settle()
	require.Len(t, k.Sent("book", "/look"), asked, "it is let be")
	require.ErrorContains(t, k.AddressPolicies.Change(t.Context(), k.Engine, []shipping.AddressPolicy{{Check: "always"}}, "Edda"),
		"never, show")
	require.NoError(t, k.AddressPolicies.Change(t.Context(), k.Engine, []shipping.AddressPolicy{{Check: shipping.CheckNever}}, "Edda"))
	saleTo(k, "S-2", "Market Row 10")
	require.Len(t, k.Sent("book", "/look"), asked)
	require.NotEqual(t, place.Address{}, orderOf(t, k, "S-2").ShipTo)
}
