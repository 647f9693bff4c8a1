package cli

import (
	"context"
	"flag"
	"fmt"
	"os"
	"strings"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/relay/keeping"
	"openrelay/internal/wire"
)

// copying are the options of commands that copy a company file.
type copying struct {
	data, passphraseFile string
	still                bool
}

func (opt *copying) passphrase(e *Env) (string, error) {
	if opt.passphraseFile != "" {
		text, err := os.ReadFile(opt.passphraseFile)
		if err != nil {
			return "", fmt.Errorf("read the passphrase: %w", err)
		}
		return strings.TrimRight(string(text), "\r\n"), nil
	}
	return readSecret(e, "Passphrase under which the keys of the backup are sealed (at least 12 characters):")
}

// percent tells each tenth of the way.
func percent(e *Env) func(done, total int) {
	told := 0
	return func(done, total int) {
		if at := done * 10 / max(total, 1); at > told && total > 25_000 { // of a file beyond a hundred megabytes
			told = at
			fmt.Fprintf(e.Err, "%d %%\n", at*10)
		}
	}
}

func runBackup(ctx context.Context, e *Env, f *flag.FlagSet, args []string) error {
	opt := &copying{}
	f.StringVar(&opt.data, "data", "company.relay", "company `file`; a service may be at work on it")
	f.StringVar(&opt.passphraseFile, "passphrase-file", "", "`file` that holds the passphrase; without it, it is read from standard input")
	if err := parse(f, args, 1, 1); err != nil {
		return err
	}
	if err := mustExist(opt.data); err != nil {
		return err
	}
	passphrase, err := opt.passphrase(e)
	if err != nil {
		return err
	}
	m, err := keeping.Backup(ctx, opt.data, f.Arg(0), passphrase, percent(e))
	if err != nil {
		return err
	}
	fmt.Fprintf(e.Out, "%s holds %s as of %s: %s. Everything holds; made in %.1f s.\n", f.Arg(0), m.Company,
		m.At.Format("2006-01-02 15:04:05"), holds(m), m.Took.Seconds())
	return nil
}

func holds(m keeping.Made) string {
	return fmt.Sprintf("%d orders, %d items, %.1f MB", m.Orders, m.Items, float64(m.Bytes)/1e6)
}

func runRestore(ctx context.Context, e *Env, f *flag.FlagSet, args []string) error {
	opt := &copying{}
	f.StringVar(&opt.data, "data", "company.relay", "company `file` to make; none may be there")
	f.StringVar(&opt.passphraseFile, "passphrase-file", "", "`file` that holds the passphrase; without it, it is read from standard input")
	f.BoolVar(&opt.still, "still", false, "pause all connections: for a trial, while the company itself is at work elsewhere")
	if err := parse(f, args, 1, 1); err != nil {
		return err
	}
	passphrase, err := opt.passphrase(e)
	if err != nil {
		return err
	}
	m, err := keeping.Restore(ctx, f.Arg(0), opt.data, passphrase, opt.still, percent(e))
	if err != nil {
		return err
	}
	fmt.Fprintf(e.Out, "%s is %s as of %s: %s. Everything holds.\n", opt.data, m.Company, m.At.Local().Format("2006-01-02 15:04:05"),
		holds(m))
	if m.Upgraded != 0 {
		fmt.Fprintf(e.Out, "Its tables were of version %d and were brought up to date; the backup is as it was.\n", m.Upgraded)
	}
	if opt.still {
		fmt.Fprintln(e.Out, "Its connections are paused.")
	} else {
		fmt.Fprintln(e.Out, "What came and went since then is not known to it; orders are read again.")
		fmt.Fprintln(e.Out, "Only one service may work as this company.")
	}
	fmt.Fprintf(e.Out, "Next: openrelay serve -data %s\n", opt.data)
	return nil
}

// backupsOptions are when backups are made.
type backupsOptions struct {
	keeping.Schedule
	off            bool
	passphraseFile string
}

func backupsCommand() command {
	opt := &backupsOptions{}
	return verbs(
		"backup",
		"Copies of the company, with its keys under a passphrase",
		opt.flags,
		[]verb{
			{"list", "", "When copies are made, and which there are", 0, opt.list},
			{"now", "", "Have the service make one now", 0, opt.now},
			{"daily", "", "Have one made each day", 0, opt.daily},
			{"stop", "", "Make none by itself any more", 0, opt.stop},
		},
	)
}

func (opt *backupsOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.At, "at", "", "daily: `time` of day, HH:MM by the company's clocks (02:30 where none was set)")
	f.IntVar(&opt.Keep, "keep", 0, "daily: how `many` are kept (14 where none was set)")
	f.StringVar(&opt.passphraseFile, "passphrase-file", "",
		"daily: `file` that holds the passphrase of the backups (required once)")
}

func (opt *backupsOptions) list(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	b, err := c.Backups(ctx)
	return showBackups(p, b, err)
}

func (opt *backupsOptions) now(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	b, err := c.BackUp(ctx)
	return showBackups(p, b, err)
}

