package inventory

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// Quantity is some units of an item.
type Quantity struct {
	SKU      string `json:"sku"`
	Quantity int64  `json:"quantity" minimum:"1" maximum:"1000000"`
}

// NewPurchase is an order at a supplier.
type NewPurchase struct {
	Number   string     `json:"number,omitempty" maxLength:"40"  doc:"Empty takes the next of our series"`
	Supplier string     `json:"supplier" maxLength:"200"`
	Location string     `json:"location" doc:"Code of where it is to be delivered"`
	Expected string     `json:"expected,omitempty" doc:"Day, YYYY-MM-DD"`
	Note     string     `json:"note,omitempty" maxLength:"500"`
	Lines    []Quantity `json:"lines"`
}

// Stocked finds items by SKU, or by GTIN, and refuses those that hold no stock.
func (r *Inventory) Stocked(ch *engine.Change, codes []string) (map[string]store.Item, error) {
	skus, err := ch.ItemsBySKU(codes)
	if err != nil {
		return nil, err
	}
	ids := make([]int64, 0, len(skus))
	for _, c := range codes {
		if skus[c] == 0 {
			id, err := ch.ItemByGTIN(c)
			if errors.Is(err, store.ErrNotFound) {
				return nil, &engine.Refused{Text: fmt.Sprintf("%q is no SKU and no GTIN of ours", c), Conflict: true}
			}
			if err != nil {
				return nil, err
			}
			skus[c] = id
		}
		ids = append(ids, skus[c])
	}
	out := make(map[string]store.Item, len(codes))
	for len(ids) > 0 {
		n := min(len(ids), 512)
		items, err := ch.Items(ids[:n])
		if err != nil {
			return nil, err
		}
		for _, c := range codes {
			if it, ok := items[skus[c]]; ok {
				out[c] = it
			}
		}
		ids = ids[n:]
	}
	for _, it := range out {
		if !catalog.Kind(it.Kind).HoldsStock() {
			return nil, &engine.Refused{Text: fmt.Sprintf("%s is %s and holds no stock of its own", it.SKU, it.Kind), Conflict: true}
		}
	}
	return out, nil
}

// Ours refuses a location whose stock another system keeps.
func (r *Inventory) Ours(code string) (store.Location, error) {
	l, err := r.Location(code)
	if err != nil {
		return l, err
	}
	if l.ArchivedAt != 0 {
		return l, &engine.Refused{Text: l.Name + " is used no more", Conflict: true}
	}
	if k := r.ByID(l.Keeper); k != nil {
		return l, &engine.Refused{Text: fmt.Sprintf("%s keeps the count of %s; change it there", k.Rec().Name, l.Name), Conflict: true}
	}
	return l, nil
}

func quantities(list []Quantity) ([]string, error) {
	if len(list) == 0 {
		return nil, engine.Refuse("lines: none")
	}
	codes := make([]string, len(list))
	for i, q := range list {
		if q.Quantity < 1 || q.Quantity > 1_000_000 {
			return nil, engine.Refuse("line %d: quantity %d; 1 to a million are expected", i+1, q.Quantity)
		}
		codes[i] = strings.TrimSpace(q.SKU)
	}
	return codes, nil
}

// AddPurchase orders goods at a supplier; they are on order until they come.
func (r *Inventory) AddPurchase(ctx context.Context, n NewPurchase, who string) (number string, err error) {
	err = r.Commit(ctx, func(ch *engine.Change) (err error) {
		number, err = r.PutPurchase(ch, n, who)
		return err
	})
	return number, err
}

