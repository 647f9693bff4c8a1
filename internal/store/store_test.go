package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/stock"
)

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func open(t *testing.T) *Store {
	t.Helper()
	s, err := Open(t.Context(), filepath.Join(t.TempDir(), "company.relay"))
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func write(t *testing.T, s *Store, f func(*Tx) error) {
	t.Helper()
	require.NoError(t, s.Write(t.Context(), f))
}

// company puts one channel, one place, one item with a listing into a file.
func company(t *testing.T, s *Store) {
	t.Helper()
	write(t, s, func(tx *Tx) error {
		conn, err := tx.AddConnection(Connection{Code: "shop", Connector: "hedgerow", Side: "channel", Name: "Shop", State: On,
			Settings: `{"offer":{"sources":[1]}}`, BeganAt: now.UnixMicro()})
		_, err2 := tx.AddFeed(Feed{ConnectionID: conn, Kind: "stock out", On: true})
		_, err3 := tx.AddLocation(Location{Code: "alder", Name: "Alder Yard"})
		item, err4 := tx.AddItem(catalog.Item{SKU: "JAR", Name: "Jar", Currency: "EUR", Kind: "stocked"}, now)
		_, err5 := tx.PutListing(&Listing{ConnectionID: conn, OutsideID: "i1", SKU: "JAR", ItemID: item, Currency: "EUR"}, now)
		book := stock.NewBook(nil)
		book.Post(stock.Movement{Key: stock.Key{Item: item, Location: 1}, At: now, Kind: stock.Count, OnHand: 10, Reason: "count",
			Who: "test"})
		return errors.Join(err, err2, err3, err4, err5, tx.Post(book))
	})
}

func addOrders(t *testing.T, s *Store, n int) {
	t.Helper()
	write(t, s, func(tx *Tx) error {
		var list []*order.Order
		var entries []Entry
		for i := range n {
			id, err := tx.NewOrderID()
			if err != nil {
				return err
			}
			o := &order.Order{ID: id, Number: fmt.Sprintf("R%d", id), ConnectionID: 1, OutsideID: fmt.Sprint("o", id), Version: 1,
				ReceivedAt: now, Via: "test", Revision: 1,
				Record: message.Order{Number: fmt.Sprintf("MH-%d", id), State: "confirmed",
					Status: message.Shipped, Currency: "EUR", PlacedAt: now.Add(time.Duration(i) * time.Second),
					BuyerName: "Maren Tolland"},
				Lines: []order.Line{{ID: order.LineID(id, 1), Position: 1, OutsideID: "L1", SKU: "JAR", ItemID: 1, Quantity: 1}}}
			list = append(list, o)
			entries = append(entries, Entry{At: now.UnixMicro(), Who: "test", Thing: "order", ThingID: id, What: "taken in", Text: "x"})
		}
		return errors.Join(tx.InsertOrders(list), tx.Note(entries...))
	})
}

func TestOpenIsForTheOwnerOnlyAndSaysWhatIsWrong(t *testing.T) {
	s := open(t)
	for _, suffix := range []string{"", "-wal", "-shm"} {
		info, err := os.Stat(s.Path() + suffix)
		require.NoError(t, err)
		require.Equal(t, os.FileMode(0o600), info.Mode().Perm(), suffix)
	}
	_, err := Open(t.Context(), filepath.Join(t.TempDir(), "no", "such", "folder.relay"))
	require.ErrorContains(t, err, "no such file or directory")
	junk := filepath.Join(t.TempDir(), "junk.relay")
	require.NoError(t, os.WriteFile(junk, []byte(strings.Repeat("this is no company ", 100)), 0o600))
	_, err = Open(t.Context(), junk)
	require.ErrorContains(t, err, "not a database")
}

func TestReceiveKeepsAVersionOnce(t *testing.T) {
	s := open(t)
	company(t, s)
	msgs := []Received{{"o1", 1, []byte("a")}, {"o1", 2, []byte("b")}, {"o2", 1, []byte("c")}}
	for want := range []int{3, 0} {
		write(t, s, func(tx *Tx) error {
			n, err := tx.Receive(1, "orders in", "push", 0, msgs, now)
			require.Equal(t, []int{3, 0}[want], n)
			return err
		})
	}
	waiting, err := s.WaitingInbox(t.Context(), 1, time.Now(), 10)
	require.NoError(t, err)
	require.Len(t, waiting, 3)
	raw, err := s.InboxRaw(t.Context(), waiting[1].ID)
	require.NoError(t, err)
	require.Equal(t, "b", string(raw))
	write(t, s, func(tx *Tx) error {
		return tx.SettleInbox([]InboxOutcome{{waiting[0].ID, "done", "", 7}, {waiting[1].ID, "failed", "why", 0}})
	})
	waiting, err = s.WaitingInbox(t.Context(), 1, time.Now(), 10)
	require.NoError(t, err)
	require.Len(t, waiting, 1)
	versions, err := s.ChannelVersions(t.Context(), 7)
	require.NoError(t, err)
	require.Len(t, versions, 1)
}

func TestAFailedChangeLeavesNothing(t *testing.T) {
	s := open(t)
	company(t, s)
	boom := errors.New("boom")
	err := s.Write(t.Context(), func(tx *Tx) error {
		if _, err := tx.AddItem(catalog.Item{SKU: "GONE", Name: "Gone", Kind: "stocked"}, now); err != nil {
			return err
		}
		return boom
	})
	require.ErrorIs(t, err, boom)
	_, err = s.Item(t.Context(), "GONE")
	require.ErrorIs(t, err, ErrNotFound)
	func() { // a panic rolls back too, and the store can be used afterwards
		defer func() { require.NotNil(t, recover()) }()
		_ = s.Write(t.Context(), func(tx *Tx) error {
			_, _ = tx.AddItem(catalog.Item{SKU: "GONE", Name: "Gone", Kind: "stocked"}, now)
			panic("broken")
		})
	}()
	_, err = s.Item(t.Context(), "GONE")
	require.ErrorIs(t, err, ErrNotFound)
	addOrders(t, s, 1)
}

func TestOutboxReplacesWhatWaitsAndSupersedesWhatFailed(t *testing.T) {
	s := open(t)
	company(t, s)
	queue := func(payload string) {
		write(t, s, func(tx *Tx) error {
			_, err := tx.Enqueue(OutboxMessage{ConnectionID: 1, Feed: "stock out", Subject: "listing 1", Payload: payload}, "or", now)
			return err
		})
	}
	claim := func() (out []OutboxMessage) {
		write(t, s, func(tx *Tx) (err error) {
			out, err = tx.ClaimOutbox(1, []message.Feed{"stock out"}, now.Add(time.Hour), 10)
			return err
		})
		return out
	}
	queue(`{"q":1}`)
	queue(`{"q":2}`)
	first := claim()
	require.Len(t, first, 1, "a newer decision replaces what has not left")
	require.Equal(t, `{"q":2}`, first[0].Payload)
	require.Equal(t, int64(1), first[0].Attempts)
	queue(`{"q":3}`) // while the first is on its way
	first[0].State, first[0].NextAt = Waiting, now.UnixMicro()
	write(t, s, func(tx *Tx) error { return tx.SettleOutbox(first[0]) })
	m, err := s.Outbox(t.Context(), first[0].ID)
	require.NoError(t, err)
	require.Equal(t, Superseded, m.State, "a failed one gives way to the newer")
	next := claim()
	require.Len(t, next, 1)
	require.Equal(t, `{"q":3}`, next[0].Payload)
	require.NotEqual(t, first[0].Ref, next[0].Ref)
	again := claim()
	require.Len(t, again, 1, "what was being sent when the process ended is sent again")
	require.Equal(t, next[0].Ref, again[0].Ref, "under the same reference")
}

func TestOrdersRoundTrip(t *testing.T) {
	s := open(t)
	company(t, s)
	addOrders(t, s, 120)
	o, err := s.OrderByNumber(t.Context(), "MH-60")
	require.NoError(t, err)
	require.Equal(t, "R60", o.Number)
	require.Equal(t, int64(1), o.Lines[0].Waiting())
	o.Lines[0].Allocated = 1
	o.Lines[0].Allocations = []order.Allocation{{Location: 1, Quantity: 1}}
	o.Hold(order.Hold{Cause: order.NoStock, Text: "x"})
	write(t, s, func(tx *Tx) error { return tx.UpdateOrder(o) })
	back, err := s.OrderByNumber(t.Context(), "R60")
	require.NoError(t, err)
	require.Equal(t, o, back)

	var seen []int64
	f := OrderFilter{Limit: 50}
	for {
		page, err := s.ListOrders(t.Context(), f)
		require.NoError(t, err)
		for _, r := range page {
			seen = append(seen, r.ID)
		}
		if len(page) < 50 {
			break
		}
		f.Before = page[49].ID
	}
	require.Len(t, seen, 120)
	require.IsDecreasing(t, seen)
	for q, want := range map[string]int{"R7": 1, "MH-7": 11, "MH-77": 1, "Tolland": 50, "100%": 0, "R99999": 0} {
		page, err := s.ListOrders(t.Context(), OrderFilter{Search: q, Limit: 50})
		require.NoError(t, err)
		require.Len(t, page, want, q)
	}
}

// TestPlans: lists walk an index and stop at the limit; nothing sorts or reads a table from end to end.
func TestPlans(t *testing.T) {
	s := open(t)
	company(t, s)
	plan := func(query string, args ...any) string {
		rows, err := s.read.QueryContext(t.Context(), "EXPLAIN QUERY PLAN "+query, args...)
		require.NoError(t, err)
		defer rows.Close()
		var out []string
		for rows.Next() {
			var id, parent, x int
			var text string
			require.NoError(t, rows.Scan(&id, &parent, &x, &text))
			out = append(out, text)
		}
		return strings.Join(out, "; ")
	}
	for _, c := range []struct {
		name  string
		f     OrderFilter
		index string
	}{
		{"all", OrderFilter{Limit: 50}, ""},
		{"next page", OrderFilter{Limit: 50, Before: 1000}, "PRIMARY KEY (rowid<?)"},
		{"one stage", OrderFilter{Limit: 50, Stages: []string{"held"}, Before: 1000}, "orders_stage"},
		{"one channel", OrderFilter{Limit: 50, Connection: "shop", Before: 1000}, "orders_connection"},
	} {
		q, args := listOrdersQuery(c.f)
		got := plan(q, args...)
		require.NotContains(t, got, "TEMP B-TREE", c.name)
		require.Contains(t, got, c.index, c.name)
	}
	for _, c := range []struct{ query, index string }{
		{"SELECT id FROM inbox WHERE connection_id=1 AND state='waiting' ORDER BY id LIMIT 100", "inbox_waiting"},
		{"SELECT id FROM inbox WHERE order_id=5 AND order_id<>0 ORDER BY id", "inbox_order"},
		{"SELECT coalesce(min(next_at),0) FROM outbox WHERE connection_id=1 AND state IN ('waiting','sending','sent')", "outbox_due"},
		{"SELECT id FROM orders WHERE connection_id=1 AND voided=0 AND outside_id='x'", "orders_once"},
		{"SELECT id FROM orders WHERE channel_number='x'", "orders_channel_number"},
		{"SELECT id FROM movement WHERE item_id=1 AND location_id=1 ORDER BY id DESC LIMIT 30", "movement_level"},
		{"SELECT id FROM timeline WHERE thing='order' AND thing_id=5 ORDER BY id", "timeline_thing"},
		{"SELECT order_id FROM order_line WHERE item_id=1 AND quantity > cancelled + allocated + picked + packed + shipped AND sells <> 2",
			"order_line_waiting"},
		{"SELECT quantity FROM allocation WHERE item_id=1", "allocation_item"},
		{"SELECT id FROM order_line l WHERE l.id BETWEEN 5 * 1024 AND 5 * 1024 + 1023", "INTEGER PRIMARY KEY"},
		{"SELECT id FROM exception WHERE closed_at=0 ORDER BY id DESC LIMIT 20", "exception_open"},
	} {
		got := plan(c.query)
		require.Contains(t, got, c.index, c.query)
		require.NotContains(t, got, "TEMP B-TREE", c.query)
	}
}

func TestNumbersAreNotGivenTwice(t *testing.T) {
	s := open(t)
	seen := map[string]bool{}
	for range 5 {
		write(t, s, func(tx *Tx) error {
			one, err := tx.Number("order")
			require.False(t, seen[one])
			seen[one] = true
			c, err2 := tx.Counter("order")
			for range 7 {
				n := c.Next()
				require.False(t, seen[n], n)
				seen[n] = true
			}
			return errors.Join(err, err2, tx.Keep(c))
		})
	}
	require.Contains(t, seen, "O10001")
	require.Len(t, seen, 40)
}

func TestReadersDoNotWaitForTheWriter(t *testing.T) {
	s := open(t)
	company(t, s)
	inside, done := make(chan struct{}), make(chan struct{})
	go func() {
		_ = s.Write(context.Background(), func(tx *Tx) error {
			_, _ = tx.AddItem(catalog.Item{SKU: "NEW", Name: "New", Kind: "stocked"}, now)
			close(inside)
			<-done
			return nil
		})
	}()
	<-inside
	_, err := s.Item(t.Context(), "NEW")
	require.ErrorIs(t, err, ErrNotFound, "not yet committed, and not waited for")
	close(done)
	require.Eventually(t, func() bool { _, err := s.Item(t.Context(), "NEW"); return err == nil }, 5*time.Second, time.Millisecond)
}
