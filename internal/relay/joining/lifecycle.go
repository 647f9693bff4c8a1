package joining

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/store"
)

// Check is one thing that is decided before a connection can be switched on.
type Check struct {
	Key      string `json:"key" enum:"account,identity,location,feeds,import,preview"`
	Text     string `json:"text"`
	Done     bool   `json:"done"`
	Required bool   `json:"required"`
	Hint     string `json:"hint,omitempty" doc:"What to do, or what stands"`
}

// Checklist says what still has to be decided about a connection.
func (r *Joining) Checklist(ctx context.Context, code string) ([]Check, error) {
	c := r.ByCode(code)
	if c == nil {
		return nil, fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
	}
	rec, def := c.Rec(), c.Line().Def
	id, err := r.Identity(ctx, code)
	if err != nil {
		return nil, err
	}
	access := Check{Key: "account", Text: "Access is given and tested", Done: rec.AccountID != 0, Required: true,
		Hint: "Give the credentials and test them."}
	if access.Done {
		access.Hint = "We were let in."
	}
	out := []Check{access}
	who := Check{Key: "identity", Text: "The account is the one that is meant", Done: rec.AccountNo != "", Required: true,
		Hint: "Look at the name and number on the other side, and confirm."}
	if who.Done {
		who.Hint = fmt.Sprintf("%s, number %s", id.Name, id.Number)
	}
	out = append(out, who)
	set := c.Settings()
	if ordersIn, _ := r.Feed(c, message.OrdersIn); def.Side == "channel" || ordersIn.On {
		l := Check{Key: "location", Text: "A location's stock is sold there", Done: len(set.Offer.Sources) > 0, Required: true,
			Hint: "Choose at least one location."}
		if l.Done {
			var names []string
			for _, s := range set.Offer.Sources {
				names = append(names, r.PlaceName(s))
			}
			l.Hint = engine.Join(names)
		}
		out = append(out, l)
	}
	feeds, stockOn := r.checkFeeds(c)
	out = append(out, feeds)
	if engine.Readable(def, message.ListingsIn) || engine.Readable(def, message.OrdersIn) {
		im := Check{Key: "import", Text: "What is there already was brought over",
			Hint: "Optional. Without it, everything comes in with the first readings."}
		if last, err := r.Store.LastImport(ctx, c.ID); err == nil {
			im.Done, im.Hint = last.State == store.Done, "The first import is "+last.State+"."
		} else if !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
		out = append(out, im)
	}
	if def.Feeds[message.StockOut] != nil {
		seen := Check{Key: "preview", Text: "What sending stock would change was seen", Done: rec.PreviewedAt != 0, Required: stockOn,
			Hint: "Until then, stock out stays off."}
		if seen.Done {
			seen.Hint = "It was seen."
		}
		out = append(out, seen)
	}
	return out, nil
}

// checkFeeds looks whether a feed is on that has to be, and tells whether stock is sent.
func (r *Joining) checkFeeds(c *engine.Conn) (feeds Check, stockOn bool) {
	def := c.Line().Def
	var on []message.Feed
	for _, kind := range def.Kinds() {
		if f, _ := r.Feed(c, kind); f.On {
			on = append(on, kind)
			stockOn = stockOn || kind == message.StockOut
		}
	}
	feeds = Check{Key: "feeds", Text: "At least one feed is on", Done: len(on) > 0 || len(def.Kinds()) == 0, Required: true,
		Hint: engine.Or(engine.Join(on), "Switch a feed on.")}
	if len(def.Kinds()) == 0 {
		feeds.Text, feeds.Hint = "Nothing has to be switched on", "It answers what we ask."
	}
	return feeds, stockOn
}

// change changes a connection, if it still has the revision that was seen (0: any).
func (r *Joining) changeConnection(ctx context.Context, code string, revision int64, who, what, text string,
	f func(*engine.Change, *store.Connection) error) error {
	if r.ByCode(code) == nil {
		return fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
	}
	err := r.Commit(ctx, func(ch *engine.Change) error {
		rec, err := ch.Connection(code)
		if err != nil {
			return err
		}
		if revision != 0 && rec.Revision != revision {
			return store.ErrConflict
		}
		if err := f(ch, &rec); err != nil {
			return err
		}
		if err := ch.UpdateConnection(rec); err != nil {
			return err
		}
		ch.Tell("connection", code)
		if text == "" {
			return nil
		}
		return r.NoteConnection(ch, rec.ID, who, what, "%s", text)
	})
	if err != nil {
		return err
	}
	return r.Reload(ctx)
}

