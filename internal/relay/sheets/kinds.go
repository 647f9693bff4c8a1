package sheets

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/money"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/listing"
	"openrelay/internal/sheet"
	"openrelay/internal/store"
)

// Column is a column of a kind of sheet.
type Column struct {
	Name  string `json:"name"`
	Need  bool   `json:"need,omitempty"`
	About string `json:"about"`
}

// SheetKind is a kind of sheet.
type SheetKind struct {
	Kind    string   `json:"kind"`
	About   string   `json:"about"`
	Columns []Column `json:"columns"`
	In      bool     `json:"in" doc:"Can be handed in"`
	Out     bool     `json:"out" doc:"Can be saved"`

	group bool // rows with the same key are carried out together
	once  bool // a key stands in one row only
	look  func(*lookup, map[string]string) (store.SheetRow, error)
	carry func(*Sheets, *engine.Change, []map[string]string, string) error
}

// lookup looks at a portion of rows.
type lookup struct {
	r     *Sheets
	ctx   context.Context
	items map[string]catalog.Item // by SKU
	kinds *inventory.ItemKinds
}

// item finds an item by SKU.
func (l *lookup) item(sku string) (catalog.Item, error) {
	if sku == "" {
		return catalog.Item{}, engine.Refuse("sku: missing")
	}
	it, ok := l.items[sku]
	if !ok {
		return it, engine.Refuse("sku: there is no item %s", sku)
	}
	return it, nil
}

func (l *lookup) stocked(sku string) (catalog.Item, error) {
	it, err := l.item(sku)
	if err == nil && !it.Kind.HoldsStock() {
		err = engine.Refuse("sku: %s is %s and holds no stock of its own", sku, it.Kind)
	}
	return it, err
}

// none takes the value of a field away.
const none = "(none)"

func whole(f map[string]string, name string, least, most int64) (int64, error) {
	n, err := strconv.ParseInt(strings.ReplaceAll(strings.TrimPrefix(f[name], "+"), " ", ""), 10, 64)
	if err != nil || n < least || n > most {
		return 0, engine.Refuse("%s: %q; a whole number from %d to %d is expected", name, f[name], least, most)
	}
	return n, nil
}

var itemColumns = []Column{
	{"sku", true, "Ours; an item that is not there is added"}, {"kind", false, "stocked, kit, made to order, prepared, charge"},
	{"family", false, "Variants of one thing share it"},
	{"name", false, "Needed for a new item"}, {"options", false, "Such as size M, colour sand"}, {"gtin", false, "With its check digit"},
	{"category", false, ""}, {"description", false, ""},
	{"images", false, "Addresses with spaces between"}, {"serials", false, "yes or no"},
	{"fragile", false, "yes or no: nothing is put on top of it"}, {"upright", false, "yes or no: its height stays upright"},
	{"weight_g", false, "grams"}, {"length_mm", false, "millimetres"}, {"width_mm", false, "millimetres"},
	{"height_mm", false, "millimetres"},
	{"customs_code", false, "6 to 10 digits"}, {"origin", false, "Country, two letters"}, {"tax_class", false, ""},
	{"currency", false, "Three letters"}, {"price", false, "Such as 12.90"},
	{"marks", false, "Words with spaces between"}, {"parts", false, "Of a kit: 2×HIVE-BODY 1×HIVE-ROOF"},
	{"groups", false, "Codes of option groups"}, {"archived", false, "yes or no"},
}

