package cli

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"openrelay/internal/client"
	"openrelay/internal/core/request"
	"openrelay/internal/relay/partners"
	"openrelay/internal/wire"
)

func partnerCommand() command {
	terms, items, differences := &termsOptions{}, &partnerItemOptions{}, &differenceOptions{}
	return of("partner", "Whoever ships for us: what was agreed, what they call our items, their stock",
		noun("list", "", "Partners, and how they stand with what they were asked", 0, 0, nil, listPartners),
		noun("agree", "PARTNER", "Change what was agreed; what is not said stays", 1, 1, terms.flags, terms.run),
		noun("items", "PARTNER", "What a partner calls our items", 1, 1, nil, listPartnerItems),
		noun("item", "PARTNER SKU", "Say what a partner calls an item; what waits for that goes on (many: sheet import partner-items FILE)",
			2, 2, items.flags, items.run),
		noun("differences", "[PARTNER]", "Where its stock was another than our books", 0, 1, differences.flags, differences.run),
		noun("looked", "DIFFERENCE [WHY]", "Say that somebody has looked at a difference", 1, -1, nil, lookedAtDifference))
}

func listPartners(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, err := c.Partners(ctx)
	if err != nil {
		return err
	}
	return p.list(list, "No connection can be asked to send anything. Join one whose definition has requests out.", []any{"Code", "Name",
		"sends from", "Open", "Ended in 30 days", "Stock differs", "Asked"}, func(row func(...any)) {
		for _, x := range list {
			var open, ended int64
			for state, n := range x.Requests {
				if request.State(state).Ended() {
					ended += n
				} else {
					open += n
				}
			}
			row(x.Code, x.Name, or(strings.Join(x.Places, ", "), "no place: put one with -keeper "+x.Code), open, ended, x.Differences,
				howAsked(&x))
		}
	})
}

func howAsked(x *wire.Partner) string {
	switch {
	case !x.Asked:
		return "no: its requests are switched off"
	case !x.Works:
		return "not now: its connection is not at work"
	case len(x.Places) == 0:
		return "never: nothing is planned there"
	case x.Test:
		return "as a test"
	case x.Terms.ByHand:
		return "when a person says so"
	}
	return "by itself"
}

type termsOptions struct {
	set  *flag.FlagSet
	want request.Terms
}

func (opt *termsOptions) flags(f *flag.FlagSet) {
	opt.set = f
	f.BoolVar(&opt.want.ByHand, "by-hand", false, "a person asks for each order")
	f.Int64Var(&opt.want.Within, "within", 0, "`hours` after which one that was not acknowledged is asked about; 0: 24")
	f.Int64Var(&opt.want.Sends, "sends", 0, "`hours` after which a person is asked about one that was not sent; 0: 72")
	f.StringVar(&opt.want.Items, "items", "", "`ours`: it knows our SKUs; named: only items of which its own name is said")
	f.StringVar(&opt.want.Currency, "currency", "", "`ISO 4217`, of what it asks")
	f.Int64Var(&opt.want.Order, "order", 0, "what it asks for a request, in `minor units`")
	f.Int64Var(&opt.want.Line, "line", 0, "and for each line, in `minor units`")
	f.Int64Var(&opt.want.Unit, "unit", 0, "and for each unit, in `minor units`")
	f.Int64Var(&opt.want.Parcel, "parcel", 0, "and for each parcel, in `minor units`")
	f.Int64Var(&opt.want.Days, "days", 0, "`days` until what it sends arrives; 0: nobody said")
	f.Int64Var(&opt.want.Tolerance, "tolerance", 0, "a bill may differ by so many `hundredths`")
}

func (opt *termsOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	rows, err := c.PartnerTerms(ctx)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(rows, func(t request.Terms) bool { return t.Partner == a[0] })
	if at < 0 {
		at = len(rows)
		rows = append(rows, request.Terms{Partner: a[0]})
	}
	opt.set.Visit(func(f *flag.Flag) { opt.change(f.Name, &rows[at]) })
	if err := c.SetPartnerTerms(ctx, rows); err != nil {
		return err
	}
	t := rows[at]
	return p.told(t, "%s asks %s for a request, %s a line, %s a unit, %s a parcel", a[0], amount(t.Order, or(t.Currency, "EUR")),
		amount(t.Line, or(t.Currency, "EUR")), amount(t.Unit, or(t.Currency, "EUR")), amount(t.Parcel, or(t.Currency, "EUR")))
}

func (opt *termsOptions) change(name string, t *request.Terms) {
	switch name {
	case "by-hand":
		t.ByHand = opt.want.ByHand
	case "within":
		t.Within = opt.want.Within
	case "sends":
		t.Sends = opt.want.Sends
	case "items":
		t.Items = opt.want.Items
	case "currency":
		t.Currency = opt.want.Currency
	case "order":
		t.Order = opt.want.Order
	case "line":
		t.Line = opt.want.Line
	case "unit":
		t.Unit = opt.want.Unit
	case "parcel":
		t.Parcel = opt.want.Parcel
	case "days":
		t.Days = opt.want.Days
	case "tolerance":
		t.Tolerance = opt.want.Tolerance
	}
}

