package people_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/person"
	"openrelay/internal/relay/people"
	"openrelay/internal/relay/trial"
)

// TestWhoMaySignIn: a password is asked in full, a token is known by itself, and neither is kept as it was given.
func TestWhoMaySignIn(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	require.NoError(t, k.PutUser(ctx, "edda@morrow.example", "Edda", "clerk", "a long password"))
	u, err := k.SignIn(ctx, "EDDA@morrow.example", "a long password", "")
	require.NoError(t, err)
	require.Equal(t, []string{"Edda", "clerk"}, []string{u.Name, string(u.Role)})
	for _, wrong := range [][2]string{{"edda@morrow.example", "a long passwor"}, {"edda@morrow.example", ""},
		{"nobody@morrow.example", "a long password"}} {
		u, err = k.SignIn(ctx, wrong[0], wrong[1], "")
		require.NoError(t, err)
		require.Nil(t, u, wrong)
	}
	for _, wrong := range [][4]string{{"no address", "E", "clerk", "a long password"},
		{"e@x.example", "E", "owner", "a long password"}, {"e@x.example", "E", "viewer", "short"}} {
		require.Error(t, k.PutUser(ctx, wrong[0], wrong[1], person.Role(wrong[2]), wrong[3]), wrong)
	}
	require.NoError(t, k.PutUser(ctx, "edda@morrow.example", "Edda T", "lead", "another password"))
	u, err = k.SignIn(ctx, "edda@morrow.example", "a long password", "")
	require.NoError(t, err)
	require.Nil(t, u, "the old one is over")

	token, err := k.NewToken(ctx, "scripts", "viewer")
	require.NoError(t, err)
	known, err := k.TokenFor(ctx, token)
	require.NoError(t, err)
	require.Equal(t, []string{"scripts", "viewer"}, []string{known.Name, string(known.Role)})
	_, err = k.TokenFor(ctx, token+"x")
	require.Error(t, err)
	_, err = k.NewToken(ctx, "scripts", "owner")
	require.Error(t, err)
}

// TestAPersonIsForgotten: what is kept of them is shown, removed when they ask and their orders are done, or when its time
// is over; the figures of the orders stay.
func TestAPersonIsForgotten(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(9, "JAR")
	for i, number := range []string{"S-1", "S-2"} {
		o := trial.Sale(number, trial.Units("JAR", 1))
		o.BuyerEmail = []string{"maren@example.test", "tove@example.test"}[i]
		k.Take("stall", trial.Event("order", number, 1, o))
	}
	p, err := k.Person(ctx, "maren@example.test")
	require.NoError(t, err)
	require.Len(t, p.Orders, 1)
	k.Spoil("INSERT INTO idempotency (key, request, status, answer, at) VALUES ('k', x'', 200, x'4d6172656e', 1)")
	_, err = k.ErasePerson(ctx, "maren@example.test", "Edda")
	require.ErrorContains(t, err, "is ready; their data is needed until it is done")
	k.CancelOrder("S-1")
	n, err := k.ErasePerson(ctx, "maren@example.test", "Edda")
	require.NoError(t, err)
	require.Equal(t, 1, n)
	o, err := k.Store.OrderByNumber(ctx, "S-1")
	require.NoError(t, err)
	require.Equal(t, []string{"", ""}, []string{o.Record.BuyerEmail, o.Record.Lines[0].Note})
	require.Equal(t, int64(1000), o.Record.Total)
	_, err = k.Person(ctx, "maren@example.test")
	require.Error(t, err, "nothing is left")

	days, err := k.KeepDays(ctx)
	require.NoError(t, err)
	require.Zero(t, days)
	n, err = k.ForgetOld(ctx)
	require.NoError(t, err)
	require.Zero(t, n, "without a rule, nothing is removed by itself")
	require.Error(t, k.SetKeepDays(ctx, -1, "Edda"))
	require.NoError(t, k.SetKeepDays(ctx, 30, "Edda"))
	k.CancelOrder("S-2")
	k.Later(29 * 24 * time.Hour)
	n, err = k.ForgetOld(ctx)
	require.NoError(t, err)
	require.Zero(t, n)
	k.Later(2 * 24 * time.Hour)
	n, err = k.ForgetOld(ctx)
	require.NoError(t, err)
	require.Equal(t, 1, n)
	o, err = k.Store.OrderByNumber(ctx, "S-2")
	require.NoError(t, err)
	require.NotContains(t, o.Record.BuyerName+o.Record.ShipTo.Street, "Lindenrow")
	require.NotContains(t, o.Record.BuyerName, "Maren")
	k.Holds()
	var kept int
	k.Scalar(&kept, "SELECT count(*) FROM idempotency")
	require.Zero(t, kept, "what was answered to repeated requests goes as well")
}

// TestLooksAreWrittenOnceInAWhile: looking again at the same is not written again for a while.
func TestLooksAreWrittenOnceInAWhile(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	look := func(who, key string) { require.NoError(t, k.Looked(ctx, who, "viewer", "order", key)) }
	look("Edda", "O1")
	look("Edda", "O1")
	look("Edda", "O2")
	look("Pim", "O1")
	k.Later(11 * time.Minute)
	look("Edda", "O1")
	list, err := k.Store.Looks(ctx, "", "", 0, 100)
	require.NoError(t, err)
	require.Len(t, list, 4)
}

// TestStrip leaves of an order what the books need, and nothing that tells who bought.
func TestStrip(t *testing.T) {
	k := trial.New(t)
	k.Stock(2, "JAR")
	m := trial.Sale("S-1", message.OrderLine{SKU: "JAR", Quantity: 1, Note: "for Maren's bees"})
	m.BuyerEmail, m.Note = "maren@example.test", "ring at Tolland"
	k.Take("stall", trial.Event("order", "S-1", 1, m))
	o, err := k.Store.OrderByNumber(t.Context(), "S-1")
	require.NoError(t, err)
	people.Strip(o, "removed")
	raw, err := json.Marshal(o)
	require.NoError(t, err)
	for _, personal := range []string{"Maren", "Tolland", "Lindenrow", "Harrowmere", "maren@"} {
		require.NotContains(t, string(raw), personal)
	}
	require.Equal(t, []any{int64(1000), "EUR", "XW"}, []any{o.Record.Total, o.Record.Currency, o.Record.ShipTo.Country})
}
