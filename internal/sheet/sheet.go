// Package sheet reads and writes tables as CSV (RFC 4180), as they come from spreadsheets and other systems:
// in UTF-8, UTF-16 or Windows-1252, with or without a byte order mark, with commas, semicolons, tabs or bars
// between the columns, with line breaks inside quotes. It reads row by row and keeps nothing.
package sheet

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// Form is how a file is written.
type Form struct {
	Encoding  string   `json:"encoding" enum:"UTF-8,UTF-16,Windows-1252"`
	Mark      bool     `json:"mark" doc:"Whether it begins with a byte order mark"`
	Separator string   `json:"separator"`
	Columns   []string `json:"columns" doc:"Names of its first row"`
}

// MaxCell is the longest cell that is read, in bytes.
const MaxCell = 200_000

// MaxColumns is how many columns a row may have.
const MaxColumns = 200

// Row is a row below the first. Bad says why it cannot be read; Cells are then empty.
type Row struct {
	Number int // of the line in the file where it begins; the first row is 1
	Cells  []string
	Bad    string
}

// Reader reads a file row by row.
type Reader struct {
	Form
	file *os.File
	csv  *csv.Reader
	last int
}

// Open looks at a file, finds out how it is written, and reads its first row, which names the columns.
func Open(path string) (*Reader, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	r := &Reader{file: f}
	if err := r.begin(); err != nil {
		f.Close()
		return nil, err
	}
	return r, nil
}

// Close closes the file.
func (r *Reader) Close() error { return r.file.Close() }

// ErrEmpty is returned for a file without a first row.
var ErrEmpty = errors.New("the file is empty; its first row names the columns")

func (r *Reader) begin() error {
	head := make([]byte, 64<<10)
	n, err := io.ReadFull(r.file, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) {
		return err
	}
	head = head[:n]
	if len(bytes.TrimSpace(head)) == 0 {
		return ErrEmpty
	}
	from, err := r.encoding(head)
	if err != nil {
		return err
	}
	if bytes.IndexByte(head, 0) >= 0 && r.Encoding != "UTF-16" {
		return errors.New("this is no text; a CSV file is expected, not a spreadsheet file")
	}
	if _, err := r.file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	var in io.Reader = r.file
	if from != nil {
		in = transform.NewReader(r.file, from.NewDecoder())
	}
	buf := bufio.NewReaderSize(in, 64<<10)
	peek, err := buf.Peek(32 << 10)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, bufio.ErrBufferFull) {
		return err
	}
	sep := separator(string(peek))
	r.Separator = string(sep)
	r.csv = csv.NewReader(buf)
	r.csv.Comma, r.csv.FieldsPerRecord, r.csv.ReuseRecord = sep, -1, true
	first, err := r.csv.Read()
	if err != nil {
		return fmt.Errorf("the first row: %w", plain(err))
	}
	if len(first) > MaxColumns {
		return fmt.Errorf("the first row has %d columns; at most %d are read", len(first), MaxColumns)
	}
	return r.name(first)
}

// encoding finds out how the text is encoded by how it begins, and by whether all of it is UTF-8; nil: it is.
func (r *Reader) encoding(head []byte) (from encoding.Encoding, err error) {
	r.Encoding = "UTF-8"
	switch {
	case bytes.HasPrefix(head, []byte{0xEF, 0xBB, 0xBF}):
		r.Mark = true
		from = unicode.UTF8BOM
	case bytes.HasPrefix(head, []byte{0xFF, 0xFE}), bytes.HasPrefix(head, []byte{0xFE, 0xFF}):
		r.Mark, r.Encoding = true, "UTF-16"
		from = unicode.UTF16(unicode.LittleEndian, unicode.ExpectBOM)
	default:
		valid, err := r.valid()
		if err != nil {
			return nil, err
		}
		if !valid {
			r.Encoding, from = "Windows-1252", charmap.Windows1252
		}
	}
	return from, nil
}

// name takes the columns from the first row.
func (r *Reader) name(first []string) error {
	for _, name := range first {
		name = Name(name)
		if name != "" && slices.Contains(r.Columns, name) {
			return fmt.Errorf("the column %s stands twice", name)
		}
		r.Columns = append(r.Columns, name)
	}
	return nil
}

// Name writes the name of a column in one form: small letters, with one underscore where there was something else.
func Name(text string) string {
	var out strings.Builder
	gap := false
	for _, c := range strings.ToLower(strings.TrimSpace(text)) {
		if c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c > 127 {
			if gap && out.Len() > 0 {
				out.WriteByte('_')
			}
			gap = false
			out.WriteRune(c)
		} else {
			gap = true
		}
	}
	return out.String()
}

