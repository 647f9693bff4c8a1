package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"openrelay/internal/core/money"
	"openrelay/internal/core/order"
	"openrelay/internal/core/place"
	"openrelay/internal/store"
)

// Company is what is known of the company itself.
type Company struct {
	Name     string             `json:"name" maxLength:"200"`
	TimeZone string             `json:"time_zone" maxLength:"80"  doc:"IANA name of the time zone in which its days begin; empty is UTC"`
	Country  string             `json:"country,omitempty" maxLength:"2"   doc:"Two letters of ISO 3166-1; new addresses begin with it"`
	Currency string             `json:"currency,omitempty" maxLength:"3"   doc:"Three letters of ISO 4217 for what says none; empty is EUR"`
	Language string             `json:"language,omitempty" doc:"Of papers: pick lists, manifests; empty is en"                                         enum:",en,de,fr"`
	Address  *place.Address     `json:"address,omitempty" doc:"Its own; places have theirs"`
	Together order.TogetherRule `json:"together,omitempty" doc:"Which orders to the same recipient are offered to be sent together; empty is any"      enum:",any,same channel,same day,same channel and day,never"`
	Reasons  []string           `json:"reasons,omitempty" doc:"Why units are cancelled here and goods come back; offered where a reason is asked for"                                                              maxItems:"40"`
}

const (
	CompanyKey  = "company"
	TimeZoneKey = "time zone"
	countryKey  = "country"
	currencyKey = "currency"
	addressKey  = "address"
	languageKey = "language"
	reasonsKey  = "reasons"
	togetherKey = "travel together"
)

// PaperLanguages are those that papers can be in.
var PaperLanguages = []string{"en", "de", "fr"}

// usualCurrency is the currency of a company that did not say one.
const usualCurrency = "EUR"

// Company tells what is known of the company.
func (r *Engine) Company(ctx context.Context) (c Company, err error) {
	address, reasons, together := "", "", ""
	for key, to := range map[string]*string{CompanyKey: &c.Name, TimeZoneKey: &c.TimeZone, countryKey: &c.Country,
		currencyKey: &c.Currency, addressKey: &address, languageKey: &c.Language,
		reasonsKey: &reasons, togetherKey: &together} {
		if *to, err = r.Store.Setting(ctx, key); err != nil {
			return c, err
		}
	}
	c.Currency, c.Together = Or(c.Currency, usualCurrency), order.TogetherRule(Or(together, string(order.AnyTogether)))
	if reasons != "" {
		c.Reasons = strings.Split(reasons, "\n")
	}
	if address != "" {
		c.Address = &place.Address{}
		err = json.Unmarshal([]byte(address), c.Address)
	}
	return c, err
}

// Check tidies what is said of a company, and refuses what it cannot be.
func (c *Company) Check() error {
	c.Name, c.TimeZone = strings.TrimSpace(c.Name), strings.TrimSpace(c.TimeZone)
	c.Country, c.Currency = strings.ToUpper(strings.TrimSpace(c.Country)), strings.ToUpper(strings.TrimSpace(c.Currency))
	if c.Name == "" {
		return Refuse("name: missing")
	}
	if _, err := ZoneOf(c.TimeZone); err != nil {
		return err
	}
	if c.Country != "" && !place.Known(c.Country) {
		return Refuse("country: %q is none; two letters such as DE are expected", c.Country)
	}
	if c.Currency != "" && !money.ValidCurrency(c.Currency) {
		return Refuse("currency: %q is none; three letters such as EUR are expected", c.Currency)
	}
	if c.Language != "" && !slices.Contains(PaperLanguages, c.Language) {
		return Refuse("language: %q is none of %s", c.Language, Join(PaperLanguages))
	}
	if c.Together = cmp.Or(c.Together, order.AnyTogether); !slices.Contains(order.TogetherRules, c.Together) {
		return Refuse("together: %q is none of %s", c.Together, Join(order.TogetherRules))
	}
	if err := c.checkReasons(); err != nil {
		return err
	}
	if c.Address != nil {
		c.Address.Normal()
		if *c.Address == (place.Address{Country: c.Address.Country}) { // nothing but a country was said
			c.Address = nil
			return nil
		}
		c.Address.Name = Or(c.Address.Name, c.Name)
		if problems := c.Address.Problems(); len(problems) > 0 {
			return Refuse("address: %s", strings.Join(problems, "; "))
		}
	}
	return nil
}

