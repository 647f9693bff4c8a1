package cli

import (
	"context"
	"flag"
	"fmt"
	"strconv"

	"openrelay/internal/client"
	"openrelay/internal/core/message"
	"openrelay/internal/wire"
)

type runOptions struct {
	from string
}

func runCommand() command {
	opt := &runOptions{}
	return noun("run", "CONNECTION KIND", "Run a feed now, or load it again from a time", 2, 2, opt.flags, opt.run)
}

func (opt *runOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.from, "from", "", "load again from this `time` on, such as 2026-01-31T00:00:00Z")
}

func (opt *runOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	id, err := c.RunNow(ctx, a[0], message.Feed(a[1]), opt.from)
	if err != nil {
		return err
	}
	return p.show(map[string]int64{"run": id}, func(row func(...any)) {
		if id == 0 {
			row("Begun.")
			return
		}
		row("Run", id, "has begun; see it with: openrelay run log "+fmt.Sprint(id))
	})
}

type runsOptions struct {
	connection string
	want       rows
}

func runsCommand() command {
	opt := &runsOptions{}
	return noun("list", "", "List runs, newest first", 0, 0, opt.flags, opt.run)
}

func (opt *runsOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.connection, "connection", "", "only of this connection")
	opt.want.flags(f)
}

func (opt *runsOptions) run(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, more, err := listed[wire.Run](ctx, c, "/runs", query("connection", opt.connection), &opt.want)
	if err != nil {
		return err
	}
	defer func() { p.cut(len(list), more) }()
	return p.show(list, func(row func(...any)) {
		row("Run", "Connection", "Feed", "Cause", "State", "Found", "New", "Changed", "Skipped", "Failed", "Started")
		for _, r := range list {
			row(r.ID, r.ConnectionName, r.Feed, r.Cause, r.State, r.Found, r.New, r.Changed, r.Skipped, r.Failed, r.StartedAt)
		}
	})
}

func logCommand() command {
	return noun("log", "RUN", "Show the log of a run", 1, 1, nil, runLog)
}

func runLog(ctx context.Context, c *client.Client, p *printer, a []string) error {
	id, err := strconv.ParseInt(a[0], 10, 64)
	if err != nil {
		return usage{fmt.Sprintf("run %q: a number is expected", a[0])}
	}
	r, err := c.Run(ctx, id)
	if err != nil {
		return err
	}
	return p.show(r, func(row func(...any)) {
		row(fmt.Sprintf("Run %d of %s, %s: %s", r.Run.ID, r.Run.ConnectionName, r.Run.Feed, r.Run.State), r.Run.Error)
		for _, l := range r.Log {
			row(l.At, l.Level, l.Text)
		}
	})
}

func sendAgainCommand() command {
	return noun("send-again", "MESSAGE", "Send a refused message again", 1, 1, nil, runSendAgain)
}

func runSendAgain(ctx context.Context, c *client.Client, p *printer, a []string) error {
	id, err := strconv.ParseInt(a[0], 10, 64)
	if err != nil {
		return usage{fmt.Sprintf("message %q: a number is expected", a[0])}
	}
	if err := c.SendAgain(ctx, id); err != nil {
		return err
	}
	return p.show(map[string]int64{"message": id}, func(row func(...any)) { row("It is queued again.") })
}
