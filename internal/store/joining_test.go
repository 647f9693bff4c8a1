package store

import (
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"testing"
	"time"

	"openrelay/internal/core/message"

	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/require"
)

// olderFile makes a file as it was at a version of the tables, with some records.
func olderFile(t *testing.T, version int64, records ...string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "company.relay")
	db, err := sql.Open("sqlite", "file:"+file)
	require.NoError(t, err)
	sub, err := fs.Sub(migrations, "migrations")
	require.NoError(t, err)
	p, err := goose.NewProvider(goose.DialectSQLite3, db, sub)
	require.NoError(t, err)
	_, err = p.UpTo(t.Context(), version)
	require.NoError(t, err)
	for _, q := range records {
		_, err = db.Exec(q)
		require.NoError(t, err)
	}
	require.NoError(t, db.Close())
	return file
}

// TestOlderFilesAreBroughtOver opens a company file as the first version wrote it: each connection gets an
// account with its address and credentials.
func TestOlderFilesAreBroughtOver(t *testing.T) {
	file := olderFile(t, 1, `INSERT INTO connection (id, code, connector, side, name, base_url, credentials, identity, settings,
		began_at) VALUES (3,'shop','hedgerow','channel','Shop','http://shop',x'01ff','{"number":"H-1"}','{"tolerance":2}',77)`,
		"INSERT INTO feed (connection_id, kind, is_on, mark) VALUES (3,'orders in',1,'2026-01-01T00:00:00Z')")
	s, err := Open(t.Context(), file)
	require.NoError(t, err)
	defer s.Close()
	list, err := s.Connections(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 1)
	c := list[0]
	require.Equal(t, On, c.State)
	require.Equal(t, `{"tolerance":2}`, c.Settings)
	accounts, err := s.Accounts(t.Context())
	require.NoError(t, err)
	require.Len(t, accounts, 1)
	require.Equal(t, c.AccountID, accounts[0].ID)
	require.Equal(t, "http://shop", accounts[0].BaseURL)
	require.Equal(t, []byte{1, 0xff}, accounts[0].Credentials)
	require.Equal(t, `{"number":"H-1"}`, accounts[0].Identity)
	feeds, err := s.Feeds(t.Context())
	require.NoError(t, err)
	require.Equal(t, "2026-01-01T00:00:00Z", feeds[0].Mark)
}

// TestOwnersAreBroughtOver: whose word counts for a field stays when it can also be ours.
func TestOwnersAreBroughtOver(t *testing.T) {
	file := olderFile(t, 6, "INSERT INTO field_owner VALUES ('name', 3), ('price', 4)")
	s, err := Open(t.Context(), file)
	require.NoError(t, err)
	defer s.Close()
	write(t, s, func(tx *Tx) error { return tx.SetOwners(map[string]int64{"price": Whosever, "gtin": Ours}) })
	owners, err := s.Owners(t.Context())
	require.NoError(t, err)
	require.Equal(t, map[string]int64{"name": 3, "gtin": Ours}, owners)
}

// joined adds a connection with an account of its own.
func joined(t *testing.T, s *Store, code, number, site string) Connection {
	t.Helper()
	var c Connection
	write(t, s, func(tx *Tx) error {
		account, err := tx.PutAccount(Account{Connector: "market", Name: "Market", BaseURL: "http://m", Identity: "{}", CreatedAt: 1})
		if err != nil {
			return err
		}
		id, err := tx.AddConnection(Connection{Code: code, Connector: "market", Side: "channel", Name: code, AccountID: account,
			Site: site, AccountNo: number, State: On, Settings: "{}"})
		if err != nil {
			return err
		}
		if _, err := tx.AddFeed(Feed{ConnectionID: id, Kind: "orders in", On: true}); err != nil {
			return err
		}
		if _, err := tx.AddFeed(Feed{ConnectionID: id, Kind: "stock out", On: true}); err != nil {
			return err
		}
		c, err = tx.Connection(code)
		return err
	})
	return c
}

