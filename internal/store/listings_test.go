package store

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// listed is a company whose shop shows a matched listing, one to match and one that is ignored.
func listed(t *testing.T) *Store {
	t.Helper()
	s := open(t)
	company(t, s)
	write(t, s, func(tx *Tx) error {
		ghost := &Listing{
			ConnectionID: 1,
			OutsideID:    "i2",
			SKU:          "GHOST",
			Title:        "A ghost of 100 %",
			Currency:     "EUR",
			GTIN:         "2007100014508",
			State:        "live",
			SeenQty:      4,
			Doubt:        "two items are called so",
		}
		old := &Listing{ConnectionID: 1, OutsideID: "i3", SKU: "OLD", Title: "An old thing", Currency: "EUR", State: "rejected",
			Reason: "no picture"}
		_, err := tx.PutListing(ghost, now)
		_, err2 := tx.PutListing(old, now)
		old.IgnoredAt, old.IgnoredBy = micros(now), "Edda"
		return errors.Join(err, err2, tx.SetMatch(*old))
	})
	return s
}

// TestListingsAreNarrowed by channel, match, state and words, page by page.
func TestListingsAreNarrowed(t *testing.T) {
	s := listed(t)
	for _, c := range []struct {
		f    ListingFilter
		want string
	}{
		{ListingFilter{}, "[JAR GHOST OLD]"},
		{ListingFilter{Connection: "shop", Match: "matched"}, "[JAR]"},
		{ListingFilter{Match: "to match"}, "[GHOST]"},
		{ListingFilter{Match: "ignored"}, "[OLD]"},
		{ListingFilter{State: "rejected"}, "[OLD]"},
		{ListingFilter{Search: "ghost"}, "[GHOST]"},
		{ListingFilter{Search: "100 %"}, "[GHOST]"},
		{ListingFilter{Search: "%"}, "[GHOST]"},
		{ListingFilter{Search: "_"}, "[]"},
		{ListingFilter{Search: "2007100014508"}, "[GHOST]"},
		{ListingFilter{Search: "i3"}, "[OLD]"},
		{ListingFilter{Connection: "other"}, "[]"},
	} {
		c.f.Limit = 2
		skus := []string{}
		for {
			page, err := s.FindListings(t.Context(), c.f)
			require.NoError(t, err)
			for _, l := range page {
				skus = append(skus, l.SKU)
				c.f.After = l.ID
			}
			if len(page) < 2 {
				break
			}
		}
		assert.Equal(t, c.want, fmt.Sprint(skus), "%+v", c.f)
	}
	counts, err := s.CountListings(t.Context())
	require.NoError(t, err)
	assert.Equal(
		t,
		[]ListingCount{{ConnectionCode: "shop", ConnectionName: "Shop", Matched: 1, ToMatch: 1, Ignored: 1, Rejected: 1}},
		counts,
	)
}

// TestAListingIsFoundByItsNumberFirst, then by its SKU; and of two with one SKU the one that is an item.
func TestAListingIsFoundByItsNumberFirst(t *testing.T) {
	s := listed(t)
	write(t, s, func(tx *Tx) error {
		_, err := tx.PutListing(&Listing{ConnectionID: 1, OutsideID: "GHOST", SKU: "JAR", Title: "Another jar", Currency: "EUR"}, now)
		return err
	})
	for code, outside := range map[string]string{"JAR": "i1", "GHOST": "GHOST", "i2": "i2"} {
		l, err := s.Listing(t.Context(), "shop", code)
		require.NoError(t, err)
		assert.Equal(t, outside, l.OutsideID, code)
	}
	_, err := s.Listing(t.Context(), "shop", "NOTHING")
	require.ErrorIs(t, err, ErrNotFound)
	write(t, s, func(tx *Tx) error {
		l, err := tx.ListingFor(1, "gone", "JAR")
		assert.Equal(t, "i1", l.OutsideID)
		_, none := tx.ListingFor(1, "gone", "")
		assert.ErrorIs(t, none, ErrNotFound)
		other, err2 := tx.DoubleSKU(1, "JAR", "i1")
		assert.Equal(t, "GHOST", other)
		alone, err3 := tx.DoubleSKU(1, "OLD", "i3")
		assert.Empty(t, alone)
		all, err4 := tx.ListingsBySKU(1, "JAR")
		assert.Len(t, all, 2)
		open, err5 := tx.UnmatchedBySKU("GHOST")
		assert.Len(t, open, 1)
		ignored, err6 := tx.UnmatchedBySKU("OLD")
		assert.Empty(t, ignored)
		return errors.Join(err, err2, err3, err4, err5, err6)
	})
}

