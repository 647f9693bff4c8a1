package cli

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/joining"
	"openrelay/internal/setup"
	"openrelay/internal/wire"
)

// pairs collects repeated name=value flags. A value env:NAME is read from the environment and @FILE from
// a file, so that secrets need not stand on the command line.
type pairs struct{ m map[string]string }

func (p *pairs) String() string { return "" }

func (p *pairs) Set(text string) error {
	name, value, ok := strings.Cut(text, "=")
	if !ok || name == "" {
		return errors.New("name=value is expected")
	}
	if file, ok := strings.CutPrefix(value, "@"); ok {
		b, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		value = strings.TrimRight(string(b), "\r\n")
	} else if env, ok := strings.CutPrefix(value, "env:"); ok {
		if value = os.Getenv(env); value == "" {
			return fmt.Errorf("the variable %s is not set", env)
		}
	}
	if p.m == nil {
		p.m = map[string]string{}
	}
	p.m[name] = value
	return nil
}

// verb is one of the words that a command takes first.
type verb struct {
	word, args string
	least      int
	run        func(ctx context.Context, c *client.Client, p *printer, a []string) error
}

// verbs makes a command of several words: name VERB arguments. They are listed in the order given, which is
// that in which they are needed.
func verbs(name, about string, flags func(*flag.FlagSet), list []verb) command {
	var forms, words []string
	for _, v := range list {
		forms = append(forms, strings.TrimSpace(v.word+" "+v.args))
		words = append(words, v.word)
	}
	return noun(name, strings.Join(forms, " | "), about, 1, -1, flags, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
		i := slices.Index(words, a[0])
		if i < 0 {
			return usage{fmt.Sprintf("%q: one of %s is expected", a[0], strings.Join(words, ", "))}
		}
		if len(a)-1 != list[i].least {
			return usage{fmt.Sprintf("%s takes %s", a[0], list[i].args)}
		}
		return list[i].run(ctx, c, p, a[1:])
	})
}