// SetSettings replaces the settings of a connection. Where they change what it offers, the new quantities
// follow; while it sends none, what they would change must be seen again before it does.
func (r *Joining) SetSettings(ctx context.Context, code string, s engine.Settings, revision int64, who string) error {
	if err := s.Check(r.Engine); err != nil {
		return err
	}
	b, err := json.Marshal(s)
	if err != nil {
		return err
	}
	c := r.ByCode(code)
	if c == nil {
		return fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
	}
	before := c.Settings()
	changes := Differences(*before, s)
	if len(changes) == 0 {
		return nil
	}
	if f, works := r.Feed(c, message.OrdersIn); f.ID != 0 && works && len(s.Offer.Sources) == 0 {
		return engine.Refuse("offer.sources: orders come in over this connection; they need at least one location whose stock they " +
			"are sold from")
	}
	if err := r.changeConnection(ctx, code, revision, who, "settings", "Settings changed: "+engine.Join(changes),
		func(ch *engine.Change, rec *store.Connection) error {
			rec.Settings = string(b)
			policy, err := json.Marshal(s.Offer)
			if err != nil {
				return err
			}
			if err := ch.KeepPolicy(rec.ID, 0, string(policy), who, ch.Now); err != nil {
				return err
			}
			if f, _ := r.Feed(c, message.StockOut); !f.On && slices.ContainsFunc(changes, func(d string) bool {
				return strings.HasPrefix(d, "offer ")
			}) {
				rec.PreviewedAt = 0
			}
			return r.afterSettings(ch, c, *before, s, who)
		}); err != nil {
		return err
	}
	return r.offerAgain(ctx, c)
}

// afterSettings lets go on what waited for other settings: orders that were short look at the new places, parcels whose
// service was not clear are looked at again.
func (r *Joining) afterSettings(ch *engine.Change, c *engine.Conn, before, now engine.Settings, who string) error {
	if !slices.Equal(before.Offer.Sources, now.Offer.Sources) {
		if _, err := ch.StartJob(engine.JobSources, c.Rec().Code, who, struct{}{}); err != nil {
			return err
		}
	}
	if !maps.Equal(before.Services, now.Services) {
		ch.Mark(engine.ServicesSet, c.ID)
	}
	return nil
}

// offerAgain queues the quantities of a connection that is at work.
func (r *Joining) offerAgain(ctx context.Context, c *engine.Conn) error {
	if f, _ := r.Feed(c, message.StockOut); !f.On || c.Rec().State != store.On {
		return nil
	}
	return r.Commit(ctx, func(ch *engine.Change) error { return r.Inventory.QueueAllOffers(ch, c) })
}

// Differences names the settings that differ.
func Differences(a, b engine.Settings) []string {
	var x, y map[string]json.RawMessage
	for _, p := range []struct {
		s  engine.Settings
		to *map[string]json.RawMessage
	}{{a, &x}, {b, &y}} {
		raw, err := json.Marshal(p.s)
		if err != nil || json.Unmarshal(raw, p.to) != nil {
			return []string{"all"}
		}
	}
	var out []string
	for k, v := range y {
		if string(x[k]) != string(v) {
			out = append(out, fmt.Sprintf("%s %s", k, v))
		}
	}
	for k := range x {
		if _, ok := y[k]; !ok {
			out = append(out, k+" removed")
		}
	}
	slices.Sort(out)
	return out
}

// SetOverrides replaces what a connection changes of its connector's definition.
func (r *Joining) SetOverrides(ctx context.Context, code, text string, revision int64, who string) error {
	c := r.ByCode(code)
	if c == nil {
		return fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
	}
	def := r.Connector(c.Rec().Connector)
	own, err := def.With(text)
	if err != nil {
		return engine.Refuse("%v", err)
	}
	if !slices.Equal(own.Kinds(), def.Kinds()) {
		return engine.Refuse("feeds: a connection changes the feeds of its connector; it does not add or remove any")
	}
	return r.changeConnection(ctx, code, revision, who, "overrides", "Overrides of the connector changed",
		func(_ *engine.Change, rec *store.Connection) error {
			rec.Overrides = text
			return nil
		})
}

