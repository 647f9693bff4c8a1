package store

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
)

// OrderRow is an order as lists show it.
type OrderRow struct {
	ID             int64  `db:"id"`
	Number         string `db:"number"`
	ConnectionID   int64  `db:"connection_id"`
	ConnectionCode string `db:"connection_code"`
	ConnectionName string `db:"connection_name"`
	ChannelNumber  string `db:"channel_number"`
	ChannelState   string `db:"channel_state"`
	Stage          string `db:"stage"`
	Kind           string `db:"kind"`
	Buyer          string `db:"buyer"`
	Currency       string `db:"currency"`
	Total          int64  `db:"total"`
	Units          int64  `db:"units"`
	PlacedAt       int64  `db:"placed_at"`
	ReceivedAt     int64  `db:"received_at"`
	ShippedAt      int64  `db:"shipped_at"`
	Via            string `db:"via"`
	TypedBy        string `db:"typed_by"`
	Assignee       string `db:"assignee"`
	MergedInto     int64  `db:"merged_into"`
	AnswerBy       int64  `db:"answer_by"`
	Holds          string `db:"holds"`
	Tags           string `db:"tags"`   // by space
	Places         string `db:"places"` // JSON: ids of the locations where it waits to be picked
}

var rowCols = `o.id, o.number, o.connection_id, c.code AS connection_code, c.name AS connection_name, o.channel_number,
o.channel_state, o.stage, o.kind,
	o.buyer, o.currency, o.total, o.units, o.placed_at, o.received_at, o.shipped_at, o.via, ` + called("o.typed_by") + ` AS typed_by,
	` + called("o.assignee") + ` AS assignee,
	o.merged_into, o.answer_by, o.holds, o.places,
	coalesce(json_extract(o.ours,'$.tags'),'[]') AS tags`

// OrderFilter narrows a list of orders. What is empty does not narrow.
type OrderFilter struct {
	Stages     []string
	Connection string // code
	State      string // the channel's word
	Kind       string
	Tag        string
	Assignee   string
	Cause      order.Cause // of an open exception
	Typed      string      // who typed it; "*": anybody
	Customer   int64
	Merged     int64 // members of this summary order
	From, To   time.Time
	Search     string
	Nameless   bool    // names are not searched
	Before     int64   // keyset: ids below it, newest first; 0 starts at the newest
	ToPick     bool    // something of it waits to be picked or packed
	NotAt      []int64 // of ToPick: what waits at these places does not count
	Oldest     bool    // the oldest first; then Before is not used
	After      int64   // keyset: ids above it, oldest first
	Limit      int

	above, below int64 // the ids of the span of time; 0: none
}

// span finds the ids of the orders that were taken in from one time on and before another: ids grow with the time of
// taking in, so a span of time is a span of ids, and twenty looks find its ends. Zero times give zero.
func (s *Store) span(ctx context.Context, from, to time.Time) (above, below int64, err error) {
	if from.IsZero() && to.IsZero() {
		return 0, 0, nil
	}
	var last int64
	if err := s.read.GetContext(ctx, &last, "SELECT coalesce(max(id),0) FROM orders"); err != nil {
		return 0, 0, err
	}
	first := func(at time.Time) int64 { // the first order taken in at a time or later
		lo, hi := int64(0), last+1
		for lo < hi && err == nil {
			mid := lo + (hi-lo)/2
			var row struct {
				ID         int64 `db:"id"`
				ReceivedAt int64 `db:"received_at"`
			}
			if e := s.read.GetContext(ctx, &row, "SELECT id, received_at FROM orders WHERE id >= ? ORDER BY id LIMIT 1",
				mid); found(e) == ErrNotFound {
				hi = mid
			} else if e != nil {
				err = e
			} else if row.ReceivedAt >= micros(at) {
				hi = mid
			} else {
				lo = row.ID + 1
			}
		}
		return lo
	}
	if !from.IsZero() {
		above = max(first(from), 1)
	}
	if !to.IsZero() {
		below = max(first(to), 1)
	}
	return above, below, err
}

// ListOrders returns a page of orders, newest or oldest first. Each way of narrowing walks an index and stops at the limit.
func (s *Store) ListOrders(ctx context.Context, f OrderFilter) ([]OrderRow, error) {
	var err error
	if f.above, f.below, err = s.span(ctx, f.From, f.To); err != nil {
		return nil, err
	}
	query, args := listOrdersQuery(f)
	var out []OrderRow
	if err := s.read.SelectContext(ctx, &out, query, args...); err != nil {
		return nil, fmt.Errorf("list orders: %w", err)
	}
	return out, nil
}

// listOrdersQuery finds the ids by the narrowest index there is, then reads the rows. The order in which the
// tables stand is the order in which they are walked (CROSS JOIN).
func listOrdersQuery(f OrderFilter) (string, []any) {
	text, args := orderIDsQuery(f)
	return "SELECT " + rowCols + " FROM (" + text + `) k CROSS JOIN orders o ON o.id = k.id
		CROSS JOIN connection c ON c.id = o.connection_id ORDER BY k.id` + f.direction(), args
}