// SheetKinds lists what can be handed in and saved as CSV.
func SheetKinds() []SheetKind {
	sku := Column{"sku", true, "An item of ours"}
	qty := Column{"quantity", true, "Units"}
	return []SheetKind{
		{Kind: "items", About: "Items: new ones are added; of those that are there, the columns that the file has are changed. An " +
			"empty cell leaves a field as it is, (none) empties it", Columns: itemColumns, In: true, Out: true, once: true,
			look: lookItem, carry: carryItems},
		{Kind: "prices", About: "Prices on price lists",
			Columns: []Column{sku, {"list", true, "Code of the price list; empty is the item's own price"},
				{"price", true, "Such as 12.90; (none) takes it off the list"}}, In: true, Out: true, once: true, look: lookPrice,
			carry: carryPrices},
		{Kind: "counts", About: "Counted quantities: what lies there becomes the number in the file",
			Columns: []Column{sku, {"location", true, "Code"}, {"bin", false, "Empty takes the usual bin"}, {"counted", true, "Units"}},
			In:      true, once: true, look: lookCount, carry: carryCounts},
		{Kind: "adjustments", About: "Changes of stock with a reason", Columns: []Column{sku, {"location", true, "Code"},
			{"bin", false, ""}, {"change", true, "Units added, or taken away with a minus"}, {"reason", true, ""}}, In: true,
			look: lookAdjustment, carry: carryAdjustments},
		{Kind: "purchases", About: "Purchase orders: rows with the same number are one",
			Columns: []Column{{"number", true, "Ours or the supplier's"}, {"supplier", true, ""},
				{"location", true, "Code of where it is to come"}, {"expected", false, "Day, YYYY-MM-DD"}, sku, qty}, In: true, Out: true,
			group: true, look: lookPurchase, carry: carryPurchase},
		{Kind: "receipts", About: "Goods received of purchase orders", Columns: []Column{{"number", true, "Of the purchase order"}, sku,
			qty, {"bin", false, ""}, {"serials", false, "With spaces between"}}, In: true, group: true, look: lookReceipt,
			carry: carryReceipt},
		{Kind: "transfers", About: "Transfers between locations: rows with the same word under transfer are one",
			Columns: []Column{{"transfer", true, "Any word"}, {"from", true, "Code"}, {"to", true, "Code"}, sku, qty}, In: true,
			Out: true, group: true, look: lookTransfer, carry: carryTransfer},
		{Kind: "matches", About: "Which item each listing is", Columns: []Column{{"connection", true, "Code"},
			{"listing", true, "The channel's number"},
			{"item", true, "SKU of ours; ignore leaves the listing alone, (none) ends a match"}}, In: true, Out: true, once: true,
			look: lookMatch, carry: carryMatches},
		numbersKind(), billsKind(), partnerItemsKind(),
		{Kind: "levels", About: "Stock by item and location", Columns: []Column{{Name: "sku"}, {Name: "name"}, {Name: "location"},
			{Name: "bin"}, {Name: "on_hand"}, {Name: "allocated"}, {Name: "available"}, {Name: "on_order"},
			{Name: "in_transit"}}, Out: true},
		{Kind: "listings", About: "Listings with price, offered quantity and state", Columns: []Column{{Name: "connection"},
			{Name: "listing"}, {Name: "sku"}, {Name: "title"}, {Name: "item"}, {Name: "price"}, {Name: "currency"}, {Name: "state"},
			{Name: "reason"}, {Name: "shows"}, {Name: "told"}}, Out: true},
	}
}

func sheetKind(kind string) (SheetKind, error) {
	var names []string
	for _, k := range SheetKinds() {
		if k.Kind == kind {
			return k, nil
		}
		names = append(names, k.Kind)
	}
	return SheetKind{}, engine.Refuse("there is no kind of sheet %q; there are %s", kind, engine.Join(names))
}

// MaxSheet is the largest file that is taken, in bytes.
const MaxSheet = 512 << 20

// HandIn takes a CSV file in and begins to look at it. Nothing of ours changes by it.
func (r *Sheets) HandIn(ctx context.Context, kind, name string, in io.Reader, who string) (int64, error) {
	k, err := sheetKind(kind)
	if err != nil {
		return 0, err
	}
	if !k.In {
		return 0, engine.Refuse("%s can be saved, not handed in", kind)
	}
	f, err := os.CreateTemp("", "openrelay-sheet-*.csv")
	if err != nil {
		return 0, err
	}
	drop := func() { f.Close(); os.Remove(f.Name()) }
	if n, err := io.Copy(f, io.LimitReader(in, MaxSheet+1)); err != nil || n > MaxSheet {
		drop()
		if err != nil {
			return 0, fmt.Errorf("the file could not be taken in: %w", err)
		}
		return 0, engine.Refuse("the file is larger than %d MB", MaxSheet>>20)
	}
	if err := f.Close(); err != nil {
		drop()
		return 0, err
	}
	reader, err := sheet.Open(f.Name())
	if err != nil {
		drop()
		return 0, engine.Refuse("%v", err)
	}
	if err := k.fits(reader.Columns); err != nil {
		reader.Close()
		drop()
		return 0, err
	}
	form, err := json.Marshal(reader.Form)
	if err != nil {
		return 0, err
	}
	s, err := r.addSheet(ctx, store.Sheet{Kind: kind, Name: name, State: store.Checking, Who: who, Options: "{}"}, string(form))
	if err != nil {
		reader.Close()
		drop()
		return 0, err
	}
	r.inBackground(&s, func() error {
		defer drop()
		defer reader.Close()
		return r.lookAtSheet(k, reader, &s)
	}, store.Checked)
	return s.ID, nil
}

// addSheet keeps a file that was handed in, and forgets those of a month ago.
func (r *Sheets) addSheet(ctx context.Context, s store.Sheet, form string) (store.Sheet, error) {
	err := r.Commit(ctx, func(ch *engine.Change) (err error) {
		s.At = ch.Now.UnixMicro()
		if s.ID, err = ch.AddSheet(s); err != nil {
			return err
		}
		s.Form = form
		ch.Tell("sheet", fmt.Sprint(s.ID))
		if err := ch.DropSheets(ch.Now.Add(-30 * 24 * time.Hour)); err != nil {
			return err
		}
		return ch.UpdateSheet(s)
	})
	return s, err
}

