package connector

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
)

// paged is a feed of orders with a way of paging; the other parts of read may be given.
func paged(next, more string) string {
	return system("way: token", `
limits: { per_second: 1000, burst: 1000 }
feeds:
  orders in:
    read:
      request: { method: GET, path: /orders, query: { since: mark } }
      items: list
      mark: item.at
`+indent("next: "+next, 6)+"\n"+more+`
    id: item.id
    version: item.v
    map: { number: item.id, status: '"open"', currency: '"EUR"',
        lines: { each: item.lines, as: line, map: { id: line.i, quantity: line.q } } }
`)
}

// shelf serves a list of records in pages of three, by whatever parameters the request has.
type shelf struct {
	rows []map[string]any
	asks []string
	turn func(asked int) // called after each page
}

func (s *shelf) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	s.asks = append(s.asks, r.URL.RawQuery)
	rows := s.rows
	if since := q.Get("since"); since != "" {
		rows = nil
		for _, row := range s.rows {
			if at := textOf(row["at"]); at == since || later(at, since) {
				rows = append(rows, row)
			}
		}
	}
	begin := 0
	if p := q.Get("page"); p != "" {
		n, _ := strconv.Atoi(p)
		begin = (n - 1) * 3
	}
	if p := q.Get("skip"); p != "" {
		begin, _ = strconv.Atoi(p)
	}
	begin = min(begin, len(rows))
	part := rows[begin:min(begin+3, len(rows))]
	b, _ := json.Marshal(map[string]any{"list": part, "pages": (len(rows) + 2) / 3})
	w.Header().Set("Content-Type", "application/json")
	w.Write(b)
	if s.turn != nil {
		s.turn(len(s.asks))
	}
}

func rows(n int, at func(i int) any) []map[string]any {
	out := make([]map[string]any, n)
	for i := range out {
		out[i] = map[string]any{"id": fmt.Sprintf("o%d", i+1), "v": 1, "at": at(i)}
	}
	return out
}

func stamp(i int) any { return fmt.Sprintf("2026-03-01T10:00:%02dZ", i) }

func TestWaysOfPaging(t *testing.T) {
	for _, c := range []struct {
		name, next string
		rows       []map[string]any
		asks       int
		mark       string
	}{
		{"numbers, until a page is not full", "{ page: page, first: 1, size: 3 }", rows(7, stamp), 3, "2026-03-01T10:00:06Z"},
		{"numbers, until the last page that is told", "{ page: page, first: 1, size: 3, last: body.pages }", rows(6, stamp), 2,
			"2026-03-01T10:00:05Z"},
		{"offsets", "{ offset: skip, size: 3 }", rows(6, stamp), 3, "2026-03-01T10:00:05Z"},
		{"times as marks", "{ mark: true, size: 3 }", rows(6, stamp), 3, "2026-03-01T10:00:05Z"},
		{"numbers as marks, 9 before 10", "{ mark: true, size: 3 }", rows(12, func(i int) any { return i + 1 }), 6, "12"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := &shelf{rows: c.rows}
			l := dial(t, paged(c.next, ""), s, nil, Token{})
			var ids []string
			to, err := l.Read(t.Context(), "orders in", Reading{Keep: collect(&ids)})
			require.NoError(t, err)
			require.Equal(t, c.mark, to.Mark)
			seen := map[string]bool{}
			for _, id := range ids {
				seen[id] = true
			}
			require.Len(t, seen, len(c.rows), "every record, some perhaps twice")
			require.Equal(t, c.asks, len(s.asks), s.asks)
		})
	}
}

func TestMarksThatDoNotMoveAreAnError(t *testing.T) {
	l := dial(t, paged("{ mark: true, size: 3 }", ""), &shelf{rows: rows(5, func(int) any { return "2026-03-01T10:00:00Z" })}, nil, Token{})
	_, err := l.Read(t.Context(), "orders in", Reading{Mark: "2026-03-01T10:00:00Z", Keep: func([]Record) error { return nil }})
	require.ErrorContains(t, err, "goes no further")
}

