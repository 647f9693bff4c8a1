package draft

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"go.yaml.in/yaml/v3"

	"openrelay/internal/core/message"
)

// fromOpenAPI fills in what a document says: where the system is reached, how it lets us in, what it lists, and what it takes.
func (d *drafting) fromOpenAPI() error {
	loader := openapi3.NewLoader() // references to other files and hosts are not followed
	doc, err := loader.LoadFromData([]byte(d.wish.OpenAPI))
	if err != nil {
		return fmt.Errorf("the OpenAPI document: %w", err)
	}
	if doc.Paths == nil || doc.Paths.Len() == 0 {
		return fmt.Errorf("the OpenAPI document: it has no paths; one of OpenAPI 3 is expected")
	}
	w := &d.wish
	if w.Title == "" && doc.Info != nil {
		w.Title = doc.Info.Title
	}
	if w.Address == "" && len(doc.Servers) > 0 && strings.HasPrefix(doc.Servers[0].URL, "http") {
		w.Address = strings.TrimRight(doc.Servers[0].URL, "/")
	}
	if w.Way == "" {
		d.letIn(doc)
	}
	d.read = map[message.Feed]reading{}
	paths := doc.Paths.Map()
	for _, path := range slices.SortedFunc(maps.Keys(paths), shorter) {
		if get := paths[path].Get; get != nil {
			d.listed(path, get)
		}
		for _, method := range []string{http.MethodPut, http.MethodPatch, http.MethodPost} {
			if op := paths[path].GetOperation(method); op != nil {
				d.taken(method, path, op)
			}
		}
	}
	return nil
}

// shorter sorts paths: those with fewer parts first.
func shorter(a, b string) int {
	if c := strings.Count(a, "/") - strings.Count(b, "/"); c != 0 {
		return c
	}
	return strings.Compare(a, b)
}

// letIn reads the first way of letting in that is known here.
func (d *drafting) letIn(doc *openapi3.T) {
	if doc.Components == nil {
		return
	}
	w := &d.wish
	for _, name := range slices.Sorted(maps.Keys(doc.Components.SecuritySchemes)) {
		s := doc.Components.SecuritySchemes[name].Value
		switch {
		case s == nil:
		case s.Type == "http" && strings.EqualFold(s.Scheme, "bearer"):
			w.Way = "token"
		case s.Type == "http" && strings.EqualFold(s.Scheme, "basic"):
			w.Way = "password"
		case s.Type == "apiKey" && (s.In == "header" || s.In == "query"):
			w.Way, w.Header, d.way.inQuery = "key", s.Name, s.In == "query"
		case s.Type == "oauth2" && s.Flows != nil && s.Flows.AuthorizationCode != nil:
			f := s.Flows.AuthorizationCode
			w.Way, d.way.authorize, d.way.token, d.way.scopes = "consent", f.AuthorizationURL, f.TokenURL, slices.Sorted(
				maps.Keys(f.Scopes))
		case s.Type == "oauth2" && s.Flows != nil && s.Flows.ClientCredentials != nil:
			f := s.Flows.ClientCredentials
			w.Way, d.way.token, d.way.scopes = "client", f.TokenURL, slices.Sorted(maps.Keys(f.Scopes))
		}
		if w.Way != "" {
			return
		}
	}
}

// nouns are the last words of paths under which records of a kind are listed.
var nouns = map[message.Feed][]string{
	message.OrdersIn:    {"orders", "sales", "sales_orders", "purchases"},
	message.ListingsIn:  {"listings", "products", "offers", "articles", "items", "variants"},
	message.CustomersIn: {"customers", "buyers", "contacts"},
	message.StockIn:     {"stock", "stocks", "inventory", "inventory_levels", "levels", "quantities", "stock_levels"},
	message.ReturnsIn:   {"returns", "refunds", "return_requests"},
	message.TrackingIn:  {"tracking", "tracking_events", "events", "scans"},
}

