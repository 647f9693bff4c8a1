package connector

import (
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"openrelay/internal/core/message"
)

// Trial is what became of a sample when it was mapped.
type Trial struct {
	ID      string          `json:"id" doc:"The other side's number of the record"`
	Version int64           `json:"version"`
	Message json.RawMessage `json:"message,omitempty" doc:"The record in our words"`
	Fields  []TrialField    `json:"fields" doc:"Every field of our message, beside what the record gave"`
	Mistake string          `json:"mistake,omitempty" doc:"Why it could not be mapped, or would not be taken in"`
	Missing []string        `json:"missing" doc:"Fields that are needed and stayed empty"`
	Empty   []string        `json:"empty" doc:"Other fields of ours that stayed empty"`
	Unused  []string        `json:"unused" doc:"Fields of the sample that nothing looks at"`
	Records int             `json:"records" doc:"How many records the sample has: more than one where it is a whole answer or file; this is the first"`
}

// TrialField is a field of our message with what a record gave it.
type TrialField struct {
	Path   string `json:"path"`
	Kind   string `json:"kind" doc:"What it takes"`
	Needed bool   `json:"needed"`
	Value  string `json:"value,omitempty"`
	About  string `json:"about,omitempty"`
}

// Try maps a sample of a feed that comes in. A sample may be a bare record, or, for feeds that are
// pushed, the event around it; of a whole answer or file the first record is mapped. Nothing is kept and nobody is called.
func (l *Line) Try(kind message.Feed, sample []byte) (Trial, error) {
	f := l.Def.Feeds[kind]
	if f == nil || f.in == nil {
		return Trial{}, fmt.Errorf("%s has no feed %q that comes in; it has: %s", l.Def.Title, kind, message.FeedList(l.Def.Kinds()))
	}
	all := f.samplesIn(sample)
	t, err := l.try(f, kind, all[0])
	t.Records = len(all)
	return t, err
}

// samplesIn are the records of a whole answer or file, or the sample itself, where it is a record.
func (f *Feed) samplesIn(sample []byte) [][]byte {
	if f.Read == nil || len(f.Read.Detail) > 0 {
		return [][]byte{sample}
	}
	if all, err := f.Read.Request.Format.cut(sample, f.Read.Items); err == nil && len(all) > 0 {
		return all
	}
	return [][]byte{sample}
}

func (l *Line) try(f *Feed, kind message.Feed, sample []byte) (Trial, error) {
	via, body, err := l.sample(f, sample)
	if err != nil {
		return Trial{}, err
	}
	inside := ""
	if via == "push" {
		inside = f.Record
	}
	rec := f.identify(kind, sample, body, inside)
	out := Trial{ID: rec.ID, Version: rec.Version, Fields: []TrialField{}, Missing: []string{}, Empty: []string{}, Unused: []string{}}
	if rec.Err != nil {
		out.Mistake = rec.Err.Error()
	}
	msg, err := l.MapBody(kind, via, body)
	if err != nil {
		out.Mistake = err.Error()
	} else {
		if out.Message, err = json.Marshal(msg); err != nil {
			return out, err
		}
		out.lay(reflect.ValueOf(msg).Elem(), "", false)
		if c, ok := msg.(interface{ Check() error }); ok && out.Mistake == "" {
			if err := c.Check(); err != nil {
				out.Mistake = err.Error()
			}
		}
	}
	out.Unused = f.unused(dig(body, inside))
	return out, nil
}

// sample reads a sample, as a pushed event where it is one, else as a bare record.
func (l *Line) sample(f *Feed, raw []byte) (via string, body any, err error) {
	if f.Topic != "" && l.Def.Push != nil {
		body, perr := Format{Answer: l.Def.Push.Format}.record(raw)
		if perr == nil && (f.Record == "" && f.Read == nil || f.Record != "" && dig(body, f.Record) != nil) {
			return "push", body, nil
		}
		if f.Read == nil {
			if perr == nil && f.Record != "" {
				return "poll", body, nil // the bare record of an event
			}
			return "", nil, perr
		}
	}
	if f.Read == nil {
		return "", nil, errors.New("the feed can neither be read nor is it pushed")
	}
	body, err = l.kept(f, "poll", raw)
	return "poll", body, err
}

// lay lays the fields of a message out, with what they hold. Of a part that may be left out altogether nothing is needed.
func (t *Trial) lay(v reflect.Value, path string, optional bool) {
	for i := range v.NumField() {
		f := v.Type().Field(i)
		name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		if name == "" || name == "-" {
			continue
		}
		field, at := v.Field(i), strings.TrimPrefix(path+"."+name, ".")
		records := field.Kind() == reflect.Slice && field.Type().Elem().Kind() == reflect.Struct
		if field.Kind() == reflect.Struct && field.Type() != timeType {
			t.lay(field, at, options == "omitzero" && field.IsZero())
			continue
		}
		row := TrialField{Path: at, Kind: kindName(field.Type()), Needed: f.Tag.Get("need") == "yes" && !optional, About: f.Tag.Get("doc")}
		empty := field.IsZero() || field.Kind() == reflect.Slice && field.Len() == 0
		switch {
		case empty && row.Needed:
			t.Missing = append(t.Missing, at)
		case empty:
			t.Empty = append(t.Empty, at)
		case records:
			row.Value = fmt.Sprintf("%d", field.Len())
		case field.Kind() == reflect.Slice:
			row.Value = fmt.Sprint(field.Interface())
		case field.Type() == timeType:
			row.Value = field.Interface().(time.Time).Format(time.RFC3339Nano)
		default:
			row.Value = fmt.Sprint(field.Interface())
		}
		t.Fields = append(t.Fields, row)
		for j := 0; records && j < field.Len(); j++ {
			t.lay(field.Index(j), fmt.Sprintf("%s[%d]", at, j), false)
		}
	}
}

// unused lists the leaves of a record that no expression of the feed looks at.
func (f *Feed) unused(record any) []string {
	paths := map[string]bool{}
	for _, set := range []map[string]bool{f.reads, f.in.reads} {
		for p := range set {
			paths[p] = true
		}
	}
	out := []string{}
	var walk func(v any, path string)
	walk = func(v any, path string) {
		if paths[path] && path != "item" {
			return // the whole of it is looked at
		}
		switch x := v.(type) {
		case map[string]any:
			for p := range paths { // a single record where a list is looked at: XML cannot tell
				if strings.HasPrefix(p, path+"[]") {
					walk([]any{x}, path)
					return
				}
			}
			for _, k := range sortedKeys(x) {
				walk(x[k], path+"."+k)
			}
		case []any:
			for _, el := range x {
				walk(el, path+"[]")
			}
		default:
			name := strings.TrimPrefix(path, "item.")
			if path != "item" && !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	if paths["item"] {
		return out
	}
	walk(record, "item")
	return out
}
