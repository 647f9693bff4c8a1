package connector

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
)

// tray is a warehouse with which files are exchanged.
const tray = `connector: tray
title: Tray
side: fulfiller
access: { way: files, sftp: { user: secret.user, password: secret.word, key: secret.key, host_key: secret.host_key }, fields: [
  { name: user, label: Name, optional: true }, { name: word, label: Password, secret: true, optional: true },
  { name: key, label: Private key, secret: true, lines: true, optional: true }, { name: host_key, label: Host key, optional: true } ] }
format: { answer: csv, body: csv, separator: ";" }
limits: { max_body: 1KB, max_file: 2KB }
feeds:
  stock in:
    id: item.sku
    read: { every: 5s, files: { folder: out, name: "LEV*.csv", settled: 2s } }
    map: { sku: item.sku, quantity: number(item.n) }
  dispatch in:
    id: edi(item, "BGM", "2")
    read: { files: { folder: out, name: "*.edi", failed: out/bad, settled: 0s }, format: { answer: edifact }, items: DESADV }
    map:
      reference: edi(item, "BGM", "2")
      tracking: edi(item, "BGM", "2")
      lines: { each: 'groups(item, "LIN", "CNT")', as: line, map: { sku: 'edi(line, "LIN", "3")', quantity: '1' } }
  stock out:
    send:
      request:
        file: "in/LEV_{msg.sku}_{digest(ref, 8)}.csv"
        body: { each: batch, as: row, put: { sku: row.sku, n: row.quantity } }
`

// yardTray is a folder with a line to it, and a clock moved by hand.
type yardTray struct {
	t    *testing.T
	dir  string
	line *Line
	at   time.Time
	seen map[string]bool // hashes that were taken
	took []TakenFile
	kept []string
}

func newTray(t *testing.T) *yardTray {
	t.Helper()
	y := &yardTray{t: t, dir: t.TempDir(), at: time.Date(2026, 11, 23, 7, 0, 0, 0, time.UTC), seen: map[string]bool{}}
	require.NoError(t, os.Mkdir(filepath.Join(y.dir, "out"), 0o755))
	def, err := Load("tray.yaml", []byte(tray), nil)
	require.NoError(t, err)
	y.line, err = NewLine(def, LineOptions{Base: y.dir, Folders: []string{filepath.Dir(y.dir)}, Now: func() time.Time { return y.at }})
	require.NoError(t, err)
	return y
}

func (y *yardTray) put(name, text string) {
	y.t.Helper()
	require.NoError(y.t, os.WriteFile(filepath.Join(y.dir, "out", name), []byte(text), 0o644))
}

// names lists the files of a folder.
func (y *yardTray) names(folder string) (out []string) {
	entries, err := os.ReadDir(filepath.Join(y.dir, folder))
	if os.IsNotExist(err) {
		return nil
	}
	require.NoError(y.t, err)
	for _, e := range entries {
		if !e.IsDir() {
			out = append(out, e.Name())
		}
	}
	return out
}

// read reads a feed as the relay does.
func (y *yardTray) read(kind message.Feed) (ReadTo, error) {
	return y.line.Read(y.t.Context(), kind, Reading{
		Keep: func(list []Record) error {
			for _, r := range list {
				y.kept = append(y.kept, r.ID)
			}
			return nil
		},
		Seen: func(hash string) (bool, error) { return y.seen[hash], nil },
		Took: func(f TakenFile) error {
			y.took = append(y.took, f)
			if !f.Again {
				y.seen[f.Hash] = len(f.Bad) == 0
			}
			return nil
		},
	})
}

