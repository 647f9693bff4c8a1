package draft

import (
	"bytes"
	"fmt"
	"strings"

	"go.yaml.in/yaml/v3"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
)

// Wish is what a person says of a system.
type Wish struct {
	Code    string `json:"code" maxLength:"40"      doc:"Of the connector: small letters, digits, -"`
	Title   string `json:"title,omitempty" maxLength:"80"`
	Side    string `json:"side,omitempty" maxLength:"20"      doc:"channel, unless said"`
	Address string `json:"address,omitempty" maxLength:"300"`
	Way     string `json:"way,omitempty" maxLength:"20"      doc:"How it lets us in: token (unless said), key, password, client, consent, files or inbound"`
	Header  string `json:"header,omitempty" maxLength:"60"      doc:"That carries a token or key; Authorization with Bearer for a token, X-Key for a key"`
	Feeds   []Feed `json:"feeds,omitempty" maxItems:"20"`
	OpenAPI string `json:"openapi,omitempty" maxLength:"4000000" doc:"Its OpenAPI document, JSON or YAML: what is said above goes before it"`
}

// Feed is something that it has for us.
type Feed struct {
	Kind   message.Feed `json:"kind" maxLength:"40"`
	Path   string       `json:"path,omitempty" maxLength:"300"     doc:"Where it is read, such as /orders"`
	Sample string       `json:"sample,omitempty" maxLength:"1000000" doc:"What it answers there: JSON, XML or CSV"`
}

// Draft is a first definition.
type Draft struct {
	Text string   `json:"text"`
	Open []string `json:"open" doc:"What a person has to look at or to say"`
}

// New writes a definition. It passes the check; an error says what is wrong with the wish, or with what was given with it.
func New(w Wish) (Draft, error) {
	d := &drafting{wish: w, tables: mapping()}
	if err := d.complete(); err != nil {
		return Draft{}, err
	}
	root := mapping()
	put(root, "connector", text(d.wish.Code))
	put(root, "title", text(d.wish.Title))
	put(root, "side", text(d.wish.Side))
	if d.wish.Address != "" {
		put(root, "address", mapping("default", text(d.wish.Address)))
	}
	put(root, "access", d.access())
	feeds := mapping()
	for _, f := range d.wish.Feeds {
		node, err := d.feed(f)
		if err != nil {
			return Draft{}, fmt.Errorf("%s: %w", f.Kind, err)
		}
		put(feeds, string(f.Kind), node)
	}
	for _, s := range d.sends {
		put(feeds, string(s.kind), s.node())
	}
	if d.wish.Way != "files" && d.wish.Way != "inbound" {
		put(root, "calls", d.calls())
	}
	if len(d.tables.Content) > 0 {
		put(root, "tables", d.tables)
	}
	if d.wish.Way == "inbound" {
		put(root, "push", mapping("signature", mapping("scheme", text("shared"), "secret", text("key"), "value",
			text("header.authorization"), "prefix", text("Bearer "))))
	}
	if len(feeds.Content) > 0 {
		put(root, "feeds", feeds)
	} else {
		d.open("no feed is said yet: what comes in and what goes out")
	}
	return d.written(root)
}

// drafting is a definition being written.
type drafting struct {
	wish   Wish
	way    oauthWay
	read   map[message.Feed]reading // of an OpenAPI document: how a list is asked for
	sends  []sending
	me     string // path that tells who we are
	tables *yaml.Node
	notes  []string
}

func (d *drafting) open(format string, args ...any) {
	d.notes = append(d.notes, fmt.Sprintf(format, args...))
}

// complete fills in what was not said, from the document where there is one.
func (d *drafting) complete() error {
	w := &d.wish
	w.Feeds = append([]Feed{}, w.Feeds...)
	if strings.TrimSpace(w.OpenAPI) != "" {
		if err := d.fromOpenAPI(); err != nil {
			return err
		}
	}
	for to, otherwise := range map[*string]string{&w.Title: strings.ReplaceAll(w.Code, "-", " "), &w.Side: "channel", &w.Way: "token"} {
		if *to == "" {
			*to = otherwise
		}
	}
	for _, f := range w.Feeds {
		if shapes[f.Kind] == nil {
			return fmt.Errorf("%q is no feed that comes in; there are: %s", f.Kind, message.FeedList(kindsIn))
		}
	}
	if w.Way == "files" && len(w.Feeds) == 0 {
		return fmt.Errorf("which files come in? Say a feed, such as %q", message.OrdersIn)
	}
	return nil
}

