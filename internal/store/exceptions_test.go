package store

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openrelay/internal/core/order"
)

// raise opens exceptions, in their order.
func raise(t *testing.T, s *Store, list ...Exception) {
	t.Helper()
	write(t, s, func(tx *Tx) error {
		for i, e := range list {
			if err := tx.Raise(e, now.Add(time.Duration(i)*time.Minute)); err != nil {
				return err
			}
		}
		return nil
	})
}

func openTexts(t *testing.T, s *Store) (texts []string) {
	t.Helper()
	list, err := s.OpenExceptions(t.Context(), now.Add(time.Hour), 100)
	require.NoError(t, err)
	for _, e := range list {
		texts = append(texts, e.Text)
	}
	return texts
}

const unknown, badAddress = order.Cause("unknown item"), order.Cause("bad address")

// TestAnExceptionIsRaisedOnce: the same again changes its words; another order, subject or message is another.
func TestAnExceptionIsRaisedOnce(t *testing.T) {
	s := open(t)
	company(t, s)
	addOrders(t, s, 2)
	raise(t, s,
		Exception{Cause: unknown, Subject: "GHOST", Text: "first words", ConnectionID: 1, OrderID: 1},
		Exception{Cause: unknown, Subject: "GHOST", Text: "better words", ConnectionID: 1, OrderID: 1},
		Exception{Cause: unknown, Subject: "GHOST", Text: "of another order", ConnectionID: 1, OrderID: 2},
		Exception{Cause: unknown, Subject: "PHANTOM", Text: "of another item", ConnectionID: 1, OrderID: 1},
		Exception{Cause: badAddress, Subject: "postcode", Text: "another cause", ConnectionID: 1, OrderID: 1})
	assert.Equal(t, []string{"another cause", "of another item", "of another order", "better words"}, openTexts(t, s))

	groups, err := s.ExceptionGroups(t.Context(), ExceptionFilter{Now: now, Limit: 10})
	require.NoError(t, err)
	require.Len(t, groups, 3)
	assert.Equal(t, "GHOST", groups[0].Subject, "what blocks most orders stands first")
	assert.Equal(t, int64(2), groups[0].OrderCount)
	assert.Equal(t, micros(now), groups[0].OldestAt)
	assert.Equal(t, "of another order", groups[0].Text, "the newest of them")
	counts, err := s.CauseCounts(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []NamedCount{{Name: "unknown item", N: 3}, {Name: "bad address", N: 1}}, counts)
}

// TestGroupsAreNarrowed by cause, connection and who looks after them, and those that sleep are apart.
func TestGroupsAreNarrowed(t *testing.T) {
	s := open(t)
	company(t, s)
	addOrders(t, s, 3)
	raise(t, s, Exception{Cause: unknown, Subject: "GHOST", ConnectionID: 1, OrderID: 1},
		Exception{Cause: badAddress, Subject: "postcode", ConnectionID: 1, OrderID: 2})
	ghost, post := Group{unknown, "GHOST", 1}, Group{badAddress, "postcode", 1}
	write(t, s, func(tx *Tx) error {
		n, err := tx.AssignGroup(ghost, "Edda")
		assert.Equal(t, int64(1), n)
		if err == nil {
			n, err = tx.SnoozeGroup(post, now.Add(time.Hour))
			assert.Equal(t, int64(1), n)
		}
		return err
	})
	raise(t, s, Exception{Cause: unknown, Subject: "GHOST", ConnectionID: 1, OrderID: 3})
	subjects := func(f ExceptionFilter) (out []string) {
		f.Limit = 10
		if f.Now.IsZero() {
			f.Now = now
		}
		list, err := s.ExceptionGroups(t.Context(), f)
		require.NoError(t, err)
		for _, g := range list {
			out = append(out, g.Subject)
		}
		return out
	}
	assert.Equal(t, []string{"GHOST"}, subjects(ExceptionFilter{}), "what sleeps is not in the way")
	assert.Equal(t, []string{"postcode"}, subjects(ExceptionFilter{Asleep: true}))
	assert.Equal(t, []string{"GHOST", "postcode"}, subjects(ExceptionFilter{Now: now.Add(2 * time.Hour)}), "it wakes by itself")
	assert.Empty(t, subjects(ExceptionFilter{Cause: badAddress}))
	assert.Equal(t, []string{"GHOST"}, subjects(ExceptionFilter{Connection: "shop", Assignee: "Edda"}))
	assert.Empty(t, subjects(ExceptionFilter{Connection: "other"}))
	assert.Empty(t, subjects(ExceptionFilter{Nobodys: true}))

	of, err := s.ExceptionsOf(t.Context(), ghost, 0, 10)
	require.NoError(t, err)
	require.Len(t, of, 2)
	assert.Equal(t, "Edda", of[1].Assignee, "who looks after a group looks after what comes later")
	rest, err := s.ExceptionsOf(t.Context(), ghost, of[0].ID, 10)
	require.NoError(t, err)
	assert.Equal(t, of[1:], rest)
	n, err := s.OrdersOfGroup(t.Context(), ghost)
	require.NoError(t, err)
	assert.Equal(t, int64(2), n)
}

