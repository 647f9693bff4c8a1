package cli

import (
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"
	"text/tabwriter"
)

// required, in the usage of a flag, says that the command does nothing without it.
const required = "(required)"

// missing are the flags that were not given although they are required.
func missing(f *flag.FlagSet) (list []string) {
	given := map[string]bool{}
	f.Visit(func(x *flag.Flag) { given[x.Name] = true })
	f.VisitAll(func(x *flag.Flag) {
		if strings.HasSuffix(x.Usage, required) && !given[x.Name] {
			list = append(list, "-"+x.Name)
		}
	})
	return list
}

// help explains a command: how it is written, what it does, its flags, those that are required first.
func help(w io.Writer, c command, f *flag.FlagSet) {
	fmt.Fprintf(w, "%s.\n\n", c.about)
	if len(c.verbs) > 0 {
		helpNoun(w, c)
		return
	}
	for i, way := range strings.Split(c.args, " | ") {
		fmt.Fprintf(w, "%s openrelay %s %s\n", []string{"Usage:", "      "}[min(i, 1)], c.name, strings.TrimSpace("[flags] "+way))
	}
	parts := map[string]*flag.FlagSet{}
	f.VisitAll(func(x *flag.Flag) {
		part := "Flags"
		if strings.HasSuffix(x.Usage, required) {
			part = "Required flags"
		} else if slices.Contains(ofTheClient, x.Name) && f.Lookup("server") != nil {
			part = "The service, and how the answer is printed"
		}
		if parts[part] == nil {
			parts[part] = flag.NewFlagSet("", flag.ContinueOnError)
		}
		parts[part].Var(x.Value, x.Name, strings.TrimSuffix(x.Usage, " "+required))
		parts[part].Lookup(x.Name).DefValue = x.DefValue
	})
	for _, part := range []string{"Required flags", "Flags", "The service, and how the answer is printed"} {
		if parts[part] != nil {
			fmt.Fprintf(w, "\n%s:\n", part)
			parts[part].SetOutput(w)
			parts[part].PrintDefaults()
		}
	}
}

func helpNoun(w io.Writer, c command) {
	t := tabwriter.NewWriter(w, 0, 4, 2, ' ', 0)
	if c.run != nil {
		fmt.Fprintf(t, "  openrelay %s %s\t%s\n", c.name, c.args, "This itself")
	}
	for _, v := range c.verbs {
		fmt.Fprintf(t, "  openrelay %s %s\t%s\n", c.name, strings.TrimSpace(v.name+" "+v.args), v.about)
	}
	t.Flush()
	fmt.Fprintf(w, "\nEach explains itself: openrelay %s %s -h\n", c.name, c.verbs[0].name)
}

// overview is one page of all commands, in the order of the work.
func overview(w io.Writer) {
	fmt.Fprint(w, "Open Relay connects what sells with what ships.\n\nUsage: openrelay NOUN [VERB] [flags] [arguments]\n\n")
	t := tabwriter.NewWriter(w, 0, 4, 2, ' ', 0)
	for _, g := range groups() {
		fmt.Fprintln(t, g.title)
		for _, c := range g.commands {
			fmt.Fprintf(t, "  %s %s\t%s\n", c.name, c.args, c.about)
		}
		fmt.Fprintln(t)
	}
	t.Flush()
	fmt.Fprint(
		w,
		"Each explains itself with -h: openrelay order -h, openrelay order show -h. The client finds the service by -server or\n"+
			"OPENRELAY_SERVER and signs in with the API token in OPENRELAY_TOKEN (or -token-file).\n",
	)
}
