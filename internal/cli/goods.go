package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/core/catalog"
	"openrelay/internal/core/money"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/listing"
	"openrelay/internal/relay/sheets"
	"openrelay/internal/wire"
)

func momentFlag(to *time.Time) func(string) error {
	return func(text string) (err error) {
		*to, err = time.Parse(time.RFC3339, text)
		if err != nil {
			err = errors.New("a moment such as 2026-01-31T12:00:00Z is expected")
		}
		return err
	}
}

// lines collects SKU=QUANTITY.
type lines []inventory.Quantity

func (l *lines) add(text string) error {
	sku, n, ok := strings.Cut(text, "=")
	qty, err := strconv.ParseInt(n, 10, 64)
	if !ok || sku == "" || err != nil {
		return errors.New("SKU=QUANTITY is expected")
	}
	*l = append(*l, inventory.Quantity{SKU: sku, Quantity: qty})
	return nil
}

func number(text string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0, usage{fmt.Sprintf("%q: a number is expected", text)}
	}
	return n, nil
}

// setItem writes fields of an item as they are given on the command line.
func setItem(it *catalog.Item, set map[string]string) error {
	for k, v := range set {
		switch k {
		case "marks":
			it.Marks = strings.Fields(v)
		case "images":
			it.Images = strings.Fields(v)
		case "groups":
			it.Groups = strings.Fields(v)
		case "serials":
			it.Serials = v == "yes"
		case "price":
			n, err := money.Parse(v, it.Currency)
			if err != nil {
				return usage{fmt.Sprintf("price %q: %v", v, err)}
			}
			it.Price = n
		case "parts":
			it.Parts = nil
			for _, p := range strings.Fields(v) {
				sku, n, ok := strings.Cut(p, "=")
				qty, err := strconv.ParseInt(n, 10, 64)
				if !ok || err != nil {
					return usage{fmt.Sprintf("parts %q: write such as HIVE-BODY=2 HIVE-ROOF=1", p)}
				}
				it.Parts = append(it.Parts, catalog.Part{SKU: sku, Quantity: qty})
			}
		case "weight_g", "length_mm", "width_mm", "height_mm":
			n, err := number(v)
			if err != nil {
				return err
			}
			*map[string]*int64{"weight_g": &it.WeightG, "length_mm": &it.LengthMM, "width_mm": &it.WidthMM, "height_mm": &it.HeightMM}[k] = n
		case "kind":
			it.Kind = catalog.Kind(v)
		default:
			to, ok := map[string]*string{"sku": &it.SKU, "name": &it.Name, "family": &it.Family, "options": &it.Options, "gtin": &it.GTIN, "category": &it.Category, "description": &it.Description,
				"customs_code": &it.CustomsCode, "origin": &it.Origin, "tax_class": &it.TaxClass, "currency": &it.Currency}[k]
			if !ok {
				return usage{fmt.Sprintf("there is no field %q; there are %s", k, strings.Join(catalog.Fields(), ", "))}
			}
			*to = v
		}
	}
	return nil
}

func showRecord(p *printer, it catalog.Item, err error) error {
	if err != nil {
		return err
	}
	return p.show(it, func(row func(...any)) {
		for _, f := range catalog.Fields() {
			if text := catalog.Text(it, f); text != "" {
				row(f, text)
			}
		}
	})
}

func listingTable(row func(...any), list []wire.Listing) {
	row("Listing", "Channel", "Number", "SKU", "Title", "Price", "State", "Shows", "Item", "How", "")
	for _, l := range list {
		item, how, note := l.Item, l.MatchedBy, l.Doubt
		if l.IgnoredBy != "" {
			item, how = "ignored", "by "+l.IgnoredBy
		}
		if l.Reason != "" {
			note = l.Reason
		}
		row(l.ID, l.ConnectionName, l.Number, l.SKU, l.Title, amount(l.Price, l.Currency), l.State, l.Shows, item, how, note)
		if l.Waiting > 0 {
			row("", "", "", "", fmt.Sprintf("%d orders wait for it", l.Waiting))
		}
		for _, s := range l.Suggestions {
			row("", "", "", "", fmt.Sprintf("%d%% %s: %s", s.Score, s.SKU, strings.Join(s.Reasons, ", ")))
		}
	}
}

func showListing(p *printer, l wire.Listing, err error) error {
	if err != nil {
		return err
	}
	return p.show(l, func(row func(...any)) { listingTable(row, []wire.Listing{l}) })
}

