package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"modernc.org/sqlite"
)

// copyPages is how many pages are copied between two looks at the clock and the context.
const copyPages = 256

// What was copied is brought to the disk every flushEach steps, and then the copy rests: a disk that has much to write at once
// lets the commits of others wait.
const (
	flushEach = 4
	copyRest  = 4 * time.Millisecond
)

// Copy writes a copy of a company file as it stands at one moment, whatever is written to it meanwhile, by whichever process.
// It is for its owner only, and stands whole under its name or not at all. A file that is there is left alone.
func Copy(ctx context.Context, from, to string, progress func(done, total int)) (err error) {
	if _, err := os.Stat(to); err == nil {
		return fmt.Errorf("%s is there already", to)
	}
	part := to + ".part"
	defer func() {
		if err != nil {
			os.Remove(part)
		}
	}()
	if err := os.Remove(part); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	f, err := os.OpenFile(part, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("write a copy: %w", err)
	}
	f.Close()
	if err := copyInto(ctx, from, part, progress); err != nil {
		return fmt.Errorf("copy %s: %w", from, err)
	}
	if err := syncFile(part); err != nil {
		return err
	}
	if err := os.Rename(part, to); err != nil {
		return err
	}
	return syncFile(filepath.Dir(to))
}

func copyInto(ctx context.Context, from, to string, progress func(done, total int)) error {
	db, err := sql.Open("sqlite", dsn(from, "query_only(1)"))
	if err != nil {
		return err
	}
	defer db.Close()
	conn, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	// As long as this connection reads, it sees the file as it was when it began; without it, each change by others would
	// start the copy anew.
	if _, err := conn.ExecContext(ctx, "BEGIN"); err != nil {
		return err
	}
	defer conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
	var n int
	if err := conn.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_schema").Scan(&n); err != nil {
		return err
	}
	return conn.Raw(func(driver any) error {
		source, ok := driver.(interface {
			NewBackup(string) (*sqlite.Backup, error)
		})
		if !ok {
			return errors.New("the driver cannot copy")
		}
		q := url.Values{"_pragma": []string{"journal_mode(off)", "synchronous(off)"}}
		b, err := source.NewBackup("file:" + (&url.URL{Path: to}).EscapedPath() + "?" + q.Encode())
		if err != nil {
			return err
		}
		for n, more := 1, true; more; n++ {
			more, err = b.Step(copyPages)
			if err == nil && n%flushEach == 0 {
				err = syncFile(to)
				time.Sleep(copyRest)
			}
			if err == nil && progress != nil {
				progress(b.PageCount()-b.Remaining(), b.PageCount())
			}
			if err = errors.Join(err, ctx.Err()); err != nil {
				return errors.Join(err, b.Finish())
			}
		}
		return b.Finish()
	})
}

func syncFile(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

// Plain gives a file that nobody works on the form in which it can be read where nothing can be written beside it.
func Plain(ctx context.Context, path string) error {
	db, err := sql.Open("sqlite", dsn(path))
	if err != nil {
		return err
	}
	defer db.Close()
	var mode string
	if err := db.QueryRowContext(ctx, "PRAGMA journal_mode=DELETE").Scan(&mode); err != nil {
		return err
	}
	if mode != "delete" {
		return fmt.Errorf("%s is still worked on", path)
	}
	return nil
}
