package connector

import (
	"encoding/json"
	"maps"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"openrelay/internal/core/message"
)

// Completion is something that may stand where somebody types.
type Completion struct {
	Label  string `json:"label"`
	Kind   string `json:"kind" doc:"key, value, name, field or function"`
	Detail string `json:"detail,omitempty" doc:"What it is"`
	Insert string `json:"insert" doc:"What is written in the place of what was begun"`
}

// Completions are what may stand at a place of a definition.
type Completions struct {
	From int          `json:"from" doc:"Column at which what was begun begins; it counts from 1"`
	List []Completion `json:"list"`
}

// Typing is a definition while somebody writes it.
type Typing struct {
	Text   string `json:"text" maxLength:"1000000"`
	Line   int    `json:"line" minimum:"1"`
	Column int    `json:"column" minimum:"1" doc:"Before which the next letter would stand; both count from 1"`
	Sample string `json:"sample,omitempty" maxLength:"1000000"             doc:"A record or an answer of theirs: its fields are offered"`
}

// cursorWord stands where somebody types while a definition is looked at.
const cursorWord = "zz_cursor_zz"

// Complete lists what may stand where somebody types. Where the text is too unfinished to tell, the list is empty.
func Complete(t Typing, lib Library) Completions {
	before, after, ok := t.cut()
	if !ok {
		return Completions{From: t.Column, List: []Completion{}}
	}
	begun := begunWord.FindString(before)
	line := before[strings.LastIndex(before, "\n")+1:]
	out := Completions{From: utf8.RuneCountInString(line) - utf8.RuneCountInString(begun) + 1, List: []Completion{}}
	head := strings.TrimSuffix(before, begun)
	rest := strings.TrimLeft(after, wordLetters)
	for _, word := range cursorForms(line, begun) {
		root, bad := parse([]byte(head + word + rest))
		if bad != nil {
			continue
		}
		if place := placeOf(root, nil); place != nil {
			place.chain = strings.TrimSuffix(begun, lastWord(begun))
			out.From += utf8.RuneCountInString(place.chain)
			out.List = place.completions(root, t.Sample, lib)
			out.keepBegun(lastWord(begun))
			return out
		}
	}
	return out
}

const wordLetters = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_"

var begunWord = regexp.MustCompile(`[A-Za-z_][A-Za-z0-9_.\[\]]*(?: [a-z]*)?$|$`)

// cut divides the text where somebody types.
func (t Typing) cut() (before, after string, ok bool) {
	at := 0
	for range t.Line - 1 {
		next := strings.IndexByte(t.Text[at:], '\n')
		if next < 0 {
			return "", "", false
		}
		at += next + 1
	}
	for range t.Column - 1 {
		if at >= len(t.Text) || t.Text[at] == '\n' {
			return "", "", false
		}
		_, size := utf8.DecodeRuneInString(t.Text[at:])
		at += size
	}
	return t.Text[:at], t.Text[at:], true
}

// lastWord is what was begun behind the last point.
func lastWord(begun string) string { return begun[strings.LastIndex(begun, ".")+1:] }

var keyBegins = regexp.MustCompile(`(^|[{,]|- )\s*$`)

// cursorForms are what may stand where somebody types: a key with a value where a key may begin, or a value.
func cursorForms(line, begun string) []string {
	value := strings.TrimSuffix(begun, lastWord(begun)) + cursorWord
	if keyBegins.MatchString(strings.TrimSuffix(line, begun)) && !strings.Contains(begun, ".") {
		return []string{cursorWord + ": x", value}
	}
	return []string{value}
}

// cursorPlace is where somebody types.
type cursorPlace struct {
	path  []string // keys and indexes of what it lies in
	key   bool     // a key is typed, else a value
	with  []string // keys beside it
	chain string   // what stands before the word that is typed, such as msg.ship_to.
}

// placeOf finds the cursor in a tree; nil: it is not there.
func placeOf(n *yaml.Node, path []string) *cursorPlace {
	switch n.Kind {
	case yaml.MappingNode:
		var keys []string
		for i := 0; i+1 < len(n.Content); i += 2 {
			keys = append(keys, n.Content[i].Value)
		}
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == cursorWord {
				return &cursorPlace{path: path, key: true, with: keys}
			}
			if p := placeOf(n.Content[i+1], append(slices.Clone(path), n.Content[i].Value)); p != nil {
				return p
			}
		}
	case yaml.SequenceNode:
		for _, c := range n.Content {
			if p := placeOf(c, append(slices.Clone(path), "[]")); p != nil {
				return p
			}
		}
	case yaml.ScalarNode:
		if strings.Contains(n.Value, cursorWord) {
			return &cursorPlace{path: path}
		}
	}
	return nil
}