func showPurchase(p *printer, x wire.Purchase, err error) error {
	if err != nil {
		return err
	}
	return p.show(x, func(row func(...any)) {
		row("Purchase order", x.Number, x.State, x.Supplier, "to "+x.LocationName, x.Expected)
		row("SKU", "Name", "Bin", "Ordered", "Received", "Left")
		for _, l := range x.Lines {
			row(l.SKU, l.Name, l.Bin, l.Ordered, l.Received, l.Left)
		}
	})
}

func showTransfer(p *printer, x wire.Transfer, err error) error {
	if err != nil {
		return err
	}
	return p.show(x, func(row func(...any)) {
		row("Transfer", x.Number, x.State, x.FromName+" to "+x.ToName)
		row("SKU", "Name", "Quantity", "Arrived", "Lost", "Left")
		for _, l := range x.Lines {
			row(l.SKU, l.Name, l.Quantity, l.Arrived, l.Lost, l.Left)
		}
	})
}

func showCount(p *printer, x wire.Count, err error) error {
	if err != nil {
		return err
	}
	return p.show(x, func(row func(...any)) {
		row("Count", x.Number, x.State, x.LocationName, fmt.Sprintf("%d lines, %d differ", x.Counted, x.Differ))
		row("SKU", "Name", "Bin", "Counted", "Should lie", "Difference")
		for _, l := range x.Lines {
			row(l.SKU, l.Name, l.Bin, l.Counted, l.Expected, fmt.Sprintf("%+d", l.Counted-l.Expected))
		}
	})
}

