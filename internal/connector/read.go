package connector

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"openrelay/internal/core/message"
)

// Record is a foreign record with what tells it apart.
type Record struct {
	Feed    message.Feed
	ID      string
	Version int64
	Mark    string
	Raw     []byte
	Body    any   // Raw decoded, for MapBody
	Err     error // set where the record has no id or version; it is then not to be kept
}

// Reading is one reading of a feed.
type Reading struct {
	Mark  string    // read from here on; empty reads everything
	Since time.Time // read from a moment on, whatever the mark is made of; the zero time: from the mark
	Check string    // validator of the last reading, for a conditional request
	Pages int       // read at most so many; 0 reads to the end
	// Known tells which records of a page were kept before: no details are asked for them, and they are
	// not handed to Keep again. Nil knows none.
	Known func([]Record) ([]bool, error)
	// Keep takes a page before the next is asked for; of files, the records of one.
	Keep func([]Record) error
	// About lists what is on its way to be asked about where that is done one by one, the one that was asked about longest ago first, and
	// Asked notes that it was. Nil: a sample is asked about.
	About func(most int) ([]message.FollowedParcel, error)
	Asked func(message.FollowedParcel) error
	// Seen tells whether a file with this content was taken before. Nil: none was.
	Seen func(hash string) (bool, error)
	// Took notes what became of a file before it is put away. Nil: files are only looked at.
	Took func(TakenFile) error
	// Works tells whether another feed is at work, and SeenBy whether it took a file with this content: where several read the same
	// folder, a file stays until each has. Nil: each is, and none did.
	Works  func(kind message.Feed) bool
	SeenBy func(kind message.Feed, hash string) (bool, error)
	// Wrote notes a file by which the other side was told what became of one of its. Nil: nobody notes it.
	Wrote func(Exchange) error
}

// Read is what a reading came to.
type ReadTo struct {
	Mark      string        // the largest mark seen; where a page failed, that of the pages before
	Check     string        // validator for the next reading
	Unchanged bool          // the other side said that nothing changed
	Soon      time.Duration // after which a file may have settled that is being written; 0: there is none
}

// Read fetches the pages of a feed. Pages may repeat records and, where records move between pages
// while it reads, skip some: the mark never goes beyond the moment at which the reading began, so that
// the next one brings what was skipped.
func (l *Line) Read(ctx context.Context, kind message.Feed, rd Reading) (ReadTo, error) {
	out := ReadTo{Mark: rd.Mark, Check: rd.Check}
	f := l.Def.Feeds[kind]
	if f == nil || f.Read == nil {
		return out, fmt.Errorf("%s has no read for %s", l.Def.Title, kind)
	}
	r := f.Read
	switch {
	case r.Files != nil:
		return l.readFiles(ctx, kind, rd)
	case r.Each != "":
		return l.readEach(ctx, kind, rd)
	}
	return l.readPages(ctx, kind, rd)
}

// readPages asks for one page after the other.
func (l *Line) readPages(ctx context.Context, kind message.Feed, rd Reading) (ReadTo, error) {
	out := ReadTo{Mark: rd.Mark, Check: rd.Check}
	r := l.Def.Feeds[kind].Read
	if err := l.markAt(r, &rd); err != nil {
		return out, err
	}
	out.Mark = rd.Mark
	v := l.vars()
	v["mark"] = back(rd.Mark, time.Duration(r.Overlap))
	p := page{}
	if r.Conditional {
		p.check = rd.Check
	}
	t := turner{next: &r.Next, number: max(r.Next.First, 0), seen: map[string]bool{}}
	t.begin(&p)
	began := ""
	for n := 1; ; n++ {
		if n > l.Def.Limits.MaxPages {
			return out, &Failure{Text: fmt.Sprintf("more than %d pages; stopped", l.Def.Limits.MaxPages), Temporary: true}
		}
		a, err := l.do(ctx, &r.Request, v, p)
		if err != nil {
			return out, err
		}
		if a.status == http.StatusNotModified {
			out.Unchanged = true
			return out, nil
		}
		if n == 1 && t.shifts() {
			began = l.theirTime(a.header)
		}
		if n == 1 && r.Conditional {
			out.Check = cmp.Or(a.header.Get("ETag"), a.header.Get("Last-Modified"))
		}
		all, high, err := l.takePage(ctx, kind, rd, n, a, out.Mark)
		if err != nil {
			return out, err
		}
		before := out.Mark
		if out.Mark = high; began != "" && later(high, began) {
			out.Mark = began
		}
		more, err := t.turn(&p, v, a, &r.Request, all, high, before)
		if err != nil {
			return out, err
		}
		if !more || n == rd.Pages {
			return out, nil
		}
		p.check = ""
	}
}