func (r *Inventory) PutPurchase(ch *engine.Change, n NewPurchase, who string) (string, error) {
	at, err := r.Ours(n.Location)
	if err != nil {
		return "", err
	}
	if n.Supplier = strings.TrimSpace(n.Supplier); n.Supplier == "" {
		return "", engine.Refuse("supplier: missing")
	}
	if n.Expected != "" {
		if _, err := time.Parse(time.DateOnly, n.Expected); err != nil {
			return "", engine.Refuse("expected: %q is no day such as 2026-01-31", n.Expected)
		}
	}
	codes, err := quantities(n.Lines)
	if err != nil {
		return "", err
	}
	p := store.Purchase{Number: strings.TrimSpace(n.Number), Supplier: n.Supplier, LocationID: at.ID, State: "open", Expected: n.Expected,
		Note: n.Note, Who: who, CreatedAt: ch.Now.UnixMicro()}
	if p.Number != "" {
		if _, err := ch.Purchase(p.Number); err == nil {
			return "", &engine.Refused{Text: fmt.Sprintf("there is a purchase order %s already", p.Number), Conflict: true}
		} else if !errors.Is(err, store.ErrNotFound) {
			return "", err
		}
	}
	items, err := r.Stocked(ch, codes)
	if err != nil {
		return "", err
	}
	lineOf := map[int64]int{}
	for i, q := range n.Lines {
		it := items[codes[i]]
		if k, ok := lineOf[it.ID]; ok {
			p.Lines[k].Ordered += q.Quantity
			continue
		}
		lineOf[it.ID] = len(p.Lines)
		p.Lines = append(p.Lines, store.PurchaseLine{ItemID: it.ID, SKU: it.SKU, Ordered: q.Quantity})
	}
	if err := ch.AddPurchase(&p); err != nil {
		return "", err
	}
	book, err := ch.Book(itemIDs(p.Lines))
	if err != nil {
		return "", err
	}
	for _, l := range p.Lines {
		book.Post(stock.Movement{Key: stock.Key{Item: l.ItemID, Location: at.ID}, At: ch.Now, Kind: stock.Order, OnOrder: l.Ordered,
			Reason: "ordered from " + p.Supplier, Who: who, DocKind: "purchase", DocID: p.ID})
	}
	ch.Tell("purchase", p.Number)
	if err := r.NoteThing(ch, "purchase", p.ID, who, "added", "Ordered from %s: %s", p.Supplier,
		engine.Counted(int64(len(p.Lines)), "item", "items")); err != nil {
		return "", err
	}
	return p.Number, r.Post(ch, book)
}

func itemIDs(lines []store.PurchaseLine) []int64 {
	out := make([]int64, len(lines))
	for i, l := range lines {
		out[i] = l.ItemID
	}
	return out
}

// Arrival is goods of one item that were received.
type Arrival struct {
	Code     string   `json:"code" maxLength:"80" doc:"SKU or GTIN, as scanned"`
	Bin      string   `json:"bin,omitempty" maxLength:"40" doc:"Where it was put; empty takes the usual bin"`
	Quantity int64    `json:"quantity,omitempty" doc:"Units; 0 means one"                                            minimum:"0" maximum:"1000000"`
	Serials  []string `json:"serials,omitempty" doc:"Serial numbers, one for each unit, where the item has them"`
	Over     bool     `json:"over,omitempty" doc:"Take in more than was ordered, or what was not ordered at all"`
}

// Receive takes in goods of a purchase: by one scan, or many at once. More than was ordered is refused until
// somebody says that it is meant.
func (r *Inventory) Receive(ctx context.Context, number string, list []Arrival, who string) (p store.Purchase, err error) {
	if len(list) == 0 {
		return p, engine.Refuse("nothing was received")
	}
	err = r.Commit(ctx, func(ch *engine.Change) (err error) {
		p, err = r.TakeArrival(ch, number, list, who)
		return err
	})
	return p, err
}

func (r *Inventory) TakeArrival(ch *engine.Change, number string, list []Arrival, who string) (p store.Purchase, err error) {
	if p, err = ch.Purchase(number); err != nil {
		return p, fmt.Errorf("purchase order %s: %w", number, err)
	}
	if p.State != "open" {
		return p, &engine.Refused{Text: fmt.Sprintf("purchase order %s is closed", number), Conflict: true}
	}
	codes := make([]string, len(list))
	for i := range list {
		list[i].Code = strings.TrimSpace(list[i].Code)
		codes[i] = list[i].Code
	}
	items, err := r.Stocked(ch, codes)
	if err != nil {
		return p, err
	}
	ids := make([]int64, 0, len(items))
	for _, it := range items {
		ids = append(ids, it.ID)
	}
	book, err := ch.Book(ids)
	if err != nil {
		return p, err
	}
	var units int64
	for _, a := range list {
		it := items[a.Code]
		n := max(a.Quantity, 1)
		units += n
		if err := errors.Join(r.KnownBin(ch, p.LocationID, a.Bin),
			r.takeSerials(ch, it, a.Serials, n, p.LocationID, "received with "+p.Number)); err != nil {
			return p, err
		}
		k, err := arrivingLine(ch, &p, it, n, a.Over)
		if err != nil {
			return p, err
		}
		l := &p.Lines[k]
		expected := min(n, l.Left())
		l.Received += n
		if a.Bin != "" {
			l.Bin = a.Bin
		}
		if err := ch.UpdatePurchaseLine(p.ID, *l); err != nil {
			return p, err
		}
		book.Post(stock.Movement{Key: stock.Key{Item: it.ID, Location: p.LocationID}, At: ch.Now, Kind: stock.Receipt, OnHand: n,
			OnOrder: -expected, Bin: strings.TrimSpace(a.Bin),
			Reason: "received from " + p.Supplier, Who: who, DocKind: "purchase", DocID: p.ID})
		p.Received += n
	}
	if err := ch.UpdatePurchase(&p); err != nil {
		return p, err
	}
	ch.Tell("purchase", p.Number)
	if err := r.NoteThing(ch, "purchase", p.ID, who, "received", "%d units received: %s", units, received(list)); err != nil {
		return p, err
	}
	return p, r.Post(ch, book)
}

