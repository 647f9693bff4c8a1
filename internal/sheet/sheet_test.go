package sheet

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
)

func file(t testing.TB, content []byte) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "sheet.csv")
	require.NoError(t, os.WriteFile(path, content, 0o600))
	return path
}

// all reads a whole file.
func all(t testing.TB, content []byte) (*Reader, []Row) {
	t.Helper()
	r, err := Open(file(t, content))
	require.NoError(t, err)
	defer r.Close()
	var rows []Row
	for {
		row, err := r.Next()
		if errors.Is(err, io.EOF) {
			return r, rows
		}
		require.NoError(t, err)
		row.Cells = append([]string(nil), row.Cells...)
		rows = append(rows, row)
	}
}

func encoded(t *testing.T, text string, how string) []byte {
	t.Helper()
	var out []byte
	var err error
	switch how {
	case "Windows-1252":
		out, err = charmap.Windows1252.NewEncoder().Bytes([]byte(text))
	case "UTF-16":
		out, err = unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().Bytes([]byte(text))
	case "BOM":
		out = append([]byte{0xEF, 0xBB, 0xBF}, text...)
	default:
		out = []byte(text)
	}
	require.NoError(t, err)
	return out
}

// TestHoweverItIsWritten: the same table, however it is written.
func TestHoweverItIsWritten(t *testing.T) {
	for _, how := range []string{"UTF-8", "BOM", "Windows-1252", "UTF-16"} {
		for _, sep := range []string{",", ";", "\t", "|"} {
			for _, end := range []string{"\n", "\r\n"} {
				name := fmt.Sprintf("%s %q %q", how, sep, end)
				text := strings.Join([]string{
					strings.Join([]string{"SKU", "Item name", "Net Price"}, sep),
					strings.Join([]string{"HÄT-1", "\"Hütte, groß; mit |Tür\"", "12.90"}, sep),
					"",
					strings.Join([]string{"B-2", "\"two" + end + "lines \"\"quoted\"\"\"", "3"}, sep),
					strings.Join([]string{"C-3"}, sep),
				}, end)
				r, rows := all(t, encoded(t, text, how))
				require.Equal(t, []string{"sku", "item_name", "net_price"}, r.Columns, name)
				require.Equal(t, sep, r.Separator, name)
				require.Equal(t, map[string]string{"BOM": "UTF-8"}[how] == "UTF-8" || how == "UTF-16", r.Mark, name)
				require.Len(t, rows, 3, name)
				require.Equal(t, []string{"HÄT-1", "Hütte, groß; mit |Tür", "12.90"}, rows[0].Cells, name)
				require.Equal(t, "two\nlines \"quoted\"", rows[1].Cells[1], name)
				require.Equal(t, map[string]string{"sku": "C-3"}, r.Fields(rows[2]), name)
				require.Equal(t, []int{2, 4, 6}, []int{rows[0].Number, rows[1].Number, rows[2].Number}, name)
			}
		}
	}
}

func TestABadRowDoesNotEndTheFile(t *testing.T) {
	_, rows := all(t, []byte("sku,name\nA,one\nB,tw\"o\nC,three\nD,4,5\nE,five\n"))
	require.Len(t, rows, 5)
	require.Contains(t, rows[1].Bad, "quotation mark")
	require.Contains(t, rows[3].Bad, "3 cells")
	require.Equal(t, []string{"E", "five"}, rows[4].Cells)
	_, rows = all(t, []byte("sku,name\nA,one\nB,\"never closed\nC,three\n"))
	require.Len(t, rows, 2)
	require.Contains(t, rows[1].Bad, "not closed")
}

func TestWhatIsNoTable(t *testing.T) {
	for content, say := range map[string]string{"": "empty", "\n \n": "empty", "PK\x03\x04\x00\x00abc": "no text",
		"a,b,a\n1,2,3": "twice", strings.Repeat("x,", MaxColumns+1): "columns"} {
		_, err := Open(file(t, []byte(content)))
		require.ErrorContains(t, err, say, "%.20q", content)
	}
}

