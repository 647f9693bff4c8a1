package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"time"
)

// Backup is a copy of the file that the service made, or tried to make.
type Backup struct {
	ID      int64  `db:"id"`
	Name    string `db:"name"` // of the file in the folder of backups
	BeganAt int64  `db:"began_at"`
	EndedAt int64  `db:"ended_at"` // 0: it is being made
	Bytes   int64  `db:"bytes"`
	Who     string `db:"who"`
	Error   string `db:"error"`
	GoneAt  int64  `db:"gone_at"` // removed, as newer ones are there
}

// Backups lists the newest.
func (s *Store) Backups(ctx context.Context, limit int) (list []Backup, err error) {
	err = s.read.SelectContext(
		ctx,
		&list,
		`SELECT id, name, began_at, ended_at, bytes, `+called("who")+` AS who, error, gone_at FROM backup
		ORDER BY id DESC LIMIT ?`,
		limit,
	)
	return list, err
}

// KeptBackups lists those that are there, newest first.
func (s *Store) KeptBackups(ctx context.Context) (list []Backup, err error) {
	err = s.read.SelectContext(
		ctx,
		&list,
		`SELECT id, name, began_at, ended_at, bytes, `+called("who")+` AS who, error, gone_at FROM backup
		WHERE gone_at=0 AND error='' AND ended_at<>0 ORDER BY id DESC`,
	)
	return list, err
}

// BeginBackup notes that one is being made. One that was begun and not ended, as the service ended before, failed.
func (t *Tx) BeginBackup(b Backup) (id int64, err error) {
	if _, err := t.exec("UPDATE backup SET ended_at=?, error='the service ended before it was done' WHERE ended_at=0",
		b.BeganAt); err != nil {
		return 0, err
	}
	err = t.get(&id, "INSERT INTO backup (name, began_at, who) VALUES (?,?,?) RETURNING id", b.Name, b.BeganAt, b.Who)
	return id, err
}

// EndBackup notes what became of one.
func (t *Tx) EndBackup(b Backup) error {
	_, err := t.exec("UPDATE backup SET ended_at=?, bytes=?, error=? WHERE id=?", b.EndedAt, b.Bytes, b.Error, b.ID)
	return err
}

// BackupGone notes that one was removed.
func (t *Tx) BackupGone(id int64, now time.Time) error {
	_, err := t.exec("UPDATE backup SET gone_at=? WHERE id=?", micros(now), id)
	return err
}

// Holds tells how many orders and items there are.
func (s *Store) Holds(ctx context.Context) (orders, items int64, err error) {
	row := s.read.QueryRowxContext(ctx, "SELECT (SELECT count(*) FROM orders), (SELECT count(*) FROM item)")
	return orders, items, row.Scan(&orders, &items)
}

// PauseAll lets no connection move until somebody resumes it.
func (t *Tx) PauseAll() error {
	_, err := t.exec("UPDATE connection SET paused=1, revision=revision+1 WHERE paused=0")
	return err
}

// DropSetting forgets a setting.
func (t *Tx) DropSetting(key string) error {
	_, err := t.exec("DELETE FROM setting WHERE key=?", key)
	return err
}

// ReadSetting reads a setting of a file that is not opened; nothing of the file is changed.
func ReadSetting(ctx context.Context, path, key string) (value string, err error) {
	if _, err := os.Stat(path); err != nil {
		return "", fmt.Errorf("%s cannot be read: %w", path, errors.Unwrap(err))
	}
	db, err := sql.Open("sqlite", dsn(path, "query_only(1)"))
	if err != nil {
		return "", err
	}
	defer db.Close()
	err = db.QueryRowContext(ctx, "SELECT value FROM setting WHERE key=?", key).Scan(&value)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	if err != nil {
		return "", fmt.Errorf("%s is no company file: %w", path, err)
	}
	return value, nil
}

// sealedColumns are all places where something sealed lies, with the column that names a row.
var sealedColumns = []struct{ table, column, key string }{
	{"account", "credentials", "id"}, {"account", "token", "id"}, {"consent", "sealed", "state"}, {"notify_target", "secret", "id"},
	{"user", "totp", "id"},
	{"idempotency", "answer", "key"},
}

// Reseal gives each sealed value of the file to a function and writes back what it returns. It returns how many there were.
func (t *Tx) Reseal(again func(box []byte) ([]byte, error)) (n int, err error) {
	for _, c := range sealedColumns {
		var rows []struct {
			Key string `db:"key"`
			Box []byte `db:"box"`
		}
		if err := t.sel(&rows, fmt.Sprintf("SELECT CAST(%s AS TEXT) AS key, %s AS box FROM %s WHERE length(%s)>0", c.key, c.column,
			c.table, c.column)); err != nil {
			return n, err
		}
		for _, row := range rows {
			fresh, err := again(row.Box)
			if err != nil {
				return n, fmt.Errorf("%s %s: %w", c.table, c.column, err)
			}
			if _, err := t.exec(fmt.Sprintf("UPDATE %s SET %s=? WHERE %s=?", c.table, c.column, c.key), fresh, row.Key); err != nil {
				return n, err
			}
			n++
		}
	}
	return n, nil
}
