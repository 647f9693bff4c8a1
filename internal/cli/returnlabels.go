package cli

import (
	"context"
	"flag"
	"fmt"
	"net/url"

	"openrelay/internal/client"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/wire"
)

type returnLabelOptions struct {
	by        wire.ReturnPurchase
	out, size string
	void      bool
}

func returnLabelCommand() command {
	opt := &returnLabelOptions{}
	return noun("label", "RETURN", "Buy a label by which the buyer sends goods back, and save it as PDF", 1, 1, opt.flags, opt.run)
}

func (opt *returnLabelOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.by.Carrier, "carrier", "", "code of the carrier's connection; with -service")
	f.StringVar(&opt.by.Service, "service", "", "the carrier's service; without it the cheapest that brings it back")
	f.StringVar(&opt.by.Profile, "profile", "", "code of the carton's profile; without it the one in which the order was sent")
	f.Int64Var(&opt.by.WeightG, "weight", 0, "`grams`; 0 takes the sum of what is announced")
	f.StringVar(&opt.out, "o", "", "`file` to write; without it return-label-RETURN.pdf")
	f.StringVar(&opt.size, "size", "label", "label (100×150 mm) or a4")
	f.BoolVar(&opt.void, "void", false, "have the label voided instead")
}

func (opt *returnLabelOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	if (opt.by.Carrier == "") != (opt.by.Service == "") {
		return usage{"-carrier and -service go together"}
	}
	if opt.void {
		v, err := c.VoidReturnLabel(ctx, a[0])
		if err != nil {
			return err
		}
		return p.show(v, func(row func(...any)) { returnTable(v, row) })
	}
	v, err := c.Return(ctx, a[0])
	if err != nil {
		return err
	}
	if v.Label == nil || v.Label.State != "bought" {
		if v, err = opt.buy(ctx, c, a[0]); err != nil {
			return err
		}
	}
	if v.Label.State != "bought" {
		return fmt.Errorf("the label is %s: %s", v.Label.State, or(v.Label.Error, "its carrier has not answered yet"))
	}
	path := "/returns/" + url.PathEscape(a[0]) + "/label.pdf?size=" + url.QueryEscape(opt.size)
	if err := savePDF(ctx, c, p, path, opt.out, "return-label-"+v.Number+".pdf"); err != nil {
		return err
	}
	return p.told(v, "%s: %s %s, %s, %s", v.Number, v.Label.Carrier, v.Label.Service, v.Label.Tracking,
		amount(v.Label.Price, v.Label.Currency))
}

// buy buys the label by the service that is said, or by the cheapest.
func (opt *returnLabelOptions) buy(ctx context.Context, c *client.Client, number string) (v wire.ReturnView, err error) {
	if opt.by.Service == "" {
		list, err := c.ReturnRates(ctx, number, opt.by.ReturnParcel)
		if err != nil {
			return v, err
		}
		if len(list) == 0 || list[0].Refused != "" {
			return v, fmt.Errorf("no carrier brings return %s back", number)
		}
		opt.by.Purchase = shipping.Purchase{Carrier: list[0].Carrier, Service: list[0].Service}
	}
	return c.BuyReturnLabel(ctx, number, opt.by)
}