// keepBegun leaves what begins like the word that is typed, or has it in it.
func (c *Completions) keepBegun(word string) {
	word = strings.ToLower(word)
	rank := func(x Completion) int { return strings.Index(strings.ToLower(x.Label), word) }
	c.List = slices.DeleteFunc(c.List, func(x Completion) bool { return rank(x) < 0 })
	slices.SortStableFunc(c.List, func(a, b Completion) int { return min(rank(a), 1) - min(rank(b), 1) })
}

// completions lists what may stand at the place.
func (p *cursorPlace) completions(root *yaml.Node, sample string, lib Library) []Completion {
	options := schemaAt(p.path)
	if p.key {
		if shape := p.shape(); shape != nil {
			return p.without(fieldNames(shape, true))
		}
		return p.without(keysOf(options))
	}
	if scope := scopeAt(root, lib); scope != nil {
		return scope.names(p.chain, root, sample, p.path)
	}
	if p.chain != "" {
		return []Completion{}
	}
	return valuesOf(options)
}

// without leaves out keys that are there already.
func (p *cursorPlace) without(list []Completion) []Completion {
	return slices.DeleteFunc(list, func(c Completion) bool { return slices.Contains(p.with, c.Label) })
}

// shape is the message whose fields are mapped at the place; nil: none is.
func (p *cursorPlace) shape() reflect.Type {
	at := slices.IndexFunc(p.path, func(k string) bool { return k == "map" || k == "answer" || k == "results" })
	if at < 2 {
		return nil
	}
	t := mappedShape(p.path[:at+1])
	for _, key := range p.path[at+1:] {
		if t == nil || key == "map" {
			continue
		}
		i, ok := jsonFields(t)[key]
		if !ok {
			return nil
		}
		if t = t.Field(i).Type; t.Kind() == reflect.Slice {
			t = t.Elem()
		}
	}
	if t == nil || t.Kind() != reflect.Struct || t == timeType {
		return nil
	}
	return t
}

// mappedShape is what a mapping at a path gives.
func mappedShape(path []string) reflect.Type {
	last := path[len(path)-1]
	switch {
	case path[0] == "calls" && last == "map" && len(path) == 3:
		return shapeOf(callKinds, path[1])
	case path[0] != "feeds":
		return nil
	case last == "map" && len(path) == 3:
		return shapeOf(inKinds, message.Feed(path[1]))
	case last == "results":
		return reflect.TypeFor[Result]()
	case last == "answer" && !slices.Contains(path, "steps"):
		return shapeOf(outKinds, message.Feed(path[1]))
	}
	return nil
}

// fieldNames lists the fields of a message, as keys of a mapping or as they are named behind a point.
func fieldNames(t reflect.Type, key bool) []Completion {
	out := []Completion{}
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if name == "" || name == "-" {
			continue
		}
		detail := kindName(f.Type)
		if f.Tag.Get("need") == "yes" {
			detail += ", needed"
		}
		if doc := f.Tag.Get("doc"); doc != "" {
			detail += ". " + doc
		}
		c := Completion{Label: name, Kind: "field", Detail: detail, Insert: name}
		if key {
			c.Insert += ": "
		}
		out = append(out, c)
	}
	return out
}

// cursorScope is what an expression may name where somebody types.
type cursorScope struct {
	scope
	fields, loops []string
	stands        map[string]string // paths that names of elements stand for
}

// scopeAt is what the expression with the cursor may name; nil: the cursor is in none.
func scopeAt(root *yaml.Node, lib Library) (found *cursorScope) {
	if base := valueOf(root, "extends"); base != nil && lib[base.Value] != nil {
		root = merge(unplaced(lib[base.Value].whole), root)
	}
	d := &Definition{whole: root}
	if root.Decode(d) != nil {
		return nil
	}
	d.defaults()
	l, err := newLanguage(d.Tables)
	if err != nil {
		return nil
	}
	l.cursor = func(e Expr) {
		if found == nil && strings.Contains(e.Text, cursorWord) {
			found = &cursorScope{l.scope, l.fields, slices.Clone(l.loops), maps.Clone(l.scopes)}
		}
	}
	d.compileBy(l)
	return found
}

