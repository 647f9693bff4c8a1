package wire

import "time"

// Report is figures over a span of time.
type Report struct {
	Code string      `json:"code"`
	From time.Time   `json:"from"`
	To   time.Time   `json:"to"`
	Rows []ReportRow `json:"rows"`
}

// ReportRow is a row of a report. What the figures are depends on the report: see its columns.
type ReportRow struct {
	Name      string  `json:"name"`
	Second    string  `json:"second,omitempty"`
	Currency  string  `json:"currency,omitempty" doc:"Of the amounts; they are never added across currencies"`
	A         int64   `json:"a"`
	B         int64   `json:"b"`
	C         float64 `json:"c"`
	Cancelled int64   `json:"cancelled,omitempty" doc:"Cancelled orders; they count in no other figure"`
}