// arrivingLine is the line of a purchase order to which n units of an item belong. With over, more than was ordered is meant,
// or what was not ordered: that gets a line.
func arrivingLine(ch *engine.Change, p *store.Purchase, it store.Item, n int64, over bool) (int, error) {
	k := slices.IndexFunc(p.Lines, func(l store.PurchaseLine) bool { return l.ItemID == it.ID })
	switch {
	case k < 0 && !over:
		return 0, &engine.Refused{Text: fmt.Sprintf("%s is not on purchase order %s", it.SKU, p.Number), Conflict: true}
	case k < 0:
		k = len(p.Lines)
		p.Lines = append(p.Lines, store.PurchaseLine{Position: k + 1, ItemID: it.ID, SKU: it.SKU, Name: it.Name})
		if err := ch.AddPurchaseLine(p.ID, p.Lines[k]); err != nil {
			return 0, err
		}
	case n > p.Lines[k].Left() && !over:
		l := p.Lines[k]
		return 0, &engine.Refused{Text: fmt.Sprintf("%d × %s is more than is to come: %d ordered, %d received already", n, it.SKU,
			l.Ordered, l.Received), Conflict: true}
	}
	return k, nil
}

func received(list []Arrival) string {
	var parts []string
	for _, a := range list[:min(len(list), 10)] {
		parts = append(parts, fmt.Sprintf("%d × %s", max(a.Quantity, 1), a.Code))
	}
	if len(list) > 10 {
		parts = append(parts, fmt.Sprintf("and %d more", len(list)-10))
	}
	return engine.Join(parts)
}

// takeSerials records the serial numbers of received units.
func (r *Inventory) takeSerials(ch *engine.Change, it store.Item, serials []string, n, location int64, source string) error {
	if !it.Serials {
		if len(serials) > 0 {
			return engine.Refuse("%s has no serial numbers", it.SKU)
		}
		return nil
	}
	if int64(len(serials)) != n {
		return &engine.Refused{Text: fmt.Sprintf("%s has serial numbers: %d were received, %d numbers were given", it.SKU, n,
			len(serials)), Conflict: true}
	}
	for _, s := range serials {
		s = strings.TrimSpace(s)
		if s == "" || len(s) > 80 {
			return engine.Refuse("serial %q: 1 to 80 characters are expected", s)
		}
		old, err := ch.Serial(it.ID, s)
		if err == nil {
			return &engine.Refused{Text: fmt.Sprintf("serial number %s of %s is known already: it is %s", s, it.SKU, SerialText(old)),
				Conflict: true}
		}
		if !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err := ch.AddSerial(it.ID, s, location, source, ch.Now); err != nil {
			return err
		}
	}
	return nil
}

func SerialText(s store.Serial) string {
	switch s.State {
	case "packed":
		return "packed in " + s.Parcel
	case "gone":
		return "gone with " + s.Parcel
	}
	return "at " + s.Location
}

