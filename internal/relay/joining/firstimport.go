package joining

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/store"
)

// ImportChoices say what a first import brings over.
type ImportChoices struct {
	Customers bool      `json:"customers"`
	Items     bool      `json:"items" doc:"Create items for listings that match none of ours"`
	Stock     bool      `json:"stock" doc:"Take what the channel shows, and what its open orders hold, as opening stock, where we have none"`
	Orders    bool      `json:"orders" doc:"Bring open orders over"`
	History   bool      `json:"history" doc:"Take orders that are finished there as done, too; otherwise they are skipped"`
	From      time.Time `json:"from,omitzero" doc:"Orders from this time on; without it as far back as the settings say"`
}

// Import is a first import and how it stands.
type Import struct {
	State   string               `json:"state" enum:"none,looking,looked,working,done,failed"`
	Choices ImportChoices        `json:"choices"`
	Counts  []store.ImportCount  `json:"counts"`
	Records []store.ImportRecord `json:"-"`
	Error   string               `json:"error,omitempty"`
	BeganAt time.Time            `json:"began_at,omitzero"`
	EndedAt time.Time            `json:"ended_at,omitzero"`
}

// importKinds are the feeds that a first import reads, in order.
var importKinds = []message.Feed{message.ListingsIn, message.CustomersIn, message.OrdersIn}

// LookAtImport begins to look at what a system has.
func (r *Joining) LookAtImport(ctx context.Context, code string, choose ImportChoices, who string) error {
	c := r.ByCode(code)
	if c == nil {
		return fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
	}
	rec := c.Rec()
	if rec.AccountNo == "" || rec.State == store.Left {
		return &engine.Refused{Text: "confirm first which account on the other side it is", Conflict: true}
	}
	if choose.Stock && len(c.Settings().Offer.Sources) == 0 {
		return &engine.Refused{Text: "opening stock needs a location; choose one in the settings first", Conflict: true}
	}
	if last, err := r.Store.LastImport(ctx, c.ID); err == nil && (last.State == store.Looking || last.State == store.Working) {
		return &engine.Refused{Text: "a first import is under way already", Conflict: true}
	} else if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if choose.From.IsZero() {
		choose.From = c.Settings().LookBack(r.Clock())
	}
	text, err := json.Marshal(choose)
	if err != nil {
		return err
	}
	var im store.FirstImport
	err = r.Commit(ctx, func(ch *engine.Change) (err error) {
		im = store.FirstImport{ConnectionID: c.ID, State: store.Looking, Choices: string(text), BeganAt: ch.Now.UnixMicro(), Who: who}
		im.ID, err = ch.AddImport(im)
		ch.Tell("import", code)
		return err
	})
	if err != nil {
		return err
	}
	r.importing(c, im)
	return nil
}

// GoOnWithImport brings over what a first import has found.
func (r *Joining) GoOnWithImport(ctx context.Context, code, who string) error {
	c := r.ByCode(code)
	if c == nil {
		return fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
	}
	im, err := r.Store.LastImport(ctx, c.ID)
	if err != nil {
		return err
	}
	if im.State != store.Looked && im.State != store.Failed {
		return &engine.Refused{Text: fmt.Sprintf("the first import is %s; it can be said go to after it has looked", im.State),
			Conflict: true}
	}
	if err := r.Commit(ctx, func(ch *engine.Change) error {
		ch.Tell("import", code)
		if err := ch.SetImport(im.ID, store.Working, "", time.Time{}); err != nil {
			return err
		}
		return r.NoteConnection(ch, c.ID, who, "import", "First import begun")
	}); err != nil {
		return err
	}
	im.State = store.Working
	r.importing(c, im)
	return nil
}

// ResumeImports goes on with the imports that an earlier process left.
func (r *Joining) ResumeImports() {
	open, err := r.Store.OpenImports(r.Ctx)
	if err != nil {
		r.Log.Error("open imports could not be read", "error", err)
		return
	}
	for _, im := range open {
		if c := r.ByID(im.ConnectionID); c != nil {
			r.importing(c, im)
		}
	}
}

