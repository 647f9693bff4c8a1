// Command cover reads a profile of go test -coverprofile and prints, for each package, the share of its statements that
// were run at least once. It is for packages whose tests stand in several places.
package main

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"strings"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: cover PROFILE")
		os.Exit(2)
	}
	f, err := os.Open(os.Args[1])
	if err == nil {
		defer f.Close()
		err = report(f, os.Stdout)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "cover:", err)
		os.Exit(1)
	}
}

// report prints the shares of a profile. A block that several test programs report counts once.
func report(profile io.Reader, out io.Writer) error {
	type block struct {
		statements int
		run        bool
	}
	blocks := map[string]block{}
	lines := bufio.NewScanner(profile)
	for n := 1; lines.Scan(); n++ {
		line := lines.Text()
		if strings.HasPrefix(line, "mode:") {
			continue
		}
		var statements, count int
		at := strings.IndexByte(line, ' ')
		if at < 0 {
			return fmt.Errorf("line %d: a block and two numbers are expected", n)
		}
		if _, err := fmt.Sscanf(line[at:], "%d %d", &statements, &count); err != nil {
			return fmt.Errorf("line %d: %w", n, err)
		}
		b := blocks[line[:at]]
		blocks[line[:at]] = block{statements, b.run || count > 0}
	}
	if err := lines.Err(); err != nil {
		return err
	}
	all, run := map[string]int{}, map[string]int{}
	for where, b := range blocks {
		pkg := path.Dir(where[:strings.LastIndexByte(where, ':')])
		all[pkg] += b.statements
		if b.run {
			run[pkg] += b.statements
		}
	}
	var names []string
	for pkg := range all {
		names = append(names, pkg)
	}
	slices.Sort(names)
	for _, pkg := range names {
		fmt.Fprintf(out, "%5.1f %%  %s\n", 100*float64(run[pkg])/float64(all[pkg]), pkg)
	}
	return nil
}