// names lists what may follow a chain such as msg.ship_to., or begin an expression.
func (s *cursorScope) names(chain string, root *yaml.Node, sample string, path []string) []Completion {
	if chain == "" {
		out := []Completion{}
		for _, n := range slices.Compact(slices.Sorted(slices.Values(slices.Concat(s.scope.names, s.loops)))) {
			out = append(out, Completion{Label: n, Kind: "name", Detail: nameHelp[n], Insert: n})
		}
		for _, f := range functionHelp {
			out = append(out, Completion{Label: f.name, Kind: "function", Detail: f.args + ": " + f.about, Insert: f.name + "("})
		}
		return out
	}
	words := strings.Split(strings.TrimSuffix(chain, "."), ".")
	simple := func(list []string) []Completion {
		out := []Completion{}
		for _, n := range list {
			out = append(out, Completion{Label: n, Kind: "field", Insert: n})
		}
		return out
	}
	switch words[0] {
	case "settings":
		return simple(settingNames)
	case "secret":
		return simple(s.fields)
	case "call":
		return simple(callNames)
	case "steps":
		if len(words) == 1 {
			return simple(sortedKeys(s.steps))
		}
		if step := s.steps[words[1]]; step != nil {
			return simple(step.names)
		}
	case "msg":
		if t := typeAt(s.msg, words[1:]); t != nil {
			return fieldNames(t, false)
		}
	default:
		return sampleFields(root, sample, path, s.standsFor(words))
	}
	return []Completion{}
}

// typeAt follows fields of a message; nil: there is no record.
func typeAt(t reflect.Type, words []string) reflect.Type {
	for _, w := range words {
		if t == nil || t.Kind() != reflect.Struct {
			return nil
		}
		i, ok := jsonFields(t)[w]
		if !ok {
			return nil
		}
		t = t.Field(i).Type
	}
	if t == nil || t.Kind() != reflect.Struct || t == timeType {
		return nil
	}
	return t
}

// standsFor writes the name of an element as the path that it stands for: line is item.lines[].
func (s *cursorScope) standsFor(words []string) []string {
	if at := s.stands[words[0]]; at != "" && at != words[0] {
		return append(strings.Split(at, "."), words[1:]...)
	}
	return words
}

// sampleFields lists the fields that a sample has at a path such as item.ship_to.
func sampleFields(root *yaml.Node, sample string, path, words []string) []Completion {
	out := []Completion{}
	doc := decodeSample(sample)
	if doc == nil {
		return out
	}
	at := doc
	if words[0] == "item" {
		at = firstRecord(root, doc, path)
	}
	for i, w := range words {
		name, list := strings.CutSuffix(w, "[]")
		if i > 0 {
			at = dig(at, name)
		}
		if many, ok := at.([]any); ok && len(many) > 0 && (list || i == len(words)-1) {
			at = many[0]
		}
	}
	m, _ := at.(map[string]any)
	for _, key := range sortedKeys(m) {
		detail := describe(m[key])
		if s, ok := m[key].(string); ok {
			detail = short(s)
		}
		out = append(out, Completion{Label: key, Kind: "field", Detail: detail, Insert: key})
	}
	return out
}

// decodeSample reads a sample in the form that it seems to have; nil: in none.
func decodeSample(sample string) any {
	trimmed := strings.TrimSpace(sample)
	form := Format{}
	switch {
	case trimmed == "":
		return nil
	case trimmed[0] == '<':
		form.Answer = "xml"
	case trimmed[0] != '{' && trimmed[0] != '[':
		return nil
	}
	doc, err := form.read([]byte(trimmed))
	if err != nil {
		return nil
	}
	return doc
}

// firstRecord is the first record of an answer, or of an event around it, as the feed says where it lies; else the answer itself.
func firstRecord(root *yaml.Node, doc any, path []string) any {
	var feed *yaml.Node
	if len(path) > 1 && path[0] == "feeds" {
		if feeds := valueOf(root, "feeds"); feeds != nil {
			feed = valueOf(feeds, path[1])
		}
	}
	if feed != nil && feed.Kind == yaml.MappingNode {
		if read := valueOf(feed, "read"); read != nil && read.Kind == yaml.MappingNode {
			if items := valueOf(read, "items"); items != nil && dig(doc, items.Value) != nil {
				doc = dig(doc, items.Value)
			}
		}
		if record := valueOf(feed, "record"); record != nil && dig(doc, record.Value) != nil {
			doc = dig(doc, record.Value)
		}
	}
	if list, ok := doc.([]any); ok && len(list) > 0 {
		return list[0]
	}
	return doc
}

var parsedSchema = sync.OnceValue(func() map[string]any {
	var out map[string]any
	_ = json.Unmarshal(schemaText, &out) // it compiles, or nothing works
	return out
})

