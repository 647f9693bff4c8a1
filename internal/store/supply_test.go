package store

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openrelay/internal/core/catalog"
)

// supplied is a company with a second place and a second item.
func supplied(t *testing.T) *Store {
	t.Helper()
	s := open(t)
	company(t, s)
	write(t, s, func(tx *Tx) error {
		_, err := tx.AddLocation(Location{Code: "pier", Name: "Pier Store"})
		_, err2 := tx.AddItem(catalog.Item{SKU: "LID", Name: "Lid", Currency: "EUR", Kind: "stocked", Serials: true}, now)
		return errors.Join(err, err2)
	})
	return s
}

// TestAPurchaseComesInParts: ordered, received line by line, a line added, the rest given up.
func TestAPurchaseComesInParts(t *testing.T) {
	s := supplied(t)
	p := &Purchase{Supplier: "Clay works", LocationID: 1, State: "open", Expected: "2026-12-01", Who: "Edda", CreatedAt: micros(now),
		Lines: []PurchaseLine{{ItemID: 1, Ordered: 20}, {ItemID: 2, Ordered: 5}}}
	write(t, s, func(tx *Tx) error { return tx.AddPurchase(p) })
	require.NotEmpty(t, p.Number)
	write(t, s, func(tx *Tx) error {
		got, err := tx.Purchase(p.Number)
		require.NoError(t, err)
		line := got.Lines[0]
		line.Received, line.Short = 12, 8
		got.Note = "one crate was broken"
		return errors.Join(tx.UpdatePurchaseLine(got.ID, line), tx.UpdatePurchase(&got),
			tx.AddPurchaseLine(got.ID, PurchaseLine{Position: 3, ItemID: 2, Ordered: 2, Received: 2}))
	})
	got, err := s.Purchase(t.Context(), p.Number)
	require.NoError(t, err)
	assert.Equal(t, "27 ordered, 14 received", fmt.Sprintf("%d ordered, %d received", got.Ordered, got.Received))
	assert.Equal(t, "one crate was broken", got.Note)
	assert.Equal(t, p.Revision+2, got.Revision, "from 1 on")
	require.Len(t, got.Lines, 3)
	assert.Equal(t, []int64{0, 5, 0}, []int64{got.Lines[0].Left(), got.Lines[1].Left(), got.Lines[2].Left()})
	assert.True(t, got.Lines[1].Serials)
	assert.Equal(t, int64(0), PurchaseLine{Ordered: 2, Received: 3}.Left(), "more came than was ordered")
	_, err = s.Purchase(t.Context(), "P0")
	require.ErrorIs(t, err, ErrNotFound)
}

// numbered is a kind of document that is listed by state, newest first.
type numbered struct {
	add  func(tx *Tx, state string) (number string, err error)
	list func(s *Store, state string, before int64, limit int) (ids []int64, err error)
}

// TestDocumentsAreListedByState, page by page, and each gets a number of its own.
func TestDocumentsAreListedByState(t *testing.T) {
	for name, kind := range map[string]struct {
		numbered
		states [2]string
	}{
		"purchases": {numbered{func(tx *Tx, state string) (string, error) {
			p := &Purchase{Supplier: "Clay works", LocationID: 1, State: state}
			err := tx.AddPurchase(p)
			return p.Number, err
		}, func(s *Store, state string, before int64, limit int) (ids []int64, err error) {
			list, err := s.Purchases(t.Context(), state, before, limit)
			for _, p := range list {
				ids = append(ids, p.ID)
			}
			return ids, err
		}}, [2]string{"open", "closed"}},
		"transfers": {numbered{func(tx *Tx, state string) (string, error) {
			x := &Transfer{FromID: 1, ToID: 2, State: state}
			err := tx.AddTransfer(x)
			return x.Number, err
		}, func(s *Store, state string, before int64, limit int) (ids []int64, err error) {
			list, err := s.Transfers(t.Context(), state, before, limit)
			for _, x := range list {
				ids = append(ids, x.ID)
			}
			return ids, err
		}}, [2]string{"draft", "under way"}},
		"counts": {numbered{func(tx *Tx, state string) (string, error) {
			c := &Count{LocationID: 1, State: state}
			err := tx.AddCount(c)
			return c.Number, err
		}, func(s *Store, state string, before int64, limit int) (ids []int64, err error) {
			list, err := s.Counts(t.Context(), state, before, limit)
			for _, c := range list {
				ids = append(ids, c.ID)
			}
			return ids, err
		}}, [2]string{"open", "posted"}},
	} {
		t.Run(name, func(t *testing.T) {
			s := supplied(t)
			numbers := map[string]bool{}
			write(t, s, func(tx *Tx) error {
				for i := range 7 {
					number, err := kind.add(tx, kind.states[i%2])
					if err != nil {
						return err
					}
					numbers[number] = true
				}
				return nil
			})
			assert.Len(t, numbers, 7)
			for state, want := range map[string]string{"": "[7 6 5 4 3 2 1]", kind.states[0]: "[7 5 3 1]", kind.states[1]: "[6 4 2]"} {
				var ids []int64
				for before := int64(0); ; {
					page, err := kind.list(s, state, before, 2)
					require.NoError(t, err)
					ids = append(ids, page...)
					if len(page) < 2 {
						break
					}
					before = page[1]
				}
				assert.Equal(t, want, fmt.Sprint(ids), state)
			}
		})
	}
}