// ofSide are the feeds that a side may have for us.
func (d *drafting) ofSide(kind message.Feed) message.Feed {
	switch side := d.wish.Side; {
	case kind == message.ListingsIn && side == "back office":
		return message.ItemsIn
	case kind == message.TrackingIn && side != "carrier" && side != "courier":
		return ""
	}
	return kind
}

func kindOf(path string) message.Feed {
	last := plain(path[strings.LastIndex(path, "/")+1:])
	for _, kind := range slices.Sorted(maps.Keys(nouns)) {
		if slices.Contains(nouns[kind], last) {
			return kind
		}
	}
	return ""
}

// listed takes a request over that lists records of a kind, where that kind has none yet.
func (d *drafting) listed(path string, get *openapi3.Operation) {
	answer := jsonOf(get)
	if answer == nil {
		return
	}
	sample := sampleOf(answer, 0)
	kind := d.ofSide(kindOf(path))
	if kind == "" && len(recordsOf(sample)) == 0 && isWho(path) && d.me == "" {
		d.me = path
	}
	if kind == "" || strings.Contains(path, "{") || slices.ContainsFunc(d.wish.Feeds, func(f Feed) bool { return f.Kind == kind }) {
		return
	}
	raw, err := json.Marshal(sample)
	if err != nil {
		return
	}
	if _, _, list, err := sampled(string(raw)); err != nil || len(list) == 0 {
		return
	}
	d.wish.Feeds = append(d.wish.Feeds, Feed{Kind: kind, Path: path, Sample: string(raw)})
	d.read[kind] = paging(get, sample, statesOf(answer, kind))
}

func isWho(path string) bool {
	return slices.Contains([]string{"me", "account", "whoami", "shop", "profile", "user", "company"}, plain(path[strings.LastIndex(path,
		"/")+1:]))
}

// jsonOf is the form of the JSON that a request answers with when all is well.
func jsonOf(op *openapi3.Operation) *openapi3.Schema {
	if op.Responses == nil {
		return nil
	}
	for _, status := range []string{"200", "2XX", "default"} {
		r := op.Responses.Value(status)
		if r == nil || r.Value == nil {
			continue
		}
		if m := jsonBody(r.Value.Content); m != nil {
			return m
		}
	}
	return nil
}

func jsonBody(c openapi3.Content) *openapi3.Schema {
	for _, kind := range slices.Sorted(maps.Keys(c)) {
		if m := c[kind]; strings.Contains(kind, "json") && m != nil && m.Schema != nil {
			return m.Schema.Value
		}
	}
	return nil
}

// deepest is how deep a made-up sample goes: documents refer to themselves.
const deepest = 7

// sampleOf makes up what a schema describes, of its examples where it has them.
func sampleOf(s *openapi3.Schema, depth int) any {
	switch {
	case s == nil || depth > deepest:
		return nil
	case s.Example != nil:
		return s.Example
	case s.Default != nil:
		return s.Default
	case len(s.Enum) > 0:
		return s.Enum[0]
	}
	props := properties(s)
	switch {
	case len(props) > 0:
		out := map[string]any{}
		for name, p := range props {
			if v := sampleOf(p, depth+1); v != nil {
				out[name] = v
			}
		}
		return out
	case s.Type.Is("array") && s.Items != nil:
		if v := sampleOf(s.Items.Value, depth+1); v != nil {
			return []any{v}
		}
		return []any{}
	case s.Type.Is("integer"):
		return 1
	case s.Type.Is("number"):
		return json.Number("1.50")
	case s.Type.Is("boolean"):
		return true
	case s.Type.Is("string") && s.Format == "date-time":
		return "2026-11-23T07:27:12Z"
	case s.Type.Is("string") && s.Format == "date":
		return "2026-11-23"
	case s.Type.Is("string"):
		return "text"
	}
	return nil
}

