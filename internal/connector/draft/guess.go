package draft

import (
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
)

// shapes are our messages by the feed that becomes them.
var shapes = map[message.Feed]reflect.Type{
	message.OrdersIn:    reflect.TypeFor[message.Order](),
	message.ListingsIn:  reflect.TypeFor[message.Listing](),
	message.ItemsIn:     reflect.TypeFor[message.Item](),
	message.CustomersIn: reflect.TypeFor[message.Customer](),
	message.StockIn:     reflect.TypeFor[message.StockLevel](),
	message.DispatchIn:  reflect.TypeFor[message.Dispatch](),
	message.TrackingIn:  reflect.TypeFor[message.Tracking](),
	message.ReturnsIn:   reflect.TypeFor[message.Return](),
	message.ReceiptsIn:  reflect.TypeFor[message.Receipt](),
	message.RequestsIn:  reflect.TypeFor[message.RequestState](),
	message.BillsIn:     reflect.TypeFor[message.BillLine](),
}

var kindsIn = slices.Sorted(maps.Keys(shapes))

// called are words by which others call our fields, the likeliest first. Of a word of two, as in ship_name, each may be of a record
// around it: ship.name.
var called = map[string][]string{
	"taken":  {"taken", "accepted", "ok", "success"},
	"id":     {"id", "line_id", "no", "number", "uid", "key", "row", "position", "pos", "line", "line_no", "nr", "n"},
	"number": {"number", "order_number", "no", "order_no", "name", "reference", "ref", "id", "order_id"},
	"sku": {
		"sku",
		"article",
		"article_number",
		"item_number",
		"product_code",
		"item_code",
		"code",
		"variant_sku",
		"product_id",
	},
	"title":        {"title", "name", "description", "product_name", "text", "label"},
	"name":         {"name", "full_name", "title", "recipient", "customer_name", "label"},
	"quantity":     {"quantity", "qty", "amount", "count", "stock", "units", "pieces", "available", "on_hand", "level"},
	"unit_price":   {"unit_price", "price", "price_each", "each", "item_price", "amount"},
	"price":        {"price", "unit_price", "sale_price", "amount"},
	"total":        {"total", "total_price", "grand_total", "sum", "order_total", "line_total", "total_amount", "amount"},
	"currency":     {"currency", "currency_code"},
	"state":        {"status", "state", "order_status", "event", "code"},
	"status":       {"status", "state", "order_status", "fulfillment_status"},
	"placed_at":    {"placed_at", "created_at", "created", "ordered_at", "order_date", "date", "purchase_date", "placed"},
	"changed_at":   {"changed_at", "updated_at", "updated", "modified_at", "modified", "changed", "last_modified", "last_updated"},
	"at":           {"at", "time", "timestamp", "date", "occurred_at", "updated_at", "created_at"},
	"announced_at": {"announced_at", "created_at", "requested_at", "date"},
	"shipped_at":   {"shipped_at", "sent_at", "dispatched_at", "ship_date", "date", "created_at"},
	"buyer_name":   {"buyer_name", "customer_name", "buyer", "customer"},
	"buyer_email":  {"buyer_email", "customer_email", "email", "contact_email"},
	"ship_to": {
		"ship_to",
		"shipping_address",
		"delivery_address",
		"shipping",
		"delivery",
		"recipient",
		"deliver_to",
		"address",
		"to",
	},
	"address":           {"address", "default_address", "addresses", "billing_address"},
	"lines":             {"lines", "items", "line_items", "order_items", "rows", "positions", "products", "articles", "entries"},
	"shipping":          {"shipping", "shipping_cost", "shipping_price", "delivery_fee", "freight", "postage", "shipping_total"},
	"discount":          {"discount", "discount_total", "discounts", "rebate", "total_discount"},
	"tax":               {"tax", "tax_total", "vat", "total_tax", "taxes"},
	"payment":           {"payment", "payment_method", "pay", "payment_type"},
	"note":              {"note", "notes", "comment", "remark", "customer_note", "buyer_note"},
	"requested_service": {"requested_service", "shipping_method", "delivery_method", "service", "ship_method"},
	"url":               {"url", "link", "permalink", "href", "web_url"},
	"company":           {"company", "company_name", "organisation", "organization", "firm"},
	"street":            {"street", "address1", "address_1", "line1", "line_1", "street1", "address", "street_address", "address_line_1"},
	"street2":           {"street2", "address2", "address_2", "line2", "line_2", "address_line_2"},
	"postcode":          {"postcode", "zip", "postal_code", "zip_code", "plz", "post_code"},
	"town":              {"town", "city", "place", "locality"},
	"region":            {"region", "state", "province", "county"},
	"country":           {"country", "country_code", "land"},
	"phone":             {"phone", "telephone", "tel", "mobile", "phone_number"},
	"email":             {"email", "mail", "e_mail", "email_address"},
	"gtin":              {"gtin", "ean", "barcode", "upc", "isbn", "gtin13"},
	"category":          {"category", "product_type", "type", "department"},
	"live":              {"live", "active", "published", "enabled", "visible", "available"},
	"weight_g":          {"weight_g", "grams", "weight_grams", "weight"},
	"tracking":          {"tracking", "tracking_number", "tracking_no", "number", "shipment_number", "parcel_number"},
	"carrier":           {"carrier", "carrier_name", "shipping_company", "courier"},
	"service":           {"service", "method", "product"},
	"order_id":          {"order_id", "order", "order_ref"},
	"order_number":      {"order_number", "order_no", "order_name", "order_ref"},
	"reference":         {"reference", "id", "shipment_id", "number", "ref"},
	"reason":            {"reason", "cause", "comment", "note"},
	"text":              {"text", "description", "message", "note"},
	"location":          {"location", "warehouse", "location_id", "place", "store"},
	"listing":           {"listing", "listing_id", "product_id", "variant_id"},
	"description":       {"description", "body", "long_text", "html"},
}

