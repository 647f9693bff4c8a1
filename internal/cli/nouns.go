package cli

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/url"
	"os"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/core/message"
	"openrelay/internal/core/money"
	"openrelay/internal/core/picking"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

// noun wraps a client command with the flags they all have.
func noun(name, args, about string, least, most int, flags func(*flag.FlagSet), run func(ctx context.Context, c *client.Client, p *printer, a []string) error) command {
	return command{name, args, about, func(ctx context.Context, e *Env, f *flag.FlagSet, raw []string) error {
		server := f.String("server", "", "`address` of the service; else OPENRELAY_SERVER, else http://127.0.0.1:8410")
		tokenFile := f.String("token-file", "", "`file` that holds the API token; else OPENRELAY_TOKEN")
		asJSON := f.Bool("json", false, "print JSON")
		if flags != nil {
			flags(f)
		}
		if err := parse(f, raw, least, most); err != nil {
			return err
		}
		if *server == "" {
			*server = e.Getenv("OPENRELAY_SERVER")
		}
		if *server == "" {
			*server = "http://127.0.0.1:8410"
		}
		token := e.Getenv("OPENRELAY_TOKEN")
		if *tokenFile != "" {
			b, err := os.ReadFile(*tokenFile)
			if err != nil {
				return err
			}
			token = strings.TrimSpace(string(b))
		}
		return run(ctx, client.New(*server, token), &printer{e.Out, e.Err, *asJSON}, f.Args())
	}}
}

// printer prints a table for people or JSON for programs.
type printer struct {
	w    io.Writer
	err  io.Writer // what is no part of the answer
	json bool
}

func printJSON(w io.Writer, v any) error {
	enc := json.NewEncoder(w)
	enc.SetIndent("", "  ")
	return enc.Encode(v)
}

// show prints v as JSON, or lets table write it.
func (p *printer) show(v any, table func(row func(cells ...any))) error {
	if p.json {
		return printJSON(p.w, v)
	}
	t := tabwriter.NewWriter(p.w, 0, 4, 2, ' ', 0)
	table(func(cells ...any) {
		for i, c := range cells {
			if i > 0 {
				fmt.Fprint(t, "\t")
			}
			switch x := c.(type) {
			case *time.Time:
				if x != nil {
					fmt.Fprint(t, x.Local().Format("2006-01-02 15:04:05"))
				}
			default:
				fmt.Fprint(t, x)
			}
		}
		fmt.Fprintln(t)
	})
	return t.Flush()
}

func amount(minor int64, currency string) string {
	if currency == "" {
		return ""
	}
	return money.Amount{Minor: minor, Currency: currency}.String()
}

func query(pairs ...string) string {
	q := url.Values{}
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] != "" && pairs[i+1] != "0" {
			q.Set(pairs[i], pairs[i+1])
		}
	}
	return q.Encode()
}