// properties are the fields of a schema, with those of what it is made of.
func properties(s *openapi3.Schema) map[string]*openapi3.Schema {
	out := map[string]*openapi3.Schema{}
	add := func(list openapi3.SchemaRefs) {
		for _, part := range list {
			if part != nil && part.Value != nil && part.Value != s {
				maps.Copy(out, properties(part.Value))
			}
		}
	}
	add(s.AllOf)
	add(s.OneOf[:min(len(s.OneOf), 1)])
	add(s.AnyOf[:min(len(s.AnyOf), 1)])
	for name, ref := range s.Properties {
		if ref != nil && ref.Value != nil {
			out[name] = ref.Value
		}
	}
	return out
}

// statesOf are the states that a document lists for the records of a kind.
func statesOf(s *openapi3.Schema, kind message.Feed) (out []string) {
	name := "status"
	if kind == message.TrackingIn {
		name = "state"
	}
	var walk func(s *openapi3.Schema, depth int)
	walk = func(s *openapi3.Schema, depth int) {
		if s == nil || depth > deepest || out != nil {
			return
		}
		props := properties(s)
		for _, key := range slices.Sorted(maps.Keys(props)) {
			if rankOf(name, []string{plain(key)}) < len(called[name]) && len(props[key].Enum) > 0 {
				for _, v := range props[key].Enum {
					out = append(out, fmt.Sprint(v))
				}
				return
			}
		}
		for _, key := range slices.Sorted(maps.Keys(props)) {
			walk(props[key], depth+1)
		}
		if s.Items != nil {
			walk(s.Items.Value, depth+1)
		}
	}
	walk(s, 0)
	return out
}

// paging reads from the parameters of a request how further pages and only what has changed are asked for.
func paging(op *openapi3.Operation, sample any, states []string) reading {
	how := reading{states: states}
	params := map[string]*openapi3.Parameter{}
	for _, ref := range op.Parameters {
		if ref.Value != nil && ref.Value.In == "query" {
			params[plain(ref.Value.Name)] = ref.Value
		}
	}
	find := func(names ...string) *openapi3.Parameter {
		for _, n := range names {
			if p := params[n]; p != nil {
				return p
			}
		}
		return nil
	}
	if p := find("updated_since", "changed_since", "modified_since", "updated_after", "modified_after", "updated_at_min", "since",
		"from"); p != nil {
		how.since = p.Name
	}
	size := find("limit", "per_page", "page_size", "size", "take", "count")
	full, sizes := int64(50), mapping()
	if size != nil {
		if size.Schema != nil && size.Schema.Value != nil && size.Schema.Value.Max != nil {
			full = min(int64(*size.Schema.Value.Max), 250)
		}
		sizes = mapping("size", number(full), "size_as", text(size.Name))
	}
	page, offset, cursor := find("page", "page_number"), find("offset", "skip"), find("cursor", "page_token", "after", "starting_after")
	told := cursorIn(sample)
	switch {
	case cursor != nil && told != "":
		how.next = mapping("cursor", text("body."+told), "param", text(cursor.Name))
	case page != nil && size != nil:
		how.next = mapping("page", text(page.Name), "first", number(1))
	case offset != nil && size != nil:
		how.next = mapping("offset", text(offset.Name))
	}
	if how.next != nil && size != nil && told == "" {
		how.next.Content = append(how.next.Content, sizes.Content...)
	}
	return how
}

func number(n int64) *yaml.Node {
	return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!int", Value: strconv.FormatInt(n, 10)}
}

// cursorIn is where an answer tells what the next page is asked for with.
func cursorIn(sample any) string {
	root, _ := sample.(map[string]any)
	for _, key := range slices.Sorted(maps.Keys(root)) {
		if word := plain(key); nameOfKey.MatchString(key) &&
			(strings.Contains(word, "cursor") || word == "next" || word == "next_page_token") {
			return key
		}
		if inner, ok := root[key].(map[string]any); ok && nameOfKey.MatchString(key) {
			if deeper := cursorIn(inner); deeper != "" && len(recordsOf(inner[deeper])) == 0 {
				return key + "." + deeper
			}
		}
	}
	return ""
}

