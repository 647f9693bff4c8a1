package cli

import (
	"context"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"

	"openrelay/internal/client"
)

// verb is one of the words that a command takes first.
type verb struct {
	word, args string
	least      int
	run        func(ctx context.Context, c *client.Client, p *printer, a []string) error
}

// verbs makes a command of several words: name VERB arguments. They are listed in the order given, which is
// that in which they are needed. Without a word, where there is a list it is shown.
func verbs(name, about string, flags func(*flag.FlagSet), list []verb) command {
	var forms, words []string
	for _, v := range list {
		forms = append(forms, strings.TrimSpace(v.word+" "+v.args))
		words = append(words, v.word)
	}
	least := 1
	if list[0].word == "list" {
		least = 0 // what most are asked for needs no word
	}
	return noun(name, strings.Join(forms, " | "), about, least, -1, flags, func(ctx context.Context, c *client.Client, p *printer,
		a []string) error {
		if len(a) == 0 {
			a = words[:1]
		}
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

// noun wraps a client command with the flags they all have.
func noun(name, args, about string, least, most int, flags func(*flag.FlagSet),
	run func(ctx context.Context, c *client.Client, p *printer, a []string) error) command {
	return command{name, args, about, func(ctx context.Context, e *Env, f *flag.FlagSet, raw []string) error {
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
