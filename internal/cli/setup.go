package cli

import (
	"context"
	"flag"
	"fmt"
	"os"

	"openrelay/internal/client"
	"openrelay/internal/setup"
)

// setupCommand works with set-ups as text. References are resolved here, where the person is.
type setupOptions struct{ set pairs }

func setupCommand() command {
	opt := &setupOptions{}
	return verbs("setup", "A company's set-up as text: written, looked at, taken over", opt.flags, []verb{
		{"write", "", "Print the set-up of the company as it is", 0, opt.export},
		{"ready", "NAME", "Print a set-up that is shipped", 1, opt.ready},
		{"preview", "FILE", "See what taking a set-up over would change", 1, opt.plan},
		{"adopt", "FILE", "Take a set-up over", 1, opt.apply},
	})
}

func (opt *setupOptions) flags(f *flag.FlagSet) {
	f.Var(&opt.set, "set", "a value for ${NAME} in the text, as `NAME=value`")
}

// read reads a set-up with the secrets it names, and lists those that are missing.
func (opt *setupOptions) read(file string) (text string, secrets map[string]map[string]string, missing []string, err error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return "", nil, nil, err
	}
	if text, err = setup.Fill(string(b), func(name string) (string, bool) { v, ok := opt.set.m[name]; return v, ok }); err != nil {
		return "", nil, nil, err
	}
	s, err := setup.Parse([]byte(text))
	if err != nil {
		return "", nil, nil, fmt.Errorf("%s: %w", file, err)
	}
	secrets = map[string]map[string]string{}
	for _, x := range s.Secrets() {
		values, none, err := setup.Resolve(x, os.Getenv)
		if err != nil {
			return "", nil, nil, err
		}
		secrets[x.Key] = values
		missing = append(missing, none...)
	}
	return text, secrets, missing, nil
}

func (opt *setupOptions) export(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	text, err := c.ExportSetup(ctx)
	if err != nil {
		return err
	}
	_, err = fmt.Fprint(p.w, text)
	return err
}

func (opt *setupOptions) ready(_ context.Context, _ *client.Client, p *printer, a []string) error {
	text, err := setup.ReadyText(a[0])
	if err != nil {
		return err
	}
	_, err = fmt.Fprint(p.w, text)
	return err
}

func (opt *setupOptions) plan(ctx context.Context, c *client.Client, p *printer, a []string) error {
	text, secrets, missing, err := opt.read(a[0])
	if err != nil {
		return err
	}
	list, err := c.PlanSetup(ctx, text, secrets)
	if err != nil {
		return err
	}
	return p.show(list, func(row func(...any)) { planTable(list, missing, "would change", row) })
}

func (opt *setupOptions) apply(ctx context.Context, c *client.Client, p *printer, a []string) error {
	text, secrets, missing, err := opt.read(a[0])
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
		row("see  no value for", m)
	}
	if n == 0 {
		row("Nothing " + word + ": everything is as the text asks for.")
	} else {
		row(map[bool]string{true: "1 thing", false: fmt.Sprintf("%d things", n)}[n == 1] + " " + word + ".")
	}
}
