package cli

import (
	"context"

	"openrelay/internal/client"
	"openrelay/internal/wire"
)

func boardCommand() command {
	return noun("board", "", "Everything at a glance", 0, 0, nil, runBoard)
}

func runBoard(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	b, err := c.Board(ctx)
	if err != nil {
		return err
	}
	return p.show(b, func(row func(...any)) {
		row("Stage", "Orders", "Oldest")
		for _, s := range b.Stages {
			row(s.Stage, s.Count, s.Oldest)
		}
		row()
		row("Connection", "Lamp", "Today", "Waiting", "Last good run")
		for _, x := range b.Connections {
			row(x.Name, x.Lamp.State+": "+x.Lamp.Text, x.Orders, x.Waiting, x.LastOK)
		}
	})
}

type activityOptions struct {
	want rows
}

func activityCommand() command {
	opt := &activityOptions{}
	return noun("activity", "", "What happened, newest first", 0, 0, opt.want.flags, opt.run)
}

func (opt *activityOptions) run(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, more, err := listed[wire.Entry](ctx, c, "/activity", "", &opt.want)
	if err != nil {
		return err
	}
	defer func() { p.cut(len(list), more) }()
	return p.show(list, func(row func(...any)) {
		for _, e := range list {
			row(e.At, e.Who, e.Thing+" "+e.Name, e.Text)
		}
	})
}

func jobsCommand() command {
	return noun("list", "", "List the work that waits or is under way", 0, 0, nil, runJobs)
}

func runJobs(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, err := c.Jobs(ctx)
	if err != nil {
		return err
	}
	return p.show(list, func(row func(...any)) {
		row("Kind", "About", "By", "Done", "Of", "Last trouble")
		for _, j := range list {
			row(j.Kind, j.About, j.Who, j.Done, j.Total, j.Error)
		}
	})
}
