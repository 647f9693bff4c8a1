package relay

import (
	"maps"
	"slices"

	"openrelay/internal/store"
)

// placeIDs lists the locations.
func (r *Relay) placeIDs() []int64 {
	r.placeMu.RLock()
	defer r.placeMu.RUnlock()
	return slices.Sorted(maps.Keys(r.places))
}

// placeID finds a location by its code; 0 where there is none.
func (r *Relay) placeID(code string) int64 {
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

func (r *Relay) location(code string) (store.Location, error) {
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
	return store.Location{}, Refuse("location %q is not known; there are %s", code, join(known))
}

func (r *Relay) placeName(id int64) string {
	r.placeMu.RLock()
	defer r.placeMu.RUnlock()
	return r.places[id].Name
}

// Place returns a location.
func (r *Relay) Place(id int64) store.Location {
	r.placeMu.RLock()
	defer r.placeMu.RUnlock()
	return r.places[id]
}

// Code is the code of a connection, or empty.
func (r *Relay) Code(id int64) string {
	if c := r.byID(id); c != nil {
		return c.rec().Code
	}
	return ""
}