// schemaAt lists what the schema says of a place.
func schemaAt(path []string) []map[string]any {
	at := []map[string]any{parsedSchema()}
	for _, key := range path {
		var next []map[string]any
		for _, s := range alternatives(at) {
			props, _ := s["properties"].(map[string]any)
			switch inner, ok := props[key].(map[string]any); {
			case ok:
				next = append(next, inner)
			case key == "[]":
				if items, ok := s["items"].(map[string]any); ok {
					next = append(next, items)
				}
			default:
				if more, ok := s["additionalProperties"].(map[string]any); ok {
					next = append(next, more)
				}
			}
		}
		at = next
	}
	return alternatives(at)
}

// alternatives follows references, and takes apart what may be one of several.
func alternatives(list []map[string]any) (out []map[string]any) {
	for _, s := range list {
		if ref, ok := s["$ref"].(string); ok {
			defs := parsedSchema()["$defs"].(map[string]any)
			s, _ = defs[strings.TrimPrefix(ref, "#/$defs/")].(map[string]any)
		}
		out = append(out, s)
		for _, word := range []string{"oneOf", "anyOf", "allOf"} {
			parts, _ := s[word].([]any)
			var inner []map[string]any
			for _, p := range parts {
				if m, ok := p.(map[string]any); ok {
					inner = append(inner, m)
				}
			}
			out = append(out, alternatives(inner)...)
		}
	}
	return out
}

func keysOf(options []map[string]any) []Completion {
	out := []Completion{}
	for _, s := range options {
		props, _ := s["properties"].(map[string]any)
		needed, _ := s["required"].([]any)
		for _, key := range sortedKeys(props) {
			detail := ""
			for _, p := range alternatives([]map[string]any{asMap(props[key])}) {
				if about, ok := p["description"].(string); ok && detail == "" {
					detail = about
				}
			}
			if slices.Contains(needed, any(key)) {
				detail = strings.TrimPrefix(detail+", needed", ", ")
			}
			out = append(out, Completion{Label: key, Kind: "key", Detail: detail, Insert: key + ": "})
		}
	}
	return out
}

func asMap(v any) map[string]any { m, _ := v.(map[string]any); return m }

func valuesOf(options []map[string]any) []Completion {
	out := []Completion{}
	add := func(v any) {
		text := strings.Trim(textOf(v), `"`)
		out = append(out, Completion{Label: text, Kind: "value", Insert: text})
	}
	for _, s := range options {
		for _, v := range append(asList(s["enum"]), asList([]any{s["const"]})...) {
			if v != nil {
				add(v)
			}
		}
		if s["type"] == "boolean" {
			add(true)
			add(false)
		}
	}
	return out
}

func asList(v any) []any { l, _ := v.([]any); return l }

// nameHelp says what names stand for.
var nameHelp = map[string]string{
	"item": "the record that came in", "event": "the pushed event around it", "body": "of the answer", "status": "of the answer",
	"header": "headers of the answer, or of a push; small letters, _ for -", "msg": "the message of ours that is sent",
	"batch": "all messages of a batch", "ref": "our reference, the same whenever it is sent again", "mark": "where reading goes on",
	"since": "the moment from which on things are wanted", "steps": "what the steps before answered",
	"submission": "number of a batch that is reported on", "secret": "the account's credentials", "settings": "of the connection",
	"site": "of the connection", "test": "whether the connection is in test", "raw": "the body of a push",
	"call": "the request that is signed", "file": "the file that came",
}

// functionHelp says what the functions of the language do.
var functionHelp = []struct{ name, args, about string }{
	{"amount", "text, currency", "decimal text or a whole number as minor units"},
	{"decimal", "minor, currency", "minor units as decimal text"},
	{"number", "text", "a whole number"},
	{"moment", "value, form, zone", `a time; form is unix, unix ms, rfc3339 or a date pattern`},
	{"written", "time, form, zone", "a time as text"},
	{"lookup", "table, key", "the entry of a code table"},
	{"joined", "list, separator", "joins what is neither missing nor empty"},
	{"first", "list", "the first that is neither missing nor empty"},
	{"several", "value", "a list, also of a single record"},
	{"abreast", "lists", "records of what stands at the same place of several lists: repeated fields of a form"},
	{"words", "text", "the words of a text"},
	{"cut", "text, letters", "the text in parts of so many letters at most, cut between words"},
	{"digest", "text, length", "a short name for a long text"},
	{"edi", "record, segment, place", "what stands at a place of a segment"},
	{"edis", "record, segment, place", "the same of every such segment"},
	{"groups", "record, segment, until", "groups of segments that begin with one"},
	{"before", "record, segment", "what stands before the first of a segment"},
	{"has", "field", "whether a record has a field"},
	{"size", "list or text", "how many there are"},
}