// checkReasons tidies the company's list of reasons: each once, on one line.
func (c *Company) checkReasons() error {
	var kept []string
	for _, s := range c.Reasons {
		if s = strings.Join(strings.Fields(s), " "); s == "" || slices.Contains(kept, s) {
			continue
		}
		if len(s) > 100 {
			return Refuse("reasons: at most 100 characters each")
		}
		kept = append(kept, s)
	}
	c.Reasons = kept
	return nil
}

// SetCompany writes what is known of the company.
func (r *Engine) SetCompany(ctx context.Context, c Company, who string) error {
	if err := c.Check(); err != nil {
		return err
	}
	if err := r.Commit(ctx, func(ch *Change) error { return r.PutCompany(ch, c, who) }); err != nil {
		return err
	}
	return r.Reload(ctx)
}

// PutCompany writes what is known of the company, within a change. It must have been checked; Reload takes it in.
func (r *Engine) PutCompany(ch *Change, c Company, who string) error {
	address := ""
	if c.Address != nil {
		text, err := json.Marshal(c.Address)
		if err != nil {
			return err
		}
		address = string(text)
	}
	for _, s := range [][2]string{{CompanyKey, c.Name}, {TimeZoneKey, c.TimeZone}, {countryKey, c.Country}, {currencyKey, c.Currency},
		{addressKey, address}, {languageKey, c.Language}, {togetherKey, string(c.Together)},
		{reasonsKey, strings.Join(c.Reasons, "\n")}} {
		if err := ch.PutSetting(s[0], s[1]); err != nil {
			return err
		}
	}
	ch.Tell("company", "")
	return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "company", What: "company",
		Text: fmt.Sprintf("%s; its days begin in %s, its currency is %s", c.Name, Or(c.TimeZone, "UTC"), Or(c.Currency, usualCurrency))})
}

// Currency is that of what says none.
func (r *Engine) Currency() string {
	if c := r.currency.Load(); c != nil {
		return *c
	}
	return usualCurrency
}

func ZoneOf(name string) (*time.Location, error) {
	zone, err := time.LoadLocation(name)
	if err != nil || name == "Local" {
		return nil, Refuse("time_zone: there is no zone %q; names are such as UTC or Etc/GMT-1", name)
	}
	return zone, nil
}

// Zone is the time zone in which the company's days begin.
func (r *Engine) Zone() *time.Location {
	if z := r.zone.Load(); z != nil {
		return z
	}
	return time.UTC
}

// Now is the time on the company's clocks.
func (r *Engine) Now() time.Time { return r.Clock().In(r.Zone()) }

// Midnight is when the company's day began.
func (r *Engine) Midnight() time.Time {
	now := r.Now()
	y, m, d := now.Date()
	return time.Date(y, m, d, 0, 0, 0, 0, now.Location())
}

// Today is the day on the company's clocks.
func (r *Engine) Today() string { return r.Now().Format(time.DateOnly) }

// DayEnds is when the company's day ends.
func (r *Engine) DayEnds() time.Time {
	now := r.Now()
	return time.Date(now.Year(), now.Month(), now.Day()+1, 0, 0, 0, 0, now.Location())
}

// loadCompany reads anew what decisions need to know of the company.
func (r *Engine) loadCompany(ctx context.Context) error {
	currency, err := r.Store.Setting(ctx, currencyKey)
	if err != nil {
		return err
	}
	currency = Or(currency, usualCurrency)
	r.currency.Store(&currency)
	return r.loadZone(ctx)
}

// loadZone reads the time zone anew. One that is not known here is no reason not to work: days are then those of UTC.
func (r *Engine) loadZone(ctx context.Context) error {
	name, err := r.Store.Setting(ctx, TimeZoneKey)
	if err != nil {
		return err
	}
	zone, err := ZoneOf(name)
	if err != nil {
		r.Log.Error("the company's time zone is not known on this machine; days are those of UTC", "zone", name)
		zone = time.UTC
	}
	r.zone.Store(zone)
	return nil
}
