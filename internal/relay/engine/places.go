package engine

import (
	"maps"
	"slices"
	"strings"

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

// Sender is whom parcels come from, by code, and whether there is one.
func (r *Engine) Sender(code string) (store.Sender, bool) {
	r.placeMu.RLock()
	defer r.placeMu.RUnlock()
	s, ok := r.senders[code]
	return s, ok
}

// NamedCarrier is a carrier that is only named and in use, by its code or, whatever the case, its name.
func (r *Engine) NamedCarrier(name string) (store.NamedCarrier, bool) {
	r.placeMu.RLock()
	defer r.placeMu.RUnlock()
	for _, c := range r.carried {
		if c.ArchivedAt == 0 && name != "" && (c.Code == name || strings.EqualFold(c.Name, strings.TrimSpace(name))) {
			return c, true
		}
	}
	return store.NamedCarrier{}, false
}

// NumbersTyped tells whether there is a carrier that is only named, so that tracking numbers can be typed.
func (r *Engine) NumbersTyped() bool {
	r.placeMu.RLock()
	defer r.placeMu.RUnlock()
	return slices.ContainsFunc(r.carried, func(c store.NamedCarrier) bool { return c.ArchivedAt == 0 })
}
