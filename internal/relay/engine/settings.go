package engine

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/freight"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/stock"
	"openrelay/internal/store"
)

// Settings of a connection, kept as JSON with it. The zero value of each is its safe default.
type Settings struct {
	Offer            stock.Policy      `json:"offer" doc:"Whose stock the channel sells, and how much of it is shown"`
	Tolerance        int64             `json:"tolerance" doc:"Minor units that totals may differ by"`
	Sender           string            `json:"sender,omitempty" doc:"Code of the sender as whom it ships; empty: the place"`
	TimeZone         string            `json:"time_zone,omitempty" doc:"IANA time zone in which the other side writes times; empty is UTC"`
	NumberPrefix     string            `json:"number_prefix,omitempty" doc:"Orders of this channel get a number series of their own that begins with this"`
	ChannelPrefix    string            `json:"channel_prefix,omitempty" doc:"Those that the channel or somebody else fulfils get a number series of their own that begins with this"`
	Anonymous        string            `json:"anonymous,omitempty" doc:"Customer name for orders without a buyer"`
	PriceList        string            `json:"price_list,omitempty" doc:"Price list whose prices are offered"`
	TaxName          string            `json:"tax_name,omitempty"`
	TaxPermille      int64             `json:"tax_permille,omitempty" doc:"Tax rate in thousandths, where the channel tells none"`
	PricesIncludeTax string            `json:"prices_include_tax,omitempty" doc:"Empty: as the channel says"                                                                                                                                                                                                                                                                                         enum:",yes,no"`
	PrepMinutes      int64             `json:"prep_minutes,omitempty" doc:"Preparation time that is told where a channel asks"`
	LookBackDays     int64             `json:"look_back_days,omitempty" doc:"How far back the first import looks for orders; 0 is 30 days"`
	Take             []string          `json:"take,omitempty" doc:"Meanings of channel states from which orders are taken; empty: all"`
	Merge            string            `json:"merge,omitempty" doc:"Empty keeps orders single; per day: those that are done become one summary order a day"                                                                                                                                                                                                                             enum:",per day"`
	MergeAt          string            `json:"merge_at,omitempty" doc:"When the day ends for merging, HH:MM on the clocks of the time zone; empty: 00:00"`
	Carry            string            `json:"carry,omitempty" doc:"How far an order goes without a person; empty: until it is ready to be picked; look: each new order waits for a look"                                                                                                                                                                                               enum:",look"`
	Keep             []string          `json:"keep,omitempty" doc:"Fields of ours that the other side does not overwrite: ship_to, or a field of items such as item name"`
	StockIn          string            `json:"stock_in,omitempty" doc:"What becomes of a quantity that the other side tells: empty puts ours back; take in counts it as ours"                                                                                                                                                                                                              enum:",take in"`
	Locations        map[string]string `json:"locations,omitempty" doc:"The other side's codes of places, and ours for them"`
	MatchBy          []string          `json:"match_by,omitempty" doc:"What matches a listing without a person: sku, near sku (but for signs), gtin; without it all three"`
	MatchAbove       int64             `json:"match_above,omitempty" doc:"Rule: suggestions at least this sure, 0 to 100, are applied; 0 leaves all to a person"                                                                                                                                                                                                                                                 minimum:"0" maximum:"100"`
	Account          string            `json:"difference_account,omitempty" doc:"Name of the account to which differences within the tolerance are booked"`
	TaxRounding      string            `json:"tax_rounding,omitempty" doc:"How the channel rounds tax, where it tells rates; empty: either is right"                                                                                                                                                                                                                                           enum:",line,order"`
	Payments         map[string]string `json:"payments,omitempty" doc:"The channel's words for methods of payment, and the account that may receive each"`
	Customer         string            `json:"generic_customer,omitempty" doc:"All orders belong to one customer of this name; empty: buyers are known by their e-mail"`
	OwnLocation      string            `json:"own_location,omitempty" doc:"Code of the location that stands for what the channel holds for us and ships itself"`
	Answer           string            `json:"answer,omitempty" doc:"Orders that want an answer: accept takes them without a person, ready after the preparation time; empty: a person answers"                                                                                                                                                                                          enum:",accept"`
	Services         map[string]string `json:"services,omitempty" doc:"The channel's words for deliveries that buyers were promised, and the service that each stands for: the code of one that a joined carrier sells, carrier/code, cheapest, cheapest in 2 days, fastest, or ask. Words that are not here are looked for in the table of services; parcels with none wait for a person"`
	TellTaken        bool              `json:"tell_taken,omitempty" doc:"Tell the channel that an order was taken in, where it can be told"`
	Publish          PublishSettings   `json:"publish,omitzero" doc:"How items are listed there"`
}

var statuses = []string{"pending", "open", "shipped", "cancelled"}

var prefixForm = regexp.MustCompile(`^[A-Z][A-Z0-9-]{0,7}$`)

// ParseSettings reads settings from JSON; a field that does not exist is refused by name.
func ParseSettings(text []byte) (Settings, error) {
	var s Settings
	dec := json.NewDecoder(bytes.NewReader(text))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&s); err != nil {
		return s, Refuse("settings: %v", err)
	}
	return s, nil
}

