package cli

import (
	"context"
	"encoding/base64"
	"flag"
	"fmt"
	"net/url"
	"os"
	"strings"

	"openrelay/internal/client"
	"openrelay/internal/core/customs"
	"openrelay/internal/core/freight"
	"openrelay/internal/core/money"
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

// accountCommand is about on whose accounts carriers are paid.
func accountCommand() command {
	return table[freight.Account]{
		path: "/billing-accounts", about: "accounts on which carriers are paid", keys: "CODE", named: 1,
		heads: []string{"Code", "Carrier", "Number", "Paid by", "Whose", "Of sender", "For customer"},
		line: func(a freight.Account) []any {
			return []any{a.Code, a.Carrier, a.Number, a.Payer, a.Name, a.Sender, a.Customer}
		},
		same: func(a freight.Account, named []string) bool { return a.Code == named[0] },
		flags: func(f *flag.FlagSet, a *freight.Account) {
			f.StringVar(&a.Carrier, "carrier", "", "`code` of the carrier's connection (required)")
			f.StringVar(&a.Number, "number", "", "of the account at the carrier (required)")
			f.StringVar(&a.Payer, "payer", freight.Sender, "who pays by it: sender, recipient or third")
			f.StringVar(&a.Name, "name", "", "whose it is")
			f.StringVar(&a.Postcode, "postcode", "", "of whoever pays, where the carrier wants it")
			f.StringVar(&a.Country, "country", "", "of whoever pays")
			f.StringVar(&a.Sender, "sender", "", "`code` of the sender whose parcels go on it")
			f.StringVar(&a.Customer, "customer", "", "`e-mail` of a customer, or @ and a domain, whose orders go on it")
		},
		make: func(a *freight.Account, named []string) error { a.Code = named[0]; return nil },
	}.command("account", "On whose accounts carriers are paid")
}

// senderAddressCommand is about what senders have of their own.
func senderAddressCommand() command {
	var logo string
	return table[place.SenderAddress]{
		path: "/sender-addresses", about: "what senders have of their own", keys: "SENDER", named: 1,
		heads: []string{"Sender", "Address", "Comes back to", "Logo"},
		line: func(s place.SenderAddress) []any {
			return []any{s.Sender, or(strings.Join(s.Address.Lines(), ", "), "the place's"),
				or(strings.Join(s.ReturnTo.Lines(), ", "), "where it comes from"), map[bool]string{true: "yes"}[s.Logo != ""]}
		},
		same: func(s place.SenderAddress, named []string) bool { return s.Sender == named[0] },
		flags: func(f *flag.FlagSet, s *place.SenderAddress) {
			addressFlags(f, "", "of its own address: ", &s.Address)
			addressFlags(f, "return-", "where parcels come back: ", &s.ReturnTo)
			f.StringVar(&logo, "logo", "", "PNG `file`, printed on packing slips")
		},
		make: func(s *place.SenderAddress, named []string) error {
			s.Sender = named[0]
			if logo == "" {
				return nil
			}
			raw, err := os.ReadFile(logo)
			s.Logo = base64.StdEncoding.EncodeToString(raw)
			return err
		},
	}.command("sender-address", "What senders have of their own: an address, one to come back to, a logo")
}

// addressFlags are those of an address.
func addressFlags(f *flag.FlagSet, before, about string, a *place.Address) {
	for _, x := range []struct {
		name string
		to   *string
	}{{"name", &a.Name}, {"company", &a.Company}, {"street", &a.Street}, {"postcode", &a.Postcode}, {"town", &a.Town},
		{"country", &a.Country}, {"phone", &a.Phone}, {"email", &a.Email}} {
		f.StringVar(x.to, before+x.name, "", about+x.name)
	}
}

// customsCommand is about how parcels are declared that cross a customs border.
func customsCommand() command {
	return table[customs.Declarant]{
		path: "/declarants", about: "how senders declare parcels that cross a customs border", keys: "SENDER", named: 1,
		heads: []string{"Sender", "No border between", "Number", "Reason", "Terms", "Signed by"},
		line: func(d customs.Declarant) []any {
			return []any{or(d.Sender, "all"), strings.Join(d.Area, " "), d.Number, d.Reason, d.Terms, d.Signer}
		},
		same: func(d customs.Declarant, named []string) bool { return or(d.Sender, "all") == named[0] },
		flags: func(f *flag.FlagSet, d *customs.Declarant) {
			several(f, "area", "a `country` between which and the others there is no border; several times", &d.Area)
			f.StringVar(&d.Number, "number", "", "of the sender with its customs or tax office")
			f.StringVar(&d.Reason, "reason", customs.Usual.Reason, "why goods leave: "+strings.Join(customs.Reasons, ", "))
			f.StringVar(&d.Terms, "terms", customs.Usual.Terms, "Incoterms 2020: "+strings.Join(customs.Terms, ", "))
			f.StringVar(&d.Signer, "signer", "", "whose name stands under the papers")
		},
		make: func(d *customs.Declarant, named []string) error {
			if named[0] != "all" {
				d.Sender = named[0]
			}
			return nil
		},
	}.command("customs", "How senders declare parcels that cross a border (SENDER: its code, or all)")
}

// customsPapersCommand saves the papers of a parcel that crosses a border.
func customsPapersCommand() command {
	form, out := "", ""
	return noun("customs-papers", "PARCEL", "Save what accompanies a parcel across a border: an invoice, CN 22 or CN 23", 1, 1,
		func(f *flag.FlagSet) {
			f.StringVar(&form, "form", "invoice", "invoice, cn22 or cn23")
			f.StringVar(&out, "o", "", "`file` to write; without it customs-PARCEL.pdf")
		}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			return savePDF(ctx, c, p, "/parcels/"+url.PathEscape(a[0])+"/customs.pdf?form="+url.QueryEscape(form), out,
				"customs-"+a[0]+".pdf")
		})
}

