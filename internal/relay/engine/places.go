package engine

import (
	"maps"
	"slices"

	"openrelay/internal/store"
)

// PlaceIDs lists the locations.
func (r *Engine) PlaceIDs() []int64 {
	r.PlaceMu.RLock()
	defer r.PlaceMu.RUnlock()
	return slices.Sorted(maps.Keys(r.Places))
}

// PlaceID finds a location by its code; 0 where there is none.
func (r *Engine) PlaceID(code string) int64 {
	if code == "" {
		return 0
	}
	r.PlaceMu.RLock()
	defer r.PlaceMu.RUnlock()
	for id, l := range r.Places {
		if l.Code == code {
			return id
		}
	}
	return 0
}

func (r *Engine) Location(code string) (store.Location, error) {
	r.PlaceMu.RLock()
	defer r.PlaceMu.RUnlock()
	var known []string
	for _, l := range r.Places {
		if l.Code == code {
			return l, nil
		}
		known = append(known, l.Code)
	}
	slices.Sort(known)
	return store.Location{}, Refuse("location %q is not known; there are %s", code, Join(known))
}

func (r *Engine) PlaceName(id int64) string {
	r.PlaceMu.RLock()
	defer r.PlaceMu.RUnlock()
	return r.Places[id].Name
}

// Place returns a location.
func (r *Engine) Place(id int64) store.Location {
	r.PlaceMu.RLock()
	defer r.PlaceMu.RUnlock()
	return r.Places[id]
}

// Code is the code of a connection, or empty.
func (r *Engine) Code(id int64) string {
	if c := r.ByID(id); c != nil {
		return c.Rec().Code
	}
	return ""
}