// TestRecordsThatMoveBetweenPages: while numbered pages are read, an order that was on a later page is
// changed and moves to the end, so that every page behind it shifts by one and one record is skipped.
// The next reading, from the mark, brings it.
func TestRecordsThatMoveBetweenPages(t *testing.T) {
	began := time.Now().UTC().Add(-time.Hour)
	s := &shelf{rows: rows(9, func(i int) any { return began.Add(time.Duration(i) * time.Second).Format(time.RFC3339) })}
	s.turn = func(asked int) {
		if asked == 1 { // o1 is changed now and goes to the end: o4 moves to the first page
			first := s.rows[0]
			first["v"], first["at"] = 2, time.Now().UTC().Add(2*time.Second).Format(time.RFC3339)
			s.rows = append(s.rows[1:], first)
		}
	}
	l := dial(t, paged("{ page: page, first: 1, size: 3 }", "      overlap: 2h"), s, nil, Token{})
	versions := map[string]int64{}
	keep := func(rs []Record) error {
		for _, r := range rs {
			versions[r.ID] = max(versions[r.ID], r.Version)
		}
		return nil
	}
	to, err := l.Read(t.Context(), "orders in", Reading{Keep: keep})
	require.NoError(t, err)
	require.NotContains(t, versions, "o4", "this reading skipped it")
	require.False(t, later(to.Mark, time.Now().UTC().Add(time.Second).Format(time.RFC3339)),
		"the mark is not beyond the moment at which the reading began")
	_, err = l.Read(t.Context(), "orders in", Reading{Mark: to.Mark, Keep: keep})
	require.NoError(t, err)
	require.Len(t, versions, 9)
	require.Equal(t, int64(2), versions["o1"])
}

func TestDetailsAreAskedForOnce(t *testing.T) {
	var asked []string
	mux := http.NewServeMux()
	mux.HandleFunc("GET /orders", func(w http.ResponseWriter, r *http.Request) {
		reply(w, `{"list":[{"id":"a","v":1,"at":"1"},{"id":"b","v":3,"at":"2"},{"v":9}]}`)
	})
	mux.HandleFunc("GET /orders/{id}", func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.PathValue("id"))
		reply(w, `{"order":{"id":"`+r.PathValue("id")+`","v":3,"sum":12.50}}`)
	})
	mux.HandleFunc("GET /orders/{id}/lines", func(w http.ResponseWriter, r *http.Request) {
		reply(w, `{"rows":{"i":"1","q":2}}`)
	})
	l := dial(t, paged("{ link: true }", `      detail:
        - { request: { method: GET, path: "/orders/{item.id}" }, path: order }
        - { request: { method: GET, path: "/orders/{item.id}/lines" }, path: rows, as: lines }`), mux, nil, Token{})
	var got []Record
	_, err := l.Read(t.Context(), "orders in", Reading{
		Known: func(rs []Record) ([]bool, error) { return []bool{rs[0].ID == "a", false, false}, nil },
		Keep:  func(rs []Record) error { got = append(got, rs...); return nil },
	})
	require.NoError(t, err)
	require.Equal(t, []string{"b"}, asked, "what is known needs no details")
	require.Len(t, got, 2)
	require.JSONEq(t, `{"id":"b","v":3,"sum":"12.50","lines":{"i":"1","q":2}}`, string(got[0].Raw))
	require.Equal(t, "2", got[0].Mark, "the mark of the list stays")
	require.Error(t, got[1].Err, "the one without a number is set aside")
	m, err := l.Map("orders in", "poll", got[0].Raw)
	require.NoError(t, err)
	require.Equal(t, []message.OrderLine{{ID: "1", Quantity: 2}}, m.(*message.Order).Lines, "one line is a list of one")
}