// addressChecksCommand says what becomes of the addresses of orders that come in.
func addressChecksCommand() command {
	return noun(
		"address-checks",
		"[never|show|spelling]",
		"Tell or say what becomes of the addresses of orders, where an address service is joined",
		0,
		1,
		nil,
		func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			rows, err := client.Rows[shipping.AddressPolicy](ctx, c, "/address-policy")
			if err == nil && len(a) == 1 {
				rows, err = client.PutRows(ctx, c, "/address-policy", []shipping.AddressPolicy{{Check: a[0]}})
			}
			if err != nil {
				return err
			}
			check := shipping.CheckShow
			if len(rows) > 0 {
				check = rows[0].Check
			}
			return p.told("address-checks", "addresses: %s", check)
		},
	)
}

// takeAddressCommand takes the form of an address that an address service would write.
func takeAddressCommand() command {
	return noun("take-address", "ORDER", "Let an order go to its address as the address service would write it", 1, 1, nil,
		func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			o, err := c.TakeAddress(ctx, a[0])
			if err != nil {
				return err
			}
			return p.told(o.Number, "it goes to %s", strings.Join(o.ShipTo.Lines(), ", "))
		})
}

// freightRuleCommand is about what is charged for parcels.
func freightRuleCommand() command {
	t := table[freight.ChargeRule]{
		path: "/freight-rules", about: "what is charged for parcels; the first that fits counts", keys: "NAME", named: 1,
		heads: []string{"Rule", "When", "Service", "Does", "By", "Currency"},
		line: func(r freight.ChargeRule) []any {
			by := ""
			switch {
			case r.Permille > 0:
				by = fmt.Sprintf("%d.%d %%", r.Permille/10, r.Permille%10)
			case r.Currency != "":
				by = money.Decimal(r.Amount, r.Currency)
			}
			return []any{r.Name, or(r.When, "always"), or(r.Service, "any"), r.Do, by, r.Currency}
		},
		same: func(r freight.ChargeRule, named []string) bool { return r.Name == named[0] },
		flags: func(f *flag.FlagSet, r *freight.ChargeRule) {
			f.StringVar(&r.When, "when", "", "`condition` on the order, such as total >= 10000; without it always")
			f.StringVar(&r.Service, "service", "", "`code` of a service, or carrier/code; without it any")
			f.StringVar(&r.Do, "do", "", strings.Join(freight.ChargeActions, ", ")+" (required)")
			f.Int64Var(&r.Permille, "permille", 0, "of mark up and discount: `thousandths`")
			f.Int64Var(&r.Amount, "amount", 0, "of add and fix: `minor units`")
			f.StringVar(&r.Currency, "currency", "", "of the amount")
		},
		make: func(r *freight.ChargeRule, named []string) error { r.Name = named[0]; return nil },
	}.command("freight-rule", "What is charged for parcels, against what carriers ask")
	return t.with(
		noun("rehearse", "", "What the rules would have charged for the newest parcels that left", 0, 0, nil, runRehearseCharges))
}

func runRehearseCharges(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	rows, err := client.Rows[freight.ChargeRule](ctx, c, "/freight-rules")
	if err != nil {
		return err
	}
	out, err := c.RehearseCharges(ctx, rows)
	if err != nil {
		return err
	}
	return p.show(out, func(row func(...any)) {
		row("Parcel", "Order", "Service", "Asked", "Was charged", "Would be", "By")
		for _, x := range out.Changed {
			row(x.Parcel, x.Order, x.Service, money.Decimal(x.Asked, x.Currency), money.Decimal(x.Was, x.Currency),
				money.Decimal(x.Would, x.Currency), x.By)
		}
		for _, s := range out.Sums {
			row(fmt.Sprintf("all %d", out.Parcels), "", s.Currency, money.Decimal(s.Asked, s.Currency), money.Decimal(s.Was, s.Currency),
				money.Decimal(s.Would, s.Currency), "")
		}
	})
}

// pickupPointsCommand lists where an order can be fetched.
func pickupPointsCommand() command {
	return noun("pickup-points", "ORDER", "Pickup points of all carriers near its address", 1, 1, nil,
		func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			out, err := c.PickupPoints(ctx, a[0])
			if err != nil {
				return err
			}
			return p.show(out, func(row func(...any)) {
				row("Carrier", "Point", "Name", "Where", "Metres", "Open")
				for _, x := range out.Points {
					row(x.Carrier, x.ID, x.Name, strings.TrimSpace(x.Street+", "+x.Postcode+" "+x.Town), x.Distance, x.Hours)
				}
				for _, s := range out.Silent {
					row(s, "does not answer")
				}
			})
		})
}

// pickupPointCommand says where an order is fetched.
func pickupPointCommand() command {
	carrier, id := "", ""
	return noun("pickup-point", "ORDER", "Say where it is fetched; without a point it goes to the door", 1, 1, func(f *flag.FlagSet) {
		f.StringVar(&carrier, "carrier", "", "`code` of the carrier's connection")
		f.StringVar(&id, "point", "", "the carrier's `number` of the point")
	}, func(ctx context.Context, c *client.Client, p *printer, a []string) error {
		o, err := c.ChoosePoint(ctx, a[0], carrier, id)
		if err != nil {
			return err
		}
		return p.told(o.Number, "%s: %s", o.Number, or(map[bool]string{false: "it is fetched at " + id}[id == ""], "it goes to the door"))
	})
}
