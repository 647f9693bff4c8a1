package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"

	"openrelay/internal/client"
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