// TestALetterCutByTheBuffer: a file that is read in pieces is UTF-8 even where a piece ends inside a letter.
func TestALetterCutByTheBuffer(t *testing.T) {
	for pad := range 4 {
		text := "sku,name\nA," + strings.Repeat("x", 131_060+pad) + "ÄÖÜ€\n"
		r, rows := all(t, []byte(text))
		require.Equal(t, "UTF-8", r.Encoding)
		require.True(t, strings.HasSuffix(rows[0].Cells[1], "ÄÖÜ€"))
	}
	late := append([]byte("sku,name\nA,"+strings.Repeat("x\nA,", 60_000)), 0xE4, '\n') // one letter of Windows-1252, far behind
	r, rows := all(t, late)
	require.Equal(t, "Windows-1252", r.Encoding)
	require.Equal(t, "ä", rows[len(rows)-1].Cells[1])
}

// TestAMillionRows: memory does not grow with the file.
func TestAMillionRows(t *testing.T) {
	var b bytes.Buffer
	b.WriteString("sku;quantity\r\n")
	for i := range 1_000_000 {
		fmt.Fprintf(&b, "SKU-%07d;%d\r\n", i, i%97)
	}
	path := file(t, b.Bytes())
	b = bytes.Buffer{}
	r, err := Open(path)
	require.NoError(t, err)
	defer r.Close()
	n := 0
	for {
		row, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		require.Len(t, row.Cells, 2)
		n++
	}
	require.Equal(t, 1_000_000, n)
}

func TestWritten(t *testing.T) {
	var b bytes.Buffer
	w := NewWriter(&b, "sku", "text")
	require.NoError(t, w.Row("A", "=1+1"))
	require.NoError(t, w.Row("B", "two\nlines, \"quoted\""))
	require.NoError(t, w.End())
	require.Equal(t, "sku,text\r\nA,'=1+1\r\nB,\"two\r\nlines, \"\"quoted\"\"\"\r\n", b.String())
	_, rows := all(t, b.Bytes())
	require.Equal(t, "two\nlines, \"quoted\"", rows[1].Cells[1])
}

func FuzzOpen(f *testing.F) {
	f.Add([]byte("sku,name\nA,one\n"))
	f.Add([]byte("\xEF\xBB\xBFsku;name\r\nA;\"o\r\nne\"\r\n"))
	f.Add([]byte("\xFF\xFEs\x00k\x00u\x00\n\x00"))
	f.Fuzz(func(t *testing.T, content []byte) {
		r, err := Open(file(t, content))
		if err != nil {
			return
		}
		defer r.Close()
		for range 1000 {
			row, err := r.Next()
			if err != nil {
				return
			}
			if (row.Bad == "") == (row.Cells == nil) {
				t.Fatalf("row %d is neither read nor bad", row.Number)
			}
			r.Fields(row)
		}
	})
}

// What Writer writes, Reader reads as it was, and no spreadsheet works anything of it out.
func FuzzCellsComeBack(f *testing.F) {
	for _, c := range []string{"", "=1+1", "'=1+1", "''@x", "'s", "-1", "+1.5", "-1+cmd", "-", "+49 111", "a,b", "a\"b", "蜂"} {
		f.Add(c)
	}
	f.Fuzz(func(t *testing.T, cell string) {
		if !utf8.ValidString(cell) || strings.ContainsAny(cell, "\x00\r\ufeff") || strings.TrimSpace(cell) != cell || len(cell) > MaxCell {
			t.Skip("no cell of a table")
		}
		var out bytes.Buffer
		w := NewWriter(&out, "first", "cell")
		require.NoError(t, w.Row("x", cell))
		require.NoError(t, w.End())
		path := filepath.Join(t.TempDir(), "table.csv")
		require.NoError(t, os.WriteFile(path, out.Bytes(), 0o600))
		r, err := Open(path)
		require.NoError(t, err)
		defer r.Close()
		row, err := r.Next()
		require.NoError(t, err)
		require.Empty(t, row.Bad)
		require.Equal(t, cell, r.Fields(row)["cell"])
		if written := row.Cells[1]; written != "" && strings.ContainsRune("=+-@", rune(written[0])) {
			_, err := strconv.ParseFloat(written, 64)
			require.NoError(t, err, "only a number begins so: %q", written)
		}
	})
}
