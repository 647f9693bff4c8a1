package joining

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// Tried is what became of something tried on the bench.
type Tried struct {
	Trial    *connector.Trial    `json:"trial,omitempty" doc:"For a feed that comes in: how the sample was mapped"`
	Exchange *connector.Exchange `json:"exchange,omitempty" doc:"For a feed that goes out: what would be or was sent, and what came back; secrets are blanked"`
	Error    string              `json:"error,omitempty"`
	Sent     bool                `json:"sent"`
}

// Sample is something to try with: for a feed that comes in the newest message as it came, where there is
// one, else nothing; for a feed that goes out a made-up message of ours.
func (r *Joining) Sample(ctx context.Context, code string, kind message.Feed) (string, error) {
	c := r.ByCode(code)
	if c == nil {
		return "", fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
	}
	if connector.ComesIn(kind) {
		raw, _, err := r.Store.NewestRaw(ctx, c.ID, kind)
		if errors.Is(err, store.ErrNotFound) {
			return "", nil
		}
		return string(raw), err
	}
	m := message.Sample(kind, r.Prefix+"-bench", r.Today(), r.Clock())
	if m == nil {
		return "", engine.Refuse("there is no feed %q", kind)
	}
	if list, err := r.Store.ListingsOf(ctx, c.ID); kind == message.StockOut && err == nil && len(list) > 0 {
		m = message.Offer{ListingID: list[0].ID, OutsideID: list[0].OutsideID, SKU: list[0].SKU, Quantity: max(list[0].SeenQty, 0)}
	}
	b, err := json.MarshalIndent(m, "", "  ")
	return string(b), err
}

// Try maps a sample of a feed that comes in, or shows what would be sent of a message of a feed that goes
// out. With send it is sent, which needs a connection in test, and marked as a test.
func (r *Joining) Try(ctx context.Context, code string, kind message.Feed, text string, send bool, who string) (Tried, error) {
	c := r.ByCode(code)
	if c == nil {
		return Tried{}, fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
	}
	line := c.Line()
	if line.Def.Feeds[kind] == nil {
		return Tried{}, engine.Refuse("%s has no feed %q; it has: %s", c.Rec().Name, kind, engine.Join(line.Def.Kinds()))
	}
	if len(text) > 1<<20 {
		return Tried{}, engine.Refuse("a sample is at most 1 MB")
	}
	if connector.ComesIn(kind) {
		t, err := line.Try(kind, []byte(text))
		if err != nil {
			return Tried{Error: err.Error()}, nil
		}
		return Tried{Trial: &t}, nil
	}
	if !json.Valid([]byte(text)) {
		return Tried{}, engine.Refuse("a message of ours is JSON")
	}
	ref := fmt.Sprintf("%s-bench-%s", r.Prefix, engine.RandomText(8))
	msgs := []any{json.RawMessage(text)}
	if !send {
		x, err := line.Prepare(ctx, kind, ref, msgs)
		if err != nil {
			return Tried{Error: err.Error()}, nil
		}
		return Tried{Exchange: &x}, nil
	}
	rec := c.Rec()
	switch {
	case rec.State == store.Left || rec.AccountID == 0:
		return Tried{}, &engine.Refused{Text: rec.Name + " has no access yet", Conflict: true}
	case !rec.Test:
		return Tried{}, &engine.Refused{Text: rec.Name + " is live: what is sent from here would be real. Put it in test first.",
			Conflict: true}
	case line.Def.Test == nil:
		return Tried{}, &engine.Refused{Text: line.Def.Title + " cannot be told that something is a test, so nothing is sent from here",
			Conflict: true}
	}
	x := connector.Exchange{}
	out := Tried{Exchange: &x, Sent: true}
	if _, err := line.Send(connector.Recording(ctx, &x), kind, ref, msgs); err != nil {
		out.Error = err.Error()
		var f *connector.Failure
		out.Sent = !(errors.As(err, &f) && f.Unsent)
	}
	kept, err := json.Marshal(x)
	if err != nil {
		return out, err
	}
	return out, r.Commit(ctx, func(ch *engine.Change) error {
		_, err := ch.AddBench(store.BenchRow{ConnectionID: c.ID, At: ch.Now.UnixMicro(), Who: who, Feed: kind, Message: text,
			Exchange: string(kept), Error: out.Error})
		return err
	})
}

// CheckAddress asks the address service, if one is joined, about an address.
func (r *Joining) CheckAddress(ctx context.Context, a place.Address) (message.AddressCheck, error) {
	for _, c := range r.All() {
		if c.Rec().Side != "address service" || !c.Works() || c.Line().Def.Calls["address"] == nil {
			continue
		}
		out, err := c.Line().Ask(ctx, "address", a)
		if err != nil {
			return message.AddressCheck{}, err
		}
		return *out[0].(*message.AddressCheck), nil
	}
	return message.AddressCheck{}, &engine.Refused{Text: "no address service is joined", Conflict: true}
}