func nouns() []command {
	var (
		stage, connection, search, location, bin, from, schedule, size, out, state, carrier, service, reason, key string
		quantity, weight                                                                                          int64
		want                                                                                                      rows
		off                                                                                                       bool
	)
	var moment time.Time
	serials := map[string][]string{}
	return []command{
		noun("board", "", "Everything at a glance", 0, 0, nil, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
			b, err := c.Board(ctx)
			if err != nil {
				return err
			}
			return p.show(b, func(row func(...any)) {
				row("Stage", "Orders", "Oldest")
				for _, s := range b.Stages {
					row(s.Stage, s.Count, s.Oldest)
				}
				row()
				row("Connection", "Lamp", "Today", "Waiting", "Last good run")
				for _, x := range b.Connections {
					row(x.Name, x.Lamp.State+": "+x.Lamp.Text, x.Orders, x.Waiting, x.LastOK)
				}
			})
		}),
		noun("orders", "", "List orders, newest first", 0, 0, func(f *flag.FlagSet) {
			f.StringVar(&stage, "stage", "", "only this stage, or several by comma")
			f.StringVar(&connection, "connection", "", "only from this connection (its code)")
			f.StringVar(&search, "q", "", "words of order, channel or tracking numbers, names, SKUs")
			f.StringVar(&state, "state", "", "only this state, in the channel's word")
			f.StringVar(&location, "tag", "", "only with this tag")
			f.StringVar(&from, "from", "", "taken in on this `day` or later, YYYY-MM-DD")
			f.StringVar(&out, "csv", "", "write all of them to this `file` as CSV")
			want.flags(f)
		}, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
			filter := query("stage", stage, "connection", connection, "q", search, "state", state, "tag", location, "from", from)
			if out != "" {
				raw, _, err := c.Raw(ctx, "GET", "/api/v1/orders.csv?"+filter, nil)
				if err != nil {
					return err
				}
				return os.WriteFile(out, raw, 0o600)
			}
			list, more, err := listed[wire.OrderRow](ctx, c, "/orders", filter, &want)
			if err != nil {
				return err
			}
			defer func() { p.cut(len(list), more) }()
			return p.show(list, func(row func(...any)) {
				row("Order", "Channel", "Channel number", "Channel state", "Stage", "Buyer", "Units", "Total", "Placed")
				for _, o := range list {
					row(o.Number, o.ConnectionName, o.ChannelNumber, o.ChannelState, o.Stage, o.Buyer, o.Units, amount(o.Total, o.Currency), o.PlacedAt)
				}
			})
		}),
		noun("order", "NUMBER", "Show one order with everything known about it", 1, 1, nil, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			o, err := c.Order(ctx, a[0])
			if err != nil {
				return err
			}
			return p.show(o, func(row func(...any)) { orderTable(o, row) })
		}),
		noun("release", "NUMBER CAUSE", "Let an order go on although it is held", 2, 2, nil, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			o, err := c.Release(ctx, a[0], a[1])
			if err != nil {
				return err
			}
			return p.show(o, func(row func(...any)) { row("Order", o.Number, "is", o.Stage) })
		}),
		noun("stock", "", "List levels by item and location", 0, 0, func(f *flag.FlagSet) {
			f.StringVar(&search, "q", "", "part of SKU or name, or a GTIN")
			f.StringVar(&location, "location", "", "only this location (its code)")
			f.StringVar(&state, "state", "", "only what is negative, short, low or coming")
			want.flags(f)
		}, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
			list, more, err := listed[wire.Level](ctx, c, "/stock", query("q", search, "location", location, "state", state), &want)
			if err != nil {
				return err
			}
			defer func() { p.cut(len(list), more) }()
			return p.show(list, func(row func(...any)) {
				row("SKU", "Name", "Location", "Bin", "On hand", "Allocated", "Available", "On order", "In transit")
				for _, l := range list {
					row(l.SKU, l.Name, l.LocationName, l.Bin, l.OnHand, l.Allocated, l.Available, l.OnOrder, l.InTransit)
				}
			})
		}),
		noun("items", "", "List items", 0, 0, func(f *flag.FlagSet) {
			f.StringVar(&search, "q", "", "part of SKU or name, or a GTIN")
			f.StringVar(&state, "kind", "", "only stocked, kit, made to order, prepared or charge")
			f.StringVar(&reason, "mark", "", "only those that carry a mark")
			f.BoolVar(&off, "archived", false, "those that are archived")
			want.flags(f)
		}, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
			list, more, err := listed[store.Item](ctx, c, "/items", query("q", search, "kind", state, "mark", reason, "archived", map[bool]string{true: "true"}[off]), &want)
			if err != nil {
				return err
			}
			defer func() { p.cut(len(list), more) }()
			return p.show(list, func(row func(...any)) {
				row("SKU", "Kind", "GTIN", "Name", "Options", "Category", "Price", "Weight g")
				for _, i := range list {
					row(i.SKU, i.Kind, i.GTIN, i.Name, i.Options, i.Category, amount(i.Price, i.Currency), i.WeightG)
				}
			})
		}),
		noun("item", "SKU", "Show an item with stock, ledger and listings", 1, 1, func(f *flag.FlagSet) {
			moment = time.Time{}
			f.Func("at", "its stock at a `moment` of the last 90 days, such as 2026-01-31T12:00:00Z", momentFlag(&moment))
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			v, err := c.ItemAt(ctx, a[0], moment)
			if err != nil {
				return err
			}
			return p.show(v, func(row func(...any)) { itemTable(v, row) })
		}),
		noun("adjust", "SKU LOCATION CHANGE", "Change what lies at a location, such as +5 or -2", 3, 3, func(f *flag.FlagSet) {
			f.StringVar(&reason, "reason", "", "why; it stands in the ledger")
			f.StringVar(&key, "key", "", "makes the command safe to repeat: the same key changes the stock once")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			n, err := strconv.ParseInt(strings.TrimPrefix(a[2], "+"), 10, 64)
			if err != nil {
				return usage{fmt.Sprintf("change %q: a whole number is expected", a[2])}
			}
			var opts []client.Option
			if key != "" {
				opts = append(opts, client.Key(key))
			}
			if n >= 0 && !strings.HasPrefix(a[2], "+") {
				p.say("%d are added to what lies there; to set a number, post a count", n)
			}
			v, err := c.Adjust(ctx, a[0], a[1], n, reason, opts...)
			if err != nil {
				return err
			}
			return p.show(v, func(row func(...any)) {
				for _, l := range v.Levels {
					if l.Location == a[1] {
						row(fmt.Sprintf("%+d", n), a[0], "at "+l.LocationName+":", fmt.Sprintf("%d on hand before, %d now", l.OnHand-n, l.OnHand))
					}
				}
				row()
				itemTable(v, row)
			})
		}),
		noun("why", "CONNECTION SKU", "Why does a channel show this quantity", 2, 2, func(f *flag.FlagSet) {
			moment = time.Time{}
			f.Func("at", "at a `moment` of the last 90 days, such as 2026-01-31T12:00:00Z", momentFlag(&moment))
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			v, err := c.WhyAt(ctx, a[0], a[1], moment)
			if err != nil {
				return err
			}
			return p.show(v, func(row func(...any)) {
				shows := fmt.Sprint(v.Shows)
				if !v.Known {
					shows = "nothing that is known"
				}
				row(v.Listing.ConnectionName, map[bool]string{true: "shows", false: "showed"}[v.At == nil], shows, "of", v.Listing.SKU)
				for _, s := range v.Steps {
					row("", fmt.Sprintf("%+d", s.Change), "", s.Text, fmt.Sprintf("= %d", s.Result))
				}
				if v.Waiting != nil {
					row("", "a correction is", v.Waiting.State)
				}
				for _, x := range v.Promised {
					row("", "held by", x.Quantity, "order "+x.OrderNumber, x.Stage)
				}
			})
		}),
		noun("connections", "", "List connections and how they stand", 0, 0, nil, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
			list, err := c.Connections(ctx)
			if err != nil {
				return err
			}
			return p.show(list, func(row func(...any)) {
				row("Code", "Name", "Connector", "Side", "Lamp", "Orders today", "Waiting", "Refused", "Last good run")
				for _, x := range list {
					row(x.Code, x.Name, x.Title, x.Side, x.Lamp.State+": "+x.Lamp.Text, x.Orders, x.Waiting, x.Refused, x.LastOK)
				}
			})
		}),
		noun("feeds", "CONNECTION", "List the feeds of a connection", 1, 1, nil, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			x, err := c.Connection(ctx, a[0])
			if err != nil {
				return err
			}
			return p.show(x.Feeds, func(row func(...any)) { feedTable(x, row) })
		}),
		noun("feed", "CONNECTION KIND", "Switch a feed on (or off with -off), set its schedule", 2, 2, func(f *flag.FlagSet) {
			f.BoolVar(&off, "off", false, "switch it off")
			f.StringVar(&schedule, "schedule", "", "five cron fields or \"@every 30s\"; empty means the connector's own")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			x, err := c.Connection(ctx, a[0])
			if err != nil {
				return err
			}
			for _, fd := range x.Feeds {
				if string(fd.Kind) == a[1] {
					if x, err = c.SetFeed(ctx, a[0], fd.Kind, !off, schedule, fd.Revision); err != nil {
						return err
					}
					return p.show(x.Feeds, func(row func(...any)) { feedTable(x, row) })
				}
			}
			return fmt.Errorf("%s has no feed %q", a[0], a[1])
		}),
		noun("pause", "CONNECTION", "Pause a connection (or resume it with -off)", 1, 1, func(f *flag.FlagSet) { f.BoolVar(&off, "off", false, "resume") },
			func(ctx context.Context, c *client.Client, p *printer, a []string) error {
				x, err := c.Connection(ctx, a[0])
				if err != nil {
					return err
				}
				if x, err = c.Pause(ctx, a[0], !off, x.Revision); err != nil {
					return err
				}
				return p.show(x, func(row func(...any)) { row(x.Name, x.Lamp.Text) })
			}),
		noun("test", "CONNECTION", "Ask the other side who we are there", 1, 1, nil, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			id, err := c.Test(ctx, a[0])
			if err != nil {
				return err
			}
			return p.show(id, func(row func(...any)) { row("Let in as", id.Name, "number "+id.Number, id.Country) })
		}),
		noun("run", "CONNECTION KIND", "Run a feed now, or load it again from a time", 2, 2, func(f *flag.FlagSet) {
			f.StringVar(&from, "from", "", "load again from this `time` on, such as 2026-01-31T00:00:00Z")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			id, err := c.RunNow(ctx, a[0], message.Feed(a[1]), from)
			if err != nil {
				return err
			}
			return p.show(map[string]int64{"run": id}, func(row func(...any)) {
				if id == 0 {
					row("Begun.")
					return
				}
				row("Run", id, "has begun; see it with: openrelay log "+fmt.Sprint(id))
			})
		}),
		noun("runs", "", "List runs, newest first", 0, 0, func(f *flag.FlagSet) {
			f.StringVar(&connection, "connection", "", "only of this connection")
			want.flags(f)
		}, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
			list, more, err := listed[wire.Run](ctx, c, "/runs", query("connection", connection), &want)
			if err != nil {
				return err
			}
			defer func() { p.cut(len(list), more) }()
			return p.show(list, func(row func(...any)) {
				row("Run", "Connection", "Feed", "Cause", "State", "Found", "New", "Changed", "Skipped", "Failed", "Started")
				for _, r := range list {
					row(r.ID, r.ConnectionName, r.Feed, r.Cause, r.State, r.Found, r.New, r.Changed, r.Skipped, r.Failed, r.StartedAt)
				}
			})
		}),
		noun("log", "RUN", "Show the log of a run", 1, 1, nil, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			id, err := strconv.ParseInt(a[0], 10, 64)
			if err != nil {
				return usage{fmt.Sprintf("run %q: a number is expected", a[0])}
			}
			r, err := c.Run(ctx, id)
			if err != nil {
				return err
			}
			return p.show(r, func(row func(...any)) {
				row(fmt.Sprintf("Run %d of %s, %s: %s", r.Run.ID, r.Run.ConnectionName, r.Run.Feed, r.Run.State), r.Run.Error)
				for _, l := range r.Log {
					row(l.At, l.Level, l.Text)
				}
			})
		}),
		noun("pick", "ORDER", "Begin to pick an order, or go on; shows what is to be picked", 1, 1, nil, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			s, err := c.Pick(ctx, a[0])
			if err != nil {
				return err
			}
			v, err := c.Shipment(ctx, s)
			if err != nil {
				return err
			}
			return p.show(v, func(row func(...any)) { shipmentTable(v, row) })
		}),
		noun("scan", "SHIPMENT CODE", "Scan an order, a bin or a product for a shipment", 2, 2, func(f *flag.FlagSet) {
			f.StringVar(&bin, "bin", "", "the bin scanned last")
			f.Int64Var(&quantity, "quantity", 0, "units; 0 means one")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			s, err := c.Scan(ctx, a[0], a[1], bin, quantity)
			if err != nil {
				return err
			}
			return p.show(s, func(row func(...any)) {
				row(s.Outcome.Text)
				wantTable(s.Wants, row)
				row("Next: " + s.Expected)
			})
		}),
		noun("profiles", "", "List the parcel profiles", 0, 0, nil, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
			list, err := c.Profiles(ctx)
			if err != nil {
				return err
			}
			return p.show(list, func(row func(...any)) {
				row("Code", "Name", "mm", "Carries g", "Tare g")
				for _, x := range list {
					row(x.Code, x.Name, fmt.Sprintf("%d×%d×%d", x.LengthMM, x.WidthMM, x.HeightMM), x.MaxG, x.TareG)
				}
			})
		}),
		noun("pack", "SHIPMENT PROFILE", "Pack what was picked into one parcel", 2, 2, func(f *flag.FlagSet) {
			f.Int64Var(&weight, "weight", 0, "weighed gross `grams`; 0 takes the sum of items and carton")
			f.Func("serial", "`SKU=NUMBER` of a unit that has a serial number; may be given several times", func(text string) error {
				sku, n, ok := strings.Cut(text, "=")
				if !ok || sku == "" || n == "" {
					return errors.New("SKU=NUMBER is expected")
				}
				serials[sku] = append(serials[sku], n)
				return nil
			})
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			v, err := c.Pack(ctx, a[0], a[1], weight, serials)
			if err != nil {
				return err
			}
			return p.show(v, func(row func(...any)) { shipmentTable(v, row) })
		}),
		noun("rates", "SHIPMENT", "Compare the carriers' services for a packed shipment", 1, 1, nil, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			list, err := c.Rates(ctx, a[0])
			if err != nil {
				return err
			}
			return p.show(list, func(row func(...any)) {
				row("Carrier", "Service", "Name", "Price", "Arrives", "")
				for _, r := range list {
					note := r.Refused
					if r.Estimated {
						note = "estimated: the carrier did not answer"
					}
					row(r.Carrier, r.Service, r.ServiceName, amount(r.Price, r.Currency), r.Arrives, note)
				}
			})
		}),
		noun("ship", "SHIPMENT", "Buy the label; the parcel leaves", 1, 1, func(f *flag.FlagSet) {
			f.StringVar(&carrier, "carrier", "", "code of the carrier's connection; with -service")
			f.StringVar(&service, "service", "", "the carrier's service; without it the cheapest that takes the parcel")
			f.StringVar(&key, "key", "", "makes the command safe to repeat: the same key ships once")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			if (carrier == "") != (service == "") {
				return usage{"-carrier and -service go together"}
			}
			if service == "" {
				list, err := c.Rates(ctx, a[0])
				if err != nil {
					return err
				}
				if len(list) == 0 || list[0].Refused != "" {
					return fmt.Errorf("no carrier takes shipment %s", a[0])
				}
				carrier, service = list[0].Carrier, list[0].Service
			}
			var opts []client.Option
			if key != "" {
				opts = append(opts, client.Key(key))
			}
			v, err := c.Ship(ctx, a[0], carrier, service, opts...)
			if err != nil {
				return err
			}
			if v.Error != "" {
				return fmt.Errorf("the carrier refused: %s", v.Error)
			}
			return p.show(v, func(row func(...any)) { shipmentTable(v, row) })
		}),
		noun("shipments", "", "List shipments, newest first", 0, 0, func(f *flag.FlagSet) {
			f.StringVar(&state, "state", "", "only this state, or several by comma")
			want.flags(f)
		}, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
			list, more, err := listed[wire.Shipment](ctx, c, "/shipments", query("state", state), &want)
			if err != nil {
				return err
			}
			defer func() { p.cut(len(list), more) }()
			return p.show(list, func(row func(...any)) {
				row("Shipment", "Order", "Buyer", "From", "State", "Picked", "Carrier", "Service", "Tracking")
				for _, s := range list {
					row(s.Number, s.OrderNumber, s.Buyer, s.Location, s.State, fmt.Sprintf("%d of %d", s.Picked, s.Quantity), s.Carrier, s.ServiceName, s.Tracking)
				}
			})
		}),
		noun("label", "SHIPMENT", "Save a label as PDF", 1, 1, func(f *flag.FlagSet) {
			f.StringVar(&size, "size", "label", "label (100×150 mm) or a4")
			f.StringVar(&out, "o", "", "`file` to write; without it label-SHIPMENT.pdf")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			return savePDF(ctx, c, p, "/shipments/"+url.PathEscape(a[0])+"/label.pdf?size="+url.QueryEscape(size), out, "label-"+a[0]+".pdf")
		}),
		noun("picklist", "ORDER", "Save a pick list as PDF", 1, 1, func(f *flag.FlagSet) {
			f.StringVar(&out, "o", "", "`file` to write; without it pick-list-ORDER.pdf")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			return savePDF(ctx, c, p, "/orders/"+url.PathEscape(a[0])+"/pick-list.pdf", out, "pick-list-"+a[0]+".pdf")
		}),
		noun("manifest", "[close ID]", "List the carriers' manifests, or close one", 0, 2, nil, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			if len(a) > 0 {
				id, err := int64(0), error(nil)
				if len(a) == 2 {
					id, err = strconv.ParseInt(a[1], 10, 64)
				}
				if a[0] != "close" || err != nil || id == 0 {
					return usage{"close and the number of a manifest are expected"}
				}
				m, err := c.CloseManifest(ctx, id)
				if err != nil {
					return err
				}
				return p.show(m, func(row func(...any)) { row("Manifest", m.ID, "is", m.State) })
			}
			list, err := c.Manifests(ctx)
			if err != nil {
				return err
			}
			return p.show(list, func(row func(...any)) {
				row("Manifest", "Carrier", "Day", "State", "Parcels", "Receipt")
				for _, m := range list {
					row(m.ID, m.Name, m.Day, m.State, m.Parcels, m.Receipt)
				}
			})
		}),
		noun("send-again", "MESSAGE", "Send a refused message again", 1, 1, nil, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			id, err := strconv.ParseInt(a[0], 10, 64)
			if err != nil {
				return usage{fmt.Sprintf("message %q: a number is expected", a[0])}
			}
			if err := c.SendAgain(ctx, id); err != nil {
				return err
			}
			return p.show(map[string]int64{"message": id}, func(row func(...any)) { row("It is queued again.") })
		}),
		noun("activity", "", "What happened, newest first", 0, 0, want.flags, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
			list, more, err := listed[wire.Entry](ctx, c, "/activity", "", &want)
			if err != nil {
				return err
			}
			defer func() { p.cut(len(list), more) }()
			return p.show(list, func(row func(...any)) {
				for _, e := range list {
					row(e.At, e.Who, e.Thing+" "+e.Name, e.Text)
				}
			})
		}),
	}
}

