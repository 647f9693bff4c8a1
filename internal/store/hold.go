package store

import (
	"fmt"
	"io"
	"os"
	"strings"
	"syscall"
	"time"
)

// Held is returned when another process works on the file.
type Held struct {
	File string
	By   string // who has it, as it wrote of itself
}

func (h *Held) Error() string {
	return fmt.Sprintf("another service works on %s: %s. Two services never work on one file; stop that one first", h.File, h.By)
}

// Hold makes this process the one that works on the company file, or says who does already. Commands that only look or
// change a record do not need it. The lock is the system's: it ends with the process, however that ends.
func (s *Store) Hold() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.hold != nil {
		return nil
	}
	f, err := os.OpenFile(s.path+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("hold %s: %w", s.path, err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		defer f.Close()
		by, rerr := io.ReadAll(io.LimitReader(f, 500))
		if rerr != nil || len(by) == 0 {
			by = []byte("a process that has not said its number")
		}
		return &Held{File: s.path, By: strings.TrimSpace(string(by))}
	}
	host, err := os.Hostname()
	if err != nil {
		host = "this machine"
	}
	text := fmt.Sprintf("process %d on %s, since %s\n", os.Getpid(), host, time.Now().Format(time.RFC3339))
	if err := f.Truncate(0); err != nil {
		f.Close()
		return err
	}
	if _, err := f.WriteAt([]byte(text), 0); err != nil {
		f.Close()
		return err
	}
	s.hold = f
	return nil
}

// LetGo ends the hold.
func (s *Store) LetGo() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.letGo()
}

func (s *Store) letGo() {
	if s.hold != nil {
		s.hold.Close()
		s.hold = nil
	}
}
