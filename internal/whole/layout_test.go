package whole

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestImportsPointOneWay holds the layout of docs/architecture.md.
func TestImportsPointOneWay(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}}:{{range .Imports}} {{.}}{{end}}`, "openrelay/cmd/...", "openrelay/internal/...").Output()
	require.NoError(t, err)
	forbidden := map[string][]string{
		"internal/core":      {"internal/connector", "internal/relay", "internal/store", "internal/api", "internal/client", "internal/cli", "internal/paper", "internal/standin", "internal/demo", "database/sql", "net/http", "os", "log"},
		"internal/connector": {"internal/relay", "internal/store", "internal/api", "internal/standin", "internal/demo", "database/sql"},
		"internal/store":     {"internal/connector", "internal/relay", "internal/api", "net/http"},
		"internal/relay":     {"internal/api", "internal/client", "internal/cli", "internal/standin", "internal/demo", "database/sql"},
		"internal/paper":     {"internal/store", "internal/relay", "internal/api", "net/http"},
		"internal/api":       {"internal/client", "internal/cli", "internal/standin", "internal/demo", "database/sql"},
		"internal/client":    {"internal/cli", "internal/standin", "internal/demo"},
		"internal/standin":   {"internal/core", "internal/connector", "internal/relay", "internal/store", "internal/api", "internal/demo"},
	}
	checked := 0
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		pkg, imports, _ := strings.Cut(line, ":")
		pkg = strings.TrimPrefix(pkg, "openrelay/")
		for room, never := range forbidden {
			if pkg != room && !strings.HasPrefix(pkg, room+"/") {
				continue
			}
			checked++
			for _, imp := range strings.Fields(imports) {
				imp = strings.TrimPrefix(imp, "openrelay/")
				for _, bad := range never {
					require.False(t, imp == bad || strings.HasPrefix(imp, bad+"/"), "%s imports %s", pkg, imp)
				}
			}
		}
	}
	require.Greater(t, checked, 12)
}