func TestAnAccountNumberIsJoinedOncePerSite(t *testing.T) {
	s := open(t)
	joined(t, s, "one", "T-1", "west")
	joined(t, s, "two", "T-1", "east")
	err := s.Write(t.Context(), func(tx *Tx) error {
		_, err := tx.AddConnection(Connection{Code: "three", Connector: "market", Side: "channel", Name: "x", AccountNo: "T-1",
			Site: "east", State: Joining, Settings: "{}"})
		return err
	})
	require.ErrorContains(t, err, "UNIQUE")
	c, err := s.ConnectionByAccount(t.Context(), "market", "T-1", "east")
	require.NoError(t, err)
	require.Equal(t, "two", c.Code)
	_, err = s.ConnectionByAccount(t.Context(), "market", "", "")
	require.ErrorIs(t, err, ErrNotFound, "what is not confirmed stands for no account")
}

func TestConnectionsAreChangedByWhoSawThem(t *testing.T) {
	s := open(t)
	c := joined(t, s, "one", "T-1", "")
	c.Name = "Newer"
	write(t, s, func(tx *Tx) error { return tx.UpdateConnection(c) })
	require.ErrorIs(t, s.Write(t.Context(), func(tx *Tx) error { return tx.UpdateConnection(c) }), ErrConflict)
	c.State, c.Revision = "flying", c.Revision+1
	require.ErrorContains(t, s.Write(t.Context(), func(tx *Tx) error { return tx.UpdateConnection(c) }), "CHECK", "there is no such state")
}

func TestAccountsGoWithTheirLastConnection(t *testing.T) {
	s := open(t)
	c := joined(t, s, "one", "T-1", "")
	drop := func() (gone bool) {
		write(t, s, func(tx *Tx) (err error) { gone, err = tx.DropAccount(c.AccountID); return err })
		return gone
	}
	require.False(t, drop(), "it is in use")
	write(t, s, func(tx *Tx) error { return tx.PutToken(c.AccountID, []byte{7}) })
	write(t, s, func(tx *Tx) error {
		a, err := tx.Account(c.AccountID)
		require.Equal(t, []byte{7}, a.Token)
		require.Equal(t, int64(1), a.Revision, "a token is no change of the account")
		return err
	})
	account := c.AccountID
	c.AccountID = 0
	write(t, s, func(tx *Tx) error { return tx.UpdateConnection(c) })
	c.AccountID = account
	require.True(t, drop())
}

func TestASetUpLeavesNothing(t *testing.T) {
	s := open(t)
	c := joined(t, s, "one", "T-1", "")
	write(t, s, func(tx *Tx) error {
		_, err1 := tx.AddImport(FirstImport{ConnectionID: c.ID, State: Looking, Choices: "{}", Who: "x"})
		_, err2 := tx.AddBench(BenchRow{ConnectionID: c.ID, Feed: "stock out"})
		_, err3 := tx.Receive(c.ID, "orders in", "poll", 0, []Received{{OutsideID: "a", Version: 1, Raw: []byte("{}")}}, now)
		_, err4 := tx.PutListing(&Listing{ConnectionID: c.ID, OutsideID: "l", Currency: "EUR"}, now)
		return errors.Join(err1, err2, err3, err4, tx.PutConsent("state", c.ID, []byte{1}, now))
	})
	n, err := s.CountsOf(t.Context(), c.ID)
	require.NoError(t, err)
	require.Equal(t, ConnectionCounts{Listings: 1, Messages: 1}, n)
	write(t, s, func(tx *Tx) error { return tx.DropConnection(c.ID) })
	for _, table := range []string{"connection", "feed", "first_import", "bench", "inbox", "listing", "consent"} {
		var n int
		require.NoError(t, s.read.Get(&n, "SELECT count(*) FROM "+table))
		require.Zero(t, n, table)
	}
}