// TestAFileIsReadWhenItIsWhole: one that still grows waits, whatever its name says.
func TestAFileIsReadWhenItIsWhole(t *testing.T) {
	y := newTray(t)
	y.put("LEV1.csv", "sku;n\nJAR;4")
	y.put("LEV2.csv.part", "sku;n\nPOT;1\n")
	y.put("README.txt", "not for us")
	to, err := y.read(message.StockIn)
	require.NoError(t, err)
	require.Empty(t, y.kept)
	require.Equal(t, 2*time.Second, to.Soon, "it is looked at again when it may be whole")
	y.at = y.at.Add(1500 * time.Millisecond)
	y.put("LEV1.csv", "sku;n\nJAR;41\nLID;2\n")
	to, err = y.read(message.StockIn)
	require.NoError(t, err)
	require.Empty(t, y.kept, "it has grown meanwhile")
	require.Equal(t, 2*time.Second, to.Soon)
	y.at = y.at.Add(2 * time.Second)
	_, err = y.read(message.StockIn)
	require.NoError(t, err)
	require.Equal(t, []string{"JAR", "LID"}, y.kept)
	require.Equal(t, []string{"LEV1.csv"}, y.names("out/done"))
	require.Equal(t, []string{"LEV2.csv.part", "README.txt"}, y.names("out"))
	require.NoError(t, os.Rename(filepath.Join(y.dir, "out/LEV2.csv.part"), filepath.Join(y.dir, "out/LEV2.csv")))
	_, err = y.read(message.StockIn)
	require.NoError(t, err)
	y.at = y.at.Add(2 * time.Second)
	_, err = y.read(message.StockIn)
	require.NoError(t, err)
	require.Equal(t, []string{"JAR", "LID", "POT"}, y.kept, "renamed, it is a file like others")
}

// TestWhatCameBeforeIsNotReadAgain, under whatever name; and a name that comes again with something else is.
func TestWhatCameBeforeIsNotReadAgain(t *testing.T) {
	y := newTray(t)
	message1 := "UNB+UNOC:3+A+B+261123:0727+7'UNH+1+DESADV:D:96A:UN'BGM+351+D-1+9'LIN+1++JAR'UNT+4+1'UNZ+1+7'"
	for i, c := range []struct {
		name, text string
		kept       int
		again      bool
	}{
		{"A.edi", message1, 1, false}, {"A.edi", message1, 1, true}, {"B.edi", message1, 1, true},
		{"A.edi", strings.ReplaceAll(message1, "D-1", "D-2"), 2, false},
	} {
		y.put(c.name, c.text)
		_, err := y.read(message.DispatchIn)
		require.NoError(t, err)
		require.Len(t, y.kept, c.kept, "%d", i)
		require.Equal(t, c.again, y.took[i].Again)
	}
	require.Empty(t, y.names("out"))
	require.Len(t, y.names("out/done"), 4, "nothing that came is lost, also under the same name")
}

// TestABadFileStopsNoOther: it lies apart, with what is wrong; of an interchange with one bad message the others are taken.
func TestABadFileStopsNoOther(t *testing.T) {
	y := newTray(t)
	one := func(n int, count string) string {
		return fmt.Sprintf("UNH+%d+DESADV:D:96A:UN'BGM+351+D-%d+9'UNT+%s+%d'", n, n, count, n)
	}
	for name, text := range map[string]string{
		"1-none.edi": "hello", "2-short.edi": "UNB+UNOC:3+A+B+261123:0727+7'UNH+1+DESADV:D:96A:UN'BGM+35",
		"3-count.edi": "UNB+UNOC:3+A+B+261123:0727+7'" + one(1, "3") + "UNZ+2+7'",
		"4-ten.edi":   "UNB+UNOC:3+A+B+261123:0727+8'" + one(4, "3") + one(5, "9") + one(6, "3") + "UNZ+3+8'",
		"5-large.edi": "UNB+UNOC:3+A+B+261123:0727+9'" + strings.Repeat(" ", 3000),
		"6-good.edi":  "UNB+UNOC:3+A+B+261123:0727+9'" + one(9, "3") + "UNZ+1+9'",
		"7-empty.edi": "",
	} {
		y.put(name, text)
	}
	_, err := y.read(message.DispatchIn)
	require.NoError(t, err)
	require.ElementsMatch(t, []string{"D-4", "D-6", "D-9"}, y.kept)
	said := map[string]string{}
	for _, f := range y.took {
		for _, bad := range f.Bad {
			said[f.Name] += bad.Error()
		}
	}
	for name, want := range map[string]string{"1-none.edi": "it ends in the middle of segment 1", "2-short.edi": "ends in the middle",
		"3-count.edi": `says "2" messages, and has 1`, "4-ten.edi": `record 2: the body: no EDIFACT: message 5 says "9" segments`,
		"5-large.edi": "it is larger than 2048 bytes, and was not read", "7-empty.edi": "nothing is in it"} {
		require.Contains(t, said[name], want, name)
	}
	require.Len(t, said, 6)
	require.Equal(t, []string{"6-good.edi"}, y.names("out/done"))
	require.Len(t, y.names("out/bad"), 6)
	require.Empty(t, y.names("out"))
	y.put("1-again.edi", "hello")
	_, err = y.read(message.DispatchIn)
	require.NoError(t, err)
	require.Contains(t, y.names("out/bad"), "1-again.edi", "what was refused is no better under another name")
}