// ClosePurchase ends a purchase; what has not come is no longer expected.
func (r *Inventory) ClosePurchase(ctx context.Context, number, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		p, err := ch.Purchase(number)
		if err != nil {
			return fmt.Errorf("purchase order %s: %w", number, err)
		}
		if p.State != "open" {
			return &engine.Refused{Text: fmt.Sprintf("purchase order %s is closed already", number), Conflict: true}
		}
		book, err := ch.Book(itemIDs(p.Lines))
		if err != nil {
			return err
		}
		var short int64
		for _, l := range p.Lines {
			left := l.Left()
			if left == 0 {
				continue
			}
			short += left
			l.Short += left
			if err := ch.UpdatePurchaseLine(p.ID, l); err != nil {
				return err
			}
			book.Post(stock.Movement{Key: stock.Key{Item: l.ItemID, Location: p.LocationID}, At: ch.Now,
				Kind: stock.Order, OnOrder: -left, Reason: "no longer expected from " + p.Supplier, Who: who, DocKind: "purchase",
				DocID: p.ID})
		}
		p.State, p.ClosedAt = "closed", ch.Now.UnixMicro()
		if err := ch.UpdatePurchase(&p); err != nil {
			return err
		}
		ch.Tell("purchase", p.Number)
		text := "Closed: all has come"
		if short > 0 {
			text = fmt.Sprintf("Closed: %s did not come", engine.Counted(short, "unit", "units"))
		}
		if err := r.NoteThing(ch, "purchase", p.ID, who, "closed", "%s", text); err != nil {
			return err
		}
		return r.Post(ch, book)
	})
}

// NewTransfer is goods to be moved from one location of ours to another.
type NewTransfer struct {
	From  string     `json:"from" doc:"Code of a location"`
	To    string     `json:"to" doc:"Code of a location"`
	Note  string     `json:"note,omitempty" maxLength:"500"`
	Lines []Quantity `json:"lines"`
}

// AddTransfer prepares a transfer; nothing moves until it is sent.
func (r *Inventory) AddTransfer(ctx context.Context, n NewTransfer, who string) (number string, err error) {
	err = r.Commit(ctx, func(ch *engine.Change) (err error) {
		number, err = r.PutTransfer(ch, n, who)
		return err
	})
	return number, err
}

func (r *Inventory) PutTransfer(ch *engine.Change, n NewTransfer, who string) (string, error) {
	from, err := r.Ours(n.From)
	if err != nil {
		return "", err
	}
	to, err := r.Location(n.To)
	if err == nil && to.ArchivedAt != 0 {
		err = &engine.Refused{Text: to.Name + " is used no more", Conflict: true}
	}
	if err != nil {
		return "", err
	}
	if from.ID == to.ID {
		return "", engine.Refuse("to: from %s to itself; adjust bins instead", from.Name)
	}
	codes, err := quantities(n.Lines)
	if err != nil {
		return "", err
	}
	items, err := r.Stocked(ch, codes)
	if err != nil {
		return "", err
	}
	x := store.Transfer{FromID: from.ID, ToID: to.ID, State: "draft", Note: n.Note, Who: who, CreatedAt: ch.Now.UnixMicro()}
	for i, q := range n.Lines {
		it := items[codes[i]]
		if k := slices.IndexFunc(x.Lines, func(l store.TransferLine) bool { return l.ItemID == it.ID }); k >= 0 {
			x.Lines[k].Quantity += q.Quantity
			continue
		}
		x.Lines = append(x.Lines, store.TransferLine{ItemID: it.ID, SKU: it.SKU, Quantity: q.Quantity})
	}
	if err := ch.AddTransfer(&x); err != nil {
		return "", err
	}
	ch.Tell("transfer", x.Number)
	return x.Number, r.NoteThing(ch, "transfer", x.ID, who, "added", "From %s to %s: %s", from.Name, to.Name,
		engine.Counted(int64(len(x.Lines)), "item", "items"))
}

// moveTransfer changes a transfer in one of its states and posts what that moves.
func (r *Inventory) moveTransfer(ctx context.Context, number, state string,
	f func(*engine.Change, *store.Transfer, *stock.Book) error) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		x, err := ch.Transfer(number)
		if err != nil {
			return fmt.Errorf("transfer %s: %w", number, err)
		}
		if x.State != state {
			return &engine.Refused{Text: fmt.Sprintf("transfer %s is %s, not %s", number, x.State, state), Conflict: true}
		}
		ids := make([]int64, len(x.Lines))
		for i, l := range x.Lines {
			ids[i] = l.ItemID
		}
		book, err := ch.Book(ids)
		if err != nil {
			return err
		}
		if err := f(ch, &x, book); err != nil {
			return err
		}
		if err := ch.UpdateTransfer(&x); err != nil {
			return err
		}
		ch.Tell("transfer", x.Number)
		return r.Post(ch, book)
	})
}

