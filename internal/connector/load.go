package connector

import (
	"bytes"
	_ "embed"
	"errors"
	"fmt"
	"math"
	"regexp"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"
	"go.yaml.in/yaml/v3"
)

// Mistake is something wrong in a definition. Line and column count from 1; 0 where the mistake has no
// place of its own, or lies in what the definition extends.
type Mistake struct {
	File   string `json:"file,omitempty"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Path   string `json:"path,omitempty"`
	Text   string `json:"text"`
}

func (m Mistake) Error() string {
	var b strings.Builder
	if m.File != "" {
		b.WriteString(m.File + ":")
	}
	if m.Line > 0 {
		fmt.Fprintf(&b, "%d:%d:", m.Line, m.Column)
	}
	if b.Len() > 0 {
		b.WriteString(" ")
	}
	if m.Path != "" {
		b.WriteString(m.Path + ": ")
	}
	return b.String() + m.Text
}

// Mistakes are all mistakes of a definition that were found, in the order of the file.
type Mistakes []Mistake

func (m Mistakes) Error() string {
	parts := make([]string, len(m))
	for i := range m {
		parts[i] = m[i].Error()
	}
	return strings.Join(parts, "\n")
}

func mistakeAt(n *yaml.Node, path, format string, args ...any) Mistake {
	return Mistake{Line: n.Line, Column: n.Column, Path: path, Text: fmt.Sprintf(format, args...)}
}

//go:embed schema.json
var schemaText []byte

// Schema is the JSON Schema of connector definitions.
func Schema() []byte { return schemaText }

var compiledSchema = sync.OnceValues(func() (*jsonschema.Schema, error) {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(schemaText))
	if err != nil {
		return nil, err
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("definition.json", doc); err != nil {
		return nil, err
	}
	return c.Compile("definition.json")
})

// maxDefinition bounds the text of a definition, in bytes.
const maxDefinition = 1 << 20

// Load reads a definition and checks it: against the JSON Schema, every expression, every target. The
// error is of type Mistakes; each names file, line and column, and what was expected. A definition
// that extends another needs the library that holds it.
func Load(file string, text []byte, lib Library) (*Definition, error) {
	d, bad := load(file, text, lib)
	if len(bad) > 0 {
		for i := range bad {
			bad[i].File = file
		}
		sort.SliceStable(bad, func(i, j int) bool { return bad[i].Line < bad[j].Line })
		return nil, bad
	}
	return d, nil
}

func load(file string, text []byte, lib Library) (*Definition, Mistakes) {
	if len(text) > maxDefinition {
		return nil, Mistakes{{Text: "a definition is at most 1 MB"}}
	}
	root, bad := parse(text)
	if bad != nil {
		return nil, bad
	}
	if base := valueOf(root, "extends"); base != nil {
		parent := lib[base.Value]
		if parent == nil {
			return nil, Mistakes{mistakeAt(base, "extends", "there is no connector %q; there are: %s", base.Value,
				strings.Join(sortedKeys(lib), ", "))}
		}
		root = merge(unplaced(parent.whole), root)
		if name := valueOf(root, "connector"); name != nil && name.Value == parent.Connector {
			return nil, Mistakes{mistakeAt(name, "connector", "a definition that extends another needs a code of its own")}
		}
	}
	return finish(root, string(text))
}

// With is the definition changed by a connection's overrides: a part of a definition, written in the
// same language. The error is of type Mistakes.
func (d *Definition) With(overrides string) (*Definition, error) {
	if strings.TrimSpace(overrides) == "" {
		return d, nil
	}
	if len(overrides) > maxDefinition {
		return nil, Mistakes{{Text: "overrides are at most 1 MB"}}
	}
	over, bad := parse([]byte(overrides))
	if bad != nil {
		return nil, bad
	}
	for _, key := range []string{"connector", "extends", "side"} {
		if n := valueOf(over, key); n != nil {
			return nil, Mistakes{mistakeAt(n, key, "cannot be overridden by a connection")}
		}
	}
	out, bad := finish(merge(unplaced(d.whole), over), overrides)
	if bad != nil {
		return nil, bad
	}
	return out, nil
}

// parse reads YAML text into the mapping at its root.
func parse(text []byte) (*yaml.Node, Mistakes) {
	var root yaml.Node
	if err := yaml.Unmarshal(text, &root); err != nil {
		return nil, Mistakes{yamlMistake(err)}
	}
	if len(root.Content) == 0 {
		return nil, Mistakes{{Line: 1, Column: 1, Text: "the file is empty; a connector definition is expected"}}
	}
	if bad := plainYAML(&root, 0); bad != nil {
		return nil, Mistakes{*bad}
	}
	if root.Content[0].Kind != yaml.MappingNode {
		return nil, Mistakes{mistakeAt(root.Content[0], "", "a mapping is expected")}
	}
	return root.Content[0], nil
}

var lineOf = regexp.MustCompile(`^(?:yaml: )?(?:unmarshal errors:\s*)?line (\d+): `)

// yamlMistake gives an error of the YAML library a place.
func yamlMistake(err error) Mistake {
	var m Mistake
	if errors.As(err, &m) {
		return m
	}
	text := err.Error()
	if at := lineOf.FindStringSubmatchIndex(text); at != nil {
		m.Line, _ = strconv.Atoi(text[at[2]:at[3]])
		m.Column = 1
		text = text[at[1]:]
	}
	m.Text = strings.TrimPrefix(text, "yaml: ")
	return m
}

// plainYAML refuses anchors (they make small files explode, and one definition does not need them) and
// keys that stand twice.
func plainYAML(n *yaml.Node, depth int) *Mistake {
	if n.Kind == yaml.AliasNode || n.Anchor != "" {
		m := mistakeAt(n, "", "anchors and aliases are not part of the language")
		return &m
	}
	if depth > 40 {
		m := mistakeAt(n, "", "nested too deeply")
		return &m
	}
	for _, c := range n.Content {
		if m := plainYAML(c, depth+1); m != nil {
			return m
		}
	}
	return nil
}

func finish(root *yaml.Node, text string) (*Definition, Mistakes) {
	if bad := checkSchema(root); len(bad) > 0 {
		return nil, bad
	}
	d := &Definition{Text: text, whole: root}
	if err := root.Decode(d); err != nil {
		return nil, Mistakes{yamlMistake(err)}
	}
	d.defaults()
	if bad := d.compile(); len(bad) > 0 {
		return nil, bad
	}
	return d, nil
}

func valueOf(n *yaml.Node, key string) *yaml.Node {
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.Content[i+1]
		}
	}
	return nil
}

// unplaced copies a tree without its lines: they belong to another file.
func unplaced(n *yaml.Node) *yaml.Node {
	c := *n
	c.Line, c.Column = 0, 0
	c.Content = make([]*yaml.Node, len(n.Content))
	for i, k := range n.Content {
		c.Content[i] = unplaced(k)
	}
	return &c
}

// merge lays a mapping over another: mappings are merged key by key, everything else is replaced, and a
// null takes a key away.
func merge(base, over *yaml.Node) *yaml.Node {
	if base.Kind != yaml.MappingNode || over.Kind != yaml.MappingNode {
		return over
	}
	out := *over
	out.Content = nil
	for i := 0; i+1 < len(base.Content); i += 2 {
		key, val := base.Content[i], base.Content[i+1]
		if o := valueOf(over, key.Value); o == nil {
			out.Content = append(out.Content, key, val)
		} else if o.Tag != "!!null" {
			out.Content = append(out.Content, key, merge(val, o))
		}
	}
	for i := 0; i+1 < len(over.Content); i += 2 {
		if key := over.Content[i]; valueOf(base, key.Value) == nil && over.Content[i+1].Tag != "!!null" {
			out.Content = append(out.Content, key, over.Content[i+1])
		}
	}
	return &out
}

func checkSchema(n *yaml.Node) Mistakes {
	schema, err := compiledSchema()
	if err != nil {
		return Mistakes{{Text: "the schema of definitions: " + err.Error()}}
	}
	places := map[string]*yaml.Node{}
	var ve *jsonschema.ValidationError
	if err := schema.Validate(toAny(n, "", places)); errors.As(err, &ve) {
		var out Mistakes
		seen := map[string]bool{}
		for _, leaf := range leaves(ve) {
			path := "/" + strings.Join(leaf.InstanceLocation, "/")
			if path == "/" {
				path = ""
			}
			if extra, ok := leaf.ErrorKind.(*kind.AdditionalProperties); ok && len(extra.Properties) > 0 {
				path += "/" + extra.Properties[0]
			}
			m := Mistake{Path: strings.TrimPrefix(strings.ReplaceAll(path, "/", "."), "."), Text: complaint(leaf)}
			if at := places[path]; at != nil {
				m.Line, m.Column = at.Line, at.Column
			}
			if text := m.Error(); !seen[text] {
				seen[text] = true
				out = append(out, m)
			}
		}
		return out
	} else if err != nil {
		return Mistakes{{Text: err.Error()}}
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

// toAny turns YAML into what the schema looks at, and notes where each value stands.
func toAny(n *yaml.Node, path string, places map[string]*yaml.Node) any {
	places[path] = n
	switch n.Kind {
	case yaml.MappingNode:
		out := map[string]any{}
		for i := 0; i < len(n.Content); i += 2 {
			p := path + "/" + n.Content[i].Value
			out[n.Content[i].Value] = toAny(n.Content[i+1], p, places)
			places[p] = n.Content[i]
		}
		return out
	case yaml.SequenceNode:
		out := make([]any, len(n.Content))
		for i, c := range n.Content {
			out[i] = toAny(c, path+"/"+strconv.Itoa(i), places)
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
	case float64:
		if math.IsNaN(x) || math.IsInf(x, 0) {
			return n.Value
		}
	case time.Time, int64, uint64:
		return n.Value
	}
	return v
}
