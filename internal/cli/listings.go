package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"strings"

	"openrelay/internal/client"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/listing"
	"openrelay/internal/wire"
)

type listingsOptions struct {
	connection, match, state, search string
	want                             rows
}

func listingsCommand() command {
	opt := &listingsOptions{}
	return noun("list", "", "List listings; those that wait with what they may be", 0, 0, opt.flags, opt.run)
}

func (opt *listingsOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.connection, "connection", "", "only this connection (its code)")
	f.StringVar(&opt.match, "match", "", `only "matched", "to match" or "ignored"`)
	f.StringVar(&opt.state, "state", "", "only this state: live, off, in review, rejected, submitted")
	f.StringVar(&opt.search, "q", "", "part of SKU or title, the channel's number, or a GTIN")
	opt.want.flags(f)
}

func (opt *listingsOptions) run(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, more, err := listed[wire.Listing](ctx, c, "/listings", query("connection", opt.connection, "match", opt.match, "state",
		opt.state, "q", opt.search), &opt.want)
	if err != nil {
		return err
	}
	defer func() { p.cut(len(list), more) }()
	return p.show(list, func(row func(...any)) { listingTable(row, list) })
}

type listingOptions struct {
	sku    string
	every  bool
	days   int
	policy stock.Override
	own    listing.Own
}

func listingCommand() command {
	opt := &listingOptions{}
	return verbs("listing", "Listings",
		opt.flags, []verb{
			{"match", "LISTING ITEM", "Say which item it is", 2, opt.match},
			{"create", "LISTING", "Make a new item of it", 1, opt.create},
			{"ignore", "LISTING", "Leave it alone", 1, opt.ignore},
			{"notice", "LISTING", "Look at one that was left alone again", 1, opt.notice},
			{"unmatch", "LISTING", "Say that it is not the item it was matched to", 1, opt.unmatch},
			{"offer", "LISTING", "Say how much of the stock it shows", 1, opt.offer},
			{"rehearse", "", "Tell what sharing the last units would have made of past sales", 0, opt.rehearse},
			{"own", "LISTING", "Give it a title, a text, a category or a price of its own", 1, opt.runOwn},
		})
}

func (opt *listingOptions) flags(f *flag.FlagSet) {
	f.BoolVar(&opt.every, "every", false, "match: all listings of the channel with its SKU")
	f.StringVar(&opt.sku, "sku", "", "create: another SKU than the listing's")
	optionalFlag(f, "buffer", &opt.policy.Buffer, "offer: `units` kept back")
	optionalFlag(f, "percent", &opt.policy.BufferPercent, "offer: `hundredths` kept back")
	optionalFlag(f, "cap", &opt.policy.Cap, "offer: show no more than these `units`")
	optionalFlag(f, "floor", &opt.policy.Floor, "offer: show nothing below these `units`")
	optionalFlag(f, "share-below", &opt.policy.ShareBelow, "offer, rehearse: from these `units` down channels share what is left, by pace")
	optionalFlag(f, "share-over", &opt.policy.ShareOver, "offer, rehearse: let them show so many `hundredths` more than there is, together")
	f.BoolFunc("off", "offer: offer nothing", func(string) error { t := true; opt.policy.Off = &t; return nil })
	f.IntVar(&opt.days, "days", 28, "rehearse: sales of so many `days`")
	f.StringVar(&opt.own.Title, "title", "", "own: title on this channel only")
	f.StringVar(&opt.own.Description, "description", "", "own: description on this channel only")
	f.StringVar(&opt.own.Category, "category", "", "own: category on this channel only")
	f.Func("price", "own: price on this channel only, an `amount` such as \"12.90 EUR\"", func(text string) (err error) {
		opt.own.Price, opt.own.Currency, err = priced(text)
		return err
	})
}

func (opt *listingOptions) rehearse(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	if opt.policy.ShareBelow == nil {
		return errors.New("-share-below is missing: from how many units down the last ones are shared")
	}
	q := inventory.SharingRehearsal{Below: *opt.policy.ShareBelow, Days: opt.days}
	if opt.policy.ShareOver != nil {
		q.Over = *opt.policy.ShareOver
	}
	out, err := c.RehearseSharing(ctx, q)
	if err != nil {
		return err
	}
	return p.show(out, func(row func(...any)) {
		row("", "Asked for", "Sold", "Oversold", "Refused though there was some")
		add := func(name string, r stock.Rehearsed) { row(name, r.Asked, r.Sold, r.Oversold, r.Refused) }
		add(fmt.Sprintf("%d items, all shown everywhere", out.Items), out.All)
		add(fmt.Sprintf("%d items, shared", out.Items), out.Shared)
		for _, o := range out.List {
			add(o.SKU+", all shown everywhere", o.All)
			add(o.SKU+", shared", o.Shared)
		}
		if out.More > 0 {
			row(fmt.Sprintf("%d more items ran low and were not looked at", out.More))
		}
	})
}

func (opt *listingOptions) match(ctx context.Context, c *client.Client, p *printer, a []string) error {
	id, err := number(a[0])
	if err != nil {
		return err
	}
	l, err := c.Match(ctx, id, a[1], opt.every)
	return showListing(p, l, err)
}

func (opt *listingOptions) create(ctx context.Context, c *client.Client, p *printer, a []string) error {
	id, err := number(a[0])
	if err != nil {
		return err
	}
	l, err := c.CreateFrom(ctx, id, opt.sku)
	return showListing(p, l, err)
}

func (opt *listingOptions) ignore(ctx context.Context, c *client.Client, p *printer, a []string) error {
	id, err := number(a[0])
	if err != nil {
		return err
	}
	l, err := c.Ignore(ctx, id, true)
	return showListing(p, l, err)
}

func (opt *listingOptions) notice(ctx context.Context, c *client.Client, p *printer, a []string) error {
	id, err := number(a[0])
	if err != nil {
		return err
	}
	l, err := c.Ignore(ctx, id, false)
	return showListing(p, l, err)
}

func (opt *listingOptions) unmatch(ctx context.Context, c *client.Client, p *printer, a []string) error {
	id, err := number(a[0])
	if err != nil {
		return err
	}
	l, err := c.Unmatch(ctx, id)
	return showListing(p, l, err)
}

func (opt *listingOptions) offer(ctx context.Context, c *client.Client, p *printer, a []string) error {
	id, err := number(a[0])
	if err != nil {
		return err
	}
	l, err := c.SetPolicy(ctx, id, opt.policy)
	return showListing(p, l, err)
}

func (opt *listingOptions) runOwn(ctx context.Context, c *client.Client, p *printer, a []string) error {
	id, err := number(a[0])
	if err != nil {
		return err
	}
	l, err := c.SetOwn(ctx, id, opt.own)
	return showListing(p, l, err)
}

type publishOptions struct {
	mark string
	yes  bool
}

func publishCommand() command {
	opt := &publishOptions{}
	return noun("publish", "CONNECTION [SKU …]", "Show exactly what listing items on a channel would send; send it with -yes", 1, -1,
		opt.flags, opt.run)
}

func (opt *publishOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.mark, "mark", "", "all items with this mark")
	f.BoolVar(&opt.yes, "yes", false, "send it")
}

func (opt *publishOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	sel := listing.Selection{SKUs: a[1:], Mark: opt.mark}
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
	}); err != nil || !opt.yes || v.Sent == 0 {
		return err
	}
	n, err := c.Publish(ctx, a[0], sel, v.Digest)
	if err == nil && !p.json {
		fmt.Fprintf(p.w, "%d sent\n", n)
	}
	return err
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