// money are fields in minor units of a currency.
var money = map[string]bool{"unit_price": true, "price": true, "total": true, "shipping": true, "discount": true, "tax": true}

// plain is a word as it is compared: small letters, words apart by _.
func plain(word string) string {
	word = camel.ReplaceAllString(word, "${1}_$2")
	return strings.Trim(notWord.ReplaceAllString(strings.ToLower(word), "_"), "_")
}

var camel = regexp.MustCompile(`([a-z0-9])([A-Z])`)

var notWord = regexp.MustCompile(`[^a-z0-9]+`)

// record is a record of theirs, with the expression that stands for it.
type record struct {
	expr   string
	fields map[string]any
	path   []string // of the records it lies in
}

// field finds what is called like a field of ours: its expression and its value. What is directly in the record goes before what is
// in a record of it.
func (r record) field(name string, fits func(any) bool) (string, any) {
	best, expr, value := 1<<30, "", any(nil)
	var walk func(at string, m map[string]any, words []string)
	walk = func(at string, m map[string]any, words []string) {
		for _, key := range slices.Sorted(maps.Keys(m)) {
			v, inner := m[key], append(slices.Clone(words), plain(key))
			if fits(v) {
				if rank := rankOf(name, inner); rank < best {
					best, expr, value = rank, member(at, key), v
				}
			}
			if deeper, ok := v.(map[string]any); ok && len(words) < 2 {
				walk(member(at, key), deeper, inner)
			}
		}
	}
	walk(r.expr, r.fields, nil)
	return expr, value
}

// rankOf tells how likely a field with these words, the outermost first, is one of ours; the smaller, the likelier.
func rankOf(name string, words []string) int {
	const never = 1 << 30
	last := words[len(words)-1]
	for i, w := range called[name] {
		switch {
		case last == w:
			return i + 20*(len(words)-1)
		case len(words) > 1 && words[len(words)-2]+"_"+last == w:
			return i + 5
		}
	}
	if last == name {
		return 20 * (len(words) - 1)
	}
	return never
}

var nameOfKey = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// member is the expression of a record's field.
func member(at, key string) string {
	if nameOfKey.MatchString(key) {
		return at + "." + key
	}
	return at + "[" + quoted(key) + "]"
}