// TestAFileThatWasKeptIsNotLostWhenItCannotBeMoved, nor read twice.
func TestAFileThatWasKeptIsNotLostWhenItCannotBeMoved(t *testing.T) {
	y := newTray(t)
	require.NoError(t, os.WriteFile(filepath.Join(y.dir, "out", "done"), nil, 0o644), "a file is in the way of the folder")
	y.put("A.edi", "UNB+UNOC:3+A+B+261123:0727+7'UNH+1+DESADV:D:96A:UN'BGM+351+D-1+9'UNT+3+1'UNZ+1+7'")
	_, err := y.read(message.DispatchIn)
	require.ErrorContains(t, err, "A.edi: it was read and cannot be moved to out/done")
	require.NoError(t, os.Remove(filepath.Join(y.dir, "out", "done")))
	_, err = y.read(message.DispatchIn)
	require.NoError(t, err)
	require.Equal(t, []string{"D-1"}, y.kept)
	require.Equal(t, []string{"A.edi"}, y.names("out/done"))
}

func TestAFileIsWritten(t *testing.T) {
	y := newTray(t)
	send := func(sku string) error {
		_, err := y.line.Send(t.Context(), message.StockOut, "or-17", []any{message.Offer{SKU: sku, Quantity: 5}})
		return err
	}
	require.NoError(t, send("../../JAR 4"))
	require.Equal(t, []string{"LEV__.._JAR_4_MGNGR5VY.csv"}, y.names("in"), "what stands in a name does not say where the file lies")
	raw, err := os.ReadFile(filepath.Join(y.dir, "in", y.names("in")[0]))
	require.NoError(t, err)
	require.Equal(t, "sku;n\r\n../../JAR 4;5\r\n", string(raw))
	require.NoError(t, send("../../JAR 4"))
	require.Len(t, y.names("in"), 1, "the same message is the same file")
	x, err := y.line.Prepare(t.Context(), message.StockOut, "or-17", []any{message.Offer{SKU: "JAR", Quantity: 5}})
	require.NoError(t, err)
	require.Equal(t, []string{"FILE", "sku;n\r\nJAR;5\r\n"}, []string{x.Method, x.Body})
	require.ErrorContains(t, send(""), "msg.sku has no value")
	require.NoError(t, os.Chmod(filepath.Join(y.dir, "in"), 0o555))
	defer os.Chmod(filepath.Join(y.dir, "in"), 0o755)
	if os.Geteuid() != 0 { // who may do everything is not stopped by that
		require.True(t, failure(t, send("POT")).Temporary)
	}
}