// importing carries an import on in the background.
func (r *Joining) importing(c *engine.Conn, im store.FirstImport) {
	r.Go(func() {
		step, next := r.look, store.Looked
		if im.State == store.Working {
			step, next = r.bring, store.Done
		}
		err := step(c, im)
		if r.Ctx.Err() != nil {
			return // goes on at the next start
		}
		state, text, ended := next, "", r.Clock()
		if err != nil {
			state, text = store.Failed, err.Error()
		}
		if err := r.Commit(r.Ctx, func(ch *engine.Change) error {
			ch.Tell("import", c.Rec().Code)
			ch.Tell("connection", c.Rec().Code)
			if err := ch.SetImport(im.ID, state, text, ended); err != nil {
				return err
			}
			if state == store.Looked {
				return nil
			}
			return r.NoteConnection(ch, c.ID, im.Who, "import", "First import %s", engine.Or(text, "done"))
		}); err != nil {
			r.Log.Error("an import could not be settled", "connection", c.Rec().Code, "error", err)
		}
	})
}

// look fetches what is there and decides what would become of each record.
func (r *Joining) look(c *engine.Conn, im store.FirstImport) error {
	var choose ImportChoices
	if err := json.Unmarshal([]byte(im.Choices), &choose); err != nil {
		return err
	}
	def := c.Line().Def
	for _, kind := range importKinds {
		if !engine.Readable(def, kind) || kind == message.OrdersIn && !choose.Orders && !choose.History || kind == message.CustomersIn &&
			!choose.Customers {
			continue
		}
		var since time.Time
		if kind == message.OrdersIn {
			since = choose.From
		}
		seen := map[string]string{} // SKU to listing, to find double ones
		if _, err := c.Line().Read(r.Ctx, kind, connector.Reading{Since: since, Keep: func(records []connector.Record) error {
			return r.lookAt(c, im, choose, kind, records, seen)
		}}); err != nil {
			return fmt.Errorf("%s: %w", kind, err)
		}
	}
	return nil
}

func (r *Joining) lookAt(c *engine.Conn, im store.FirstImport, choose ImportChoices, kind message.Feed, records []connector.Record,
	seen map[string]string) error {
	return r.Commit(r.Ctx, func(ch *engine.Change) error {
		b := r.Exchange.NewBatch(c, ch)
		list := make([]store.ImportRecord, 0, len(records))
		for _, rec := range records {
			out := store.ImportRecord{ImportID: im.ID, Kind: kind, OutsideID: rec.ID, Version: rec.Version, Raw: rec.Raw, Title: rec.ID}
			u := engine.MapResult{Err: rec.Err}
			if rec.Err == nil {
				u = exchange.MapSafely(c, func() (any, error) { return c.Line().MapBody(kind, "poll", rec.Body) })
			}
			var err error
			switch x := u.Msg.(type) {
			case *message.Listing:
				err = r.lookAtListing(b, &out, x, choose, seen)
			case *message.Order:
				err = r.lookAtOrder(b, &out, x, choose)
			case *message.Customer:
				out.Title, out.Verdict = x.Name, "take in"
			}
			if err != nil {
				return err
			}
			if u.Err != nil {
				out.Verdict, out.Reason = "skip", "cannot be taken in: "+u.Err.Error()
			}
			if out.OutsideID == "" {
				out.OutsideID = fmt.Sprintf("without number %d", len(list)+1)
			}
			list = append(list, out)
		}
		ch.Tell("import", c.Rec().Code)
		return ch.PutImportRecords(list)
	})
}