func TestConsentsAreGoodOnceAndForAWhile(t *testing.T) {
	s := open(t)
	c := joined(t, s, "one", "T-1", "")
	take := func(state string, since time.Time) (box []byte, err error) {
		err = s.Write(t.Context(), func(tx *Tx) (err error) {
			_, box, err = tx.TakeConsent(state, since)
			return err
		})
		return box, err
	}
	write(t, s, func(tx *Tx) error { return tx.PutConsent("a", c.ID, []byte{1}, now) })
	_, err := take("b", now)
	require.ErrorIs(t, err, ErrNotFound)
	box, err := take("a", now.Add(-time.Minute))
	require.NoError(t, err)
	require.Equal(t, []byte{1}, box)
	_, err = take("a", now.Add(-time.Minute))
	require.ErrorIs(t, err, ErrNotFound, "once")
	write(t, s, func(tx *Tx) error { return tx.PutConsent("c", c.ID, []byte{1}, now) })
	_, err = take("c", now.Add(time.Minute))
	require.ErrorIs(t, err, ErrNotFound, "too late")
	write(t, s, func(tx *Tx) error {
		return errors.Join(tx.PutConsent("d", c.ID, []byte{1}, now), tx.PutConsent("e", c.ID, []byte{2}, now))
	})
	_, err = take("d", now.Add(-time.Minute))
	require.ErrorIs(t, err, ErrNotFound, "a newer one ends it")
}

func TestImportsAreCarriedRecordByRecord(t *testing.T) {
	s := open(t)
	c := joined(t, s, "one", "T-1", "")
	var id int64
	write(t, s, func(tx *Tx) (err error) {
		id, err = tx.AddImport(FirstImport{ConnectionID: c.ID, State: Looking, Choices: "{}", BeganAt: 1, Who: "x"})
		return err
	})
	put := func(kind message.Feed, outside, verdict, reason string) {
		write(t, s, func(tx *Tx) error {
			return tx.PutImportRecords([]ImportRecord{{ImportID: id, Kind: kind, OutsideID: outside, Version: 1, Raw: []byte(outside),
				Title: outside, Verdict: verdict, Reason: reason}})
		})
	}
	put("orders in", "o1", "take in", "")
	put("listings in", "l2", "match", "same SKU")
	put("listings in", "l1", "conflict", "twice")
	put("listings in", "l2", "create", "")
	open, err := s.OpenImports(t.Context())
	require.NoError(t, err)
	require.Len(t, open, 1)
	list, err := s.OpenImportRecords(t.Context(), id, 10)
	require.NoError(t, err)
	require.Equal(t, "l1 l2 o1", fmt.Sprint(list[0].OutsideID, " ", list[1].OutsideID, " ", list[2].OutsideID), "listings before orders")
	require.Equal(t, "create", list[1].Verdict, "the newest reading counts")
	list[0].Verdict, list[0].Reason = "matched", ""
	write(t, s, func(tx *Tx) error { return tx.SettleImportRecord(list[0]) })
	list, err = s.OpenImportRecords(t.Context(), id, 10)
	require.NoError(t, err)
	require.Len(t, list, 2)
	counts, err := s.ImportCounts(t.Context(), id)
	require.NoError(t, err)
	require.Contains(t, counts, ImportCount{Kind: "listings in", Verdict: "matched", Done: true, Count: 1})
	put("listings in", "l3", "conflict", "odd")
	all, err := s.ImportRecords(t.Context(), id, 10)
	require.NoError(t, err)
	require.Equal(t, "l3", all[0].OutsideID, "conflicts first")
	write(t, s, func(tx *Tx) error { return tx.SetImport(id, Done, "", now) })
	last, err := s.LastImport(t.Context(), c.ID)
	require.NoError(t, err)
	require.Equal(t, Done, last.State)
	write(t, s, func(tx *Tx) (err error) {
		_, err = tx.AddImport(FirstImport{ConnectionID: c.ID, State: Looking, Choices: "{}"})
		return err
	})
	all, err = s.ImportRecords(t.Context(), id, 10)
	require.NoError(t, err)
	require.Empty(t, all, "a new one forgets what the old one found")
}

