package engine

import (
	"maps"
	"slices"

	"openrelay/internal/store"
)

// PlaceIDs lists the locations.
func (r *Engine) PlaceIDs() []int64 {
	r.placeMu.RLock()
	defer r.placeMu.RUnlock()
	return slices.Sorted(maps.Keys(r.places))
}

// OnlyPlace is the one location that there is; 0 where there are more or none.
func (r *Engine) OnlyPlace() int64 {
	if ids := r.PlaceIDs(); len(ids) == 1 {
		return ids[0]
	}
	return 0
}

// PlaceID finds a location by its code; 0 where there is none.
func (r *Engine) PlaceID(code string) int64 {
	if code == "" {
		return 0
	}
	r.placeMu.RLock()
	defer r.placeMu.RUnlock()
	for id, l := range r.places {
		if l.Code == code {
			return id
		}
	}
	return 0
}

func (r *Engine) Location(code string) (store.Location, error) {
	r.placeMu.RLock()
	defer r.placeMu.RUnlock()
	var known []string
	for _, l := range r.places {
		if l.Code == code {
			return l, nil
		}
		known = append(known, l.Code)
	}
	slices.Sort(known)
	return store.Location{}, Refuse("location %q is not known; there are %s", code, Join(known))
}

func (r *Engine) PlaceName(id int64) string {
	r.placeMu.RLock()
	defer r.placeMu.RUnlock()
	return r.places[id].Name
}

// Place returns a location.
func (r *Engine) Place(id int64) store.Location {
	r.placeMu.RLock()
	defer r.placeMu.RUnlock()
	return r.places[id]
}

// Code is the code of a connection, or empty.
func (r *Engine) Code(id int64) string {
	if c := r.ByID(id); c != nil {
		return c.Rec().Code
	}
	return ""
}
