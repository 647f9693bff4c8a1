package people_test

import (
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/order"
	"openrelay/internal/core/person"
	"openrelay/internal/core/place"
	"openrelay/internal/relay"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/people"
	"openrelay/internal/relay/trial"
	"openrelay/internal/seal"
	"openrelay/internal/store"
)

// beginning is what a company may begin with.
func beginning() people.Beginning {
	return people.Beginning{
		Company: engine.Company{Name: " Morrow Hive Supply ", TimeZone: "Etc/GMT-1", Country: "xw", Currency: "xts",
			Address: &place.Address{Street: "Alder Yard 3", Postcode: "41207", Town: "Alderby", Country: "XW"}},
		Person: people.NewPerson{Name: "Edda Quillon", Email: " Edda@Morrow.example ", Password: "honeycomb"}}
}

// TestACompanyBeginsOnce: who has the key names it and its first person; then the key is good no more, and nobody begins again.
func TestACompanyBeginsOnce(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	key, err := k.OpenFirstRun(ctx)
	require.NoError(t, err)
	require.NotEmpty(t, key)
	_, err = k.BeginWith(ctx, "another", beginning())
	require.ErrorContains(t, err, "the key is not the one")
	u, err := k.BeginWith(ctx, " "+key+"\n", beginning())
	require.NoError(t, err)
	require.Equal(t, []string{"edda@morrow.example", "Edda Quillon", string(person.Lead)}, []string{u.Email, u.Name, string(u.Role)})
	in, err := k.SignIn(ctx, "EDDA@morrow.example", "honeycomb", "")
	require.NoError(t, err)
	require.Equal(t, u.ID, in.ID)
	c, err := k.Company(ctx)
	require.NoError(t, err)
	require.Equal(
		t,
		engine.Company{Name: "Morrow Hive Supply", TimeZone: "Etc/GMT-1", Country: "XW", Currency: "XTS", Together: order.AnyTogether,
			Address: &place.Address{
				Name:     "Morrow Hive Supply",
				Street:   "Alder Yard 3",
				Postcode: "41207",
				Town:     "Alderby",
				Country:  "XW",
			}},
		c,
	)
	require.Equal(t, "XTS", k.Currency())
	require.Equal(t, "Etc/GMT-1", k.Zone().String())

	_, err = k.BeginWith(ctx, key, beginning())
	require.ErrorContains(t, err, "it was used")
	_, err = k.BeginCompany(ctx, beginning())
	require.ErrorContains(t, err, "has people already")
	key, err = k.OpenFirstRun(ctx)
	require.NoError(t, err)
	require.Empty(t, key)
	k.Holds()
}

// TestTheKeyIsGoodForAnHour, and a new one makes the old one void.
func TestTheKeyIsGoodForAnHour(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	_, err := k.BeginWith(ctx, "", beginning())
	require.ErrorContains(t, err, "the key is not the one", "none was made")
	old, err := k.OpenFirstRun(ctx)
	require.NoError(t, err)
	key, err := k.OpenFirstRun(ctx)
	require.NoError(t, err)
	_, err = k.BeginWith(ctx, old, beginning())
	require.ErrorContains(t, err, "the key is not the one")
	k.Later(61 * time.Minute)
	_, err = k.BeginWith(ctx, key, beginning())
	require.ErrorContains(t, err, "the key was good for an hour")
	nobody, err := k.Nobody(ctx)
	require.NoError(t, err)
	require.True(t, nobody)
}

// TestTwoBeginAtOnce: one of them does, and the company has one person.
func TestTwoBeginAtOnce(t *testing.T) {
	k := trial.New(t)
	key, err := k.OpenFirstRun(t.Context())
	require.NoError(t, err)
	var wg sync.WaitGroup
	errs := make([]error, 6)
	for i := range errs {
		wg.Go(func() {
			b := beginning()
			b.Person.Email = string(rune('a'+i)) + "@morrow.example"
			_, errs[i] = k.BeginWith(t.Context(), key, b)
		})
	}
	wg.Wait()
	began := 0
	for _, err := range errs {
		if err == nil {
			began++
		}
	}
	require.Equal(t, 1, began)
	n, err := k.Store.CountUsers(t.Context())
	require.NoError(t, err)
	require.Equal(t, int64(1), n)
}

// TestWhatACompanyCannotBeginWith names what is wrong, changes nothing, and leaves the key good.
func TestWhatACompanyCannotBeginWith(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	key, err := k.OpenFirstRun(ctx)
	require.NoError(t, err)
	for words, change := range map[string]func(*people.Beginning){
		"name: missing":                   func(b *people.Beginning) { b.Company.Name = " " },
		`there is no zone "Moon/Base"`:    func(b *people.Beginning) { b.Company.TimeZone = "Moon/Base" },
		`country: "ZZ" is none`:           func(b *people.Beginning) { b.Company.Country = "ZZ" },
		`currency: "EURO" is none`:        func(b *people.Beginning) { b.Company.Currency = "euro" },
		"address:":                        func(b *people.Beginning) { b.Company.Address.Postcode = "1" },
		"name: missing ":                  func(b *people.Beginning) { b.Person.Name = "" },
		"email: an address such as":       func(b *people.Beginning) { b.Person.Email = "edda" },
		"email: an address such as ":      func(b *people.Beginning) { b.Person.Email = "edda@morrow.example, x@y" },
		"password: at least 8 characters": func(b *people.Beginning) { b.Person.Password = "honey" },
	} {
		b := beginning()
		change(&b)
		_, err := k.BeginWith(ctx, key, b)
		require.ErrorContains(t, err, strings.TrimSpace(words))
	}
	nobody, err := k.Nobody(ctx)
	require.NoError(t, err)
	require.True(t, nobody)
	_, err = k.BeginWith(ctx, key, beginning())
	require.NoError(t, err)
}

// TestAnEmptyAddressIsNone: a country alone makes no address.
func TestAnEmptyAddressIsNone(t *testing.T) {
	c := engine.Company{Name: "M", Address: &place.Address{Country: "XW"}}
	require.NoError(t, c.Check())
	require.Nil(t, c.Address)
}

// TestWhatSaysNoCurrencyHasTheCompanys.
func TestWhatSaysNoCurrencyHasTheCompanys(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	require.Equal(t, "EUR", k.Currency())
	require.NoError(t, k.SetCompany(ctx, engine.Company{Name: "M", Currency: "XTS"}, "Edda"))
	k.Sell("S-1", trial.Units("GHOST", 1))
	made, err := k.MakeKnown(ctx, "stall", "GHOST", "", true, "Edda")
	require.NoError(t, err)
	it, err := k.Store.Record(ctx, made.SKU)
	require.NoError(t, err)
	require.Equal(t, "XTS", it.Currency)
	k.Again()
	require.Equal(t, "XTS", k.Currency())
	k.Holds()
}

// TestACompanyWithoutItsKeyDoesNotOpen, and opens again once the key is back.
func TestACompanyWithoutItsKeyDoesNotOpen(t *testing.T) {
	k := trial.New(t) // its stall has a key that is sealed
	path := k.Store.Path()
	k.Stop()
	require.NoError(t, k.Store.Close())
	require.NoError(t, os.Rename(path+".key", path+".away"))
	st, err := store.Open(t.Context(), path)
	require.NoError(t, err)
	defer st.Close()
	_, err = relay.Open(t.Context(), st, engine.Options{})
	require.ErrorIs(t, err, seal.ErrNoKey)
	require.NoError(t, os.Rename(path+".away", path+".key"))
	_, err = relay.Open(t.Context(), st, engine.Options{})
	require.NoError(t, err)
}
