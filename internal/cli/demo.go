package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"strings"
	"time"

	"openrelay/console"
	"openrelay/internal/demo"
)

type demoOptions struct {
	data, listen, level string
	walk, empty         bool
	orders, days        int
	seed                uint64
}

func (opt *demoOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.data, "data", "", "company `file` to make; without it a temporary one")
	f.StringVar(&opt.listen, "listen", "127.0.0.1:8410", "`address` of the console; the outside systems take the next ten ports")
	f.BoolVar(&opt.walk, "walk", false, "go through a day by the interfaces, check what is seen, and end")
	f.IntVar(&opt.days, "days", 30, "how many `days` the company has behind it")
	f.IntVar(&opt.orders, "orders", 0, "sell so many orders more, for load")
	f.Uint64Var(&opt.seed, "seed", 1, "`number` that the made-up orders come from")
	f.BoolVar(&opt.empty, "empty", false,
		"start with a service that has no company yet: its first run, with the outside systems beside it")
	f.StringVar(&opt.level, "log", "error", "least `level` that is logged")
}

func runDemo(ctx context.Context, e *Env, f *flag.FlagSet, args []string) error {
	opt := &demoOptions{}
	opt.flags(f)
	if err := parse(f, args, 0, 0); err != nil {
		return err
	}
	if opt.days < 0 || opt.days > 365 {
		return usage{fmt.Sprintf("-days %d: 0 to 365 are expected", opt.days)}
	}
	addrs, err := ports(opt.listen)
	if err != nil {
		return err
	}
	o := demo.Options{File: opt.data, Addrs: addrs, Console: console.Files(), Log: logger(e, opt.level), Version: e.Version,
		Extra: int64(opt.orders), Days: opt.days, Empty: opt.empty}
	if opt.walk {
		o.Addrs, o.Days, o.Empty = demo.FreePorts, 0, false
	}
	if opt.empty {
		o.Days = 0
	}
	w, err := demo.Open(ctx, o)
	if err != nil {
		return err
	}
	defer w.Close()
	switch {
	case opt.walk:
		return w.Walk(ctx, e.Out)
	case opt.empty:
		fmt.Fprintf(e.Out,
			"\n  Nobody has a company here yet. Begin it at\n\n    %s\n\n%s\n  Everything is made up and ends with Ctrl-C.\n",
			w.Invitation, outside(w.Outside))
	default:
		if err := opt.story(ctx, e.Out, w); err != nil {
			return err
		}
		sayHowToCome(e.Out, w)
	}
	<-ctx.Done()
	return nil
}

// story lets the company have a past and a today.
func (opt *demoOptions) story(ctx context.Context, out io.Writer, w *demo.World) error {
	fmt.Fprintln(out, "Morrow Hive Supply opens, and joins its stores, marketplaces, till and carriers …")
	if err := w.JoinAll(ctx); err != nil {
		return err
	}
	began := time.Now()
	if opt.days > 0 {
		if err := w.Past(ctx, opt.days, func(day int) { fmt.Fprintf(out, "\r  day %d of %d", day+1, opt.days) }); err != nil {
			return err
		}
		fmt.Fprintf(out, "\r  %d days were lived through in %.0f s\n", opt.days, time.Since(began).Seconds())
	}
	if err := w.Seed(ctx); err != nil {
		return err
	}
	if err := w.PartnerStories(ctx); err != nil {
		return err
	}
	if opt.orders == 0 {
		return nil
	}
	began = time.Now()
	if err := w.Load(ctx, opt.orders, opt.seed, func(n int) { fmt.Fprintf(out, "\r%d of %d orders sold", n, opt.orders) }); err != nil {
		return err
	}
	fmt.Fprintf(out, "\r%d orders sold in %.1f s; they come in now\n", opt.orders, time.Since(began).Seconds())
	return nil
}

func sayHowToCome(out io.Writer, w *demo.World) {
	fmt.Fprintf(out, `
  Console       %s
                sign in with the password %s as
%s
%s
  All are joined but Ironway and Swift Heron, two carriers, and Nosh Lane, which is for you: Connections, Join a system.
  For Nosh Lane the relay gives you a key and an address; put them in at %s/menu.

  On the command line:
    export OPENRELAY_SERVER=%s OPENRELAY_TOKEN=%s
    openrelay order list

  Everything is made up and ends with Ctrl-C.
`, w.URL, demo.Password, logins(), outside(w.Outside), w.NoshURL, w.URL, w.Token)
}

// logins are those of the people of the demo, one for each role.
func logins() string {
	lines := make([]string, len(demo.People))
	for i, p := range demo.People {
		lines[i] = fmt.Sprintf("                  %-28s %s, %s", p.Email, p.Name, p.Role)
	}
	return strings.Join(lines, "\n")
}

// outside are the simulated systems, where each is seen, and all that is needed to join it by hand.
func outside(o *demo.Outside) string {
	var b strings.Builder
	for _, s := range []struct{ side, url, name, access string }{
		{"Store", o.MorrowURL, demo.Company, keys(demo.MorrowAccess, "token", "push_secret")},
		{"Store", o.SkepURL, "Little Skep", keys(demo.SkepAccess, "token", "push_secret")},
		{"Carrier", o.PloverURL, "Plover Post", keys(demo.PloverAccess, "key", "push_secret")},
		{"Marketplace", o.TansyURL, "Tansy, site westmark, seller T-8841", keys(demo.TansyAccess, "app", "app_secret")},
		{"Marketplace", o.BrambleURL, "Bramble Row", keys(demo.BrambleAccess, "key", "secret")},
		{"Till", o.CounterpaneURL, "Counterpane", keys(demo.CounterpaneAccess, "user", "password", "shop")},
		{"Portal", o.NoshURL, "Nosh Lane", keys(demo.NoshAccess, "key")},
		{"Carrier", o.IronwayURL, "Ironway", keys(demo.IronwayAccess, "user", "password")},
		{"Carrier", o.HeronURL, "Swift Heron", keys(demo.HeronAccess, "client", "secret", "push_secret")},
		{"Partner", o.GateURL, "Fallowgate, a warehouse; its trays lie at " + o.GateURL + "/trays, those for tables below it in sheets",
			keys(demo.GateAccess, "user",
				"password")},
		{"Partner", o.SlateURL, "Scribe & Slate, a maker", keys(demo.SlateAccess, "account", "password")},
		{"Addresses", o.PostbookURL, "Postbook", keys(demo.PostbookAccess, "token", "contract", "desk")},
	} {
		fmt.Fprintf(&b, "  %-13s %s/control   %s\n                  %s\n", s.side, s.url, s.name, s.access)
	}
	fmt.Fprintf(&b, "  %-13s %s/control   what comes out of it; for the relay it is %s\n", "Printer", o.PrinterURL, o.PrinterAddress())
	fmt.Fprintf(&b, "  %-13s %s   what the people of the company are told; mail to %s, calls to %s/call\n", "Letter tray", o.TrayURL,
		o.MailAddr, o.TrayURL)
	return b.String()
}

// keys writes what lets in, in an order that people can follow.
func keys(access map[string]string, names ...string) string {
	parts := make([]string, len(names))
	for i, name := range names {
		parts[i] = name + "=" + access[name]
		if strings.Contains(access[name], " ") {
			parts[i] = fmt.Sprintf("%s=%q", name, access[name])
		}
	}
	return strings.Join(parts, "  ")
}
