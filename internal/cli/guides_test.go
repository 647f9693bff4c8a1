package cli

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/person"
	"openrelay/internal/demo"
)

// docs is where the pages are, seen from this package.
var docs, _ = filepath.Abs(filepath.Join("..", "..", "docs"))

// forReaders is a command with a word that stands for something of the reader's: FILE, CODE.
var forReaders = regexp.MustCompile(`(^| )-?[A-Z]{4,}( |$)`)

var named = regexp.MustCompile("`openrelay ([^`]+)`")

// TestGuidesAreTried: each command that a guide names is there, and those of a role's guide are carried out by that role
// on the demo. What needs a file of the reader's, or changes much, is only looked up.
func TestGuidesAreTried(t *testing.T) {
	w, err := demo.Open(t.Context(), demo.Options{Addrs: demo.FreePorts, File: filepath.Join(t.TempDir(), "company.relay")})
	require.NoError(t, err)
	t.Cleanup(w.Close)
	require.NoError(t, w.Seed(t.Context()))
	t.Chdir(t.TempDir())
	roles := map[string]person.Role{"clerk": person.Clerk, "packer": person.Packer, "bookkeeper": person.Bookkeeper, "lead": person.Lead,
		"consultant": person.Lead}
	guides, err := filepath.Glob(filepath.Join(docs, "guide", "*.md"))
	require.NoError(t, err)
	require.Len(t, guides, len(roles))
	for _, file := range guides {
		name := strings.TrimSuffix(filepath.Base(file), ".md")
		t.Run(name, func(t *testing.T) {
			token, err := w.Relay.NewToken(t.Context(), name, roles[name])
			require.NoError(t, err)
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			tried := 0
			for _, m := range named.FindAllStringSubmatch(string(text), -1) {
				args := words(strings.Join(strings.Fields(m[1]), " "))
				if name != "lead" && !forReaders.MatchString(m[1]) {
					carriedOut(t, w.URL, token, args)
					tried++
				} else {
					isThere(t, args)
				}
			}
			if name != "lead" {
				require.GreaterOrEqual(t, tried, 4, "commands of the guide that were carried out")
			}
		})
	}
}

// carriedOut runs a command as who has a token; it must not fail.
func carriedOut(t *testing.T, url, token string, args []string) {
	t.Helper()
	var out, errs strings.Builder
	env := map[string]string{"OPENRELAY_SERVER": url, "OPENRELAY_TOKEN": token}
	code := Run(t.Context(), &Env{Out: &out, Err: &errs, Getenv: func(k string) string { return env[k] }}, args)
	require.Zero(t, code, "openrelay %s: %s", strings.Join(args, " "), errs.String())
}

// isThere tells whether a command and its verb exist.
func isThere(t *testing.T, args []string) {
	t.Helper()
	for _, c := range commands() {
		if c.name != args[0] {
			continue
		}
		if len(c.verbs) == 0 || len(args) == 1 {
			return
		}
		_, _, err := c.verb(args[1:])
		require.NoError(t, err, "openrelay %s", strings.Join(args, " "))
		return
	}
	require.Fail(t, "there is no such command", "openrelay %s", strings.Join(args, " "))
}

// TestDocsNameCommandsThatThereAre, whatever page they stand on.
func TestDocsNameCommandsThatThereAre(t *testing.T) {
	files, err := filepath.Glob(filepath.Join(docs, "*.md"))
	require.NoError(t, err)
	files = append(files, filepath.Join(docs, "..", "README.md"))
	seen := 0
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, m := range named.FindAllStringSubmatch(string(text), -1) {
			isThere(t, words(strings.Join(strings.Fields(m[1]), " ")))
			seen++
		}
	}
	require.GreaterOrEqual(t, seen, 30)
}
