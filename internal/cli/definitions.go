package cli

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"openrelay/internal/client"
	"openrelay/internal/relay/joining"
)

// definitionOptions are how a definition is put to work.
type definitionOptions struct {
	anyway  bool
	note    string
	version int64
}

func (opt *definitionOptions) anywayFlag(f *flag.FlagSet) {
	f.BoolVar(&opt.anyway, "anyway", false, "although records that are kept would be taken otherwise, or not at all")
}

func addConnectorCommand() command {
	opt := &definitionOptions{}
	return noun("add", "FILE", "Add a definition to a running service, or the next version of one; its samples are run first", 1, 1,
		func(f *flag.FlagSet) {
			opt.anywayFlag(f)
			f.StringVar(&opt.note, "note", "", "what was changed, kept with the version")
		}, opt.add)
}

func (opt *definitionOptions) add(ctx context.Context, c *client.Client, p *printer, a []string) error {
	text, err := os.ReadFile(a[0])
	if err != nil {
		return err
	}
	check := &connectorOptions{}
	if d, err := check.definition(a[0]); err == nil { // one that extends what was added there is checked there
		samples, err := check.besides(ctx, d, a[0])
		if err == nil {
			err = p.samplesHold(samples)
		}
		if err != nil {
			return err
		}
	}
	x, err := c.AddConnector(ctx, a[0], string(text), opt.note, opt.anyway)
	if err != nil {
		return err
	}
	return p.show(x, func(row func(...any)) { row("Added:", x.Connector+", "+x.Title) })
}

func compareConnectorCommand() command {
	return noun("compare", "FILE", "Show what a definition would do otherwise than the one at work, with records that are kept", 1, 1, nil,
		runCompareConnector)
}

func runCompareConnector(ctx context.Context, c *client.Client, p *printer, a []string) error {
	text, err := os.ReadFile(a[0])
	if err != nil {
		return err
	}
	out, err := c.CompareConnector(ctx, a[0], string(text))
	if err != nil {
		return err
	}
	return p.show(out, func(row func(...any)) { comparisonTable(out, row) })
}

func comparisonTable(c joining.Comparison, row func(...any)) {
	switch {
	case c.Lines != "":
		row(strings.TrimRight(c.Lines, "\n"))
		row()
	case len(c.Feeds) > 0:
		row("No line is different from the one at work.")
		row()
	}
	if len(c.Feeds) == 0 {
		row("No connection works by " + c.Connector + " yet; there is nothing to compare it on.")
		return
	}
	row("Connection", "Feed", "Looked at", "Otherwise", "Refused", "Mended", "Fields")
	for _, f := range c.Feeds {
		fields := slices.Sorted(maps.Keys(f.Fields))
		for i, path := range fields {
			fields[i] = fmt.Sprintf("%s (%d)", path, f.Fields[path])
		}
		row(f.Connection, f.Feed, fmt.Sprintf("%d of %d", f.Looked, f.Kept), f.Otherwise, f.Refused, f.Mended,
			or(f.NotLooked, strings.Join(fields, ", ")))
	}
	for _, f := range c.Feeds {
		if len(f.Examples) == 0 {
			continue
		}
		row()
		row(f.Connection+", "+string(f.Feed), "Field", "Was", "Now")
		for _, e := range f.Examples {
			if e.Was != "" || e.Now != "" {
				row("  "+e.Record, "", or(e.Was, "taken"), or(e.Now, "taken"))
			}
			for _, d := range e.Fields {
				row("  "+e.Record, d.Path, or(d.Was, "-"), or(d.Now, "-"))
			}
		}
		if all := f.Otherwise + f.Refused + f.Mended; all > len(f.Examples) {
			row(fmt.Sprintf("  and %d more", all-len(f.Examples)))
		}
	}
}

func connectorVersionsCommand() command {
	opt := &definitionOptions{}
	return noun("versions", "CODE", "List the versions of a definition that was added, or show one", 1, 1, func(f *flag.FlagSet) {
		f.Int64Var(&opt.version, "version", 0, "show this one, with the lines it changed")
	}, opt.versions)
}

func (opt *definitionOptions) versions(ctx context.Context, c *client.Client, p *printer, a []string) error {
	if opt.version != 0 {
		v, err := c.ConnectorVersion(ctx, a[0], opt.version)
		if err != nil {
			return err
		}
		return p.show(v, func(row func(...any)) { row(strings.TrimRight(or(v.Lines, v.Text), "\n")) })
	}
	list, err := c.ConnectorVersions(ctx, a[0])
	if err != nil {
		return err
	}
	if len(list) == 0 && !p.json {
		p.heading(a[0] + " was not added here: it ships with the service, or lies in its folder of definitions, and has no versions.")
		return nil
	}
	return p.show(list, func(row func(...any)) {
		row("Version", "When", "Who", "Note")
		for _, v := range list {
			row(v.Version, &v.At, v.Who, v.Note)
		}
	})
}

func takeBackConnectorCommand() command {
	opt := &definitionOptions{}
	return noun("take-back", "CODE", "Put an earlier version of a definition to work again", 1, 1, func(f *flag.FlagSet) {
		opt.anywayFlag(f)
		f.Int64Var(&opt.version, "to", 0, "the version; not said: the one before the last")
	}, opt.takeBack)
}

func (opt *definitionOptions) takeBack(ctx context.Context, c *client.Client, p *printer, a []string) error {
	if opt.version == 0 {
		list, err := c.ConnectorVersions(ctx, a[0])
		if err != nil {
			return err
		}
		if len(list) < 2 {
			return fmt.Errorf("%s has no earlier version", a[0])
		}
		opt.version = list[1].Version
	}
	x, err := c.TakeBackConnector(ctx, a[0], opt.version, opt.anyway)
	if err != nil {
		return err
	}
	return p.told(x, "%s works as by version %d.", x.Connector, opt.version)
}

func dropConnectorCommand() command {
	return noun("drop", "CODE", "Remove a connector definition that was added and nobody uses", 1, 1, nil, runDropConnector)
}

func runDropConnector(ctx context.Context, c *client.Client, p *printer, a []string) error {
	if err := c.DropConnector(ctx, a[0]); err != nil {
		return err
	}
	return p.show(map[string]string{"connector": a[0]}, func(row func(...any)) { row("Removed:", a[0]) })
}

func readConnectorsCommand() command {
	opt := &definitionOptions{}
	return noun("read-folder", "", "Have the folder of definitions read anew that the service was started with", 0, 0, opt.anywayFlag,
		opt.readFolder)
}

func (opt *definitionOptions) readFolder(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	read, err := c.ReadConnectors(ctx, opt.anyway)
	if err != nil {
		return err
	}
	return p.show(read, func(row func(...any)) {
		row("Added:", or(strings.Join(read.Added, ", "), "none"))
		row("Changed:", or(strings.Join(read.Changed, ", "), "none"))
		row("Gone:", or(strings.Join(read.Gone, ", "), "none"))
	})
}
