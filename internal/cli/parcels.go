package cli

import (
	"context"
	"flag"
	"fmt"

	"openrelay/internal/client"
	"openrelay/internal/wire"
)

// profileOptions are what a parcel profile is made with; what is not given stays.
type profileOptions struct{ wire.ProfileText }

func profileCommand() command {
	opt := &profileOptions{}
	return verbs("profile", "What parcels are packed in", opt.flags, []verb{
		{"list", "", "Profiles, those used no more as well", 0, opt.list},
		{"put", "CODE", "Add one or change it; what is not given stays", 1, opt.put},
		{"archive", "CODE", "Use one no more", 1, opt.archive},
		{"restore", "CODE", "Use one again", 1, opt.restore},
	})
}

func (opt *profileOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.Name, "name", "", "put: what it is called (of a new one: required)")
	f.Int64Var(&opt.LengthMM, "length", 0, "put: in `millimetres` (of a new one: required)")
	f.Int64Var(&opt.WidthMM, "width", 0, "put: in `millimetres` (of a new one: required)")
	f.Int64Var(&opt.HeightMM, "height", 0, "put: in `millimetres` (of a new one: required)")
	f.Int64Var(&opt.TareG, "tare", -1, "put: weight of carton and filling, in `grams` (of a new one: 0 without it)")
	f.Int64Var(&opt.MaxG, "holds", 0, "put: heaviest content, in `grams` (of a new one: required)")
	f.StringVar(&opt.Service, "service", "", "put: code of the `service` that is proposed for it; - for none")
}

func (opt *profileOptions) list(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, err := c.KeptProfiles(ctx)
	return showProfiles(p, list, err)
}

func (opt *profileOptions) put(ctx context.Context, c *client.Client, p *printer, a []string) error {
	list, err := c.KeptProfiles(ctx)
	if err != nil {
		return err
	}
	var was wire.KeptProfile
	for _, x := range list {
		if x.Code == a[0] {
			was = x
		}
	}
	text := opt.over(was)
	list, err = c.PutProfile(ctx, a[0], text)
	return showProfiles(p, list, err)
}

// over lays what was given over what there was.
func (opt *profileOptions) over(was wire.KeptProfile) wire.ProfileText {
	t := opt.ProfileText
	t.Name, t.Service = or(t.Name, was.Name), or(t.Service, was.Service)
	if opt.Service == "-" {
		t.Service = ""
	}
	for _, x := range []struct {
		to    *int64
		was   int64
		given bool
	}{{&t.LengthMM, was.LengthMM, t.LengthMM != 0}, {&t.WidthMM, was.WidthMM, t.WidthMM != 0}, {&t.HeightMM, was.HeightMM, t.HeightMM != 0},
		{&t.TareG, was.TareG, t.TareG >= 0}, {&t.MaxG, was.MaxG, t.MaxG != 0}} {
		if !x.given {
			*x.to = x.was
		}
	}
	return t
}

func (opt *profileOptions) archive(ctx context.Context, c *client.Client, p *printer, a []string) error {
	list, err := c.ArchiveProfile(ctx, a[0], true)
	return showProfiles(p, list, err)
}

func (opt *profileOptions) restore(ctx context.Context, c *client.Client, p *printer, a []string) error {
	list, err := c.ArchiveProfile(ctx, a[0], false)
	return showProfiles(p, list, err)
}

func showProfiles(p *printer, list []wire.KeptProfile, err error) error {
	if err != nil {
		return err
	}
	return p.show(list, func(row func(...any)) {
		row("Code", "Name", "mm", "Holds g", "Tare g", "Service", "Used no more")
		for _, x := range list {
			row(x.Code, x.Name, fmt.Sprintf("%d×%d×%d", x.LengthMM, x.WidthMM, x.HeightMM), x.MaxG, x.TareG, x.Service, x.ArchivedAt)
		}
	})
}

// seriesOptions are how numbers begin, and which comes next.
type seriesOptions struct{ wire.Series }

func seriesCommand() command {
	opt := &seriesOptions{}
	return verbs("series", "How orders, shipments, purchases, transfers and counts are numbered", func(f *flag.FlagSet) {
		f.StringVar(&opt.Prefix, "prefix", "", "put: what numbers begin with")
		f.Int64Var(&opt.Next, "next", 0, "put: the `number` that comes next; without it, it goes on")
	}, []verb{{"list", "", "How each begins, and the number that comes next", 0, opt.list}, {"put", "CODE", "Change one", 1, opt.put}})
}

func (opt *seriesOptions) list(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, err := c.Series(ctx)
	return showSeries(p, list, err)
}

func (opt *seriesOptions) put(ctx context.Context, c *client.Client, p *printer, a []string) error {
	list, err := c.Series(ctx)
	if err != nil {
		return err
	}
	s := wire.Series{Code: a[0], Prefix: opt.Prefix, Next: opt.Next}
	for _, x := range list {
		if x.Code == a[0] {
			s.Prefix = or(s.Prefix, x.Prefix)
			if s.Next == 0 {
				s.Next = x.Next
			}
		}
	}
	list, err = c.PutSeries(ctx, s.Code, s.Prefix, s.Next)
	return showSeries(p, list, err)
}

func showSeries(p *printer, list []wire.Series, err error) error {
	if err != nil {
		return err
	}
	return p.show(list, func(row func(...any)) {
		row("Series", "Prefix", "Next")
		for _, s := range list {
			row(s.Code, s.Prefix, s.Next)
		}
	})
}
