package connector

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"openrelay/internal/core/message"
)

// TakenFile is what became of a file that came.
type TakenFile struct {
	Name    string
	Size    int64
	Hash    string // SHA-256 of its content, hex
	Records int
	Bad     []error  // of the file as a whole, or of records in it; the first of many
	Wrong   int      // how many there are
	Again   bool     // its content came before; nothing was read
	Left    []string // kinds of messages in it that no feed takes
}

// Bounds of what is kept of one file at a time.
const (
	keptErrors = 100
	filePage   = 500 // records that are kept at once
)

func (t *TakenFile) wrong(err error) {
	t.Wrong++
	if len(t.Bad) < keptErrors {
		t.Bad = append(t.Bad, err)
	}
}

// fileIntake takes one file.
type fileIntake struct {
	*Line
	files Files
	kind  message.Feed
	rd    Reading
	at    string // its path
	raw   []byte // all of it, where it is held at once
	whole bool   // it is
	taken TakenFile
	bad   map[int]bool // records that are wrong, counted from 0
	prep  []interchangeLook
}

func (x *fileIntake) read() *Read { return x.Def.Feeds[x.kind].Read }

// format is that of the file.
func (x *fileIntake) format() Format { return x.read().Request.Format }

// takeFile reads one file, has its records kept and moves it away. Its error is that of keeping or of the place, never of what stands
// in the file.
func (l *Line) takeFile(ctx context.Context, files Files, kind message.Feed, rd Reading, info FileInfo) error {
	f := l.Def.Feeds[kind].Read
	x := &fileIntake{Line: l, files: files, kind: kind, rd: rd, at: path.Join(f.Files.Folder, info.Name), bad: map[int]bool{},
		taken: TakenFile{Name: info.Name, Size: info.Size}}
	if err := x.look(ctx, info); err != nil {
		return err
	}
	if rd.Seen != nil && len(x.taken.Bad) == 0 {
		var err error
		if x.taken.Again, err = rd.Seen(x.taken.Hash); err != nil {
			return err
		}
	}
	others := x.others()
	mine := x.taken.Again && len(others) > 0 // it lies there for other feeds
	if !x.taken.Again {
		if err := x.keep(ctx, others); err != nil {
			return err
		}
	}
	if rd.Took == nil {
		return nil // only looked at
	}
	if !mine {
		if err := rd.Took(x.taken); err != nil {
			return err
		}
	}
	if told := l.sightings.tell(kind, info.Name, x.taken.Hash); !told || !mine { // it is not told with every reading while it lies there
		if err := x.acknowledge(ctx); err != nil {
			l.sightings.untold(kind, info.Name)
			return &Failure{Text: "it was read, and its acknowledgement cannot be written: " + err.Error(), Temporary: true}
		}
	}
	if len(x.taken.Bad) > 0 {
		l.sightings.untold(kind, info.Name)
		return l.putAway(ctx, files, x.at, f.Files.Failed, x.taken)
	}
	if pending, err := x.pending(others); pending || err != nil {
		return err
	}
	l.sightings.untold(kind, info.Name)
	return l.putAway(ctx, files, x.at, f.Files.Done, x.taken)
}

// look reads a file once: what it hashes to, and what is wrong with it as a whole where it is too large to be held.
func (x *fileIntake) look(ctx context.Context, info FileInfo) error {
	most := int64(x.Def.Limits.MaxBody)
	x.whole = info.Size <= most
	if !x.whole && x.format().streams() {
		most = int64(x.Def.Limits.MaxFile)
	}
	if info.Size > most {
		return x.tooLarge(info, most)
	}
	file, err := x.files.Open(ctx, x.at)
	if err != nil {
		return &Failure{Text: plainError(err), Temporary: true}
	}
	defer file.Close()
	sum := sha256.New()
	from := markedReader{io.LimitReader(io.TeeReader(file, sum), most+1)}
	var first bytes.Buffer
	if x.whole {
		x.raw, err = io.ReadAll(from)
		x.taken.Size = int64(len(x.raw))
	} else {
		counted := &counting{Reader: io.TeeReader(from, &headOf{&first})}
		wrong := x.format().stream(counted, x.read().Items, func([]byte) error { return ctx.Err() })
		_, err = io.Copy(io.Discard, counted) // to its end, whatever is wrong with it
		if wrong != nil && !isReadError(wrong) && err == nil {
			x.taken.wrong(wrong)
		}
		x.taken.Size = counted.n
	}
	if err != nil || ctx.Err() != nil {
		return errors.Join(ctx.Err(), &Failure{Text: plainError(err), Temporary: true})
	}
	if x.taken.Size > most { // it grew
		return x.tooLarge(info, most)
	}
	x.taken.Hash = hex.EncodeToString(sum.Sum(nil))
	x.note(ctx, first.Bytes())
	return nil
}

