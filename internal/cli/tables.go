package cli

import (
	"context"
	"flag"
	"fmt"
	"slices"

	"openrelay/internal/client"
)

// table is a setting that is a list of rows, told and changed row by row on the command line.
type table[T any] struct {
	path  string   // of the API
	about string   // what the rows are, in the plural
	keys  string   // how a row is named on the command line, such as CARRIER PLACE
	named int      // how many words that is
	heads []string // of what is shown
	line  func(row T) []any
	// same tells whether a row is the one that is named.
	same func(row T, named []string) bool
	// flags are those of put, which fill row in; make finishes it.
	flags func(f *flag.FlagSet, row *T)
	make  func(row *T, named []string) error
}

// command is a noun with the verbs list, put and remove.
func (t table[T]) command(name, about string) command {
	var fresh T
	return of(name, about,
		noun("list", "", "List "+t.about, 0, 0, nil, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
			rows, err := client.Rows[T](ctx, c, t.path)
			return t.show(p, rows, err)
		}),
		noun("put", t.keys, "Add a row, or replace the one of the same name", t.named, t.named,
			func(f *flag.FlagSet) { t.flags(f, &fresh) },
			func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				return t.put(ctx, c, p, fresh, a)
			}),
		noun("remove", t.keys, "Remove a row", t.named, t.named, nil, t.remove))
}

func (t table[T]) show(p *printer, rows []T, err error) error {
	if err != nil {
		return err
	}
	return p.show(rows, func(row func(...any)) {
		heads := make([]any, len(t.heads))
		for i, h := range t.heads {
			heads[i] = h
		}
		row(heads...)
		for _, r := range rows {
			row(t.line(r)...)
		}
		if len(rows) == 0 {
			row("none")
		}
	})
}

func (t table[T]) put(ctx context.Context, c *client.Client, p *printer, row T, named []string) error {
	rows, err := client.Rows[T](ctx, c, t.path)
	if err != nil {
		return err
	}
	if err := t.make(&row, named); err != nil {
		return err
	}
	if at := t.find(rows, named); at >= 0 {
		rows[at] = row
	} else {
		rows = append(rows, row)
	}
	rows, err = client.PutRows(ctx, c, t.path, rows)
	return t.show(p, rows, err)
}

func (t table[T]) remove(ctx context.Context, c *client.Client, p *printer, named []string) error {
	rows, err := client.Rows[T](ctx, c, t.path)
	if err != nil {
		return err
	}
	at := t.find(rows, named)
	if at < 0 {
		return fmt.Errorf("%v: there is no such row", named)
	}
	rows, err = client.PutRows(ctx, c, t.path, slices.Delete(rows, at, at+1))
	return t.show(p, rows, err)
}

func (t table[T]) find(rows []T, named []string) int {
	return slices.IndexFunc(rows, func(r T) bool { return t.same(r, named) })
}