// SwitchOn puts a connection to work whose set-up is complete.
func (r *Joining) SwitchOn(ctx context.Context, code, who string) error {
	c, _, _, err := r.joining(code)
	if err != nil {
		return err
	}
	list, err := r.Checklist(ctx, code)
	if err != nil {
		return err
	}
	for _, k := range list {
		if k.Required && !k.Done {
			return &engine.Refused{Text: fmt.Sprintf("not ready yet: %s. %s", strings.ToLower(k.Text[:1])+k.Text[1:], k.Hint),
				Conflict: true}
		}
	}
	if last, err := r.Store.LastImport(ctx, c.ID); err == nil && (last.State == store.Looking || last.State == store.Working) {
		return &engine.Refused{Text: "the first import is still under way", Conflict: true}
	}
	if err := r.changeConnection(ctx, code, 0, who, "on", "Switched on", func(ch *engine.Change, rec *store.Connection) error {
		if rec.BeganAt == 0 || rec.State == store.Joining {
			if n, err := ch.CountOrdersOf(rec.ID); err != nil {
				return err
			} else if n == 0 {
				rec.BeganAt = ch.Now.UnixMicro()
			}
		}
		rec.State = store.On
		if engine.SellsLabels(c) {
			_, err := ch.StartJob(engine.JobServices, rec.Code, who, struct{}{})
			return err
		}
		return nil
	}); err != nil {
		return err
	}
	if err := r.offerAgain(ctx, c); err != nil {
		return err
	}
	c.WakeIn.Now()
	c.WakeOut.Now()
	return nil
}

// DropJoin gives a set-up up. Nothing of it stays; one that continues a connection that was left, leaves
// that as it was.
func (r *Joining) DropJoin(ctx context.Context, code, who string) error {
	c, rec, _, err := r.joining(code)
	if err != nil {
		return err
	}
	counts, err := r.Store.CountsOf(ctx, c.ID)
	if err != nil {
		return err
	}
	if counts.Orders > 0 {
		return r.Leave(ctx, code, who)
	}
	err = r.Commit(ctx, func(ch *engine.Change) error {
		now, err := ch.Connection(code)
		if err != nil {
			return err
		}
		account := now.AccountID
		if err := ch.DropConnection(now.ID); err != nil {
			return err
		}
		ch.Tell("connection", code)
		if err := r.NoteConnection(ch, rec.ID, who, "given up", "Set-up of %s given up", rec.Name); err != nil {
			return err
		}
		_, err = ch.DropAccount(account)
		return err
	})
	if err != nil {
		return err
	}
	return r.Reload(ctx)
}

// Leaving says what leaving a connection takes away and what stays.
type Leaving struct {
	Counts  store.ConnectionCounts `json:"counts"`
	Removed []string               `json:"removed"`
	Stays   []string               `json:"stays"`
}

// WouldLeave says what leaving a connection would do.
func (r *Joining) WouldLeave(ctx context.Context, code string) (Leaving, error) {
	c := r.ByCode(code)
	if c == nil {
		return Leaving{}, fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
	}
	n, err := r.Store.CountsOf(ctx, c.ID)
	if err != nil {
		return Leaving{}, err
	}
	name := c.Rec().Name
	out := Leaving{Counts: n}
	if n.Shared == 0 {
		out.Removed = append(out.Removed, "the credentials of the account at "+c.Line().Def.Title)
	} else {
		out.Stays = append(out.Stays, "the account, which "+engine.Counted(n.Shared, "other connection uses", "other connections use"))
	}
	out.Removed = append(out.Removed, fmt.Sprintf("%s to be sent to %s",
		engine.Counted(n.Waiting, "message that waits", "messages that wait"), name),
		"all readings and schedules; nothing is read or sent any more")
	out.Stays = append(out.Stays, fmt.Sprintf("%s; %d still on their way can be finished here, but %s will not be told",
		engine.Counted(n.Orders, "order with its history", "orders with their history"), n.Open, name),
		fmt.Sprintf("%s, and %s", engine.Counted(n.Listings, "listing with its match", "listings with their matches"),
			engine.Counted(n.Messages, "message as it came", "messages as they came")),
		"the settings and the code: joining the same account again goes on where this ended, without one order twice")
	return out, nil
}

