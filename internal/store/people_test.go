package store

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/packing"
	"openrelay/internal/core/place"
)

func TestPeopleTokensAndSettings(t *testing.T) {
	s := open(t)
	write(t, s, func(tx *Tx) error {
		return tx.PutUser(&User{Email: "edda@example.test", Name: "Edda", Role: "viewer", PasswordHash: "h1"})
	})
	write(t, s, func(tx *Tx) error {
		return tx.PutUser(&User{Email: "edda@example.test", Name: "Edda Quillon", Role: "lead", PasswordHash: "h2"})
	})
	u, err := s.UserByEmail(t.Context(), "edda@example.test")
	require.NoError(t, err)
	require.Equal(t, User{ID: 1, Email: "edda@example.test", Name: "Edda Quillon", Role: "lead", PasswordHash: "h2", Epoch: 1}, u)
	_, err = s.User(t.Context(), 9)
	require.ErrorIs(t, err, ErrNotFound)
	require.Error(t, s.Write(t.Context(), func(tx *Tx) error { return tx.PutUser(&User{Email: "x@example.test", Role: "king"}) }))

	write(t, s, func(tx *Tx) error {
		_, err := tx.AddToken(Token{Name: "desk", Role: "clerk", CreatedAt: micros(now)}, []byte("hash"))
		return err
	})
	k, err := s.TokenByHash(t.Context(), []byte("hash"))
	require.NoError(t, err)
	require.Equal(t, "desk", k.Name)
	_, err = s.TokenByHash(t.Context(), []byte("other"))
	require.ErrorIs(t, err, ErrNotFound)

	v, err := s.Setting(t.Context(), "company")
	require.NoError(t, err)
	require.Empty(t, v)
	for _, want := range []string{"A", "B"} {
		write(t, s, func(tx *Tx) error { return tx.PutSetting("company", want) })
		v, err = s.Setting(t.Context(), "company")
		require.NoError(t, err)
		require.Equal(t, want, v)
	}
}

func TestSessionsEnd(t *testing.T) {
	s := Sessions{open(t)}
	ctx := context.Background()
	require.NoError(t, s.CommitCtx(ctx, "alive", []byte("a"), time.Now().Add(time.Hour)))
	require.NoError(t, s.CommitCtx(ctx, "over", []byte("b"), time.Now().Add(-time.Minute)))
	b, ok, err := s.FindCtx(ctx, "alive")
	require.NoError(t, err)
	require.True(t, ok)
	require.Equal(t, "a", string(b))
	_, ok, err = s.Find("over")
	require.NoError(t, err)
	require.False(t, ok)
	require.NoError(t, s.Commit("alive", []byte("c"), time.Now().Add(time.Hour)))
	var left int
	require.NoError(t, s.read.Get(&left, "SELECT count(*) FROM session"))
	require.Equal(t, 1, left, "what ended was swept")
	require.NoError(t, s.Delete("alive"))
	_, ok, _ = s.Find("alive")
	require.False(t, ok)
	require.NoError(t, s.Commit("alive", []byte("d"), time.Now().Add(time.Hour)), "a slow request of it ends")
	_, ok, err = s.Find("alive")
	require.NoError(t, err)
	require.False(t, ok, "what was signed out stays out")
}

func TestAnswersAreKeptForADay(t *testing.T) {
	s := open(t)
	write(t, s, func(tx *Tx) error { return tx.KeepAnswer("k", Answer{[]byte("r"), 200, []byte("{}")}, now) })
	a, err := s.AnswerFor(t.Context(), "k")
	require.NoError(t, err)
	require.Equal(t, 200, a.Status)
	write(t, s, func(tx *Tx) error {
		return tx.KeepAnswer("l", Answer{[]byte("r"), 200, []byte("{}")}, now.Add(25*time.Hour))
	})
	_, err = s.AnswerFor(t.Context(), "k")
	require.ErrorIs(t, err, ErrNotFound)
}