// fits refuses a file whose columns are not those of its kind.
func (k SheetKind) fits(columns []string) error {
	for _, c := range k.Columns {
		if c.Need && !slices.Contains(columns, c.Name) {
			return engine.Refuse("the column %s is missing; the first row of the file names the columns: %s", c.Name,
				engine.Join(k.names()))
		}
	}
	for _, name := range columns {
		if name != "" && !slices.Contains(k.names(), name) {
			return engine.Refuse("the column %q is not known; there are: %s", name, engine.Join(k.names()))
		}
	}
	return nil
}

func (k SheetKind) names() []string {
	out := make([]string, len(k.Columns))
	for i, c := range k.Columns {
		out[i] = c.Name
	}
	return out
}

// inBackground works on a sheet and settles it.
func (r *Sheets) inBackground(s *store.Sheet, work func() error, next string) {
	r.Go(func() {
		err := work()
		if r.Ctx.Err() != nil {
			return // what was being carried out goes on at the next start
		}
		s.State, s.EndedAt = next, r.Clock().UnixMicro()
		if err != nil {
			s.State, s.Error = store.Failed, err.Error()
		}
		if err := r.Commit(r.Ctx, func(ch *engine.Change) error {
			ch.Tell("sheet", fmt.Sprint(s.ID))
			return ch.UpdateSheet(*s)
		}); err != nil {
			r.Log.Error("a sheet could not be settled", "sheet", s.ID, "error", err)
		}
	})
}

// ResumeSheets goes on with the sheets that an earlier process left. The caller holds the lock.
func (r *Sheets) ResumeSheets() {
	open, err := r.Store.OpenSheets(r.Ctx)
	if err != nil {
		r.Log.Error("open sheets could not be read", "error", err)
		return
	}
	for _, s := range open {
		k, err := sheetKind(s.Kind)
		switch {
		case err != nil || s.State == store.Checking:
			r.inBackground(&s, func() error { return errors.New("the service ended while it looked at the file; hand it in again") },
				store.Failed)
		default:
			r.inBackground(&s, func() error { return r.carryOut(k, &s) }, store.Done)
		}
	}
}

// sheetPortion is how many rows are looked at, or carried out, at once.
const sheetPortion = 400

// lookAtSheet looks at all rows, in portions, and keeps what would become of each.
func (r *Sheets) lookAtSheet(k SheetKind, reader *sheet.Reader, s *store.Sheet) error {
	seen := map[uint64]int32{}
	for end := false; !end; {
		var lines []sheetLine
		var err error
		if lines, end, err = nextLines(reader); err != nil {
			return err
		}
		if len(lines) == 0 || r.Ctx.Err() != nil {
			break
		}
		look := &lookup{r: r, ctx: r.Ctx, kinds: r.Inventory.ItemKinds.Load()}
		skus := make([]string, 0, len(lines))
		for _, l := range lines {
			skus = append(skus, l.fields["sku"])
		}
		if look.items, err = r.Store.RecordsBySKU(r.Ctx, skus); err != nil {
			return err
		}
		rows := make([]store.SheetRow, len(lines))
		for i, l := range lines {
			if rows[i], err = r.lookAtLine(k, look, l, seen); err != nil {
				return err
			}
		}
		s.Total += int64(len(rows))
		if err := r.Commit(r.Ctx, func(ch *engine.Change) error {
			ch.Tell("sheet", fmt.Sprint(s.ID))
			if err := ch.UpdateSheet(*s); err != nil {
				return err
			}
			return ch.PutSheetRows(s.ID, rows)
		}); err != nil {
			return err
		}
	}
	return nil
}

// sheetLine is a row of a file with its fields by column.
type sheetLine struct {
	row    sheet.Row
	fields map[string]string
}

// nextLines reads the next portion of a file, and tells whether it is the last.
func nextLines(reader *sheet.Reader) (lines []sheetLine, end bool, err error) {
	for len(lines) < sheetPortion {
		row, err := reader.Next()
		if errors.Is(err, io.EOF) {
			return lines, true, nil
		}
		if err != nil {
			return nil, false, err
		}
		lines = append(lines, sheetLine{row, reader.Fields(row)})
	}
	return lines, false, nil
}

// lookAtLine says what would become of a line. seen has the keys of rows so far, hashed, where a key stands once.
func (r *Sheets) lookAtLine(k SheetKind, look *lookup, l sheetLine, seen map[uint64]int32) (store.SheetRow, error) {
	out := store.SheetRow{Verdict: "refused", Reason: l.row.Bad}
	if l.row.Bad == "" {
		var err error
		if out, err = r.lookAtRow(k, look, l.fields); err != nil {
			var refused *engine.Refused
			if !errors.As(err, &refused) {
				return out, fmt.Errorf("row %d: %w", l.row.Number, err)
			}
			out.Verdict, out.Reason = "refused", refused.Text
		}
		if k.once && out.Verdict != "refused" {
			h := fnv.New64a()
			h.Write([]byte(out.Key))
			if first, ok := seen[h.Sum64()]; ok {
				out.Verdict, out.Reason = "refused", fmt.Sprintf("%s stands in row %d already", out.Key, first)
			} else {
				seen[h.Sum64()] = int32(l.row.Number)
			}
		}
	}
	text, err := json.Marshal(l.fields)
	out.Row, out.Fields = int64(l.row.Number), string(text)
	return out, err
}