func scalar(v any) bool {
	switch v.(type) {
	case string, int64, bool, json.Number, float64:
		return true
	}
	return false
}

// mapped writes the mapping of a message of a form. Needed fields that nothing seems to be are left open.
func (d *drafting) mapped(t reflect.Type, r record, feed message.Feed, at string) *yaml.Node {
	out := mapping()
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if name == "" || name == "-" {
			continue
		}
		where := strings.TrimPrefix(at+"."+name, ".")
		switch {
		case f.Type.Kind() == reflect.Struct && f.Type != reflect.TypeFor[time.Time]():
			expr, v := r.field(name, func(v any) bool { _, ok := v.(map[string]any); return ok })
			if expr != "" {
				inner := record{expr, v.(map[string]any), nil}
				if m := d.mapped(f.Type, inner, feed, where); len(m.Content) > 0 {
					put(out, name, m)
				}
			}
		case f.Type.Kind() == reflect.Slice && f.Type.Elem().Kind() == reflect.Struct:
			if m := d.repeated(f, name, r, feed, where); m != nil {
				put(out, name, m)
			}
		default:
			if n := d.value(f, name, r, feed, where); n != nil {
				put(out, name, n)
			}
		}
	}
	return out
}

// repeated writes the mapping of a list of records, such as the lines of an order.
func (d *drafting) repeated(f reflect.StructField, name string, r record, feed message.Feed, at string) *yaml.Node {
	expr, v := r.field(name, func(v any) bool { return len(recordsOf(v)) > 0 })
	needed := f.Tag.Get("need") == "yes"
	if expr == "" && !needed {
		return nil
	}
	list := recordsOf(v)
	inner := map[string]any{}
	if len(list) > 0 {
		inner = list[0]
	} else {
		d.open("%s.map.%s: which list of the record it is", feed, at)
		expr = "[]"
	}
	if _, single := v.(map[string]any); single {
		expr = "several(" + expr + ")"
	}
	return mapping("each", text(expr), "as", text("line"), "map", d.mapped(f.Type.Elem(), record{expr: "line", fields: inner}, feed, at))
}

// recordsOf are the records of a list; of XML, where one of them cannot be told from a list, the one.
func recordsOf(v any) (out []map[string]any) {
	list, _ := v.([]any)
	for _, el := range list {
		if m, ok := el.(map[string]any); ok {
			out = append(out, m)
		}
	}
	return out
}

// value writes the expression of a field; nil: nothing seems to be it.
func (d *drafting) value(f reflect.StructField, name string, r record, feed message.Feed, at string) *yaml.Node {
	needed, enum := f.Tag.Get("need") == "yes", f.Tag.Get("enum")
	expr, v := r.field(name, scalar)
	if expr == "" {
		if !needed {
			return nil
		}
		d.open("%s.map.%s: nothing in the sample seems to be it", feed, at)
		return marked(text(nothing(f, name)), "where does it stand?")
	}
	switch {
	case name == "status" && f.Type == reflect.TypeFor[message.Status]():
		return d.state(expr, "order_states", orderStates, feed, at)
	case feed == message.TrackingIn && name == "state":
		return d.state(expr, "tracking_states", trackingStates, feed, at)
	case feed == message.RequestsIn && name == "state":
		return d.state(expr, "request_states", requestStates, feed, at)
	case enum != "":
		return nil
	case f.Type == reflect.TypeFor[time.Time]():
		return d.moment(expr, v, feed, at)
	case f.Type.Kind() == reflect.Bool:
		if _, ok := v.(bool); ok {
			return text(expr)
		}
		return nil
	case money[name]:
		return d.money(expr, v, feed, at)
	case f.Type.Kind() == reflect.Int64 && name == "weight_g":
		d.open("%s.map.%s: in which unit it is; we want grams", feed, at)
		return text("number(" + expr + ")")
	case f.Type.Kind() == reflect.Int64:
		if _, ok := v.(int64); ok {
			return text(expr)
		}
		return text("number(" + expr + ")")
	case f.Type.Kind() == reflect.String:
		return text(expr)
	}
	return nil
}