// Check refuses settings that could not work, field by field.
func (s *Settings) Check(r *Engine) error {
	if err := s.checkServices(r); err != nil {
		return err
	}
	for _, id := range s.Offer.Sources {
		switch at := r.Place(id); {
		case at.ID == 0:
			return Refuse("offer.sources: there is no location %d", id)
		case at.ArchivedAt != 0:
			return Refuse("offer.sources: %s is used no more", at.Name)
		}
	}
	if s.Sender != "" {
		switch from, ok := r.Sender(s.Sender); {
		case !ok:
			return Refuse("sender: there is no sender %q; add it in Settings", s.Sender)
		case from.ArchivedAt != 0:
			return Refuse("sender: %s is used no more", from.Name)
		}
	}
	o := s.Offer
	switch {
	case o.Buffer < 0 || o.Cap < 0 || o.Floor < 0:
		return Refuse("offer: buffer, cap and floor are not negative")
	case s.Tolerance < 0 || s.Tolerance > 100_000:
		return Refuse("tolerance: 0 to 100000 minor units are expected")
	case s.TaxPermille < 0 || s.TaxPermille > 1000:
		return Refuse("tax_permille: 0 to 1000 is expected")
	case s.PrepMinutes < 0 || s.PrepMinutes > 60*24*30:
		return Refuse("prep_minutes: at most 30 days are expected")
	case s.LookBackDays < 0 || s.LookBackDays > 3660:
		return Refuse("look_back_days: at most ten years are expected")
	case s.NumberPrefix != "" && !prefixForm.MatchString(s.NumberPrefix):
		return Refuse("number_prefix: a capital letter and up to seven letters, digits or - are expected")
	case s.PricesIncludeTax != "" && s.PricesIncludeTax != "yes" && s.PricesIncludeTax != "no":
		return Refuse("prices_include_tax: yes, no or nothing is expected")
	case s.ChannelPrefix != "" && !prefixForm.MatchString(s.ChannelPrefix):
		return Refuse("channel_prefix: a capital letter and up to seven letters, digits or - are expected")
	case s.TaxRounding != "" && s.TaxRounding != "line" && s.TaxRounding != "order":
		return Refuse("tax_rounding: line, order or nothing is expected")
	case s.Answer != "" && s.Answer != "accept":
		return Refuse("answer: accept or nothing is expected")
	case s.MergeAt != "" && MinuteOfDay(s.MergeAt) < 0:
		return Refuse("merge_at: a time such as 22:30 is expected")
	case s.Merge != "" && s.Merge != "per day":
		return Refuse("merge: per day or nothing is expected")
	case s.Carry != "" && s.Carry != "look":
		return Refuse("carry: look or nothing is expected")
	case s.StockIn != "" && s.StockIn != "take in":
		return Refuse("stock_in: take in or nothing is expected")
	}
	if err := checkOffer(o); err != nil {
		return err
	}
	if s.MatchAbove < 0 || s.MatchAbove > 100 {
		return Refuse("match_above: 0 to 100 is expected")
	}
	return s.checkNames(r)
}

// checkOffer refuses what no quantity can be worked out by.
func checkOffer(o stock.Policy) error {
	switch {
	case o.BufferPercent < 0 || o.BufferPercent > 100:
		return Refuse("offer.buffer_percent: 0 to 100 is expected")
	case o.ShareBelow < 0 || o.ShareBelow > 1_000_000 || o.ShareOver < 0 || o.ShareOver > 500:
		return Refuse("offer.share_below: 0 to a million units is expected, and offer.share_over 0 to 500 hundredths")
	case o.ShareOver > 0 && o.ShareBelow == 0:
		return Refuse("offer.share_over: does nothing without share_below, the units from which down channels share what is left")
	}
	return nil
}

// checkNames refuses names of what there is not: fields, locations, a time zone, states.
func (s *Settings) checkNames(r *Engine) error {
	for _, w := range s.MatchBy {
		if w != "sku" && w != "near sku" && w != "gtin" {
			return Refuse("match_by: %q is none of sku, near sku, gtin", w)
		}
	}
	for _, f := range s.Publish.Theirs {
		if !slices.Contains(publishFields, f) {
			return Refuse("publish.theirs: %q is none of %s", f, Join(publishFields))
		}
	}
	if s.OwnLocation != "" {
		if _, err := r.Location(s.OwnLocation); err != nil {
			return Refuse("own_location: %v", err)
		}
	}
	for theirs, ours := range s.Locations {
		if _, err := r.Location(ours); err != nil {
			return Refuse("locations: %s: %v", theirs, err)
		}
	}
	if _, err := time.LoadLocation(s.TimeZone); err != nil {
		return Refuse("time_zone: there is no zone %q; names are such as UTC or Etc/GMT-1", s.TimeZone)
	}
	for _, t := range s.Take {
		if !slices.Contains(statuses, t) {
			return Refuse("take: %q is none of %s", t, Join(statuses))
		}
	}
	for _, k := range s.Keep {
		field, ofItem := strings.CutPrefix(k, "item ")
		if k != "ship_to" && !(ofItem && slices.Contains(catalog.Fields(), field)) {
			return Refuse("keep: %q cannot be kept; ship_to can, and fields of items, such as item name", k)
		}
	}
	return nil
}

