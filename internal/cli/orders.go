package cli

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"strings"
	"time"

	"openrelay/internal/api"
	"openrelay/internal/client"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/attention"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/orders"
	"openrelay/internal/wire"
)

// orderNouns are the commands for orders that need a decision: rules, exceptions, answers, actions on many.
func orderNouns() []command {
	var (
		value, reason, connection, subject, until, from, to, when, then, name, every string
		release, decline, create, on, off, remove, asCSV                             bool
		minutes, position, last                                                      int64
	)
	told := func(p *printer, v any, format string, args ...any) error {
		return p.show(v, func(row func(...any)) { row(fmt.Sprintf(format, args...)) })
	}
	group := func(a []string) attention.GroupOf {
		return attention.GroupOf{Cause: order.Cause(a[0]), Connection: connection, Subject: subject}
	}
	groupFlags := func(f *flag.FlagSet) {
		f.StringVar(&connection, "connection", "", "of this connection (its code)")
		f.StringVar(&subject, "subject", "", "about this: an SKU, a field, a reason")
	}
	return []command{
		noun("act", "ACTION NUMBER...", "Do one thing to many orders: approve, hold, tag, untag, assign, pick, ship, cancel, void, hand over", 2, -1, func(f *flag.FlagSet) {
			f.StringVar(&value, "value", "", "the `tag`, the person, or the reason")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			d, err := c.Act(ctx, orders.ActionKind(a[0]), value, a[1:]...)
			if err == nil {
				d, err = c.ActionDone(ctx, d, func(d orders.BulkDone) { p.say("%d of %d have their outcome", d.Settled, d.Total) })
			}
			if err != nil {
				return err
			}
			return p.show(d, func(row func(...any)) {
				row("", "Order", "What became of it")
				for _, r := range d.Results {
					row(map[bool]string{true: "done", false: "not"}[r.OK], r.Number, r.Text)
				}
				if d.Undo {
					row("", "", fmt.Sprintf("openrelay undo-act %d takes it back", d.ID))
				}
			})
		}),
		noun("undo-act", "ID", "Take back what was done to many orders", 1, 1, nil, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			id, err := number(a[0])
			if err != nil {
				return err
			}
			d, err := c.UndoAct(ctx, id)
			if err == nil {
				d, err = c.ActionDone(ctx, d, nil)
			}
			if err != nil {
				return err
			}
			return told(p, d, "taken back on %d orders", d.Done)
		}),
		noun("company", "", "Show what the company is called and where its days begin, or change it", 0, 0, func(f *flag.FlagSet) {
			f.StringVar(&name, "name", "", "what it is called")
			f.StringVar(&from, "time-zone", "", "`zone` in which its days begin, such as Etc/GMT-1")
		}, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
			x, err := c.Company(ctx)
			if err == nil && (name != "" || from != "") {
				x, err = c.SetCompany(ctx, engine.Company{Name: or(name, x.Name), TimeZone: or(from, x.TimeZone)})
			}
			if err != nil {
				return err
			}
			return p.show(x, func(row func(...any)) {
				row("Company", x.Name)
				row("Days begin in", or(x.TimeZone, "UTC"))
			})
		}),
		noun("jobs", "", "List the work that waits or is under way", 0, 0, nil, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
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
		}),
		noun("not-bought", "ID", "Say that a label of which nothing was known does not exist at the carrier (ID: the message's)", 1, 1, nil, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			id, err := number(a[0])
			if err != nil {
				return err
			}
			if err := c.NotBought(ctx, id); err != nil {
				return err
			}
			return told(p, a[0], "the parcel can be shipped anew")
		}),
		noun("answer", "NUMBER", "Tell a channel that waits for it whether we take an order", 1, 1, func(f *flag.FlagSet) {
			f.Int64Var(&minutes, "minutes", 20, "until it is ready")
			f.BoolVar(&decline, "decline", false, "decline it")
			f.StringVar(&reason, "reason", "", "why it is declined")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			if err := c.AnswerOrder(ctx, a[0], !decline, minutes, reason); err != nil {
				return err
			}
			return told(p, a[0], "answered")
		}),
		noun("hand-over", "NUMBER", "Note that the buyer has what lay ready", 1, 1, nil, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			if err := c.HandOver(ctx, a[0]); err != nil {
				return err
			}
			return told(p, a[0], "handed over")
		}),
		noun("void", "NUMBER", "Make an order one that only stays for the record", 1, 1, func(f *flag.FlagSet) {
			f.BoolVar(&release, "release-number", false, "its number can be given again")
			f.StringVar(&reason, "reason", "", "why")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			n, err := c.Void(ctx, a[0], reason, release)
			if err != nil {
				return err
			}
			return told(p, n, "void as %s; openrelay take-in-again %s takes the channel's order in anew", n, n)
		}),
		noun("take-in-again", "NUMBER", "Take the channel's order behind a voided one in anew", 1, 1, nil, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			n, err := c.TakeInAgain(ctx, a[0])
			if err != nil {
				return err
			}
			return told(p, n, "taken in as %s", n)
		}),
		noun("merge", "CONNECTION", "Make summary orders of what is done on a channel, without waiting for the set hour", 1, 1, nil, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			list, err := c.Merge(ctx, a[0], time.Time{})
			if err != nil {
				return err
			}
			return told(p, list, "%d summaries: %s", len(list), strings.Join(list, ", "))
		}),
		noun("undo-merge", "NUMBER", "Take a summary of a day apart, unless it was posted", 1, 1, nil, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			if err := c.UndoMerge(ctx, a[0]); err != nil {
				return err
			}
			return told(p, a[0], "its orders are single again")
		}),
		noun("exceptions", "", "List what needs a person, what blocks most orders first", 0, 0, func(f *flag.FlagSet) {
			f.StringVar(&value, "cause", "", "only this cause")
			f.StringVar(&connection, "connection", "", "only of this connection (its code)")
			f.StringVar(&name, "assignee", "", "only what this person looks after")
		}, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
			list, err := c.Groups(ctx, query("cause", value, "connection", connection, "assignee", name, "limit", "200"))
			if err != nil {
				return err
			}
			return p.show(list, func(row func(...any)) {
				row("Cause", "About", "Connection", "Orders", "Looked after by", "What happened")
				for _, x := range list {
					row(x.Cause, x.Subject, x.Connection, x.Orders, x.Assignee, x.Text)
				}
			})
		}),
		noun("assign", "CAUSE PERSON", "Say who looks after exceptions of a cause; an empty person: nobody", 2, 2, groupFlags, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			n, err := c.Assign(ctx, group(a), a[1])
			if err != nil {
				return err
			}
			return told(p, n, "%d are looked after by %s", n, a[1])
		}),
		noun("snooze", "CAUSE", "Let exceptions of a cause sleep", 1, 1, func(f *flag.FlagSet) {
			groupFlags(f)
			f.StringVar(&until, "for", "4h", "how long, such as 30m or 48h; 0 wakes them")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			d, err := time.ParseDuration(until)
			if err != nil {
				return usage{fmt.Sprintf("-for %q: a duration such as 4h is expected", until)}
			}
			at := time.Time{}
			if d > 0 {
				at = time.Now().Add(d)
			}
			n, err := c.Snooze(ctx, group(a), at)
			if err != nil {
				return err
			}
			return told(p, n, "%d sleep", n)
		}),
		noun("known", "CONNECTION SOLD SKU", "Say which item is sold under an unknown SKU; all orders that wait for it go on", 3, 3, func(f *flag.FlagSet) {
			f.BoolVar(&create, "create", false, "make a new item of this SKU")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			k, err := c.MakeKnown(ctx, a[0], a[1], a[2], create)
			if err != nil {
				return err
			}
			return told(p, k, "%s is %s now; %d orders go on", a[1], k.SKU, k.Freed)
		}),
		noun("type", "FILE", "Take in an order that a person typed, as JSON: connection, order, and inbox where it stands beside a message", 1, 1, nil, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			var t orders.TypedOrder
			if err := readJSON(a[0], &t); err != nil {
				return err
			}
			n, err := c.TypeOrder(ctx, t)
			if err != nil {
				return err
			}
			return told(p, n, "taken in as %s", n)
		}),
		noun("rules", "", "List the rules in their order", 0, 0, nil, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
			list, err := c.Rules(ctx)
			if err != nil {
				return err
			}
			return p.show(list, func(row func(...any)) { ruleRows(list, row) })
		}),
		noun("rule", "NAME", "Add, change, move, switch or remove a rule by its name", 1, 1, func(f *flag.FlagSet) {
			f.StringVar(&when, "when", "\x00", "condition in CEL, such as 'total > 50000 && country == \"XE\"'")
			f.Lookup("when").DefValue = ""
			f.StringVar(&then, "then", "", "actions, such as 'tag(\"export\"), hold(\"look at the papers\")'")
			f.BoolVar(&on, "on", false, "switch it on")
			f.BoolVar(&off, "off", false, "switch it off")
			f.BoolVar(&remove, "remove", false, "remove it")
			f.Int64Var(&position, "position", 0, "its `place` among the rules, from 1")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			x, err := ruleChange(ctx, c, a[0], when, then, on, off, remove, position)
			if err != nil {
				return err
			}
			list, err := c.ChangeRule(ctx, x)
			if err != nil {
				return err
			}
			return p.show(list, func(row func(...any)) { ruleRows(list, row) })
		}),
		noun("rehearse", "NAME", "Show what a change of a rule would have made of past orders; nothing is changed", 1, 1, func(f *flag.FlagSet) {
			f.StringVar(&when, "when", "\x00", "condition in CEL")
			f.Lookup("when").DefValue = ""
			f.StringVar(&then, "then", "", "actions")
			f.BoolVar(&off, "off", false, "as if it were off")
			f.BoolVar(&remove, "remove", false, "as if it were removed")
			f.Int64Var(&position, "position", 0, "as if it stood at this `place`")
			f.Int64Var(&last, "orders", 10_000, "the newest so many")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			x, err := ruleChange(ctx, c, a[0], when, then, !off, off, remove, position)
			if err != nil {
				return err
			}
			r, err := c.Rehearse(ctx, x, last)
			if err != nil {
				return err
			}
			return p.show(r, func(row func(...any)) {
				row(fmt.Sprintf("%d of %d orders would have been decided on differently (%.0f ms)", r.Changed, r.Seen, r.TookMS))
				for _, o := range r.Orders {
					row(o.Number, strings.Join(o.Changes, "; "))
				}
			})
		}),
		noun("report", "source|days|shipping|speed|stockouts|exceptions", "Figures over a span of days", 1, 1, func(f *flag.FlagSet) {
			f.StringVar(&from, "from", "", "first `day`, YYYY-MM-DD; without it thirty days")
			f.StringVar(&to, "to", "", "last `day`; without it today")
			f.BoolVar(&asCSV, "csv", false, "print CSV")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			if asCSV {
				raw, _, err := c.Raw(ctx, "GET", "/api/v1/reports/"+a[0]+".csv?"+query("from", from, "to", to), nil)
				if err != nil {
					return err
				}
				_, err = p.w.Write(raw)
				return err
			}
			r, err := c.Report(ctx, a[0], from, to)
			if err != nil {
				return err
			}
			return p.show(r, func(row func(...any)) {
				for _, line := range api.ReportTable(r) {
					cells := make([]any, len(line))
					for i, c := range line {
						cells[i] = c
					}
					row(cells...)
				}
			})
		}),
		noun("tell", "webhook|email ADDRESS [CAUSE...]", "Tell somebody of exceptions: of these causes, or of all", 2, -1, func(f *flag.FlagSet) {
			f.StringVar(&every, "every", "5m", "at most one message in so long")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			d, err := time.ParseDuration(every)
			if err != nil {
				return usage{fmt.Sprintf("-every %q: a duration such as 5m is expected", every)}
			}
			causes := make([]order.Cause, len(a)-2)
			for i, cause := range a[2:] {
				causes[i] = order.Cause(cause)
			}
			id, secret, err := c.PutTarget(ctx, attention.NewTarget{Kind: a[0], Address: a[1], Causes: causes, Every: int64(d / time.Minute), On: true})
			if err != nil {
				return err
			}
			return p.show(map[string]any{"id": id, "secret": secret}, func(row func(...any)) {
				row("target", id)
				if secret != "" {
					row("secret, shown this once", secret)
				}
			})
		}),
		noun("person", "EMAIL", "Print all that is kept of a person, as JSON; or remove it", 1, 1, func(f *flag.FlagSet) {
			f.BoolVar(&remove, "erase", false, "remove their personal data; the books stay")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			if remove {
				n, err := c.ErasePerson(ctx, a[0])
				if err != nil {
					return err
				}
				return told(p, n, "personal data removed from %d orders", n)
			}
			d, err := c.Person(ctx, a[0])
			if err != nil {
				return err
			}
			return printJSON(p.w, d)
		}),
		noun("keep-personal", "DAYS", "Say how many days after an order is done its personal data is removed; 0: never", 1, 1, nil, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			n, err := number(a[0])
			if err != nil {
				return err
			}
			if err := c.KeepFor(ctx, int(n)); err != nil {
				return err
			}
			return told(p, n, "kept for %d days", n)
		}),
		noun("looks", "", "Who looked at personal data, newest first", 0, 0, nil, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
			list, err := c.Looks(ctx, "limit=100")
			if err != nil {
				return err
			}
			return p.show(list, func(row func(...any)) {
				for _, l := range list {
					row(&l.At, l.Who, l.Thing, l.Key)
				}
			})
		}),
	}
}

func ruleRows(list []wire.Rule, row func(...any)) {
	row("", "Rule", "", "When", "Then")
	for _, r := range list {
		w := r.When
		if w == "" {
			w = "an order arrives"
		}
		row(r.Position, r.Name, map[bool]string{true: "on", false: "off"}[r.On], w, r.Then)
	}
}

// ruleChange makes the change of a rule that is named: what is not said stays as it is.
func ruleChange(ctx context.Context, c *client.Client, name, when, then string, on, off, remove bool, position int64) (orders.RuleChange, error) {
	list, err := c.Rules(ctx)
	if err != nil {
		return orders.RuleChange{}, err
	}
	x := orders.RuleChange{Name: name}
	for _, r := range list {
		if r.Name == name {
			x = orders.RuleChange{ID: r.ID, Revision: r.Revision, Name: name, On: r.On, When: r.When, Then: r.Then}
		}
	}
	if when != "\x00" {
		x.When = when
	}
	if then != "" {
		x.Then = then
	}
	x.On = (x.On || on) && !off
	x.Remove, x.Position = remove, int(position)
	return x, nil
}

func readJSON(file string, v any) error {
	b, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(b, v); err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	return nil
}
