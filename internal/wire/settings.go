package wire

import "time"

// SettingChange is that a setting was changed.
type SettingChange struct {
	ID       int64      `json:"id"`
	At       *time.Time `json:"at"`
	Who      string     `json:"who"`
	Kind     string     `json:"kind" doc:"company, place, sender, carrier, profile, number series, retention, backups and so on"`
	Code     string     `json:"code,omitempty" doc:"Where a company has many of the kind"`
	Name     string     `json:"name,omitempty" doc:"The code, or what the person is called"`
	Made     bool       `json:"made,omitempty" doc:"It was made; undone, it is used no more"`
	Undoes   int64      `json:"undoes,omitempty" doc:"The change that this one undid"`
	UndoneAt *time.Time `json:"undone_at,omitempty"`
	Undoable bool       `json:"undoable" doc:"It is the latest change of that setting, and can be taken back"`
}