func (r *Joining) lookAtListing(b *exchange.Batch, out *store.ImportRecord, m *message.Listing, choose ImportChoices,
	seen map[string]string) error {
	out.Title = engine.Or(m.Title, m.SKU)
	probe := store.Listing{ConnectionID: b.C.ID, OutsideID: out.OutsideID, SKU: m.SKU, GTIN: m.GTIN, Title: out.Title, Price: m.Price,
		Currency: m.Currency}
	if err := r.Listing.MatchListing(b.Ch, b.C, &probe); err != nil {
		return err
	}
	id, by := probe.ItemID, probe.MatchedBy
	if first := seen[m.SKU]; m.SKU != "" && first != "" && first != out.OutsideID {
		out.Verdict, out.Reason = "conflict",
			fmt.Sprintf("%s is the SKU of listing %s, too; it waits until a person says which item it is", m.SKU, first)
		return nil
	}
	seen[m.SKU] = out.OutsideID
	switch {
	case id != 0:
		out.Verdict, out.Reason = "match", by
		if !choose.Stock {
			return nil
		}
		at := b.C.Settings().Offer.Sources[0]
		book, err := r.Inventory.Book(b.Ch, []int64{id})
		if err != nil {
			return err
		}
		if have := book.Level(stock.Key{Item: id, Location: at}).OnHand; have != 0 && have != m.Quantity {
			out.Verdict, out.Reason = "conflict",
				fmt.Sprintf("we have stock of it, and a different number than the channel shows; ours stays (%s)", by)
		}
	case choose.Items && m.SKU != "" && probe.Doubt == "":
		like, err := r.Listing.Likely(&probe)
		if err != nil {
			return err
		}
		if out.Verdict = "create"; like != "" {
			out.Verdict, out.Reason = "conflict", like
		}
	case choose.Items && m.SKU != "":
		out.Verdict, out.Reason = "conflict", probe.Doubt
	case choose.Items:
		out.Verdict, out.Reason = "skip", "it has no SKU to make an item of"
	default:
		out.Verdict, out.Reason = "skip", engine.Or(probe.Doubt, "no item of ours matches, and none is to be created")
	}
	return nil
}

func (r *Joining) lookAtOrder(b *exchange.Batch, out *store.ImportRecord, m *message.Order, choose ImportChoices) error {
	out.Title = m.Number
	known, err := b.Ch.OrdersByOutside(b.C.ID, []string{out.OutsideID})
	if err != nil {
		return err
	}
	switch {
	case known[out.OutsideID] != nil:
		out.Verdict, out.Reason = "skip", "it is here already"
	case m.PlacedAt.Before(choose.From):
		out.Verdict, out.Reason = "skip", "placed before the day that was chosen"
	case m.Status == message.Shipped && !choose.History:
		out.Verdict, out.Reason = "skip", "finished there already"
	case m.Status == message.Cancelled && !choose.History:
		out.Verdict, out.Reason = "skip", "cancelled there"
	case m.Status != message.Shipped && m.Status != message.Cancelled && !choose.Orders:
		out.Verdict, out.Reason = "skip", "open orders were not chosen"
	default:
		out.Verdict = "take in"
	}
	return nil
}

// portion is how many records are brought over in one transaction.
const portion = 100

// bring brings over what was found, in portions.
func (r *Joining) bring(c *engine.Conn, im store.FirstImport) error {
	var choose ImportChoices
	if err := json.Unmarshal([]byte(im.Choices), &choose); err != nil {
		return err
	}
	var held heldUnits
	if choose.Stock && choose.Orders {
		var err error
		if held, err = r.heldByOrders(c, im); err != nil {
			return err
		}
	}
	for r.Ctx.Err() == nil {
		list, err := r.Store.OpenImportRecords(r.Ctx, im.ID, portion)
		if err != nil {
			return err
		}
		if len(list) == 0 {
			return nil
		}
		if err := r.Commit(r.Ctx, func(ch *engine.Change) error {
			b := r.Exchange.NewBatch(c, ch)
			for _, rec := range list {
				if err := ch.Try(func() error { return r.bringOne(b, &rec, im, choose, held) }); store.Unavailable(err) {
					return err
				} else if err != nil { // the others go on
					r.Log.Error("a record could not be brought over", "connection", c.Rec().Code, "kind", rec.Kind, "record",
						rec.OutsideID, "error", err)
					rec.Verdict, rec.Reason = "skipped", "could not be brought over: "+engine.Clip(err.Error(), 300)
				}
				if err := ch.SettleImportRecord(rec); err != nil {
					return err
				}
			}
			ch.Tell("import", c.Rec().Code)
			return nil
		}); err != nil {
			return err
		}
		c.WakeIn.Now()
	}
	return nil
}

