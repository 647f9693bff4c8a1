package main

import (
	"bytes"
	"fmt"
	"io"
	"runtime"
	"strings"
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/edifact"
)

// language measures what the definition language has to do beside mapping: reading EDIFACT, and loading definitions.
func (b *bench) language() error {
	if err := b.segments(b.of(1_000_000, 20_000)); err != nil {
		return err
	}
	return b.loading()
}

// stockReport is an interchange of so many segments, made as it is read: reports on stock, a hundred lines each.
type stockReport struct {
	left, message, lines int
	buf                  bytes.Buffer
}

func newStockReport(segments int) *stockReport {
	r := &stockReport{left: segments}
	r.buf.WriteString("UNA:+.? '\nUNB+UNOC:3+2007100000025:14+2007100000018:14+261123:0727+77'\n")
	return r
}

func (r *stockReport) Read(p []byte) (int, error) {
	for r.buf.Len() < len(p) && r.left > 0 {
		if r.lines == 0 {
			r.message++
			fmt.Fprintf(&r.buf, "UNH+%d+INVRPT:D:96A:UN:EAN004'\nBGM+35+I-%[1]d+9'\nDTM+137:202611230727:203'\n", r.message)
		}
		fmt.Fprintf(&r.buf, "LIN+%d++2007100014508:EN'\nPIA+5+JAR-500-T12:SA'\nQTY+145:%[1]d'\nLOC+18+ALDER'\n", r.lines+1)
		r.left -= 4
		if r.lines++; r.lines == 100 || r.left <= 0 {
			fmt.Fprintf(&r.buf, "UNT+%d+%d'\n", 4+r.lines*4, r.message)
			r.lines = 0
		}
		if r.left <= 0 {
			fmt.Fprintf(&r.buf, "UNZ+%d+77'\n", r.message)
		}
	}
	if r.buf.Len() == 0 {
		return 0, io.EOF
	}
	return r.buf.Read(p)
}

// segments reads a long interchange, and sees how much memory it holds meanwhile.
func (b *bench) segments(n int) error {
	var before, at runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	read, messages, most := 0, 0, uint64(0)
	begin := time.Now()
	if err := edifact.Read(newStockReport(n), edifact.Handler{
		Begin: func(edifact.Interchange) error { return nil },
		Take: func(m edifact.Message) error {
			if m.Err != nil {
				return m.Err
			}
			read += len(m.Segments) + 2
			if messages++; messages%500 == 0 {
				runtime.ReadMemStats(&at)
				most = max(most, at.HeapAlloc)
			}
			return nil
		},
		End: func(_ edifact.Interchange, err error) error { return err },
	}); err != nil {
		return err
	}
	rate := float64(read) / time.Since(begin).Seconds()
	b.add(fmt.Sprintf("EDIFACT read, an interchange of %d segments", read), rate, "segments/s", 0, "200,000 or more", rate >= 200_000)
	grown := float64(max(int64(most)-int64(before.HeapAlloc), 0)) / (1 << 20)
	b.add("memory held meanwhile", grown, "MB", 0, "below 32 MB", grown < 32)
	return nil
}

// loading loads, checks and compiles the definitions that ship.
func (b *bench) loading() error {
	lib, err := connector.BuiltIn()
	if err != nil {
		return err
	}
	lines, turns := 0, b.of(20, 1)
	begin := time.Now()
	for range turns {
		for code, d := range lib {
			lines += strings.Count(d.Text, "\n")
			if _, err := connector.Load(code+".yaml", []byte(d.Text), lib); err != nil {
				return err
			}
		}
	}
	took := milliseconds(time.Since(begin)) * 500 / float64(lines)
	b.add("500 lines of definitions loaded, checked and compiled", took, "ms", 0, "50 ms or less", took <= 50)
	return nil
}