// takePage takes a page apart and has it kept; it returns how many records it had, and the largest mark.
func (l *Line) takePage(ctx context.Context, kind message.Feed, rd Reading, page int, a *answer, mark string) (int, string, error) {
	f := l.Def.Feeds[kind]
	records, high, err := l.recordsOf(kind, f, a, mark)
	if err != nil {
		return 0, "", err
	}
	if err := f.Read.begun(rd, high, page); err != nil {
		return 0, "", err
	}
	all := len(records)
	if records, err = l.complete(ctx, kind, f, records, rd.Known); err != nil {
		return 0, "", err
	}
	return all, high, rd.Keep(records)
}

// markAt sets the mark of a reading that is to see what changed since a moment.
func (l *Line) markAt(r *Read, rd *Reading) error {
	switch {
	case rd.Since.IsZero():
	case r.Begin.Set():
		v := l.vars()
		v["since"] = rd.Since.UTC()
		mark, err := r.Begin.String(v)
		if err != nil {
			return &Failure{Text: "read.begin: " + err.Error(), Unsent: true}
		}
		rd.Mark = mark
	case r.Next.Mark && r.Overlap == 0: // after a number: from the start
		rd.Mark = ""
	default:
		rd.Mark = rd.Since.UTC().Format(time.RFC3339)
	}
	return nil
}

// begun refuses a reading whose first page shows that a time was sent where marks are numbers.
func (r *Read) begun(rd Reading, high string, page int) error {
	if page > 1 || rd.Since.IsZero() || r.Begin.Set() || !isNumber(high) || isNumber(rd.Mark) || rd.Mark == "" {
		return nil
	}
	return &Failure{Text: fmt.Sprintf("marks here are numbers such as %s, and a time was sent; say with read.begin how a first reading "+
		"begins", high)}
}

func isNumber(mark string) bool {
	_, err := strconv.ParseInt(mark, 10, 64)
	return err == nil
}

// theirTime is the time at the other side, or ours where it does not tell.
func (l *Line) theirTime(h http.Header) string {
	at, err := http.ParseTime(h.Get("Date"))
	if err != nil {
		at = l.now()
	}
	return at.UTC().Format(time.RFC3339Nano)
}

// recordsOf takes a page apart.
func (l *Line) recordsOf(kind message.Feed, f *Feed, a *answer, mark string) ([]Record, string, error) {
	r := f.Read
	fail := func(err error) error {
		return &Failure{Text: r.Request.Method + " " + r.Request.Path + ": " + err.Error(), Temporary: true}
	}
	raws, err := r.Request.Format.cut(a.raw, r.Items)
	if err != nil {
		return nil, mark, fail(err)
	}
	records := make([]Record, 0, len(raws))
	for _, raw := range raws {
		body, err := r.Request.Format.record(raw)
		if err != nil { // this one alone
			records = append(records, Record{Feed: kind, Raw: raw, Err: err})
			continue
		}
		rec := f.identify(kind, raw, body, "")
		if later(rec.Mark, mark) {
			mark = rec.Mark
		}
		records = append(records, rec)
	}
	return records, mark, nil
}

// complete asks for the details of the records that are not known.
func (l *Line) complete(ctx context.Context, kind message.Feed, f *Feed, records []Record,
	known func([]Record) ([]bool, error)) ([]Record, error) {
	if len(f.Read.Detail) == 0 {
		return records, nil
	}
	old := make([]bool, len(records))
	if known != nil {
		var err error
		if old, err = known(records); err != nil {
			return nil, err
		}
	}
	out := make([]Record, 0, len(records))
	for i, rec := range records {
		if rec.Err == nil && old[i] {
			continue
		}
		if rec.Err == nil {
			full, err := l.detail(ctx, kind, f, rec)
			if err != nil {
				return nil, fmt.Errorf("record %s: %w", rec.ID, err)
			}
			rec = full
		}
		out = append(out, rec)
	}
	return out, nil
}

func (l *Line) detail(ctx context.Context, kind message.Feed, f *Feed, rec Record) (Record, error) {
	v := l.vars()
	body, raw := rec.Body, rec.Raw
	for i := range f.Read.Detail {
		d := &f.Read.Detail[i]
		v["item"] = body
		a, err := l.do(ctx, &d.Request, v, page{})
		if err != nil {
			return rec, err
		}
		got, err := d.Request.Format.read(a.raw)
		if err != nil {
			return rec, &Failure{Text: d.Request.Method + " " + d.Request.Path + ": " + err.Error(), Temporary: true}
		}
		if got = dig(got, d.Path); got == nil {
			return rec, &Failure{Text: fmt.Sprintf("%s %s: the answer has no %s", d.Request.Method, d.Request.Path, d.Path),
				Temporary: true}
		}
		if d.As == "" {
			body = got
		} else {
			m, ok := body.(map[string]any)
			if !ok {
				return rec, &Failure{Text: "details are added to records only"}
			}
			whole := make(map[string]any, len(m)+1)
			for k, x := range m {
				whole[k] = x
			}
			whole[d.As] = got
			body = whole
		}
	}
	// Records put together from several answers are kept as JSON, whatever the answers were in.
	raw, err := json.Marshal(body)
	if err != nil {
		return rec, err
	}
	full := f.identify(kind, raw, body, "")
	if full.Mark == "" {
		full.Mark = rec.Mark
	}
	if full.Err == nil && full.ID != rec.ID {
		full.Err = fmt.Errorf("asked for the details of %s, got those of %s", rec.ID, full.ID)
	}
	return full, nil
}

