package connector

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path"
	"strings"
	"time"

	"github.com/studio-b12/gowebdav"
)

// davFor is for how long a place over HTTP is worked at in one go.
const davFor = 10 * time.Minute

// davFiles is a place that is reached over HTTP by WebDAV (RFC 4918).
type davFiles struct {
	client *gowebdav.Client
	end    context.CancelFunc
}

// openDAV reaches the place of the connection's address over HTTP.
func (l *Line) openDAV(ctx context.Context) (Files, error) {
	ctx, end := context.WithTimeout(ctx, davFor)
	client := gowebdav.NewAuthClient(l.base.String(), gowebdav.NewEmptyAuth())
	client.SetTransport(&davTransport{l, ctx})
	return &davFiles{client, end}, nil
}

// davTransport carries the requests of a place: with what lets us in, no faster than the other side's limits, and to its host alone.
type davTransport struct {
	line *Line
	ctx  context.Context
}

func (t *davTransport) RoundTrip(req *http.Request) (*http.Response, error) {
	l := t.line
	if req.URL.Host != l.base.Host || req.URL.Scheme != l.base.Scheme {
		return nil, errors.New("the place leads to another host; it was not followed")
	}
	if err := l.login.limiter.Wait(t.ctx); err != nil {
		return nil, err
	}
	req = req.Clone(t.ctx)
	req.Header.Set("User-Agent", "openrelay")
	if err := l.identify(req, &Request{}, l.vars(), page{}, ""); err != nil {
		return nil, err
	}
	res, err := l.client.Do(req)
	if err != nil {
		return nil, err
	}
	if res.StatusCode == http.StatusUnauthorized || res.StatusCode == http.StatusForbidden {
		res.Body.Close()
		const said = "the place does not let us in"
		return nil, &Failure{Text: said, Said: said, Status: res.StatusCode, Unsent: true}
	}
	return res, nil
}

// told makes an error of the place one that we know.
func (f *davFiles) told(err error) error {
	var failure *Failure
	var at *os.PathError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &failure):
		return failure
	case gowebdav.IsErrNotFound(err):
		return fs.ErrNotExist
	case errors.As(err, &at):
		if status, ok := at.Err.(gowebdav.StatusError); ok {
			return fmt.Errorf("the place answered %d to %s", status.Status, strings.ToUpper(at.Op))
		}
		return at.Err
	}
	return err
}

func (f *davFiles) List(_ context.Context, at string) ([]FileInfo, error) {
	entries, err := f.client.ReadDir("/" + at)
	if err != nil {
		return nil, f.told(err)
	}
	var out []FileInfo
	for _, e := range entries {
		if !e.IsDir() {
			out = append(out, FileInfo{e.Name(), e.Size(), e.ModTime()})
		}
	}
	return out, nil
}

func (f *davFiles) Open(_ context.Context, name string) (io.ReadCloser, error) {
	body, err := f.client.ReadStream("/" + name)
	return body, f.told(err)
}

func (f *davFiles) Put(ctx context.Context, name, meanwhile string, data []byte) error {
	if err := f.client.Write("/"+meanwhile, data, 0o644); err != nil {
		return f.told(err)
	}
	return f.Move(ctx, meanwhile, name)
}

func (f *davFiles) Move(_ context.Context, from, to string) error {
	return f.told(f.client.Rename("/"+from, "/"+to, true))
}

func (f *davFiles) Has(_ context.Context, name string) (bool, error) {
	_, err := f.client.Stat("/" + name)
	return there(f.told(err))
}

func (f *davFiles) Make(_ context.Context, at string) error {
	if at = path.Clean(at); at == "" || at == "." {
		return nil
	}
	return f.told(f.client.MkdirAll("/"+at, 0o755))
}

func (f *davFiles) Close() error { f.end(); return nil }
