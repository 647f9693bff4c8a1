package cli

import (
	"context"
	"flag"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"

	"openrelay/internal/client"
)

// verb is something that is done with a noun; least is how many arguments it takes.
type verb struct {
	word, args, about string
	least             int
	run               func(ctx context.Context, c *client.Client, p *printer, a []string) error
}

// verbs makes a noun of what can be done with it, in the order in which it is needed. Flags are said once for
// all; a usage that begins with verbs, as in "add, change: the name", makes it a flag of those alone, and
// "(add: required)" in it one that must be given there.
func verbs(name, about string, flags func(*flag.FlagSet), list []verb) command {
	var words []string
	for _, v := range list {
		words = append(words, v.word)
	}
	c := command{name: name, about: about}
	for _, v := range list {
		c.verbs = append(c.verbs, noun(v.word, v.args, v.about, v.least, v.least, func(f *flag.FlagSet) {
			addressed(f, flags, v.word, words)
		}, v.run))
	}
	return c
}

var requiredOf = regexp.MustCompile(` ?\(([a-z-]+): required\)`)

// addressed takes over into f those flags that are meant for a verb, one of words.
func addressed(f *flag.FlagSet, flags func(*flag.FlagSet), word string, words []string) {
	every := flag.NewFlagSet("", flag.ContinueOnError)
	flags(every)
	every.VisitAll(func(x *flag.Flag) {
		usage := x.Usage
		if before, rest, ok := strings.Cut(usage, ": "); ok {
			meant := strings.Split(before, ", ")
			if slices.Contains(words, meant[0]) {
				if !slices.Contains(meant, word) {
					return
				}
				usage = rest
			}
		}
		usage = requiredOf.ReplaceAllStringFunc(usage, func(said string) string {
			if requiredOf.FindStringSubmatch(said)[1] == word {
				return " " + required
			}
			return ""
		})
		f.Var(x.Value, x.Name, usage)
	})
}

// of makes a noun of commands.
func of(name, about string, list ...command) command {
	return command{name: name, about: about, verbs: list}
}

// with adds verbs to a noun, after those it has.
func (c command) with(list ...command) command {
	c.verbs = append(slices.Clone(c.verbs), list...)
	return c
}

// verb is the command that a noun's first argument asks for, and the arguments left. What begins with a flag,
// or nothing at all, asks for the list, where there is one.
func (c command) verb(args []string) (command, []string, error) {
	var words []string
	for _, v := range c.verbs {
		if len(args) > 0 && v.name == args[0] {
			v.name = c.name + " " + v.name
			return v, args[1:], nil
		}
		words = append(words, v.name)
	}
	if c.run != nil { // such as openrelay backup TO
		c.verbs = nil
		return c, args, nil
	}
	if first := c.verbs[0]; first.name == "list" && (len(args) == 0 || strings.HasPrefix(args[0], "-")) {
		first.name = c.name + " " + first.name
		return first, args, nil
	}
	expected := "one of " + strings.Join(words, ", ") + " is expected"
	if len(words) == 1 {
		expected = words[0] + " is expected"
	}
	if len(args) == 0 {
		return c, nil, usage{expected}
	}
	return c, nil, usage{fmt.Sprintf("%q: %s", args[0], expected)}
}

// ofTheClient are the flags that all commands have that ask a running service.
var ofTheClient = []string{"server", "token-file", "json"}

// noun wraps a client command with the flags they all have.
func noun(name, args, about string, least, most int, flags func(*flag.FlagSet),
	run func(ctx context.Context, c *client.Client, p *printer, a []string) error) command {
	return command{name: name, args: args, about: about, run: func(ctx context.Context, e *Env, f *flag.FlagSet, raw []string) error {
		server := f.String("server", "", "`address` of the service; else OPENRELAY_SERVER, else http://127.0.0.1:8410")
		tokenFile := f.String("token-file", "", "`file` that holds the API token; else OPENRELAY_TOKEN")
		asJSON := f.Bool("json", false, "print JSON")
		if flags != nil {
			flags(f)
		}
		if err := parse(f, raw, least, most); err != nil {
			return err
		}
		if *server == "" {
			*server = e.Getenv("OPENRELAY_SERVER")
		}
		if *server == "" {
			*server = "http://127.0.0.1:8410"
		}
		token := e.Getenv("OPENRELAY_TOKEN")
		if *tokenFile != "" {
			b, err := os.ReadFile(*tokenFile)
			if err != nil {
				return err
			}
			token = strings.TrimSpace(string(b))
		}
		return run(ctx, client.New(*server, token), &printer{e.Out, e.Err, *asJSON}, f.Args())
	}}
}