// bringOne brings one record over and notes in it what became of it.
func (r *Joining) bringOne(b *exchange.Batch, rec *store.ImportRecord, im store.FirstImport, choose ImportChoices,
	held heldUnits) error {
	if rec.Verdict == "skip" && rec.Kind != message.ListingsIn {
		rec.Verdict = "skipped"
		return nil
	}
	if rec.Kind == message.OrdersIn {
		// The order goes the way of all orders, and is decided on right after.
		n, err := b.Ch.Receive(b.C.ID, rec.Kind, "import", 0,
			[]store.Received{{OutsideID: rec.OutsideID, Version: rec.Version, Raw: rec.Raw}}, b.Ch.Now)
		if err != nil {
			return err
		}
		rec.Verdict = "taken in"
		if n == 0 {
			rec.Verdict, rec.Reason = "skipped", "this version is known"
		}
		return nil
	}
	msg, err := b.C.Line().Map(rec.Kind, "poll", rec.Raw)
	if err != nil {
		rec.Verdict, rec.Reason = "skipped", "cannot be taken in: "+err.Error()
		return nil
	}
	switch x := msg.(type) {
	case *message.Customer:
		isNew, err := r.Orders.PutCustomer(b, rec.OutsideID, x)
		rec.Verdict = map[bool]string{true: "created", false: "matched"}[isNew]
		return err
	case *message.Listing:
		return r.bringListing(b, rec, x, im, choose, held)
	}
	return fmt.Errorf("nothing is known to do with it")
}

