package cli

import (
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/core/money"
	"openrelay/internal/relay/inventory"
)

func momentFlag(to *time.Time) func(string) error {
	return func(text string) (err error) {
		*to, err = time.Parse(time.RFC3339, text)
		if err != nil {
			err = errors.New("a moment such as 2026-01-31T12:00:00Z is expected")
		}
		return err
	}
}

// lines collects SKU=QUANTITY.
type lines []inventory.Quantity

func (l *lines) add(text string) error {
	sku, n, ok := strings.Cut(text, "=")
	qty, err := strconv.ParseInt(n, 10, 64)
	if !ok || sku == "" || err != nil {
		return errors.New("SKU=QUANTITY is expected")
	}
	*l = append(*l, inventory.Quantity{SKU: sku, Quantity: qty})
	return nil
}

func number(text string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0, usage{fmt.Sprintf("%q: a number is expected", text)}
	}
	return n, nil
}

// lineOptions are the lines of a document, and what makes it safe to ask for it twice.
type lineOptions struct {
	lines lines
	key   string
}

func (o *lineOptions) flags(f *flag.FlagSet) {
	f.Func("line", "`SKU=QUANTITY`; may be given several times", o.lines.add)
	f.StringVar(&o.key, "key", "", "makes the command safe to repeat: the same key does it once")
}

func (o *lineOptions) options() []client.Option {
	if o.key == "" {
		return nil
	}
	return []client.Option{client.Key(o.key)}
}

// optionalFlag is a number that may be left out.
func optionalFlag(f *flag.FlagSet, name string, to **int64, about string) {
	f.Func(name, about, func(text string) error {
		n, err := strconv.ParseInt(text, 10, 64)
		*to = &n
		return err
	})
}

// pairs collects repeated name=value flags. A value env:NAME is read from the environment and @FILE from
// a file, so that secrets need not stand on the command line.
type pairs struct{ m map[string]string }

func (p *pairs) String() string { return "" }

func (p *pairs) Set(text string) error {
	name, value, ok := strings.Cut(text, "=")
	if !ok || name == "" {
		return errors.New("name=value is expected")
	}
	if file, ok := strings.CutPrefix(value, "@"); ok {
		b, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		value = strings.TrimRight(string(b), "\r\n")
	} else if env, ok := strings.CutPrefix(value, "env:"); ok {
		if value = os.Getenv(env); value == "" {
			return fmt.Errorf("the variable %s is not set", env)
		}
	}
	if p.m == nil {
		p.m = map[string]string{}
	}
	p.m[name] = value
	return nil
}

func readJSON(file string, v any) error {
	b, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(b, v); err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	return nil
}

// priced reads an amount as people write it, with its currency: "12.90 EUR".
func priced(text string) (minor int64, currency string, err error) {
	number, currency, _ := strings.Cut(strings.TrimSpace(text), " ")
	currency = strings.ToUpper(strings.TrimSpace(currency))
	minor, err = money.Parse(number, currency)
	if err != nil || minor < 0 {
		return 0, "", fmt.Errorf("%q: an amount with its currency is expected, such as \"12.90 EUR\"", text)
	}
	return minor, currency, nil
}
