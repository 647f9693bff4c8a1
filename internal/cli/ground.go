package cli

import (
	"context"
	"flag"
	"strings"

	"openrelay/internal/client"
	"openrelay/internal/wire"
)

// senderOptions are what a sender is made with; what is not given stays.
type senderOptions struct{ wire.SenderText }

func senderCommand() command {
	opt := &senderOptions{}
	return verbs("sender", "Whom parcels come from: the company's brands, or others that it ships for", opt.flags, []verb{
		{"list", "", "Senders, those used no more as well", 0, opt.list},
		{"put", "CODE", "Add one or change it; what is not given stays", 1, opt.put},
		{"archive", "CODE", "Use one no more", 1, opt.archive},
		{"restore", "CODE", "Use one again", 1, opt.restore},
	})
}

func (opt *senderOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.Name, "name", "", "put: as it stands on parcels (of a new one: required)")
	f.StringVar(&opt.Company, "company", "", "put: second line; without it that of the place")
	f.StringVar(&opt.Phone, "phone", "", "put: telephone; without it that of the place")
	f.StringVar(&opt.Email, "email", "", "put: e-mail; without it that of the place")
}

func (opt *senderOptions) list(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, err := c.Senders(ctx)
	return showSenders(p, list, err)
}

func (opt *senderOptions) put(ctx context.Context, c *client.Client, p *printer, a []string) error {
	list, err := c.Senders(ctx)
	if err != nil {
		return err
	}
	text := opt.SenderText
	for _, was := range list {
		if was.Code == a[0] {
			text = wire.SenderText{Name: or(text.Name, was.Name), Company: or(text.Company, was.Company), Phone: or(text.Phone, was.Phone),
				Email: or(text.Email, was.Email)}
		}
	}
	list, err = c.PutSender(ctx, a[0], text)
	return showSenders(p, list, err)
}

func (opt *senderOptions) archive(ctx context.Context, c *client.Client, p *printer, a []string) error {
	list, err := c.ArchiveSender(ctx, a[0], true)
	return showSenders(p, list, err)
}

func (opt *senderOptions) restore(ctx context.Context, c *client.Client, p *printer, a []string) error {
	list, err := c.ArchiveSender(ctx, a[0], false)
	return showSenders(p, list, err)
}

func showSenders(p *printer, list []wire.Sender, err error) error {
	if err != nil {
		return err
	}
	return p.show(list, func(row func(...any)) {
		row("Code", "Name", "Company", "Phone", "E-mail", "Used no more", "Beware")
		for _, s := range list {
			row(s.Code, s.Name, s.Company, s.Phone, s.Email, s.ArchivedAt, strings.Join(s.Warnings, "; "))
		}
	})
}

// carrierOptions are what a carrier that is only named is made with; what is not given stays.
type carrierOptions struct{ wire.NamedCarrierText }

func carrierCommand() command {
	opt := &carrierOptions{}
	return verbs("carrier", "Carriers that are only named: their tracking numbers are typed", opt.flags, []verb{
		{"list", "", "Carriers that are only named; those that are joined are connections", 0, opt.list},
		{"put", "CODE", "Add one or change it; what is not given stays", 1, opt.put},
		{"archive", "CODE", "Use one no more", 1, opt.archive},
		{"restore", "CODE", "Use one again", 1, opt.restore},
	})
}

func (opt *carrierOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.Name, "name", "", "put: what it is called (of a new one: required)")
	f.StringVar(&opt.TrackingURL, "tracking", "", "put: `address` where a parcel is followed; {number} stands for its number")
}

func (opt *carrierOptions) list(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, err := c.NamedCarriers(ctx)
	return showCarriers(p, list, err)
}

func (opt *carrierOptions) put(ctx context.Context, c *client.Client, p *printer, a []string) error {
	list, err := c.NamedCarriers(ctx)
	if err != nil {
		return err
	}
	text := opt.NamedCarrierText
	for _, was := range list {
		if was.Code == a[0] {
			text = wire.NamedCarrierText{Name: or(text.Name, was.Name), TrackingURL: or(text.TrackingURL, was.TrackingURL)}
		}
	}
	list, err = c.PutNamedCarrier(ctx, a[0], text)
	return showCarriers(p, list, err)
}

func (opt *carrierOptions) archive(ctx context.Context, c *client.Client, p *printer, a []string) error {
	list, err := c.ArchiveNamedCarrier(ctx, a[0], true)
	return showCarriers(p, list, err)
}

func (opt *carrierOptions) restore(ctx context.Context, c *client.Client, p *printer, a []string) error {
	list, err := c.ArchiveNamedCarrier(ctx, a[0], false)
	return showCarriers(p, list, err)
}

func showCarriers(p *printer, list []wire.NamedCarrier, err error) error {
	if err != nil {
		return err
	}
	return p.show(list, func(row func(...any)) {
		row("Code", "Name", "Followed at", "Used no more")
		for _, x := range list {
			row(x.Code, x.Name, x.TrackingURL, x.ArchivedAt)
		}
	})
}

type typeNumberOptions struct{ carrier, number, service, key string }

func typeNumberCommand() command {
	opt := &typeNumberOptions{}
	return noun("type", "PARCEL", "Let a packed parcel leave with a tracking number from elsewhere, at a carrier that is only named", 1,
		1, opt.flags, opt.run)
}

func (opt *typeNumberOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.carrier, "carrier", "", "`code` of the carrier, as openrelay carrier lists it "+required)
	f.StringVar(&opt.number, "number", "", "the tracking number "+required)
	f.StringVar(&opt.service, "service", "", "what was bought, in words")
	f.StringVar(&opt.key, "key", "", "makes the command safe to repeat: the same key ships once")
}

func (opt *typeNumberOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	var options []client.Option
	if opt.key != "" {
		options = append(options, client.Key(opt.key))
	}
	s, err := c.TypeNumber(ctx, a[0], opt.carrier, opt.number, opt.service, options...)
	if err != nil {
		return err
	}
	return p.told(s, "%s left with %s; tracking number %s", s.Number, s.Carrier, s.Tracking)
}
