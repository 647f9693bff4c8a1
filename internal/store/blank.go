package store

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
)

// blank is a file with all tables and nothing in them, made once in a process. SQLite reads all tables again at each
// change of one, so that making a file from its migrations takes ten times as long as copying this one.
var blank struct {
	sync.Mutex
	bytes []byte
}

// createFile makes the file of a company where there is none, for its owner only: it holds people's addresses. SQLite
// gives its helpers the same mode. It is put in its place when it is whole; where somebody else was first, theirs stays.
func createFile(ctx context.Context, path string) error {
	if _, err := os.Stat(path); err == nil {
		return nil
	}
	dir, err := os.MkdirTemp(filepath.Dir(path), ".new-*")
	if err != nil {
		return fmt.Errorf("open %s: %w", path, errors.Unwrap(err))
	}
	defer os.RemoveAll(dir)
	made := filepath.Join(dir, "blank.relay")
	if err := makeBlank(ctx, made); err != nil {
		return fmt.Errorf("open %s: %w", path, err)
	}
	err = os.Link(made, path)
	if err != nil && !errors.Is(err, fs.ErrExist) { // a file system without links
		err = os.Rename(made, path)
	}
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("open %s: %w", path, errors.Unwrap(err))
	}
	return nil
}

// makeBlank makes a blank file: the first from the migrations, the others as its copies.
func makeBlank(ctx context.Context, path string) error {
	blank.Lock()
	defer blank.Unlock()
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if blank.bytes != nil {
		_, err = f.Write(blank.bytes)
		return errors.Join(err, f.Sync(), f.Close())
	}
	if err := f.Close(); err != nil {
		return err
	}
	db, _, err := openTables(ctx, path)
	if err != nil {
		return err
	}
	if err := db.Close(); err != nil { // the last one to close writes the log into the file
		return err
	}
	blank.bytes, err = os.ReadFile(path)
	return err
}