// nothing is what stands for a needed field until a person says where it is.
func nothing(f reflect.StructField, name string) string {
	switch {
	case name == "currency":
		return `"EUR"`
	case name == "status":
		return `"open"`
	case name == "state":
		return `"acknowledged"`
	case f.Type.Kind() == reflect.Int64:
		return "0"
	case f.Type.Kind() == reflect.Bool:
		return "true"
	}
	return `""`
}

// currency is the expression of the currency that amounts of a feed are in.
func (d *drafting) currency() string { return or(d.read[currencyOf].currency, `"EUR"`) }

// currencyOf is where the currency of the feed that is being written is kept.
const currencyOf = message.Feed("")

func (d *drafting) money(expr string, v any, feed message.Feed, at string) *yaml.Node {
	if _, whole := v.(int64); whole {
		d.open("%s.map.%s: a whole number in the sample; it is taken for whole units of the currency. Of minor units, write %s alone",
			feed, at, expr)
	}
	return text("amount(" + expr + ", " + d.currency() + ")")
}

var (
	rfc3339  = regexp.MustCompile(`^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?(Z|[+-]\d\d:\d\d)$`)
	unixTime = regexp.MustCompile(`^\d{10}$`)
	unixMS   = regexp.MustCompile(`^\d{13}$`)
)

// datePatterns are dates without a zone (Unicode Technical Standard 35), by how they look.
var datePatterns = []struct {
	look *regexp.Regexp
	form string
}{
	{regexp.MustCompile(`^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d$`), "yyyy-MM-dd'T'HH:mm:ss"},
	{regexp.MustCompile(`^\d{4}-\d\d-\d\d \d\d:\d\d:\d\d$`), "yyyy-MM-dd HH:mm:ss"},
	{regexp.MustCompile(`^\d{4}-\d\d-\d\d \d\d:\d\d$`), "yyyy-MM-dd HH:mm"},
	{regexp.MustCompile(`^\d{4}-\d\d-\d\d$`), "yyyy-MM-dd"},
	{regexp.MustCompile(`^\d\d\.\d\d\.\d{4} \d\d:\d\d:\d\d$`), "dd.MM.yyyy HH:mm:ss"},
	{regexp.MustCompile(`^\d\d\.\d\d\.\d{4}$`), "dd.MM.yyyy"},
}

// moment writes a time; nil: it looks like none.
func (d *drafting) moment(expr string, v any, feed message.Feed, at string) *yaml.Node {
	looks := fmt.Sprint(v)
	form := ""
	switch {
	case rfc3339.MatchString(looks):
		form = "rfc3339"
	case unixTime.MatchString(looks):
		form = "unix"
	case unixMS.MatchString(looks):
		form = "unix ms"
	}
	for _, p := range datePatterns {
		if form == "" && p.look.MatchString(looks) {
			form = p.form
			d.open("%s.map.%s: the time has no zone; UTC is taken", feed, at)
		}
	}
	if form == "" {
		d.open("%s.map.%s: %q is in no form of a time that is known here", feed, at, looks)
		return nil
	}
	return text(fmt.Sprintf("moment(%s, %s, \"\")", expr, quoted(form)))
}

// word is what a state of theirs, which contains one of several beginnings, means.
type word struct {
	means string
	in    []string
}

var orderStates = []word{
	{"cancelled", []string{"cancel", "refund", "void", "reject", "abort", "storno"}},
	{"shipped", []string{"ship", "sent", "dispatch", "complete", "fulfil", "deliver", "closed", "done", "gone"}},
	{"pending", []string{"pend", "wait", "unpaid", "await", "draft", "hold"}},
	{"open", nil},
}

var trackingStates = []word{
	{"delivered", []string{"delivered", "signed"}},
	{"out for delivery", []string{"out for", "out_for", "courier"}},
	{"returned", []string{"return"}},
	{"accepted", []string{"accept", "register", "created", "received", "label"}},
	{"problem", []string{"fail", "problem", "exception", "lost", "damage"}},
	{"under way", nil},
}

