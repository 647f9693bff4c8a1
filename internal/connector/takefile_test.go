package connector

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/edifact"
	"openrelay/internal/core/message"
)

// agreed is a warehouse whose interchanges are acknowledged, and that acknowledges ours; all it writes lies in one folder.
const agreed = `connector: agreed
title: Agreed
side: fulfiller
access: { way: files }
format: { answer: edifact, body: edifact }
limits: { max_body: 64KB }
feeds:
  dispatch in:
    id: edi(item, "BGM", "2")
    read:
      files:
        folder: out
        name: "*.edi"
        settled: 0s
        acknowledge: { control: true, file: "in/CTL_{file.reference}.edi" }
      items: DESADV
    map: { reference: 'edi(item, "BGM", "2")', tracking: 'edi(item, "BGM", "2")' }
  stock in:
    id: edi(item, "BGM", "2")
    read: { files: { folder: out, name: "*.edi", settled: 0s }, items: INVRPT }
    map: { sku: 'edi(item, "LIN", "3")', quantity: 'number(edi(item, "QTY", "1.2"))' }
  receipts in:
    id: edi(item, "UCI", "1")
    read: { files: { folder: out, name: "*.edi", settled: 0s }, items: CONTRL }
    map:
      reference: edi(item, "UCI", "1")
      taken: edi(item, "UCI", "4") in ["7", "8"]
      reason: joined(edis(item, "UCM", "4"), ", ")
  dispatch out:
    send:
      receipt: { reference: 'digest(ref, 14)', within: 2h }
      request:
        file: "in/DES_{digest(ref, 14)}.edi"
        body:
          interchange: { sender: '"OURS"', recipient: '"THEIRS"', reference: 'digest(ref, 14)', acknowledge: "true" }
          message: '"DESADV:D:96A:UN"'
          BGM: '["351", msg.reference]'
`

// newAgreed is a folder exchanged with the warehouse.
func newAgreed(t *testing.T, text string) *yardTray {
	t.Helper()
	y := newTray(t)
	def, err := Load("agreed.yaml", []byte(text), nil)
	require.NoError(t, err)
	y.line, err = NewLine(def, LineOptions{Base: y.dir, Folders: []string{filepath.Dir(y.dir)}, Now: func() time.Time { return y.at }})
	require.NoError(t, err)
	return y
}

// readShared reads a feed that shares its folder with others.
func (y *yardTray) readShared(kind message.Feed, on ...message.Feed) {
	y.t.Helper()
	_, err := y.line.Read(y.t.Context(), kind, Reading{
		Keep: func(list []Record) error {
			for _, r := range list {
				y.kept = append(y.kept, string(kind)+" "+r.ID)
			}
			return nil
		},
		Seen: func(hash string) (bool, error) { return y.seen[string(kind)+hash], nil },
		Took: func(f TakenFile) error {
			y.took = append(y.took, f)
			y.seen[string(kind)+f.Hash] = len(f.Bad) == 0
			return nil
		},
		SeenBy: func(other message.Feed, hash string) (bool, error) { return y.seen[string(other)+hash], nil },
		Works: func(other message.Feed) bool {
			for _, k := range on {
				if k == other {
					return true
				}
			}
			return false
		},
	})
	require.NoError(y.t, err)
}

func unb(reference string, asked bool) string {
	ask := ""
	if asked {
		ask = "++++1"
	}
	return "UNB+UNOC:3+THEIRS:14+OURS+261123:0727+" + reference + ask + "'"
}

func desadv(n int, count string) string {
	return fmt.Sprintf("UNH+%d+DESADV:D:96A:UN'BGM+351+D-%d+9'UNT+%s+%d'", n, n, count, n)
}

const invrpt = "UNH+8+INVRPT:D:96A:UN'BGM+35+I-1'LIN+1++JAR'QTY+145:40'UNT+5+8'"

