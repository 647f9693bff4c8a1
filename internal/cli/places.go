package cli

import (
	"context"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"

	"openrelay/internal/client"
	"openrelay/internal/core/catalog"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/joining"
	"openrelay/internal/wire"
)

// placeOptions are what is said of a place.
type placeOptions struct {
	joining.Place
	address          place.Address
	week             weekText
	cutoff, binsFile string
	off              []string
}

func placeCommand() command {
	opt := &placeOptions{}
	return verbs("place", "The places that hold stock", opt.flags, []verb{
		{"list", "", "Places with their addresses", 0, opt.list},
		{"put", "CODE", "Add one or change it; what is not given stays", 1, opt.put},
		{"archive", "CODE", "Use one no more; it has to be empty", 1, opt.archive},
		{"restore", "CODE", "Use one again", 1, opt.restore},
	})
}

func (opt *placeOptions) flags(f *flag.FlagSet) {
	a := &opt.address
	f.StringVar(&opt.Name, "name", "", "put: what it is called")
	f.StringVar(&opt.Keeper, "keeper", "", "put: `code` of the connection whose count of its stock is right, or ours; without it as it is")
	f.StringVar(&a.Name, "to", "", "put: `name` on labels, of its address")
	f.StringVar(&a.Company, "company", "", "put: of its address")
	f.StringVar(&a.Street, "street", "", "put: of its address: street and number")
	f.StringVar(&a.Extra, "extra", "", "put: of its address: a second line")
	f.StringVar(&a.Postcode, "postcode", "", "put: of its address")
	f.StringVar(&a.Town, "town", "", "put: of its address")
	f.StringVar(&a.Country, "country", "", "put: of its address: two letters; without them the company's")
	f.StringVar(&a.Phone, "phone", "", "put: of its address")
	f.Var(&opt.week, "hours",
		"put: when it is at work, such as mon-fri=08:00-17:00; several times for other `days`; a day not said is closed")
	f.StringVar(&opt.cutoff, "cutoff", "", "put: `time` until which what comes leaves the same day, such as 14:00; with -hours")
	f.Func("off", "put: a day off, such as 2026-12-24 or 2026-12-24:2026-12-26=why; several times; with -hours", func(text string) error {
		opt.off = append(opt.off, text)
		return nil
	})
	f.Func("position", "put: `point` where it is, as \"51.5, 7.25\" (latitude, longitude); without it the address service is asked, "+
		"where one "+
		"is joined", func(s string) error { opt.Position = &s; return nil })
	f.StringVar(&opt.binsFile, "bins", "", "put: `file` with its bins in the order in which they are walked, one a line or by "+
		"pattern: A-[01-12]-[1-5]; an empty file: any bin")
}

func (opt *placeOptions) list(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, err := c.Locations(ctx)
	return showPlaces(p, list, err)
}

func (opt *placeOptions) put(ctx context.Context, c *client.Client, p *printer, a []string) error {
	if opt.address != (place.Address{}) {
		if opt.address.Country == "" {
			company, err := c.Company(ctx)
			if err != nil {
				return err
			}
			opt.address.Country = company.Country
		}
		opt.Address = &opt.address
	}
	if err := opt.hours(); err != nil {
		return err
	}
	if opt.binsFile != "" {
		text, err := os.ReadFile(opt.binsFile)
		if err != nil {
			return err
		}
		bins := string(text)
		opt.Bins = &bins
	}
	if err := opt.keepKeeper(ctx, c, a[0]); err != nil {
		return err
	}
	l, err := c.PutPlace(ctx, a[0], opt.Place)
	if err := showPlaces(p, []wire.Location{l}, err); err != nil {
		return err
	}
	if opt.Address != nil {
		p.checked(ctx, c, *l.Address)
	}
	return nil
}

// hours puts together what was said of when the place is at work.
func (opt *placeOptions) hours() error {
	if len(opt.week) == 0 {
		if opt.cutoff != "" || len(opt.off) > 0 {
			return usage{"-cutoff and -off go with -hours, which says all of it anew"}
		}
		return nil
	}
	opt.Hours = &place.Hours{Week: opt.week, Cutoff: opt.cutoff, DaysOff: daysOff(opt.off)}
	return nil
}

// daysOff reads days off as they are typed: 2026-12-24 or 2026-12-24:2026-12-26=why.
func daysOff(list []string) (out []place.DayOff) {
	for _, text := range list {
		days, why, _ := strings.Cut(text, "=")
		from, to, _ := strings.Cut(days, ":")
		out = append(out, place.DayOff{From: from, To: to, Why: why})
	}
	return out
}

// checked says, where an address service is joined, what it says of an address; the address is kept all the same.
func (p *printer) checked(ctx context.Context, c *client.Client, a place.Address) {
	a.Name = or(a.Name, "-")
	check, err := c.CheckAddress(ctx, a)
	switch {
	case err != nil: // there is none, or it does not answer
		return
	case !check.Deliverable:
		p.say("The address service says that nothing can be delivered there: %s", or(check.Note, "it does not know the address"))
	case check.Corrected.Street != "" && !slices.Equal(check.Corrected.Lines()[1:], a.Lines()[1:]):
		p.say("The address service would write: %s", strings.Join(check.Corrected.Lines()[1:], ", "))
	}
}

func (opt *placeOptions) archive(ctx context.Context, c *client.Client, p *printer, a []string) error {
	list, err := c.ArchivePlace(ctx, a[0], true)
	return showPlaces(p, list, err)
}

func (opt *placeOptions) restore(ctx context.Context, c *client.Client, p *printer, a []string) error {
	list, err := c.ArchivePlace(ctx, a[0], false)
	return showPlaces(p, list, err)
}

// keepKeeper leaves whose count of a place is right as it is, where that was not said.
func (opt *placeOptions) keepKeeper(ctx context.Context, c *client.Client, code string) error {
	if opt.Keeper != "" {
		if opt.Keeper == catalog.Ours {
			opt.Keeper = ""
		}
		return nil
	}
	list, err := c.Locations(ctx)
	for _, l := range list {
		if l.Code == code {
			opt.Keeper = l.Keeper
		}
	}
	return err
}

func showPlaces(p *printer, list []wire.Location, err error) error {
	if err != nil {
		return err
	}
	return p.show(list, func(row func(...any)) {
		row("Code", "Name", "Address", "Its stock is kept by", "Today", "Used no more", "Beware")
		for _, l := range list {
			address := ""
			if l.Address != nil {
				address = strings.Join(l.Address.Lines(), ", ")
			}
			row(l.Code, l.Name, address, or(l.Keeper, "us"), l.Today, l.ArchivedAt, strings.Join(l.Warnings, "; "))
		}
	})
}

// weekText collects hours by days: mon-fri=08:00-17:00.
type weekText []string

var weekdays = []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

func (w *weekText) String() string { return "" }

func (w *weekText) Set(text string) error {
	days, hours, ok := strings.Cut(strings.ToLower(text), "=")
	first, last, more := strings.Cut(days, "-")
	if !more {
		last = first
	}
	from, to := slices.Index(weekdays, first), slices.Index(weekdays, last)
	if !ok || from < 0 || to < from {
		return fmt.Errorf("%q: days and hours such as mon-fri=08:00-17:00 or sat=09:00-12:00 are expected", text)
	}
	if *w == nil {
		*w = make([]string, len(weekdays))
	}
	for i := from; i <= to; i++ {
		(*w)[i] = hours
	}
	return nil
}