var requestStates = []word{
	{"not called off", []string{"too late", "not cancel", "cannot"}},
	{"called off", []string{"cancel", "called off", "stopped"}},
	{"refused", []string{"refus", "reject", "declin"}},
	{"changed", []string{"chang", "partial", "amend"}},
	{"closed", []string{"clos", "complete", "done"}},
	{"acknowledged", nil},
}

// state writes a state by a table, with those states in it that the sample shows.
func (d *drafting) state(expr, table string, words []word, feed message.Feed, at string) *yaml.Node {
	entries, known := mapping(), map[string]bool{}
	for _, seen := range d.read[currencyOf].states {
		if seen == "" || known[seen] {
			continue
		}
		known[seen] = true
		for _, w := range words {
			if w.in == nil || slices.ContainsFunc(w.in, func(part string) bool { return strings.Contains(strings.ToLower(seen), part) }) {
				put(entries, seen, text(w.means))
				break
			}
		}
	}
	put(d.tables, table, entries)
	d.open("tables.%s: what each state means (%s.map.%s); those that are not in the sample are missing", table, feed, at)
	return text(fmt.Sprintf("lookup(%s, %s)", quoted(table), expr))
}

// sampled takes a sample apart: its format, the path to its records, and the first of them with all of its kind.
func sampled(sample string) (format, items string, list []map[string]any, err error) {
	trimmed := strings.TrimSpace(sample)
	switch {
	case trimmed == "":
		return "", "", nil, nil
	case strings.HasPrefix(trimmed, "<"):
		format = "xml"
	case !strings.HasPrefix(trimmed, "{") && !strings.HasPrefix(trimmed, "["):
		format = "csv"
	default:
		format = "json"
	}
	doc, err := connector.Format{Answer: format, Separator: separator(trimmed)}.Decode([]byte(trimmed))
	if err != nil {
		return format, "", nil, fmt.Errorf("the sample: %w", err)
	}
	items, list = longest(doc)
	if list == nil {
		m, ok := doc.(map[string]any)
		if !ok {
			return format, "", nil, fmt.Errorf("the sample has no record")
		}
		list = []map[string]any{m}
	}
	return format, items, list, nil
}

// separator is that of the columns of a CSV sample.
func separator(sample string) string {
	head, _, _ := strings.Cut(sample, "\n")
	best := ","
	for _, s := range []string{";", "\t", "|"} {
		if strings.Count(head, s) > strings.Count(head, best) {
			best = s
		}
	}
	return best
}

// longest is the outermost list of records of an answer, the longest where there are several; "" and nil: there is none, and the
// answer is the record itself.
func longest(doc any) (path string, list []map[string]any) {
	if list := recordsOf(doc); list != nil {
		return "", list
	}
	type place struct {
		path string
		at   map[string]any
	}
	root, ok := doc.(map[string]any)
	if !ok {
		return "", nil
	}
	level := []place{{"", root}}
	for depth := 0; depth < 3 && len(level) > 0; depth++ {
		var next []place
		for _, p := range level {
			for _, key := range slices.Sorted(maps.Keys(p.at)) {
				at := strings.TrimPrefix(p.path+"."+key, ".")
				if found := recordsOf(p.at[key]); len(found) > len(list) {
					path, list = at, found
				}
				if m, ok := p.at[key].(map[string]any); ok {
					next = append(next, place{at, m})
				}
			}
		}
		if list != nil && !isRecord(root, path) {
			return path, list
		}
		path, list = "", nil
		level = next
	}
	return "", nil
}

// isRecord tells whether a document is a record with a list in it, such as an order with lines, and not an answer with records.
func isRecord(root map[string]any, list string) bool {
	scalars := 0
	for _, v := range root {
		if scalar(v) {
			scalars++
		}
	}
	lines := slices.Contains(called["lines"], plain(list))
	r := record{expr: "item", fields: root}
	id, _ := r.field("id", scalar)
	return lines && scalars >= 3 && id != ""
}