func joiningNouns() []command {
	var (
		name, code, address, site, origin, from, sample string
		account                                         int64
		test, no, accept, send, off                     bool
		choose                                          joining.ImportChoices
		set                                             pairs
	)
	accessFlags := func(f *flag.FlagSet) {
		set = pairs{}
		f.Var(&set, "set", "a credential as `name=value`; the value may be env:NAME or @FILE")
		f.StringVar(&address, "address", "", "where the other side is reached")
		f.StringVar(&site, "site", "", "code of the site, where the system has several")
		f.Int64Var(&account, "account", 0, "`number` of an account that is there already")
	}
	access := func() joining.Access {
		return joining.Access{Account: account, Address: address, Site: site, Secrets: set.m}
	}
	return []command{
		verbs("join", "Set a connection up, step by step; it can be left and resumed at any point", func(f *flag.FlagSet) {
			accessFlags(f)
			f.StringVar(&name, "name", "", "start: name of the connection")
			f.StringVar(&code, "code", "", "start: code of the connection")
			f.BoolVar(&test, "test", false, "start: begin in test")
			f.StringVar(&origin, "origin", "", "consent: address of the service as the browser reaches it, else that of -server")
			f.BoolVar(&no, "no", false, "confirm: it is not the account that was meant")
			f.BoolVar(&accept, "accept", false, "preview: it was seen")
			f.BoolVar(&choose.Customers, "customers", false, "look: bring customers over")
			f.BoolVar(&choose.Items, "items", false, "look: create items for listings that match none")
			f.BoolVar(&choose.Stock, "stock", false, "look: take what the channel shows as opening stock where we have none")
			f.BoolVar(&choose.Orders, "orders", false, "look: bring open orders over")
			f.BoolVar(&choose.History, "history", false, "look: take finished orders as done")
			f.StringVar(&from, "from", "", "look: orders from this `time` on, such as 2026-01-31T00:00:00Z")
		}, []verb{
			{"start", "CONNECTOR", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				j, err := c.StartJoin(ctx, joining.NewJoin{Connector: a[0], Name: name, Code: code, Test: test})
				return showJoin(p, j, err)
			}},
			{"show", "CONNECTION", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				j, err := c.Join(ctx, a[0])
				return showJoin(p, j, err)
			}},
			{"access", "CONNECTION", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				t, err := c.TestAccess(ctx, a[0], access())
				return showTested(p, t, err)
			}},
			{"consent", "CONNECTION", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				if origin == "" {
					origin = c.Server
				}
				page, err := c.AskConsent(ctx, a[0], access(), origin)
				if err != nil {
					return err
				}
				return p.show(map[string]string{"page": page}, func(row func(...any)) {
					row("Open this page in the browser in which you are signed in here, and let us in:")
					row(page)
				})
			}},
			{"confirm", "CONNECTION NUMBER", 2, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				j, err := c.Confirm(ctx, a[0], a[1], !no)
				return showJoin(p, j, err)
			}},
			{"look", "CONNECTION", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				if from != "" {
					at, err := time.Parse(time.RFC3339, from)
					if err != nil {
						return usage{fmt.Sprintf("-from %q: a time such as 2026-01-31T00:00:00Z is expected", from)}
					}
					choose.From = at
				}
				if _, err := c.LookAtImport(ctx, a[0], choose); err != nil {
					return err
				}
				return waitImport(ctx, c, p, a[0])
			}},
			{"go", "CONNECTION", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				if _, err := c.GoOnWithImport(ctx, a[0]); err != nil {
					return err
				}
				return waitImport(ctx, c, p, a[0])
			}},
			{"preview", "CONNECTION", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				v, err := c.Preview(ctx, a[0])
				if err != nil {
					return err
				}
				if accept {
					if err := c.AcceptPreview(ctx, a[0], v.Digest); err != nil {
						return err
					}
				}
				return p.show(v, func(row func(...any)) { previewTable(v, accept, row) })
			}},
			{"on", "CONNECTION", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				j, err := c.SwitchOn(ctx, a[0])
				return showJoin(p, j, err)
			}},
			{"drop", "CONNECTION", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				if err := c.DropJoin(ctx, a[0]); err != nil {
					return err
				}
				return p.show(map[string]string{"connection": a[0]}, func(row func(...any)) { row("The set-up of", a[0], "was given up.") })
			}},
		}),
		noun("settings", "CONNECTION", "Show the settings of a connection, or change some with -set", 1, 1, func(f *flag.FlagSet) {
			set = pairs{}
			f.Var(&set, "set", "a setting as `name=value`, such as offer.buffer=2, offer.sources=alder,pier or time_zone=UTC")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			j, err := c.Join(ctx, a[0])
			if err != nil {
				return err
			}
			if len(set.m) > 0 {
				s, err := changed(ctx, c, j.Connection.Settings, set.m)
				if err != nil {
					return err
				}
				if j, err = c.SetSettings(ctx, a[0], s, j.Connection.Revision); err != nil {
					return err
				}
			}
			return p.show(j.Connection.Settings, func(row func(...any)) {
				b, _ := json.MarshalIndent(j.Connection.Settings, "", "  ")
				row(string(b))
			})
		}),
		noun("overrides", "CONNECTION", "Show what a connection changes of its connector, or replace it with -file", 1, 1, func(f *flag.FlagSet) {
			f.StringVar(&sample, "file", "", "`file` with the part of a definition; an empty one takes all away")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			j, err := c.Join(ctx, a[0])
			if err == nil && sample != "" {
				text, ferr := os.ReadFile(sample)
				if ferr != nil {
					return ferr
				}
				j, err = c.SetOverrides(ctx, a[0], string(text))
			}
			if err != nil {
				return err
			}
			return p.show(map[string]string{"overrides": j.Connection.Overrides}, func(row func(...any)) {
				if j.Connection.Overrides == "" {
					row("Nothing is overridden.")
					return
				}
				row(strings.TrimRight(j.Connection.Overrides, "\n"))
			})
		}),
		noun("renew", "CONNECTION", "Renew the credentials of a connection at work; what is not given stays", 1, 1, accessFlags, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			t, err := c.Renew(ctx, a[0], access())
			return showTested(p, t, err)
		}),
		noun("leave", "CONNECTION", "Say what leaving a connection removes and what stays; leave it with -yes", 1, 1, func(f *flag.FlagSet) {
			f.BoolVar(&accept, "yes", false, "leave it")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			l, err := c.WouldLeave(ctx, a[0])
			if err != nil {
				return err
			}
			if accept {
				if _, err := c.Leave(ctx, a[0]); err != nil {
					return err
				}
			}
			return p.show(l, func(row func(...any)) {
				for _, s := range l.Removed {
					row("Removed:", s)
				}
				for _, s := range l.Stays {
					row("Stays:", s)
				}
				if !accept {
					row("Nothing was done. Leave it with -yes.")
				}
			})
		}),
		noun("test-mode", "CONNECTION", "Put a connection in test (or take it live with -off)", 1, 1, func(f *flag.FlagSet) { f.BoolVar(&off, "off", false, "take it live") },
			func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				j, err := c.SetTest(ctx, a[0], !off)
				return showJoin(p, j, err)
			}),
		noun("clear-tests", "CONNECTION", "Remove the test orders of a connection and what was tried on its bench", 1, 1, nil, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			n, err := c.ClearTests(ctx, a[0])
			if err != nil {
				return err
			}
			return p.show(map[string]int64{"orders": n}, func(row func(...any)) { row(fmt.Sprintf("%d test orders were removed.", n)) })
		}),
		noun("bench", "CONNECTION FEED", "Try a sample, see what a message would become, or send it marked as a test with -send", 2, 2, func(f *flag.FlagSet) {
			f.StringVar(&sample, "sample", "", "`file` with a record of theirs or a message of ours; without it one is made up")
			f.BoolVar(&send, "send", false, "send it; the connection has to be in test")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			text := ""
			if sample != "" {
				b, err := os.ReadFile(sample)
				if err != nil {
					return err
				}
				text = string(b)
			} else {
				var err error
				if text, err = c.Sample(ctx, a[0], message.Feed(a[1])); err != nil {
					return err
				}
				if text == "" {
					return errors.New("nothing has come in over this feed yet; give a sample with -sample")
				}
			}
			t, err := c.Try(ctx, a[0], message.Feed(a[1]), text, send)
			if err != nil {
				return err
			}
			return p.show(t, func(row func(...any)) { triedTable(t, row) })
		}),
		noun("accounts", "", "List what lets us in at outside systems", 0, 0, nil, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
			list, err := c.Accounts(ctx)
			if err != nil {
				return err
			}
			return p.show(list, func(row func(...any)) {
				row("Account", "System", "Our name there", "Number", "Address", "Used by")
				for _, x := range list {
					row(x.ID, x.Title, x.Name, x.Number, x.Address, strings.Join(x.Used, ", "))
				}
			})
		}),
		noun("connectors", "", "List the systems that can be joined, and what each can do", 0, 0, nil, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
			list, err := c.Connectors(ctx)
			if err != nil {
				return err
			}
			return p.show(list, func(row func(...any)) {
				row("Connector", "Title", "Side", "Let in by", "In", "Out", "Test", "Read back")
				for _, x := range list {
					yes := "no"
					if x.Can.TestFlag != "" {
						yes = "yes"
					}
					row(x.Connector, x.Title, x.Side, x.Can.Way, message.FeedList(x.Can.In), message.FeedList(x.Can.Out), yes, message.FeedList(x.Can.ReadBack))
				}
			})
		}),
		noun("add-connector", "FILE", "Add a connector definition to a running service, or replace one that was added", 1, 1, nil, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			text, err := os.ReadFile(a[0])
			if err != nil {
				return err
			}
			x, err := c.AddConnector(ctx, a[0], string(text))
			if err != nil {
				return err
			}
			return p.show(x, func(row func(...any)) { row("Added:", x.Connector+", "+x.Title) })
		}),
		noun("drop-connector", "CODE", "Remove a connector definition that was added and nobody uses", 1, 1, nil, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			if err := c.DropConnector(ctx, a[0]); err != nil {
				return err
			}
			return p.show(map[string]string{"connector": a[0]}, func(row func(...any)) { row("Removed:", a[0]) })
		}),
		noun("check-address", "STREET POSTCODE TOWN COUNTRY", "Ask the address service about an address", 4, 4, nil, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			out, err := c.CheckAddress(ctx, place.Address{Name: "-", Street: a[0], Postcode: a[1], Town: a[2], Country: a[3]})
			if err != nil {
				return err
			}
			return p.show(out, func(row func(...any)) {
				row("Deliverable:", map[bool]string{true: "yes", false: "no"}[out.Deliverable])
				row("Corrected:", strings.Join(out.Corrected.Lines(), ", "))
				row("Kind:", out.Kind, "remote: "+map[bool]string{true: "yes", false: "no"}[out.Remote])
				row("Position:", out.Latitude, out.Longitude)
				row("Note:", out.Note)
			})
		}),
		setupCommand(),
		{"shapes", "[NAME]", "Print the names of our messages, or the JSON Schema of one", func(_ context.Context, e *Env, f *flag.FlagSet, args []string) error {
			if err := parse(f, args, 0, 1); err != nil {
				return err
			}
			for _, s := range message.Shapes() {
				if f.NArg() == 0 {
					fmt.Fprintf(e.Out, "%-16s %s\n", s.Name, s.About)
				} else if s.Name == f.Arg(0) {
					text, err := s.SchemaText()
					if err == nil {
						_, err = e.Out.Write(text)
					}
					return err
				}
			}
			if f.NArg() == 1 {
				return fmt.Errorf("there is no message %q", f.Arg(0))
			}
			return nil
		}},
	}
}