// TestInterchangesAreAcknowledged by CONTRL: what was taken and what was not, once it is kept; also when it comes again.
func TestInterchangesAreAcknowledged(t *testing.T) {
	y := newAgreed(t, agreed)
	y.put("1.edi", unb("I7", true)+desadv(1, "3")+desadv(2, "9")+"UNZ+2+I7'"+unb("I8", false)+desadv(3, "3")+"UNZ+1+I8'")
	_, err := y.read(message.DispatchIn)
	require.NoError(t, err)
	require.Equal(t, []string{"D-1", "D-3"}, y.kept)
	require.Equal(t, []string{"CTL_I7.edi"}, y.names("in"), "who does not ask is not told")
	said := y.control("CTL_I7.edi")
	require.True(t, said.Taken)
	require.Equal(t, map[string]string{"2": "29"}, said.Rejected)

	require.NoError(t, os.Remove(filepath.Join(y.dir, "in", "CTL_I7.edi")))
	y.put("2.edi", unb("I9", true)+desadv(4, "3")+"UNZ+1+I9'")
	for range 2 {
		_, err = y.read(message.DispatchIn)
		require.NoError(t, err)
		require.Equal(t, []string{"CTL_I9.edi"}, y.names("in"))
		require.NoError(t, os.Remove(filepath.Join(y.dir, "in", "CTL_I9.edi")))
		y.put("2.edi", unb("I9", true)+desadv(4, "3")+"UNZ+1+I9'")
	}
	require.Equal(t, []string{"D-1", "D-3", "D-4"}, y.kept, "it is acknowledged again, and not taken twice")

	y.put("2.edi", unb("J1", true)+desadv(5, "3")+"UNZ+7+J1'")
	_, err = y.read(message.DispatchIn)
	require.NoError(t, err)
	said = y.control("CTL_J1.edi")
	require.False(t, said.Taken, "it is wrong as a whole")
	require.Equal(t, "18", said.Code)
	require.NotContains(t, y.kept, "D-5")
}

// control reads the CONTRL that was written.
func (y *yardTray) control(name string) (out edifact.Acknowledged) {
	y.t.Helper()
	raw, err := os.Open(filepath.Join(y.dir, "in", name))
	require.NoError(y.t, err)
	defer raw.Close()
	require.NoError(y.t, edifact.Read(raw, edifact.Handler{
		Begin: func(in edifact.Interchange) error {
			require.Equal(y.t, "OURS THEIRS/14", in.Sender+" "+in.Recipient+"/"+in.RecipientQualifier)
			return nil
		},
		Take: func(m edifact.Message) (err error) { out, err = m.Acknowledgement(); return err },
		End:  func(_ edifact.Interchange, err error) error { return err },
	}))
	return out
}

// TestAnAcknowledgementThatCannotBeWritten is written the next time: the file stays until then, and is not taken twice.
func TestAnAcknowledgementThatCannotBeWritten(t *testing.T) {
	y := newAgreed(t, agreed)
	require.NoError(t, os.WriteFile(filepath.Join(y.dir, "in"), nil, 0o644), "a file is in the way")
	y.put("1.edi", unb("I7", true)+desadv(1, "3")+"UNZ+1+I7'")
	_, err := y.read(message.DispatchIn)
	require.ErrorContains(t, err, "its acknowledgement cannot be written")
	require.Equal(t, []string{"1.edi"}, y.names("out"))
	require.NoError(t, os.Remove(filepath.Join(y.dir, "in")))
	_, err = y.read(message.DispatchIn)
	require.NoError(t, err)
	require.Equal(t, []string{"CTL_I7.edi"}, y.names("in"))
	require.Equal(t, []string{"D-1"}, y.kept)
}

// TestAnAcknowledgementOfOnesOwn says what the definition wants it to.
func TestAnAcknowledgementOfOnesOwn(t *testing.T) {
	y := newAgreed(t, strings.Replace(tray, `files: { folder: out, name: "LEV*.csv", settled: 2s }`,
		`files: { folder: out, name: "LEV*.csv", settled: 0s, acknowledge: { when: file.records > 0, file: "in/{file.name}.ack", format: `+
			`{ body: json }, body: { ok: file.taken, records: file.records, wrong: file.reasons } } }`, 1))
	y.put("LEV1.csv", "sku;n\nJAR;4\n;2\n")
	y.put("LEV2.csv", "sku;n\n")
	_, err := y.read(message.StockIn)
	require.NoError(t, err)
	require.Equal(t, []string{"LEV1.csv.ack"}, y.names("in"))
	raw, err := os.ReadFile(filepath.Join(y.dir, "in", "LEV1.csv.ack"))
	require.NoError(t, err)
	require.JSONEq(t, `{"ok": false, "records": 2, "wrong": ["record 2: the record has no id"]}`, string(raw))
}

