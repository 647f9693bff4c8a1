package relay

import (
	"context"
	"fmt"
	"time"

	"openrelay/internal/store"
)

// SetFeed switches a feed on or off and sets its schedule.
func (r *Relay) SetFeed(ctx context.Context, code, kind string, on bool, schedule string, revision int64, who string) error {
	c := r.byCode(code)
	if c == nil {
		return store.ErrNotFound
	}
	f, _ := r.feed(c, kind)
	if f.ID == 0 {
		return store.ErrNotFound
	}
	if _, err := ParseSchedule(schedule, time.Minute); err != nil {
		return err
	}
	err := r.commit(ctx, func(ch *change) error {
		if kind == "stock out" && on && !f.On && c.rec().PreviewedAt == 0 {
			return &Refused{Text: "stock out stays off until somebody has seen what it would change; look at the preview first", Conflict: true}
		}
		if err := ch.SetFeed(f.ID, on, schedule, revision); err != nil {
			return err
		}
		ch.tell("connection", code)
		text := fmt.Sprintf("%s switched %s", kind, map[bool]string{true: "on", false: "off"}[on])
		if schedule != f.Schedule {
			text += ", schedule " + or(schedule, "of the connector")
		}
		if err := ch.Note(store.Entry{At: ch.now.UnixMicro(), Who: who, Thing: "connection", ThingID: c.rec().ID, What: "feed", Text: text}); err != nil {
			return err
		}
		if kind == "stock out" && on && !f.On && c.rec().State == store.On {
			return r.queueAllOffers(ch, c)
		}
		return nil
	})
	if err != nil {
		return err
	}
	if err := r.reload(ctx); err != nil {
		return err
	}
	c.wakeOut.now()
	c.wakeIn.now()
	return nil
}

// Pause stops or resumes everything of a connection. What is due waits; nothing is lost.
func (r *Relay) Pause(ctx context.Context, code string, paused bool, revision int64, who string) error {
	c := r.byCode(code)
	if c == nil {
		return store.ErrNotFound
	}
	err := r.commit(ctx, func(ch *change) error {
		rec, err := ch.Connection(code)
		if err != nil {
			return err
		}
		if rec.Revision != revision && revision != 0 {
			return store.ErrConflict
		}
		if rec.State != store.On {
			return &Refused{Text: fmt.Sprintf("%s is not at work: it is %s", rec.Name, rec.State), Conflict: true}
		}
		rec.Paused = paused
		if err := ch.UpdateConnection(rec); err != nil {
			return err
		}
		ch.tell("connection", code)
		text := "Resumed"
		if paused {
			text = "Paused: nothing is read or sent until it is resumed"
		}
		return ch.Note(store.Entry{At: ch.now.UnixMicro(), Who: who, Thing: "connection", ThingID: c.rec().ID, What: "connection", Text: text})
	})
	if err != nil {
		return err
	}
	if err := r.reload(ctx); err != nil {
		return err
	}
	c.wakeOut.now()
	return nil
}
