package joining

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// Comparison is what a definition would do otherwise than the one at work, with records that are kept.
type Comparison struct {
	Connector string           `json:"connector"`
	Title     string           `json:"title"`
	Version   int64            `json:"version" doc:"That is at work; 0: there is none yet"`
	Lines     string           `json:"lines" doc:"Lines that were changed, in the form of diff -u; empty: none"`
	Feeds     []FeedComparison `json:"feeds" doc:"Of each connection that uses it"`
}

// FeedComparison is what a definition would do otherwise with the records of one feed of a connection.
type FeedComparison struct {
	Connection string         `json:"connection"`
	Feed       message.Feed   `json:"feed"`
	Kept       int64          `json:"kept" doc:"Records that came, of which the newest were looked at; of a feed that goes out those looked at"`
	Looked     int            `json:"looked"`
	Otherwise  int            `json:"otherwise" doc:"Would be mapped or written otherwise"`
	Refused    int            `json:"refused" doc:"Could be taken or sent until now, and could not any more"`
	Mended     int            `json:"mended" doc:"Could not until now, and could"`
	NotLooked  string         `json:"not_looked,omitempty" doc:"Why nothing can be compared"`
	Fields     map[string]int `json:"fields" doc:"How many records are different in a field; of repeated records [] stands for each"`
	Examples   []Example      `json:"examples" doc:"The newest that are different, at most 20"`
}

// Example is a record that a definition would take or send otherwise.
type Example struct {
	Record string                 `json:"record"`
	Was    string                 `json:"was,omitempty" doc:"Why it could not be taken or sent until now"`
	Now    string                 `json:"now,omitempty" doc:"Why it could not be any more"`
	Fields []connector.Difference `json:"fields"`
}

var eachIndex = regexp.MustCompile(`\[\d+\]`)

// How many records of a feed are looked at, and how many of those that are different are shown.
const (
	comparedIn, comparedOut = 500, 200

	examples = 20
)

// Differs tells whether any record would be taken or sent otherwise, or not at all. One that could not until now, and could, does not
// count: that is what it was changed for.
func (c *Comparison) Differs() bool {
	return slices.ContainsFunc(c.Feeds, func(f FeedComparison) bool { return f.Otherwise > 0 || f.Refused > 0 })
}

// Says is the comparison in a sentence.
func (c *Comparison) Says() string {
	looked, otherwise, refused, mended := 0, 0, 0, 0
	for _, f := range c.Feeds {
		looked, otherwise, refused, mended = looked+f.Looked, otherwise+f.Otherwise, refused+f.Refused, mended+f.Mended
	}
	if looked == 0 {
		return "no record is kept that it could be compared on"
	}
	var parts []string
	for _, p := range []struct {
		n    int
		text string
	}{{otherwise, "would be mapped or written otherwise"}, {refused, "would be refused"}, {mended, "could be taken that could not"}} {
		if p.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", p.n, p.text))
		}
	}
	if parts == nil {
		return fmt.Sprintf("of %d kept records, all come out the same", looked)
	}
	return fmt.Sprintf("of %d kept records, %s", looked, strings.Join(parts, ", "))
}

// CompareDefinition holds a definition against the one at work, on records that are kept. Nothing is changed, and nobody is called.
func (r *Joining) CompareDefinition(ctx context.Context, file, text string) (Comparison, error) {
	def, err := connector.Load(file, []byte(text), r.Library())
	if err != nil {
		return Comparison{}, err
	}
	if old := r.Connector(def.Connector); old != nil && !r.Added(def.Connector) { // one of the folder, or that ships
		lib := r.Library()
		lib[def.Connector] = def
		return r.compare(ctx, def, lib)
	}
	def, lib, err := r.checkDefinition(ctx, file, text)
	if err != nil {
		return Comparison{}, err
	}
	return r.compare(ctx, def, lib)
}