// checkServices refuses a service that no joined carrier sells. Before any carrier is joined, nothing is known and all
// is taken: a parcel then waits for a person.
func (s *Settings) checkServices(r *Engine) error {
	if len(s.Services) == 0 {
		return nil
	}
	known, err := r.Store.CarrierServices(r.Ctx)
	if err != nil || len(known) == 0 {
		return err
	}
	for word, pick := range s.Services {
		if err := r.CheckPick(r.Ctx, "services: "+word, pick); err != nil {
			return err
		}
	}
	return nil
}

// ForExpressions gives expressions the settings as text, whole numbers and truths.
func (s *Settings) ForExpressions() map[string]any {
	return map[string]any{"time_zone": s.TimeZone, "sender": s.Sender, "price_list": s.PriceList, "tax_name": s.TaxName,
		"tax_permille": s.TaxPermille, "prep_minutes": s.PrepMinutes, "anonymous": s.Anonymous}
}

// Complete puts into an order what its channel leaves to be decided here.
func (s *Settings) Complete(o *message.Order) {
	o.Normal()
	if o.BuyerName == "" && o.ShipTo.Name == "" {
		o.BuyerName = s.Anonymous
	}
	if s.PricesIncludeTax != "" {
		o.PricesIncludeTax = s.PricesIncludeTax == "yes"
	}
	if o.TaxRounding == "" {
		o.TaxRounding = s.TaxRounding
	}
	order.FillTax(o, s.TaxPermille)
}

// MinuteOfDay reads a time of day, HH:MM; empty is midnight, what is none is -1.
func MinuteOfDay(text string) int {
	if text == "" {
		return 0
	}
	t, err := time.Parse("15:04", text)
	if err != nil {
		return -1
	}
	return t.Hour()*60 + t.Minute()
}

// Zone is the time zone of the other side.
func (s *Settings) Zone() *time.Location {
	if z, err := time.LoadLocation(s.TimeZone); err == nil {
		return z
	}
	return time.UTC
}

// LookBack is the time from which orders are looked at by a first import.
func (s *Settings) LookBack(now time.Time) time.Time {
	days := s.LookBackDays
	if days == 0 {
		days = 30
	}
	return now.AddDate(0, 0, -int(days))
}

// CheckPick refuses a way of picking a service that names one that no joined carrier sells.
func (r *Engine) CheckPick(ctx context.Context, what, text string) error {
	p, err := freight.ParsePick(text)
	switch {
	case err != nil:
		return Refuse("%s: %v", what, err)
	case p.Service == "":
		return nil
	case p.Carrier == "":
		return r.CheckService(ctx, what, p.Service)
	}
	c := r.ByCode(p.Carrier)
	if c == nil || !SellsLabels(c) {
		return Refuse("%s: %q is no carrier that is joined", what, p.Carrier)
	}
	known, err := r.Store.CarrierServices(ctx)
	if err != nil ||
		slices.ContainsFunc(known, func(s store.CarrierService) bool { return s.ConnectionID == c.ID && s.Code == p.Service }) {
		return err
	}
	return Refuse("%s: %s does not sell %q", what, c.Rec().Name, p.Service)
}

// CheckService refuses a service that no joined carrier sells.
func (r *Engine) CheckService(ctx context.Context, what, code string) error {
	known, err := r.Store.CarrierServices(ctx)
	if err != nil {
		return err
	}
	var codes []string
	for _, s := range known {
		if s.Code == code {
			return nil
		}
		codes = append(codes, fmt.Sprintf("%s (%s)", s.Code, s.Name))
	}
	if len(codes) == 0 {
		return Refuse("%s %q: no joined carrier has told what it sells, so it could not be honoured; join a carrier first", what, code)
	}
	return Refuse("%s %q: no joined carrier sells it; there are %s", what, code, Join(codes))
}

// OursStay tells whether a field of items is never taken from this connection, by setting.
func (s *Settings) OursStay(field string) bool { return slices.Contains(s.Keep, "item "+field) }

// PublishSettings say how items are listed on a channel.
type PublishSettings struct {
	Mark   string   `json:"mark,omitempty" doc:"Items with this mark are listed by themselves"`
	Theirs []string `json:"theirs,omitempty" doc:"Fields of listings that belong to the channel and are never sent: title, description, category, price, images"`
}

var publishFields = []string{"title", "description", "category", "price", "images"}

// AccountsTable is the table of the accounts on which carriers are paid.
const AccountsTable = "billing accounts"

// CheckAccount refuses an account that is not in the table.
func (r *Engine) CheckAccount(ctx context.Context, code string) error {
	rows, err := (&Table[freight.Account]{Kind: AccountsTable}).Rows(ctx, r)
	if err == nil && !slices.ContainsFunc(rows, func(a freight.Account) bool { return a.Code == code }) {
		err = Refuse("account %q is not known; there are those of Settings, Carriers", code)
	}
	return err
}