func (x *fileIntake) tooLarge(info FileInfo, most int64) error {
	x.taken.wrong(fmt.Errorf("it is larger than %d bytes, and was not read", most))
	x.taken.Hash = fmt.Sprintf("size %d, %d", info.Size, info.Modified.Unix())
	return nil
}

// note shows whoever records the exchange what stands in the file.
func (x *fileIntake) note(ctx context.Context, first []byte) {
	if note, _ := ctx.Value(exchangeKey{}).(*Exchange); note != nil {
		if x.whole {
			first = x.raw[:min(len(x.raw), maxShown)]
		}
		*note = x.fileExchange(x.at, nil)
		note.Size, note.Answer = x.taken.Size, x.Blank(string(first))
	}
}

// counting counts what is read.
type counting struct {
	io.Reader
	n int64
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.n += int64(n)
	return n, err
}

// headOf keeps the beginning of what is written to it.
type headOf struct{ *bytes.Buffer }

func (h *headOf) Write(p []byte) (int, error) {
	if room := maxShown - h.Len(); room > 0 {
		h.Buffer.Write(p[:min(room, len(p))])
	}
	return len(p), nil
}

// open gives the content of the file once more.
func (x *fileIntake) open(ctx context.Context) (io.ReadCloser, error) {
	if x.whole {
		return io.NopCloser(bytes.NewReader(x.raw)), nil
	}
	return x.files.Open(ctx, x.at)
}

// keep takes a file apart and has its records kept. What is wrong with it, or with some of them, is noted with the file.
func (x *fileIntake) keep(ctx context.Context, others []message.Feed) error {
	if len(x.taken.Bad) > 0 {
		return nil
	}
	if err := x.kindsIn(ctx, others); err != nil || len(x.taken.Bad) > 0 {
		return err
	}
	if !x.whole {
		return x.keepPieces(ctx)
	}
	records, _, err := x.recordsOf(x.kind, x.Def.Feeds[x.kind], &answer{raw: x.raw}, "")
	if err != nil {
		x.taken.wrong(x.said(err))
		return nil
	}
	x.taken.Records = len(records)
	return x.keepGood(records, 0)
}

// said is what is wrong with a file, without the request that there is none of.
func (x *fileIntake) said(err error) error {
	var why *Failure
	if errors.As(err, &why) {
		return errors.New(strings.TrimPrefix(why.Text, x.read().Request.Method+" "+x.read().Request.Path+": "))
	}
	return err
}

// keepPieces keeps the records of a file that is not held at once.
func (x *fileIntake) keepPieces(ctx context.Context) error {
	file, err := x.open(ctx)
	if err != nil {
		return &Failure{Text: plainError(err), Temporary: true}
	}
	defer file.Close()
	var page []Record
	flush := func() error {
		at := x.taken.Records - len(page)
		err := x.keepGood(page, at)
		page = page[:0]
		return err
	}
	var stopped error
	err = x.format().stream(markedReader{file}, x.read().Items, func(piece []byte) error {
		page = append(page, x.recordOf(piece))
		if x.taken.Records++; len(page) == filePage {
			stopped = errors.Join(flush(), ctx.Err())
		}
		return stopped
	})
	switch {
	case stopped != nil:
		return stopped
	case isReadError(err):
		return &Failure{Text: plainError(err), Temporary: true}
	case err != nil: // it was well when it was looked at
		return &Failure{Text: "it was changed while it was read: " + err.Error(), Temporary: true}
	}
	return flush()
}

func (x *fileIntake) recordOf(piece []byte) Record {
	if len(piece) > int(x.Def.Limits.MaxBody) {
		return Record{Feed: x.kind, Err: fmt.Errorf("it is larger than %d bytes", x.Def.Limits.MaxBody)}
	}
	body, err := x.format().record(piece)
	if err != nil {
		return Record{Feed: x.kind, Raw: piece, Err: err}
	}
	return x.Def.Feeds[x.kind].identify(x.kind, piece, body, "")
}

