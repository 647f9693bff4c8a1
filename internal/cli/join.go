package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"strings"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/joining"
	"openrelay/internal/wire"
)

type joinOptions struct {
	name, code, origin, from string
	accessOptions
	test, no, accept bool
	choose           joining.ImportChoices
}

func joinCommand() command {
	opt := &joinOptions{}
	return verbs("join", "Set a connection up, step by step; left and resumed at any point", opt.flags, []verb{
		{"start", "CONNECTOR", "Begin to join a system", 1, opt.start},
		{"show", "CONNECTION", "How far it is, and what comes next", 1, opt.show},
		{"access", "CONNECTION", "Give the credentials; they are tried at once", 1, opt.access},
		{"consent", "CONNECTION", "Print the address where consent is given in a browser", 1, opt.consent},
		{"confirm", "CONNECTION NUMBER", "Say that the account that answered is the one that was meant", 2, opt.confirm},
		{"look", "CONNECTION", "Read what is there, and choose what is brought over", 1, opt.look},
		{"go", "CONNECTION", "Bring it over", 1, opt.runGo},
		{"preview", "CONNECTION", "See what switching on would send", 1, opt.preview},
		{"on", "CONNECTION", "Switch it on", 1, opt.runOn},
		{"drop", "CONNECTION", "Give it up; nothing of it stays", 1, opt.drop},
	})
}

func (opt *joinOptions) flags(f *flag.FlagSet) {
	opt.accessOptions.flags(f)
	f.StringVar(&opt.name, "name", "", "start: name of the connection")
	f.StringVar(&opt.code, "code", "", "start: code of the connection")
	f.BoolVar(&opt.test, "test", false, "start: begin in test")
	f.StringVar(&opt.origin, "origin", "", "consent: address of the service as the browser reaches it, else that of -server")
	f.BoolVar(&opt.no, "no", false, "confirm: it is not the account that was meant")
	f.BoolVar(&opt.accept, "accept", false, "preview: it was seen")
	f.BoolVar(&opt.choose.Customers, "customers", false, "look: bring customers over")
	f.BoolVar(&opt.choose.Items, "items", false, "look: create items for listings that match none")
	f.BoolVar(&opt.choose.Stock, "stock", false, "look: take what the channel shows as opening stock where we have none")
	f.BoolVar(&opt.choose.Orders, "orders", false, "look: bring open orders over")
	f.BoolVar(&opt.choose.History, "history", false, "look: take finished orders as done")
	f.StringVar(&opt.from, "from", "", "look: orders from this `time` on, such as 2026-01-31T00:00:00Z")
}

func (opt *joinOptions) start(ctx context.Context, c *client.Client, p *printer, a []string) error {
	j, err := c.StartJoin(ctx, joining.NewJoin{Connector: a[0], Name: opt.name, Code: opt.code, Test: opt.test})
	return showJoin(p, j, err)
}

func (opt *joinOptions) show(ctx context.Context, c *client.Client, p *printer, a []string) error {
	j, err := c.Join(ctx, a[0])
	return showJoin(p, j, err)
}

func (opt *joinOptions) access(ctx context.Context, c *client.Client, p *printer, a []string) error {
	t, err := c.TestAccess(ctx, a[0], opt.accessOptions.access())
	return showTested(p, t, err)
}

func (opt *joinOptions) consent(ctx context.Context, c *client.Client, p *printer, a []string) error {
	if opt.origin == "" {
		opt.origin = c.Server
	}
	page, err := c.AskConsent(ctx, a[0], opt.accessOptions.access(), opt.origin)
	if err != nil {
		return err
	}
	return p.show(map[string]string{"page": page}, func(row func(...any)) {
		row("Open this page in the browser in which you are signed in here, and let us in:")
		row(page)
	})
}

func (opt *joinOptions) confirm(ctx context.Context, c *client.Client, p *printer, a []string) error {
	j, err := c.Confirm(ctx, a[0], a[1], !opt.no)
	return showJoin(p, j, err)
}

func (opt *joinOptions) look(ctx context.Context, c *client.Client, p *printer, a []string) error {
	if opt.from != "" {
		at, err := time.Parse(time.RFC3339, opt.from)
		if err != nil {
			return usage{fmt.Sprintf("-from %q: a time such as 2026-01-31T00:00:00Z is expected", opt.from)}
		}
		opt.choose.From = at
	}
	if _, err := c.LookAtImport(ctx, a[0], opt.choose); err != nil {
		return err
	}
	return waitImport(ctx, c, p, a[0])
}

func (opt *joinOptions) runGo(ctx context.Context, c *client.Client, p *printer, a []string) error {
	if _, err := c.GoOnWithImport(ctx, a[0]); err != nil {
		return err
	}
	return waitImport(ctx, c, p, a[0])
}

