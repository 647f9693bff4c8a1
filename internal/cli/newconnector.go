package cli

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"

	"openrelay/internal/connector/draft"
	"openrelay/internal/core/message"
)

// newConnectorOptions are what a first definition is made of.
type newConnectorOptions struct {
	wish                              draft.Wish
	feed, path, sample, openAPI, file string
	quiet, force                      bool
}

func newConnectorCommand() command {
	return command{name: "new", args: "CODE", run: runNewConnector,
		about: "Write a first definition: from a few questions, a sample answer, or an OpenAPI document"}
}

func (opt *newConnectorOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.wish.Title, "title", "", "what people call the system")
	f.StringVar(&opt.wish.Side, "side", "", "channel, back office, fulfiller, carrier, courier or address service")
	f.StringVar(&opt.wish.Address, "address", "", "where it is reached, where that is the same for everybody")
	f.StringVar(&opt.wish.Way, "way", "", "how it lets us in: token, key, password, client, consent, files or inbound")
	f.StringVar(&opt.wish.Header, "header", "", "with -way token or key: the header that carries it")
	f.StringVar(&opt.feed, "feed", "", "what comes in, such as \"orders in\"")
	f.StringVar(&opt.path, "path", "", "where that is listed, such as /orders; of files the folder")
	f.StringVar(&opt.sample, "sample", "", "`file` with what it answers there: JSON, XML or CSV")
	f.StringVar(&opt.openAPI, "openapi", "", "`file` with its OpenAPI document (version 3), JSON or YAML")
	f.StringVar(&opt.file, "out", "", "`file` to write; not said: CODE.yaml; - prints it")
	f.BoolVar(&opt.quiet, "no-questions", false, "ask nothing; what is not said takes its usual value")
	f.BoolVar(&opt.force, "force", false, "write over a file that is there")
}

func runNewConnector(_ context.Context, e *Env, f *flag.FlagSet, args []string) error {
	opt := &newConnectorOptions{}
	opt.flags(f)
	if err := parse(f, args, 1, 1); err != nil {
		return err
	}
	opt.wish.Code = f.Arg(0)
	if !opt.quiet && opt.openAPI == "" {
		if err := opt.ask(e); err != nil {
			return err
		}
	}
	if opt.openAPI != "" {
		text, err := os.ReadFile(opt.openAPI)
		if err != nil {
			return err
		}
		opt.wish.OpenAPI = string(text)
	}
	if err := opt.addFeed(); err != nil {
		return err
	}
	d, err := draft.New(opt.wish)
	if err != nil {
		return err
	}
	return opt.write(e, d)
}

// addFeed takes over what was said of a feed.
func (opt *newConnectorOptions) addFeed() error {
	if opt.feed == "" {
		if opt.sample != "" || opt.path != "" {
			return usage{"-feed is needed: what the sample or the path is of, such as \"orders in\""}
		}
		return nil
	}
	feed := draft.Feed{Kind: message.Feed(opt.feed), Path: opt.path}
	if opt.sample != "" {
		text, err := os.ReadFile(opt.sample)
		if err != nil {
			return err
		}
		feed.Sample = string(text)
	}
	opt.wish.Feeds = append(opt.wish.Feeds, feed)
	return nil
}

// ask asks for what was not said.
func (opt *newConnectorOptions) ask(e *Env) error {
	in := bufio.NewReader(e.In)
	w := &opt.wish
	for _, q := range []struct {
		text, usual string
		to          *string
	}{
		{"What do people call it?", strings.ReplaceAll(w.Code, "-", " "), &w.Title},
		{"Which side is it: channel, back office, fulfiller, carrier, courier?", "channel", &w.Side},
		{"How does it let us in: token, key, password, client, consent, files, inbound?", "token", &w.Way},
		{"Where is it reached, if that is the same for everybody?", "", &w.Address},
		{"What comes in: " + string(message.OrdersIn) + ", " + string(message.ListingsIn) + ", …?", "", &opt.feed},
		{"Where is that listed, such as /orders?", "", &opt.path},
		{"A file with what it answers there?", "", &opt.sample},
	} {
		if *q.to != "" || (q.to == &opt.path || q.to == &opt.sample) && opt.feed == "" {
			continue
		}
		fmt.Fprint(e.Err, q.text)
		if q.usual != "" {
			fmt.Fprintf(e.Err, " [%s]", q.usual)
		}
		fmt.Fprint(e.Err, " ")
		line, err := in.ReadString('\n')
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		if *q.to = strings.TrimSpace(line); *q.to == "" {
			*q.to = q.usual
		}
		if errors.Is(err, io.EOF) {
			fmt.Fprintln(e.Err)
		}
	}
	return nil
}

func (opt *newConnectorOptions) write(e *Env, d draft.Draft) error {
	file := or(opt.file, opt.wish.Code+".yaml")
	if file == "-" {
		_, err := io.WriteString(e.Out, d.Text)
		return err
	}
	if _, err := os.Stat(file); !errors.Is(err, fs.ErrNotExist) && !opt.force {
		if err != nil {
			return err
		}
		return fmt.Errorf("%s is there already; -force writes over it", file)
	}
	if err := os.WriteFile(file, []byte(d.Text), 0o600); err != nil {
		return err
	}
	fmt.Fprintf(e.Out, "%s is written, and passes the check.\n", file)
	if len(d.Open) > 0 {
		fmt.Fprintln(e.Out, "Look at:")
	}
	for _, o := range d.Open {
		fmt.Fprintf(e.Out, "  - %s\n", o)
	}
	fmt.Fprintf(e.Out, "Then: openrelay connector check %s; openrelay connector try %s -live -address … -set …\n", file, file)
	return nil
}
