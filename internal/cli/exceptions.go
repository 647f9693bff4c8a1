package cli

import (
	"context"
	"flag"
	"fmt"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/attention"
)

type exceptionsOptions struct {
	value, connection, name string
}

func exceptionsCommand() command {
	opt := &exceptionsOptions{}
	return noun("list", "", "List what needs a person, what blocks most orders first", 0, 0, opt.flags, opt.run)
}

func (opt *exceptionsOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.value, "cause", "", "only this cause")
	f.StringVar(&opt.connection, "connection", "", "only of this connection (its code)")
	f.StringVar(&opt.name, "assignee", "", "only what this person looks after")
}

func (opt *exceptionsOptions) run(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, err := c.Groups(ctx, query("cause", opt.value, "connection", opt.connection, "assignee", opt.name, "limit", "200"))
	if err != nil {
		return err
	}
	return p.show(list, func(row func(...any)) {
		row("Cause", "About", "Connection", "Orders", "Looked after by", "What happened")
		for _, x := range list {
			row(x.Cause, x.Subject, x.Connection, x.Orders, x.Assignee, x.Text)
		}
	})
}

type assignOptions struct {
	groupOptions
}

func assignCommand() command {
	opt := &assignOptions{}
	return noun("assign", "CAUSE PERSON", "Say who looks after exceptions of a cause; an empty person: nobody", 2, 2,
		opt.groupOptions.flags, opt.run)
}

func (opt *assignOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	n, err := c.Assign(ctx, opt.groupOptions.group(a[0]), a[1])
	if err != nil {
		return err
	}
	return p.told(n, "%d are looked after by %s", n, a[1])
}

type snoozeOptions struct {
	until string
	groupOptions
}

func snoozeCommand() command {
	opt := &snoozeOptions{}
	return noun("snooze", "CAUSE", "Let exceptions of a cause sleep", 1, 1, opt.flags, opt.run)
}

func (opt *snoozeOptions) flags(f *flag.FlagSet) {
	opt.groupOptions.flags(f)
	f.StringVar(&opt.until, "for", "4h", "how long, such as 30m or 48h; 0 wakes them")
}

func (opt *snoozeOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	d, err := time.ParseDuration(opt.until)
	if err != nil {
		return usage{fmt.Sprintf("-for %q: a duration such as 4h is expected", opt.until)}
	}
	at := time.Time{}
	if d > 0 {
		at = time.Now().Add(d)
	}
	n, err := c.Snooze(ctx, opt.groupOptions.group(a[0]), at)
	if err != nil {
		return err
	}
	return p.told(n, "%d sleep", n)
}

func settleCommand() command {
	opt := &groupOptions{}
	return noun("settle", "CAUSE", "Say that what exceptions of a cause ask for was dealt with", 1, 1, opt.flags, opt.settle)
}

func (opt *groupOptions) settle(ctx context.Context, c *client.Client, p *printer, a []string) error {
	n, err := c.Settle(ctx, opt.group(a[0]))
	if err != nil {
		return err
	}
	return p.told(n, "%d are dealt with", n)
}

type knownOptions struct {
	create bool
}

func knownCommand() command {
	opt := &knownOptions{}
	return noun("known", "CONNECTION SOLD SKU", "Say which item is sold under an unknown SKU; all orders that wait for it go on", 3, 3,
		opt.flags, opt.run)
}

func (opt *knownOptions) flags(f *flag.FlagSet) {
	f.BoolVar(&opt.create, "create", false, "make a new item of this SKU")
}

func (opt *knownOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	k, err := c.MakeKnown(ctx, a[0], a[1], a[2], opt.create)
	if err != nil {
		return err
	}
	return p.told(k, "%s is %s now; %d orders go on", a[1], k.SKU, k.Freed)
}

type tellOptions struct {
	every string
}

func tellCommand() command {
	opt := &tellOptions{}
	return noun("tell", "webhook|email ADDRESS [CAUSE...]", "Tell somebody of exceptions: of these causes, or of all", 2, -1,
		opt.flags, opt.run)
}

func (opt *tellOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.every, "every", "5m", "at most one message in so long")
}

func (opt *tellOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	d, err := time.ParseDuration(opt.every)
	if err != nil {
		return usage{fmt.Sprintf("-every %q: a duration such as 5m is expected", opt.every)}
	}
	causes := make([]order.Cause, len(a)-2)
	for i, cause := range a[2:] {
		causes[i] = order.Cause(cause)
	}
	id, secret, err := c.PutTarget(ctx, attention.NewTarget{Kind: a[0], Address: a[1], Causes: causes,
		Every: int64(d / time.Minute), On: true})
	if err != nil {
		return err
	}
	return p.show(map[string]any{"id": id, "secret": secret}, func(row func(...any)) {
		row("target", id)
		if secret != "" {
			row("secret, shown this once", secret)
		}
	})
}

// orderNouns are the commands for orders that need a decision: rules, exceptions, answers, actions on many.
// groupOptions narrow the exceptions of a cause.
type groupOptions struct{ connection, subject string }

func (o *groupOptions) flags(f *flag.FlagSet) {
	f.StringVar(&o.connection, "connection", "", "of this connection (its code)")
	f.StringVar(&o.subject, "subject", "", "about this: an SKU, a field, a reason")
}

func (o *groupOptions) group(cause string) attention.GroupOf {
	return attention.GroupOf{Cause: order.Cause(cause), Connection: o.connection, Subject: o.subject}
}
