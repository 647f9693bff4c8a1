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