func (f OrderFilter) direction() string {
	if f.Oldest {
		return " ASC"
	}
	return " DESC"
}

// orderIDsQuery finds the ids of a page. Of several stages each gives its first, so that none walks through the orders
// of others.
func orderIDsQuery(f OrderFilter) (string, []any) {
	page := func(id string) string { return " ORDER BY " + id + f.direction() + " LIMIT ?" }
	if len(f.Stages) > 1 && len(f.Stages) <= maxStages && byStage(f) {
		var parts []string
		var args []any
		for i, stage := range f.Stages {
			if slices.Contains(f.Stages[:i], stage) {
				continue
			}
			one := f
			one.Stages = []string{stage}
			text, with := orderIDsQuery(one)
			parts, args = append(parts, "SELECT id FROM ("+text+")"), append(args, with...)
		}
		return strings.Join(parts, " UNION ALL ") + page("id"), append(args, f.Limit)
	}
	q := orderQuery{from: "orders o", id: "o.id"}
	q.begin(f)
	q.narrow(f)
	text := "SELECT " + q.id + " AS id FROM " + q.from
	if len(q.where) > 0 {
		text += " WHERE " + strings.Join(q.where, " AND ")
	}
	return text + page(q.id), append(q.args, f.Limit)
}

// maxStages bounds how many stages are looked for each by itself; there are fewer.
const maxStages = 16

// byStage tells whether the orders of a filter are found best by their stage.
func byStage(f OrderFilter) bool {
	if f.Search != "" || f.Tag != "" || f.Cause != "" {
		return false
	}
	f.Stages = f.Stages[:1]
	return strings.HasPrefix(orderIndex(f), "orders_stage")
}

// orderQuery is a query of orders as it is put together: from what narrows most, by an index that has the order of ids.
type orderQuery struct {
	from, id string // id is the column that tells the order's
	where    []string
	args     []any
}

func (q *orderQuery) add(cond string, args ...any) {
	q.where, q.args = append(q.where, cond), append(q.args, args...)
}

// begin chooses where the query begins.
func (q *orderQuery) begin(f OrderFilter) {
	switch {
	case f.Search != "" && searchTerms(f.Search) != "":
		q.from, q.id = "order_text x CROSS JOIN orders o ON o.id = x.rowid", "x.rowid"
		terms := searchTerms(f.Search)
		if f.Nameless {
			terms = "{number channel sku tracking} : (" + terms + ")"
		}
		q.add("x.order_text MATCH ?", terms)
	case f.Search != "":
		q.add("0")
	case f.Tag != "":
		q.from, q.id = "order_tag g CROSS JOIN orders o ON o.id = g.order_id", "g.order_id"
		q.add("g.tag = ?", f.Tag)
	case f.Cause != "":
		q.from = `(SELECT DISTINCT order_id FROM exception WHERE closed_at = 0 AND cause = ? AND order_id <> 0) e
			CROSS JOIN orders o ON o.id = e.order_id`
		q.args = append(q.args, f.Cause)
	default:
		if index := orderIndex(f); index != "" {
			q.from = "orders o INDEXED BY " + index
		}
	}
}

// orderIndex is the index by which the orders of a filter are found in their order; "" is the table's own.
func orderIndex(f OrderFilter) string {
	switch {
	case f.Customer != 0:
		return "orders_customer"
	case f.Merged != 0:
		return "orders_merged"
	case f.Assignee != "":
		return "orders_assignee"
	case f.Typed != "" && f.Typed != "*":
		return "orders_typed"
	case f.Connection != "" && f.State != "":
		return "orders_state"
	case len(f.Stages) == 1 && f.Connection != "":
		return "orders_stage_connection"
	case len(f.Stages) == 1:
		return "orders_stage"
	case f.Kind != "" && f.Kind != "ship":
		return "orders_kind"
	case f.Connection != "":
		return "orders_connection"
	}
	return ""
}