func listPartnerItems(ctx context.Context, c *client.Client, p *printer, a []string) error {
	list, err := c.PartnerItems(ctx, a[0])
	if err != nil {
		return err
	}
	return p.list(list, "Nothing was said of any item.", []any{"SKU", "Name", "There"}, func(row func(...any)) {
		for _, i := range list {
			there := or(i.Code, "as here")
			if i.Ignored {
				there = "never asked for"
			}
			row(i.SKU, i.Name, there)
		}
	})
}

type partnerItemOptions struct {
	want   partners.PartnerItem
	forget bool
}

func (opt *partnerItemOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.want.Code, "code", "", "what it `calls` the item; without it our SKU")
	f.BoolVar(&opt.want.Ignored, "ignore", false, "it is never asked for it: it counts as sent with the rest of an order")
	f.BoolVar(&opt.forget, "forget", false, "forget what was said")
}

func (opt *partnerItemOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	if opt.forget {
		if err := c.ForgetPartnerItem(ctx, a[0], a[1]); err != nil {
			return err
		}
		return p.told(nil, "Forgotten")
	}
	opt.want.SKU = a[1]
	if err := c.SayPartnerItem(ctx, a[0], opt.want); err != nil {
		return err
	}
	if opt.want.Ignored {
		return p.told(opt.want, "%s is never asked for %s", a[0], a[1])
	}
	return p.told(opt.want, "%s calls %s %s; what waited for that goes on", a[0], a[1], or(opt.want.Code, a[1]))
}

type differenceOptions struct {
	rows
	looked bool
}

func (opt *differenceOptions) flags(f *flag.FlagSet) {
	opt.rows.flags(f)
	f.BoolVar(&opt.looked, "looked", false, "those that somebody has looked at, too")
}

func (opt *differenceOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	partner := ""
	if len(a) > 0 {
		partner = a[0]
	}
	filter := query("partner", partner)
	if !opt.looked {
		filter = strings.TrimPrefix(filter+"&open=true", "&")
	}
	list, more, err := listed[wire.StockDifference](ctx, c, "/stock-differences", filter, &opt.rows)
	if err != nil {
		return err
	}
	p.cut(len(list), more)
	return p.list(list, "Their stock is as in our books.", []any{"No.", "Partner", "SKU", "Our books", "They say", "Seen", "Why"},
		func(row func(...any)) {
			for _, d := range list {
				row(d.ID, d.Partner, d.SKU, d.Ours, d.Theirs, d.At, d.Note)
			}
		})
}

func lookedAtDifference(ctx context.Context, c *client.Client, p *printer, a []string) error {
	id, err := strconv.ParseInt(a[0], 10, 64)
	if err != nil {
		return fmt.Errorf("%q: the number of a difference is expected, from openrelay partner differences", a[0])
	}
	if err := c.SettleStockDifference(ctx, id, strings.Join(a[1:], " ")); err != nil {
		return err
	}
	return p.told(nil, "Looked at")
}

func requestCommand() command {
	list, callOff, say, sent := &requestListOptions{}, &reasonOption{}, &sayOptions{}, &sentOptions{}
	return of("request", "What partners are asked to send for us",
		noun("list", "", "Requests, newest first", 0, 0, list.flags, list.run),
		noun("show", "REQUEST", "One request with what has left for it", 1, 1, nil, showRequest),
		noun("ask-again", "REQUEST", "Ask the partner again, under the same reference", 1, 1, nil, askRequestAgain),
		noun("call-off", "REQUEST", "Ask the partner not to send what is left; then it is planned from elsewhere", 1, 1, callOff.flags,
			callOff.callOff),
		noun("say", "REQUEST WORD", "What the partner said: acknowledged, refused, 'called off', 'not called off' or closed", 2, 2,
			say.flags,
			say.run),
		noun("sent", "REQUEST CARRIER NUMBER [SKU=UNITS …]", "A parcel that the partner sent and told of otherwise", 3, -1, nil, sent.run))
}

type requestListOptions struct {
	rows
	state, partner string
}

func (opt *requestListOptions) flags(f *flag.FlagSet) {
	opt.rows.flags(f)
	f.StringVar(&opt.state, "state", "", "only those in `states`, by comma: waits, asked, acknowledged, partly sent, being called off, "+
		"sent …")
	f.StringVar(&opt.partner, "partner", "", "only those of a partner, by its `code`")
}