// TestFeedsShareAFolder: a file stays until each feed that is at work has taken what is its own, and what none takes is said.
func TestFeedsShareAFolder(t *testing.T) {
	y := newAgreed(t, agreed)
	all := []message.Feed{message.DispatchIn, message.StockIn, message.ReceiptsIn}
	y.put("mixed.edi", unb("I7", false)+desadv(1, "3")+invrpt+"UNZ+2+I7'")
	y.readShared(message.DispatchIn, all...)
	require.Equal(t, []string{"mixed.edi"}, y.names("out"), "the others have not taken it")
	y.readShared(message.DispatchIn, all...)
	y.readShared(message.StockIn, all...)
	require.Equal(t, []string{"mixed.edi"}, y.names("out"))
	y.readShared(message.ReceiptsIn, all...)
	require.Empty(t, y.names("out"))
	require.Equal(t, []string{"mixed.edi"}, y.names("out/done"))
	require.Equal(t, []string{"dispatch in D-1", "stock in I-1"}, y.kept)
	require.Len(t, y.took, 3)
	require.Empty(t, y.took[0].Left)

	y.took = nil
	y.put("later.edi", unb("I9", false)+desadv(2, "3")+invrpt+"UNZ+2+I9'")
	y.readShared(message.DispatchIn, message.DispatchIn)
	require.Equal(t, []string{"later.edi", "mixed.edi"}, y.names("out/done"), "feeds that are off keep nothing waiting")
	require.Equal(t, []string{"INVRPT"}, y.took[0].Left, "and what they would have taken is said")

	y.took = nil
	y.put("wrong.edi", unb("J1", false)+strings.ReplaceAll(desadv(3, "3"), "DESADV", "ORDERS")+"UNZ+1+J1'")
	y.readShared(message.DispatchIn, all...)
	require.ErrorContains(t, y.took[0].Bad[0], "it has ORDERS, and DESADV, INVRPT, CONTRL is taken here")
}

// TestAFileThatLiesThereForOthersIsAcknowledgedOnce, however often it is looked at; after a new start once more.
func TestAFileThatLiesThereForOthersIsAcknowledgedOnce(t *testing.T) {
	y := newAgreed(t, agreed)
	all := []message.Feed{message.DispatchIn, message.StockIn, message.ReceiptsIn}
	y.put("mixed.edi", unb("I7", true)+desadv(1, "3")+invrpt+"UNZ+2+I7'")
	y.readShared(message.DispatchIn, all...)
	require.Equal(t, []string{"CTL_I7.edi"}, y.names("in"))
	require.NoError(t, os.Remove(filepath.Join(y.dir, "in", "CTL_I7.edi")), "the other side fetches it")
	y.readShared(message.DispatchIn, all...)
	y.readShared(message.DispatchIn, all...)
	require.Empty(t, y.names("in"))
	var err error
	y.line, err = NewLine(y.line.Def, LineOptions{Base: y.dir, Folders: []string{filepath.Dir(y.dir)},
		Now: func() time.Time { return y.at }})
	require.NoError(t, err)
	y.readShared(message.DispatchIn, all...)
	require.Equal(t, []string{"CTL_I7.edi"}, y.names("in"), "whether it was written before the end is not known")
}

// TestReceiptsOfFiles: what was sent says which receipt is awaited; a definition in which none could come is refused.
func TestReceiptsOfFiles(t *testing.T) {
	y := newAgreed(t, agreed)
	sent, err := y.line.Send(t.Context(), message.DispatchOut, "or-9", []any{message.Dispatch{Reference: "P1"}})
	require.NoError(t, err)
	require.Len(t, sent.Receipt, 14)
	require.Equal(t, []string{"DES_" + sent.Receipt + ".edi"}, y.names("in"))
	require.Equal(t, 2*time.Hour, y.line.ReceiptOf(message.DispatchOut))
	require.Zero(t, y.line.ReceiptOf(message.StockIn))
	usual := newAgreed(t, strings.Replace(agreed, ", within: 2h", "", 1))
	require.Equal(t, 4*time.Hour, usual.line.ReceiptOf(message.DispatchOut))

	for change, says := range map[string]string{
		"receipts in:|customers in:":                                    "there is no feed \"receipts in\": none would ever come",
		`control: true, file: "in/CTL_{file.reference}.edi"|file: in/x`: "body is missing",
		"{file.reference}|{msg.reference}":                              "msg has no value here",
	} {
		from, to, _ := strings.Cut(change, "|")
		text := strings.Replace(agreed, from, to, 1)
		if strings.HasPrefix(to, "customers") {
			begin, rest, _ := strings.Cut(text, `      reference: edi(item, "UCI", "1")`)
			_, rest, _ = strings.Cut(rest, "\n  dispatch out:")
			text = begin + "      name: edi(item, \"UCI\", \"1\")\n  dispatch out:" + rest
		}
		_, err := Load("agreed.yaml", []byte(text), nil)
		require.ErrorContains(t, err, says)
	}
}

// made is a place with one file, whose content is made while it is read.
type made struct {
	content func() io.Reader
	moved   string
}

