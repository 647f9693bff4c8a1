package connector

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"
)

// streams tells whether a form can be read piece by piece: files in it may be larger than what is held at once.
func (f Format) streams() bool {
	return f.Answer == "csv" || f.Answer == "fixed" || f.Answer == "edifact"
}

// stream gives the elements of a list one by one, as cut does, without holding all of it.
func (f Format) stream(from io.Reader, path string, take func(piece []byte) error) error {
	if f.Answer == "edifact" {
		return eachEDIFACT(from, path, take)
	}
	set, err := f.characters()
	if err != nil {
		return err
	}
	if set != nil {
		from = set.NewDecoder().Reader(from)
	}
	each := func(piece []byte) error {
		if set != nil && bytes.ContainsRune(piece, utf8.RuneError) {
			return fmt.Errorf("%w has characters that %s does not have", ErrBody, f.Charset)
		}
		piece, err := f.encoded(piece)
		if err != nil {
			return err
		}
		return take(piece)
	}
	if f.Answer == "csv" {
		return f.streamCSV(from, each)
	}
	return streamLines(from, each)
}

// streamCSV gives each line together with the head.
func (f Format) streamCSV(from io.Reader, take func([]byte) error) error {
	head := bufio.NewReader(from)
	if mark, err := head.Peek(3); err == nil && string(mark) == "\ufeff" {
		if _, err := head.Discard(3); err != nil {
			return err
		}
	}
	r := csv.NewReader(head)
	r.ReuseRecord = true
	if f.Separator != "" {
		r.Comma = []rune(f.Separator)[0]
	}
	var piece bytes.Buffer
	w := csv.NewWriter(&piece)
	w.Comma = r.Comma
	top := 0
	for first := true; ; first = false {
		row, err := r.Read()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err == nil && first && len(row) > maxCSVFields:
			err = fmt.Errorf("%d columns, at most %d are read", len(row), maxCSVFields)
		}
		if err != nil {
			return notCSV(err)
		}
		piece.Truncate(top)
		if err := w.Write(row); err != nil {
			return err
		}
		if w.Flush(); first {
			top = piece.Len()
			continue
		}
		if err := take(bytes.Clone(piece.Bytes())); err != nil {
			return err
		}
	}
}

// notCSV tells what is wrong with the text apart from what is wrong with reading it.
func notCSV(err error) error {
	var parse *csv.ParseError
	if errors.As(err, &parse) || !isReadError(err) {
		return fmt.Errorf("%w is not CSV: %v", ErrBody, err)
	}
	return err
}

// errReading is that of the place a file is read from, not of what stands in it.
type errReading struct{ error }

func (e errReading) Unwrap() error { return e.error }

func isReadError(err error) bool {
	var r errReading
	return errors.As(err, &r)
}

// markedReader tells errors of reading apart from those of what is read.
type markedReader struct{ io.Reader }

func (m markedReader) Read(p []byte) (int, error) {
	n, err := m.Reader.Read(p)
	if err != nil && !errors.Is(err, io.EOF) {
		err = errReading{err}
	}
	return n, err
}

// maxLine bounds a line of fixed width, in bytes.
const maxLine = 1 << 20

func streamLines(from io.Reader, take func([]byte) error) error {
	s := bufio.NewScanner(from)
	s.Buffer(make([]byte, 0, 64<<10), maxLine)
	for s.Scan() {
		line := strings.TrimRight(s.Text(), "\r\n\x1a")
		if strings.TrimSpace(line) == "" {
			continue
		}
		if err := take([]byte(line)); err != nil {
			return err
		}
	}
	if err := s.Err(); errors.Is(err, bufio.ErrTooLong) {
		return fmt.Errorf("%w has a line of more than %d bytes", ErrBody, maxLine)
	} else if err != nil {
		return err
	}
	return nil
}
