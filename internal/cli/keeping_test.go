package cli

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestBackupsOnTheCommandLine: made by hand and by the clock, brought back, and what is refused.
func TestBackupsOnTheCommandLine(t *testing.T) {
	o := newOffice(t)
	o.file("passphrase", "heather and lime\n")
	o.file("wrong", "heather and limes\n")
	o.does(strings.NewReplacer("DIR", o.dir, "FILE", o.Store.Path()).Replace(`
		!backup DIR/m.backup -data DIR/none ⇒ cannot be opened
		backup DIR/m.backup -data FILE -passphrase-file DIR/passphrase ⇒ Everything holds
		!backup DIR/m.backup -data FILE -passphrase-file DIR/passphrase ⇒ is there already
		!backup DIR/n.backup -data FILE -passphrase-file DIR/none ⇒ read the passphrase
		!restore DIR/m.backup -data FILE -passphrase-file DIR/passphrase ⇒ is there already
		!restore DIR/m.backup -data DIR/back.relay -passphrase-file DIR/wrong ⇒ does not open
		restore DIR/m.backup -data DIR/back.relay -passphrase-file DIR/passphrase -still ⇒ Its connections are paused
		verify DIR/back.relay ⇒ Everything holds
		!backup now ⇒ passphrase first
		!backup daily -at 02:30 ⇒ passphrase: missing
		backup daily -at 03:15 -keep 3 -passphrase-file DIR/passphrase ⇒ each day at 03:15; 3 are kept.
		backup list -json ⇒ "keep": 3
		backup now ⇒ each day at 03:15
		backup stop ⇒ No backups are made by themselves.
		!backup daily -keep 4000 ⇒ body.keep
		health ⇒ clock
		health -json ⇒ "status": "well"
		!health -server http://127.0.0.1:1 ⇒ refused
		key rotate ⇒ secrets are sealed with key 2 now
	`))
	made, err := filepath.Glob(filepath.Join(o.dir, "*.backup"))
	require.NoError(t, err)
	require.Equal(t, []string{filepath.Join(o.dir, "m.backup")}, made)
}
