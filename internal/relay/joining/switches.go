package joining

import (
	"context"
	"fmt"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/store"
)

// SetFeed switches a feed on or off and sets its schedule.
func (r *Joining) SetFeed(ctx context.Context, code string, kind message.Feed, on bool, schedule string, revision int64, who string) error {
	c := r.ByCode(code)
	if c == nil {
		return engine.NoConnection(code)
	}
	f, _ := r.Feed(c, kind)
	if f.ID == 0 {
		return fmt.Errorf("feed %s of %s: %w", kind, code, store.ErrNotFound)
	}
	if _, err := exchange.ParseSchedule(schedule, time.Minute); err != nil {
		return err
	}
	err := r.Commit(ctx, func(ch *engine.Change) error {
		if kind == message.StockOut && on && !f.On && c.Rec().PreviewedAt == 0 {
			return &engine.Refused{Text: "stock out stays off until somebody has seen what it would change; look at the preview first",
				Conflict: true}
		}
		if err := ch.SetFeed(f.ID, on, schedule, revision); err != nil {
			return err
		}
		ch.Tell("connection", code)
		if kind == message.RequestsOut && on {
			ch.Mark(engine.PartnerSet, c.ID)
		}
		text := fmt.Sprintf("%s switched %s", kind, map[bool]string{true: "on", false: "off"}[on])
		if schedule != f.Schedule {
			text += ", schedule " + engine.Or(schedule, "of the connector")
		}
		if err := ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "connection", ThingID: c.Rec().ID, What: "feed",
			Text: text}); err != nil {
			return err
		}
		if kind == message.StockOut && on && !f.On && c.Rec().State == store.On {
			return r.Inventory.QueueAllOffers(ch, c)
		}
		return nil
	})
	if err != nil {
		return err
	}
	if err := r.Reload(ctx); err != nil {
		return err
	}
	c.WakeOut.Now()
	c.WakeIn.Now()
	return r.partnerSet(ctx, c)
}

// Pause stops or resumes everything of a connection. What is due waits; nothing is lost.
func (r *Joining) Pause(ctx context.Context, code string, paused bool, revision int64, who string) error {
	c := r.ByCode(code)
	if c == nil {
		return engine.NoConnection(code)
	}
	err := r.Commit(ctx, func(ch *engine.Change) error {
		rec, err := ch.Connection(code)
		if err != nil {
			return err
		}
		if rec.Revision != revision && revision != 0 {
			return store.ErrConflict
		}
		if rec.State != store.On {
			return &engine.Refused{Text: fmt.Sprintf("%s is not at work: it is %s", rec.Name, rec.State), Conflict: true}
		}
		rec.Paused = paused
		if err := ch.UpdateConnection(rec); err != nil {
			return err
		}
		ch.Tell("connection", code)
		text := "Resumed"
		if paused {
			text = "Paused: nothing is read or sent until it is resumed; what is pushed is kept"
		}
		return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "connection", ThingID: c.Rec().ID, What: "connection",
			Text: text})
	})
	if err != nil {
		return err
	}
	if err := r.Reload(ctx); err != nil {
		return err
	}
	c.WakeOut.Now()
	c.WakeIn.Now()
	return nil
}
