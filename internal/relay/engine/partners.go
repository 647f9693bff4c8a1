package engine

import (
	"slices"

	"openrelay/internal/core/message"
	"openrelay/internal/store"
)

// TakesRequests tells whether a connection can be asked to send something for us.
func TakesRequests(c *Conn) bool {
	return c != nil && c.Line() != nil && c.Line().Def.Feeds[message.RequestsOut] != nil
}

// PartnerAt is the partner that sends what lies at a place: whose word counts there, and which takes requests. nil: we send it.
func (r *Engine) PartnerAt(location int64) *Conn {
	keeper := r.Place(location).Keeper
	if keeper == 0 {
		return nil
	}
	c := r.ByID(keeper)
	if !TakesRequests(c) || !r.FeedOn(c, message.RequestsOut) {
		return nil
	}
	return c
}

// FeedOn tells whether a feed of a connection is switched on, whether or not the connection is at work just now; of one that was left, none
// is.
func (r *Engine) FeedOn(c *Conn, kind message.Feed) bool {
	r.mu.RLock()
	defer r.mu.RUnlock()
	f := c.feeds[kind]
	return f != nil && f.On && c.Rec().State != store.Left
}

// HasPartners tells whether a partner sends what lies at any place, or has sent from there until it was switched off or left: what it was
// asked until then still has to be followed.
func (r *Engine) HasPartners() bool {
	return slices.ContainsFunc(r.keptElsewhere(), func(id int64) bool { return TakesRequests(r.ByID(r.Place(id).Keeper)) })
}

// PartnerPlaces lists the places from which a partner sends.
func (r *Engine) PartnerPlaces() (out []int64) {
	for _, id := range r.keptElsewhere() {
		if r.PartnerAt(id) != nil {
			out = append(out, id)
		}
	}
	return out
}

// PlacesOf lists the places at which a connection's word counts.
func (r *Engine) PlacesOf(connection int64) (out []int64) {
	for _, id := range r.PlaceIDs() {
		if r.Place(id).Keeper == connection {
			out = append(out, id)
		}
	}
	return out
}

// keptElsewhere lists the places at which another system's word counts.
func (r *Engine) keptElsewhere() (out []int64) {
	r.placeMu.RLock()
	defer r.placeMu.RUnlock()
	for id, l := range r.places {
		if l.Keeper != 0 {
			out = append(out, id)
		}
	}
	return out
}
