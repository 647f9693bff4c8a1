package cli

import (
	"context"
	"flag"
	"strings"

	"openrelay/internal/client"
	"openrelay/internal/core/freight"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/shipping"
)

// collectionCommand is about when carriers come to places.
func collectionCommand() command {
	var week weekText
	var cutoff string
	var off []string
	return table[freight.Collection]{
		path: "/collections", about: "when carriers come to places", keys: "CARRIER PLACE", named: 2,
		heads: []string{"Carrier", "Place", "Monday to Sunday", "Cut-off", "Days off"},
		line: func(c freight.Collection) []any {
			days := make([]string, len(c.Hours.DaysOff))
			for i, d := range c.Hours.DaysOff {
				days[i] = d.From + ":" + d.To
			}
			return []any{c.Carrier, c.Place, weekLine(c.Hours.Week), or(c.Hours.Cutoff, "when it comes"), strings.Join(days, " ")}
		},
		same: func(c freight.Collection, named []string) bool { return c.Carrier == named[0] && c.Place == named[1] },
		flags: func(f *flag.FlagSet, _ *freight.Collection) {
			f.Var(&week, "hours", "between which hours it comes, such as mon-fri=16:00-18:00; several times for other `days` (required)")
			f.StringVar(&cutoff, "cutoff", "", "`time` until which what is packed goes along, such as 15:30; without it when it has come")
			several(f, "off", "a `day` off, such as 2026-12-24 or 2026-12-24:2026-12-26=why; several times", &off)
		},
		make: func(c *freight.Collection, named []string) error {
			*c = freight.Collection{
				Carrier: named[0],
				Place:   named[1],
				Hours:   place.Hours{Week: week, Cutoff: cutoff, DaysOff: daysOff(off)},
			}
			return nil
		},
	}.command("collection", "When carriers come to places, and until when parcels go along")
}

type claimOptions struct{ shipping.Claim }

func claimCommand() command {
	opt := &claimOptions{}
	return noun("claim", "PARCEL STATE", "Note how a claim about a parcel stands: noted, sent, granted, declined, paid, withdrawn", 2, 2,
		opt.flags, opt.run)
}

func (opt *claimOptions) flags(f *flag.FlagSet) {
	f.Int64Var(&opt.Amount, "amount", 0, "what is asked for, in `minor units`; without it as it was")
	f.StringVar(&opt.Currency, "currency", "", "of the amount; without it the company's")
	f.StringVar(&opt.Note, "note", "", "the carrier's number of it, and what it is about")
}

func (opt *claimOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	opt.State = a[1]
	v, err := c.PutClaim(ctx, a[0], opt.Claim)
	if err != nil {
		return err
	}
	return p.show(v, func(row func(...any)) { parcelTable(v, row) })
}

// weekLine tells the hours of a week, a day with none as a dash.
func weekLine(week []string) string {
	out := make([]string, len(week))
	for i, day := range week {
		out[i] = or(day, "-")
	}
	return strings.Join(out, " ")
}