// narrow adds what the filter asks for beside that. The conditions of partial indexes are said, so that they are used.
func (q *orderQuery) narrow(f OrderFilter) {
	when := func(holds bool, cond string, args ...any) {
		if holds {
			q.add(cond, args...)
		}
	}
	when(f.Before > 0 && !f.Oldest, q.id+" < ?", f.Before)
	when(f.After > 0 && f.Oldest, q.id+" > ?", f.After)
	if len(f.Stages) == 1 {
		q.add("o.stage = ?", f.Stages[0])
	} else if len(f.Stages) > 1 {
		in, args := list(f.Stages)
		q.add("o.stage IN ("+in+")", args...)
	}
	when(f.Connection != "", "o.connection_id = (SELECT id FROM connection WHERE code = ?)", f.Connection)
	when(f.State != "", "o.channel_state = ?", f.State)
	when(f.ToPick, "o.places <> '[]'")
	if f.ToPick && len(f.NotAt) > 0 {
		in, args := list(f.NotAt)
		q.add("EXISTS (SELECT 1 FROM json_each(o.places) j WHERE j.value NOT IN ("+in+"))", args...)
	}
	when(f.Assignee != "", "o.assignee = ? AND o.assignee <> ''", f.Assignee)
	when(f.Kind != "", "o.kind = ?", f.Kind)
	when(f.Kind != "" && f.Kind != "ship", "o.kind <> 'ship'")
	when(f.Typed == "*", "o.typed_by <> ''")
	when(f.Typed != "" && f.Typed != "*", "o.typed_by = ? AND o.typed_by <> ''", f.Typed)
	when(f.Customer != 0, "o.customer_id = ? AND o.customer_id <> 0", f.Customer)
	when(f.Merged != 0, "o.merged_into = ? AND o.merged_into <> 0", f.Merged)
	when(f.Tag != "" && q.id != "g.order_id", "EXISTS (SELECT 1 FROM order_tag t WHERE t.tag = ? AND t.order_id = o.id)", f.Tag)
	when(f.Cause != "" && !strings.Contains(q.from, "FROM exception"),
		"EXISTS (SELECT 1 FROM exception e WHERE e.order_id = o.id AND e.order_id <> 0 AND e.closed_at = 0 AND e.cause = ?)", f.Cause)
	when(f.above > 0, q.id+" >= ?", f.above)
	when(f.below > 0, q.id+" < ?", f.below)
}

// searchTerms makes a query of words: each must be there, and those of three letters or more may go on.
func searchTerms(text string) string {
	var out []string
	for _, w := range strings.FieldsFunc(text, func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune("-_./", r)
	}) {
		term := `"` + w + `"`
		if len(w) >= 3 {
			term += "*"
		}
		out = append(out, term)
	}
	return strings.Join(out[:min(len(out), 8)], " ")
}

// Tags lists the tags in use, and how many orders carry each, most first.
func (s *Store) Tags(ctx context.Context) ([]NamedCount, error) {
	out := []NamedCount{}
	err := s.read.SelectContext(ctx, &out, "SELECT tag AS name, n FROM tag_count WHERE n > 0 ORDER BY n DESC, tag LIMIT 200")
	return out, err
}

// NamedCount is a name with a number.
type NamedCount struct {
	Name string `db:"name" json:"name"`
	N    int64  `db:"n" json:"n"`
}

// States lists the words for states that a connection has used, or all connections have.
func (s *Store) States(ctx context.Context, connection string) ([]string, error) {
	// A loose walk over the index: one step a word, however many orders there are.
	var out []string
	err := s.read.SelectContext(ctx, &out, `WITH RECURSIVE w (c, s) AS (
		SELECT k.id, (SELECT min(o.channel_state) FROM orders o WHERE o.connection_id = k.id) FROM connection k WHERE ?1 = '' OR k.code = ?1
		UNION ALL SELECT c, (SELECT min(o.channel_state) FROM orders o WHERE o.connection_id = c AND o.channel_state > s)
		FROM w WHERE s IS NOT NULL)
		SELECT DISTINCT s FROM w WHERE s IS NOT NULL ORDER BY s LIMIT 200`, connection)
	return out, err
}

// SavedView is a filter that somebody kept under a name.
type SavedView struct {
	ID    int64  `db:"id" json:"id"`
	Page  string `db:"page" json:"page"`
	Name  string `db:"name" json:"name"`
	Query string `db:"query" json:"query" doc:"As in the address"`
	Owner string `db:"owner" json:"owner"`
}

// SavedViews lists the filters of a page.
func (s *Store) SavedViews(ctx context.Context, page string) ([]SavedView, error) {
	out := []SavedView{}
	err := s.read.SelectContext(ctx, &out,
		"SELECT id, page, name, query, "+called("owner")+" AS owner FROM saved_view WHERE page=? ORDER BY name", page)
	return out, err
}

// PutView keeps a filter under a name.
func (t *Tx) PutView(v SavedView) error {
	_, err := t.exec(`INSERT INTO saved_view (page, name, query, owner) VALUES (?,?,?,?) ON CONFLICT (page, name) DO UPDATE
		SET query=excluded.query, owner=excluded.owner`, v.Page, v.Name, v.Query, v.Owner)
	return err
}

// DropView forgets a filter.
func (t *Tx) DropView(id int64) error {
	n, err := t.exec("DELETE FROM saved_view WHERE id=?", id)
	if err == nil && n == 0 {
		return ErrNotFound
	}
	return err
}

func likeEscape(s string) string {
	return strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(s)
}

// InboxID finds a message that was kept.
func (t *Tx) InboxID(connection int64, feed message.Feed, outside string, version int64) (id int64, err error) {
	err = t.get(&id, "SELECT id FROM inbox WHERE connection_id=? AND feed=? AND outside_id=? AND version=?", connection, feed,
		outside, version)
	return id, err
}
