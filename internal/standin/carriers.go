package standin

import (
	"encoding/json"
	"fmt"
	"net/http"

	"github.com/go-chi/chi/v5"
)

// soldRow is a label in the books of a carrier, as its page shows it.
type soldRow struct{ No, Number, To, Ref, Stands string }

func stands(cancelled bool, list string, events int) string {
	switch {
	case cancelled:
		return "cancelled"
	case list != "":
		return fmt.Sprintf("on %s, %d events", list, events)
	}
	return fmt.Sprintf("%d events", events)
}

// Ways in which a parcel leaves its usual way, as the control pages of carriers know them.
const (
	NotIn     = "not in" // nobody was there; it is tried again
	GoingBack = "going back"
	BackAgain = "back"
	GoneLost  = "lost"
	AtCustoms = "at customs"
)

// carrierControl is the control page of a carrier, and its control API: faults, and parcels that move on.
func carrierControl(r chi.Router, mis *mischief, title, about string, book func() []soldRow, move func(number, as string) error) {
	r.Get("/control", func(w http.ResponseWriter, _ *http.Request) {
		faults, _ := json.Marshal(mis.now())
		show(w, "carrier", map[string]any{"Title": title, "About": about, "Book": book(), "Faults": string(faults)})
	})
	r.Post("/control/move", func(w http.ResponseWriter, r *http.Request) {
		_ = move(r.FormValue("number"), r.FormValue("as")) // one that has arrived stays where it is
		http.Redirect(w, r, "/control", http.StatusSeeOther)
	})
	r.Post("/control/faults", func(w http.ResponseWriter, r *http.Request) {
		mis.set(chosen(r))
		http.Redirect(w, r, "/control", http.StatusSeeOther)
	})
	r.Post("/control/api/faults", mis.setFaults)
	r.Post("/control/api/move", func(w http.ResponseWriter, r *http.Request) {
		var in struct{ Number, As string }
		if read(w, r, &in) {
			said(w, move(in.Number, in.As))
		}
	})
}
