package wire

import (
	"time"

	"openrelay/internal/relay/keeping"
)

// Backups are copies of the company file, and when they are made.
type Backups struct {
	Folder     bool             `json:"folder" doc:"Whether the service was started with a folder for them"`
	Passphrase bool             `json:"passphrase" doc:"Whether the passphrase is known that the keys are sealed under"`
	Schedule   keeping.Schedule `json:"schedule"`
	Underway   *BackupProgress  `json:"underway,omitempty"`
	List       []Backup         `json:"list" doc:"The newest first"`
}

// BackupProgress is how far one is that is being made.
type BackupProgress struct {
	Done  int `json:"done"`
	Total int `json:"total" doc:"Pages of the file; 0: not known yet"`
}

// Backup is one copy.
type Backup struct {
	ID      int64      `json:"id"`
	Name    string     `json:"name" doc:"Of its file"`
	BeganAt *time.Time `json:"began_at"`
	EndedAt *time.Time `json:"ended_at,omitempty"`
	Bytes   int64      `json:"bytes"`
	Who     string     `json:"who"`
	Error   string     `json:"error,omitempty"`
	GoneAt  *time.Time `json:"gone_at,omitempty" doc:"When it was removed, as newer ones were there"`
}

// Rotated is what was sealed anew.
type Rotated struct {
	Secrets int    `json:"secrets"`
	Key     uint32 `json:"key" doc:"Number of the new key"`
}

// Retentions are for how long things stay whole, and how thinning went.
type Retentions struct {
	Kinds []keeping.Retention `json:"kinds"`
	Last  *keeping.Pass       `json:"last,omitempty" doc:"The last time that what is old was thinned, or now"`
	Bytes int64               `json:"bytes" doc:"Of the company's file; what was thinned leaves room in it that is used again"`
	Free  int64               `json:"free" doc:"Bytes of it that are free to be used again"`
}