// valid tells whether the whole file is UTF-8.
func (r *Reader) valid() (bool, error) {
	if _, err := r.file.Seek(0, io.SeekStart); err != nil {
		return false, err
	}
	buf := make([]byte, 0, 128<<10)
	for {
		n, err := r.file.Read(buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		end := len(buf)
		for back := 1; err == nil && back < utf8.UTFMax && back <= len(buf); back++ { // a letter may be cut
			if utf8.RuneStart(buf[len(buf)-back]) {
				if !utf8.FullRune(buf[len(buf)-back:]) {
					end = len(buf) - back
				}
				break
			}
		}
		if !utf8.Valid(buf[:end]) {
			return false, nil
		}
		if errors.Is(err, io.EOF) {
			return true, nil
		}
		if err != nil {
			return false, err
		}
		buf = append(buf[:0], buf[end:]...)
	}
}

// separator finds what stands between the columns: what the first line has most of, outside quotes.
func separator(text string) rune {
	counts := map[rune]int{}
	quoted := false
	for _, c := range text {
		switch {
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '\n' && len(counts) > 0, c == '\r' && len(counts) > 0:
			goto done
		case c == ',' || c == ';' || c == '\t' || c == '|':
			counts[c]++
		}
	}
done:
	best := ','
	for _, c := range []rune{',', ';', '\t', '|'} {
		if counts[c] > counts[best] {
			best = c
		}
	}
	return best
}

// plain takes the driver's wording out of an error of the CSV reader.
func plain(err error) error {
	var p *csv.ParseError
	if !errors.As(err, &p) {
		return err
	}
	switch {
	case errors.Is(p.Err, csv.ErrBareQuote):
		return fmt.Errorf("a quotation mark stands inside a cell that is not quoted (line %d)", p.Line)
	case errors.Is(p.Err, csv.ErrQuote):
		return fmt.Errorf("a quoted cell is not closed, or something follows its closing mark (line %d)", p.StartLine)
	}
	return fmt.Errorf("line %d: %w", p.Line, p.Err)
}

// Next reads the next row that is not empty; io.EOF ends the file. The cells are valid until the next call.
func (r *Reader) Next() (Row, error) {
	for {
		cells, err := r.csv.Read()
		if errors.Is(err, io.EOF) {
			return Row{}, io.EOF
		}
		if err != nil {
			var p *csv.ParseError
			if !errors.As(err, &p) {
				return Row{}, err
			}
			return Row{Number: p.StartLine, Bad: plain(err).Error()}, nil
		}
		line, _ := r.csv.FieldPos(0)
		if empty(cells) {
			continue
		}
		row := Row{Number: line, Cells: cells}
		switch {
		case len(cells) > len(r.Columns) && !empty(cells[len(r.Columns):]):
			row.Bad, row.Cells = fmt.Sprintf("it has %d cells, the first row names %d columns", len(cells), len(r.Columns)), nil
		case slices.ContainsFunc(cells, func(c string) bool { return len(c) > MaxCell }):
			row.Bad, row.Cells = fmt.Sprintf("a cell is longer than %d letters", MaxCell), nil
		}
		return row, nil
	}
}

func empty(cells []string) bool {
	return !slices.ContainsFunc(cells, func(c string) bool { return strings.TrimSpace(c) != "" })
}

// Fields are the cells of a row by column, without surrounding space and without the apostrophe by which Writer keeps a cell
// from being a formula; columns without a name are left out.
func (r *Reader) Fields(row Row) map[string]string {
	out := make(map[string]string, len(r.Columns))
	for i, name := range r.Columns {
		if name != "" && i < len(row.Cells) {
			out[name] = strings.TrimSpace(row.Cells[i])
			if rest, ok := strings.CutPrefix(out[name], "'"); ok && isFormula(rest) {
				out[name] = rest
			}
		}
	}
	return out
}

// Writer writes a table. Cells that a spreadsheet would take for a formula are kept from it by an apostrophe.
type Writer struct{ csv *csv.Writer }

// NewWriter writes the first row.
func NewWriter(w io.Writer, columns ...string) *Writer {
	out := &Writer{csv.NewWriter(w)}
	out.csv.UseCRLF = true
	_ = out.csv.Write(columns) // an error shows again at the end
	return out
}

// isFormula tells whether a spreadsheet would work a cell out, or would, were apostrophes before it taken off: see "CSV
// Injection" of OWASP. A number is not a formula.
func isFormula(c string) bool {
	rest := strings.TrimLeft(c, "'")
	if rest == "" {
		return false
	}
	first, _ := utf8.DecodeRuneInString(rest)
	if strings.ContainsRune("+-", first) {
		_, err := strconv.ParseFloat(rest, 64)
		return err != nil
	}
	return strings.ContainsRune("=@\t\r\n＝＠＋－", first)
}

// Row writes a row.
func (w *Writer) Row(cells ...string) error {
	for i, c := range cells {
		if isFormula(c) {
			cells[i] = "'" + c
		}
	}
	return w.csv.Write(cells)
}

// End writes what is left.
func (w *Writer) End() error {
	w.csv.Flush()
	return w.csv.Error()
}