func TestFeedsRunsAndRevisions(t *testing.T) {
	s := open(t)
	company(t, s)
	var run int64
	write(t, s, func(tx *Tx) (err error) {
		run, err = tx.StartRun(1, "by Edda", now)
		require.NoError(t, err)
		var y Tally
		y.Found, y.New = 3, 2
		y.Reason("this version is known")
		require.NoError(t, tx.AddToRun(run, y))
		require.NoError(t, tx.AddToRun(run, y))
		require.NoError(t, tx.LogRun(run, "info", "page 1", now))
		return tx.FeedWent(1, "2026-11-23T08:00:00Z", now)
	})
	r, err := s.Run(t.Context(), run)
	require.NoError(t, err)
	require.Equal(t, []int64{6, 4, 0}, []int64{r.Found, r.New, r.Failed})
	require.JSONEq(t, `{"this version is known":2}`, r.Reasons)
	require.Equal(t, "running", r.State)
	write(t, s, func(tx *Tx) error { return tx.EndStaleRuns(now) })
	r, err = s.Run(t.Context(), run)
	require.NoError(t, err)
	require.Equal(t, "failed", r.State)
	require.Contains(t, r.Error, "the service ended")

	feeds, err := s.Feeds(t.Context())
	require.NoError(t, err)
	require.Equal(t, "2026-11-23T08:00:00Z", feeds[0].Mark)
	write(t, s, func(tx *Tx) error { return tx.FeedFailed(1, "503", now) })
	write(t, s, func(tx *Tx) error { return tx.FeedWent(1, "", now) })
	feeds, err = s.Feeds(t.Context())
	require.NoError(t, err)
	require.Equal(t, "2026-11-23T08:00:00Z", feeds[0].Mark, "a success without a mark leaves it")
	require.Zero(t, feeds[0].Failures)
	write(t, s, func(tx *Tx) error { return tx.SetFeed(1, false, "@every 1m", 1) })
	require.ErrorIs(t, s.Write(t.Context(), func(tx *Tx) error { return tx.SetFeed(1, true, "", 1) }), ErrConflict)
	require.ErrorIs(t, s.Write(t.Context(), func(tx *Tx) error {
		c, err := tx.Connection("shop")
		c.Revision = 5
		return errors.Join(err, tx.UpdateConnection(c))
	}), ErrConflict)

	var first, second int64
	write(t, s, func(tx *Tx) (err error) { first, err = tx.PushRun(1, now); return err })
	write(t, s, func(tx *Tx) (err error) { second, err = tx.PushRun(1, now.Add(20*time.Minute)); return err })
	require.Equal(t, first, second, "what is pushed in one hour is one run")
	write(t, s, func(tx *Tx) (err error) { second, err = tx.PushRun(1, now.Add(70*time.Minute)); return err })
	require.NotEqual(t, first, second)
}