// TestFilesLieWhereTheyMay: in folders that the service was told of, and never beyond the address.
func TestFilesLieWhereTheyMay(t *testing.T) {
	y := newTray(t)
	v := y.line.Test(t.Context())
	require.True(t, v.LetIn, v.Text)
	require.Equal(t, strings.Trim(y.dir, "/"), v.Identity.Number)
	for _, at := range []struct {
		base    string
		folders []string
		says    string
	}{
		{y.dir, nil, "is not one in which files may be exchanged; the service's switch -folders names them"},
		{y.dir + "/../../etc", []string{y.dir}, "is not one in which"},
		{y.dir + "x", []string{y.dir}, "is not one in which"},
		{y.dir + "/nowhere", []string{y.dir}, "it is not there"},
		{y.dir + "/in2", []string{y.dir}, `The folder "out"`},
	} {
		require.NoError(t, os.MkdirAll(y.dir+"/in2", 0o755))
		l, err := NewLine(y.line.Def, LineOptions{Base: at.base, Folders: at.folders})
		require.NoError(t, err)
		v := l.Test(t.Context())
		require.False(t, v.LetIn)
		require.Contains(t, v.Text, at.says)
	}
	_, err := NewLine(y.line.Def, LineOptions{Base: "http://tray.example"})
	require.NoError(t, err, "files are exchanged over HTTP, too")
	lib, err := BuiltIn()
	require.NoError(t, err)
	_, err = NewLine(lib["hedgerow"], LineOptions{Base: y.dir})
	require.ErrorContains(t, err, "is called; an http or https address is expected")
	require.NoError(t, os.Symlink("/etc", filepath.Join(y.dir, "out", "LEV9.csv")))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(y.dir, "out", "LEV8.csv")))
	_, err = y.read(message.StockIn)
	require.NoError(t, err)
	y.at = y.at.Add(time.Minute)
	_, err = y.read(message.StockIn)
	require.NoError(t, err)
	require.Empty(t, y.took, "what leads out of the folder is no file of it")
}

func TestWhatIsNoFeedOfFiles(t *testing.T) {
	for _, c := range []struct{ old, new, says string }{
		{`folder: out, name: "LEV*.csv"`, `folder: ../out, name: "LEV*.csv"`, "is no folder below the address"},
		{`folder: out, name: "LEV*.csv"`, `folder: out, done: out, name: "LEV*.csv"`, "in another folder"},
		{`name: "LEV*.csv"`, `name: "LEV[.csv"`, "is no pattern of a name"},
		{`name: "LEV*.csv"`, `name: "a/LEV.csv"`, "is no pattern of a name"},
		{"settled: 2s } }", "settled: 2s }, mark: item.sku }", "feeds.stock in.read"},
		{"way: files", "way: key", "it is files where files are exchanged, and only there"},
		{"access: { way: files,", "access: { way: files, query: { a: secret.user },",
			"sftp says how we are let in, or over HTTP basic and send"},
		{"    send:\n", "    confirm: { request: { method: GET, path: /x }, when: body.x }\n    send:\n",
			"who exchanges files is not called"},
		{"    send:\n", "    confirm: { request: { file: x }, when: body.x }\n    send:\n", "a file is written only of what is sent"},
		{`request:
        file: "in/LEV_{msg.sku}_{digest(ref, 8)}.csv"`, `request:
        method: POST
        path: /levels`, "file says which is written"},
		{"LEV_{msg.sku}", "LEV_{msg.skuu}", "msg has no skuu"},
		{"user: secret.user", "user: secret.usr", "secret has no usr"},
	} {
		_, err := Load("tray.yaml", []byte(strings.Replace(tray, c.old, c.new, 1)), nil)
		require.ErrorContains(t, err, c.says, c.new)
	}
	_, err := Load("n.yaml", []byte(strings.Replace(numbered, "mark: item.no", "format: { answer: csv }", 1)), nil)
	require.ErrorContains(t, err, "of an answer, it stands in the request")
}

func FuzzFileNames(f *testing.F) {
	f.Add("JAR/../..")
	f.Add("..")
	f.Add("a\x00b")
	f.Fuzz(func(t *testing.T, s string) {
		if name := safeName(s); strings.ContainsAny(name, "/\\\x00\n") || strings.HasPrefix(name, ".") {
			t.Fatalf("%q became %q", s, name)
		}
	})
}
