package api

import (
	"fmt"
	"net/http"

	"openrelay/internal/sheet"
)

// table begins to answer with a table as a file. Every table that leaves is written so: no cell of it is worked out by a
// spreadsheet. That who asked has left shows at the end of it, or never.
func table(w http.ResponseWriter, name string, columns ...string) *sheet.Writer {
	w.Header().Set("Content-Type", "text/csv; charset=utf-8; header=present")
	w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", name))
	return sheet.NewWriter(w, columns...)
}