// TestWhyAListingIsNoItem is said to the clerk whose order waits for it.
func TestWhyAListingIsNoItem(t *testing.T) {
	s := listed(t)
	write(t, s, func(tx *Tx) error {
		matches, err := tx.ListingMatches(1, []string{"JAR", "GHOST", "NOTHING"}, []string{"i2", "i3"})
		why := map[string]string{}
		for _, m := range matches {
			why[m.SKU] = m.Why()
		}
		assert.Equal(t, map[string]string{"JAR": "", "GHOST": "Listing i2 waits to be matched: two items are called so.",
			"OLD": "The listing is ignored on purpose; end that, or cancel the line at the channel."}, why)
		assert.Len(t, matches, 3, "found in two ways, told once")
		return err
	})
}

// TestAMatchMadeBeforeStays when the channel shows the listing again, and what was ignored is not matched by itself.
func TestAMatchMadeBeforeStays(t *testing.T) {
	s := listed(t)
	for outside, want := range map[string]int64{"i1": 1, "i2": 1, "i3": 0} {
		write(t, s, func(tx *Tx) error {
			isNew, err := tx.PutListing(&Listing{ConnectionID: 1, OutsideID: outside, SKU: "X", Title: "X", Currency: "EUR", ItemID: 1,
				MatchedBy: "sku", SeenQty: 9}, now)
			assert.False(t, isNew)
			l, err2 := tx.ListingOf(1, outside)
			assert.Equal(t, want, l.ItemID, outside)
			assert.Equal(t, int64(9), l.SeenQty)
			return errors.Join(err, err2)
		})
	}
}

// TestWhatAListingShowedAndWhen: told by us or seen there, at each moment, and the newest is never forgotten.
func TestWhatAListingShowedAndWhen(t *testing.T) {
	s := listed(t)
	at := func(h int) time.Time { return now.Add(time.Duration(h) * time.Hour) }
	write(t, s, func(tx *Tx) error {
		_, err := tx.Seen(1, "i1", "", 12, at(2))
		_, none := tx.Seen(1, "gone", "gone", 3, at(2))
		assert.ErrorIs(t, none, ErrNotFound)
		return errors.Join(tx.Told(1, 10, at(1)), err, tx.Told(1, 8, at(3)))
	})
	showed := func() (text string) {
		for h := range 5 {
			qty, how, _, err := s.ShownAt(t.Context(), 1, at(h))
			require.NoError(t, err)
			text += fmt.Sprintf("%d %s, ", qty, how)
		}
		return text
	}
	assert.Equal(t, "0 seen, 10 told, 12 seen, 8 told, 8 told, ", showed())
	_, _, _, err := s.ShownAt(t.Context(), 1, at(-1))
	require.ErrorIs(t, err, ErrNotFound)
	write(t, s, func(tx *Tx) error {
		since, err := tx.ShownSince(1, 8)
		assert.True(t, since.Equal(at(3)))
		other, err2 := tx.ShownSince(1, 7)
		assert.True(t, other.IsZero(), "it shows another quantity")
		n, err3 := tx.ForgetShown(at(9))
		assert.Equal(t, int64(3), n, "but for the newest of each listing")
		return errors.Join(err, err2, err3)
	})
	qty, _, _, err := s.ShownAt(t.Context(), 1, at(9))
	require.NoError(t, err)
	assert.Equal(t, int64(8), qty)
	told, err := s.CountTold(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 1, told)
}

