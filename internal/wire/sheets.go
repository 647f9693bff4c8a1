package wire

import (
	"time"

	"openrelay/internal/sheet"
	"openrelay/internal/store"
)

// Sheet is a CSV file that was handed in, and how it stands.
type Sheet struct {
	ID      int64              `json:"id"`
	Kind    string             `json:"kind"`
	Name    string             `json:"name"`
	State   string             `json:"state" enum:"checking,checked,applying,done,failed" doc:"checked: each row was looked at, nothing is changed yet"`
	Form    sheet.Form         `json:"form" doc:"How the file is written"`
	Total   int64              `json:"total" doc:"Rows"`
	Done    int64              `json:"done" doc:"Rows that were carried out"`
	Counts  []store.SheetCount `json:"counts" doc:"Rows by what would become, or became, of them: add, change, nothing, refused; then added, changed"`
	Error   string             `json:"error,omitempty"`
	Who     string             `json:"who"`
	At      *time.Time         `json:"at"`
	EndedAt *time.Time         `json:"ended_at,omitempty"`
}

// SheetRow is a row with what would become, or became, of it.
type SheetRow struct {
	Row     int64             `json:"row" doc:"Line of the file; its first row is 1"`
	Key     string            `json:"key"`
	Verdict string            `json:"verdict"`
	Changes string            `json:"changes,omitempty"`
	Reason  string            `json:"reason,omitempty" doc:"Why it is refused"`
	Fields  map[string]string `json:"fields"`
}