func (opt *joinOptions) preview(ctx context.Context, c *client.Client, p *printer, a []string) error {
	v, err := c.Preview(ctx, a[0])
	if err != nil {
		return err
	}
	if opt.accept {
		if err := c.AcceptPreview(ctx, a[0], v.Digest); err != nil {
			return err
		}
	}
	return p.show(v, func(row func(...any)) { previewTable(v, opt.accept, row) })
}

func (opt *joinOptions) runOn(ctx context.Context, c *client.Client, p *printer, a []string) error {
	j, err := c.SwitchOn(ctx, a[0])
	return showJoin(p, j, err)
}

func (opt *joinOptions) drop(ctx context.Context, c *client.Client, p *printer, a []string) error {
	if err := c.DropJoin(ctx, a[0]); err != nil {
		return err
	}
	return p.show(map[string]string{"connection": a[0]}, func(row func(...any)) { row("The set-up of " + a[0] + " was given up.") })
}

// accessOptions are how a person lets us in.
type accessOptions struct {
	set           pairs
	address, site string
	account       int64
}

func (o *accessOptions) flags(f *flag.FlagSet) {
	f.Var(&o.set, "set", "a credential as `name=value`; the value may be env:NAME or @FILE")
	f.StringVar(&o.address, "address", "", "where the other side is reached")
	f.StringVar(&o.site, "site", "", "code of the site, where the system has several")
	f.Int64Var(&o.account, "account", 0, "`number` of an account that is there already")
}

func (o *accessOptions) access() joining.Access {
	return joining.Access{Account: o.account, Address: o.address, Site: o.site, Secrets: o.set.m}
}

func showJoin(p *printer, j wire.Join, err error) error {
	if err != nil {
		return err
	}
	return p.show(j, func(row func(...any)) {
		c := j.Connection
		row("Connection", c.Code, c.Name, c.State)
		row("System", j.Connector.Title, c.BaseURL, c.Site)
		if j.Identity.Number != "" {
			row("Account there", j.Identity.Name, j.Identity.Number, j.Identity.Country)
		}
		if c.State == "joining" && c.AccountID == 0 {
			row()
			for i, s := range j.Connector.Steps {
				row(fmt.Sprintf("%d.", i+1), s)
			}
			for _, f := range j.Connector.Fields {
				if !f.Give {
					row("-set "+f.Name+"=…", f.Label, f.Help)
				}
			}
			for _, s := range j.Connector.Sites {
				row("-site "+s.Code, s.Name, s.Country)
			}
			for _, a := range j.Accounts {
				row(fmt.Sprintf("-account %d", a.ID), a.Name, a.Number)
			}
		}
		row()
		for _, k := range j.Checklist {
			mark := "[ ]"
			if k.Done {
				mark = "[x]"
			}
			if !k.Required {
				k.Text += " (optional)"
			}
			row(mark, k.Text, k.Hint)
		}
	})
}

func showTested(p *printer, t engine.Tested, err error) error {
	if err != nil {
		return err
	}
	if err := p.show(t, func(row func(...any)) {
		if len(t.Trimmed) > 0 {
			row("Spaces were taken off:", strings.Join(t.Trimmed, ", "))
		}
		for name, value := range t.Given {
			row(name+":", value, "(shown this once)")
		}
		if t.LetIn {
			row(t.Text)
			if t.Back != "" {
				row("It was joined before, as " + t.Back + "; confirming goes on where that ended.")
			}
			return
		}
		if t.Field != "" {
			row("Wrong:", t.Field)
		}
	}); err != nil {
		return err
	}
	if !t.LetIn {
		return errors.New(t.Text)
	}
	return nil
}

// waitImport waits until an import has looked or is done, and shows it.
func waitImport(ctx context.Context, c *client.Client, p *printer, code string) error {
	for {
		v, err := c.FirstImport(ctx, code)
		if err != nil {
			return err
		}
		if v.State != "looking" && v.State != "working" {
			if err := p.show(v, func(row func(...any)) {
				row("First import:", v.State)
				row()
				row("Feed", "Records", "Verdict", "Why")
				for _, n := range v.Counts {
					row(n.Kind, n.Count, n.Verdict, n.Reason)
				}
				for _, r := range v.Records {
					if r.Verdict == "conflict" {
						row()
						row("Conflict:", r.Title, r.Reason)
					}
				}
			}); err != nil {
				return err
			}
			if v.State == "failed" {
				return errors.New(v.Error)
			}
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

func previewTable(v joining.Preview, accepted bool, row func(...any)) {
	row(fmt.Sprintf("%d listings, %d would change, %d would show nothing, %d are matched to no item", v.Listings, v.Changed,
		v.ToZero, v.Unknown))
	row()
	row("SKU", "Title", "Shows", "Would show")
	for _, r := range v.Rows {
		would := fmt.Sprint(r.Would)
		if !r.Matched {
			would = "left alone"
		}
		row(r.SKU, r.Title, r.Shows, would)
	}
	if accepted {
		row()
		row("Seen; stock out may be switched on.")
	}
}
