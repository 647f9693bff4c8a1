package cli

import (
	"context"
	"flag"

	"openrelay/internal/client"
	"openrelay/internal/wire"
)

type filesOptions struct {
	connection string
	want       rows
}

func filesCommand() command {
	opt := &filesOptions{}
	return noun("list", "", "List files that came and went, newest first", 0, 0, opt.flags, opt.run)
}

func (opt *filesOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.connection, "connection", "", "only of this connection")
	opt.want.flags(f)
}

func (opt *filesOptions) run(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, more, err := listed[wire.ExchangedFile](ctx, c, "/files", query("connection", opt.connection), &opt.want)
	if err != nil {
		return err
	}
	defer func() { p.cut(len(list), more) }()
	return p.show(list, func(row func(...any)) {
		row("File", "Connection", "Feed", "Name", "Bytes", "Records", "State", "When", "Why")
		for _, f := range list {
			row(f.ID, f.Connection, f.Feed, f.Name, f.Size, f.Records, f.State, f.At, f.Reason)
		}
	})
}
