package cli

import (
	"cmp"
	"context"
	"flag"
	"reflect"
	"strings"

	"openrelay/internal/client"
	"openrelay/internal/core/order"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
)

func checkAddressCommand() command {
	return noun("check-address", "STREET POSTCODE TOWN COUNTRY", "Ask the address service about an address", 4, 4, nil, runCheckAddress)
}

func runCheckAddress(ctx context.Context, c *client.Client, p *printer, a []string) error {
	out, err := c.CheckAddress(ctx, place.Address{Name: "-", Street: a[0], Postcode: a[1], Town: a[2], Country: a[3]})
	if err != nil {
		return err
	}
	return p.show(out, func(row func(...any)) {
		row("Deliverable:", map[bool]string{true: "yes", false: "no"}[out.Deliverable])
		row("Corrected:", strings.Join(out.Corrected.Lines(), ", "))
		row("Kind:", out.Kind, "remote: "+map[bool]string{true: "yes", false: "no"}[out.Remote])
		row("Position:", out.Latitude, out.Longitude)
		row("Note:", out.Note)
	})
}

type companyOptions struct {
	change  engine.Company
	address place.Address
}

func companyCommand() command {
	opt := &companyOptions{}
	return noun("company", "", "Show what the company is called and where its days begin, or change it", 0, 0, opt.flags, opt.run)
}

func (opt *companyOptions) flags(f *flag.FlagSet) {
	c, a := &opt.change, &opt.address
	f.StringVar(&c.Name, "name", "", "what it is called")
	f.StringVar(&c.TimeZone, "time-zone", "", "`zone` in which its days begin, such as Etc/GMT-1")
	f.StringVar(&c.Country, "country", "", "`letters` of its country, two")
	f.StringVar(&c.Currency, "currency", "", "`letters` of its currency, three, for what says none")
	f.Func("reason", "a `reason` why units are cancelled and goods come back; may be given several times; together they are the list",
		func(s string) error {
			c.Reasons = append(c.Reasons, s)
			return nil
		})
	f.StringVar(&c.Language, "language", "", "`letters` of the language of papers: en, de or fr")
	f.Func("together", "`which` orders to the same recipient are offered to be sent together: any, same channel, same day, "+
		"same channel and day, never", func(s string) error {
		c.Together = order.TogetherRule(s)
		return nil
	})
	f.StringVar(&a.Street, "street", "", "of its address: street and number")
	f.StringVar(&a.Postcode, "postcode", "", "of its address")
	f.StringVar(&a.Town, "town", "", "of its address")
	f.StringVar(&a.Phone, "phone", "", "of its address")
}

func (opt *companyOptions) run(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	x, err := c.Company(ctx)
	if err == nil && (!reflect.DeepEqual(opt.change, engine.Company{}) || opt.address != (place.Address{})) {
		x, err = c.SetCompany(ctx, opt.changed(x))
	}
	if err != nil {
		return err
	}
	return p.show(x, func(row func(...any)) {
		row("Company", x.Name)
		row("Days begin in", or(x.TimeZone, "UTC"))
		row("Country", or(x.Country, "not said"))
		row("Currency", x.Currency)
		row("Papers in", or(x.Language, "en"))
		row("Sent together", string(x.Together))
		row("Reasons", strings.Join(x.Reasons, ", "))
		if x.Address != nil {
			row("Address", strings.Join(x.Address.Lines(), ", "))
		}
	})
}

// changed is the company with what was asked for.
func (opt *companyOptions) changed(x engine.Company) engine.Company {
	w := opt.change
	x.Name, x.TimeZone = or(w.Name, x.Name), or(w.TimeZone, x.TimeZone)
	x.Country, x.Currency, x.Language = or(w.Country, x.Country), or(w.Currency, x.Currency), or(w.Language, x.Language)
	x.Together = cmp.Or(w.Together, x.Together)
	if w.Reasons != nil {
		x.Reasons = w.Reasons
	}
	if w := opt.address; w != (place.Address{}) {
		a := place.Address{}
		if x.Address != nil {
			a = *x.Address
		}
		a.Street, a.Postcode, a.Town, a.Phone = or(w.Street, a.Street), or(w.Postcode, a.Postcode), or(w.Town, a.Town), or(w.Phone,
			a.Phone)
		a.Country = or(opt.change.Country, or(a.Country, x.Country))
		x.Address = &a
	}
	return x
}
