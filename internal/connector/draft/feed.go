package draft

import (
	"fmt"

	"go.yaml.in/yaml/v3"

	"openrelay/internal/core/message"
)

// reading is how a list is asked for, and what is known of its records.
type reading struct {
	next     *yaml.Node
	query    *yaml.Node
	since    string // parameter that takes the moment from which on records are wanted
	currency string // expression of their currency
	states   []string
}

// feed writes how records of a kind come in.
func (d *drafting) feed(f Feed) (*yaml.Node, error) {
	format, items, list, err := sampled(f.Sample)
	if err != nil {
		return nil, err
	}
	first := record{expr: "item", fields: map[string]any{}}
	if len(list) > 0 {
		first.fields = list[0]
	} else {
		d.open("%s: no sample was given, so nothing is mapped yet", f.Kind)
	}
	how := d.read[f.Kind]
	how.learn(first, list, f.Kind)
	d.keep(how)

	out := mapping()
	idExpr, _ := first.field("id", scalar)
	if idExpr == "" {
		idExpr = "item.id"
		d.open("%s.id: what tells records apart", f.Kind)
	}
	put(out, "id", text(idExpr))
	changed, seen := first.field("changed_at", scalar)
	if changed != "" {
		if m := d.moment(changed, seen, f.Kind, "version"); m != nil {
			put(out, "version", m)
		}
	}
	switch {
	case d.wish.Way == "inbound":
		put(out, "topic", text(string(f.Kind)))
		d.open("%s.topic: the topic of its events, and push.topic: where an event says it", f.Kind)
	case d.wish.Way == "files":
		put(out, "read", d.readFiles(f, format, items))
	default:
		put(out, "read", d.readList(f, format, items, changed, seen, how))
	}
	put(out, "map", d.mapped(shapes[f.Kind], first, f.Kind, ""))
	return out, nil
}

// keep remembers what is known of the records of the feed that is being written.
func (d *drafting) keep(how reading) {
	if d.read == nil {
		d.read = map[message.Feed]reading{}
	}
	d.read[currencyOf] = how
}

// learn looks at records for their currency and their states.
func (how *reading) learn(first record, list []map[string]any, kind message.Feed) {
	how.currency = ""
	if expr, _ := first.field("currency", scalar); expr != "" {
		how.currency = expr
	}
	name := "status"
	if kind == message.TrackingIn {
		name = "state"
	}
	for _, m := range list {
		if _, v := (record{expr: "item", fields: m}).field(name, scalar); v != nil {
			how.states = append(how.states, fmt.Sprint(v))
		}
	}
}

func (d *drafting) readList(f Feed, format, items, changed string, seen any, how reading) *yaml.Node {
	request := mapping("method", text("GET"), "path", text(or(f.Path, "/"+plain(string(f.Kind[:len(f.Kind)-len(" in")])))))
	if f.Path == "" {
		d.open("%s.read.request.path: where they are listed", f.Kind)
	}
	if format == "xml" || format == "csv" {
		put(request, "format", formatOf(format, f.Sample))
	}
	read := mapping("every", text("1m"), "request", request)
	if items != "" {
		put(read, "items", text(items))
	}
	if how.next != nil {
		put(read, "next", how.next)
	} else {
		d.open("%s.read.next: how further pages are asked for; only one is read", f.Kind)
	}
	query := how.query
	if how.since != "" && changed != "" {
		if query == nil {
			query = mapping()
		}
		put(query, how.since, text("mark"))
		put(read, "mark", text(changed))
		if unixTime.MatchString(fmt.Sprint(seen)) {
			put(read, "begin", text(`written(since, "unix", "")`))
		}
	} else {
		d.open("%s.read.mark: how only what has changed is asked for; everything is read each time", f.Kind)
	}
	if query != nil {
		put(request, "query", query)
	}
	return read
}

func (d *drafting) readFiles(f Feed, format, items string) *yaml.Node {
	read := mapping("every", text("10s"), "files", mapping("folder", text(or(f.Path, "out")), "name", text("*")))
	if format != "" {
		put(read, "format", formatOf(format, f.Sample))
	}
	if items != "" {
		put(read, "items", text(items))
	}
	d.open("%s.read.files: the folder and the names of the files", f.Kind)
	return read
}

// formatOf is the form of an answer or file, as its sample shows it.
func formatOf(format, sample string) *yaml.Node {
	form := mapping("answer", text(format))
	if format == "csv" {
		put(form, "separator", text(separator(sample)))
	}
	return form
}
