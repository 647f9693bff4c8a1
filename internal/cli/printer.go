package cli

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"reflect"
	"text/tabwriter"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/core/money"
)

// rows says how much of a list is wanted.
type rows struct {
	limit int64
	all   bool
}

// flags adds -limit and -all to a command.
func (r *rows) flags(f *flag.FlagSet) {
	r.all = false
	f.Int64Var(&r.limit, "limit", 50, "`rows` at most")
	f.BoolVar(&r.all, "all", false, "all rows, however many there are")
}

// flagsOf adds them to one verb of a noun.
func (r *rows) flagsOf(f *flag.FlagSet, verb string) {
	r.all = false
	f.Int64Var(&r.limit, "limit", 50, verb+": `rows` at most")
	f.BoolVar(&r.all, "all", false, verb+": all rows, however many there are")
}

// page is how many rows are asked for at once.
const page = 200

// listed reads a list of the service page by page, until what is wanted is there, and tells whether there is more.
func listed[T any](ctx context.Context, c *client.Client, path, filter string, want *rows) (list []T, more bool, err error) {
	if !want.all && want.limit < 1 {
		return nil, false, usage{fmt.Sprintf("-limit %d: at least 1 is expected", want.limit)}
	}
	size := int64(page)
	if !want.all {
		size = min(size, want.limit)
	}
	query := filter
	if query != "" {
		query += "&"
	}
	query += fmt.Sprintf("limit=%d", size)
	for {
		var part []T
		next, err := c.Do(ctx, http.MethodGet, path+"?"+query, nil, &part)
		if err != nil {
			return nil, false, err
		}
		list = append(list, part...)
		if !want.all && int64(len(list)) >= want.limit {
			return list[:want.limit], next != "" || int64(len(list)) > want.limit, nil
		}
		if next == "" || len(part) == 0 {
			return list, false, nil
		}
		query = next
	}
}

// cut says, beside the list, that there is more of it.
func (p *printer) cut(shown int, more bool) {
	if more {
		p.say("%d shown; there are more: -limit for so many, -all for all", shown)
	}
}

// say tells something that is no part of what a program reads.
func (p *printer) say(format string, args ...any) {
	if p.err != nil {
		fmt.Fprintf(p.err, format+"\n", args...)
	}
}

// heading says, above a table for people, what it is about.
func (p *printer) heading(text string) {
	if !p.json {
		fmt.Fprintln(p.w, text)
	}
}

// told says in a sentence what was done, or prints it as JSON.
func (p *printer) told(v any, format string, args ...any) error {
	return p.show(v, func(row func(...any)) { row(fmt.Sprintf(format, args...)) })
}

// printer prints a table for people or JSON for programs.
type printer struct {
	w    io.Writer
	err  io.Writer // what is no part of the answer
	json bool
}

func printJSON(w io.Writer, v any) error {
	enc := json.NewEncoder(w)
	enc.SetIndent("", "  ")
	return enc.Encode(v)
}

// show prints v as JSON, or lets table write it.
func (p *printer) show(v any, table func(row func(cells ...any))) error {
	if p.json {
		return printJSON(p.w, v)
	}
	t := tabwriter.NewWriter(p.w, 0, 4, 2, ' ', 0)
	table(func(cells ...any) {
		for i, c := range cells {
			if i > 0 {
				fmt.Fprint(t, "\t")
			}
			switch x := c.(type) {
			case *time.Time:
				if x != nil {
					fmt.Fprint(t, x.Local().Format("2006-01-02 15:04:05"))
				}
			default:
				fmt.Fprint(t, x)
			}
		}
		fmt.Fprintln(t)
	})
	return t.Flush()
}

// list shows a list under its heads; of an empty one it says what that means.
func (p *printer) list(v any, empty string, heads []any, table func(row func(cells ...any))) error {
	if list := reflect.ValueOf(v); list.Len() == 0 && !p.json {
		fmt.Fprintln(p.w, empty)
		return nil
	}
	return p.show(v, func(row func(...any)) {
		row(heads...)
		table(row)
	})
}

func amount(minor int64, currency string) string {
	if currency == "" {
		return ""
	}
	return money.Amount{Minor: minor, Currency: currency}.String()
}

func query(pairs ...string) string {
	q := url.Values{}
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] != "" && pairs[i+1] != "0" {
			q.Set(pairs[i], pairs[i+1])
		}
	}
	return q.Encode()
}
