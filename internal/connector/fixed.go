package connector

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/ianaindex"
)

// Column is a field of lines of fixed width. Columns follow each other without a gap.
type Column struct {
	Name  string `yaml:"name"`
	Width int    `yaml:"width"` // characters
	Right bool   `yaml:"right"` // what is in it stands to the right
	Fill  string `yaml:"fill"`  // what is around it; a blank where it is not set
}

// readFixed reads lines of fixed width into a list of records. A line may end early: blanks at the end are often left out.
func (f Format) readFixed(raw []byte) (any, error) {
	out := []any{}
	for i, line := range lines(raw) {
		rec := make(map[string]any, len(f.Columns))
		rest := []rune(line)
		for _, c := range f.Columns {
			n := min(c.Width, len(rest))
			rec[c.Name] = c.trim(string(rest[:n]))
			rest = rest[n:]
		}
		if text := strings.TrimSpace(string(rest)); text != "" {
			return nil, fmt.Errorf("%w: line %d goes on behind its last column: %q", ErrBody, i+1, short(text))
		}
		out = append(out, rec)
	}
	return out, nil
}

// lines are those of a text that are not blank.
func lines(raw []byte) (out []string) {
	for line := range strings.Lines(string(raw)) {
		if line = strings.TrimRight(line, "\r\n\x1a"); strings.TrimSpace(line) != "" {
			out = append(out, line)
		}
	}
	return out
}

func (c Column) trim(text string) string {
	if c.Right && c.Fill != "" {
		if t := strings.TrimLeft(text, c.Fill); t != "" || text == "" {
			return strings.TrimSpace(t)
		}
		return c.Fill // a number that is all zeros is a zero
	}
	return strings.TrimSpace(text)
}

func (f Format) writeFixed(buf *bytes.Buffer, v any) error {
	rows, ok := v.([]any)
	if !ok {
		rows = []any{v}
	}
	for i, el := range rows {
		o, ok := el.(object)
		if !ok {
			return errors.New("lines of fixed width are a repeated record")
		}
		values := map[string]string{}
		for _, m := range o {
			values[m.key] = textOf(m.value)
		}
		for _, c := range f.Columns {
			text := values[c.Name]
			delete(values, c.Name)
			n := utf8.RuneCountInString(text)
			if n > c.Width || strings.ContainsAny(text, "\r\n") {
				return fmt.Errorf("line %d: %s: %q does not go into %d characters", i+1, c.Name, short(text), c.Width)
			}
			fill := c.Fill
			if fill == "" {
				fill = " "
			}
			if pad := strings.Repeat(fill, c.Width-n); c.Right {
				buf.WriteString(pad + text)
			} else {
				buf.WriteString(text + pad)
			}
		}
		for name := range values {
			return fmt.Errorf("line %d: there is no column %s", i+1, name)
		}
		buf.WriteString("\r\n")
	}
	return nil
}

// characters is the character set of a body by its IANA name; nil: UTF-8.
func (f Format) characters() (encoding.Encoding, error) {
	if f.Charset == "" || strings.EqualFold(f.Charset, "utf-8") {
		return nil, nil
	}
	set, err := ianaindex.IANA.Encoding(f.Charset)
	if err != nil || set == nil {
		return nil, fmt.Errorf("the character set %q is not known; there are such as ISO-8859-1 and windows-1252", f.Charset)
	}
	return set, nil
}

// decoded is a body in UTF-8.
func (f Format) decoded(raw []byte) ([]byte, error) {
	set, err := f.characters()
	if err != nil || set == nil {
		return raw, err
	}
	out, err := set.NewDecoder().Bytes(raw)
	if err != nil || bytes.ContainsRune(out, utf8.RuneError) {
		return nil, fmt.Errorf("%w has characters that %s does not have", ErrBody, f.Charset)
	}
	return out, nil
}

// encoded is the way back. A character that the set does not have is refused, not left out.
func (f Format) encoded(raw []byte) ([]byte, error) {
	set, err := f.characters()
	if err != nil || set == nil {
		return raw, err
	}
	e := set.NewEncoder()
	out, err := e.Bytes(raw)
	if err == nil {
		return out, nil
	}
	for _, r := range string(raw) {
		if _, err := set.NewEncoder().String(string(r)); err != nil {
			return nil, fmt.Errorf("%s has no %q", f.Charset, r)
		}
	}
	return nil, err
}
