package connector

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"openrelay/internal/core/message"
)

// ReadFiles says which files of a folder are read, and what becomes of them.
type ReadFiles struct {
	Folder  string    `yaml:"folder"`
	Name    string    `yaml:"name"`    // pattern, such as DES*.edi
	Skip    []string  `yaml:"skip"`    // patterns of names under which files are being written
	Settled *Duration `yaml:"settled"` // a file is read when it has not changed for so long; a second where it is not set
	Done    string    `yaml:"done"`    // folder in which those lie that were read
	Failed  string    `yaml:"failed"`  // folder in which those lie that could not be

	Acknowledge *Acknowledge `yaml:"acknowledge"` // nil: the other side is not told
}

// skipped are names under which files are usually being written.
var skipped = []string{".*", "*.part", "*.tmp", "*.filepart", "*.partial", "~*"}

func (f *ReadFiles) defaults() {
	if f.Name == "" {
		f.Name = "*"
	}
	if f.Settled == nil {
		second := Duration(time.Second)
		f.Settled = &second
	}
	if f.Skip == nil {
		f.Skip = skipped
	}
	if f.Done == "" {
		f.Done = path.Join(f.Folder, "done")
	}
	if f.Failed == "" {
		f.Failed = path.Join(f.Folder, "failed")
	}
}

func (f *ReadFiles) compile(l *language, what string) {
	for _, p := range append([]string{f.Name}, f.Skip...) {
		if _, err := path.Match(p, ""); err != nil || strings.Contains(p, "/") {
			l.complain(0, 0, what, "%q is no pattern of a name; there are such as DES*.edi", p)
		}
	}
	for _, folder := range []string{f.Folder, f.Done, f.Failed} {
		if !within(folder) {
			l.complain(0, 0, what, "%q is no folder below the address", folder)
		}
	}
	if f.Done == f.Folder || f.Failed == f.Folder {
		l.complain(0, 0, what, "files that were read lie in another folder than those that were not")
	}
	if f.Acknowledge != nil {
		f.Acknowledge.compile(l, what+".acknowledge")
	}
}

// within tells whether a path stays below where it begins.
func within(p string) bool {
	return !path.IsAbs(p) && p == path.Clean("/" + p)[1:] || p == ""
}

func (f *ReadFiles) wants(name string) bool {
	match := func(p string) bool { ok, _ := path.Match(p, name); return ok }
	return match(f.Name) && !slices.ContainsFunc(f.Skip, match)
}

// sightings remember how files looked when they were seen before: one that is still being written changes.
type sightings struct {
	mu   sync.Mutex
	seen map[string]sighting
	told map[string]string // hashes of files that were acknowledged and lie there for other feeds, by feed and name
}

type sighting struct {
	info  FileInfo
	since time.Time
}

// settled tells whether a file has not changed for long enough; a name that is not listed any more is forgotten.
func (s *sightings) settled(feed message.Feed, list []FileInfo, now time.Time, long time.Duration) (out []FileInfo, soon time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	next := map[string]sighting{}
	for key, was := range s.seen {
		if !strings.HasPrefix(key, string(feed)+"/") {
			next[key] = was
		}
	}
	for _, info := range list {
		key := string(feed) + "/" + info.Name
		was, known := s.seen[key]
		if !known || was.info.Size != info.Size || !was.info.Modified.Equal(info.Modified) {
			was = sighting{info, now}
		}
		next[key] = was
		if wait := long - now.Sub(was.since); wait <= 0 {
			out = append(out, info)
		} else if soon == 0 || wait < soon {
			soon = wait
		}
	}
	s.seen = next
	for key := range s.told {
		if _, listed := next[key]; !listed && strings.HasPrefix(key, string(feed)+"/") {
			delete(s.told, key)
		}
	}
	return out, soon
}

// tell notes that a file was acknowledged, and answers whether it had been since the process began.
func (s *sightings) tell(feed message.Feed, name, hash string) (before bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	key := string(feed) + "/" + name
	if s.told[key] == hash {
		return true
	}
	if s.told == nil {
		s.told = map[string]string{}
	}
	s.told[key] = hash
	return false
}

