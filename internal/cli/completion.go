package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"strings"
)

// runCompletion prints what a shell needs to complete commands, their words and their flags.
func runCompletion(ctx context.Context, e *Env, f *flag.FlagSet, args []string) error {
	if err := parse(f, args, 1, 1); err != nil {
		return err
	}
	switch f.Arg(0) {
	case "bash":
	case "zsh": // which understands what bash does
		fmt.Fprint(e.Out, "autoload -U +X bashcompinit && bashcompinit\n")
	default:
		return usage{fmt.Sprintf("%q: bash or zsh is expected", f.Arg(0))}
	}
	var names []string
	var cases strings.Builder
	for _, c := range commands() {
		names = append(names, c.name)
		fmt.Fprintf(&cases, "    %q) words=%q ;;\n", c.name+" ", strings.Join(completed(ctx, e, c), " "))
		for _, v := range c.verbs {
			fmt.Fprintf(&cases, "    %q) words=%q ;;\n", c.name+" "+v.name, strings.Join(completed(ctx, e, v), " "))
		}
	}
	fmt.Fprintf(e.Out, `_openrelay() {
  local current=${COMP_WORDS[COMP_CWORD]} words="" noun=${COMP_WORDS[1]} verb=""
  if [ "$COMP_CWORD" -eq 1 ]; then
    COMPREPLY=($(compgen -W %q -- "$current"))
    return
  fi
  [ "$COMP_CWORD" -gt 2 ] && verb=${COMP_WORDS[2]}
  case "$verb" in -*) verb="" ;; esac
  case "$noun $verb" in
%s  esac
  COMPREPLY=($(compgen -W "$words" -- "$current") $(compgen -f -- "$current"))
}
complete -o filenames -F _openrelay openrelay
`, strings.Join(names, " "), cases.String())
	return nil
}

// completed are the words and flags of a command: of a noun, its verbs and the flags of the first of them, which
// is meant where none is named.
func completed(ctx context.Context, e *Env, c command) (words []string) {
	for _, v := range c.verbs {
		words = append(words, v.name)
	}
	for _, form := range strings.Split(c.args, " | ") {
		if form != "" && form == strings.ToLower(form) && !strings.ContainsAny(form, "[.|") {
			words = append(words, form)
		}
	}
	run := c.run
	if run == nil && c.verbs[0].name == "list" {
		run = c.verbs[0].run
	}
	if run == nil {
		return words
	}
	f := flag.NewFlagSet(c.name, flag.ContinueOnError)
	f.SetOutput(io.Discard)
	f.Usage = func() {}
	// Asked for help, a command tells its flags and does nothing.
	_ = run(ctx, &Env{In: strings.NewReader(""), Out: io.Discard, Err: io.Discard, Getenv: e.Getenv}, f, []string{"-h"})
	f.VisitAll(func(x *flag.Flag) { words = append(words, "-"+x.Name) })
	return words
}