func (r *Sheets) lookAtRow(k SheetKind, l *lookup, f map[string]string) (store.SheetRow, error) {
	for _, c := range k.Columns {
		if c.Need && f[c.Name] == "" && c.Name != "list" {
			return store.SheetRow{Key: f["sku"]}, engine.Refuse("%s: missing", c.Name)
		}
	}
	return k.look(l, f)
}

// Apply carries out the rows of a sheet that was looked at.
func (r *Sheets) ApplySheet(ctx context.Context, id int64, who string) error {
	s, err := r.Store.Sheet(ctx, id)
	if err != nil {
		return fmt.Errorf("sheet %d: %w", id, err)
	}
	if s.State != store.Checked {
		return &engine.Refused{Text: fmt.Sprintf("the sheet is %s; it can be carried out once it was looked at", s.State), Conflict: true}
	}
	k, err := sheetKind(s.Kind)
	if err != nil {
		return err
	}
	if err := r.Commit(ctx, func(ch *engine.Change) error {
		s.State, s.Who, s.EndedAt = store.Applying, who, 0
		ch.Tell("sheet", fmt.Sprint(s.ID))
		return ch.UpdateSheet(s)
	}); err != nil {
		return err
	}
	r.inBackground(&s, func() error { return r.carryOut(k, &s) }, store.Done)
	return nil
}

// carryOut carries rows out in portions. A row that is refused now, because things have changed since it was
// looked at, is noted as such, and the others go on.
func (r *Sheets) carryOut(k SheetKind, s *store.Sheet) error {
	for r.Ctx.Err() == nil {
		rows, err := r.Store.OpenSheetRows(r.Ctx, s.ID, "", 100)
		if err != nil || len(rows) == 0 {
			return err
		}
		if k.group {
			if rows, err = r.Store.OpenSheetRows(r.Ctx, s.ID, rows[0].Key, 100_000); err != nil {
				return err
			}
		}
		err = r.carryRows(k, s, rows)
		var refused *engine.Refused
		if errors.As(err, &refused) && !k.group && len(rows) > 1 { // one of them: each on its own tells which
			for i := range rows {
				if err = r.carryRows(k, s, rows[i:i+1]); err != nil && !errors.As(err, &refused) {
					return err
				}
			}
			continue
		}
		if err != nil && !errors.As(err, &refused) {
			return err
		}
	}
	return nil
}

// carryRows carries rows out in one transaction. When they are refused and are few enough to say which it was,
// they are settled so.
func (r *Sheets) carryRows(k SheetKind, s *store.Sheet, rows []store.SheetRow) error {
	fields := make([]map[string]string, len(rows))
	for i, row := range rows {
		if err := json.Unmarshal([]byte(row.Fields), &fields[i]); err != nil {
			return err
		}
	}
	err := r.Commit(r.Ctx, func(ch *engine.Change) error {
		if err := k.carry(r, ch, fields, s.Who); err != nil {
			return err
		}
		for _, row := range rows {
			row.Verdict = map[string]string{"add": "added", "change": "changed"}[row.Verdict]
			if err := ch.SettleSheetRow(s.ID, row); err != nil {
				return err
			}
		}
		next := *s
		next.Done += int64(len(rows))
		ch.Tell("sheet", fmt.Sprint(s.ID))
		return ch.UpdateSheet(next)
	})
	if err == nil {
		s.Done += int64(len(rows))
		return nil
	}
	var refused *engine.Refused
	if errors.Is(err, store.ErrNotFound) {
		err = engine.Refuse("%v", err)
	}
	if !errors.As(err, &refused) || !k.group && len(rows) > 1 {
		return err
	}
	if e := r.Commit(r.Ctx, func(ch *engine.Change) error {
		for _, row := range rows {
			row.Verdict, row.Reason = "refused", refused.Text
			if e := ch.SettleSheetRow(s.ID, row); e != nil {
				return e
			}
		}
		return nil
	}); e != nil {
		return e
	}
	return err
}

// itemFrom brings the cells of a row into a record.
func itemFrom(it *catalog.Item, f map[string]string) error {
	if it.Kind == "" && f["kind"] == "" && f["parts"] != "" && f["parts"] != none {
		it.Kind = catalog.Kit
	}
	for _, c := range itemColumns[1:] {
		text, ok := f[c.Name]
		if !ok || text == "" {
			continue
		}
		if err := setField(it, c.Name, text); err != nil {
			return err
		}
	}
	return nil
}

func yesNo(name, text string) (bool, error) {
	switch strings.ToLower(text) {
	case "yes", "true", "1", "y":
		return true, nil
	case "no", "false", "0", "n", none:
		return false, nil
	}
	return false, engine.Refuse("%s: %q is neither yes nor no", name, text)
}

