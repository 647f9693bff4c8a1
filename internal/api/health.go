package api

import (
	"encoding/json"
	"net/http"

	"github.com/go-chi/chi/v5"
)

// healthRoutes tell whoever looks after the service how it is. They need no sign-in, and name nobody.
func (a *API) healthRoutes(mux chi.Router) {
	mux.Get("/livez", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) })
	mux.Get("/readyz", a.ready)
	mux.Get("/healthz", a.health)
}

// ready tells whether requests can be answered: whoever spreads them sends none otherwise.
func (a *API) ready(w http.ResponseWriter, r *http.Request) {
	if _, err := a.relay.Store.Setting(r.Context(), "company"); err != nil {
		problem(w, http.StatusServiceUnavailable, "The company file cannot be read.")
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// health tells how the service is, and what is not well; with what fails, in the status of the answer, too.
func (a *API) health(w http.ResponseWriter, r *http.Request) {
	h, err := a.relay.Health(r.Context())
	if err != nil {
		problem(w, http.StatusServiceUnavailable, "The company file cannot be read.")
		return
	}
	w.Header().Set("Content-Type", "application/json")
	if h.State == "failing" {
		w.WriteHeader(http.StatusServiceUnavailable)
	}
	_ = json.NewEncoder(w).Encode(h) // who asked may have left
}