func (m *made) List(context.Context, string) ([]FileInfo, error) { return nil, nil }
func (m *made) Open(context.Context, string) (io.ReadCloser, error) {
	return io.NopCloser(m.content()), nil
}
func (m *made) Put(context.Context, string, string, []byte) error { return nil }
func (m *made) Move(_ context.Context, _, to string) error        { m.moved = to; return nil }
func (m *made) Has(context.Context, string) (bool, error)         { return false, nil }
func (m *made) Make(context.Context, string) error                { return nil }
func (m *made) Close() error                                      { return nil }

// repeated gives a beginning, a piece many times, and an end.
type repeated struct {
	rest  []byte
	n     int
	piece func(n int) string
	end   string
}

func (r *repeated) Read(p []byte) (int, error) {
	for len(r.rest) == 0 {
		switch {
		case r.n > 0:
			r.rest = []byte(r.piece(r.n))
			r.n--
		case r.end != "":
			r.rest, r.end = []byte(r.end), ""
		default:
			return 0, io.EOF
		}
	}
	n := copy(p, r.rest)
	r.rest = r.rest[n:]
	return n, nil
}

// TestALargeFileIsReadPieceByPiece: memory stays bounded, whatever its form; each record has its own outcome, and what is wrong with
// it as a whole is found before a record is kept.
func TestALargeFileIsReadPieceByPiece(t *testing.T) {
	const records = 60_000
	long := strings.Repeat("x", 60)
	lines := strings.Replace(tray, "id: item.sku\n    read: { every: 5s, files: { folder: out, name: \"LEV*.csv\", settled: 2s } }",
		"id: item.sku\n    read: { every: 5s, files: { folder: out, name: \"LEV*.csv\", settled: 2s }, format: { answer: fixed, "+
			"columns: [{ name: sku, width: 10 }, { name: n, width: 4 }] } }", 1)
	for _, c := range []struct {
		name, def string
		kind      message.Feed
		bad       int
		content   func() io.Reader
	}{
		{"a.edi", agreed, message.DispatchIn, 1, func() io.Reader {
			return &repeated{rest: []byte(unb("I7", false)), n: records, end: fmt.Sprintf("UNZ+%d+I7'", records),
				piece: func(n int) string {
					return desadv(n, map[bool]string{true: "9", false: "3"}[n == 77])
				}}
		}},
		{"LEV.csv", tray, message.StockIn, 2, func() io.Reader {
			return &repeated{rest: []byte("sku;n;text\n"), n: records, piece: func(n int) string {
				if n == 77 || n == 78 {
					return ";1;" + long + "\n"
				}
				return fmt.Sprintf("S%d;%d;%q\n", n, n, long)
			}}
		}},
		{"LEV.txt.csv", lines, message.StockIn, 1, func() io.Reader {
			return &repeated{n: records, piece: func(n int) string {
				if n == 77 {
					return "S77       0001 and more\r\n"
				}
				return fmt.Sprintf("S%-9d0001\r\n", n)
			}}
		}},
	} {
		y := newAgreed(t, strings.NewReplacer("max_body: 64KB", "max_body: 1KB", ", max_file: 2KB", "").Replace(c.def))
		place, kept, peak := &made{content: c.content}, 0, uint64(0)
		size, err := io.Copy(io.Discard, c.content())
		require.NoError(t, err)
		var took TakenFile
		require.NoError(t, y.line.takeFile(t.Context(), place, c.kind, Reading{
			Keep: func(list []Record) error {
				if kept += len(list); kept%20_000 < len(list) {
					var m runtime.MemStats
					runtime.GC()
					runtime.ReadMemStats(&m)
					peak = max(peak, m.HeapAlloc)
				}
				return nil
			},
			Took: func(f TakenFile) error { took = f; return nil },
		}, FileInfo{Name: c.name, Size: size}))
		require.Equal(t, records, took.Records, c.name)
		require.Equal(t, c.bad, took.Wrong, c.name)
		require.Equal(t, records-c.bad, kept, c.name)
		require.Equal(t, size, took.Size)
		require.Contains(t, place.moved, "out/failed/")
		require.Less(t, peak, uint64(40<<20), "%s: %d MB", c.name, peak>>20)

		broken := func() io.Reader { return io.MultiReader(c.content(), strings.NewReader("\"x\nUNB+")) }
		if strings.HasSuffix(c.name, ".txt.csv") {
			continue // lines are lines
		}
		kept = 0
		require.NoError(t, y.line.takeFile(t.Context(), &made{content: broken}, c.kind, Reading{
			Keep: func(list []Record) error { kept += len(list); return nil },
			Took: func(f TakenFile) error { took = f; return nil },
		}, FileInfo{Name: c.name, Size: size + 8}))
		require.Equal(t, 1, took.Wrong, c.name)
		require.Zero(t, kept, "%s: a file that is wrong as a whole is refused as a whole", c.name)
	}
}