// changed lays settings given as text over those that are there. Locations are given by code.
func changed(ctx context.Context, c *client.Client, s engine.Settings, set map[string]string) (engine.Settings, error) {
	b, err := json.Marshal(s)
	if err != nil {
		return s, err
	}
	var m map[string]any
	if err := json.Unmarshal(b, &m); err != nil {
		return s, err
	}
	for name, value := range set {
		at := m
		parts := strings.Split(name, ".")
		for _, part := range parts[:len(parts)-1] {
			in, ok := at[part].(map[string]any)
			if !ok {
				return s, usage{fmt.Sprintf("there is no setting %q", name)}
			}
			at = in
		}
		last := parts[len(parts)-1]
		switch {
		case name == "offer.sources":
			list, err := c.Locations(ctx)
			if err != nil {
				return s, err
			}
			ids := []int64{}
			for _, code := range strings.Split(value, ",") {
				found := false
				for _, l := range list {
					if l.Code == strings.TrimSpace(code) {
						ids, found = append(ids, l.ID), true
					}
				}
				if !found {
					return s, usage{fmt.Sprintf("there is no location %q", code)}
				}
			}
			at[last] = ids
		case name == "take" || name == "keep":
			at[last] = strings.FieldsFunc(value, func(r rune) bool { return r == ',' })
		default:
			var v any
			if json.Unmarshal([]byte(value), &v) != nil {
				v = value
			}
			at[last] = v
		}
	}
	if b, err = json.Marshal(m); err != nil {
		return s, err
	}
	out, err := engine.ParseSettings(b)
	if err != nil {
		return s, usage{err.Error()}
	}
	return out, nil
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
	row(fmt.Sprintf("%d listings, %d would change, %d would show nothing, %d are matched to no item", v.Listings, v.Changed, v.ToZero, v.Unknown))
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

func triedTable(t joining.Tried, row func(...any)) {
	if t.Trial != nil {
		trialTable(*t.Trial, row)
	}
	if x := t.Exchange; x != nil {
		row(x.Method, x.URL)
		for _, h := range x.Headers {
			row(h[0]+":", h[1])
		}
		row()
		row(x.Body)
		if x.Status != 0 {
			row()
			row(fmt.Sprintf("answered %d after %d ms", x.Status, x.Took.Milliseconds()))
			row(x.Answer)
		}
	}
	if t.Error != "" {
		row("Error:", t.Error)
	}
}

func trialTable(t connector.Trial, row func(...any)) {
	row("Record", t.ID, fmt.Sprintf("version %d", t.Version))
	if len(t.Fields) > 0 {
		row()
		row("Our field", "Takes", "From the sample")
		for _, f := range t.Fields {
			value := f.Value
			if value == "" {
				value = "-"
			}
			if f.Needed {
				f.Path += " *"
			}
			row(f.Path, f.Kind, value)
		}
		row("* is needed")
		row()
	}
	if t.Mistake != "" {
		row("Mistake:", t.Mistake)
	}
	for _, part := range []struct {
		name string
		list []string
	}{{"Needed and missing:", t.Missing}, {"Not used of the sample:", t.Unused}} {
		if len(part.list) > 0 {
			row(part.name, strings.Join(part.list, ", "))
		}
	}
}

// setupCommand works with set-ups as text. References are resolved here, where the person is.
func setupCommand() command {
	var set pairs
	read := func(file string) (string, map[string]map[string]string, []string, error) {
		b, err := os.ReadFile(file)
		if err != nil {
			return "", nil, nil, err
		}
		text, err := setup.Fill(string(b), func(name string) (string, bool) { v, ok := set.m[name]; return v, ok })
		if err != nil {
			return "", nil, nil, err
		}
		s, err := setup.Parse([]byte(text))
		if err != nil {
			return "", nil, nil, fmt.Errorf("%s: %w", file, err)
		}
		secrets := map[string]map[string]string{}
		var missing []string
		for _, c := range s.Connections {
			values, none, err := setup.Resolve(c, os.Getenv)
			if err != nil {
				return "", nil, nil, err
			}
			secrets[c.Code] = values
			missing = append(missing, none...)
		}
		return text, secrets, missing, nil
	}
	return verbs("setup", "A company's set-up as text: write it, see what applying one changes, apply it", func(f *flag.FlagSet) {
		set = pairs{}
		f.Var(&set, "set", "a value for ${NAME} in the text, as `NAME=value`")
	}, []verb{
		{"export", "", 0, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
			text, err := c.ExportSetup(ctx)
			if err != nil {
				return err
			}
			_, err = fmt.Fprint(p.w, text)
			return err
		}},
		{"ready", "NAME", 1, func(_ context.Context, _ *client.Client, p *printer, a []string) error {
			text, err := setup.ReadyText(a[0])
			if err != nil {
				return err
			}
			_, err = fmt.Fprint(p.w, text)
			return err
		}},
		{"plan", "FILE", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			text, secrets, missing, err := read(a[0])
			if err != nil {
				return err
			}
			list, err := c.PlanSetup(ctx, text, secrets)
			if err != nil {
				return err
			}
			return p.show(list, func(row func(...any)) { planTable(list, missing, "would change", row) })
		}},
		{"apply", "FILE", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			text, secrets, missing, err := read(a[0])
			if err != nil {
				return err
			}
			out, err := c.ApplySetup(ctx, text, secrets)
			if err != nil {
				return err
			}
			return p.show(out, func(row func(...any)) {
				planTable(out.Changes, missing, "changed", row)
				for code, given := range out.Given {
					for name, value := range given {
						row(code+"."+name+":", value, "(shown this once)")
					}
				}
			})
		}},
	})
}

