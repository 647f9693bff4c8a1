package connector

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"openrelay/internal/core/message"
)

// Difference is a field that two definitions make otherwise of the same record. A field that is not there is empty.
type Difference struct {
	Path string `json:"path" doc:"Of our message, or of the request: method, url, headers.…, body.…"`
	Was  string `json:"was"`
	Now  string `json:"now"`
}

// Compared is what two definitions make of the same record.
type Compared struct {
	ID     string // the other side's number of it, or of what it is about
	WasNot string // why the old one could not take or send it; empty: it could
	NotNow string // why the new one cannot
	Fields []Difference
}

// Same tells whether nothing is different.
func (c *Compared) Same() bool { return c.WasNot == c.NotNow && len(c.Fields) == 0 }

// CompareIn maps a record of theirs as both lines would.
func CompareIn(was, now *Line, kind message.Feed, via string, raw []byte) Compared {
	old, new := was.mapKept(kind, via, raw), now.mapKept(kind, via, raw)
	out := Compared{ID: old["id"], WasNot: old[wrong], NotNow: new[wrong]}
	if out.WasNot == "" && out.NotNow == "" {
		out.Fields = differences(old, new)
	}
	return out
}

// CompareOut makes what would be sent of a message of ours by both lines. Nobody is called: what steps would ask for first
// cannot be told, and is said.
func CompareOut(ctx context.Context, was, now *Line, kind message.Feed, msg json.RawMessage) (Compared, error) {
	for _, l := range []*Line{was, now} {
		if f := l.Def.Feeds[kind]; f != nil && f.Send != nil && len(f.Send.Request.Steps) > 0 {
			return Compared{}, fmt.Errorf("its steps would call %s first", l.Def.Title)
		}
	}
	old, new, again := was.written(ctx, kind, msg), now.written(ctx, kind, msg), was.written(ctx, kind, msg)
	for path, text := range again {
		if old[path] != text { // of the moment, or drawn by lot
			delete(old, path)
			delete(new, path)
		}
	}
	out := Compared{ID: was.Subject(kind, msg), WasNot: old[wrong], NotNow: new[wrong]}
	if out.WasNot == "" && out.NotNow == "" {
		out.Fields = differences(old, new)
	}
	return out, nil
}

// wrong is where leaves keep why there are none.
const wrong = "\x00wrong"

// mapKept maps a kept record, and returns what stands at each place of it.
func (l *Line) mapKept(kind message.Feed, via string, raw []byte) map[string]string {
	out := map[string]string{}
	fail := func(err error) map[string]string {
		out[wrong] = l.Blank(err.Error())
		return out
	}
	f := l.Def.Feeds[kind]
	if f == nil || f.in == nil {
		return fail(fmt.Errorf("there is no feed %q", kind))
	}
	body, err := l.kept(f, via, raw)
	if err != nil {
		return fail(err)
	}
	inside := ""
	if via == "push" {
		inside = f.Record
	}
	rec := f.identify(kind, raw, body, inside)
	if out["id"] = rec.ID; rec.Err != nil {
		return fail(rec.Err)
	}
	msg, err := l.MapBody(kind, via, body)
	if err != nil {
		return fail(err)
	}
	if c, ok := msg.(interface{ Check() error }); ok {
		if err := c.Check(); err != nil {
			return fail(err)
		}
	}
	text, err := json.Marshal(msg)
	if err != nil {
		return fail(err)
	}
	leavesOf(text, "", out)
	out["id"], out["version"] = rec.ID, strconv.FormatInt(rec.Version, 10)
	return out
}

// written makes the request or the file of a message, and returns what stands at each place of it.
func (l *Line) written(ctx context.Context, kind message.Feed, msg json.RawMessage) map[string]string {
	x, err := l.Prepare(ctx, kind, "comparison", []any{msg})
	if err != nil {
		return map[string]string{wrong: l.Blank(err.Error())}
	}
	out := map[string]string{"method": x.Method, "url": x.URL}
	for _, h := range x.Headers {
		switch strings.ToLower(h[0]) {
		case "date", "content-length": // of the moment, and of the body
		default:
			out["headers."+h[0]] = h[1]
		}
	}
	if !leavesOf([]byte(x.Body), "body", out) {
		for i, text := range strings.FieldsFunc(x.Body, func(r rune) bool { return r == '\n' || r == '\r' }) {
			out[fmt.Sprintf("body line %d", i+1)] = text
		}
	}
	return out
}

// leavesOf adds the values of a JSON document by where they stand; false: it is none.
func leavesOf(text []byte, at string, out map[string]string) bool {
	var doc any
	dec := json.NewDecoder(bytes.NewReader(text))
	dec.UseNumber()
	if dec.Decode(&doc) != nil {
		return false
	}
	var walk func(v any, path string)
	walk = func(v any, path string) {
		switch x := v.(type) {
		case map[string]any:
			for k, inner := range x {
				walk(inner, strings.TrimPrefix(path+"."+k, "."))
			}
		case []any:
			for i, inner := range x {
				walk(inner, fmt.Sprintf("%s[%d]", path, i))
			}
		case nil:
		default:
			out[path] = fmt.Sprint(x)
		}
	}
	walk(doc, at)
	return true
}

// differences lists where two sets of leaves differ, by place.
func differences(was, now map[string]string) []Difference {
	var out []Difference
	for path, old := range was {
		if now[path] != old {
			out = append(out, Difference{path, old, now[path]})
		}
	}
	for path, new := range now {
		if _, both := was[path]; !both && new != "" {
			out = append(out, Difference{path, "", new})
		}
	}
	slices.SortFunc(out, func(a, b Difference) int { return strings.Compare(a.Path, b.Path) })
	return out
}