// minorOf reads an amount as people write it in a table.
func minorOf(name, text, currency string) (int64, error) {
	if strings.Contains(text, ",") && !strings.Contains(text, ".") { // a decimal comma
		text = strings.ReplaceAll(text, ",", ".")
	}
	n, err := money.Parse(text, currency)
	if err != nil || n < 0 {
		return 0, engine.Refuse("%s: %q is no amount such as 12.90", name, text)
	}
	return n, nil
}

// setField writes one field of an item as people write it in a table.
func setField(it *catalog.Item, name, text string) (err error) {
	plain := text
	if text == none {
		plain = ""
	}
	switch name {
	case "serials":
		it.Serials, err = yesNo(name, text)
	case "fragile":
		it.Fragile, err = yesNo(name, text)
	case "upright":
		it.Upright, err = yesNo(name, text)
	case "archived":
		it.Archived, err = yesNo(name, text)
	case "images":
		it.Images = strings.Fields(plain)
	case "marks":
		it.Marks = strings.Fields(plain)
	case "groups":
		it.Groups = strings.Fields(plain)
	case "parts":
		it.Parts = nil
		for _, p := range strings.Fields(plain) {
			sku := strings.TrimLeft(p, "0123456789")
			qty, nerr := strconv.ParseInt(strings.TrimSuffix(p, sku), 10, 64)
			if sku = strings.TrimLeft(sku, "×x*"); nerr != nil || sku == "" {
				return engine.Refuse("parts: %q; write such as 2×HIVE-BODY 1×HIVE-ROOF", p)
			}
			it.Parts = append(it.Parts, catalog.Part{SKU: sku, Quantity: qty})
		}
	case "price":
		it.Price, err = minorOf(name, engine.Or(plain, "0"), it.Currency)
	case "weight_g", "length_mm", "width_mm", "height_mm":
		var n int64
		if plain != "" {
			if n, err = whole(map[string]string{name: plain}, name, 0, 100_000_000); err != nil {
				return err
			}
		}
		*map[string]*int64{"weight_g": &it.WeightG, "length_mm": &it.LengthMM, "width_mm": &it.WidthMM, "height_mm": &it.HeightMM}[name] = n
	case "kind":
		it.Kind = catalog.Kind(plain)
	default:
		*map[string]*string{"family": &it.Family, "name": &it.Name, "options": &it.Options, "gtin": &it.GTIN, "category": &it.Category,
			"description":  &it.Description,
			"customs_code": &it.CustomsCode, "origin": &it.Origin, "tax_class": &it.TaxClass, "currency": &it.Currency}[name] = plain
	}
	return err
}

func lookItem(l *lookup, f map[string]string) (store.SheetRow, error) {
	out := store.SheetRow{Key: f["sku"]}
	before, there := l.items[f["sku"]]
	it := before
	it.Marks, it.Images, it.Parts, it.Groups = slices.Clone(before.Marks), slices.Clone(before.Images), slices.Clone(
		before.Parts), slices.Clone(before.Groups)
	it.SKU = f["sku"]
	if cur := f["currency"]; cur != "" && cur != none {
		it.Currency = cur
	}
	it.Currency = engine.Or(it.Currency, l.r.Currency())
	if err := itemFrom(&it, f); err != nil {
		return out, err
	}
	it.Complete(l.r.Currency())
	if err := it.Check(); err != nil {
		return out, engine.Refuse("%v", err)
	}
	if !there {
		out.Verdict, out.Changes = "add", catalog.ChangesText(catalog.Differences(catalog.Item{}, it))
		return out, nil
	}
	changes := catalog.Differences(before, it)
	if len(changes) == 0 {
		out.Verdict = "nothing"
		return out, nil
	}
	owners, err := l.r.Store.Owners(l.ctx)
	if err != nil {
		return out, err
	}
	for _, c := range changes {
		if k := l.r.ByID(owners[c.Field]); k != nil {
			return out, engine.Refuse("%s: the word of %s counts for it", c.Field, k.Rec().Name)
		}
	}
	out.Verdict, out.Changes = "change", catalog.ChangesText(changes)
	return out, nil
}

