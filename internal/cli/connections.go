package cli

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"strings"

	"openrelay/internal/client"
	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/joining"
	"openrelay/internal/wire"
)

type settingsOptions struct {
	set pairs
}

func settingsCommand() command {
	opt := &settingsOptions{}
	return noun("settings", "CONNECTION", "Show the settings of a connection, or change some with -set", 1, 1, opt.flags, opt.run)
}

func (opt *settingsOptions) flags(f *flag.FlagSet) {
	f.Var(&opt.set, "set", "a setting as `name=value`, such as offer.buffer=2, offer.sources=alder,pier or time_zone=UTC")
}

func (opt *settingsOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	j, err := c.Join(ctx, a[0])
	if err != nil {
		return err
	}
	if len(opt.set.m) > 0 {
		s, err := changed(ctx, c, j.Connection.Settings, opt.set.m)
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
}

type overridesOptions struct {
	sample string
}

func overridesCommand() command {
	opt := &overridesOptions{}
	return noun("overrides", "CONNECTION", "Show what a connection changes of its connector, or replace it with -file", 1, 1,
		opt.flags, opt.run)
}

func (opt *overridesOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.sample, "file", "", "`file` with the part of a definition; an empty one takes all away")
}

func (opt *overridesOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	j, err := c.Join(ctx, a[0])
	if err == nil && opt.sample != "" {
		text, ferr := os.ReadFile(opt.sample)
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
}

type renewOptions struct {
	accessOptions
}

func renewCommand() command {
	opt := &renewOptions{}
	return noun("renew", "CONNECTION", "Renew the credentials of a connection at work; what is not given stays", 1, 1,
		opt.accessOptions.flags, opt.run)
}

func (opt *renewOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	t, err := c.Renew(ctx, a[0], opt.accessOptions.access())
	return showTested(p, t, err)
}

type leaveOptions struct {
	accept bool
}

func leaveCommand() command {
	opt := &leaveOptions{}
	return noun("leave", "CONNECTION", "Say what leaving a connection removes and what stays; leave it with -yes", 1, 1, opt.flags,
		opt.run)
}

func (opt *leaveOptions) flags(f *flag.FlagSet) {
	f.BoolVar(&opt.accept, "yes", false, "leave it")
}

func (opt *leaveOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	l, err := c.WouldLeave(ctx, a[0])
	if err != nil {
		return err
	}
	if opt.accept {
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
		row(map[bool]string{true: a[0] + " was left.", false: "Nothing was done. Leave it with -yes."}[opt.accept])
	})
}

type testModeOptions struct {
	off bool
}

func testModeCommand() command {
	opt := &testModeOptions{}
	return noun("test-mode", "CONNECTION", "Put a connection in test (or take it live with -off)", 1, 1, opt.flags, opt.run)
}

func (opt *testModeOptions) flags(f *flag.FlagSet) { f.BoolVar(&opt.off, "off", false, "take it live") }

func (opt *testModeOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	j, err := c.SetTest(ctx, a[0], !opt.off)
	return showJoin(p, j, err)
}

func clearTestsCommand() command {
	return noun("clear-tests", "CONNECTION", "Remove the test orders of a connection and what was tried on its bench", 1, 1, nil,
		runClearTests)
}

func runClearTests(ctx context.Context, c *client.Client, p *printer, a []string) error {
	n, err := c.ClearTests(ctx, a[0])
	if err != nil {
		return err
	}
	return p.show(map[string]int64{"orders": n}, func(row func(...any)) { row(fmt.Sprintf("%d test orders were removed.", n)) })
}

type benchOptions struct {
	sample string
	send   bool
}

func benchCommand() command {
	opt := &benchOptions{}
	return noun("bench", "CONNECTION FEED", "Try a sample, see what a message would become, or send it marked as a test with -send", 2, 2,
		opt.flags, opt.run)
}

func (opt *benchOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.sample, "sample", "", "`file` with a record of theirs or a message of ours; without it one is made up")
	f.BoolVar(&opt.send, "send", false, "send it; the connection has to be in test")
}

