package connector

import (
	"bytes"
	_ "embed"
	"errors"
	"fmt"
	"reflect"
	"strconv"
	"strings"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"
	"go.yaml.in/yaml/v3"

	"openrelay/internal/core/freight"
	"openrelay/internal/core/message"
)

// Definition is a loaded and checked connector definition.
type Definition struct {
	Connector string                       `yaml:"connector"`
	Title     string                       `yaml:"title"`
	Side      string                       `yaml:"side"`
	About     string                       `yaml:"about"`
	Access    Access                       `yaml:"access"`
	Limits    Limits                       `yaml:"limits"`
	Tables    map[string]map[string]string `yaml:"tables"`
	Push      *Push                        `yaml:"push"`
	Feeds     map[string]*Feed             `yaml:"feeds"`
	Calls     map[string]*Call             `yaml:"calls"`
}

// Access says how the other side lets us in.
type Access struct {
	Way    string          `yaml:"way"`
	Fields []Field         `yaml:"fields"`
	Steps  []string        `yaml:"steps"`
	Send   map[string]Expr `yaml:"send"` // headers of every request
}

// Field is a credential a person has to bring.
type Field struct {
	Name   string `yaml:"name" json:"name"`
	Label  string `yaml:"label" json:"label"`
	Help   string `yaml:"help" json:"help,omitempty"`
	Secret bool   `yaml:"secret" json:"secret"`
}

// Limits keep us polite and safe.
type Limits struct {
	PerSecond float64  `yaml:"per_second"`
	Burst     int      `yaml:"burst"`
	Timeout   Duration `yaml:"timeout"`
	MaxBody   Size     `yaml:"max_body"`
	MaxPages  int      `yaml:"max_pages"`
}

// Push says how the other side calls us.
type Push struct {
	Signature Signature `yaml:"signature"`
	Events    string    `yaml:"events"` // path to the list of events; empty: the body is one event
	Topic     string    `yaml:"topic"`  // path of an event's topic
	MaxBody   Size      `yaml:"max_body"`
}

// Feed is one kind of record moving one way.
type Feed struct {
	Topic   string    `yaml:"topic"`  // pushed events of this topic belong to the feed
	Record  string    `yaml:"record"` // path of the record inside a pushed event
	Read    *Read     `yaml:"read"`
	ID      Expr      `yaml:"id"`
	Version Expr      `yaml:"version"`
	Map     Tree      `yaml:"map"`
	Batch   int       `yaml:"batch"`
	Require []Require `yaml:"require"`
	Send    *Send     `yaml:"send"`
	Confirm *Confirm  `yaml:"confirm"`

	in *mapper
}

// Read says how records are fetched.
type Read struct {
	Every   Duration `yaml:"every"`
	Overlap Duration `yaml:"overlap"`
	Request Request  `yaml:"request"`
	Items   string   `yaml:"items"` // path to the list of records
	Next    Next     `yaml:"next"`
	Mark    Expr     `yaml:"mark"` // the largest seen becomes the mark
}

// Next says where the next page is: in a Link header (RFC 8288) with rel=next, or at a cursor in the body.
type Next struct {
	Link   bool   `yaml:"link"`
	Cursor Expr   `yaml:"cursor"`
	Param  string `yaml:"param"`
}

// Require refuses a message before it is sent, with the other side's reason.
type Require struct {
	When Expr   `yaml:"when"`
	Say  string `yaml:"say"`
}

// Send says how messages go out.
type Send struct {
	Request Request `yaml:"request"`
	Results *Tree   `yaml:"results"` // per message of a batch
	Answer  *Tree   `yaml:"answer"`  // of a single message

	results, answer *mapper
}

// Confirm says how a write is read back.
type Confirm struct {
	Request Request  `yaml:"request"`
	When    Expr     `yaml:"when"`
	After   Duration `yaml:"after"`
}

// Call is a question with an answer: identity, rates, tariff.
type Call struct {
	Require []Require `yaml:"require"`
	Request Request   `yaml:"request"`
	Items   string    `yaml:"items"`
	Map     Tree      `yaml:"map"`

	out *mapper
}