func TestBenchKeepsTheNewestHundred(t *testing.T) {
	s := open(t)
	c := joined(t, s, "one", "T-1", "")
	write(t, s, func(tx *Tx) error {
		for i := range 130 {
			if _, err := tx.AddBench(BenchRow{ConnectionID: c.ID, At: int64(i), Feed: "stock out", Exchange: "{}"}); err != nil {
				return err
			}
		}
		return nil
	})
	rows, err := s.Bench(t.Context(), c.ID)
	require.NoError(t, err)
	require.Len(t, rows, 100)
	require.Equal(t, int64(129), rows[0].At)
	var n int
	require.NoError(t, s.read.Get(&n, "SELECT count(*) FROM bench"))
	require.Equal(t, 100, n)
}

func TestCustomersAreKnownByNumberAndEmail(t *testing.T) {
	s := open(t)
	c := joined(t, s, "one", "T-1", "")
	put := func(number, name, email string) (isNew bool) {
		write(t, s, func(tx *Tx) (err error) {
			isNew, err = tx.PutCustomer(Customer{ConnectionID: c.ID, OutsideID: number, Name: name, Email: email, Address: "{}"})
			return err
		})
		return isNew
	}
	require.True(t, put("1", "Ann", "ann@example.test"))
	require.False(t, put("1", "Ann B.", "ann@example.test"))
	require.False(t, put("9", "Ann", "ann@example.test"), "the same e-mail is the same person")
	require.True(t, put("2", "Ben", ""))
	require.True(t, put("3", "Cid", ""), "no e-mail is nobody's")
	n, err := s.CountCustomers(t.Context(), c.ID)
	require.NoError(t, err)
	require.Equal(t, int64(3), n)
}

func TestSubmissionsAreSettledTogether(t *testing.T) {
	s := open(t)
	c := joined(t, s, "one", "T-1", "")
	write(t, s, func(tx *Tx) error {
		for i := range 4 {
			id, err := tx.Enqueue(OutboxMessage{ConnectionID: c.ID, Feed: "stock out", Subject: fmt.Sprint("listing ", i),
				Payload: "{}"}, "or", now)
			if err != nil {
				return err
			}
			m, err := tx.Outbox(id)
			if err != nil {
				return err
			}
			m.State, m.NextAt = Sent, now.UnixMicro()
			if m.Submission = "S-1"; i == 3 {
				m.Submission = "S-2"
			}
			if err := tx.SettleOutbox(m); err != nil {
				return err
			}
		}
		list, err := tx.SubmittedWith(c.ID, "stock out", "S-1")
		require.Len(t, list, 3)
		none, err2 := tx.SubmittedWith(c.ID, "stock out", "")
		require.Empty(t, none)
		return errors.Join(err, err2)
	})
	write(t, s, func(tx *Tx) error {
		n, err := tx.CancelOutbox(c.ID, "left")
		require.Equal(t, int64(4), n)
		return err
	})
}

func TestTestOrdersAreClearedAndForgotten(t *testing.T) {
	s := open(t)
	company(t, s)
	addOrders(t, s, 2)
	write(t, s, func(tx *Tx) error {
		if _, err := tx.Receive(1, "orders in", "poll", 0,
			[]Received{{OutsideID: "o1", Version: 1, Raw: []byte("{}")}, {OutsideID: "o2", Version: 1, Raw: []byte("{}")}},
			now); err != nil {
			return err
		}
		o, err := tx.Order(1)
		if err != nil {
			return err
		}
		for i := range o.Lines { // a test order holds no stock
			o.Lines[i].Allocated, o.Lines[i].Allocations = 0, nil
		}
		o.Test = true
		return errors.Join(tx.UpdateOrder(o),
			tx.SettleInbox([]InboxOutcome{{ID: 1, State: "done", OrderID: 1}, {ID: 2, State: "done", OrderID: 2}}))
	})
	write(t, s, func(tx *Tx) error {
		n, err := tx.CountTests(1)
		require.Equal(t, int64(1), n)
		gone, err2 := tx.ClearTests(1)
		require.Equal(t, int64(1), gone)
		return errors.Join(err, err2)
	})
	_, err := s.OrderByNumber(t.Context(), "R1")
	require.ErrorIs(t, err, ErrNotFound)
	_, err = s.OrderByNumber(t.Context(), "R2")
	require.NoError(t, err)
	known := func() bool {
		list, err := s.KnownVersions(t.Context(), 1, "orders in", []Received{{OutsideID: "o1", Version: 1}})
		require.NoError(t, err)
		return list[0]
	}
	require.True(t, known(), "while in test it does not come again")
	write(t, s, func(tx *Tx) error { return tx.ForgetCleared(1) })
	require.False(t, known())
}

