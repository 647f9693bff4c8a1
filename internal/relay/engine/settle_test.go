package engine

import (
	"errors"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openrelay/internal/store"
)

// bare is an engine on an empty file, without rooms.
func bare(t *testing.T) *Engine {
	st, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "company.db"))
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	e, err := Open(t.Context(), st, Options{})
	require.NoError(t, err)
	t.Cleanup(e.Cancel)
	return e
}

// noting lets settlers of some marks write down what they were given.
func noting(e *Engine, said *[]string, of ...Mark) {
	for _, m := range of {
		e.OnMark(m, func(_ *Change, ids []int64) error {
			*said = append(*said, fmt.Sprint(m, " ", ids))
			return nil
		})
	}
}

// Whatever was touched, and however often, is settled once, in one order.
func TestWhatIsMarkedIsSettledOnceInOrder(t *testing.T) {
	e := bare(t)
	var said []string
	noting(e, &said, StockFreed, OrderChanged, StockMoved, OrderSaved)
	require.NoError(t, e.Commit(t.Context(), func(ch *Change) error {
		ch.Mark(OrderSaved, 7)
		ch.Mark(StockMoved, 3, 2, 3)
		ch.Mark(OrderChanged, 7)
		ch.Mark(StockFreed, 3)
		ch.Mark(StockMoved, 2, 0)
		assert.Empty(t, said, "nothing is settled before the rest is done")
		return nil
	}))
	assert.Equal(t, []string{"stock freed [3]", "order changed [7]", "stock moved [2 3]", "order saved [7]"}, said)
}

// What a settler marks is settled, too, before what comes later.
func TestSettlingMayMarkMore(t *testing.T) {
	e := bare(t)
	var said []string
	noting(e, &said, StockMoved, OrderSaved)
	e.OnMark(StockFreed, func(ch *Change, ids []int64) error {
		said = append(said, fmt.Sprint("freed ", ids))
		if ids[0] < 3 {
			ch.Mark(StockFreed, ids[0]+1)
			ch.Mark(StockMoved, ids[0])
		}
		return nil
	})
	require.NoError(t, e.Commit(t.Context(), func(ch *Change) error { ch.Mark(StockFreed, 1); ch.Mark(OrderSaved, 9); return nil }))
	assert.Equal(t, []string{"freed [1]", "freed [2]", "freed [3]", "stock moved [1 2]", "order saved [9]"}, said)
}

// A circle of settlers is found, and nothing of its change stays.
func TestACircleOfSettlersEnds(t *testing.T) {
	e := bare(t)
	e.OnMark(OrderSaved, func(ch *Change, ids []int64) error { ch.Mark(OrderSaved, ids...); return nil })
	err := e.Commit(t.Context(), func(ch *Change) error {
		ch.Mark(OrderSaved, 1)
		return ch.PutSetting("kept", "yes")
	})
	require.ErrorContains(t, err, "does not come to an end")
	kept, err := e.Store.Setting(t.Context(), "kept")
	require.NoError(t, err)
	assert.Empty(t, kept)
}

// A part that fails in what follows from it leaves nothing; what was marked before it is settled all the same.
func TestAPartIsSettledByItself(t *testing.T) {
	e := bare(t)
	var said []string
	noting(e, &said, StockMoved)
	e.OnMark(OrderSaved, func(_ *Change, ids []int64) error {
		if ids[0] == 13 {
			return errors.New("order 13 breaks")
		}
		said = append(said, fmt.Sprint("saved ", ids))
		return nil
	})
	require.NoError(t, e.Commit(t.Context(), func(ch *Change) error {
		ch.Mark(OrderSaved, 20)
		require.NoError(t, ch.Settle())
		err := ch.Try(func() error {
			ch.Mark(OrderSaved, 13)
			ch.Mark(StockMoved, 99)
			return ch.PutSetting("of the part", "kept")
		})
		require.ErrorContains(t, err, "order 13 breaks")
		require.NoError(t, ch.Try(func() error { ch.Mark(OrderSaved, 21); return nil }))
		ch.Mark(OrderSaved, 22)
		return nil
	}))
	assert.Equal(t, []string{"saved [20]", "stock moved [99]", "saved [21]", "saved [22]"}, said, "what broke was undone in the file")
	kept, err := e.Store.Setting(t.Context(), "of the part")
	require.NoError(t, err)
	assert.Empty(t, kept)
}

// Those who listen are told of a thing once, however often a change touched it.
func TestEventsAreToldOnce(t *testing.T) {
	e := bare(t)
	events, end := e.Bus.Listen()
	defer end()
	require.NoError(t, e.Commit(t.Context(), func(ch *Change) error {
		for range 3 {
			ch.Tell("order", "OR-1001")
			ch.Tell("stock", "4")
		}
		return nil
	}))
	var got []string
	for len(got) < 2 {
		select {
		case ev := <-events:
			got = append(got, ev.Kind+" "+ev.Key)
		case <-time.After(10 * time.Second):
			t.Fatal("nothing was told")
		}
	}
	assert.Equal(t, []string{"order OR-1001", "stock 4"}, got)
	assert.Empty(t, events)
}
