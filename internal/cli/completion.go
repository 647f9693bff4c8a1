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
		fmt.Fprintf(&cases, "    %s) words=%q ;;\n", c.name, strings.Join(completed(ctx, e, c), " "))
	}
	fmt.Fprintf(e.Out, `_openrelay() {
  local current=${COMP_WORDS[COMP_CWORD]} words=""
  if [ "$COMP_CWORD" -eq 1 ]; then
    COMPREPLY=($(compgen -W %q -- "$current"))
    return
  fi
  case "${COMP_WORDS[1]}" in
%s  esac
  COMPREPLY=($(compgen -W "$words" -- "$current") $(compgen -f -- "$current"))
}
complete -o filenames -F _openrelay openrelay
`, strings.Join(names, " "), cases.String())
	return nil
}

// completed are the words and flags of a command: of "list | add EMAIL", list and add.
func completed(ctx context.Context, e *Env, c command) (words []string) {
	for _, form := range strings.Split(c.args, " | ") {
		word, _, _ := strings.Cut(strings.TrimSpace(form), " ")
		if word != "" && word == strings.ToLower(word) && !strings.ContainsAny(word, "[.|") {
			words = append(words, word)
		}
	}
	f := flag.NewFlagSet(c.name, flag.ContinueOnError)
	f.SetOutput(io.Discard)
	f.Usage = func() {}
	// Asked for help, a command tells its flags and does nothing.
	_ = c.run(ctx, &Env{In: strings.NewReader(""), Out: io.Discard, Err: io.Discard, Getenv: e.Getenv}, f, []string{"-h"})
	f.VisitAll(func(x *flag.Flag) { words = append(words, "-"+x.Name) })
	return words
}
