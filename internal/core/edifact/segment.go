// Package edifact reads and writes UN/EDIFACT interchanges (ISO 9735, syntax versions 1 to 4, batch): segments with their
// separators and release character, character sets, envelopes with their counts, and the acknowledgement CONTRL. It knows the
// syntax only; what the segments of a message mean is said elsewhere.
package edifact

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
)

// Segment is a line of a message: its tag, then its elements, each of one component or more. An element that is empty has a single
// empty component.
type Segment struct {
	Tag      string
	Elements [][]string
}

// At is a component of a segment, both counted from 1; empty where there is none.
func (s Segment) At(element, component int) string {
	if element < 1 || element > len(s.Elements) || component < 1 || component > len(s.Elements[element-1]) {
		return ""
	}
	return s.Elements[element-1][component-1]
}

// Separators are the service characters of an interchange (ISO 9735, UNA).
type Separators struct {
	Component, Element, Decimal, Release, Repetition, Terminator byte
}

// Usual are the separators where no UNA names others.
var Usual = Separators{':', '+', '.', '?', ' ', '\''}

// Bounds of what is read, so that memory stays bounded whatever comes.
const (
	maxSegment  = 64 << 10 // bytes
	maxElements = 1000     // of a segment, and components of an element
)

// ErrSyntax marks what is no EDIFACT.
var ErrSyntax = errors.New("no EDIFACT")

func syntax(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrSyntax, fmt.Sprintf(format, args...))
}

// Reader reads segments one by one.
type Reader struct {
	in      *bufio.Reader
	sep     Separators
	begun   bool
	charset *charset
	raw     []byte // of the last segment, as it came, with its terminator
	count   int    // segments read
}

// NewReader reads segments from in.
func NewReader(in io.Reader) *Reader {
	return &Reader{in: bufio.NewReaderSize(in, 32<<10), sep: Usual, charset: charsets["UNOB"]}
}

// Separators are those of the interchange; they are known once the first segment was read.
func (r *Reader) Separators() Separators { return r.sep }

// Next reads a segment; io.EOF after the last. White space between segments is left out.
func (r *Reader) Next() (Segment, error) {
	if !r.begun {
		if err := r.begin(); err != nil {
			return Segment{}, err
		}
	}
	if err := r.skipSpace(); err != nil {
		return Segment{}, err
	}
	if err := r.readRaw(); err != nil {
		return Segment{}, err
	}
	r.count++
	s, err := r.sep.parse(r.raw[:len(r.raw)-1], r.charset)
	if err != nil {
		return s, fmt.Errorf("segment %d: %w", r.count, err)
	}
	if s.Tag == "UNB" {
		set, ok := charsets[s.At(1, 1)]
		if !ok {
			return s, syntax("segment %d: the character set %q is not known", r.count, s.At(1, 1))
		}
		r.charset = set
		if s.At(1, 2) == "4" && r.sep.Repetition == ' ' {
			r.sep.Repetition = '*'
		}
		s, err = r.sep.parse(r.raw[:len(r.raw)-1], r.charset) // names are in its own character set already
	}
	return s, err
}

// begin reads UNA, where it stands at the beginning.
func (r *Reader) begin() error {
	r.begun = true
	if bom, err := r.in.Peek(3); err == nil && bytes.Equal(bom, []byte("\ufeff")) {
		if _, err := r.in.Discard(3); err != nil {
			return err
		}
	}
	if err := r.skipSpace(); err != nil {
		return err
	}
	una, err := r.in.Peek(9)
	if err != nil || !bytes.HasPrefix(una, []byte("UNA")) {
		return nil
	}
	s := Separators{una[3], una[4], una[5], una[6], una[7], una[8]}
	if err := s.check(); err != nil {
		return err
	}
	r.sep = s
	_, err = r.in.Discard(9)
	return err
}

// check refuses separators that cannot be told apart.
func (s Separators) check() error {
	all := []byte{s.Component, s.Element, s.Terminator}
	if s.Release != ' ' {
		all = append(all, s.Release)
	}
	for i, c := range all {
		if c == ' ' || c >= 0x80 || c >= '0' && c <= '9' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' {
			return syntax("UNA names %q as a separator", string(rune(c)))
		}
		if bytes.IndexByte(all[:i], c) >= 0 {
			return syntax("UNA names %q twice", string(rune(c)))
		}
	}
	return nil
}

func (r *Reader) skipSpace() error {
	for {
		c, err := r.in.ReadByte()
		if err != nil {
			return err
		}
		if c != '\r' && c != '\n' && c != ' ' && c != '\t' {
			return r.in.UnreadByte()
		}
	}
}

// readRaw reads to the next terminator that is not released.
func (r *Reader) readRaw() error {
	r.raw = r.raw[:0]
	released := false
	for {
		part, err := r.in.ReadSlice(r.sep.Terminator)
		r.raw = append(r.raw, part...)
		if len(r.raw) > maxSegment {
			return syntax("segment %d is longer than %d bytes", r.count+1, maxSegment)
		}
		if err == bufio.ErrBufferFull {
			continue
		}
		if err == io.EOF {
			return syntax("it ends in the middle of segment %d", r.count+1)
		}
		if err != nil {
			return err
		}
		if released = r.sep.released(r.raw); !released {
			return nil
		}
	}
}

// released tells whether the last byte stands for itself: an odd number of release characters stands before it.
func (s Separators) released(raw []byte) bool {
	if s.Release == ' ' {
		return false
	}
	n := 0
	for i := len(raw) - 2; i >= 0 && raw[i] == s.Release; i-- {
		n++
	}
	return n%2 == 1
}

// parse takes a segment without its terminator apart.
func (s Separators) parse(raw []byte, set *charset) (Segment, error) {
	var out Segment
	elements, components := make([][]string, 0, 8), make([]string, 0, 4)
	text := make([]byte, 0, 64)
	finish := func() error {
		t, err := set.decode(text)
		text = text[:0]
		components = append(components, t)
		return err
	}
	for i := 0; i < len(raw); i++ {
		c := raw[i]
		switch {
		case c == s.Release && s.Release != ' ' && i+1 < len(raw):
			i++
			text = append(text, raw[i])
			continue
		case c == s.Component, c == s.Element, c == s.Repetition && s.Repetition != ' ':
			if err := finish(); err != nil {
				return out, err
			}
			if c != s.Component {
				elements, components = append(elements, components), make([]string, 0, 4)
			}
			if len(elements) > maxElements || len(components) > maxElements {
				return out, syntax("a segment has more than %d elements", maxElements)
			}
			continue
		}
		text = append(text, c)
	}
	if err := finish(); err != nil {
		return out, err
	}
	elements = append(elements, components)
	out.Tag = strings.TrimSpace(elements[0][0])
	if !isTag(out.Tag) {
		return out, syntax("%q is no tag of a segment", clip(out.Tag))
	}
	out.Elements = elements[1:]
	return out, nil
}

// isTag tells whether a text is a tag: three capitals or digits, the first a capital.
func isTag(s string) bool {
	if len(s) != 3 || s[0] < 'A' || s[0] > 'Z' {
		return false
	}
	for i := range 3 {
		if c := s[i]; (c < 'A' || c > 'Z') && (c < '0' || c > '9') {
			return false
		}
	}
	return true
}

func clip(s string) string {
	if len(s) > 20 {
		return s[:20] + "…"
	}
	return s
}
