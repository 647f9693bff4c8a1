package store

import (
	"fmt"
	"os"
	"sync"
	"sync/atomic"
)

// disk has the write-ahead log brought to the disk: SQLite writes what is committed to it (synchronous=NORMAL) and brings it to the disk
// before it copies any of it into the file, so that the file is whole whenever power is lost; when a commit is to last, the disk is
// waited for here, beside the changes that follow.
type disk struct {
	log     *os.File
	written atomic.Uint64 // commits that are in the log

	mu     sync.Mutex
	synced uint64                // of them those that the disk has
	failed atomic.Pointer[error] // why it has not taken what it was given; what it has is not known any more
	flush  func() error          // brings the log to the disk
}

// openDisk opens the log of a file that is open in SQLite, so that its log exists.
func openDisk(path string) (*disk, error) {
	log, err := os.OpenFile(path+"-wal", os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	return &disk{log: log, flush: log.Sync}, nil
}

// wait returns when the disk has so many commits. Those who wait meanwhile have theirs by one turn of the disk, too.
func (d *disk) wait(commits uint64) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.synced >= commits {
		return nil
	}
	if err := d.broken(); err != nil {
		return err
	}
	written := d.written.Load()
	if err := d.flush(); err != nil {
		d.failed.Store(&err)
		return d.broken()
	}
	d.synced = written
	return nil
}

// broken says that the disk has failed once: whether it has what it was given before that is not known, so nothing more is
// written until the file is opened anew.
func (d *disk) broken() error {
	if err := d.failed.Load(); err != nil {
		return &unavailable{fmt.Errorf("the disk did not take what was written; look after it, then start again: %w", *err)}
	}
	return nil
}

func (d *disk) close() error { return d.log.Close() }