// untold forgets that: it could not be written, or the file is put away.
func (s *sightings) untold(feed message.Feed, name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.told, string(feed)+"/"+name)
}

// readFiles reads the files of a feed, the oldest first. Each has its own outcome.
func (l *Line) readFiles(ctx context.Context, kind message.Feed, rd Reading) (ReadTo, error) {
	out := ReadTo{Mark: rd.Mark, Check: rd.Check}
	f := l.Def.Feeds[kind]
	files, err := l.openFiles(ctx)
	if err != nil {
		return out, err
	}
	defer files.Close()
	list, err := files.List(ctx, f.Read.Files.Folder)
	if err != nil {
		return out, &Failure{Text: "the folder " + f.Read.Files.Folder + ": " + plainError(err), Temporary: true}
	}
	list = slices.DeleteFunc(list, func(i FileInfo) bool { return !f.Read.Files.wants(i.Name) })
	if rd.Took != nil {
		list, out.Soon = l.sightings.settled(kind, list, l.now(), time.Duration(*f.Read.Files.Settled))
	}
	slices.SortFunc(list, func(a, b FileInfo) int {
		if c := a.Modified.Compare(b.Modified); c != 0 {
			return c
		}
		return strings.Compare(a.Name, b.Name)
	})
	for i, info := range list {
		if err := ctx.Err(); err != nil {
			return out, err
		}
		if err := l.takeFile(ctx, files, kind, rd, info); err != nil {
			return out, fmt.Errorf("%s: %w", info.Name, err)
		}
		if i+1 == rd.Pages {
			break
		}
	}
	return out, nil
}

// putFile writes a file instead of making a call.
func (l *Line) putFile(ctx context.Context, r *Request, v Vars) (*answer, error) {
	name, body, err := l.fileOf(r, v)
	if err != nil {
		return nil, &Failure{Text: l.Blank("file: " + err.Error()), Unsent: true}
	}
	note, _ := ctx.Value(exchangeKey{}).(*Exchange)
	if note != nil {
		*note = l.fileExchange(name, body)
	}
	ctx, cancel := context.WithTimeout(ctx, time.Duration(l.Def.Limits.Timeout))
	defer cancel()
	files, err := l.openFiles(ctx)
	if err != nil {
		return nil, err
	}
	defer files.Close()
	if err := writeFile(ctx, files, name, body); err != nil {
		return nil, &Failure{Text: err.Error(), Temporary: true}
	}
	return &answer{header: http.Header{}, status: http.StatusCreated}, nil
}

// fileOf makes the name and the content of a file that is written.
func (l *Line) fileOf(r *Request, v Vars) (name string, body []byte, err error) {
	if name, err = r.nameOf(v); err != nil {
		return "", nil, err
	}
	if r.body == nil {
		return name, nil, nil
	}
	x, err := r.body(v)
	if err == nil {
		if x, err = l.markTest(x, v); err == nil {
			body, _, err = r.Format.write(x)
		}
	}
	return name, body, err
}

// nameOf fills the expressions of a file's name. What they give has no part in where it lies: slashes and points at the beginning
// are replaced.
func (r *Request) nameOf(v Vars) (string, error) {
	var out strings.Builder
	for _, part := range r.path {
		if !part.expr.Set() {
			out.WriteString(part.text)
			continue
		}
		s, err := part.expr.String(v)
		if err == nil && s == "" {
			err = fmt.Errorf("%s has no value", short(part.expr.Text))
		}
		if err != nil {
			return "", fmt.Errorf("name: %w", err)
		}
		out.WriteString(safeName(s))
	}
	if name := out.String(); within(name) {
		return name, nil
	}
	return "", fmt.Errorf("name: %q is no name below the address", short(out.String()))
}

// safeName keeps what is fine in the name of a file everywhere.
func safeName(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '-' || r == '_' || r == '.' || r >= '0' && r <= '9' || r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z' {
			return r
		}
		return '_'
	}, strings.TrimLeft(s, "."))
}

func (l *Line) fileExchange(name string, body []byte) Exchange {
	return Exchange{
		Method:  "FILE",
		File:    name,
		Size:    int64(len(body)),
		Headers: [][2]string{},
		URL:     l.Blank(l.base.String() + "/" + name),
		Body:    l.Blank(string(body[:min(len(body), maxShown)])),
	}
}