// Request is a call to the other side.
type Request struct {
	Method  string          `yaml:"method"`
	Path    string          `yaml:"path"` // with {expressions}, each escaped
	Query   map[string]Expr `yaml:"query"`
	Headers map[string]Expr `yaml:"headers"`
	Body    Tree            `yaml:"body"`

	path []pathPart
	body maker
}

type pathPart struct {
	text string
	expr Expr
}

// Result is what a channel says of one message of a batch.
type Result struct {
	Subject  string `json:"subject"`
	Accepted bool   `json:"accepted"`
	Reason   string `json:"reason"`
}

// SendAnswer is what the answer to a single sent message may tell, beside a carrier's label or receipt.
type SendAnswer struct {
	ID string `json:"id"`
}

// shapes lists the feeds and calls of the language and what they map to.
var (
	inShapes = map[string]reflect.Type{
		"orders in":   reflect.TypeFor[message.Order](),
		"listings in": reflect.TypeFor[message.Listing](),
		"stock in":    reflect.TypeFor[message.StockEdit](),
		"tracking in": reflect.TypeFor[message.Tracking](),
	}
	outShapes = map[string]reflect.Type{
		"stock out":     reflect.TypeFor[SendAnswer](),
		"dispatch out":  reflect.TypeFor[SendAnswer](),
		"labels out":    reflect.TypeFor[message.Label](),
		"handovers out": reflect.TypeFor[message.HandoverReceipt](),
	}
	callShapes = map[string]reflect.Type{
		"identity": reflect.TypeFor[message.Identity](),
		"rates":    reflect.TypeFor[message.Rate](),
		"tariff":   reflect.TypeFor[freight.Tariff](),
	}
)

// Duration is a time span written as "20s" or "5m".
type Duration time.Duration

// UnmarshalYAML reads the span.
func (d *Duration) UnmarshalYAML(n *yaml.Node) error {
	v, err := time.ParseDuration(n.Value)
	if err != nil || v < 0 {
		return fmt.Errorf("line %d: %q is not a time span such as 20s or 5m", n.Line, n.Value)
	}
	*d = Duration(v)
	return nil
}

// Size is a number of bytes written as "512KB" or "8MB".
type Size int64

// UnmarshalYAML reads the size.
func (s *Size) UnmarshalYAML(n *yaml.Node) error {
	text, unit := n.Value, int64(1)
	for suffix, u := range map[string]int64{"KB": 1 << 10, "MB": 1 << 20} {
		if t, ok := strings.CutSuffix(text, suffix); ok {
			text, unit = t, u
		}
	}
	v, err := strconv.ParseInt(text, 10, 32)
	if err != nil || v < 1 {
		return fmt.Errorf("line %d: %q is not a size such as 512KB or 8MB", n.Line, n.Value)
	}
	*s = Size(v * unit)
	return nil
}

//go:embed schema.json
var schemaText []byte

// Schema is the JSON Schema of connector definitions.
func Schema() []byte { return schemaText }

func compiledSchema() (*jsonschema.Schema, error) {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(schemaText))
	if err != nil {
		return nil, err
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("definition.json", doc); err != nil {
		return nil, err
	}
	return c.Compile("definition.json")
}

// Load reads a definition and checks it: against the JSON Schema, every expression, every target. Each
// mistake is reported with file, line and what was expected.
func Load(file string, text []byte) (*Definition, error) {
	if len(text) > 1<<20 {
		return nil, fmt.Errorf("%s: a definition is at most 1 MB", file)
	}
	var root yaml.Node
	if err := yaml.Unmarshal(text, &root); err != nil {
		return nil, fmt.Errorf("%s: %s", file, strings.TrimPrefix(err.Error(), "yaml: "))
	}
	if len(root.Content) == 0 {
		return nil, fmt.Errorf("%s: line 1: the file is empty; a connector definition is expected", file)
	}
	if err := noAliases(&root, 0); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if err := checkSchema(root.Content[0]); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	d := &Definition{}
	if err := root.Content[0].Decode(d); err != nil {
		return nil, fmt.Errorf("%s: %s", file, strings.TrimPrefix(err.Error(), "yaml: "))
	}
	d.defaults()
	if err := d.compile(); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return d, nil
}

