package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"openrelay/internal/client"
	"openrelay/internal/connector"
	"openrelay/internal/core/message"
)

func connectorsCommand() command {
	return noun("list", "", "List the systems that can be joined, and what each can do", 0, 0, nil, runConnectors)
}

func runConnectors(ctx context.Context, c *client.Client, p *printer, _ []string) error {
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
			row(x.Connector, x.Title, x.Side, x.Can.Way, message.FeedList(x.Can.In), message.FeedList(x.Can.Out), yes,
				message.FeedList(x.Can.ReadBack))
		}
	})
}

func shapesCommand() command {
	return command{name: "shapes", args: "[NAME]", about: "Print the names of our messages, or the JSON Schema of one", run: runShapes}
}

func runShapes(_ context.Context, e *Env, f *flag.FlagSet, args []string) error {
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
}

func trialTable(t connector.Trial, row func(...any)) {
	row("Record", t.ID, fmt.Sprintf("version %d", t.Version))
	if t.Records > 1 {
		row("", fmt.Sprintf("the first of %d", t.Records))
	}
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

// connectorOptions are what a definition is checked or tried with.
type connectorOptions struct {
	sample, feed, address, site, folder, reach, keep string
	live, asJSON                                     bool
	secrets, settings                                pairs
}

func (opt *connectorOptions) checkFlags(f *flag.FlagSet) {
	f.StringVar(&opt.folder, "connectors", "", "`folder` of further definitions that this one may extend")
	f.BoolVar(&opt.asJSON, "json", false, "print JSON")
}

func (opt *connectorOptions) tryFlags(f *flag.FlagSet) {
	opt.checkFlags(f)
	f.StringVar(&opt.sample, "sample", "", "`file` with a record as the other side gives it")
	f.BoolVar(&opt.live, "live", false,
		"ask the system itself: read a page of each feed, and show what would be sent; nothing is changed there")
	f.StringVar(&opt.keep, "keep", "",
		"with -sample: keep it under this `label` beside the definition, with what became of it; check runs it from then on")
	f.StringVar(&opt.feed, "feed", "", "which feed; not said: with -sample the first that comes in, with -live each")
	f.StringVar(&opt.address, "address", "", "with -live: where the system is reached")
	f.StringVar(&opt.site, "site", "", "with -live: site, where the system has several")
	f.StringVar(&opt.reach, "reach", "", "with -live: `ranges` that are not public and may be called all the same")
	f.Var(&opt.secrets, "set", "with -live: a credential as `name=value`; the value may be env:NAME or @FILE")
	f.Var(&opt.settings, "setting", "a setting as `name=value`, such as time_zone=UTC")
}

func connectorCheckCommand() command {
	return command{
		name:  "check",
		args:  "FILE",
		about: "Check a connector definition, and run the samples that are kept beside it",
		run:   runConnectorCheck,
	}
}

func runConnectorCheck(ctx context.Context, e *Env, f *flag.FlagSet, args []string) error {
	opt := &connectorOptions{}
	opt.checkFlags(f)
	if err := parse(f, args, 1, 1); err != nil {
		return err
	}
	d, err := opt.definition(f.Arg(0))
	if err != nil {
		return err
	}
	p := &printer{e.Out, e.Err, opt.asJSON}
	samples, err := opt.besides(ctx, d, f.Arg(0))
	if err != nil {
		return err
	}
	if err := p.show(checkedFile{d.Capabilities(), samples}, func(row func(...any)) {
		row(fmt.Sprintf("%s: %s, %s; let in by %s; feeds: %s", f.Arg(0), d.Title, d.Side, d.Capabilities().Way,
			message.FeedList(d.Kinds())))
	}); err != nil {
		return err
	}
	return p.samplesHold(samples)
}

// checkedFile is what a definition in a file can do, and what became of its samples.
type checkedFile struct {
	connector.Capabilities
	Samples []connector.KeptSample `json:"samples"`
}

// besides runs the samples that are kept beside a definition.
func (opt *connectorOptions) besides(ctx context.Context, d *connector.Definition, file string) ([]connector.KeptSample, error) {
	line, err := opt.line(d)
	if err != nil {
		return nil, err
	}
	return line.RunSamples(ctx, connector.SamplesFolder(file))
}

// samplesHold says what became of samples; its error is that one did not hold.
func (p *printer) samplesHold(list []connector.KeptSample) error {
	wrong := 0
	for _, s := range list {
		if len(s.Wrong) > 0 {
			wrong++
		}
		for _, text := range s.Wrong {
			p.say("%s: %s", s.File, text)
		}
	}
	if wrong > 0 {
		return fmt.Errorf("%d of %d samples do not hold", wrong, len(list))
	}
	if len(list) > 0 {
		p.say("%d samples hold.", len(list))
	}
	return nil
}

func connectorTryCommand() command {
	return command{name: "try", args: "FILE", about: "Try a definition on a sample, or on the system itself", run: runConnectorTry}
}

func runConnectorTry(ctx context.Context, e *Env, f *flag.FlagSet, args []string) error {
	opt := &connectorOptions{}
	opt.tryFlags(f)
	if err := parse(f, args, 1, 1); err != nil {
		return err
	}
	d, err := opt.definition(f.Arg(0))
	if err != nil {
		return err
	}
	p := &printer{e.Out, e.Err, opt.asJSON}
	kind := message.Feed(opt.feed)
	for _, k := range d.Kinds() {
		if kind == "" && connector.ComesIn(k) {
			kind = k
		}
	}
	trimmed := connector.Trim(opt.secrets.m)
	line, err := opt.line(d)
	switch {
	case err != nil:
		return err
	case opt.live:
		if len(trimmed) > 0 {
			fmt.Fprintf(e.Err, "Spaces were taken off: %s\n", strings.Join(trimmed, ", "))
		}
		if err := opt.fits(d); err != nil {
			return err
		}
		return tryLive(ctx, e, p, line, message.Feed(opt.feed))
	case opt.sample == "":
		return usage{"-sample FILE or -live is needed"}
	}
	return opt.trySample(p, line, kind, f.Arg(0))
}

// definition reads and checks the definition in a file.
func (opt *connectorOptions) definition(file string) (*connector.Definition, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	lib, err := connector.BuiltIn()
	if err != nil {
		return nil, err
	}
	if opt.folder != "" {
		if err := lib.AddFolder(opt.folder); err != nil {
			return nil, err
		}
	}
	return connector.Load(file, text, lib)
}

// line is a line to the system, as it would be at work.
func (opt *connectorOptions) line(d *connector.Definition) (*connector.Line, error) {
	allowed, err := ranges(opt.reach)
	if err != nil {
		return nil, err
	}
	settings := map[string]any{}
	for k, v := range opt.settings.m {
		settings[k] = v
	}
	return connector.NewLine(d, connector.LineOptions{Base: or(opt.address, or(d.Address.Default, connector.Nowhere)),
		Site:  opt.site,
		Login: connector.NewLogin(d, opt.secrets.m, connector.Token{}), Settings: settings,
		Client: connector.Guard{Allowed: allowed}.Client(), Dial: connector.Guard{Allowed: allowed}.Dial(),
		Folders: []string{"/"}})
}

// fits refuses credentials that the definition does not have, or that do not have the form it says.
func (opt *connectorOptions) fits(d *connector.Definition) error {
	known := map[string]bool{}
	for _, field := range d.Access.Fields {
		known[field.Name] = true
		if opt.secrets.m[field.Name] == "" && !field.Optional && !field.Give {
			return fmt.Errorf("%s is missing; give it with -set %s=…", field.Label, field.Name)
		}
		if !field.Fits(opt.secrets.m[field.Name]) {
			return fmt.Errorf("%s (%s): this is not what it looks like; %s", field.Label, field.Name,
				or(field.Help, "the form expected is "+field.Pattern))
		}
	}
	for name := range opt.secrets.m {
		if !known[name] {
			return usage{fmt.Sprintf("-set %s: %s has no such field", name, d.Title)}
		}
	}
	return nil
}

// trySample maps a record from a file, and keeps it beside the definition where that is wished.
func (opt *connectorOptions) trySample(p *printer, line *connector.Line, kind message.Feed, definition string) error {
	raw, err := os.ReadFile(opt.sample)
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
	if opt.keep == "" {
		return nil
	}
	kept, err := line.KeepSample(connector.SamplesFolder(definition), kind, opt.keep, filepath.Ext(opt.sample), raw, t.Message)
	if err != nil {
		return err
	}
	p.say("Kept as %s, with what is wanted of it; leave there what matters.", kept.File)
	for _, why := range kept.Refused {
		p.say("It is kept, too, that this is refused: %s", why)
	}
	return nil
}
