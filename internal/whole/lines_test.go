package whole_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	mostColumns = 140 // of a line; a tab counts as four
	mostLines   = 60  // of a function: what a reader sees on one screen
)

// tagged is a field of a struct with its tag, which cannot be broken.
var tagged = regexp.MustCompile("^\\s+\\w+.* `[a-z_]+:\".*`$")

// sources calls f for each file that people write, but for what is generated.
func sources(t *testing.T, f func(path, text string)) {
	t.Helper()
	seen := 0
	for _, root := range []string{"../../cmd", "../../internal", "../../console/src"} {
		require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || strings.HasSuffix(path, "schema.d.ts") {
				return err
			}
			switch filepath.Ext(path) {
			case ".go", ".sql", ".ts", ".tsx", ".css":
				text, err := os.ReadFile(path)
				if err != nil {
					return err
				}
				seen++
				f(path, string(text))
			}
			return nil
		}))
	}
	require.Greater(t, seen, 300)
}

// TestLinesEnd: no line is longer than people can see.
func TestLinesEnd(t *testing.T) {
	sources(t, func(path, text string) {
		for i, line := range strings.Split(text, "\n") {
			columns := len([]rune(line)) + 3*strings.Count(line, "\t")
			assert.True(t, columns <= mostColumns || tagged.MatchString(line), "%s:%d has %d columns", path, i+1, columns)
		}
	})
}

// TestFunctionsFitAScreen: no function is longer than a reader sees at once. Tests tell a story from top to bottom, and may be
// longer.
func TestFunctionsFitAScreen(t *testing.T) {
	sources(t, func(path, text string) {
		if filepath.Ext(path) != ".go" || strings.HasSuffix(path, "_test.go") {
			return
		}
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, path, text, 0)
		require.NoError(t, err)
		for _, d := range file.Decls {
			if fn, is := d.(*ast.FuncDecl); is {
				lines := set.Position(fn.End()).Line - set.Position(fn.Pos()).Line + 1
				assert.LessOrEqual(t, lines, mostLines, "%s: %s", path, fn.Name.Name)
			}
		}
	})
}