func (opt *requestListOptions) run(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, more, err := listed[wire.Request](ctx, c, "/requests", query("state", opt.state, "partner", opt.partner), &opt.rows)
	if err != nil {
		return err
	}
	p.cut(len(list), more)
	return p.list(list, "No partner was asked for anything.", []any{"Request", "Order", "Partner", "State", "What", "Why"},
		func(row func(...any)) {
			for _, x := range list {
				row(x.Number, x.Order, x.PartnerName, requestState(&x), requestGoods(&x), x.Reason)
			}
		})
}

func requestState(x *wire.Request) string {
	if x.Test {
		return string(x.State) + " (test)"
	}
	return string(x.State)
}

func requestGoods(x *wire.Request) string {
	parts := make([]string, len(x.Lines))
	for i, l := range x.Lines {
		parts[i] = fmt.Sprintf("%d × %s", l.Units, or(l.SKU, l.Title))
	}
	return strings.Join(parts, ", ")
}

func showRequest(ctx context.Context, c *client.Client, p *printer, a []string) error {
	x, err := c.Request(ctx, a[0])
	if err != nil {
		return err
	}
	return printRequest(p, x)
}

func printRequest(p *printer, x wire.Request) error {
	return p.show(x, func(row func(...any)) {
		row("Request", x.Number+" for order "+x.Order)
		row("Partner", x.PartnerName)
		row("State", requestState(&x))
		row("Reference", x.Reference)
		for _, f := range [][2]string{{"Their number", x.TheirID}, {"Why", x.Reason}, {"To be sent on", x.Expected}} {
			if f[1] != "" {
				row(f[0], f[1])
			}
		}
		for _, l := range x.Lines {
			text := fmt.Sprintf("%d × %s: %d sent", l.Units, or(l.SKU, l.Title), l.Sent)
			if l.Refused > 0 {
				text += fmt.Sprintf(", %d refused", l.Refused)
			}
			if l.CalledOff > 0 {
				text += fmt.Sprintf(", %d called off", l.CalledOff)
			}
			row("Line", text)
		}
		for _, y := range x.Parcels {
			row("Parcel", strings.TrimSpace(fmt.Sprintf("%s %s %s", y.Number, y.Carrier, y.Tracking)))
		}
		if x.Cost > 0 || x.Billed > 0 {
			row("Agreed", amount(x.Cost, x.Currency))
			row("Billed", amount(x.Billed, x.Currency))
		}
	})
}

func askRequestAgain(ctx context.Context, c *client.Client, p *printer, a []string) error {
	x, err := c.AskRequestAgain(ctx, a[0])
	if err != nil {
		return err
	}
	return p.told(x, "%s is %s", x.Number, x.State)
}

type reasonOption struct{ reason string }

func (opt *reasonOption) flags(f *flag.FlagSet) {
	f.StringVar(&opt.reason, "reason", "", "`why`; the partner is told")
}

func (opt *reasonOption) callOff(ctx context.Context, c *client.Client, p *printer, a []string) error {
	x, err := c.CallOffRequest(ctx, a[0], opt.reason)
	if err != nil {
		return err
	}
	return p.told(x, "%s is %s", x.Number, x.State)
}

type sayOptions struct{ said partners.SaidByHand }

func (opt *sayOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.said.Reason, "reason", "", "`why`, as the partner says")
	f.StringVar(&opt.said.Expected, "on", "", "`day` on which it means to send it, YYYY-MM-DD")
}

func (opt *sayOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	opt.said.Says = a[1]
	x, err := c.SayOfRequest(ctx, a[0], opt.said)
	if err != nil {
		return err
	}
	return p.told(x, "%s is %s", x.Number, x.State)
}

type sentOptions struct{}

func (*sentOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	sent := partners.SentByHand{Carrier: a[1], Tracking: a[2]}
	for _, x := range a[3:] {
		sku, units, ok := strings.Cut(x, "=")
		n, err := strconv.ParseInt(units, 10, 64)
		if !ok || err != nil {
			return fmt.Errorf("%q: a SKU and units such as JAR-500-T12=2 are expected", x)
		}
		if sent.Lines == nil {
			sent.Lines = map[string]int64{}
		}
		sent.Lines[sku] += n
	}
	x, err := c.RequestSent(ctx, a[0], sent)
	if err != nil {
		return err
	}
	return p.told(x, "%s is %s", x.Number, x.State)
}

// askPartnersCommand asks partners for what is placed with them of an order.
func askPartnersCommand() command {
	return noun("ask-partners", "ORDER", "Ask partners for what is placed with them and was not asked for", 1, 1, nil,
		func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			list, err := c.AskPartners(ctx, a[0])
			if err != nil {
				return err
			}
			return p.told(list, "Asked")
		})
}

// letSendCommand lets a place be asked again that refused to send an order.
func letSendCommand() command {
	return noun("let-send", "ORDER PLACE", "Let a place be asked again that refused to send an order", 2, 2, nil,
		func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			list, err := c.LetSend(ctx, a[0], a[1])
			if err != nil {
				return err
			}
			return p.told(list, "%s may be asked again", a[1])
		})
}
