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

// command is what can be asked for: something that is done, or a noun with verbs.
type command struct {
	name, args, about string
	run               func(ctx context.Context, e *Env, f *flag.FlagSet, args []string) error
	verbs             []command // of a noun, in the order in which they are needed
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
	if len(args) == 0 || asksForHelp(args[0]) {
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
		if len(c.verbs) > 0 && len(args) == 2 && asksForHelp(args[1]) {
			help(e.Out, c, nil)
			return 0
		}
		return c.carryOut(ctx, e, args[1:])
	}
	fmt.Fprintf(e.Err, "openrelay: there is no command %q\n\n", args[0])
	overview(e.Err)
	return 2
}

func asksForHelp(arg string) bool {
	return arg == "-h" || arg == "-help" || arg == "--help" || arg == "help"
}

// carryOut runs a command, or the verb of a noun, and returns the exit code.
func (c command) carryOut(ctx context.Context, e *Env, args []string) int {
	f := flag.NewFlagSet(c.name, flag.ContinueOnError)
	f.SetOutput(io.Discard)
	f.Usage = func() {}
	var err error
	if len(c.verbs) > 0 {
		c, args, err = c.verb(args)
	}
	if err == nil {
		err = c.run(ctx, e, f, args)
	}
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
	if list := missing(f); len(list) > 0 {
		return usage{strings.Join(list, ", ") + " must be given"}
	}
	return f.Parse(append([]string{"--"}, rest...))
}

func negative(arg string) bool {
	_, err := strconv.ParseInt(arg, 10, 64)
	return err == nil && strings.HasPrefix(arg, "-")
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