// TestATransferArrivesAndIsLost: what left, what came, and what was given up.
func TestATransferArrivesAndIsLost(t *testing.T) {
	s := supplied(t)
	x := &Transfer{
		FromID: 1,
		ToID:   2,
		State:  "draft",
		Who:    "Edda",
		Lines:  []TransferLine{{ItemID: 1, Quantity: 6}, {ItemID: 2, Quantity: 2}},
	}
	write(t, s, func(tx *Tx) error { return tx.AddTransfer(x) })
	write(t, s, func(tx *Tx) error {
		got, err := tx.Transfer(x.Number)
		require.NoError(t, err)
		got.State, got.SentAt = "under way", micros(now)
		got.Lines[0].Arrived, got.Lines[0].Lost = 4, 1
		return tx.UpdateTransfer(&got)
	})
	got, err := s.Transfer(t.Context(), x.Number)
	require.NoError(t, err)
	assert.Equal(t, "Alder Yard to Pier Store, under way: 8 units, 4 here, 1 lost", fmt.Sprintf("%s to %s, %s: %d units, %d here, %d lost",
		got.FromName, got.ToName, got.State, got.Units, got.Arrived, got.Lost))
	assert.Equal(t, []int64{1, 2}, []int64{got.Lines[0].Left(), got.Lines[1].Left()})
	_, err = s.Transfer(t.Context(), "T0")
	require.ErrorIs(t, err, ErrNotFound)
}

// TestACountIsWrittenLineByLine: counted again, a line is replaced; taken away, it is gone; only once.
func TestACountIsWrittenLineByLine(t *testing.T) {
	s := supplied(t)
	c := &Count{LocationID: 1, State: "open", Who: "Edda"}
	write(t, s, func(tx *Tx) error { return tx.AddCount(c) })
	line := func(item, counted, expected int64, bin string) {
		write(t, s, func(tx *Tx) error {
			return tx.PutCountLine(c.ID,
				CountLine{ItemID: item, Bin: bin, Counted: counted, Expected: expected, At: micros(now), Who: "Edda"})
		})
	}
	line(1, 9, 10, "A-1")
	line(1, 10, 10, "A-1")
	line(1, 3, 0, "B-2")
	line(2, 1, 0, "A-1")
	write(t, s, func(tx *Tx) error { return tx.DropCountLine(c.ID, 2, "A-1") })
	assert.ErrorIs(t, s.Write(t.Context(), func(tx *Tx) error { return tx.DropCountLine(c.ID, 2, "A-1") }), ErrNotFound)
	write(t, s, func(tx *Tx) error {
		got, err := tx.Count(c.Number)
		require.NoError(t, err)
		got.State, got.PostedAt = "posted", micros(now)
		return tx.UpdateCount(&got)
	})
	got, err := s.Count(t.Context(), c.Number)
	require.NoError(t, err)
	assert.Equal(t, "posted, 2 lines, 1 differs", fmt.Sprintf("%s, %d lines, %d differs", got.State, got.Counted, got.Differ))
	assert.Len(t, got.Lines, 2)
	_, err = s.Count(t.Context(), "C0")
	require.ErrorIs(t, err, ErrNotFound)
}

// TestAUnitIsFollowedByItsSerialNumber: here, packed, back again, gone for good.
func TestAUnitIsFollowedByItsSerialNumber(t *testing.T) {
	s := supplied(t)
	addOrders(t, s, 1)
	spoil(t, s, addShipment+"('S1', 1, 1, 'packed', 1); "+addParcel+"('S1', 1, 'packed', '', 1)")
	write(t, s, func(tx *Tx) error {
		return errors.Join(tx.AddSerial(2, "SN-1", 1, "receipt P1", now), tx.AddSerial(2, "SN-2", 1, "receipt P1", now.Add(time.Minute)))
	})
	require.Error(t, s.Write(t.Context(), func(tx *Tx) error { return tx.AddSerial(2, "SN-1", 1, "again", now) }), "there is one of each")
	state := func() string {
		list, err := s.Serials(t.Context(), 2, 10)
		require.NoError(t, err)
		text := ""
		for _, x := range list {
			text += x.Serial + " " + x.State + " " + x.Parcel + "; "
		}
		return text
	}
	assert.Equal(t, "SN-2 here ; SN-1 here ; ", state())
	write(t, s, func(tx *Tx) error { return tx.PackSerial(2, "SN-2", 1) })
	assert.Equal(t, "SN-1 here ; SN-2 packed S1; ", state(), "those that are here stand first")
	write(t, s, func(tx *Tx) error { return tx.UnpackSerials(1) })
	assert.Equal(t, "SN-2 here ; SN-1 here ; ", state())
	write(t, s, func(tx *Tx) error {
		return errors.Join(tx.PackSerial(2, "SN-1", 1), tx.SerialsGone(1), tx.UnpackSerials(1))
	})
	assert.Equal(t, "SN-2 here ; SN-1 gone S1; ", state(), "what has left does not come back by unpacking")
	with, err := s.SerialsOf(t.Context(), 1)
	require.NoError(t, err)
	require.Len(t, with, 1)
	assert.Equal(t, "SN-1", with[0].Serial)
	write(t, s, func(tx *Tx) error {
		x, err := tx.Serial(2, "SN-2")
		assert.Equal(t, "Alder Yard", x.Location)
		return err
	})
}
