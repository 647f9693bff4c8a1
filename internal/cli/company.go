package cli

import (
	"context"
	"flag"
	"strings"

	"openrelay/internal/client"
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
	from, name string
}

func companyCommand() command {
	opt := &companyOptions{}
	return noun("company", "", "Show what the company is called and where its days begin, or change it", 0, 0, opt.flags, opt.run)
}

func (opt *companyOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.name, "name", "", "what it is called")
	f.StringVar(&opt.from, "time-zone", "", "`zone` in which its days begin, such as Etc/GMT-1")
}

func (opt *companyOptions) run(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	x, err := c.Company(ctx)
	if err == nil && (opt.name != "" || opt.from != "") {
		x, err = c.SetCompany(ctx, engine.Company{Name: or(opt.name, x.Name), TimeZone: or(opt.from, x.TimeZone)})
	}
	if err != nil {
		return err
	}
	return p.show(x, func(row func(...any)) {
		row("Company", x.Name)
		row("Days begin in", or(x.TimeZone, "UTC"))
	})
}