// VersionChanged are the lines that a version changed of the one before it, in the form of diff -u.
func (r *Joining) VersionChanged(ctx context.Context, v store.DefinitionVersion) (string, error) {
	if v.Version == 1 {
		return "", nil
	}
	before, err := r.DefinitionVersion(ctx, v.Connector, v.Version-1)
	if err != nil {
		return "", err
	}
	return udiff.Unified(fmt.Sprintf("version %d", before.Version), fmt.Sprintf("version %d", v.Version), before.Text, v.Text), nil
}

// compare holds the connections that use a definition, or what extends it, against what they would be by a library.
func (r *Joining) compare(ctx context.Context, def *connector.Definition, lib connector.Library) (Comparison, error) {
	out := Comparison{Connector: def.Connector, Title: def.Title, Feeds: []FeedComparison{}}
	old := r.Connector(def.Connector)
	if old == nil {
		return out, nil
	}
	versions, err := r.Store.LastVersions(ctx)
	if err != nil {
		return out, err
	}
	out.Version, out.Lines = versions[def.Connector], udiff.Unified("at work", "new", old.Text, def.Text)
	for _, c := range r.Sorted() {
		if !uses(lib, c.Rec().Connector, def.Connector) {
			continue
		}
		now, err := r.LineBy(lib, c)
		if err != nil {
			return out, engine.Refuse("%s would not work by it: %v", c.Rec().Name, err)
		}
		for _, kind := range now.Def.Kinds() {
			if c.Line().Def.Feeds[kind] == nil {
				continue // it is new
			}
			f, err := r.compareFeed(ctx, c, now, kind)
			if err != nil {
				return out, err
			}
			out.Feeds = append(out.Feeds, f)
		}
	}
	return out, nil
}

// uses tells whether a connector is one of a code, or extends it.
func uses(lib connector.Library, connector, code string) bool {
	for connector != code && lib[connector] != nil && lib[connector].Extends != "" {
		connector = lib[connector].Extends
	}
	return connector == code
}

func (r *Joining) compareFeed(ctx context.Context, c *engine.Conn, now *connector.Line, kind message.Feed) (FeedComparison, error) {
	out := FeedComparison{Connection: c.Rec().Code, Feed: kind, Fields: map[string]int{}, Examples: []Example{}}
	was := c.Line()
	if connector.ComesIn(kind) {
		list, of, err := r.Store.NewestKept(ctx, c.ID, kind, comparedIn)
		if err != nil {
			return out, err
		}
		out.Kept = of
		for _, kept := range list {
			if err := ctx.Err(); err != nil {
				return out, err
			}
			out.count(connector.CompareIn(was, now, kind, kept.Via, kept.Raw))
		}
		return out, nil
	}
	list, err := r.Store.NewestPayloads(ctx, c.ID, kind, comparedOut)
	if err != nil {
		return out, err
	}
	out.Kept = int64(len(list))
	for _, payload := range list {
		one, err := connector.CompareOut(ctx, was, now, kind, json.RawMessage(payload))
		if err != nil {
			out.NotLooked = err.Error()
			break
		}
		out.count(one)
	}
	return out, nil
}

// count adds what became of one record.
func (f *FeedComparison) count(c connector.Compared) {
	f.Looked++
	switch {
	case c.Same() || c.WasNot != "" && c.NotNow != "":
		return
	case c.NotNow != "":
		f.Refused++
	case c.WasNot != "":
		f.Mended++
	default:
		f.Otherwise++
	}
	fields := map[string]bool{}
	for _, d := range c.Fields {
		fields[eachIndex.ReplaceAllString(d.Path, "[]")] = true
	}
	for path := range maps.Keys(fields) {
		f.Fields[path]++
	}
	if len(f.Examples) < examples {
		e := Example{Record: c.ID, Was: c.WasNot, Now: c.NotNow, Fields: c.Fields}
		if e.Fields == nil {
			e.Fields = []connector.Difference{}
		}
		f.Examples = append(f.Examples, e)
	}
}
