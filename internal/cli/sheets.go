package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"openrelay/internal/client"
	"openrelay/internal/relay/sheets"
)

type importOptions struct {
	yes, off bool
}

func importCommand() command {
	opt := &importOptions{}
	return noun("import", "KIND FILE", "Look at a CSV file row by row; carry it out with -yes", 2, 2, opt.flags, opt.run)
}

func (opt *importOptions) flags(f *flag.FlagSet) {
	f.BoolVar(&opt.yes, "yes", false, "carry it out")
	f.BoolVar(&opt.off, "all", false, "show all rows, not only those that are refused")
}

func (opt *importOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	f, err := os.Open(a[1])
	if err != nil {
		return err
	}
	defer f.Close()
	s, err := c.HandIn(ctx, a[0], filepath.Base(a[1]), f)
	if err == nil && opt.yes && s.State == "checked" {
		s, err = c.ApplySheet(ctx, s.ID)
	}
	if err != nil {
		return err
	}
	show := "refused"
	if opt.off {
		show = ""
	}
	rows, err := c.SheetRows(ctx, s.ID, query("verdict", show, "limit", "200"))
	if err != nil {
		return err
	}
	return p.show(s, func(row func(...any)) {
		row(fmt.Sprintf("Sheet %d: %s, %s, %d rows, %s", s.ID, s.Kind, s.State, s.Total, s.Form.Encoding), s.Error)
		for _, n := range s.Counts {
			row("", n.Verdict, n.Count)
		}
		for _, r := range rows {
			row(fmt.Sprintf("row %d", r.Row), r.Verdict, r.Key, r.Changes+r.Reason)
		}
	})
}

type saveOptions struct {
	out string
}

func saveCommand() command {
	opt := &saveOptions{}
	return noun("save", "KIND", "Save a table as CSV", 1, 1, opt.flags, opt.run)
}

func (opt *saveOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.out, "o", "", "`file` to write; without it KIND.csv, - is the screen")
}

func (opt *saveOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	if opt.out == "-" {
		return c.Save(ctx, a[0], p.w)
	}
	name := opt.out
	if name == "" {
		name = sheets.SheetName(a[0])
	}
	if err := written(name, func(w io.Writer) error { return c.Save(ctx, a[0], w) }); err != nil {
		return err
	}
	if !p.json {
		fmt.Fprintf(p.w, "%s written\n", name)
	}
	return nil
}

// written writes a file for its owner alone; of one that cannot be written whole, nothing stays.
func written(name string, write func(io.Writer) error) error {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if err := write(f); err != nil {
		f.Close()
		os.Remove(name)
		return err
	}
	return f.Close()
}
