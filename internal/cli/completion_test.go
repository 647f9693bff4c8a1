package cli

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAShellCompletes commands, their words and their flags, as a person meets it: by a shell that was told to.
func TestAShellCompletes(t *testing.T) {
	var out strings.Builder
	env := &Env{Out: &out, Err: &out, Getenv: func(string) string { return "" }}
	require.NotZero(t, Run(t.Context(), env, []string{"completion", "fish"}))
	require.Contains(t, out.String(), "bash or zsh")
	out.Reset()
	require.Zero(t, Run(t.Context(), env, []string{"completion", "zsh"}))
	require.True(t, strings.HasPrefix(out.String(), "autoload"))
	out.Reset()
	require.Zero(t, Run(t.Context(), env, []string{"completion", "bash"}))
	offered := func(words ...string) string {
		script := out.String() + "\nCOMP_WORDS=(openrelay " + strings.Join(words, " ") + ")\nCOMP_CWORD=${#COMP_WORDS[@]}\n" +
			`let COMP_CWORD--; _openrelay; echo "${COMPREPLY[*]}"`
		said, err := exec.Command("bash", "-c", script).CombinedOutput()
		require.NoError(t, err, string(said))
		return strings.TrimSpace(string(said))
	}
	require.Equal(t, "person", offered("pers"))
	require.Equal(t, "restore", offered("resto"))
	require.Equal(t, "sessions", offered("person", "sess"))
	require.Equal(t, "-passphrase-file", offered("backup", "-pass"))
	require.Contains(t, offered("order", "-"), "-limit")
	require.Contains(t, offered("order", "list", "-"), "-limit")
	require.Equal(t, "-minutes", offered("order", "answer", "-min"))
	require.Equal(t, "bash", offered("completion", "ba"))
}