func (r *Joining) bringListing(b *exchange.Batch, rec *store.ImportRecord, m *message.Listing, im store.FirstImport,
	choose ImportChoices, held heldUnits) error {
	l := store.Listing{OutsideID: rec.OutsideID, ConnectionID: b.C.ID, SKU: m.SKU, GTIN: m.GTIN, Title: m.Title, Price: m.Price,
		Currency: m.Currency}
	if old, err := b.Ch.ListingOf(b.C.ID, rec.OutsideID); err == nil {
		l.ItemID, l.MatchedBy = old.ItemID, old.MatchedBy
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if l.ItemID == 0 {
		if err := r.Listing.MatchListing(b.Ch, b.C, &l); err != nil {
			return err
		}
	}
	verdict := "matched"
	if l.ItemID == 0 && l.Doubt == "" && choose.Items && m.SKU != "" {
		var err error
		if l.Doubt, err = r.Listing.Likely(&l); err != nil {
			return err
		}
	}
	if l.ItemID == 0 && l.Doubt == "" && choose.Items && m.SKU != "" {
		it := catalog.Item{SKU: m.SKU, Name: engine.Or(m.Title, m.SKU), Price: m.Price, Currency: m.Currency}
		it.Complete(r.Currency())
		if err := it.Check(); err == nil {
			var err error
			if it.GTIN, err = r.Listing.FreeGTIN(b.Ch, m.GTIN); err != nil {
				return err
			}
			if l.ItemID, err = r.Listing.AddItem(b.Ch, it, im.Who, fmt.Sprintf("%s added from %s", it.Name, b.C.Rec().Name)); err != nil {
				return err
			}
			verdict, l.MatchedBy = "created", catalog.ByCreated
		} else {
			rec.Reason = err.Error()
		}
	}
	if _, err := r.Listing.PutListing(b.Ch, b.C, &l, m); err != nil {
		return err
	}
	if l.ItemID == 0 {
		rec.Verdict = "skipped"
		rec.Reason = engine.Or(rec.Reason, engine.Or(l.Doubt, "no item of ours matches"))
		return nil
	}
	if rec.Verdict != "conflict" {
		rec.Reason = ""
	}
	rec.Verdict = verdict
	if !choose.Stock || b.C.Rec().Test {
		return nil
	}
	return r.openingStock(b, l.ItemID, max(m.Quantity, 0), held.of(rec.OutsideID, m.SKU), im)
}

// heldUnits are units that the open orders of an import hold, by what the channel calls them: what it shows is what is left.
type heldUnits struct{ byListing, bySKU map[string]int64 }

// of are those of a listing; lines that do not say which listing was bought count by their SKU.
func (h heldUnits) of(listing, sku string) int64 { return h.byListing[listing] + h.bySKU[sku] }

// heldByOrders adds up what the orders hold that will be taken in as open.
func (r *Joining) heldByOrders(c *engine.Conn, im store.FirstImport) (heldUnits, error) {
	held := heldUnits{map[string]int64{}, map[string]int64{}}
	for after := ""; ; {
		list, err := r.Store.OrdersToTakeIn(r.Ctx, im.ID, after, portion)
		if err != nil || len(list) == 0 {
			return held, err
		}
		after = list[len(list)-1].OutsideID
		for _, rec := range list {
			msg, err := c.Line().Map(rec.Kind, "poll", rec.Raw)
			m, ok := msg.(*message.Order)
			if err != nil || !ok || m.Status == message.Shipped || m.Status == message.Cancelled || m.FulfilledBy != "" {
				continue // it is said where it is brought over, or holds nothing of ours
			}
			for _, l := range m.Lines {
				if l.Listing != "" {
					held.byListing[l.Listing] += l.Quantity
				} else {
					held.bySKU[l.SKU] += l.Quantity
				}
			}
		}
	}
}

// openingStock takes the quantity that a channel shows as what lies there, where nothing is known of an item, with what its open
// orders hold: that lies there, too.
func (r *Joining) openingStock(b *exchange.Batch, item, shown, held int64, im store.FirstImport) error {
	k := stock.Key{Item: item, Location: b.C.Settings().Offer.Sources[0]}
	book, err := r.Inventory.Book(b.Ch, []int64{item})
	if err != nil {
		return err
	}
	w, err := r.Inventory.ItemKindsNow(b.Ch)
	if err != nil {
		return err
	}
	if g := w.Goods(item); g.NoStock || len(g.Parts) > 0 {
		return nil
	}
	if known, err := b.Ch.HasMovements(item, k.Location); err != nil || known || shown+held <= 0 {
		return err
	}
	reason := "opening stock as " + b.C.Rec().Name + " shows it"
	if held > 0 {
		reason += fmt.Sprintf(", and %d that its open orders hold", held)
	}
	book.Post(stock.Movement{Key: k, At: b.Ch.Now, Kind: stock.Count, OnHand: shown + held, Reason: reason, Who: im.Who,
		DocKind: "import", DocID: im.ID})
	return r.Inventory.Post(b.Ch, book)
}

// FirstImport says how the first import of a connection stands.
func (r *Joining) FirstImport(ctx context.Context, code string) (Import, error) {
	c := r.ByCode(code)
	if c == nil {
		return Import{}, fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
	}
	out := Import{State: "none", Counts: []store.ImportCount{}}
	im, err := r.Store.LastImport(ctx, c.ID)
	if errors.Is(err, store.ErrNotFound) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	out.State, out.Error, out.BeganAt, out.EndedAt = im.State, im.Error, store.Time(im.BeganAt), store.Time(im.EndedAt)
	if err := json.Unmarshal([]byte(im.Choices), &out.Choices); err != nil {
		return out, err
	}
	if out.Counts, err = r.Store.ImportCounts(ctx, im.ID); err != nil {
		return out, err
	}
	out.Records, err = r.Store.ImportRecords(ctx, im.ID, 200)
	return out, err
}