// noAliases refuses anchors: they make small files explode, and one definition does not need them.
func noAliases(n *yaml.Node, depth int) error {
	if n.Kind == yaml.AliasNode || n.Anchor != "" {
		return fmt.Errorf("line %d: anchors and aliases are not part of the language", n.Line)
	}
	if depth > 40 {
		return fmt.Errorf("line %d: nested too deeply", n.Line)
	}
	for _, c := range n.Content {
		if err := noAliases(c, depth+1); err != nil {
			return err
		}
	}
	return nil
}

func checkSchema(n *yaml.Node) error {
	schema, err := compiledSchema()
	if err != nil {
		return fmt.Errorf("the schema of definitions: %w", err)
	}
	lines := map[string]int{}
	value := toAny(n, "", lines)
	var ve *jsonschema.ValidationError
	if err := schema.Validate(value); errors.As(err, &ve) {
		var out []string
		seen := map[string]bool{}
		for _, leaf := range leaves(ve) {
			path := "/" + strings.Join(leaf.InstanceLocation, "/")
			if path == "/" {
				path = ""
			}
			if extra, ok := leaf.ErrorKind.(*kind.AdditionalProperties); ok && len(extra.Properties) > 0 {
				path += "/" + extra.Properties[0]
			}
			text := fmt.Sprintf("line %d: %s: %s", lines[path], strings.TrimPrefix(strings.ReplaceAll(path, "/", "."), "."), complaint(leaf))
			if !seen[text] {
				seen[text] = true
				out = append(out, text)
			}
		}
		if len(out) > 5 {
			out = out[:5]
		}
		return errors.New(strings.Join(out, "; "))
	} else if err != nil {
		return err
	}
	return nil
}

// complaint is what a schema says, without the place.
func complaint(e *jsonschema.ValidationError) string {
	text := e.Error()
	if i := strings.LastIndex(text, "': "); i >= 0 {
		text = text[i+3:]
	}
	return text
}

func leaves(e *jsonschema.ValidationError) []*jsonschema.ValidationError {
	if len(e.Causes) == 0 {
		return []*jsonschema.ValidationError{e}
	}
	var out []*jsonschema.ValidationError
	for _, c := range e.Causes {
		out = append(out, leaves(c)...)
	}
	return out
}

func toAny(n *yaml.Node, path string, lines map[string]int) any {
	lines[path] = n.Line
	switch n.Kind {
	case yaml.MappingNode:
		out := map[string]any{}
		for i := 0; i < len(n.Content); i += 2 {
			p := path + "/" + n.Content[i].Value
			out[n.Content[i].Value] = toAny(n.Content[i+1], p, lines)
			lines[p] = n.Content[i].Line
		}
		return out
	case yaml.SequenceNode:
		out := make([]any, len(n.Content))
		for i, c := range n.Content {
			out[i] = toAny(c, path+"/"+strconv.Itoa(i), lines)
		}
		return out
	}
	var v any
	if err := n.Decode(&v); err != nil {
		return n.Value
	}
	switch x := v.(type) {
	case int:
		return float64(x)
	case time.Time:
		return n.Value
	}
	return v
}

func (d *Definition) defaults() {
	if d.Limits.PerSecond == 0 {
		d.Limits.PerSecond = 5
	}
	if d.Limits.Burst == 0 {
		d.Limits.Burst = max(1, int(d.Limits.PerSecond))
	}
	if d.Limits.Timeout == 0 {
		d.Limits.Timeout = Duration(15 * time.Second)
	}
	if d.Limits.MaxBody == 0 {
		d.Limits.MaxBody = 8 << 20
	}
	if d.Limits.MaxPages == 0 {
		d.Limits.MaxPages = 10_000
	}
	if p := d.Push; p != nil {
		if p.MaxBody == 0 {
			p.MaxBody = 2 << 20
		}
		if p.Topic == "" {
			p.Topic = "topic"
		}
	}
	for _, f := range d.Feeds {
		if f.Batch == 0 {
			f.Batch = 1
		}
		if f.Read != nil && f.Read.Every == 0 {
			f.Read.Every = Duration(time.Minute)
		}
	}
}