// TestHowQuantitiesWereWorkedOut at a moment, for a connection or one listing.
func TestHowQuantitiesWereWorkedOut(t *testing.T) {
	s := listed(t)
	write(t, s, func(tx *Tx) error {
		return errors.Join(tx.KeepPolicy(1, 0, `{"sources":[1]}`, "Edda", now),
			tx.KeepPolicy(1, 0, `{"sources":[1,2]}`, "Edda", now.Add(time.Hour)), tx.KeepPolicy(1, 1, `{"hold_back":2}`, "Joss", now))
	})
	for _, c := range []struct {
		listing int64
		after   time.Duration
		want    string
	}{{0, -time.Second, ""}, {0, 0, `{"sources":[1]}`}, {0, 2 * time.Hour, `{"sources":[1,2]}`}, {1, time.Hour, `{"hold_back":2}`},
		{2, time.Hour, ""}} {
		text, err := s.PolicyAt(t.Context(), 1, c.listing, now.Add(c.after))
		require.NoError(t, err)
		assert.Equal(t, c.want, text)
	}
	l := Listing{Policy: `{"hold_back":2}`}
	require.NotNil(t, l.Override())
	l.Policy = "{"
	assert.Nil(t, l.Override())
	assert.Nil(t, (&Listing{}).Override())
}

// TestOrdersThatWaitForAListing are counted, by its number or its SKU.
func TestOrdersThatWaitForAListing(t *testing.T) {
	s := listed(t)
	addOrders(t, s, 4)
	spoil(
		t,
		s,
		`UPDATE orders SET stage = 'held'; UPDATE order_line SET item_id = 0, sku = 'GHOST', title = 'A ghost' WHERE order_id = 1; `+
			`UPDATE order_line SET item_id = 0, sku = '', listing = 'i2' WHERE order_id = 2; `+
			`UPDATE order_line SET item_id = 0, sku = 'PHANTOM' WHERE order_id = 3`,
	)
	ghost, err := s.Listing(t.Context(), "shop", "GHOST")
	require.NoError(t, err)
	n, err := s.OrdersWaitingForListing(t.Context(), ghost)
	require.NoError(t, err)
	assert.Equal(t, int64(2), n)
	title, err := s.UnknownTitle(t.Context(), 1, "GHOST")
	require.NoError(t, err)
	assert.Equal(t, "A ghost", title)
	_, err = s.UnknownTitle(t.Context(), 1, "NOTHING")
	require.ErrorIs(t, err, ErrNotFound)
}

// TestListingsWeAskedFor are known before the channel gives them a number.
func TestListingsWeAskedFor(t *testing.T) {
	s := listed(t)
	write(t, s, func(tx *Tx) error {
		_, err := tx.PutListing(&Listing{ConnectionID: 1, OutsideID: NewListing("APRON"), SKU: "APRON", Title: "Apron", Currency: "EUR",
			State: "submitted"}, now)
		l, err2 := tx.Submitted(1, "APRON")
		_, none := tx.Submitted(1, "JAR")
		assert.ErrorIs(t, none, ErrNotFound)
		l.OutsideID, l.State, l.Published = "i9", "in review", "{}"
		return errors.Join(err, err2, tx.SetListing(l))
	})
	n, err := s.CountInReview(t.Context(), 1)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	all, err := s.ListingsOf(t.Context(), 1)
	require.NoError(t, err)
	assert.Len(t, all, 4)
	ids := []int64{}
	for i := range int64(600) {
		ids = append(ids, i+1)
	}
	of, err := s.ListingsOfItems(t.Context(), ids)
	require.NoError(t, err)
	assert.Len(t, of, 1, "asked for some hundred at a time")
}