func savePDF(ctx context.Context, c *client.Client, p *printer, path, file, otherwise string) error {
	pdf, err := c.PDF(ctx, path)
	if err != nil {
		return err
	}
	if file == "" {
		file = otherwise
	}
	if err := os.WriteFile(file, pdf, 0o644); err != nil {
		return err
	}
	return p.show(map[string]any{"file": file, "bytes": len(pdf)}, func(row func(...any)) { row("Written to", file) })
}

func orderTable(o wire.Order, row func(...any)) {
	m := o.Record
	row("Order", o.Number, o.Stage)
	row("Channel", o.ConnectionName, m.Number, m.State)
	row("To", strings.Join(o.ShipTo.Lines(), ", "))
	row("Total", amount(m.Total, m.Currency), "recalculated "+amount(o.Totals.Total, m.Currency))
	for _, h := range o.Holds {
		row("Held", h.Cause, h.Text)
	}
	row()
	row("SKU", "Title", "Ordered", "Waiting", "Allocated", "Picked", "Packed", "Shipped", "Cancelled")
	for _, l := range o.Lines {
		row(l.SKU, l.Title, l.Quantity, l.Waiting, l.Allocated, l.Picked, l.Packed, l.Shipped, l.Cancelled)
	}
	row()
	for _, s := range o.Shipments {
		row("Shipment", s.Number, s.State, s.Carrier, s.Tracking)
	}
	for _, w := range o.WriteBacks {
		row("Sent", w.ConnectionName, w.Feed, w.State, w.Error)
	}
	row()
	for _, e := range o.Timeline {
		row(e.At, e.Who, e.Text)
	}
}