// written is the text, once it passes the check.
func (d *drafting) written(root *yaml.Node) (Draft, error) {
	var out bytes.Buffer
	enc := yaml.NewEncoder(&out)
	enc.SetIndent(2)
	if err := enc.Encode(root); err != nil {
		return Draft{}, err
	}
	lib, err := connector.BuiltIn()
	if err != nil {
		return Draft{}, err
	}
	if lib[d.wish.Code] != nil {
		return Draft{}, fmt.Errorf("there is a connector %q already; choose another code", d.wish.Code)
	}
	if _, err := connector.Load(d.wish.Code+".yaml", out.Bytes(), lib); err != nil {
		return Draft{}, err
	}
	if d.notes == nil {
		d.notes = []string{}
	}
	return Draft{Text: out.String(), Open: d.notes}, nil
}

// access says how we are let in.
func (d *drafting) access() *yaml.Node {
	w := d.wish
	a := mapping("way", text(w.Way))
	field := func(name, label string, secret bool) *yaml.Node {
		f := mapping("name", text(name), "label", text(label))
		if secret {
			put(f, "secret", &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!bool", Value: "true"})
		}
		f.Style = yaml.FlowStyle
		return f
	}
	fields := func(list ...*yaml.Node) { put(a, "fields", sequence(list...)) }
	switch w.Way {
	case "token":
		fields(field("token", "Token", true))
		if w.Header == "" || strings.EqualFold(w.Header, "Authorization") {
			put(a, "send", mapping("Authorization", text(`"Bearer " + secret.token`)))
		} else {
			put(a, "send", mapping(w.Header, text("secret.token")))
		}
	case "key":
		fields(field("key", "Key", true))
		place := "send"
		if d.way.inQuery {
			place = "query"
		}
		put(a, place, mapping(or(w.Header, "X-Key"), text("secret.key")))
	case "password":
		fields(field("user", "Name", false), field("password", "Password", true))
		put(a, "basic", mapping("name", text("secret.user"), "password", text("secret.password")))
	case "client", "consent":
		fields(field("client", "Client", false), field("client_secret", "Secret of the client", true))
		put(a, "oauth", d.oauth())
	case "files":
		fields(field("user", "Name", false), field("password", "Password", true),
			field("host_key", "Fingerprint of the host's key", false))
		put(a, "sftp", mapping("user", text("secret.user"), "password", text("secret.password"), "host_key", text("secret.host_key")))
	case "inbound":
		given := field("key", "Key that we hand out", true)
		put(given, "give", &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!bool", Value: "true"})
		fields(given)
	}
	put(a, "steps", sequence(text("Say here how a person gets these.")))
	d.open("access.steps: how a person gets the credentials")
	return a
}

// oauthWay is what a document says of how we are let in.
type oauthWay struct {
	inQuery          bool
	authorize, token string
	scopes           []string
}

func (d *drafting) oauth() *yaml.Node {
	o := mapping()
	if d.wish.Way == "client" {
		put(o, "grant", text("client"))
	} else {
		put(o, "authorize", text(or(d.way.authorize, "/authorize")))
	}
	put(o, "token", text(or(d.way.token, "/token")))
	if d.way.token == "" {
		d.open("access.oauth: the addresses of the consent page and of the tokens")
	}
	if len(d.way.scopes) > 0 {
		var list []*yaml.Node
		for _, s := range d.way.scopes {
			list = append(list, text(s))
		}
		put(o, "scopes", sequence(list...))
	}
	put(o, "client_id", text("secret.client"))
	put(o, "client_secret", text("secret.client_secret"))
	return o
}

// calls asks who we are there: the first thing that is tried.
func (d *drafting) calls() *yaml.Node {
	if d.me == "" {
		d.open("calls.identity: a harmless request that tells who we are there; its name and number are shown to a person")
	}
	call := mapping(
		"request",
		mapping("method", text("GET"), "path", text(or(d.me, "/"))),
		"map",
		mapping("name", text("first([body.name, body.title, "+quoted(d.wish.Title)+"])"), "number",
			text(`first([body.id, body.number, "-"])`)),
	)
	return mapping("identity", call)
}

// mapping makes a mapping of keys and values.
func mapping(pairs ...any) *yaml.Node {
	n := &yaml.Node{Kind: yaml.MappingNode}
	for i := 0; i+1 < len(pairs); i += 2 {
		put(n, pairs[i].(string), pairs[i+1].(*yaml.Node))
	}
	return n
}

func put(n *yaml.Node, key string, value *yaml.Node) { n.Content = append(n.Content, text(key), value) }

// marked is a value that a person has to look at.
func marked(value *yaml.Node, comment string) *yaml.Node {
	value.LineComment = comment
	return value
}

func sequence(list ...*yaml.Node) *yaml.Node {
	return &yaml.Node{Kind: yaml.SequenceNode, Content: list}
}

func text(s string) *yaml.Node {
	n := &yaml.Node{}
	n.SetString(s)
	return n
}

// quoted is a text as expressions write it.
func quoted(s string) string { return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"` }

func or(s, otherwise string) string {
	if s == "" {
		return otherwise
	}
	return s
}
