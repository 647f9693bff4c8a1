package shipping

import (
	"context"
	"slices"
	"time"

	"openrelay/internal/core/freight"
	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// checkCollections tidies when carriers come to places, and refuses what cannot be.
func (r *Shipping) checkCollections(_ context.Context, rows []freight.Collection) error {
	for i := range rows {
		c := &rows[i]
		if err := r.sellsLabels(c.Carrier); err != nil {
			return engine.Refuse("row %d: %v", i+1, err)
		}
		if _, err := r.Location(c.Place); err != nil {
			return engine.Refuse("row %d: %v", i+1, err)
		}
		if err := c.Check(); err != nil {
			return engine.Refuse("row %d: %v", i+1, err)
		}
		if slices.ContainsFunc(rows[:i], func(o freight.Collection) bool { return o.Carrier == c.Carrier && o.Place == c.Place }) {
			return engine.Refuse("row %d: when %s comes to %s stands there twice", i+1, c.Carrier, c.Place)
		}
	}
	return nil
}

// sellsLabels refuses a connection that is no carrier.
func (r *Shipping) sellsLabels(code string) error {
	c := r.ByCode(code)
	if c == nil || c.Line() == nil || c.Line().Def.Feeds[message.LabelsOut] == nil {
		return engine.Refuse("carrier %q is not a connection that sells labels", code)
	}
	return nil
}

// comes is when a carrier comes to a place, as far as that was said.
func (r *Shipping) comes(c *engine.Conn, location int64) (h place.Hours, said bool) {
	rows, err := r.Collections.Rows(r.Ctx, r.Engine)
	if err != nil {
		r.Log.Error("when carriers come is not known", "error", err)
		return h, false
	}
	at := slices.IndexFunc(rows, func(x freight.Collection) bool {
		return x.Carrier == c.Rec().Code && r.PlaceID(x.Place) == location
	})
	if at < 0 {
		return h, false
	}
	return rows[at].Hours, true
}

// handoverDay is the day, YYYY-MM-DD, on which a carrier takes what is packed now at a place: by its own cut-off there, else by that of
// the place, else today. What comes after its day was closed goes on the next.
func (r *Shipping) handoverDay(c *engine.Conn, location int64) string {
	h, said := r.comes(c, location)
	if !said {
		h = r.Place(location).Hours
	}
	if !h.Said() {
		return r.Today()
	}
	return r.leaves(c, location, h, r.Now())
}

// handoverOf is the day on which its carrier takes a parcel that has its label already.
func (r *Shipping) handoverOf(p *store.Parcel) string {
	if c := r.ByID(p.CarrierID); c != nil {
		return r.handoverDay(c, p.LocationID)
	}
	return r.Today()
}

// dayAfter is the day on which a carrier takes what it did not take on a day.
func (r *Shipping) dayAfter(c *engine.Conn, location int64, day string) string {
	at, err := time.ParseInLocation(time.DateOnly, day, r.Zone())
	if err != nil {
		return r.Today()
	}
	h, said := r.comes(c, location)
	if !said {
		h = r.Place(location).Hours
	}
	next := at.AddDate(0, 0, 1)
	if !h.Said() {
		return next.Format(time.DateOnly)
	}
	return r.leaves(c, location, h, next)
}

// leaves is the first day from a moment on which a carrier comes whose list is not closed yet.
func (r *Shipping) leaves(c *engine.Conn, location int64, h place.Hours, at time.Time) string {
	for range 60 {
		leaves := h.LeavesBy(at)
		if leaves.IsZero() {
			break
		}
		day := leaves.Format(time.DateOnly)
		closed, err := r.Store.DayClosed(r.Ctx, c.ID, location, day)
		if err != nil || !closed {
			return day
		}
		y, m, d := leaves.Date()
		at = time.Date(y, m, d+1, 0, 0, 0, 0, leaves.Location())
	}
	return r.Today()
}

// window is between which hours, HH:MM, a carrier is asked to come to a place on a day; empty: that was not said.
func (r *Shipping) window(c *engine.Conn, location int64, day string) (from, to string) {
	h, said := r.comes(c, location)
	at, err := time.ParseInLocation(time.DateOnly, day, r.Zone())
	if !said || err != nil {
		return "", ""
	}
	opens, closes, works := h.Works(at.Add(12 * time.Hour))
	if !works {
		return "", ""
	}
	return opens.Format("15:04"), closes.Format("15:04")
}