func itemTable(v wire.ItemView, row func(...any)) {
	row(v.Item.SKU, v.Item.Name, amount(v.Item.Price, v.Item.Currency))
	row()
	row("Location", "Bin", "On hand", "Allocated", "Available")
	for _, l := range v.Levels {
		row(l.LocationName, l.Bin, l.OnHand, l.Allocated, l.Available)
	}
	row()
	row("Listed at", "Price", "Shows", "Allowed")
	for _, l := range v.Listings {
		row(l.ConnectionName, amount(l.Price, l.Currency), l.Shows, l.Allowed)
	}
	row()
	row("When", "Kind", "On hand", "Allocated", "Location", "Why", "Order")
	for _, m := range v.Movements {
		row(m.At, m.Kind, fmt.Sprintf("%+d", m.OnHand), fmt.Sprintf("%+d", m.Allocated), m.Location, m.Reason, m.Document)
	}
}

func feedTable(x wire.Connection, row func(...any)) {
	row("Feed", "Switch", "Lamp", "By", "Schedule", "Last good run")
	for _, f := range x.Feeds {
		sw := "off"
		if f.On {
			sw = "on"
		}
		sched := f.Schedule
		if sched == "" && f.Every != "" {
			sched = "every " + f.Every
		}
		row(f.Kind, sw, f.Lamp.State+": "+f.Lamp.Text, strings.Join(f.Ways, ", "), sched, f.LastOK)
	}
}

func wantTable(wants []picking.Want, row func(...any)) {
	row("Bin", "SKU", "GTIN", "Title", "Picked")
	for _, w := range wants {
		row(w.Bin, w.SKU, w.GTIN, w.Title, fmt.Sprintf("%d of %d", w.Picked, w.Quantity))
	}
}

func shipmentTable(v wire.ShipmentView, row func(...any)) {
	row("Shipment", v.Number, v.State, "order "+v.OrderNumber, "from "+v.Location)
	if v.WeightG > 0 {
		row("Parcel", v.Profile, fmt.Sprintf("%d g", v.WeightG), fmt.Sprintf("%d×%d×%d mm", v.LengthMM, v.WidthMM, v.HeightMM))
	}
	if v.Tracking != "" {
		row("Label", v.Carrier, v.ServiceName, v.Tracking, amount(v.Price, v.Currency))
	}
	wantTable(v.Wants, row)
	if v.State == "picking" {
		row("Next: " + v.Expected)
	}
}