func (d *Definition) compile() error {
	l, err := newLanguage(d.Tables)
	if err != nil {
		return err
	}
	var errs []error
	try := func(what string, err error) {
		if err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", what, err))
		}
	}
	for name, e := range d.Access.Send {
		try("access.send."+name, l.compile(&e))
		d.Access.Send[name] = e
	}
	if d.Push != nil {
		try("push.signature", d.Push.Signature.compile(l, d))
	}
	for _, kind := range sortedKeys(d.Feeds) {
		f := d.Feeds[kind]
		what := "feeds." + kind
		for _, e := range []*Expr{&f.ID, &f.Version} {
			try(what, l.compile(e))
		}
		if typ, in := inShapes[kind]; in {
			f.in, err = l.mapper(f.Map, typ, what+".map")
			try(what, err)
			if !f.ID.Set() {
				try(what, errors.New("id is missing: it says by which number a record is known"))
			}
		}
		for i := range f.Require {
			try(what+".require", l.compile(&f.Require[i].When))
		}
		if r := f.Read; r != nil {
			try(what+".read", r.Request.compile(l))
			try(what+".read.mark", l.compile(&r.Mark))
			try(what+".read.next", l.compile(&r.Next.Cursor))
		}
		if s := f.Send; s != nil {
			try(what+".send", s.Request.compile(l))
			if s.Results != nil {
				s.results, err = l.mapper(*s.Results, reflect.TypeFor[[]Result](), what+".send.results")
				try(what, err)
			}
			if s.Answer != nil {
				s.answer, err = l.mapper(*s.Answer, outShapes[kind], what+".send.answer")
				try(what, err)
			}
		} else if _, out := outShapes[kind]; out {
			try(what, errors.New("send is missing"))
		}
		if c := f.Confirm; c != nil {
			try(what+".confirm", c.Request.compile(l))
			try(what+".confirm.when", l.compile(&c.When))
		}
	}
	for _, name := range sortedKeys(d.Calls) {
		c := d.Calls[name]
		what := "calls." + name
		try(what, c.Request.compile(l))
		for i := range c.Require {
			try(what+".require", l.compile(&c.Require[i].When))
		}
		c.out, err = l.mapper(c.Map, callShapes[name], what+".map")
		try(what, err)
	}
	return errors.Join(errs...)
}

func (r *Request) compile(l *language) error {
	for _, m := range []map[string]Expr{r.Query, r.Headers} {
		for name, e := range m {
			if err := l.compile(&e); err != nil {
				return err
			}
			m[name] = e
		}
	}
	if r.Body.Set() {
		m, err := l.compileOut(r.Body.node)
		if err != nil {
			return err
		}
		r.body = m
	}
	rest := r.Path
	for {
		before, after, found := strings.Cut(rest, "{")
		if before != "" {
			r.path = append(r.path, pathPart{text: before})
		}
		if !found {
			return nil
		}
		inside, tail, closed := strings.Cut(after, "}")
		if !closed {
			return fmt.Errorf("path %q: a { is not closed", r.Path)
		}
		e := Expr{Text: inside}
		if err := l.compile(&e); err != nil {
			return fmt.Errorf("path %q: %w", r.Path, err)
		}
		r.path = append(r.path, pathPart{expr: e})
		rest = tail
	}
}

// Refuses returns the reason of the first requirement that the variables break, or "".
func refuses(rules []Require, v Vars) (string, error) {
	for i := range rules {
		out, err := rules[i].When.Eval(v)
		if err != nil {
			return "", err
		}
		if b, ok := out.(bool); ok && b {
			return rules[i].Say, nil
		}
	}
	return "", nil
}