// SendTransfer takes the goods from where they lie; they are in transit until they arrive. What is promised
// to orders there does not leave.
func (r *Inventory) SendTransfer(ctx context.Context, number, who string) error {
	return r.moveTransfer(ctx, number, "draft", func(ch *engine.Change, x *store.Transfer, book *stock.Book) error {
		for _, l := range x.Lines {
			have := book.Level(stock.Key{Item: l.ItemID, Location: x.FromID})
			if have.Available() < l.Quantity {
				return &engine.Refused{Text: fmt.Sprintf(
					"%s: %d are to leave %s, %d are available there (%d on hand, %d promised to orders)", l.SKU, l.Quantity, x.FromName,
					have.Available(), have.OnHand, have.Allocated), Conflict: true}
			}
			book.Post(stock.Movement{Key: stock.Key{Item: l.ItemID, Location: x.FromID},
				At: ch.Now, Kind: stock.Send, OnHand: -l.Quantity, Reason: "sent to " + x.ToName, Who: who, DocKind: "transfer",
				DocID: x.ID})
			book.Post(stock.Movement{Key: stock.Key{Item: l.ItemID, Location: x.ToID}, At: ch.Now,
				Kind: stock.Send, InTransit: l.Quantity, Reason: "under way from " + x.FromName, Who: who, DocKind: "transfer",
				DocID: x.ID})
		}
		x.State, x.SentAt = "under way", ch.Now.UnixMicro()
		return r.NoteThing(ch, "transfer", x.ID, who, "sent", "Left %s", x.FromName)
	})
}

// ArriveTransfer takes in what has arrived of a transfer; without a list everything that is left. It closes when
// nothing is left.
func (r *Inventory) ArriveTransfer(ctx context.Context, number string, list []Arrival, who string) error {
	return r.moveTransfer(ctx, number, "under way", func(ch *engine.Change, x *store.Transfer, book *stock.Book) error {
		if len(list) == 0 {
			for _, l := range x.Lines {
				if l.Left() > 0 {
					list = append(list, Arrival{Code: l.SKU, Quantity: l.Left()})
				}
			}
		}
		for _, a := range list {
			code, n := strings.TrimSpace(a.Code), max(a.Quantity, 1)
			k := slices.IndexFunc(x.Lines, func(l store.TransferLine) bool {
				return strings.EqualFold(l.SKU, code) || l.GTIN == code && code != ""
			})
			if k < 0 {
				return &engine.Refused{Text: fmt.Sprintf("%q is not part of transfer %s", code, x.Number), Conflict: true}
			}
			l := &x.Lines[k]
			if n > l.Left() {
				return &engine.Refused{Text: fmt.Sprintf("%d × %s is more than is under way: %d", n, l.SKU, l.Left()), Conflict: true}
			}
			if err := r.KnownBin(ch, x.ToID, a.Bin); err != nil {
				return err
			}
			l.Arrived += n
			book.Post(stock.Movement{Key: stock.Key{Item: l.ItemID, Location: x.ToID}, At: ch.Now, Kind: stock.Arrive, OnHand: n,
				InTransit: -n, Bin: strings.TrimSpace(a.Bin), Reason: "arrived from " + x.FromName, Who: who, DocKind: "transfer",
				DocID: x.ID})
		}
		closeTransfer(x, ch.Now)
		return r.NoteThing(ch, "transfer", x.ID, who, "arrived", "Arrived at %s: %s", x.ToName, received(list))
	})
}

func closeTransfer(x *store.Transfer, now time.Time) {
	for _, l := range x.Lines {
		if l.Left() > 0 {
			return
		}
	}
	x.State, x.ClosedAt = "closed", now.UnixMicro()
}