func planTable(list []setup.Change, missing []string, word string, row func(...any)) {
	n := 0
	for _, c := range list {
		row(c.String())
		if c.Action != "note" {
			n++
		}
	}
	for _, m := range missing {
		row("! no value for", m)
	}
	if n == 0 {
		row("Nothing " + word + ": everything is as the text asks for.")
	} else {
		row(map[bool]string{true: "1 thing", false: fmt.Sprintf("%d things", n)}[n == 1] + " " + word + ".")
	}
}

// runConnector checks a definition, or tries it on a sample or on the system itself.
func runConnector(ctx context.Context, e *Env, f *flag.FlagSet, args []string) error {
	sample := f.String("sample", "", "try: `file` with a record as the other side gives it")
	live := f.Bool("live", false, "try: read one page from the system itself")
	feed := f.String("feed", "", "try: which feed; the first that comes in, if not said")
	address := f.String("address", "", "try -live: where the system is reached")
	site := f.String("site", "", "try -live: site, where the system has several")
	folder := f.String("connectors", "", "`folder` of further definitions that this one may extend")
	reach := f.String("reach", "", "try -live: `ranges` that are not public and may be called all the same")
	asJSON := f.Bool("json", false, "print JSON")
	var secrets, settings pairs
	f.Var(&secrets, "set", "try -live: a credential as `name=value`; the value may be env:NAME or @FILE")
	f.Var(&settings, "setting", "try: a setting as `name=value`, such as time_zone=UTC")
	if err := parse(f, args, 2, 2); err != nil {
		return err
	}
	if f.Arg(0) != "check" && f.Arg(0) != "try" {
		return usage{fmt.Sprintf("%q: check or try is expected", f.Arg(0))}
	}
	text, err := os.ReadFile(f.Arg(1))
	if err != nil {
		return err
	}
	lib, err := connector.BuiltIn()
	if err != nil {
		return err
	}
	if *folder != "" {
		if err := lib.AddFolder(*folder); err != nil {
			return err
		}
	}
	d, err := connector.Load(f.Arg(1), text, lib)
	if err != nil {
		return err
	}
	p := &printer{e.Out, e.Err, *asJSON}
	if f.Arg(0) == "check" {
		return p.show(d.Capabilities(), func(row func(...any)) {
			row(fmt.Sprintf("%s: %s, %s; let in by %s; feeds: %s", f.Arg(1), d.Title, d.Side, d.Capabilities().Way, message.FeedList(d.Kinds())))
		})
	}
	kind := message.Feed(*feed)
	for _, k := range d.Kinds() {
		if kind == "" && connector.ComesIn(k) {
			kind = k
		}
	}
	allowed, err := ranges(*reach)
	if err != nil {
		return err
	}
	free := map[string]any{}
	for k, v := range settings.m {
		free[k] = v
	}
	base := *address
	if base == "" {
		if base = d.Address.Default; base == "" {
			base = "http://nowhere.invalid"
		}
	}
	trimmed := connector.Trim(secrets.m)
	line, err := connector.NewLine(d, connector.LineOptions{Base: base, Site: *site, Login: connector.NewLogin(d, secrets.m, connector.Token{}), Settings: free, Client: connector.Guard{Allowed: allowed}.Client()})
	if err != nil {
		return err
	}
	switch {
	case *live:
		if len(trimmed) > 0 {
			fmt.Fprintf(e.Err, "Spaces were taken off: %s\n", strings.Join(trimmed, ", "))
		}
		return tryLive(ctx, e, p, line, kind)
	case *sample == "":
		return usage{"try needs -sample FILE or -live"}
	}
	raw, err := os.ReadFile(*sample)
	if err != nil {
		return err
	}
	t, err := line.Try(kind, raw)
	if err != nil {
		return err
	}
	if err := p.show(t, func(row func(...any)) { row("Feed", kind); trialTable(t, row) }); err != nil {
		return err
	}
	if t.Mistake != "" {
		return errors.New("this record would not be taken in: " + t.Mistake)
	}
	return nil
}