func (opt *benchOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	text := ""
	if opt.sample != "" {
		b, err := os.ReadFile(opt.sample)
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
	t, err := c.Try(ctx, a[0], message.Feed(a[1]), text, opt.send)
	if err != nil {
		return err
	}
	return p.show(t, func(row func(...any)) { triedTable(t, row) })
}

func accountsCommand() command {
	return noun("accounts", "", "List what lets us in at outside systems", 0, 0, nil, runAccounts)
}

func runAccounts(ctx context.Context, c *client.Client, p *printer, _ []string) error {
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
}

func connectionsCommand() command {
	return noun("list", "", "List connections and how they stand", 0, 0, nil, runConnections)
}

func runConnections(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, err := c.Connections(ctx)
	if err != nil {
		return err
	}
	return p.show(list, func(row func(...any)) {
		row("Code", "Name", "Connector", "Side", "Lamp", "Orders today", "Waiting", "Refused", "Last good run")
		for _, x := range list {
			row(x.Code, x.Name, x.Title, x.Side, x.Lamp.State+": "+x.Lamp.Text, x.Orders, x.Waiting, x.Refused, x.LastOK)
		}
	})
}

func feedsCommand() command {
	return noun("list", "CONNECTION", "List the feeds of a connection", 1, 1, nil, runFeeds)
}

func runFeeds(ctx context.Context, c *client.Client, p *printer, a []string) error {
	x, err := c.Connection(ctx, a[0])
	if err != nil {
		return err
	}
	return p.show(x.Feeds, func(row func(...any)) { feedTable(x, row) })
}

type feedOptions struct {
	schedule string
	off      bool
}

func feedCommand() command {
	opt := &feedOptions{}
	return noun("set", "CONNECTION KIND", "Switch a feed on (or off with -off), set its schedule", 2, 2, opt.flags, opt.run)
}

func (opt *feedOptions) flags(f *flag.FlagSet) {
	f.BoolVar(&opt.off, "off", false, "switch it off")
	f.StringVar(&opt.schedule, "schedule", "", "five cron fields or \"@every 30s\"; empty means the connector's own")
}

func (opt *feedOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	x, err := c.Connection(ctx, a[0])
	if err != nil {
		return err
	}
	for _, fd := range x.Feeds {
		if string(fd.Kind) == a[1] {
			if x, err = c.SetFeed(ctx, a[0], fd.Kind, !opt.off, opt.schedule, fd.Revision); err != nil {
				return err
			}
			return p.show(x.Feeds, func(row func(...any)) { feedTable(x, row) })
		}
	}
	return fmt.Errorf("%s has no feed %q", a[0], a[1])
}

type pauseOptions struct {
	off bool
}

func pauseCommand() command {
	opt := &pauseOptions{}
	return noun("pause", "CONNECTION", "Pause a connection (or resume it with -off)", 1, 1, opt.flags, opt.run)
}

func (opt *pauseOptions) flags(f *flag.FlagSet) { f.BoolVar(&opt.off, "off", false, "resume") }

func (opt *pauseOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	x, err := c.Connection(ctx, a[0])
	if err != nil {
		return err
	}
	if x, err = c.Pause(ctx, a[0], !opt.off, x.Revision); err != nil {
		return err
	}
	return p.show(x, func(row func(...any)) { row(x.Name, x.Lamp.Text) })
}

func testCommand() command {
	return noun("test", "CONNECTION", "Ask the other side who we are there", 1, 1, nil, runTest)
}

func runTest(ctx context.Context, c *client.Client, p *printer, a []string) error {
	id, err := c.Test(ctx, a[0])
	if err != nil {
		return err
	}
	return p.show(id, func(row func(...any)) { row("Let in as", id.Name, "number "+id.Number, id.Country) })
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

func feedTable(x wire.Connection, row func(...any)) {
	row("Feed", "Switch", "Lamp", "By", "Schedule", "Last good run")
	for _, f := range x.Feeds {
		sw := "off"
		if f.On {
			sw = "on"
		}
		sched := f.Schedule
		if sched == "" && f.Every != "" {
			sched = "every " + f.Every
		}
		row(f.Kind, sw, f.Lamp.State+": "+f.Lamp.Text, strings.Join(f.Ways, ", "), sched, f.LastOK)
	}
}