// LoseTransfer gives up what has not arrived of a transfer: it is neither here nor there any more.
func (r *Inventory) LoseTransfer(ctx context.Context, number, reason, who string) error {
	if strings.TrimSpace(reason) == "" {
		return engine.Refuse("reason: say what became of it")
	}
	return r.moveTransfer(ctx, number, "under way", func(ch *engine.Change, x *store.Transfer, book *stock.Book) error {
		var lost int64
		for i := range x.Lines {
			l := &x.Lines[i]
			n := l.Left()
			if n == 0 {
				continue
			}
			lost += n
			l.Lost += n
			book.Post(stock.Movement{Key: stock.Key{Item: l.ItemID, Location: x.ToID}, At: ch.Now, Kind: stock.Lost, InTransit: -n,
				Reason: "lost on the way: " + reason, Who: who, DocKind: "transfer", DocID: x.ID})
		}
		closeTransfer(x, ch.Now)
		return r.NoteThing(ch, "transfer", x.ID, who, "lost", "%s lost on the way from %s to %s: %s",
			engine.Counted(lost, "unit", "units"), x.FromName, x.ToName, reason)
	})
}

// DropTransfer forgets a transfer that was not sent yet.
func (r *Inventory) DropTransfer(ctx context.Context, number, who string) error {
	return r.moveTransfer(ctx, number, "draft", func(ch *engine.Change, x *store.Transfer, _ *stock.Book) error {
		x.State, x.ClosedAt = "closed", ch.Now.UnixMicro()
		for i := range x.Lines {
			x.Lines[i].Quantity = 0
		}
		return r.NoteThing(ch, "transfer", x.ID, who, "dropped", "Dropped before it was sent")
	})
}

// StartCount begins to count a location.
func (r *Inventory) StartCount(ctx context.Context, location, note, who string) (string, error) {
	at, err := r.Ours(location)
	if err != nil {
		return "", err
	}
	c := store.Count{LocationID: at.ID, State: "open", Note: note, Who: who}
	err = r.Commit(ctx, func(ch *engine.Change) error {
		c.CreatedAt = ch.Now.UnixMicro()
		if err := ch.AddCount(&c); err != nil {
			return err
		}
		ch.Tell("count", c.Number)
		return r.NoteThing(ch, "count", c.ID, who, "added", "Count of %s begun", at.Name)
	})
	return c.Number, err
}

// Counted is what somebody counted of an item.
type Counted struct {
	Code     string `json:"code" maxLength:"80" doc:"SKU or GTIN, as scanned"`
	Bin      string `json:"bin,omitempty" maxLength:"40" doc:"The bin that was counted; empty takes the usual one"`
	Quantity int64  `json:"quantity" minimum:"0" maximum:"1000000"`
	Add      bool   `json:"add,omitempty" doc:"Add to what was counted in this bin before, as one scan after the other does"`
}

// CountItem notes what was counted, beside what should lie there at this moment: what the ledger has in the
// bin, less what was picked for orders and has not left. What is sold or received until the count is posted
// does not disturb it.
func (r *Inventory) CountItem(ctx context.Context, number string, n Counted, who string) (store.Count, error) {
	var c store.Count
	if n.Quantity < 0 {
		return c, engine.Refuse("quantity %d: nothing less than nothing can be counted", n.Quantity)
	}
	err := r.Commit(ctx, func(ch *engine.Change) (err error) {
		if c, err = r.openCount(ch, number); err != nil {
			return err
		}
		code := strings.TrimSpace(n.Code)
		items, err := r.Stocked(ch, []string{code})
		if err != nil {
			return err
		}
		it := items[code]
		line := store.CountLine{ItemID: it.ID, Bin: strings.TrimSpace(n.Bin), Counted: n.Quantity, At: ch.Now.UnixMicro(), Who: who}
		if err := r.KnownBin(ch, c.LocationID, line.Bin); err != nil {
			return err
		}
		bins, err := ch.BinLevels([]int64{it.ID})
		if err != nil {
			return err
		}
		usual, err := ch.Bins(c.LocationID, []int64{it.ID})
		if err != nil {
			return err
		}
		if line.Bin == "" {
			line.Bin = usual[it.ID]
		}
		for _, b := range bins {
			if b.LocationID == c.LocationID && b.Bin == line.Bin {
				line.Expected = b.OnHand
			}
		}
		if line.Bin == usual[it.ID] { // goods are picked from the usual bin
			away, err := ch.PickedAway(c.LocationID, []int64{it.ID})
			if err != nil {
				return err
			}
			line.Expected -= away[it.ID]
		}
		for _, old := range c.Lines {
			if old.ItemID == it.ID && old.Bin == line.Bin && n.Add {
				line.Counted += old.Counted
			}
		}
		if err := ch.PutCountLine(c.ID, line); err != nil {
			return err
		}
		ch.Tell("count", c.Number)
		c, err = ch.Count(number)
		return err
	})
	return c, err
}

