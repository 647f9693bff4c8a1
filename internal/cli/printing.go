package cli

import (
	"context"
	"flag"
	"strings"

	"openrelay/internal/client"
	"openrelay/internal/relay/printing"
	"openrelay/internal/wire"
)

// printerCommand is about printers by name.
func printerCommand() command {
	c := table[printing.Printer]{
		path: "/printers", about: "printers", keys: "CODE", named: 1,
		heads: []string{"Code", "Name", "Place", "Prints", "Labels on", "By itself", "Address"},
		line: func(p printing.Printer) []any {
			return []any{p.Code, p.Name, or(p.Place, "anywhere"), strings.Join(p.Papers, ", "), or(p.Size, "label"),
				map[bool]string{true: "labels"}[p.Auto], p.Address}
		},
		same: func(p printing.Printer, named []string) bool { return p.Code == named[0] },
		flags: func(f *flag.FlagSet, p *printing.Printer) {
			f.StringVar(&p.Address, "address", "", "such as `ipp://printer.example:631/printers/bench` (required)")
			f.StringVar(&p.Name, "name", "", "without it its code")
			f.StringVar(&p.Place, "place", "", "`code` of where it stands; without it anywhere")
			several(
				f,
				"prints",
				"a `paper` that it prints where nobody names a printer: label, packing slip, customs papers or manifest; "+
					"several times",
				&p.Papers,
			)
			f.StringVar(&p.Size, "size", "", "of labels: label, a4 or roll")
			f.StringVar(&p.Language, "language", "", "printer's language that it takes unchanged: zpl or epl")
			f.BoolVar(&p.Auto, "auto", false, "labels are printed as soon as they are bought")
		},
		make: func(p *printing.Printer, named []string) error { p.Code = named[0]; return nil },
	}.command("printer", "Printers by name, and what waits for them")
	c.verbs = append(c.verbs,
		noun("test", "CODE", "Print a test page", 1, 1, nil, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			out, err := c.TestPrint(ctx, a[0])
			return printedOn(p, out, err)
		}),
		noun("queue", "", "What waits to be printed, and what was printed last", 0, 0, nil, runPrintQueue),
		printCommand())
	return c
}

func runPrintQueue(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, err := c.PrintQueue(ctx)
	if err != nil {
		return err
	}
	return p.show(list, func(row func(...any)) {
		row("Paper", "About", "State", "Tries", "Asked", "By", "Why")
		for _, j := range list {
			row(j.ID, j.About, j.State, j.Attempts, j.CreatedAt, j.Who, j.Error)
		}
	})
}

func printCommand() command {
	code, first := "", 0
	return noun("print", "PAPER NUMBER...", "Print a label, packing slip, customs papers of parcels, or a manifest", 2, -1,
		func(f *flag.FlagSet) {
			f.StringVar(&code, "printer", "", "`code`; without it the one that prints this at the place of the parcel")
			f.IntVar(&first, "first", 0, "of an A4 sheet of labels: the first free `place`, 1 to 4")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			out, err := c.Print(ctx, client.Paper{Kind: a[0], Numbers: a[1:], Printer: code, First: first})
			return printedOn(p, out, err)
		})
}

func printedOn(p *printer, out wire.Printing, err error) error {
	if err != nil {
		return err
	}
	return p.told(out.Printer, "it goes to %s", or(out.PrinterName, out.Printer))
}
