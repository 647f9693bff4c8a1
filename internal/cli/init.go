package cli

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"strings"

	"openrelay/internal/core/place"
	"openrelay/internal/relay"
	"openrelay/internal/relay/people"
)

// initOptions are what a company begins with.
type initOptions struct {
	data string
	people.Beginning
	address place.Address
}

func (opt *initOptions) flags(f *flag.FlagSet) {
	c, p, a := &opt.Company, &opt.Person, &opt.address
	f.StringVar(&opt.data, "data", "company.relay", "company `file`; it is made if it is missing")
	f.StringVar(&c.Name, "company", "", "what the company is called (required)")
	f.StringVar(&p.Name, "name", "", "the `person` who leads it (required)")
	f.StringVar(&p.Email, "email", "", "`address` with which that person signs in (required)")
	f.StringVar(&c.Country, "country", "", "`letters` of its country, two, of ISO 3166-1")
	f.StringVar(&c.TimeZone, "time-zone", "", "`zone` in which its days begin, such as Etc/GMT-1; without it UTC")
	f.StringVar(&c.Currency, "currency", "", "`letters` of its currency, three, of ISO 4217; without it EUR")
	f.StringVar(&c.Language, "language", "", "`letters` of the language of papers: en, de or fr; without it en")
	f.StringVar(&a.Street, "street", "", "of its address: street and number")
	f.StringVar(&a.Postcode, "postcode", "", "of its address")
	f.StringVar(&a.Town, "town", "", "of its address")
}

func runInit(ctx context.Context, e *Env, f *flag.FlagSet, args []string) error {
	opt := &initOptions{}
	opt.flags(f)
	if err := parse(f, args, 0, 0); err != nil {
		return err
	}
	if opt.address != (place.Address{}) {
		opt.address.Country = opt.Company.Country
		opt.Company.Address = &opt.address
	}
	password, err := readPassword(e)
	if err != nil {
		return err
	}
	opt.Person.Password = password
	return withRelay(ctx, opt.data, func(r *relay.Relay) error {
		u, err := r.BeginCompany(ctx, opt.Beginning)
		if err == nil {
			fmt.Fprintf(e.Out, "%s begins in %s; %s signs in as %s\nNext: openrelay serve -data %s\n", opt.Company.Name, opt.data, u.Name,
				u.Email, opt.data)
		}
		return err
	})
}

// readPassword reads a line from standard input.
func readPassword(e *Env) (string, error) {
	return readSecret(e, "Password (at least 8 characters):")
}

// readSecret asks for a line on standard input.
func readSecret(e *Env, asked string) (string, error) {
	fmt.Fprintln(e.Err, asked)
	line, err := bufio.NewReader(e.In).ReadString('\n')
	if err != nil && line == "" {
		return "", errors.New("nothing was given on standard input")
	}
	return strings.TrimRight(line, "\r\n"), nil
}