// kept reads a record as it was kept: read ones in the format of the answer, or as JSON where details
// were added; pushed ones in the format of the push.
func (l *Line) kept(f *Feed, via string, raw []byte) (any, error) {
	switch {
	case via == "push":
		return Format{Answer: l.Def.Push.Format}.read(raw)
	case f.Read == nil || len(f.Read.Detail) > 0 || f.Read.Each != "":
		return decode(raw)
	}
	return f.Read.Request.Format.record(raw)
}

// back moves a time mark back by the overlap, so that records written while the last page was read
// are not missed; marks that are no times stay.
func back(mark string, overlap time.Duration) string {
	if t, err := time.Parse(time.RFC3339Nano, mark); err == nil && overlap > 0 {
		return t.Add(-overlap).Format(time.RFC3339Nano)
	}
	return mark
}

// later tells whether a mark lies behind another: as numbers, as times, or as texts.
func later(a, b string) bool {
	if a == "" || b == "" {
		return a != ""
	}
	if x, err := strconv.ParseInt(a, 10, 64); err == nil {
		if y, err := strconv.ParseInt(b, 10, 64); err == nil {
			return x > y
		}
	}
	if x, err := time.Parse(time.RFC3339Nano, a); err == nil {
		if y, err := time.Parse(time.RFC3339Nano, b); err == nil {
			return x.After(y)
		}
	}
	return a > b
}

// turner turns pages.
type turner struct {
	next   *Next
	number int // of the page, or of the first record
	seen   map[string]bool
}

// shifts tells whether records can move from page to page while we read.
func (t *turner) shifts() bool { return t.next.Page != "" || t.next.Offset != "" }

func (t *turner) begin(p *page) { p.query = t.query() }

// query is what the parameters of a page are laid over with: its number, and its size where that is sent.
func (t *turner) query() map[string]string {
	q := map[string]string{}
	if name := cmp.Or(t.next.Page, t.next.Offset); name != "" {
		q[name] = strconv.Itoa(t.number)
	}
	if t.next.SizeAs != "" {
		q[t.next.SizeAs] = strconv.Itoa(t.next.Size)
	}
	return q
}

// turn prepares the next page and tells whether there is one.
func (t *turner) turn(p *page, v Vars, a *answer, r *Request, records int, high, before string) (bool, error) {
	n := t.next
	switch {
	case n.Link:
		p.at = nextLink(a.header.Values("Link"))
		return p.at != "", t.once(p.at)
	case n.Cursor.Set():
		if err := v.answered(a, r.Format); err != nil {
			return false, err
		}
		c, err := n.Cursor.String(v)
		if err != nil || c == "" {
			return false, err
		}
		p.query, p.alone = t.query(), n.Alone
		p.query[n.Param] = c
		return true, t.once(c)
	case n.Page != "":
		if n.Last.Set() {
			if err := v.answered(a, r.Format); err != nil {
				return false, err
			}
			out, err := n.Last.Eval(v)
			last, nerr := number(out)
			if err != nil || nerr != nil {
				return false, &Failure{Text: "the answer does not tell the number of the last page", Temporary: true}
			}
			if t.number >= int(last) {
				return false, nil
			}
		} else if records < n.Size {
			return false, nil
		}
		t.number++
		p.query = t.query()
		return true, nil
	case n.Offset != "":
		t.number += records
		p.query = t.query()
		return records >= n.Size, nil
	case n.Mark:
		if records < n.Size {
			return false, nil
		}
		if !later(high, before) && before != "" || high == "" {
			return false, &Failure{Text: fmt.Sprintf("a full page of %d records goes no further than %s; a larger size or a finer "+
				"mark is needed", records, before)}
		}
		v["mark"] = high
		return true, nil
	}
	return false, nil
}

// once refuses a page that was read already: it would go round for ever.
func (t *turner) once(at string) error {
	if at != "" && t.seen[at] {
		return &Failure{Text: "the next page is one that was read already; stopped", Temporary: true}
	}
	t.seen[at] = true
	return nil
}

