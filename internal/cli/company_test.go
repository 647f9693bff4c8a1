package cli

import (
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openrelay/internal/api"
	"openrelay/internal/relay/trial"
)

// office is a small company at work, and a command line beside it.
type office struct {
	*trial.Kit
	t   *testing.T
	env map[string]string
	dir string
}

func newOffice(t *testing.T) *office {
	t.Helper()
	k := trial.Live(t, "ann", "bob")
	a, handler := api.New(k.Relay, api.Options{Version: "test"})
	server := httptest.NewServer(handler)
	t.Cleanup(func() { a.End(); server.Close() })
	token, err := k.NewToken(t.Context(), "Edda", "lead")
	require.NoError(t, err)
	return &office{Kit: k, t: t, env: map[string]string{"OPENRELAY_SERVER": server.URL, "OPENRELAY_TOKEN": token}, dir: t.TempDir()}
}

// file writes a file and returns its path.
func (o *office) file(name, text string) string {
	o.t.Helper()
	path := filepath.Join(o.dir, name)
	require.NoError(o.t, os.MkdirAll(filepath.Dir(path), 0o750))
	require.NoError(o.t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

// run carries out a command and returns its exit code and what it said.
func (o *office) run(args ...string) (code int, out, errs string) {
	var stdout, stderr strings.Builder
	code = Run(o.t.Context(), &Env{Out: &stdout, Err: &stderr, Getenv: func(k string) string { return o.env[k] }, Version: "test"}, args)
	return code, stdout.String(), stderr.String()
}

// does expects commands, written as a line each, to end well and say something: "command ⇒ what it says". A command that
// begins with ! is expected to fail, and to say that on standard error.
func (o *office) does(lines string) {
	o.t.Helper()
	for _, line := range strings.Split(strings.TrimSpace(lines), "\n") {
		command, says, _ := strings.Cut(strings.TrimSpace(line), " ⇒ ")
		if says == "-" { // whatever it says
			says = ""
		}
		command, fails := strings.CutPrefix(command, "!")
		code, out, errs := o.run(words(command)...)
		if fails {
			assert.NotZero(o.t, code, "%s\n%s", command, out)
			assert.Contains(o.t, errs, says, command)
			continue
		}
		assert.Zero(o.t, code, "%s\n%s%s", command, out, errs)
		assert.Contains(o.t, out, says, command)
	}
}

// comesToSay expects a command to say something as soon as the service at work has come to it.
func (o *office) comesToSay(command, says string) {
	o.t.Helper()
	require.EventuallyWithT(o.t, func(c *assert.CollectT) {
		code, out, errs := o.run(words(command)...)
		assert.Zero(c, code, errs)
		assert.Contains(c, out, says, command)
	}, time.Minute, 20*time.Millisecond)
}

// words splits a command at its spaces; what stands in quotes is one word.
func words(command string) (out []string) {
	for i, part := range strings.Split(command, `"`) {
		if i%2 == 1 {
			out = append(out, part)
		} else {
			out = append(out, strings.Fields(part)...)
		}
	}
	return out
}

// TestWhatACompanyStandsOn: places with hours and bins, senders, carriers that are only named, by commands alone.
func TestWhatACompanyStandsOn(t *testing.T) {
	o := selling(t)
	walk := o.file("bins", "A-[01-02]-[1-2]\nfloor\n")
	none := o.file("none", "")
	o.does(`
		place put alder -hours mon-fri=08:00-17:00 -hours sat=09:00-12:00 -cutoff 14:00 -off 2026-12-24:2026-12-26=Midwinter ⇒ Alder Yard
		!place put alder -hours mon-fri=late ⇒ hours such as 08:00-17:00
		!place put alder -hours someday=08:00-17:00 ⇒ days and hours such as
		!place put alder -cutoff 14:00 ⇒ go with -hours
		place put alder -bins ` + walk + ` ⇒ Alder Yard
		!stock adjust JAR alder +3 -reason found -bin B-9 ⇒ flag provided but not defined
		place put alder -bins ` + none + ` ⇒ Alder Yard
		!place archive alder ⇒ names Alder Yard in its settings
		place put loft -name Loft ⇒ Loft
		place archive loft ⇒ Loft
		!place put loft -name Attic ⇒ use it again first
		place restore loft ⇒ Loft
		sender put skep -name "Little Skep" -phone "555 0117" ⇒ Little Skep
		sender put skep -company "Morrow Hive" ⇒ 555 0117
		connection settings stall -set sender=skep ⇒ skep
		!sender archive skep ⇒ ships as skep
		!sender put Skep -name x ⇒ small letters
		sender list ⇒ Morrow Hive
		sender put comb -name Comb ⇒ Comb
		sender put comb -phone "555 0118" ⇒ 555 0118
		change list -limit 2 ⇒ can be undone
		change list -limit 2 ⇒ 15 
		change undo 15 ⇒ undid 15
		!change undo 15 ⇒ undone already
		!change undo six ⇒ is no number of a change
		carrier put barge -name Barge -tracking https://barge.example/{number} ⇒ barge.example
		!carrier put barge -tracking nowhere ⇒ an address such as https
		carrier archive barge ⇒ Barge
		carrier restore barge ⇒ Barge
		shipment pick O10001 ⇒ JAR
		!parcel type S10001 -carrier barge ⇒ -number must be given
		!parcel type S10001 -carrier barge -number BG117 ⇒ not packed yet
		shipment scan S10001 JAR -quantity 2 ⇒ 2 of 2
		shipment pack S10001 small ⇒ -
		!parcel type S10001 -carrier nobody -number BG117 ⇒ only named
		parcel type S10001 -carrier barge -number BG117 -key once ⇒ S10001 left with Barge; tracking number BG117
		parcel type S10001 -carrier barge -number BG117 -key once ⇒ S10001 left with Barge; tracking number BG117
		parcel type S10001 -carrier barge -number BG118 ⇒ tracking number BG118
		!parcel type S10001 -carrier barge -number BG118 ⇒ has BG118 already
		company -language de ⇒ -
		!company -language tlh ⇒ one of ", en, de, fr"
	`)
}