// Leave disconnects a connection. Its orders and history stay.
func (r *Joining) Leave(ctx context.Context, code, who string) error {
	c := r.ByCode(code)
	if c == nil {
		return fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
	}
	if c.Rec().State == store.Left {
		return &engine.Refused{Text: c.Rec().Name + " was left already", Conflict: true}
	}
	return r.changeConnection(ctx, code, 0, who, "left", "Disconnected; orders and history stay",
		func(ch *engine.Change, rec *store.Connection) error {
			account := rec.AccountID
			rec.State, rec.AccountID, rec.PreviewedAt, rec.Paused = store.Left, 0, 0, false
			if err := ch.RestFeeds(rec.ID); err != nil {
				return err
			}
			if _, err := ch.CancelOutbox(rec.ID, "the connection was left"); err != nil {
				return err
			}
			if err := ch.CloseConnectionException(rec.ID, engine.CredentialsRefused, ch.Now); err != nil {
				return err
			}
			// The account goes with its last connection; this one is written right after.
			if err := ch.UpdateConnection(*rec); err != nil {
				return err
			}
			rec.Revision++
			_, err := ch.DropAccount(account)
			return err
		})
}

// SetTest puts a connection in test or takes it live. In test, what is sent is marked as a test, orders
// hold no stock and are not sent. Test records are cleared before it goes live.
func (r *Joining) SetTest(ctx context.Context, code string, test bool, revision int64, who string) error {
	c := r.ByCode(code)
	if c == nil {
		return fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
	}
	if c.Rec().Test == test {
		return nil
	}
	if test {
		open, err := r.Store.CountsOf(ctx, c.ID)
		if err != nil {
			return err
		}
		if open.Open > 0 {
			return &engine.Refused{Text: fmt.Sprintf("%s on the way; finish them before %s goes into test",
				engine.Counted(open.Open, "real order is still", "real orders are still"), c.Rec().Name), Conflict: true}
		}
	}
	text := map[bool]string{true: "Put in test: what is sent is marked, no stock moves", false: "Taken live"}[test]
	if err := r.changeConnection(ctx, code, revision, who, "test", text, func(ch *engine.Change, rec *store.Connection) error {
		rec.Test = test
		ch.Mark(engine.PartnerSet, rec.ID)
		if test {
			return nil
		}
		n, err := ch.CountTests(rec.ID)
		if err != nil {
			return err
		}
		if n > 0 {
			return &engine.Refused{Text: fmt.Sprintf("%s here; clear them before %s goes live",
				engine.Counted(n, "test order is still", "test orders are still"), rec.Name), Conflict: true}
		}
		return ch.ForgetCleared(rec.ID)
	}); err != nil {
		return err
	}
	if err := r.partnerSet(ctx, c); err != nil {
		return err
	}
	return r.offerAgain(ctx, c)
}

// partnerSet lets a partner be asked for what it was not asked for, once memory knows how it is set. The change that set it marks it,
// too, for a process that ends in between.
func (r *Joining) partnerSet(ctx context.Context, c *engine.Conn) error {
	if !engine.TakesRequests(c) {
		return nil
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		ch.Mark(engine.PartnerSet, c.ID)
		return nil
	})
}

// ClearTests removes the test orders of a connection and what was tried on its bench, and returns how
// many orders there were.
func (r *Joining) ClearTests(ctx context.Context, code, who string) (int64, error) {
	c := r.ByCode(code)
	if c == nil {
		return 0, fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
	}
	var n int64
	err := r.Commit(ctx, func(ch *engine.Change) (err error) {
		if n, err = ch.ClearTests(c.ID); err != nil {
			return err
		}
		ch.Tell("connection", code)
		ch.Tell("order", "")
		return r.NoteConnection(ch, c.ID, who, "test", "%d test orders cleared", n)
	})
	if err != nil {
		return n, err
	}
	return n, r.Reload(ctx)
}