func (r *Inventory) openCount(ch *engine.Change, number string) (store.Count, error) {
	c, err := ch.Count(number)
	if err != nil {
		return c, fmt.Errorf("count %s: %w", number, err)
	}
	if c.State != "open" {
		return c, &engine.Refused{Text: fmt.Sprintf("count %s is %s", number, c.State), Conflict: true}
	}
	return c, nil
}

// Uncount takes a counted line away again.
func (r *Inventory) Uncount(ctx context.Context, number, sku, bin string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		c, err := r.openCount(ch, number)
		if err != nil {
			return err
		}
		for _, l := range c.Lines {
			if l.SKU == sku && l.Bin == bin {
				ch.Tell("count", c.Number)
				return ch.DropCountLine(c.ID, l.ItemID, bin)
			}
		}
		return fmt.Errorf("%s in bin %q: %w", sku, bin, store.ErrNotFound)
	})
}

// PostCount books the differences that a count found. Each is what was counted less what should have been
// there when it was counted, so that sales since then stay sold.
func (r *Inventory) PostCount(ctx context.Context, number, reason, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		c, err := r.openCount(ch, number)
		if err != nil {
			return err
		}
		if len(c.Lines) == 0 {
			return &engine.Refused{Text: "nothing was counted yet", Conflict: true}
		}
		ids := make([]int64, len(c.Lines))
		for i, l := range c.Lines {
			ids[i] = l.ItemID
		}
		book, err := ch.Book(ids)
		if err != nil {
			return err
		}
		var differ int
		for _, l := range c.Lines {
			if err := ch.CloseItemExceptions(l.ItemID, engine.EditUnclear, ch.Now); err != nil {
				return err
			}
			by := l.Counted - l.Expected
			if by == 0 {
				continue
			}
			differ++
			book.Post(stock.Movement{Key: stock.Key{Item: l.ItemID, Location: c.LocationID}, At: ch.Now, Kind: stock.Count,
				OnHand: by, Bin: l.Bin,
				Reason: engine.Or(reason, fmt.Sprintf("counted %d where %d should lie", l.Counted, l.Expected)), Who: who,
				DocKind: "count", DocID: c.ID})
		}
		c.State, c.PostedAt = "posted", ch.Now.UnixMicro()
		if err := ch.UpdateCount(&c); err != nil {
			return err
		}
		ch.Tell("count", c.Number)
		ch.Tell("exception", "")
		if err := r.NoteThing(ch, "count", c.ID, who, "posted", "Posted: %d lines counted, %d differ", len(c.Lines), differ); err != nil {
			return err
		}
		return r.Post(ch, book)
	})
}

// DropCount forgets a count that was not posted.
func (r *Inventory) DropCount(ctx context.Context, number, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		c, err := r.openCount(ch, number)
		if err != nil {
			return err
		}
		c.State = "dropped"
		if err := ch.UpdateCount(&c); err != nil {
			return err
		}
		ch.Tell("count", c.Number)
		return r.NoteThing(ch, "count", c.ID, who, "dropped", "Dropped, nothing was changed")
	})
}

// Adjustment changes what lies at a location by a quantity, with a reason.
type Adjustment struct {
	SKU      string `json:"sku,omitempty" maxLength:"80"`
	Location string `json:"location" doc:"Code"`
	Bin      string `json:"bin,omitempty" maxLength:"40"  doc:"Empty takes the usual bin"`
	Change   int64  `json:"change" doc:"Units added, or taken away where negative"`
	Reason   string `json:"reason" maxLength:"200"`
}

// Adjust changes what lies at a location by a quantity, with a reason.
func (r *Inventory) Adjust(ctx context.Context, a Adjustment, who string) error {
	if a.Change == 0 || a.Change > 1_000_000 || a.Change < -1_000_000 {
		return engine.Refuse("change %d: a quantity other than 0, at most a million, is expected", a.Change)
	}
	if strings.TrimSpace(a.Reason) == "" {
		return engine.Refuse("reason: say why the stock changes")
	}
	loc, err := r.Ours(a.Location)
	if err != nil {
		return err
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		it, err := ch.Record(a.SKU)
		if err != nil {
			return fmt.Errorf("item %s: %w", a.SKU, err)
		}
		return r.PutAdjustment(ch, it.ID, loc, a, who)
	})
}