// nextLink finds the target with rel=next (RFC 8288).
func nextLink(links []string) string {
	for _, h := range links {
		for _, part := range strings.Split(h, ",") {
			target, params, ok := strings.Cut(strings.TrimSpace(part), ">")
			if !ok || !strings.HasPrefix(target, "<") {
				continue
			}
			for _, p := range strings.Split(params, ";") {
				if k, val, _ := strings.Cut(strings.TrimSpace(p), "="); strings.EqualFold(k, "rel") && strings.Trim(val, `"`) == "next" {
					return target[1:]
				}
			}
		}
	}
	return ""
}

// identify reads id, version and mark of a record. inside is the path of the record in the body. A
// version is a whole number or a time; times count in microseconds.
func (f *Feed) identify(kind message.Feed, raw []byte, body any, inside string) Record {
	r := Record{Feed: kind, Raw: raw, Body: body}
	v := Vars{"item": dig(body, inside), "event": body}
	if r.ID, r.Err = f.ID.String(v); r.Err == nil && r.ID == "" {
		r.Err = errors.New("the record has no id")
	}
	if r.Err == nil && f.Version.Set() {
		out, err := f.Version.Eval(v)
		n, ok := versionOf(out)
		if err != nil || !ok {
			r.Err = fmt.Errorf("record %s has no version", r.ID)
		}
		r.Version = n
	}
	if f.Read != nil && r.Err == nil {
		r.Mark, r.Err = f.Read.Mark.String(v)
	}
	return r
}

func versionOf(v any) (int64, bool) {
	switch x := v.(type) {
	case int64:
		return x, true
	case time.Time:
		return x.UnixMicro(), true
	case string:
		if n, err := strconv.ParseInt(x, 10, 64); err == nil {
			return n, true
		}
		if t, err := time.Parse(time.RFC3339Nano, x); err == nil {
			return t.UnixMicro(), true
		}
	}
	return 0, false
}

// Accept checks a pushed message and takes its events apart by feed. Events of topics that no feed
// takes are counted in ignored.
func (l *Line) Accept(h http.Header, raw []byte) (records []Record, ignored int, err error) {
	p := l.Def.Push
	if p == nil {
		return nil, 0, fmt.Errorf("%s does not push", l.Def.Title)
	}
	if err := p.Signature.Check(h, raw, l.Secret(p.Signature.Secret), l.now()); err != nil {
		return nil, 0, err
	}
	events := [][]byte{raw}
	format := Format{Answer: p.Format}
	if p.Events != "" {
		if events, err = format.cut(raw, p.Events); err != nil {
			return nil, 0, err
		}
	}
	for _, e := range events {
		body, err := format.record(e)
		if err != nil {
			return nil, 0, err
		}
		kind, f := l.Def.feedOf(textOf(dig(body, p.Topic)))
		if f == nil {
			ignored++
			continue
		}
		records = append(records, f.identify(kind, e, body, f.Record))
	}
	return records, ignored, nil
}

// feedOf finds the feed that takes pushed events of a topic.
func (d *Definition) feedOf(topic string) (message.Feed, *Feed) {
	for kind, f := range d.Feeds {
		if f.Topic != "" && f.Topic == topic {
			return kind, f
		}
	}
	return "", nil
}

// Map turns a kept record into a message of ours: *message.Order, *message.Listing and so on. Pushed
// records are wrapped in their event; read ones are bare.
func (l *Line) Map(kind message.Feed, via string, raw []byte) (any, error) {
	f := l.Def.Feeds[kind]
	if f == nil || f.in == nil {
		return nil, fmt.Errorf("%s has no map for %s", l.Def.Title, kind)
	}
	body, err := l.kept(f, via, raw)
	if err != nil {
		return nil, err
	}
	return l.MapBody(kind, via, body)
}

// MapBody does the same for a record that was decoded before.
func (l *Line) MapBody(kind message.Feed, via string, body any) (any, error) {
	f := l.Def.Feeds[kind]
	if f == nil || f.in == nil {
		return nil, fmt.Errorf("%s has no map for %s", l.Def.Title, kind)
	}
	inside := ""
	if via == "push" {
		inside = f.Record
	}
	v := l.vars()
	v["item"], v["event"] = dig(body, inside), body
	return f.in.run(v)
}

// Inside returns the bare record of a kept one, for showing.
func (l *Line) Inside(kind message.Feed, via string, raw []byte) any {
	f := l.Def.Feeds[kind]
	if f == nil {
		return nil
	}
	body, err := l.kept(f, via, raw)
	if err != nil {
		return nil
	}
	if via == "push" {
		return dig(body, f.Record)
	}
	return body
}