// testFiles looks at the folders in which files are exchanged.
func (l *Line) testFiles(ctx context.Context) Verdict {
	files, err := l.openFiles(ctx)
	if err != nil {
		var f *Failure
		v := Verdict{Text: l.Blank(err.Error())}
		if errors.As(err, &f) {
			v.Text, v.Field = l.Blank(f.Text), f.Field
		}
		return v
	}
	defer files.Close()
	var looked []string
	for _, kind := range l.Def.Kinds() {
		f := l.Def.Feeds[kind]
		if f.Read == nil || f.Read.Files == nil {
			continue
		}
		if _, err := files.List(ctx, f.Read.Files.Folder); err != nil {
			return Verdict{Text: fmt.Sprintf("The folder %q of %s: %s.", f.Read.Files.Folder, kind, plainError(err))}
		}
		looked = append(looked, f.Read.Files.Folder)
	}
	at := strings.Trim(l.base.Host+l.base.Path, "/")
	return Verdict{
		LetIn:    true,
		Identity: &message.Identity{Name: l.Def.Title, Number: at},
		Text: fmt.Sprintf("Let in; the folders that are read are there: %s.",
			strings.Join(slices.Compact(looked), ", ")),
	}
}

// requests lists the calls of a definition by where they stand; those that send messages under sends.
func (d *Definition) requests() (sends, others map[string]*Request) {
	sends, others = map[string]*Request{}, map[string]*Request{}
	for name, c := range d.Calls {
		others["calls."+name+".request"] = &c.Request
	}
	for kind, f := range d.Feeds {
		what := "feeds." + string(kind)
		if f.Read != nil && f.Read.Files == nil {
			others[what+".read.request"] = &f.Read.Request
		}
		if f.Confirm != nil {
			others[what+".confirm.request"] = &f.Confirm.Request
		}
		if f.Send == nil {
			continue
		}
		sends[what+".send.request"] = &f.Send.Request
		if f.Send.Look != nil {
			others[what+".send.look.request"] = &f.Send.Look.Request
		}
		if f.Send.Report != nil {
			others[what+".send.report.request"] = &f.Send.Report.Request
		}
	}
	for _, r := range sends {
		for i := range r.Steps {
			others["the step "+r.Steps[i].Name] = &r.Steps[i].Request
		}
	}
	return sends, others
}

// checkFiles refuses a definition that exchanges files and makes calls, too, or says of one what belongs to the other: a connection
// has one address.
func (d *Definition) checkFiles(l *language) {
	files := d.Access.Way == "files"
	if d.Exchanges() != files {
		l.complain(0, 0, "access.way", "it is files where files are exchanged, and only there")
		return
	}
	a := &d.Access
	if files && (len(a.Query) > 0 || a.OAuth != nil || a.Sign != nil) {
		l.complain(0, 0, "access", "where files are exchanged, sftp says how we are let in, or over HTTP basic and send")
	}
	if !files && a.SFTP != nil {
		l.complain(0, 0, "access.sftp", "it is for where files are exchanged")
	}
	for _, kind := range sortedKeys(d.Feeds) {
		if r := d.Feeds[kind].Read; r != nil && r.Files == nil && (r.Format.Answer != "" || len(r.Format.Columns) > 0) {
			l.complain(0, 0, "feeds."+string(kind)+".read.format", "it is that of files; of an answer, it stands in the request")
		}
	}
	sends, others := d.requests()
	for _, what := range sortedKeys(sends) {
		if files && sends[what].File == "" {
			l.complain(0, 0, what, "who exchanges files is not called; file says which is written")
		}
	}
	for _, what := range sortedKeys(others) {
		switch {
		case others[what].File != "":
			l.complain(0, 0, what, "a file is written only of what is sent")
		case files:
			l.complain(0, 0, what, "who exchanges files is not called")
		}
	}
}

// Exchanges tells whether files are exchanged with the other side, instead of calls.
func (d *Definition) Exchanges() bool {
	for _, f := range d.Feeds {
		if f.Read != nil && f.Read.Files != nil || f.Send != nil && f.Send.Request.File != "" {
			return true
		}
	}
	return false
}