func TestConditionalRequest(t *testing.T) {
	l := dial(t, paged("{ link: true }", "      conditional: true"), http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("If-None-Match") == `"v7"` {
			w.WriteHeader(304)
			return
		}
		w.Header().Set("ETag", `"v7"`)
		reply(w, `{"list":[{"id":"a","v":1,"at":"1"}]}`)
	}), nil, Token{})
	var ids []string
	to, err := l.Read(t.Context(), "orders in", Reading{Keep: collect(&ids)})
	require.NoError(t, err)
	require.Equal(t, `"v7"`, to.Check)
	again, err := l.Read(t.Context(), "orders in", Reading{Mark: to.Mark, Check: to.Check, Keep: collect(&ids)})
	require.NoError(t, err)
	require.True(t, again.Unchanged)
	require.Equal(t, to.Mark, again.Mark)
	require.Equal(t, []string{"a"}, ids)
}

const batches = `
format: { body: xml, answer: xml }
test: { say: Batches carry a mark., body: { Trial: '"yes"' }, headers: { X-Trial: '"1"' } }
feeds:
  stock out:
    batch: 10
    send:
      request:
        method: POST
        path: /batches
        body: { Batch: { _ref: ref, Row: { each: batch, as: row, put: { Sku: row.sku, Qty: row.quantity } } } }
      subject: msg.outside_id
      answer: { submission: body.No }
      report:
        after: 1s
        give_up: 10m
        request: { method: GET, path: "/batches/{submission}" }
        ready: body._state == "done"
        results: { each: body.Row, as: row, map: { subject: row.Id, accepted: row.Ok, reason: row.Why } }
`

func TestBatchIsReportedOnLater(t *testing.T) {
	var sent string
	state := "working"
	mux := http.NewServeMux()
	xml := func(w http.ResponseWriter, s string) {
		w.Header().Set("Content-Type", "application/xml")
		fmt.Fprint(w, s)
	}
	mux.HandleFunc("POST /batches", func(w http.ResponseWriter, r *http.Request) {
		b := new(strings.Builder)
		_, _ = fmt.Fprint(b, r.Header.Get("X-Trial"), " ")
		buf := make([]byte, 1000)
		n, _ := r.Body.Read(buf)
		sent = b.String() + string(buf[:n])
		xml(w, `<Taken><No>B-9</No></Taken>`)
	})
	mux.HandleFunc("GET /batches/B-9", func(w http.ResponseWriter, _ *http.Request) {
		xml(w, `<Report state="`+state+
			`"><Row><Id>l1</Id><Ok>true</Ok></Row><Row><Id>l2</Id><Ok>false</Ok><Why>unknown</Why></Row></Report>`)
	})
	l := dial(t, strings.Replace(system("way: token", batches), "map: { name: body.name, number: body.no }",
		"map: { name: body.name, number: body.no }", 1), mux, nil, Token{})
	msgs := []any{message.Offer{OutsideID: "l1", SKU: "A", Quantity: 4}, message.Offer{OutsideID: "l2", SKU: "B"}}
	got, err := l.Send(t.Context(), "stock out", "ref-1", msgs)
	require.NoError(t, err)
	require.Equal(t, "B-9", got.Submission)
	require.Nil(t, got.Results)
	require.Equal(t,
		` <?xml version="1.0" encoding="UTF-8"?><Batch ref="ref-1"><Row><Sku>A</Sku><Qty>4</Qty></Row><Row><Sku>B</Sku><Qty>0</Qty>`+
			`</Row></Batch>`, sent)
	_, ready, err := l.Report(t.Context(), "stock out", "B-9")
	require.NoError(t, err)
	require.False(t, ready)
	state = "done"
	results, ready, err := l.Report(t.Context(), "stock out", "B-9")
	require.NoError(t, err)
	require.True(t, ready)
	require.Equal(t, []Result{{Subject: "l1", Accepted: true}, {Subject: "l2", Reason: "unknown"}}, results)
	require.Equal(t, "l2", l.Subject("stock out", json.RawMessage(`{"outside_id":"l2","sku":"B"}`)))

	l.InTest = true
	_, err = l.Send(t.Context(), "stock out", "ref-1", msgs)
	require.NoError(t, err)
	require.Contains(t, sent, `1 <?xml version="1.0" encoding="UTF-8"?><Batch ref="ref-1"><Trial>yes</Trial><Row>`,
		"the test flag goes along")
}