// PreviewRow is a listing with what the channel shows now and what it would show.
type PreviewRow struct {
	SKU     string `json:"sku"`
	Title   string `json:"title"`
	Shows   int64  `json:"shows" doc:"What the channel shows now"`
	Would   int64  `json:"would" doc:"What it would show"`
	Matched bool   `json:"matched" doc:"Without an item of ours, nothing is sent for it"`
}

// soldOut tells whether what can be bought now would be sold out.
func (r PreviewRow) soldOut() bool { return r.Matched && r.Would == 0 && r.Shows > 0 }

// Preview is what switching stock out on would change.
type Preview struct {
	Rows     []PreviewRow `json:"rows" doc:"Those that would be sold out first, then those that change most"`
	Listings int64        `json:"listings"`
	Changed  int64        `json:"changed"`
	ToZero   int64        `json:"to_zero" doc:"Listings that show something now and would show nothing"`
	Unknown  int64        `json:"unknown" doc:"Listings without an item; they are left alone"`
	Digest   string       `json:"digest" doc:"Stands for the listings, the way they are offered, and which would be sold out; accepting the preview names it"`
	SeenAt   time.Time    `json:"seen_at,omitzero" doc:"When somebody accepted a preview"`
}

// StockPreview works out what switching stock out on would change at a channel.
func (r *Joining) StockPreview(ctx context.Context, code string) (Preview, error) {
	c := r.ByCode(code)
	if c == nil {
		return Preview{}, fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
	}
	listings, err := r.Store.ListingsOf(ctx, c.ID)
	if err != nil {
		return Preview{}, err
	}
	ids := map[int64]bool{}
	for _, l := range listings {
		ids[l.ItemID] = true
	}
	levels, err := r.Inventory.Levels(ctx, engine.Keys(ids))
	if err != nil {
		return Preview{}, err
	}
	w := r.Inventory.ItemKinds.Load()
	out := Preview{Rows: []PreviewRow{}, Listings: int64(len(listings)), SeenAt: store.Time(c.Rec().PreviewedAt)}
	offer := c.Settings().Offer
	// Sales move the numbers while a person reads them, so the digest does not stand for each number.
	sum := sha256.New()
	fmt.Fprintf(sum, "%+v\n", offer)
	for _, l := range listings {
		row := PreviewRow{SKU: l.SKU, Title: l.Title, Shows: l.SeenQty, Would: l.SeenQty, Matched: l.ItemID != 0}
		if row.Matched {
			row.Would = inventory.Shows(c, w, &l, func(k stock.Key) stock.Level { return levels[k] }, nil)
			fmt.Fprintf(sum, "%q %d %t %s\n", l.OutsideID, l.ItemID, row.soldOut(), l.Policy)
			if row.Would != row.Shows {
				out.Changed++
			}
			if row.soldOut() {
				out.ToZero++
			}
		} else {
			out.Unknown++
		}
		out.Rows = append(out.Rows, row)
	}
	slices.SortStableFunc(out.Rows, func(a, b PreviewRow) int {
		if a.soldOut() != b.soldOut() {
			return map[bool]int{true: -1, false: 1}[a.soldOut()]
		}
		return int(abs(b.Would-b.Shows) - abs(a.Would-a.Shows))
	})
	out.Digest = hex.EncodeToString(sum.Sum(nil)[:8])
	return out, nil
}

func abs(n int64) int64 { return max(n, -n) }

// AcceptPreview notes that a person has seen what switching stock out on would change. A preview is
// refused when since then other listings would be sold out, or listings or the way of offering changed.
func (r *Joining) AcceptPreview(ctx context.Context, code, digest, who string) error {
	now, err := r.StockPreview(ctx, code)
	if err != nil {
		return err
	}
	if now.Listings == 0 {
		return &engine.Refused{Text: "no listing is known yet, so there is nothing to see; bring the listings over first", Conflict: true}
	}
	if digest != now.Digest {
		return &engine.Refused{Text: "what would be sold out, or what is offered, has changed since; look at the preview again",
			Conflict: true}
	}
	return r.changeConnection(ctx, code, 0, who, "preview",
		fmt.Sprintf("Saw what sending stock changes: %d of %d listings", now.Changed, now.Listings),
		func(ch *engine.Change, rec *store.Connection) error {
			rec.PreviewedAt = ch.Now.UnixMicro()
			return nil
		})
}