// liveReading is what one reading of the system itself came to.
type liveReading struct {
	Feed    message.Feed      `json:"feed"`
	Verdict connector.Verdict `json:"verdict"`
	Records int               `json:"records"`
	Good    int               `json:"good"`
	First   *connector.Trial  `json:"first,omitempty"`
	Mistake map[string]int    `json:"mistakes"`
}

func tryLive(ctx context.Context, e *Env, p *printer, line *connector.Line, kind message.Feed) error {
	out := liveReading{Feed: kind, Verdict: line.Test(ctx), Mistake: map[string]int{}}
	if !out.Verdict.LetIn {
		return errors.New(out.Verdict.Text)
	}
	fmt.Fprintln(e.Err, out.Verdict.Text)
	var first *connector.Record
	_, err := line.Read(ctx, kind, connector.Reading{Pages: 1, Keep: func(list []connector.Record) error {
		for _, r := range list {
			out.Records++
			if r.Err == nil {
				_, r.Err = line.MapBody(kind, "poll", r.Body)
			}
			if r.Err != nil {
				out.Mistake[r.Err.Error()]++
				continue
			}
			out.Good++
			if first == nil {
				first = &r
			}
		}
		return nil
	}})
	if err != nil {
		return err
	}
	if first != nil {
		t, err := line.Try(kind, first.Raw)
		if err != nil {
			return err
		}
		out.First = &t
	}
	return p.show(out, func(row func(...any)) {
		row(fmt.Sprintf("%s: %d records on the first page, %d can be taken in", kind, out.Records, out.Good))
		for text, n := range out.Mistake {
			row(n, "×", text)
		}
		if out.First != nil {
			row()
			row("The first of them:")
			trialTable(*out.First, row)
		}
	})
}
