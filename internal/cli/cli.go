// Package cli holds the subcommands of openrelay. Those that run something (serve, demo, standins,
// verify) work on a company file; all others are the client of a running service.
//
// Exit codes: 0 done, 1 it did not work, 2 the command was not understood.
package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"text/tabwriter"
)

// Env is what a command may touch.
type Env struct {
	In       io.Reader
	Out, Err io.Writer
	Getenv   func(string) string
	Version  string
}

// usage is an error in how a command was written.
type usage struct{ text string }

func (u usage) Error() string { return u.text }

type command struct {
	name, args, about string
	run               func(ctx context.Context, e *Env, f *flag.FlagSet, args []string) error
}

// commands are all of them, in the order in which help lists them.
func commands() (list []command) {
	for _, g := range groups() {
		list = append(list, g.commands...)
	}
	return list
}

func runVersion(_ context.Context, e *Env, f *flag.FlagSet, args []string) error {
	if err := parse(f, args, 0, 0); err != nil {
		return err
	}
	fmt.Fprintf(e.Out, "openrelay %s\n", e.Version)
	return nil
}

// Run carries out a command and returns the exit code.
func Run(ctx context.Context, e *Env, args []string) int {
	if len(args) == 0 || args[0] == "-h" || args[0] == "-help" || args[0] == "--help" || args[0] == "help" {
		overview(e.Out)
		if len(args) == 0 {
			return 2
		}
		return 0
	}
	for _, c := range commands() {
		if c.name != args[0] {
			continue
		}
		f := flag.NewFlagSet(c.name, flag.ContinueOnError)
		f.SetOutput(io.Discard)
		f.Usage = func() {}
		err := c.run(ctx, e, f, args[1:])
		var u usage
		switch {
		case err == nil:
			return 0
		case errors.Is(err, flag.ErrHelp):
			help(e.Out, c, f)
			return 0
		case errors.As(err, &u):
			fmt.Fprintf(e.Err, "openrelay %s: %s\n\n", c.name, u.text)
			help(e.Err, c, f)
			return 2
		default:
			fmt.Fprintf(e.Err, "openrelay %s: %v\n", c.name, err)
			return 1
		}
	}
	fmt.Fprintf(e.Err, "openrelay: there is no command %q\n\n", args[0])
	overview(e.Err)
	return 2
}

// parse reads flags, before and after the arguments, and checks how many arguments there are.
func parse(f *flag.FlagSet, args []string, least, most int) error {
	var rest []string
	for {
		for len(args) > 0 && negative(args[0]) { // -3 is a number, not a flag
			rest, args = append(rest, args[0]), args[1:]
		}
		if err := f.Parse(args); err != nil {
			if errors.Is(err, flag.ErrHelp) {
				return err
			}
			return usage{err.Error()}
		}
		if f.NArg() == 0 {
			break
		}
		rest = append(rest, f.Arg(0))
		args = f.Args()[1:]
	}
	if len(rest) < least || (most >= 0 && len(rest) > most) {
		return usage{"wrong number of arguments"}
	}
	return f.Parse(append([]string{"--"}, rest...))
}

func negative(arg string) bool {
	_, err := strconv.ParseInt(arg, 10, 64)
	return err == nil && strings.HasPrefix(arg, "-")
}

func help(w io.Writer, c command, f *flag.FlagSet) {
	fmt.Fprintf(w, "%s.\n\n", c.about)
	for i, way := range strings.Split(c.args, " | ") {
		fmt.Fprintf(w, "%s openrelay %s %s\n", []string{"Usage:", "      "}[min(i, 1)], c.name, strings.TrimSpace("[flags] "+way))
	}
	any := false
	f.VisitAll(func(*flag.Flag) { any = true })
	if any {
		fmt.Fprintln(w, "\nFlags:")
		f.SetOutput(w)
		f.PrintDefaults()
	}
}

func overview(w io.Writer) {
	fmt.Fprint(w, "Open Relay connects what sells with what ships.\n\nUsage: openrelay COMMAND [flags] [arguments]\n\n")
	t := tabwriter.NewWriter(w, 0, 4, 2, ' ', 0)
	for _, g := range groups() {
		fmt.Fprintln(t, g.title)
		for _, c := range g.commands {
			args := c.args
			if strings.Contains(args, " | ") {
				args = "…" // its own help lists the ways
			}
			fmt.Fprintf(t, "  %s %s\t%s\n", c.name, args, c.about)
		}
		fmt.Fprintln(t)
	}
	t.Flush()
	fmt.Fprint(w, "Each command explains itself with -h. The client finds the service by -server or OPENRELAY_SERVER\nand signs in "+
		"with the API token in OPENRELAY_TOKEN (or -token-file).\n")
}

// Main runs the program.
func Main(version string) int {
	ctx, stop := interruptible()
	defer stop()
	return Run(ctx, &Env{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Getenv: os.Getenv, Version: version}, os.Args[1:])
}

func or(s, otherwise string) string {
	if s == "" {
		return otherwise
	}
	return s
}