func TestDefinitionsKeepTheirOrder(t *testing.T) {
	s := open(t)
	write(t, s, func(tx *Tx) error {
		return errors.Join(tx.PutDefinition(Definition{Connector: "b", Text: "1", AddedAt: 1}),
			tx.PutDefinition(Definition{Connector: "a", Text: "2", AddedAt: 2}),
			tx.PutDefinition(Definition{Connector: "b", Text: "3", AddedAt: 9}))
	})
	list, err := s.Definitions(t.Context())
	require.NoError(t, err)
	require.Equal(t, "b3 a2", list[0].Connector+list[0].Text+" "+list[1].Connector+list[1].Text, "what is extended comes first")
	write(t, s, func(tx *Tx) error { return tx.DropDefinition("b") })
	list, err = s.Definitions(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 1)
}

// TestDefinitionVersions count by connector, and go with the definition.
func TestDefinitionVersions(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	add := func(code, text string) (n int64) {
		write(t, s, func(tx *Tx) (err error) {
			n, err = tx.AddDefinitionVersion(DefinitionVersion{Connector: code, Text: text, At: 7, Who: "Edda", Note: "as agreed"})
			return err
		})
		return n
	}
	require.Equal(t, []int64{1, 2, 1}, []int64{add("a", "x"), add("a", "y"), add("b", "z")})
	list, err := s.DefinitionVersions(ctx, "a")
	require.NoError(t, err)
	require.Len(t, list, 2)
	require.Equal(t, DefinitionVersion{Connector: "a", Version: 2, Text: "y", At: 7, Who: "Edda", Note: "as agreed"}, list[0])
	last, err := s.LastVersions(ctx)
	require.NoError(t, err)
	require.Equal(t, map[string]int64{"a": 2, "b": 1}, last)
	write(t, s, func(tx *Tx) error { return tx.DropDefinition("a") })
	list, err = s.DefinitionVersions(ctx, "a")
	require.NoError(t, err)
	require.Empty(t, list)
	require.EqualValues(t, 1, add("a", "anew"))
}

// TestNewestKept lists what a change of definition is tried on: the newest of a feed, without what was taken away of persons.
func TestNewestKept(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	var list []Received
	for i := range 5 {
		raw := fmt.Sprintf(`{"n":%d}`, i)
		if i == 3 {
			raw = `{"removed":"personal data, after its time"}`
		}
		list = append(list, Received{OutsideID: fmt.Sprint("r", i), Version: 1, Raw: []byte(raw)})
	}
	write(t, s, func(tx *Tx) error {
		_, err := tx.Receive(1, "orders in", "poll", 0, list, time.UnixMicro(5))
		if err == nil {
			_, err = tx.Receive(2, "orders in", "poll", 0, list[:1], time.UnixMicro(5))
		}
		return err
	})
	kept, of, err := s.NewestKept(ctx, 1, "orders in", 3)
	require.NoError(t, err)
	require.EqualValues(t, 5, of)
	require.Len(t, kept, 2)
	require.Equal(t, `{"n":4} {"n":2}`, string(kept[0].Raw)+" "+string(kept[1].Raw))
	_, of, err = s.NewestKept(ctx, 1, "stock in", 3)
	require.NoError(t, err)
	require.Zero(t, of)
}
