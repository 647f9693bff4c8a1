package cli

import (
	"context"
	"flag"

	"openrelay/internal/api"
	"openrelay/internal/client"
)

type reportOptions struct {
	from, to string
	asCSV    bool
}

func reportCommand() command {
	opt := &reportOptions{}
	return noun("report", "source|days|shipping|speed|stockouts|exceptions", "Figures over a span of days", 1, 1, opt.flags, opt.run)
}

func (opt *reportOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.from, "from", "", "first `day`, YYYY-MM-DD; without it thirty days")
	f.StringVar(&opt.to, "to", "", "last `day`; without it today")
	f.BoolVar(&opt.asCSV, "csv", false, "print CSV")
}

func (opt *reportOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	if opt.asCSV {
		raw, _, err := c.Raw(ctx, "GET", "/api/v1/reports/"+a[0]+".csv?"+query("from", opt.from, "to", opt.to), nil)
		if err != nil {
			return err
		}
		_, err = p.w.Write(raw)
		return err
	}
	r, err := c.Report(ctx, a[0], opt.from, opt.to)
	if err != nil {
		return err
	}
	return p.show(r, func(row func(...any)) {
		for _, line := range api.ReportTable(r) {
			cells := make([]any, len(line))
			for i, c := range line {
				cells[i] = c
			}
			row(cells...)
		}
	})
}