// TestExceptionsEndWithTheirCause: each way to close one closes that and leaves the others.
func TestExceptionsEndWithTheirCause(t *testing.T) {
	all := []Exception{
		{Cause: unknown, Subject: "GHOST", Text: "hold", ConnectionID: 1, OrderID: 1},
		{Cause: badAddress, Subject: "postcode", Text: "other hold", ConnectionID: 1, OrderID: 1},
		{Cause: "changed at the channel", Text: "standing", ConnectionID: 1, OrderID: 1, Standing: true},
		{Cause: "refused", Text: "outbox", ConnectionID: 1, OrderID: 1, OutboxID: 7},
		{Cause: "cannot be taken in", Text: "inbox", ConnectionID: 1, InboxID: 9},
		{Cause: "access refused", Text: "connection", ConnectionID: 1},
		{Cause: "sold short", Text: "item", ConnectionID: 1, ItemID: 1},
	}
	for name, c := range map[string]struct {
		close func(*Tx) error
		gone  []string
	}{
		"all holds": {func(tx *Tx) error { return tx.CloseExceptions(1, nil, "relay", now) }, []string{"hold", "other hold"}},
		"all holds but one": {func(tx *Tx) error {
			return tx.CloseExceptions(1, []string{"unknown item\x1fGHOST"}, "relay", now)
		}, []string{"other hold"}},
		"of no order": {func(tx *Tx) error { return tx.CloseExceptions(0, nil, "relay", now) }, nil},
		"standing": {func(tx *Tx) error { return tx.CloseStanding(1, "changed at the channel", "Edda", now) },
			[]string{"standing"}},
		"a message sent":     {func(tx *Tx) error { return tx.CloseExceptionFor(7, 0, "relay", now) }, []string{"outbox"}},
		"a message taken in": {func(tx *Tx) error { return tx.CloseExceptionFor(0, 9, "relay", now) }, []string{"inbox"}},
		"no message":         {func(tx *Tx) error { return tx.CloseExceptionFor(0, 0, "relay", now) }, nil},
		"a connection": {func(tx *Tx) error { return tx.CloseConnectionException(1, "access refused", now) },
			[]string{"connection"}},
		"an item":       {func(tx *Tx) error { return tx.CloseItemException(1, 1, "sold short", now) }, []string{"item"}},
		"no item":       {func(tx *Tx) error { return tx.CloseItemException(0, 1, "access refused", now) }, nil},
		"another cause": {func(tx *Tx) error { return tx.CloseItemException(1, 1, unknown, now) }, nil},
		"a group that a hold stands behind": {func(tx *Tx) error {
			n, err := tx.CloseGroup(Group{unknown, "GHOST", 1}, "Edda", now)
			assert.Zero(t, n)
			return err
		}, nil},
		"a group by hand": {func(tx *Tx) error {
			n, err := tx.CloseGroup(Group{"changed at the channel", "", 1}, "Edda", now)
			assert.Equal(t, int64(1), n)
			return err
		}, []string{"standing"}},
	} {
		t.Run(name, func(t *testing.T) {
			s := open(t)
			company(t, s)
			addOrders(t, s, 1)
			raise(t, s, all...)
			write(t, s, c.close)
			var want []string
			for _, e := range all {
				want = append(want, e.Text)
			}
			assert.ElementsMatch(t, want, append(openTexts(t, s), c.gone...))
		})
	}
}

