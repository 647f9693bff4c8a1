package store

import (
	"compress/gzip"
	"context"
	"database/sql"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// oldCompany is a company file of an earlier version: the demo company as that version left it.
func oldCompany(t *testing.T) string {
	t.Helper()
	packed, err := os.Open("testdata/company-7.relay.gz")
	require.NoError(t, err)
	defer packed.Close()
	r, err := gzip.NewReader(packed)
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "company.relay")
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY, 0o600)
	require.NoError(t, err)
	_, err = io.Copy(f, r)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	return path
}

// packedIn lists what was packed by a company file, and by the table that keeps it there.
func packedIn(t *testing.T, path, table string) (out []string) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+path+"?mode=ro")
	require.NoError(t, err)
	defer db.Close()
	rows, err := db.QueryContext(
		t.Context(),
		`SELECT number||' '||state||' '||profile||' '||weight_g||' '||tracking||' '||sscc||' '||price||' '||
		manifest_id||' '||shipped_at||' '||length(label) FROM `+table+` WHERE state IN ('packed','buying label','shipped','delivered')
		ORDER BY number`,
	)
	require.NoError(t, err)
	defer rows.Close()
	for rows.Next() {
		var text string
		require.NoError(t, rows.Scan(&text))
		out = append(out, text)
	}
	require.NoError(t, rows.Err())
	require.NotEmpty(t, out)
	return out
}

// peopleColumns say who did something.
var peopleColumns = []struct{ table, column string }{
	{"timeline", "who"}, {"movement", "who"}, {"job", "who"}, {"security_event", "who"}, {"backup", "who"}, {"policy", "who"},
	{"purchase", "who"}, {"transfer", "who"}, {"stock_count", "who"}, {"count_line", "who"}, {"sheet", "who"}, {"look", "who"},
	{"first_import", "who"}, {"bench", "who"}, {"exception", "closed_by"}, {"listing", "ignored_by"}, {"saved_view", "owner"},
	{"orders", "typed_by"}, {"order_sum", "typed_by"}, {"api_token", "made_by"}, {"shipment", "pickers"}, {"orders", "assignee"},
	{
		"exception",
		"assignee",
	}, {"definition", "added_by"}, {"definition_version", "who"}, {"rule", "changed_by"}, {"setting_change", "who"},
	{"goods_return", "made_by"}, {"claim", "made_by"}, {"round", "held_by"}, {"round", "made_by"},
	{"stock_difference", "settled_by"},
}

// TestEachColumnOfPeopleIsKnown: whoever adds one says so, so that it is tried.
func TestEachColumnOfPeopleIsKnown(t *testing.T) {
	s := open(t)
	var have []struct {
		Table  string `db:"tab"`
		Column string `db:"col"`
	}
	require.NoError(t, s.read.SelectContext(t.Context(), &have, `SELECT m.name AS tab, c.name AS col FROM sqlite_schema m
		JOIN pragma_table_info(m.name) c WHERE m.type='table' AND (c.name IN ('who','owner','pickers','assignee','author')
		OR c.name LIKE '%\_by' ESCAPE '\') AND c.name NOT IN ('matched_by','told_by','answer_by','undone_by')`))
	require.NotEmpty(t, have)
	for _, h := range have {
		assert.Contains(t, peopleColumns, struct{ table, column string }{h.Table, h.Column})
	}
}