// sending is a request by which something of ours is told.
type sending struct {
	kind         message.Feed
	method, path string
	body         *yaml.Node
}

func (s sending) node() *yaml.Node {
	request := mapping("method", text(s.method), "path", text(s.path))
	if s.body != nil && len(s.body.Content) > 0 {
		put(request, "body", s.body)
	}
	return mapping("send", mapping("request", request))
}

// told are the fields of ours that a request may be told, by the words that others use.
var told = map[message.Feed]map[string]string{
	message.StockOut: {"quantity": "msg.quantity", "sku": "msg.sku", "listing": "msg.outside_id", "id": "msg.outside_id"},
	message.DispatchOut: {"tracking": "msg.tracking", "carrier": "msg.carrier", "service": "msg.service", "url": "msg.tracking_url",
		"order_id": "msg.order_id", "order_number": "msg.order_number", "reference": "msg.reference",
		"shipped_at": `written(msg.shipped_at, "rfc3339", "")`},
}

// takenBy are words in paths under which things of ours are told.
var takenBy = map[message.Feed]*regexp.Regexp{
	message.StockOut:    regexp.MustCompile(`(?i)(stock|inventory|quantit|levels?)(/\{[^}]+\})?$`),
	message.DispatchOut: regexp.MustCompile(`(?i)(shipments?|fulfil+ments?|dispatch(es)?|parcels?|tracking)$`),
}

var param = regexp.MustCompile(`\{([^}]+)\}`)

// taken takes a request over by which something of ours can be told, where that has none yet.
func (d *drafting) taken(method, path string, op *openapi3.Operation) {
	for _, kind := range []message.Feed{message.StockOut, message.DispatchOut} {
		if !takenBy[kind].MatchString(path) || slices.ContainsFunc(d.sends, func(s sending) bool { return s.kind == kind }) {
			continue
		}
		if d.wish.Side != "" && d.wish.Side != "channel" {
			continue
		}
		s := sending{kind: kind, method: method, body: mapping()}
		s.path = param.ReplaceAllStringFunc(path, func(p string) string {
			if kind == message.DispatchOut {
				return "{msg.order_id}"
			}
			return "{msg.outside_id}"
		})
		if op.RequestBody != nil && op.RequestBody.Value != nil {
			if body := jsonBody(op.RequestBody.Value.Content); body != nil {
				s.body = d.bodyOf(kind, body, 0)
			}
		}
		d.open("%s: whether %s %s is the right request, and what it is told", kind, method, path)
		d.sends = append(d.sends, s)
		return
	}
}

// bodyOf writes a body with what of ours its fields seem to want.
func (d *drafting) bodyOf(kind message.Feed, s *openapi3.Schema, depth int) *yaml.Node {
	out := mapping()
	props := properties(s)
	for _, key := range slices.Sorted(maps.Keys(props)) {
		best, expr := 1<<30, ""
		for _, ours := range slices.Sorted(maps.Keys(told[kind])) {
			if rank := rankOf(ours, []string{plain(key)}); rank < best {
				best, expr = rank, told[kind][ours]
			}
		}
		inner := props[key]
		switch {
		case expr != "" && len(properties(inner)) == 0 && !inner.Type.Is("array"):
			put(out, key, text(expr))
		case len(properties(inner)) > 0 && depth < 2:
			if n := d.bodyOf(kind, inner, depth+1); len(n.Content) > 0 {
				put(out, key, n)
			}
		case slices.Contains(s.Required, key):
			put(out, key, marked(text(`""`), "what does it want?"))
			d.open("%s.send.request.body: it wants %q", kind, key)
		}
	}
	return out
}