func TestShipmentsAndManifests(t *testing.T) {
	s := open(t)
	company(t, s)
	addOrders(t, s, 1)
	var one Shipment
	write(t, s, func(tx *Tx) error {
		one = Shipment{OrderID: 1, LocationID: 1, State: ToPick, CreatedAt: 1,
			Lines: []ShipmentLine{{LineID: 1025, ItemID: 1, Quantity: 1}}}
		return tx.AddShipment(&one)
	})
	write(t, s, func(tx *Tx) error {
		one.State = Gone
		one.Lines[0].Picked = 1
		p := Parcel{ShipmentID: one.ID, ShipmentNumber: one.Number, State: Gone, Tracking: "CP1", CarrierID: 1,
			Lines: []ParcelLine{{LineID: 1025, ItemID: 1, Per: 1, Quantity: 1}}}
		var err error
		if p.ManifestID, err = tx.OpenManifest(1, 1, "2026-11-23"); err != nil {
			return err
		}
		again, err := tx.OpenManifest(1, 1, "2026-11-23")
		require.Equal(t, p.ManifestID, again)
		require.NoError(t, err)
		second := Parcel{ShipmentID: one.ID, ShipmentNumber: one.Number, State: ToShip}
		return errors.Join(tx.AddParcel(&p), tx.AddParcel(&second), tx.UpdateShipment(&one))
	})
	back, err := s.Shipment(t.Context(), "CP1")
	require.NoError(t, err)
	require.Equal(t, one.Number, back.Number)
	require.Equal(t, []ShipmentLine{{1025, 1, 1, 1, 1}}, back.Lines)
	parcel, err := s.Parcel(t.Context(), "CP1")
	require.NoError(t, err)
	require.Equal(t, []ParcelLine{{1025, 1, 1, 1}}, parcel.Lines)
	all, err := s.ParcelsOf(t.Context(), one.ID)
	require.NoError(t, err)
	require.Equal(t, []string{one.Number, one.Number + "-2"}, []string{all[0].Number, all[1].Number})
	m, err := s.Manifest(t.Context(), parcel.ManifestID)
	require.NoError(t, err)
	require.Equal(t, int64(1), m.Parcels)
	write(t, s, func(tx *Tx) error {
		return tx.SetManifest(Manifest{ID: m.ID, State: "closed", Receipt: "DE1", ClosedAt: micros(now)})
	})
	closed, err := s.DayClosed(t.Context(), 1, 1, "2026-11-23")
	require.NoError(t, err)
	require.True(t, closed)
	elsewhere, err := s.DayClosed(t.Context(), 1, 2, "2026-11-23")
	require.NoError(t, err)
	require.False(t, elsewhere, "another place has its own day")
	write(t, s, func(tx *Tx) error {
		next, err := tx.OpenManifest(1, 1, "2026-11-23")
		require.NotEqual(t, m.ID, next, "after closing, the day gets a new list")
		return err
	})
	parcels, err := s.ListParcels(t.Context(), []string{Gone, Arrived}, m.ID, 0, 10)
	require.NoError(t, err)
	require.Len(t, parcels, 1)
	list, err := s.ListShipments(t.Context(), []string{ToPick}, 0, 10)
	require.NoError(t, err)
	require.Empty(t, list)
}

func TestCatalogAndStockLists(t *testing.T) {
	s := open(t)
	company(t, s)
	write(t, s, func(tx *Tx) error {
		for _, sku := range []string{"SUIT-M", "SUIT-L", "BOOK"} {
			id, err := tx.AddItem(catalog.Item{SKU: sku, Name: "The " + sku, GTIN: map[string]string{"BOOK": "2007100016502"}[sku],
				Currency: "EUR", Kind: "stocked"}, now)
			if err != nil {
				return err
			}
			if err := tx.SetBin(id, 1, "A-"+sku); err != nil {
				return err
			}
		}
		return tx.AddProfile(packing.Profile{Code: "small", Name: "Small", LengthMM: 1, WidthMM: 1, HeightMM: 1})
	})
	for search, want := range map[string]int{"suit": 2, "The": 3, "2007100016502": 1, "%": 0, "": 4} {
		items, err := s.ListItems(t.Context(), ItemFilter{Search: search, Limit: 10})
		require.NoError(t, err)
		require.Len(t, items, want, search)
	}
	first, err := s.ListStock(t.Context(), StockFilter{Limit: 2})
	require.NoError(t, err)
	rest, err := s.ListStock(t.Context(), StockFilter{Location: "alder", AfterSKU: first[1].SKU,
		AfterLocation: first[1].LocationID, Limit: 10})
	require.NoError(t, err)
	require.Equal(t, []string{"BOOK", "JAR", "SUIT-L", "SUIT-M"}, []string{first[0].SKU, first[1].SKU, rest[0].SKU, rest[1].SKU})
	require.Equal(t, int64(10), first[1].OnHand)
	i, err := s.ItemByCode(t.Context(), "2007100016502")
	require.NoError(t, err)
	require.Equal(t, "BOOK", i.SKU)
	require.Error(t, s.Write(t.Context(), func(tx *Tx) error {
		_, err := tx.AddItem(catalog.Item{SKU: "BOOK", Name: "Again", Kind: "stocked"}, now)
		return err
	}), "a SKU is unique")
	_, err = s.ItemByCode(t.Context(), "")
	require.ErrorIs(t, err, ErrNotFound)
	var id int64
	write(t, s, func(tx *Tx) (err error) {
		id, err = tx.AddLocation(Location{Code: "pier", Name: "Pier Nine", Address: place.Address{Town: "Greywick"}})
		return err
	})
	locs, err := s.Locations(t.Context())
	require.NoError(t, err)
	require.Equal(t, "Greywick", locs[id-1].Address.Town)
}
