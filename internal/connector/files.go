package connector

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Files is a place at which files are exchanged. Paths are relative to it, with slashes.
type Files interface {
	// List lists the files of a folder, not those of folders in it.
	List(ctx context.Context, folder string) ([]FileInfo, error)
	// Open gives the content of a file.
	Open(ctx context.Context, name string) (io.ReadCloser, error)
	// Put writes a file, so that it is never seen under its name half written. One of that name is replaced.
	Put(ctx context.Context, name, meanwhile string, data []byte) error
	// Move moves a file. One of that name is replaced.
	Move(ctx context.Context, from, to string) error
	// Has tells whether a file is there.
	Has(ctx context.Context, name string) (bool, error)
	// Make makes a folder, unless it is there.
	Make(ctx context.Context, folder string) error
	Close() error
}

// FileInfo is what a list tells of a file.
type FileInfo struct {
	Name     string
	Size     int64
	Modified time.Time
}

// errTooLarge is that of a file beyond its bound.
var errTooLarge = errors.New("the file is too large")

// folder is a place on this machine.
type folder struct{ root *os.Root }

// openFolder opens a folder of this machine, where it lies in one that files may be exchanged in.
func openFolder(at string, allowed []string) (Files, error) {
	at = filepath.Clean(at)
	if !slices.ContainsFunc(allowed, func(a string) bool {
		rel, err := filepath.Rel(filepath.Clean(a), at)
		return err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator))
	}) {
		return nil, &Failure{Text: fmt.Sprintf("the folder %s is not one in which files may be exchanged; the service's switch -folders "+
			"names them", at), Unsent: true}
	}
	root, err := os.OpenRoot(at)
	if err != nil {
		return nil, &Failure{Text: "the folder " + at + ": " + plainError(err), Temporary: true, Unsent: true}
	}
	return &folder{root}, nil
}

// plainError is an error of a file without its path, which is said beside it.
func plainError(err error) string {
	var at *fs.PathError
	var link *os.LinkError
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "it is not there"
	case errors.Is(err, fs.ErrPermission):
		return "we may not"
	case errors.As(err, &at):
		return at.Err.Error()
	case errors.As(err, &link):
		return link.Err.Error()
	}
	return err.Error()
}

func (f *folder) List(_ context.Context, at string) ([]FileInfo, error) {
	dir, err := f.root.Open(orDot(at))
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	entries, err := dir.ReadDir(-1)
	if err != nil {
		return nil, err
	}
	var out []FileInfo
	for _, e := range entries {
		info, err := e.Info()
		if err == nil && info.Mode().IsRegular() { // one that is gone meanwhile is not there
			out = append(out, FileInfo{e.Name(), info.Size(), info.ModTime()})
		}
	}
	return out, nil
}

func orDot(at string) string {
	if at == "" {
		return "."
	}
	return at
}

func (f *folder) Open(_ context.Context, name string) (io.ReadCloser, error) {
	return f.root.Open(name)
}

func readAtMost(from io.Reader, most int64) ([]byte, error) {
	raw, err := io.ReadAll(io.LimitReader(from, most+1))
	if err == nil && int64(len(raw)) > most {
		err = errTooLarge
	}
	return raw, err
}

func (f *folder) Put(_ context.Context, name, meanwhile string, data []byte) error {
	file, err := f.root.OpenFile(meanwhile, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o660)
	if err != nil {
		return err
	}
	_, err = file.Write(data)
	if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
		return err
	}
	return f.root.Rename(meanwhile, name)
}

func (f *folder) Move(_ context.Context, from, to string) error { return f.root.Rename(from, to) }

func (f *folder) Has(_ context.Context, name string) (bool, error) {
	_, err := f.root.Lstat(name)
	return there(err)
}

// there is what looking at a file came to.
func there(err error) (bool, error) {
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

func (f *folder) Make(_ context.Context, at string) error {
	if at == "" || at == "." {
		return nil
	}
	return f.root.MkdirAll(at, 0o770)
}

func (f *folder) Close() error { return f.root.Close() }

// openFiles opens the place at which the other side exchanges files.
func (l *Line) openFiles(ctx context.Context) (Files, error) {
	switch l.base.Scheme {
	case "file":
		return openFolder(l.base.Path, l.folders)
	case "sftp":
		return l.openSFTP(ctx)
	}
	return l.openDAV(ctx)
}

// addressOf reads the address of a connection: http, https, sftp, or a folder of this machine.
func addressOf(text string) (*url.URL, error) {
	text = strings.TrimRight(strings.TrimSpace(text), "/")
	if strings.HasPrefix(text, "/") {
		text = "file://" + (&url.URL{Path: text}).EscapedPath()
	}
	u, err := url.Parse(text)
	switch {
	case err != nil || u.User != nil:
	case u.Scheme == "file" && u.Host == "" && path.IsAbs(u.Path):
		return u, nil
	case (u.Scheme == "http" || u.Scheme == "https" || u.Scheme == "sftp") && u.Host != "":
		return u, nil
	}
	return nil, fmt.Errorf("address %q: an http or https address without a name and password is expected; of who exchanges files "+
		"a folder such as /srv/exchange, or sftp://host/folder, too", text)
}