func (r *Inventory) PutAdjustment(ch *engine.Change, item int64, loc store.Location, a Adjustment, who string) error {
	items, err := ch.Items([]int64{item})
	if err != nil {
		return err
	}
	if it := items[item]; !catalog.Kind(it.Kind).HoldsStock() {
		return &engine.Refused{Text: fmt.Sprintf("%s is %s and holds no stock of its own", it.SKU, it.Kind), Conflict: true}
	}
	if a.Change > 0 { // what lies in a bin that is no more can be taken away
		if err := r.KnownBin(ch, loc.ID, a.Bin); err != nil {
			return err
		}
	}
	book, err := ch.Book([]int64{item})
	if err != nil {
		return err
	}
	k := stock.Key{Item: item, Location: loc.ID}
	if left := book.Level(k).OnHand + a.Change; left < 0 && a.Change < 0 {
		return &engine.Refused{Text: fmt.Sprintf("%s at %s: only %d on hand, %d cannot be taken away", a.SKU, loc.Name,
			book.Level(k).OnHand, -a.Change), Conflict: true}
	}
	kind := stock.Adjust
	if a.Change > 0 && strings.HasPrefix(a.Reason, "receipt") {
		kind = stock.Receipt
	}
	book.Post(stock.Movement{Key: k, At: ch.Now, Kind: kind, OnHand: a.Change, Bin: strings.TrimSpace(a.Bin), Reason: a.Reason, Who: who,
		DocKind: "hand"})
	return r.Post(ch, book)
}

// KnownBin refuses a bin that a place does not have, where it says which it has. The empty one is the usual.
func (r *Inventory) KnownBin(ch *engine.Change, location int64, bin string) error {
	bin = strings.TrimSpace(bin)
	if bin == "" {
		return nil
	}
	known, err := ch.BinKnown(location, bin)
	if err != nil || known {
		return err
	}
	return &engine.Refused{
		Text:     fmt.Sprintf("bin: %s has no bin %s; add it in Settings, Places, if there is one", r.PlaceName(location), bin),
		Conflict: true,
	}
}

// Rebin moves goods from bin to bin, and says where the item usually lies.
func (r *Inventory) Rebin(ctx context.Context, sku, location, from, to string, qty int64, usual bool, who string) error {
	loc, err := r.Ours(location)
	if err != nil {
		return err
	}
	if to = strings.TrimSpace(to); to == "" || to == from {
		return engine.Refuse("to: another bin is expected")
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		items, err := r.Stocked(ch, []string{sku})
		if err != nil {
			return err
		}
		it := items[sku]
		if err := r.KnownBin(ch, loc.ID, to); err != nil {
			return err
		}
		bins, err := ch.BinLevels([]int64{it.ID})
		if err != nil {
			return err
		}
		var have int64
		for _, b := range bins {
			if b.LocationID == loc.ID && b.Bin == from {
				have = b.OnHand
			}
		}
		if qty < 0 || qty > have {
			return &engine.Refused{Text: fmt.Sprintf("%s: %d lie in bin %s at %s, %d cannot be moved", it.SKU, have,
				engine.Or(from, "none"), loc.Name, qty), Conflict: true}
		}
		if usual {
			if err := ch.SetBin(it.ID, loc.ID, to); err != nil {
				return err
			}
		}
		ch.Tell("stock", fmt.Sprint(it.ID))
		if qty == 0 {
			return nil
		}
		book, err := ch.Book([]int64{it.ID})
		if err != nil {
			return err
		}
		m := stock.Movement{Key: stock.Key{Item: it.ID, Location: loc.ID}, At: ch.Now, Kind: stock.Rebin,
			Reason: fmt.Sprintf("from bin %s to %s", engine.Or(from, "none"), to), Who: who, DocKind: "hand"}
		m.OnHand, m.Bin = -qty, engine.Or(from, stock.NoBin)
		book.Post(m)
		m.OnHand, m.Bin = qty, to
		book.Post(m)
		return ch.Post(book)
	})
}