// TestWhatIsNewIsToldOnce: from the exception on that was told last, of the causes somebody asked for.
func TestWhatIsNewIsToldOnce(t *testing.T) {
	s := open(t)
	company(t, s)
	addOrders(t, s, 3)
	raise(t, s, Exception{Cause: unknown, Subject: "GHOST", Text: "1", OrderID: 1})
	last, err := s.LastException(t.Context())
	require.NoError(t, err)
	raise(t, s, Exception{Cause: badAddress, Text: "2", OrderID: 2}, Exception{Cause: unknown, Subject: "GHOST", Text: "3", OrderID: 3})
	for want, causes := range map[string][]string{"[2 3]": nil, "[3]": {"unknown item"}, "[]": {"no stock"}} {
		list, err := s.NewExceptions(t.Context(), last, causes, 10)
		require.NoError(t, err)
		texts := []string{}
		for _, e := range list {
			texts = append(texts, e.Text)
		}
		assert.Equal(t, want, fmt.Sprint(texts))
	}
	one, err := s.Exception(t.Context(), last)
	require.NoError(t, err)
	assert.Equal(t, "R1", one.OrderNumber)
	_, err = s.Exception(t.Context(), 999)
	require.ErrorIs(t, err, ErrNotFound)
}

// TestThoseWhoWantToBeTold: a target is added, changed and dropped, with the notices that wait for it.
func TestThoseWhoWantToBeTold(t *testing.T) {
	s := open(t)
	var id int64
	write(t, s, func(tx *Tx) (err error) {
		id, err = tx.PutTarget(Target{Kind: "webhook", Address: "https://ops.morrowhive.example", Secret: []byte("sealed"),
			Causes: "[]", Every: 5, On: true})
		return err
	})
	write(t, s, func(tx *Tx) error {
		_, err := tx.PutTarget(Target{ID: id, Address: "https://desk.morrowhive.example", Causes: `["no stock"]`, Every: 10, UpTo: 4})
		return err
	})
	list, err := s.Targets(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "webhook https://desk.morrowhive.example 10 2", fmt.Sprint(list[0].Kind, " ", list[0].Address, " ", list[0].Every, " ",
		list[0].Revision))
	assert.ErrorIs(t, s.Write(t.Context(), func(tx *Tx) error { _, err := tx.PutTarget(Target{ID: 99}); return err }), ErrNotFound)

	write(t, s, func(tx *Tx) error { return tx.ToldOf(id, 3, now) })
	list, err = s.Targets(t.Context())
	require.NoError(t, err)
	assert.Equal(t, int64(4), list[0].UpTo, "what was told is never told again")

	write(t, s, func(tx *Tx) error {
		return tx.AddNotice(Notice{TargetID: id, Ref: "n1", Subject: "2 orders wait", Payload: "{}", NextAt: micros(now)})
	})
	at, err := s.NextNotice(t.Context())
	require.NoError(t, err)
	assert.True(t, at.Equal(now))
	early, err := s.DueNotices(t.Context(), now.Add(-time.Second))
	require.NoError(t, err)
	assert.Empty(t, early)
	due, err := s.DueNotices(t.Context(), now)
	require.NoError(t, err)
	require.Len(t, due, 1)
	due[0].State, due[0].Attempts, due[0].Error = "sent", 2, ""
	write(t, s, func(tx *Tx) error { return tx.SettleNotice(due[0]) })
	sent, err := s.Notices(t.Context(), id, 10)
	require.NoError(t, err)
	assert.Equal(t, due, sent)
	none, err := s.NextNotice(t.Context())
	require.NoError(t, err)
	assert.True(t, none.IsZero())

	write(t, s, func(tx *Tx) error { return tx.DropTarget(id) })
	sent, err = s.Notices(t.Context(), id, 10)
	require.NoError(t, err)
	assert.Empty(t, sent)
	assert.ErrorIs(t, s.Write(t.Context(), func(tx *Tx) error { return tx.DropTarget(id) }), ErrNotFound)
}