// goods are the commands about the catalog and the stock.
func goods() []command {
	var (
		connection, match, state, search, mark, sku, note, supplier, expected, reason, bin, out, key string
		quantity                                                                                     int64
		every, yes, over, read, correct, add, off                                                    bool
		set                                                                                          pairs
		want                                                                                         rows
		qty                                                                                          lines
		serials                                                                                      []string
		policy                                                                                       stock.Override
		own                                                                                          listing.Own
	)
	reset := func() { qty, serials, policy, own = nil, nil, stock.Override{}, listing.Own{} }
	optional := func(f *flag.FlagSet, name string, to **int64, about string) {
		f.Func(name, about, func(text string) error {
			n, err := strconv.ParseInt(text, 10, 64)
			*to = &n
			return err
		})
	}
	opts := func() []client.Option {
		if key == "" {
			return nil
		}
		return []client.Option{client.Key(key)}
	}
	lineFlag := func(f *flag.FlagSet) {
		reset()
		f.Func("line", "`SKU=QUANTITY`; may be given several times", qty.add)
		f.StringVar(&key, "key", "", "makes the command safe to repeat: the same key does it once")
	}
	return []command{
		verbs("catalog", "Items: create, show, change, archive", func(f *flag.FlagSet) {
			set = pairs{}
			f.Var(&set, "set", "a field as `name=value`, such as price=12.90 or marks='web gift' or parts='HIVE-BODY=2 HIVE-ROOF=1'")
		}, []verb{
			{"show", "SKU", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				it, err := c.Record(ctx, a[0])
				return showRecord(p, it, err)
			}},
			{"create", "SKU NAME", 2, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				it := catalog.Item{SKU: a[0], Name: a[1], Currency: "EUR", Kind: catalog.Stocked}
				if err := setItem(&it, set.m); err != nil {
					return err
				}
				it, err := c.CreateItem(ctx, it)
				return showRecord(p, it, err)
			}},
			{"edit", "SKU", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				it, err := c.Record(ctx, a[0])
				if err != nil {
					return err
				}
				if err := setItem(&it, set.m); err != nil {
					return err
				}
				it, err = c.EditItem(ctx, a[0], it)
				return showRecord(p, it, err)
			}},
			{"archive", "SKU", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				it, err := c.Archive(ctx, a[0], true)
				return showRecord(p, it, err)
			}},
			{"restore", "SKU", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				it, err := c.Archive(ctx, a[0], false)
				return showRecord(p, it, err)
			}},
		}),
		noun("listings", "", "List listings; those that wait with what they may be", 0, 0, func(f *flag.FlagSet) {
			f.StringVar(&connection, "connection", "", "only this connection (its code)")
			f.StringVar(&match, "match", "", `only "matched", "to match" or "ignored"`)
			f.StringVar(&state, "state", "", "only this state: live, off, in review, rejected, submitted")
			f.StringVar(&search, "q", "", "part of SKU or title, the channel's number, or a GTIN")
			want.flags(f)
		}, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
			list, more, err := listed[wire.Listing](ctx, c, "/listings", query("connection", connection, "match", match, "state", state, "q", search), &want)
			if err != nil {
				return err
			}
			defer func() { p.cut(len(list), more) }()
			return p.show(list, func(row func(...any)) { listingTable(row, list) })
		}),
		verbs("listing", "Say which item a listing is, or how it is offered; LISTING is the number that openrelay listings shows", func(f *flag.FlagSet) {
			reset()
			f.BoolVar(&every, "every", false, "match: all listings of the channel with its SKU")
			f.StringVar(&sku, "sku", "", "create: another SKU than the listing's")
			optional(f, "buffer", &policy.Buffer, "offer: `units` kept back")
			optional(f, "percent", &policy.BufferPercent, "offer: `hundredths` kept back")
			optional(f, "cap", &policy.Cap, "offer: show no more than these `units`")
			optional(f, "floor", &policy.Floor, "offer: show nothing below these `units`")
			f.BoolFunc("off", "offer: offer nothing", func(string) error { t := true; policy.Off = &t; return nil })
			f.StringVar(&own.Title, "title", "", "own: title on this channel only")
			f.StringVar(&own.Description, "description", "", "own: description on this channel only")
			f.StringVar(&own.Category, "category", "", "own: category on this channel only")
			f.Int64Var(&own.Price, "price", 0, "own: price on this channel only, in minor `units`")
		}, []verb{
			{"match", "LISTING ITEM", 2, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				id, err := number(a[0])
				if err != nil {
					return err
				}
				l, err := c.Match(ctx, id, a[1], every)
				return showListing(p, l, err)
			}},
			{"create", "LISTING", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				id, err := number(a[0])
				if err != nil {
					return err
				}
				l, err := c.CreateFrom(ctx, id, sku)
				return showListing(p, l, err)
			}},
			{"ignore", "LISTING", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				id, err := number(a[0])
				if err != nil {
					return err
				}
				l, err := c.Ignore(ctx, id, true)
				return showListing(p, l, err)
			}},
			{"notice", "LISTING", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				id, err := number(a[0])
				if err != nil {
					return err
				}
				l, err := c.Ignore(ctx, id, false)
				return showListing(p, l, err)
			}},
			{"unmatch", "LISTING", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				id, err := number(a[0])
				if err != nil {
					return err
				}
				l, err := c.Unmatch(ctx, id)
				return showListing(p, l, err)
			}},
			{"offer", "LISTING", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				id, err := number(a[0])
				if err != nil {
					return err
				}
				l, err := c.SetPolicy(ctx, id, policy)
				return showListing(p, l, err)
			}},
			{"own", "LISTING", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				id, err := number(a[0])
				if err != nil {
					return err
				}
				l, err := c.SetOwn(ctx, id, own)
				return showListing(p, l, err)
			}},
		}),
		noun("publish", "CONNECTION [SKU …]", "Show exactly what listing items on a channel would send; send it with -yes", 1, -1, func(f *flag.FlagSet) {
			f.StringVar(&mark, "mark", "", "all items with this mark")
			f.BoolVar(&yes, "yes", false, "send it")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			sel := listing.Selection{SKUs: a[1:], Mark: mark}
			v, err := c.PreviewPublish(ctx, a[0], sel)
			if err != nil {
				return err
			}
			if err := p.show(v, func(row func(...any)) {
				row("SKU", "Name", "Action", "Price", "Quantity", "")
				for _, r := range v.Rows {
					row(r.SKU, r.Name, r.Action, amount(r.Message.Price, r.Message.Currency), r.Message.Quantity, r.Reason)
				}
				for _, x := range v.Requests {
					row(x.Method+" "+x.URL, "", "", "", "", "")
					row(x.Body, "", "", "", "", "")
				}
			}); err != nil || !yes || v.Sent == 0 {
				return err
			}
			n, err := c.Publish(ctx, a[0], sel, v.Digest)
			if err == nil && !p.json {
				fmt.Fprintf(p.w, "%d sent\n", n)
			}
			return err
		}),
		verbs("purchase", "Purchase orders: order goods, receive them, close", func(f *flag.FlagSet) {
			lineFlag(f)
			f.StringVar(&supplier, "number", "", "add: its number; empty takes the next of ours")
			f.StringVar(&expected, "expected", "", "add: `day` on which it should come, such as 2026-01-31")
			f.StringVar(&note, "note", "", "add: a note")
			f.StringVar(&state, "state", "", "list: open or closed")
			f.StringVar(&bin, "bin", "", "receive: where it was put; empty takes the usual bin")
			f.Int64Var(&quantity, "n", 1, "receive: `units`")
			f.BoolVar(&over, "over", false, "receive: more than was ordered, or what was not, is meant")
			f.Func("serial", "receive: a serial `number`; one for each unit", func(s string) error { serials = append(serials, s); return nil })
		}, []verb{
			{"list", "", 0, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
				list, err := c.Purchases(ctx, query("state", state))
				if err != nil {
					return err
				}
				return p.show(list, func(row func(...any)) {
					row("Number", "Supplier", "To", "State", "Expected", "Ordered", "Received", "Made")
					for _, x := range list {
						row(x.Number, x.Supplier, x.LocationName, x.State, x.Expected, x.Ordered, x.Received, x.CreatedAt)
					}
				})
			}},
			{"show", "NUMBER", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				x, err := c.Purchase(ctx, a[0])
				return showPurchase(p, x, err)
			}},
			{"add", "SUPPLIER LOCATION", 2, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				x, err := c.AddPurchase(ctx, inventory.NewPurchase{Number: supplier, Supplier: a[0], Location: a[1], Expected: expected, Note: note, Lines: qty}, opts()...)
				return showPurchase(p, x, err)
			}},
			{"receive", "NUMBER CODE", 2, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				x, err := c.Receive(ctx, a[0], []inventory.Arrival{{Code: a[1], Bin: bin, Quantity: quantity, Serials: serials, Over: over}}, opts()...)
				return showPurchase(p, x, err)
			}},
			{"close", "NUMBER", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				x, err := c.ClosePurchase(ctx, a[0])
				return showPurchase(p, x, err)
			}},
		}),
		verbs("transfer", "Transfers between locations: prepare, send, let arrive, give up", func(f *flag.FlagSet) {
			lineFlag(f)
			f.StringVar(&state, "state", "", "list: draft, under way or closed")
			f.StringVar(&note, "note", "", "add: a note")
			f.StringVar(&reason, "reason", "", "lose: what became of it")
		}, []verb{
			{"list", "", 0, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
				list, err := c.Transfers(ctx, query("state", state))
				if err != nil {
					return err
				}
				return p.show(list, func(row func(...any)) {
					row("Number", "From", "To", "State", "Units", "Arrived", "Lost", "Made")
					for _, x := range list {
						row(x.Number, x.FromName, x.ToName, x.State, x.Units, x.Arrived, x.Lost, x.CreatedAt)
					}
				})
			}},
			{"show", "NUMBER", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				x, err := c.Transfer(ctx, a[0])
				return showTransfer(p, x, err)
			}},
			{"add", "FROM TO", 2, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				x, err := c.AddTransfer(ctx, inventory.NewTransfer{From: a[0], To: a[1], Note: note, Lines: qty}, opts()...)
				return showTransfer(p, x, err)
			}},
			{"send", "NUMBER", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				x, err := c.MoveTransfer(ctx, a[0], "send", nil, "", opts()...)
				return showTransfer(p, x, err)
			}},
			{"arrive", "NUMBER", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				var items []inventory.Arrival
				for _, q := range qty {
					items = append(items, inventory.Arrival{Code: q.SKU, Quantity: q.Quantity})
				}
				x, err := c.MoveTransfer(ctx, a[0], "arrive", items, "", opts()...)
				return showTransfer(p, x, err)
			}},
			{"lose", "NUMBER", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				x, err := c.MoveTransfer(ctx, a[0], "lose", nil, reason, opts()...)
				return showTransfer(p, x, err)
			}},
			{"drop", "NUMBER", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				x, err := c.MoveTransfer(ctx, a[0], "drop", nil, "", opts()...)
				return showTransfer(p, x, err)
			}},
		}),
		verbs("count", "Count what lies at a location, and book the differences", func(f *flag.FlagSet) {
			f.StringVar(&state, "state", "", "list: open, posted or dropped")
			f.StringVar(&bin, "bin", "", "note: the bin that was counted; empty takes the usual one")
			f.BoolVar(&add, "add", false, "note: add to what was counted there before")
		}, []verb{
			{"list", "", 0, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
				list, err := c.Counts(ctx, query("state", state))
				if err != nil {
					return err
				}
				return p.show(list, func(row func(...any)) {
					row("Number", "Location", "State", "Lines", "Differ", "Begun")
					for _, x := range list {
						row(x.Number, x.LocationName, x.State, x.Counted, x.Differ, x.CreatedAt)
					}
				})
			}},
			{"start", "LOCATION", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				x, err := c.StartCount(ctx, a[0])
				return showCount(p, x, err)
			}},
			{"note", "NUMBER CODE QUANTITY", 3, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				n, err := number(a[2])
				if err != nil {
					return err
				}
				x, err := c.CountItem(ctx, a[0], inventory.Counted{Code: a[1], Bin: bin, Quantity: n, Add: add})
				return showCount(p, x, err)
			}},
			{"show", "NUMBER", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				x, err := c.Count(ctx, a[0])
				return showCount(p, x, err)
			}},
			{"post", "NUMBER", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				x, err := c.EndCount(ctx, a[0], "post")
				return showCount(p, x, err)
			}},
			{"drop", "NUMBER", 1, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				x, err := c.EndCount(ctx, a[0], "drop")
				return showCount(p, x, err)
			}},
		}),
		noun("compare", "", "Compare what channels show with what they should; correct it with -correct", 0, 0, func(f *flag.FlagSet) {
			f.StringVar(&connection, "connection", "", "only this connection (its code)")
			f.BoolVar(&read, "read", false, "read what they show now; it takes a moment, compare again afterwards")
			f.BoolVar(&correct, "correct", false, "send the right quantity for every listing that differs")
		}, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
			if read {
				list, err := c.ReadListings(ctx, connection)
				if err != nil {
					return err
				}
				return p.show(list, func(row func(...any)) { row("Reading", strings.Join(list, ", ")) })
			}
			v, err := c.Compare(ctx, connection)
			if err != nil {
				return err
			}
			if err := p.show(v, func(row func(...any)) {
				row(fmt.Sprintf("%d listings compared, %d differ", v.Compared, len(v.Differences)))
				for _, d := range v.Differences {
					row(d.ConnectionName, d.SKU, fmt.Sprintf("shows %d, should show %d", d.Shows, d.Should), d.Guess)
				}
			}); err != nil || !correct {
				return err
			}
			n, err := c.Correct(ctx, connection)
			if err == nil && !p.json {
				fmt.Fprintf(p.w, "%d corrected\n", n)
			}
			return err
		}),
		noun("import", "KIND FILE", "Look at a CSV file row by row; carry it out with -yes", 2, 2, func(f *flag.FlagSet) {
			f.BoolVar(&yes, "yes", false, "carry it out")
			f.BoolVar(&off, "all", false, "show all rows, not only those that are refused")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			f, err := os.Open(a[1])
			if err != nil {
				return err
			}
			defer f.Close()
			s, err := c.HandIn(ctx, a[0], filepath.Base(a[1]), f)
			if err == nil && yes && s.State == "checked" {
				s, err = c.ApplySheet(ctx, s.ID)
			}
			if err != nil {
				return err
			}
			show := "refused"
			if off {
				show = ""
			}
			rows, err := c.SheetRows(ctx, s.ID, query("verdict", show, "limit", "200"))
			if err != nil {
				return err
			}
			return p.show(s, func(row func(...any)) {
				row(fmt.Sprintf("Sheet %d: %s, %s, %d rows, %s", s.ID, s.Kind, s.State, s.Total, s.Form.Encoding), s.Error)
				for _, n := range s.Counts {
					row("", n.Verdict, n.Count)
				}
				for _, r := range rows {
					row(fmt.Sprintf("row %d", r.Row), r.Verdict, r.Key, r.Changes+r.Reason)
				}
			})
		}),
		noun("save", "KIND", "Save a table as CSV", 1, 1, func(f *flag.FlagSet) {
			f.StringVar(&out, "o", "", "`file` to write; without it KIND.csv, - is the screen")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			if out == "-" {
				return c.Save(ctx, a[0], p.w)
			}
			name := out
			if name == "" {
				name = sheets.SheetName(a[0])
			}
			f, err := os.Create(name)
			if err != nil {
				return err
			}
			if err := c.Save(ctx, a[0], f); err != nil {
				f.Close()
				os.Remove(name)
				return err
			}
			if err := f.Close(); err != nil {
				return err
			}
			if !p.json {
				fmt.Fprintf(p.w, "%s written\n", name)
			}
			return nil
		}),
	}
}
