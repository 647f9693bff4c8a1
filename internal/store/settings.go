package store

import (
	"context"
	"time"
)

// SettingChange is that a setting of a kind was changed, and how it stood before.
type SettingChange struct {
	ID       int64  `db:"id"`
	At       int64  `db:"at"`
	Who      string `db:"who"`
	Kind     string `db:"kind"`
	Code     string `db:"code"`
	Before   string `db:"before"` // JSON; empty where it was made
	Undoes   int64  `db:"undoes"` // the change that it undid
	UndoneAt int64  `db:"undone_at"`
	Newer    int64  `db:"newer"` // a later change of the same setting that is not undone; 0: there is none
}

// keptSettingChanges is how many changes can be undone.
const keptSettingChanges = 500

var settingChangeQuery = `SELECT s.id, s.at, ` + called("s.who") + ` AS who, s.kind, s.code, s.before, s.undoes, s.undone_at,
	coalesce((SELECT max(n.id) FROM setting_change n WHERE n.kind=s.kind AND n.code=s.code AND n.id>s.id AND n.undone_at=0), 0) AS newer
	FROM setting_change s `

// SettingChange is one change of a setting.
func (s *Store) SettingChange(ctx context.Context, id int64) (c SettingChange, err error) {
	err = found(s.read.GetContext(ctx, &c, settingChangeQuery+"WHERE s.id=?", id))
	return c, err
}

// SettingChanges lists changes of settings of some kinds, or of all where none is named, newest first.
func (s *Store) SettingChanges(ctx context.Context, kinds []string, before int64, limit int) ([]SettingChange, error) {
	out := []SettingChange{}
	err := s.read.SelectContext(ctx, &out, settingChangeQuery+`WHERE (?1=0 OR s.id<?1)
		AND (json_array_length(?2)=0 OR s.kind IN (SELECT value FROM json_each(?2))) ORDER BY s.id DESC LIMIT ?3`, before,
		jsonList(kinds), limit)
	return out, err
}

// AddSettingChange keeps how a setting stood before it is changed; the oldest are let go of.
func (t *Tx) AddSettingChange(c SettingChange) (id int64, err error) {
	if err := t.get(&id, "INSERT INTO setting_change (at, who, kind, code, before, undoes) VALUES (?,?,?,?,?,?) RETURNING id", c.At, c.Who,
		c.Kind, c.Code, c.Before, c.Undoes); err != nil {
		return 0, err
	}
	_, err = t.exec("DELETE FROM setting_change WHERE id<=?", id-keptSettingChanges)
	return id, err
}

// DropSettingChange takes back that a setting was changed: it was not.
func (t *Tx) DropSettingChange(id int64) error {
	_, err := t.exec("DELETE FROM setting_change WHERE id=?", id)
	return err
}

// SettingUndone writes that a change was undone.
func (t *Tx) SettingUndone(id int64, now time.Time) error {
	_, err := t.exec("UPDATE setting_change SET undone_at=? WHERE id=?", micros(now), id)
	return err
}