func (opt *backupsOptions) daily(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	was, err := c.Backups(ctx)
	if err != nil {
		return err
	}
	s := was.Schedule
	s.On = true
	if opt.At != "" {
		s.At = opt.At
	}
	if opt.Keep != 0 {
		s.Keep = opt.Keep
	}
	passphrase := ""
	if opt.passphraseFile != "" {
		text, err := os.ReadFile(opt.passphraseFile)
		if err != nil {
			return fmt.Errorf("read the passphrase: %w", err)
		}
		passphrase = strings.TrimRight(string(text), "\r\n")
	}
	b, err := c.SetBackups(ctx, s, passphrase)
	return showBackups(p, b, err)
}

func (opt *backupsOptions) stop(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	was, err := c.Backups(ctx)
	if err != nil {
		return err
	}
	was.Schedule.On = false
	b, err := c.SetBackups(ctx, was.Schedule, "")
	return showBackups(p, b, err)
}

func showBackups(p *printer, b wire.Backups, err error) error {
	if err != nil {
		return err
	}
	p.heading(backupsText(b))
	return p.show(b, func(row func(...any)) {
		row("Name", "Made", "Megabytes", "By", "State")
		for _, x := range b.List {
			row(x.Name, x.BeganAt, fmt.Sprintf("%.1f", float64(x.Bytes)/1e6), x.Who, backupState(x))
		}
	})
}

// backupsText says in a sentence or two how it stands.
func backupsText(b wire.Backups) string {
	text := "No backups are made by themselves."
	switch {
	case !b.Folder:
		text = "The service has no folder for backups; start it with -backups FOLDER."
	case b.Schedule.On:
		text = fmt.Sprintf("A backup each day at %s; %d are kept.", b.Schedule.At, b.Schedule.Keep)
	}
	if u := b.Underway; u != nil {
		text += fmt.Sprintf(" One is being made: %d of %d pages.", u.Done, u.Total)
	}
	return text
}

func backupState(b wire.Backup) string {
	switch {
	case b.Error != "":
		return "failed: " + b.Error
	case b.GoneAt != nil:
		return "removed"
	case b.EndedAt == nil:
		return "being made"
	}
	return "there, took " + b.EndedAt.Sub(*b.BeganAt).Round(100*time.Millisecond).String()
}

func keyCommand() command {
	return verbs(
		"key",
		"The keys under which secrets are sealed",
		func(*flag.FlagSet) {},
		[]verb{
			{
				"rotate",
				"",
				"Seal everything anew with a new key",
				0,
				func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
					out, err := c.RotateKey(ctx)
					if err != nil {
						return err
					}
					return p.told(out, "%d secrets are sealed with key %d now; make a backup: older ones hold the older key", out.Secrets,
						out.Key)
				},
			},
		},
	)
}

func retentionCommand() command {
	return verbs("retention", "For how long things stay whole; orders, stock and books stay for ever", func(*flag.FlagSet) {}, []verb{
		{"list", "", "Each kind, and how thinning went", 0, listRetention},
		{"set", "KIND DAYS", "Say for how many days a kind stays whole; 0: for ever", 2, setRetention},
		{"thin", "", "Thin what is old now; it goes on beside the work", 0, thinNow},
	})
}

func listRetention(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	out, err := c.Retention(ctx)
	return showRetention(p, out, err)
}

func setRetention(ctx context.Context, c *client.Client, p *printer, a []string) error {
	days, err := number(a[1])
	if err != nil {
		return err
	}
	out, err := c.SetRetention(ctx, map[string]int{a[0]: int(days)})
	return showRetention(p, out, err)
}

func thinNow(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	out, err := c.ThinNow(ctx)
	return showRetention(p, out, err)
}

func showRetention(p *printer, out wire.Retentions, err error) error {
	if err != nil {
		return err
	}
	return p.show(out, func(row func(...any)) {
		row("Kind", "Days", "Thinned", "What")
		for _, k := range out.Kinds {
			days, rows := fmt.Sprint(k.Days), ""
			if k.Days == 0 {
				days = "for ever"
			}
			if out.Last != nil && out.Last.Thinned[k.Kind] > 0 {
				rows = fmt.Sprint(out.Last.Thinned[k.Kind])
			}
			row(k.Kind, days, rows, k.What)
		}
		row()
		row(fmt.Sprintf("The file has %.1f MB, of which %.1f MB are free to be used again.", float64(out.Bytes)/1e6, float64(out.Free)/1e6))
		switch last := out.Last; {
		case last == nil:
			row("Nothing was thinned yet.")
		case last.Ended.IsZero():
			row("It is being thinned now:", last.Kind)
		case last.Error != "":
			row("Thinned last", &last.Ended, "in vain:", last.Error)
		default:
			row(fmt.Sprintf("Thinned last %s; nobody waited longer than %.1f ms.",
				last.Ended.Local().Format("2006-01-02 15:04"), last.Longest))
		}
	})
}
