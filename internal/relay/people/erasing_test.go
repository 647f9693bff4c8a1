package people_test

import (
	"database/sql"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/person"
	"openrelay/internal/relay/trial"
)

// standing lists the columns of the file in which a word stands, with what stands there.
func standing(t *testing.T, k *trial.Kit, word string) (places []string) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+k.Store.Path())
	require.NoError(t, err)
	defer db.Close()
	names := func(query string, args ...any) (out []string) {
		rows, err := db.Query(query, args...)
		require.NoError(t, err)
		defer rows.Close()
		for rows.Next() {
			var name string
			require.NoError(t, rows.Scan(&name))
			out = append(out, name)
		}
		return out
	}
	for _, table := range names(`SELECT name FROM sqlite_schema
		WHERE type='table' AND name NOT LIKE 'sqlite_%' AND sql NOT LIKE '%VIRTUAL%'`) {
		for _, column := range names("SELECT name FROM pragma_table_info(?)", table) {
			query := fmt.Sprintf("SELECT substr(CAST(%q AS TEXT),1,200) FROM %q WHERE instr(lower(CAST(%q AS TEXT)), ?)>0", column,
				table, column)
			for _, value := range names(query, strings.ToLower(word)) {
				places = append(places, table+"."+column+": "+value)
			}
		}
	}
	return places
}

// TestNothingIsLeftOfAPerson in any column of the file, whatever quoted them: what came and was not understood, what others
// answered, what was raised, told, looked at and searched for.
func TestNothingIsLeftOfAPerson(t *testing.T) {
	k := trial.New(t, "ann")
	ctx := t.Context()
	words := []string{"Sorrel Quandry", "Mossgate 3", "555-0199-77", "sorrel@buyer.example", "GIFT-77-K", "leave it with the hens"}
	k.Stock(9, "JAR")
	o := trial.Sale("S-1", trial.Units("JAR", 1))
	o.BuyerName, o.BuyerEmail, o.Note = words[0], words[3], words[5]
	o.ShipTo.Name, o.ShipTo.Street, o.ShipTo.Phone, o.ShipTo.Email = words[0], words[1], words[2], words[3]
	o.Vouchers = []message.Voucher{{Code: words[4], Amount: 100}} // the total does not fit: it is held with a sum that names it
	bad := trial.Sale("S-9", trial.Units("JAR", 1))
	bad.BuyerName, bad.ShipTo, bad.Currency = words[0], o.ShipTo, "no currency"
	k.Take("stall", trial.Event("order", "S-1", 1, o), trial.Event("order", "S-9", 1, bad))
	require.NoError(t, k.Looked(ctx, "Edda", person.Lead, "search", words[0]))
	require.NoError(t, k.Looked(ctx, "Edda", person.Lead, "person", words[3]))
	k.Security(ctx, "refused", words[3], "10.0.0.9", "wrong password")
	quoted := strings.ToUpper(strings.Join(words, " | "))
	for _, query := range []string{
		"UPDATE outbox SET error=?1", "UPDATE feed SET last_error=?1", "UPDATE exception SET text=text||?1",
		"INSERT INTO run (feed_id, cause, started_at, state, error) SELECT id, 'by hand', 1, 'failed', ?1 FROM feed",
		"INSERT INTO run_log (run_id, at, level, text) SELECT id, 1, 'error', ?1 FROM run",
		"INSERT INTO notice (target_id, ref, subject, payload, created_at, next_at) VALUES (1, 'r', ?1, json_object('text', ?1), 1, 1)",
		`INSERT INTO bench (connection_id, at, who, feed, message, exchange, error)
			VALUES (1, 1, 'Edda', 'orders in', ?1, json_array(?1), ?1)`,
		`INSERT INTO timeline (at, who, thing, thing_id, what, text)
			VALUES (1, 'Edda', 'order', 1, 'cancelled', ?1), (1, 'Edda', 'company', 0, 'x', ?1)`,
		`INSERT INTO job (id, kind, subject, args, who, created_at, next_at, state)
			VALUES (90000, 'act', 'x', json_object('value', ?1), 'Edda', 1, 1, 'done')`,
	} {
		k.Spoil(query, quoted)
	}
	for _, w := range words {
		require.NotEmpty(t, standing(t, k, w), w)
	}
	k.CancelOrder("S-1")
	_, err := k.ErasePerson(ctx, words[3], "Edda")
	require.NoError(t, err)
	for _, w := range words {
		require.Empty(t, standing(t, k, w), w)
	}
	kept, err := k.Store.OrderByNumber(ctx, "S-1")
	require.NoError(t, err)
	require.Equal(t, int64(1000), kept.Record.Total, "the books stay")

	again := o // the channel still knows, and says so again
	again.State, again.Status = "called off", message.Cancelled
	k.Take("stall", trial.Event("order", "S-1", 9, again))
	kept, err = k.Store.OrderByNumber(ctx, "S-1")
	require.NoError(t, err)
	require.Equal(t, "called off", kept.Record.State, "what it says of the order is followed")
	for _, w := range words {
		require.Empty(t, standing(t, k, w), w)
	}
	k.Holds()
}
