package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAFirstDefinition is asked for, or said, and what it makes is checked, tried and kept beside it.
func TestAFirstDefinition(t *testing.T) {
	o := newOffice(t)
	sample := o.file("people.json", `{"people": [{"no": 1, "name": "Ilka", "email": "ilka@example.test"}]}`)
	file := filepath.Join(o.dir, "weft.yaml")
	o.does(`
		!connector new weft -no-questions -sample ` + sample + ` ⇒ -feed is needed
		!connector new hedgerow -no-questions -out - ⇒ there is a connector "hedgerow" already
		!connector new weft -no-questions -way magic ⇒ way
		!connector new weft -no-questions -openapi ` + sample + ` ⇒ it has no paths
		connector new weft -no-questions -way key -header X-Weft -out - ⇒ X-Weft: secret.key
		connector new weft -no-questions -feed "customers in" -path /people -sample ` + sample + ` -out ` + file + ` ⇒ passes the check
		!connector new weft -no-questions -out ` + file + ` ⇒ is there already
		connector check ` + file + ` ⇒ customers in
		connector try ` + file + ` -sample ` + sample + ` -keep ilka ⇒ Ilka
		!connector try ` + file + ` -sample ` + sample + ` -keep "a b" ⇒ is no label
		connector check ` + file + ` -json ⇒ "records": 1
	`)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(text), "email: item.email")
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(text), "name: item.name", "name: item.email", 1)), 0o600))
	o.does("!connector check " + file + " ⇒ 1 of 1 samples do not hold")
}

// TestQuestionsOfADefinition: what is not said is asked for; an empty line takes the usual.
func TestQuestionsOfADefinition(t *testing.T) {
	file := filepath.Join(t.TempDir(), "weft.yaml")
	var out, asked strings.Builder
	env := &Env{In: strings.NewReader("Weft Market\n\nkey\n\norders in\n/sales\n\n"), Out: &out, Err: &asked,
		Getenv: func(string) string { return "" }}
	require.Zero(t, Run(t.Context(), env, []string{"connector", "new", "weft", "-out", file}), asked.String())
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	for _, says := range []string{"title: Weft Market", "side: channel", "way: key", "path: /sales"} {
		require.Contains(t, string(text), says)
	}
	require.Contains(t, asked.String(), "How does it let us in")
	require.Contains(t, out.String(), "no sample was given")
}
