package whole

import (
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestImportsPointOneWay holds the layout of docs/architecture.md.
func TestImportsPointOneWay(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}}:{{range .Imports}} {{.}}{{end}}`, "openrelay/cmd/...",
		"openrelay/internal/...").Output()
	require.NoError(t, err)
	forbidden := map[string][]string{
		"internal/core": {"internal/connector", "internal/relay", "internal/store", "internal/api", "internal/wire",
			"internal/client", "internal/cli", "internal/paper", "internal/standin", "internal/demo", "database/sql", "net/http",
			"os", "log"},
		"internal/connector": {"internal/relay", "internal/store", "internal/api", "internal/wire", "internal/standin", "internal/demo",
			"database/sql"},
		"internal/store": {"internal/connector", "internal/relay", "internal/api", "internal/wire", "net/http"},
		"internal/relay": {"internal/api", "internal/wire", "internal/client", "internal/cli", "internal/standin", "internal/demo",
			"database/sql"},
		"internal/seal":  {"internal/core", "internal/store", "internal/relay", "internal/api", "database/sql", "net/http"},
		"internal/paper": {"internal/store", "internal/relay", "internal/api", "internal/wire", "net/http"},
		"internal/api":   {"internal/client", "internal/cli", "internal/standin", "internal/demo", "database/sql"},
		"internal/wire": {"internal/api", "internal/client", "internal/cli", "internal/standin", "internal/demo", "database/sql",
			"net/http"},
		"internal/client": {"internal/api", "internal/cli", "internal/standin", "internal/demo"},
		"internal/standin": {"internal/core", "internal/connector", "internal/relay", "internal/store", "internal/api", "internal/wire",
			"internal/demo"},
	}
	for _, room := range []string{"cmd", "internal/api", "internal/cli", "internal/client", "internal/demo", "internal/relay"} {
		forbidden[room] = append(forbidden[room], "internal/relay/trial", "testing")
	}
	for room, may := range rooms() {
		forbidden["internal/relay/"+room] = nil
		for other := range rooms() {
			if other != room && !may[other] {
				forbidden["internal/relay/"+room] = append(forbidden["internal/relay/"+room], "internal/relay/"+other)
			}
		}
	}
	checked := 0
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		pkg, imports, _ := strings.Cut(line, ":")
		pkg = strings.TrimPrefix(pkg, "openrelay/")
		if pkg == "internal/relay/trial" { // the company of the tests; it may do what they do
			continue
		}
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

// rooms tells which rooms below internal/relay each of them may import, as docs/architecture.md draws it. What a room
// may import, the rooms that stand on it may import, too.
func rooms() map[string]map[string]bool {
	stands := map[string][]string{
		"engine":    nil,
		"exchange":  {"engine"},
		"inventory": {"exchange"},
		"listing":   {"inventory"},
		"orders":    {"listing"},
		"routing":   {"orders"},
		"shipping":  {"orders"},
		"partners":  {"shipping"},
		"returning": {"shipping"},
		"sheets":    {"listing", "partners"},
		"views":     {"returning"},
		"joining":   {"orders", "people", "views", "keeping", "routing", "partners"},
		"people":    {"views"},
		"attention": {"exchange"},
		"keeping":   {"engine"},
		"printing":  {"engine"},
	}
	out := map[string]map[string]bool{}
	var add func(room, below string)
	add = func(room, below string) {
		for _, b := range stands[below] {
			out[room][b] = true
			add(room, b)
		}
	}
	for room := range stands {
		out[room] = map[string]bool{}
		add(room, room)
	}
	return out
}

// TestEveryRoomHasItsPlace: a room that is not drawn is found.
func TestEveryRoomHasItsPlace(t *testing.T) {
	entries, err := os.ReadDir("../relay")
	require.NoError(t, err)
	drawn := rooms()
	found := 0
	for _, e := range entries {
		if e.IsDir() && e.Name() != "trial" { // the company of the tests
			require.Contains(t, drawn, e.Name())
			found++
		}
	}
	require.Len(t, drawn, found)
}