func carryItems(r *Sheets, ch *engine.Change, rows []map[string]string, who string) error {
	// Kits come after what they are made of, so that one file can hold both.
	slices.SortStableFunc(rows, func(a, b map[string]string) int {
		return map[bool]int{true: 1, false: 0}[a["parts"] != ""] - map[bool]int{true: 1, false: 0}[b["parts"] != ""]
	})
	for _, f := range rows {
		it, err := ch.Record(f["sku"])
		isNew := errors.Is(err, store.ErrNotFound)
		if err != nil && !isNew {
			return err
		}
		before := it
		it.SKU = f["sku"]
		if cur := f["currency"]; cur != "" && cur != none {
			it.Currency = cur
		}
		it.Currency = engine.Or(it.Currency, r.Currency())
		if err := itemFrom(&it, f); err != nil {
			return err
		}
		it.Complete(r.Currency())
		if err := it.Check(); err != nil {
			return engine.Refuse("%v", err)
		}
		if isNew {
			_, err = r.Listing.AddItem(ch, it, who, it.Name+" added from a sheet")
		} else if changes := catalog.Differences(before, it); len(changes) > 0 {
			err = r.Listing.ChangeItem(ch, it, who, "Changed from a sheet: "+catalog.ChangesText(changes))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func lookPrice(l *lookup, f map[string]string) (store.SheetRow, error) {
	out := store.SheetRow{Key: strings.TrimSpace(f["sku"] + " " + f["list"])}
	it, err := l.item(f["sku"])
	if err != nil {
		return out, err
	}
	before := it
	it.Prices = slices.Clone(it.Prices)
	if err := setPrice(&it, f); err != nil {
		return out, err
	}
	if f["list"] != "" {
		lists, err := l.r.Store.PriceLists(l.ctx)
		if err != nil {
			return out, err
		}
		if !slices.ContainsFunc(lists, func(p store.PriceList) bool { return p.Code == f["list"] }) {
			return out, engine.Refuse("list: there is no price list %q", f["list"])
		}
	}
	changes := catalog.Differences(before, it)
	out.Verdict, out.Changes = "change", catalog.ChangesText(changes)
	if len(changes) == 0 {
		out.Verdict = "nothing"
	}
	return out, nil
}

func setPrice(it *catalog.Item, f map[string]string) error {
	var n int64
	var err error
	if f["price"] != none {
		if n, err = minorOf("price", f["price"], it.Currency); err != nil {
			return err
		}
	}
	if f["list"] == "" {
		it.Price = n
		return nil
	}
	it.Prices = slices.DeleteFunc(it.Prices, func(p catalog.Price) bool { return p.List == f["list"] })
	if f["price"] != none {
		it.Prices = append(it.Prices, catalog.Price{List: f["list"], Price: n})
		slices.SortFunc(it.Prices, func(a, b catalog.Price) int { return strings.Compare(a.List, b.List) })
	}
	return nil
}

func carryPrices(r *Sheets, ch *engine.Change, rows []map[string]string, who string) error {
	for _, f := range rows {
		it, err := ch.Record(f["sku"])
		if err != nil {
			return err
		}
		before := it
		it.Prices = slices.Clone(it.Prices)
		if err := setPrice(&it, f); err != nil {
			return err
		}
		if changes := catalog.Differences(before, it); len(changes) > 0 {
			if err := r.Listing.ChangeItem(ch, it, who, "Changed from a sheet: "+catalog.ChangesText(changes)); err != nil {
				return err
			}
		}
	}
	return nil
}

func lookCount(l *lookup, f map[string]string) (store.SheetRow, error) {
	out := store.SheetRow{Key: strings.TrimSpace(f["sku"] + " " + f["location"] + " " + f["bin"])}
	it, err := l.stocked(f["sku"])
	if err != nil {
		return out, err
	}
	at, err := l.r.Inventory.Ours(f["location"])
	if err != nil {
		return out, err
	}
	n, err := whole(f, "counted", 0, 1_000_000_000)
	if err != nil {
		return out, err
	}
	have, err := l.r.lies(l.ctx, it.ID, at.ID, f["bin"])
	if err != nil {
		return out, err
	}
	out.Verdict, out.Changes = "change", fmt.Sprintf("%d → %d", have, n)
	if have == n {
		out.Verdict, out.Changes = "nothing", ""
	}
	return out, nil
}

// lies is what lies of an item at a location, or in one of its bins.
func (r *Sheets) lies(ctx context.Context, item, location int64, bin string) (int64, error) {
	if bin == "" {
		levels, err := r.Store.Levels(ctx, []int64{item})
		return levels[stock.Key{Item: item, Location: location}].OnHand, err
	}
	bins, err := r.Store.BinLevels(ctx, []int64{item})
	for _, b := range bins {
		if b.LocationID == location && b.Bin == bin {
			return b.OnHand, err
		}
	}
	return 0, err
}

func carryCounts(r *Sheets, ch *engine.Change, rows []map[string]string, who string) error {
	skus := make([]string, len(rows))
	for i, f := range rows {
		skus[i] = f["sku"]
	}
	items, err := r.Inventory.Stocked(ch, skus)
	if err != nil {
		return err
	}
	ids := make([]int64, 0, len(items))
	for _, it := range items {
		ids = append(ids, it.ID)
	}
	book, err := ch.Book(ids)
	if err != nil {
		return err
	}
	bins, err := ch.BinLevels(ids)
	if err != nil {
		return err
	}
	for _, f := range rows {
		at, err := r.Inventory.Ours(f["location"])
		if err != nil {
			return err
		}
		n, err := whole(f, "counted", 0, 1_000_000_000)
		if err != nil {
			return err
		}
		k := stock.Key{Item: items[f["sku"]].ID, Location: at.ID}
		have := book.Level(k).OnHand
		if f["bin"] != "" {
			have = 0
			for _, b := range bins {
				if b.ItemID == k.Item && b.LocationID == k.Location && b.Bin == f["bin"] {
					have = b.OnHand
				}
			}
		}
		if n == have {
			continue
		}
		if n > have {
			if err := r.Inventory.KnownBin(ch, at.ID, f["bin"]); err != nil {
				return err
			}
		}
		book.Post(stock.Movement{Key: k, At: ch.Now, Kind: stock.Count, OnHand: n - have, Bin: f["bin"],
			Reason: fmt.Sprintf("counted as %d in a sheet", n), Who: who, DocKind: "sheet"})
	}
	return r.Inventory.Post(ch, book)
}

func lookAdjustment(l *lookup, f map[string]string) (store.SheetRow, error) {
	out := store.SheetRow{Key: f["sku"]}
	it, err := l.stocked(f["sku"])
	if err != nil {
		return out, err
	}
	at, err := l.r.Inventory.Ours(f["location"])
	if err != nil {
		return out, err
	}
	n, err := whole(f, "change", -1_000_000, 1_000_000)
	if err != nil || n == 0 {
		return out, engine.Refuse("change: %q; a whole number other than 0 is expected", f["change"])
	}
	have, err := l.r.lies(l.ctx, it.ID, at.ID, "")
	if err != nil {
		return out, err
	}
	if have+n < 0 && n < 0 {
		return out, engine.Refuse("change: only %d on hand at %s, %d cannot be taken away", have, at.Name, -n)
	}
	out.Verdict, out.Changes = "change", fmt.Sprintf("%d → %d at %s", have, have+n, at.Name)
	return out, nil
}

func carryAdjustments(r *Sheets, ch *engine.Change, rows []map[string]string, who string) error {
	for _, f := range rows {
		n, err := whole(f, "change", -1_000_000, 1_000_000)
		if err != nil {
			return err
		}
		at, err := r.Inventory.Ours(f["location"])
		if err != nil {
			return err
		}
		items, err := r.Inventory.Stocked(ch, []string{f["sku"]})
		if err != nil {
			return err
		}
		if err := r.Inventory.PutAdjustment(ch, items[f["sku"]].ID, at, inventory.Adjustment{SKU: f["sku"], Change: n, Bin: f["bin"],
			Reason: f["reason"]}, who); err != nil {
			return err
		}
	}
	return nil
}

func lookPurchase(l *lookup, f map[string]string) (store.SheetRow, error) {
	out := store.SheetRow{Key: f["number"]}
	if _, err := l.stocked(f["sku"]); err != nil {
		return out, err
	}
	if _, err := l.r.Inventory.Ours(f["location"]); err != nil {
		return out, err
	}
	if _, err := whole(f, "quantity", 1, 1_000_000); err != nil {
		return out, err
	}
	if f["expected"] != "" {
		if _, err := time.Parse(time.DateOnly, f["expected"]); err != nil {
			return out, engine.Refuse("expected: %q is no day such as 2026-01-31", f["expected"])
		}
	}
	if _, err := l.r.Store.Purchase(l.ctx, f["number"]); err == nil {
		return out, engine.Refuse("number: there is a purchase order %s already", f["number"])
	}
	out.Verdict, out.Changes = "add", fmt.Sprintf("%s × %s from %s", f["quantity"], f["sku"], f["supplier"])
	return out, nil
}

func carryPurchase(r *Sheets, ch *engine.Change, rows []map[string]string, who string) error {
	n := inventory.NewPurchase{Number: rows[0]["number"], Supplier: rows[0]["supplier"], Location: rows[0]["location"],
		Expected: rows[0]["expected"]}
	for _, f := range rows {
		if f["supplier"] != n.Supplier || f["location"] != n.Location {
			return engine.Refuse("the rows of purchase order %s name several suppliers or locations", n.Number)
		}
	}
	var err error
	if n.Lines, err = quantitiesIn(rows); err != nil {
		return err
	}
	_, err = r.Inventory.PutPurchase(ch, n, who)
	return err
}

// quantitiesIn takes the lines of a document from the rows that name it.
func quantitiesIn(rows []map[string]string) ([]inventory.Quantity, error) {
	out := make([]inventory.Quantity, len(rows))
	for i, f := range rows {
		q, err := whole(f, "quantity", 1, 1_000_000)
		if err != nil {
			return nil, err
		}
		out[i] = inventory.Quantity{SKU: f["sku"], Quantity: q}
	}
	return out, nil
}

func lookReceipt(l *lookup, f map[string]string) (store.SheetRow, error) {
	out := store.SheetRow{Key: f["number"]}
	if _, err := l.stocked(f["sku"]); err != nil {
		return out, err
	}
	n, err := whole(f, "quantity", 1, 1_000_000)
	if err != nil {
		return out, err
	}
	p, err := l.r.Store.Purchase(l.ctx, f["number"])
	if err != nil || p.State != "open" {
		return out, engine.Refuse("number: there is no open purchase order %s", f["number"])
	}
	for _, line := range p.Lines {
		if line.SKU == f["sku"] {
			if n > line.Left() {
				return out, engine.Refuse("quantity: %d is more than is to come: %d ordered, %d received already", n, line.Ordered,
					line.Received)
			}
			out.Verdict, out.Changes = "change", fmt.Sprintf("%d of %d received", line.Received+n, line.Ordered)
			return out, nil
		}
	}
	return out, engine.Refuse("sku: %s is not on purchase order %s", f["sku"], f["number"])
}

func carryReceipt(r *Sheets, ch *engine.Change, rows []map[string]string, who string) error {
	list := make([]inventory.Arrival, len(rows))
	for i, f := range rows {
		n, err := whole(f, "quantity", 1, 1_000_000)
		if err != nil {
			return err
		}
		list[i] = inventory.Arrival{Code: f["sku"], Bin: f["bin"], Quantity: n, Serials: strings.Fields(f["serials"])}
	}
	_, err := r.Inventory.TakeArrival(ch, rows[0]["number"], list, who)
	return err
}

func lookTransfer(l *lookup, f map[string]string) (store.SheetRow, error) {
	out := store.SheetRow{Key: f["transfer"]}
	if _, err := l.stocked(f["sku"]); err != nil {
		return out, err
	}
	from, err := l.r.Inventory.Ours(f["from"])
	if err != nil {
		return out, err
	}
	to, err := l.r.Location(f["to"])
	if err != nil {
		return out, err
	}
	if from.ID == to.ID {
		return out, engine.Refuse("to: from %s to itself", from.Name)
	}
	if _, err := whole(f, "quantity", 1, 1_000_000); err != nil {
		return out, err
	}
	out.Verdict, out.Changes = "add", fmt.Sprintf("%s × %s from %s to %s", f["quantity"], f["sku"], from.Name, to.Name)
	return out, nil
}

func carryTransfer(r *Sheets, ch *engine.Change, rows []map[string]string, who string) error {
	n := inventory.NewTransfer{From: rows[0]["from"], To: rows[0]["to"], Note: rows[0]["transfer"]}
	for _, f := range rows {
		if f["from"] != n.From || f["to"] != n.To {
			return engine.Refuse("the rows of transfer %s name several places", n.Note)
		}
	}
	var err error
	if n.Lines, err = quantitiesIn(rows); err != nil {
		return err
	}
	_, err = r.Inventory.PutTransfer(ch, n, who)
	return err
}

func lookMatch(l *lookup, f map[string]string) (store.SheetRow, error) {
	out := store.SheetRow{Key: f["connection"] + " " + f["listing"]}
	x, err := l.r.Store.Listing(l.ctx, f["connection"], f["listing"])
	if err != nil || x.OutsideID != f["listing"] {
		return out, engine.Refuse("listing: %s has no listing %s", f["connection"], f["listing"])
	}
	out.Verdict, out.Changes = "change", f["item"]
	switch f["item"] {
	case "ignore":
		if x.ItemID != 0 {
			return out, engine.Refuse("item: the listing is matched; end the match first")
		}
		if x.IgnoredAt != 0 {
			out.Verdict = "nothing"
		}
	case none:
		if x.ItemID == 0 && x.IgnoredAt == 0 {
			out.Verdict = "nothing"
		}
	default:
		it, err := l.r.Store.Item(l.ctx, f["item"])
		if err != nil {
			return out, engine.Refuse("item: there is no item %s", f["item"])
		}
		if it.Archived {
			return out, engine.Refuse("item: %s is archived", f["item"])
		}
		if x.ItemID == it.ID {
			out.Verdict = "nothing"
		}
	}
	return out, nil
}

func carryMatches(r *Sheets, ch *engine.Change, rows []map[string]string, who string) error {
	for _, f := range rows {
		c := r.ByCode(f["connection"])
		if c == nil {
			return engine.Refuse("connection: there is no connection %s", f["connection"])
		}
		l, err := ch.ListingOf(c.ID, f["listing"])
		if err != nil {
			return err
		}
		l.MatchedBy, l.Doubt = catalog.ByPerson, ""
		switch f["item"] {
		case "ignore":
			l.ItemID, l.IgnoredAt, l.IgnoredBy = 0, ch.Now.UnixMicro(), who
		case none:
			l.ItemID, l.IgnoredAt, l.IgnoredBy, l.MatchedBy = 0, 0, "", ""
		default:
			items, err := ch.ItemsBySKU([]string{f["item"]})
			if err != nil {
				return err
			}
			if l.ItemID = items[f["item"]]; l.ItemID == 0 {
				return engine.Refuse("item: there is no item %s", f["item"])
			}
			l.IgnoredAt, l.IgnoredBy = 0, ""
		}
		if err := ch.SetMatch(l); err != nil {
			return err
		}
		ch.Tell("listing", l.SKU)
		if l.ItemID != 0 {
			listing.Matched(ch, &l)
		}
	}
	return nil
}