// TestACompanyOfAnEarlierVersion opens, holds, and is kept as it was; opening it again changes nothing more.
func TestACompanyOfAnEarlierVersion(t *testing.T) {
	path, ctx := oldCompany(t), t.Context()
	s, err := Open(ctx, path)
	require.NoError(t, err)
	u := s.Upgraded()
	require.EqualValues(t, 7, u.From)
	require.Greater(t, u.To, u.From)
	require.Equal(t, path+".before-upgrade-7", u.Copy)
	findings, err := s.Verify(ctx)
	require.NoError(t, err)
	require.Empty(t, findings)
	orders, items, err := s.Holds(ctx)
	require.NoError(t, err)
	require.EqualValues(t, 39, orders)
	require.EqualValues(t, 59, items)
	edda, err := s.UserByEmail(ctx, "lead@morrowhive.example")
	require.NoError(t, err)
	require.EqualValues(t, "lead", edda.Role)
	list, err := s.ListOrders(ctx, OrderFilter{Limit: 200})
	require.NoError(t, err)
	require.Len(t, list, 39)
	require.Equal(t, packedIn(t, u.Copy, "shipment"), packedIn(t, path, "parcel"), "each parcel is as it was")
	named := 0
	for _, column := range peopleColumns {
		var n int
		require.NoError(t, s.read.GetContext(ctx, &n, "SELECT count(*) FROM "+column.table+" WHERE "+column.column+
			" IN (SELECT name FROM user)"))
		require.Zero(t, n, "%s.%s keeps names", column.table, column.column)
		require.NoError(t, s.read.GetContext(ctx, &n, "SELECT count(*) FROM "+column.table+" WHERE "+column.column+
			" IN (SELECT CAST(id AS TEXT) FROM user)"))
		named += n
	}
	require.Positive(t, named, "somebody did something there")
	done, err := s.Activity(ctx, ActivityFilter{Who: strconv.FormatInt(edda.ID, 10), Limit: 1})
	require.NoError(t, err)
	require.Equal(t, edda.Name, done[0].Who)
	require.NoError(t, s.Close())
	before, err := os.Stat(u.Copy)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), before.Mode().Perm())

	s, err = Open(ctx, path)
	require.NoError(t, err)
	require.Empty(t, s.Upgraded().Copy)
	require.NoError(t, s.Close())
	same, err := Open(ctx, u.Copy) // as a person does for whom the upgrade was too early
	require.NoError(t, err)
	require.NoError(t, same.Close())
}

// TestAFileOfANewerVersionIsRefused, and left as it is.
func TestAFileOfANewerVersionIsRefused(t *testing.T) {
	path, ctx := filepath.Join(t.TempDir(), "x.relay"), t.Context()
	s, err := Open(ctx, path)
	require.NoError(t, err)
	write(t, s, func(tx *Tx) error {
		_, err := tx.exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (9000, 1)")
		return err
	})
	require.NoError(t, s.Close())
	_, err = Open(ctx, path)
	var newer *Newer
	require.ErrorAs(t, err, &newer)
	require.EqualValues(t, 9000, newer.Has)
	require.ErrorContains(t, err, "newer version of the program")
	matches, err := filepath.Glob(path + ".before*")
	require.NoError(t, err)
	require.Empty(t, matches)
}

// TestACopyIsOfOneMoment, though the file is written to while it is copied; one that is given up leaves nothing.
func TestACopyIsOfOneMoment(t *testing.T) {
	s := open(t)
	dir := t.TempDir()
	put := func(value string) {
		write(t, s, func(tx *Tx) error {
			for _, key := range []string{"one", "two"} {
				if err := tx.PutSetting(key, value); err != nil {
					return err
				}
			}
			return nil
		})
	}
	put("before")
	to := filepath.Join(dir, "copy")
	first := true
	require.NoError(t, Copy(t.Context(), s.Path(), to, func(int, int) {
		if first {
			put("after")
		}
		first = false
	}))
	for _, key := range []string{"one", "two"} {
		v, err := ReadSetting(t.Context(), to, key)
		require.NoError(t, err)
		require.Equal(t, "before", v)
	}
	v, err := ReadSetting(t.Context(), to, "no such")
	require.NoError(t, err)
	require.Empty(t, v)
	require.ErrorContains(t, Copy(t.Context(), s.Path(), to, nil), "is there already")

	ctx, cancel := context.WithCancel(t.Context())
	require.ErrorIs(t, Copy(ctx, s.Path(), filepath.Join(dir, "given up"), func(int, int) { cancel() }), context.Canceled)
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range entries {
		require.NotContains(t, e.Name(), "given up")
	}
	require.Error(t, Copy(t.Context(), s.Path(), filepath.Join(dir, "no", "folder"), nil))
}