// keepGood has those records kept that can be told apart. from is the number of the first.
func (x *fileIntake) keepGood(records []Record, from int) error {
	good := make([]Record, 0, len(records))
	for i, rec := range records {
		if rec.Err != nil {
			x.bad[from+i] = true
			x.taken.wrong(fmt.Errorf("record %d: %w", from+i+1, rec.Err))
		} else {
			good = append(good, rec)
		}
	}
	return x.rd.Keep(good)
}

// others are further feeds that read the same file and are at work.
func (x *fileIntake) others() (out []message.Feed) {
	for _, kind := range x.Def.Kinds() {
		r := x.Def.Feeds[kind].Read
		if kind == x.kind || r == nil || r.Files == nil || r.Files.Folder != x.read().Files.Folder || !r.Files.wants(x.taken.Name) {
			continue
		}
		if x.rd.Works == nil || x.rd.Works(kind) {
			out = append(out, kind)
		}
	}
	return out
}

// pending tells whether another feed has not taken the file yet: it stays until then.
func (x *fileIntake) pending(others []message.Feed) (bool, error) {
	for _, kind := range others {
		if x.rd.SeenBy == nil {
			return false, nil
		}
		if seen, err := x.rd.SeenBy(kind, x.taken.Hash); err != nil || !seen {
			return !seen, err
		}
	}
	return false, nil
}

// kindsIn notes which kinds of EDIFACT messages of the file no feed takes. Where none is taken by any, the file is refused: it is not
// what was agreed on.
func (x *fileIntake) kindsIn(ctx context.Context, others []message.Feed) error {
	if x.format().Answer != "edifact" {
		return nil
	}
	file, err := x.open(ctx)
	if err != nil {
		return &Failure{Text: plainError(err), Temporary: true}
	}
	defer file.Close()
	x.prep, err = lookEDIFACT(markedReader{file})
	if isReadError(err) {
		return &Failure{Text: plainError(err), Temporary: true}
	} // what is wrong with it is said when its records are cut
	wanted := []string{x.read().Items}
	for _, kind := range others {
		wanted = append(wanted, x.Def.Feeds[kind].Read.Items)
	}
	messages := 0
	for _, in := range x.prep {
		for _, m := range in.outcomes {
			messages++
			if !slices.ContainsFunc(wanted, func(items string) bool { return takesKind(items, m.Kind.Type) }) &&
				!slices.Contains(x.taken.Left, m.Kind.Type) {
				x.taken.Left = append(x.taken.Left, m.Kind.Type)
			}
		}
	}
	if err == nil && messages > 0 && len(x.taken.Left) > 0 && x.nothingTaken(wanted) {
		x.taken.wrong(fmt.Errorf("it has %s, and %s is taken here", strings.Join(x.taken.Left, ", "), strings.Join(wanted, ", ")))
	}
	return nil
}

func (x *fileIntake) nothingTaken(wanted []string) bool {
	for _, in := range x.prep {
		for _, m := range in.outcomes {
			if slices.ContainsFunc(wanted, func(items string) bool { return takesKind(items, m.Kind.Type) }) {
				return false
			}
		}
	}
	return true
}

// putAway moves a file to where those lie that were read. One of the same name that lies there keeps it.
func (l *Line) putAway(ctx context.Context, files Files, at, to string, taken TakenFile) error {
	fail := func(err error) error {
		return &Failure{Text: "it was read and cannot be moved to " + to + ": " + plainError(err), Temporary: true}
	}
	if err := files.Make(ctx, to); err != nil {
		return fail(err)
	}
	name, ext := taken.Name, path.Ext(taken.Name)
	for n := 2; ; n++ {
		if has, err := files.Has(ctx, path.Join(to, name)); err != nil {
			return fail(err)
		} else if !has {
			break
		}
		name = fmt.Sprintf("%s.%d%s", strings.TrimSuffix(taken.Name, ext), n, ext)
	}
	if err := files.Move(ctx, at, path.Join(to, name)); err != nil {
		return fail(err)
	}
	return nil
}

// writeFile writes a file so that it is never seen under its name half written.
func writeFile(ctx context.Context, files Files, name string, body []byte) error {
	if err := files.Make(ctx, path.Dir(name)); err != nil {
		return fmt.Errorf("the folder %s: %s", path.Dir(name), plainError(err))
	}
	meanwhile := path.Join(path.Dir(name), "."+path.Base(name)+".part")
	if err := files.Put(ctx, name, meanwhile, body); err != nil {
		return fmt.Errorf("the file %s: %s", name, plainError(err))
	}
	return nil
}

// prepared is the moment that what we write bears.
func (l *Line) prepared() time.Time { return l.now().UTC() }
