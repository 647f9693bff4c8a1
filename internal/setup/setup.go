// Package setup is a company's set-up as text: places, parcel profiles, number series, connectors of its
// own, and connections with their settings and feeds, in YAML. It reads and writes the text, and compares
// two set-ups. It never holds a secret: credentials stand in it by reference. It carries nothing out; the
// relay does.
package setup

import (
	"bytes"
	"cmp"
	"embed"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"reflect"
	"regexp"
	"slices"
	"sort"
	"strings"

	"openrelay/internal/core/customs"
	"openrelay/internal/core/freight"
	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
	"openrelay/internal/core/request"
	"openrelay/internal/core/routing"

	"go.yaml.in/yaml/v3"
)

// Setup is a whole set-up. What is missing in it is left as it is when it is applied.
type Setup struct {
	Version     int               `yaml:"setup"` // of this form: 1
	About       string            `yaml:"about,omitempty"`
	Company     string            `yaml:"company,omitempty"`
	TimeZone    string            `yaml:"time_zone,omitempty"` // IANA name; the company's days begin in it
	Country     string            `yaml:"country,omitempty"`   // ISO 3166-1 alpha-2
	Currency    string            `yaml:"currency,omitempty"`  // ISO 4217, of what says none
	Language    string            `yaml:"language,omitempty"`  // of papers: en, de or fr
	Together    string            `yaml:"together,omitempty"`  // which orders to the same recipient are offered to be sent together
	Reasons     []string          `yaml:"reasons,omitempty"`   // why units are cancelled and goods come back
	Address     *Address          `yaml:"address,omitempty"`   // the company's own
	Series      map[string]string `yaml:"series,omitempty"`    // prefix of each number series
	Locations   []Location        `yaml:"locations,omitempty"`
	Profiles    []Profile         `yaml:"profiles,omitempty"`
	Senders     []Sender          `yaml:"senders,omitempty"`
	Carriers    []Carrier         `yaml:"carriers,omitempty"` // that are only named
	Rounds      []Round           `yaml:"rounds,omitempty"`   // rules by which orders are picked in one walk
	People      []Person          `yaml:"people,omitempty"`
	Tokens      []Token           `yaml:"tokens,omitempty"`
	Archived    Archived          `yaml:"archived,omitempty"`  // what is used no more
	Retention   map[string]int    `yaml:"retention,omitempty"` // days for which kinds stay whole; 0: for ever
	Backups     *Backups          `yaml:"backups,omitempty"`
	Routing     *routing.Policy   `yaml:"routing,omitempty"`    // from which places orders are sent
	Connectors  []string          `yaml:"connectors,omitempty"` // definitions, as text
	Connections []Connection      `yaml:"connections,omitempty"`

	// by which service parcels go, in the order in which rows are looked at
	Services []freight.Choice `yaml:"services,omitempty"`
	// when carriers come to places
	Collections []freight.Collection `yaml:"collections,omitempty"`
	// on which carriers are paid
	Accounts []freight.Account `yaml:"accounts,omitempty"`
	// how senders declare parcels that cross a customs border
	Customs []customs.Declarant `yaml:"customs,omitempty"`
	// what is charged for parcels; the first that fits counts
	FreightRules []freight.ChargeRule `yaml:"freight_rules,omitempty"`
	// what becomes of addresses where an address service is joined: never, show or spelling
	Addresses string `yaml:"addresses,omitempty"`
	// what was agreed with partners
	Partners []request.Terms `yaml:"partners,omitempty"`
	// what senders have of their own
	SenderOwn []place.SenderAddress `yaml:"sender_addresses,omitempty"`
}

// Location is a place that holds stock.
type Location struct {
	Code    string  `yaml:"code"`
	Name    string  `yaml:"name"`
	Address Address `yaml:"address,omitempty"`
	Keeper  string  `yaml:"keeper,omitempty"` // connection whose word counts there; without it ours

	Hours    place.Hours `yaml:"hours,omitempty"`    // when it is at work
	Position string      `yaml:"position,omitempty"` // latitude, longitude
	Bins     string      `yaml:"bins,omitempty"`     // one a line or by pattern, in the order in which they are walked
}

// Sender is whom parcels come from; connections name one by its code.
type Sender struct {
	Code    string `yaml:"code"`
	Name    string `yaml:"name"`
	Company string `yaml:"company,omitempty"`
	Phone   string `yaml:"phone,omitempty"`
	Email   string `yaml:"email,omitempty"`
}

// Carrier is one of which no more is known than its name and where its parcels are followed.
type Carrier struct {
	Code        string `yaml:"code"`
	Name        string `yaml:"name"`
	TrackingURL string `yaml:"tracking_url,omitempty"` // {number} stands for the tracking number
}

// Round is a rule by which orders are picked in one walk.
type Round struct {
	Code     string   `yaml:"code"`
	Name     string   `yaml:"name"`
	Location string   `yaml:"location"`
	Slots    int      `yaml:"slots"`
	Services []string `yaml:"services,omitempty"` // words that buyers wished for; none: any
	Units    int      `yaml:"units,omitempty"`    // 0: any order, 1: of a single unit, 2: all others
	Today    bool     `yaml:"today,omitempty"`    // only what should leave today
}

// Address is a postal address; country is an ISO 3166-1 alpha-2 code.
type Address struct {
	Name     string `yaml:"name,omitempty"`
	Company  string `yaml:"company,omitempty"`
	Street   string `yaml:"street,omitempty"`
	Extra    string `yaml:"extra,omitempty"`
	Postcode string `yaml:"postcode,omitempty"`
	Town     string `yaml:"town,omitempty"`
	Country  string `yaml:"country,omitempty"`
	Phone    string `yaml:"phone,omitempty"`
	Email    string `yaml:"email,omitempty"`
}

// Profile is a parcel profile: outer millimetres, grams.
type Profile struct {
	Code     string `yaml:"code"`
	Name     string `yaml:"name"`
	LengthMM int64  `yaml:"length_mm"`
	WidthMM  int64  `yaml:"width_mm"`
	HeightMM int64  `yaml:"height_mm"`
	TareG    int64  `yaml:"tare_g"`
	MaxG     int64  `yaml:"max_g"`
	Service  string `yaml:"service,omitempty"`
}

// Backups are when copies are made; their passphrase stands in no set-up.
type Backups struct {
	Daily bool   `yaml:"daily"`
	At    string `yaml:"at"` // HH:MM by the company's clocks
	Keep  int    `yaml:"keep"`
}

func (b *Backups) line() string {
	if b == nil || !b.Daily {
		return "none by itself"
	}
	return fmt.Sprintf("daily at %s, %d kept", b.At, b.Keep)
}

// Connection is a connection with everything that is decided about it.
type Connection struct {
	Code        string                `yaml:"code"`
	Connector   string                `yaml:"connector"`
	Name        string                `yaml:"name"`
	Address     string                `yaml:"address,omitempty"`
	Site        string                `yaml:"site,omitempty"`
	Account     string                `yaml:"account,omitempty"` // code of the connection whose account this one uses, too
	Test        bool                  `yaml:"test,omitempty"`
	Paused      bool                  `yaml:"paused,omitempty"`
	Credentials map[string]string     `yaml:"credentials,omitempty"` // references: env:NAME or file:PATH
	Settings    map[string]any        `yaml:"settings,omitempty"`    // locations by code
	Feeds       map[message.Feed]Feed `yaml:"feeds,omitempty"`
	// Previewed is a person's word that what sending stock changes was seen, here or on a trial system.
	// Without it, stock out is not switched on.
	Previewed bool   `yaml:"previewed,omitempty"`
	Overrides string `yaml:"overrides,omitempty"`
}

// Feed is a feed's switch: on, off, or a schedule of its own, which switches it on, too.
type Feed struct {
	On       bool
	Schedule string
}

// UnmarshalYAML reads on, off or { on: …, schedule: … }.
func (f *Feed) UnmarshalYAML(n *yaml.Node) error {
	if n.Kind == yaml.ScalarNode {
		switch n.Value {
		case "on", "true":
			f.On = true
		case "off", "false":
		default:
			return fmt.Errorf("line %d: %q: on or off is expected, or a mapping with on and schedule", n.Line, n.Value)
		}
		return nil
	}
	var m struct {
		On       *bool  `yaml:"on"`
		Schedule string `yaml:"schedule"`
	}
	if err := n.Decode(&m); err != nil {
		return err
	}
	f.On, f.Schedule = m.On == nil || *m.On, m.Schedule
	return nil
}

// MarshalYAML writes the short form where it says everything.
func (f Feed) MarshalYAML() (any, error) {
	if f.Schedule == "" {
		return &yaml.Node{Kind: yaml.ScalarNode, Value: map[bool]string{true: "on", false: "off"}[f.On]}, nil
	}
	return struct {
		On       bool   `yaml:"on"`
		Schedule string `yaml:"schedule"`
	}{f.On, f.Schedule}, nil
}

var variable = regexp.MustCompile(`\$\{([A-Za-z_][A-Za-z0-9_]*)(?::([^}]*))?\}`)

// Fill puts values into ${NAME} and ${NAME:otherwise}. A name without a value is an error with its line.
func Fill(text string, value func(string) (string, bool)) (string, error) {
	var missing []string
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		if strings.HasPrefix(strings.TrimSpace(line), "#") {
			continue
		}
		lines[i] = variable.ReplaceAllStringFunc(line, func(m string) string {
			part := variable.FindStringSubmatch(m)
			if v, ok := value(part[1]); ok {
				return v
			}
			if strings.Contains(m, ":") {
				return part[2]
			}
			missing = append(missing, fmt.Sprintf("line %d: %s has no value; give it with -set %s=…", i+1, part[1], part[1]))
			return m
		})
	}
	if len(missing) > 0 {
		return "", errors.New(strings.Join(missing, "\n"))
	}
	return strings.Join(lines, "\n"), nil
}

// maxText bounds the text of a set-up, in bytes.
const maxText = 4 << 20

// Parse reads a set-up. Unknown keys, double codes and references that are none are refused.
func Parse(text []byte) (Setup, error) {
	var s Setup
	if len(text) > maxText {
		return s, errors.New("a set-up is at most 4 MB")
	}
	var root yaml.Node
	if err := yaml.Unmarshal(text, &root); err != nil {
		return s, yamlError(err)
	}
	if err := noAliases(&root); err != nil {
		return s, err
	}
	dec := yaml.NewDecoder(bytes.NewReader(text))
	dec.KnownFields(true)
	if err := dec.Decode(&s); err != nil && err != io.EOF {
		return s, yamlError(err)
	}
	if s.Version != 1 {
		return s, errors.New(`the text does not begin with "setup: 1"; it is no set-up, or one of another version`)
	}
	return s, s.check()
}

func yamlError(err error) error {
	return errors.New(strings.ReplaceAll(strings.TrimPrefix(err.Error(), "yaml: "), "unmarshal errors:\n  ", ""))
}

func noAliases(n *yaml.Node) error {
	if n.Kind == yaml.AliasNode || n.Anchor != "" {
		return fmt.Errorf("line %d: anchors and aliases are not part of a set-up", n.Line)
	}
	for _, c := range n.Content {
		if err := noAliases(c); err != nil {
			return err
		}
	}
	return nil
}

func (s *Setup) check() error {
	seen := map[string]bool{}
	once := func(kind, code string) error {
		if code == "" {
			return fmt.Errorf("%s: one has no code", kind)
		}
		if seen[kind+" "+code] {
			return fmt.Errorf("%s: %s stands twice", kind, code)
		}
		seen[kind+" "+code] = true
		return nil
	}
	for _, l := range s.Locations {
		if err := once("locations", l.Code); err != nil {
			return err
		}
	}
	if err := errors.Join(eachOnce("profiles", s.Profiles, once), eachOnce("senders", s.Senders, once),
		eachOnce("carriers", s.Carriers, once), eachOnce("rounds", s.Rounds, once), s.checkServices()); err != nil {
		return err
	}
	if err := s.checkPeople(once); err != nil {
		return err
	}
	if err := s.checkArchived(); err != nil {
		return err
	}
	for _, c := range s.Connections {
		if err := once("connections", c.Code); err != nil {
			return err
		}
		if c.Connector == "" {
			return fmt.Errorf("connections: %s has no connector", c.Code)
		}
		for field, ref := range c.Credentials {
			if err := checkReference(ref); err != nil || ref == "" {
				return fmt.Errorf("connections: %s: credentials.%s: %w", c.Code, field, cmp.Or(err, errNoReference))
			}
		}
	}
	return nil
}

// Text writes a set-up.
func (s Setup) Text() ([]byte, error) {
	var buf bytes.Buffer
	e := yaml.NewEncoder(&buf)
	e.SetIndent(2)
	if err := e.Encode(s); err != nil {
		return nil, err
	}
	return buf.Bytes(), e.Close()
}

// Resolve looks up what references stand for. One without a value is left out and named in missing.
func Resolve(of Secrets, getenv func(string) string) (values map[string]string, missing []string, err error) {
	values = map[string]string{}
	for _, field := range sorted(of.Refs) {
		ref := of.Refs[field]
		if name, ok := strings.CutPrefix(ref, "env:"); ok {
			if v := getenv(name); v != "" {
				values[field] = v
			} else {
				missing = append(missing, fmt.Sprintf("%s.%s (%s)", of.Name, field, ref))
			}
			continue
		}
		b, err := os.ReadFile(strings.TrimPrefix(ref, "file:"))
		if errors.Is(err, os.ErrNotExist) {
			missing = append(missing, fmt.Sprintf("%s.%s (%s)", of.Name, field, ref))
			continue
		}
		if err != nil {
			return nil, nil, fmt.Errorf("%s: %s: %w", of.Name, field, err)
		}
		values[field] = strings.TrimSpace(string(b))
	}
	return values, missing, nil
}

// Change is one thing that applying a set-up changes.
type Change struct {
	Action string `json:"action" enum:"add,change,note" doc:"note: nothing is changed, but somebody should know"`
	Thing  string `json:"thing" doc:"Such as connection morrow"`
	Field  string `json:"field,omitempty"`
	From   string `json:"from,omitempty"`
	To     string `json:"to,omitempty"`
}

func (c Change) String() string {
	switch {
	case c.Action == "note":
		return fmt.Sprintf("see  %s: %s", c.Thing, c.To)
	case c.Action == "add" && c.Field == "":
		return strings.TrimSpace(fmt.Sprintf("new  %s  %s", c.Thing, c.To))
	case c.Action == "add":
		return fmt.Sprintf("new  %s  %s: %s", c.Thing, c.Field, c.To)
	}
	return fmt.Sprintf("set  %s  %s: %s → %s", c.Thing, c.Field, orNothing(c.From), orNothing(c.To))
}

func orNothing(s string) string {
	if s == "" {
		return "nothing"
	}
	return s
}

// Compare says what it takes to bring one set-up to what another asks for. What the other does not
// mention is left alone.
func Compare(have, want Setup) []Change {
	var out []Change
	change := func(thing, field, from, to string) {
		if from != to {
			out = append(out, Change{Action: "change", Thing: thing, Field: field, From: from, To: to})
		}
	}
	if want.Company != "" {
		change("company", "name", have.Company, want.Company)
	}
	if want.TimeZone != "" {
		change("company", "time_zone", have.TimeZone, want.TimeZone)
	}
	if want.Country != "" {
		change("company", "country", have.Country, want.Country)
	}
	if want.Currency != "" {
		change("company", "currency", have.Currency, want.Currency)
	}
	if want.Language != "" {
		change("company", "language", have.Language, want.Language)
	}
	if want.Together != "" {
		change("company", "together", have.Together, want.Together)
	}
	if want.Reasons != nil {
		change("company", "reasons", strings.Join(have.Reasons, ", "), strings.Join(want.Reasons, ", "))
	}
	if want.Address != nil {
		was := Address{}
		if have.Address != nil {
			was = *have.Address
		}
		change("company", "address", was.line(), want.Address.line())
	}
	for _, code := range sorted(want.Series) {
		change("number series "+code, "prefix", have.Series[code], want.Series[code])
	}
	for _, kind := range sorted(want.Retention) {
		change("retention of "+kind, "days", fmt.Sprint(have.Retention[kind]), fmt.Sprint(want.Retention[kind]))
	}
	if want.Backups != nil {
		change("backups", "schedule", have.Backups.line(), want.Backups.line())
	}
	out = append(out, compareArchived(have, want)...)
	out = append(out, compareLocations(have, want.Locations)...)
	out = append(out, compareLines("parcel profile", "measures", have.Profiles, want.Profiles, have.Archived.Profiles)...)
	out = append(out, compareLines("sender", "sender", have.Senders, want.Senders, have.Archived.Senders)...)
	out = append(out, compareLines("round", "rule", have.Rounds, want.Rounds, nil)...)
	out = append(out, compareTable("billing accounts", have.Accounts, want.Accounts)...)
	out = append(out, compareTable("freight rules", have.FreightRules, want.FreightRules)...)
	out = append(out, compareTable("customs", have.Customs, want.Customs)...)
	change("addresses", "check", have.Addresses, want.Addresses)
	out = append(out, compareTable("sender addresses", have.SenderOwn, want.SenderOwn)...)
	out = append(out, compareTable("collections", have.Collections, want.Collections)...)
	out = append(out, compareTable("table of services", have.Services, want.Services)...)
	out = append(out, compareLines("carrier", "carrier", have.Carriers, want.Carriers, have.Archived.Carriers)...)
	out = append(append(out, compareRouting(have, want)...), comparePeople(have, want)...)
	return append(out, compareConnections(have, want)...)
}

func compareLocations(have Setup, want []Location) (out []Change) {
	there := map[string]Location{}
	for _, l := range have.Locations {
		there[l.Code] = l
	}
	for _, w := range want {
		h, ok := there[w.Code]
		if !ok && slices.Contains(have.Archived.Locations, w.Code) {
			continue // it is told as used again
		}
		if !ok {
			out = append(out, Change{Action: "add", Thing: "location " + w.Code, To: w.Name})
			continue
		}
		for _, f := range []struct {
			name, from, to string
			said           bool
		}{
			{"name", h.Name, w.Name, true},
			{"address", h.Address.line(), w.Address.line(), w.Address != (Address{})},
			{"keeper", h.Keeper, w.Keeper, w.Keeper != ""},
			{"hours", hoursLine(h.Hours), hoursLine(w.Hours), w.Hours.Said()},
			{"position", h.Position, w.Position, w.Position != ""},
			{"bins", binsLine(h.Bins), binsLine(w.Bins), w.Bins != ""},
		} {
			if f.said && f.from != f.to {
				out = append(out, Change{Action: "change", Thing: "location " + w.Code, Field: f.name, From: f.from, To: f.to})
			}
		}
	}
	return out
}

// kept is what is kept by its code and told in a line.
type kept interface {
	code() string
	title() string
	line() string
}

// eachOnce refuses what stands twice, or has no code.
func eachOnce[T kept](kind string, list []T, once func(kind, code string) error) error {
	for _, x := range list {
		if err := once(kind, x.code()); err != nil {
			return err
		}
	}
	return nil
}

// compareTable says that a list that is replaced as a whole is another.
func compareTable[T any](thing string, have, want []T) []Change {
	if len(want) == 0 || reflect.DeepEqual(have, want) {
		return nil
	}
	return []Change{{Action: "change", Thing: thing, Field: "rows", From: fmt.Sprintf("%d rows", len(have)),
		To: fmt.Sprintf("%d rows", len(want))}}
}

// compareRouting tells whether places are to be chosen otherwise, or partners asked otherwise.
func compareRouting(have, want Setup) []Change {
	partners := compareTable("partners", have.Partners, want.Partners)
	if want.Routing == nil || sameYAML(have.Routing, want.Routing) {
		return partners
	}
	return append(partners, Change{Action: "change", Thing: "routing", Field: "policy", From: policyLine(have.Routing),
		To: policyLine(want.Routing)})
}

// policyLine tells in a line how places are chosen.
func policyLine(p *routing.Policy) string {
	if p == nil || !p.On {
		return "the first place that has all"
	}
	return fmt.Sprintf("what costs least; terms of %d places", len(p.Places))
}

// sameYAML tells whether two parts are written alike.
func sameYAML(a, b any) bool {
	x, errA := yaml.Marshal(a)
	y, errB := yaml.Marshal(b)
	return errA == nil && errB == nil && bytes.Equal(x, y)
}

// checkServices refuses rows of the table of services that could not be.
func (s *Setup) checkServices() error {
	for i := range s.Services {
		if err := s.Services[i].Check(); err != nil {
			return fmt.Errorf("services[%d]: %w", i, err)
		}
	}
	for i := range s.Accounts {
		if err := s.Accounts[i].Check(); err != nil {
			return fmt.Errorf("accounts[%d]: %w", i, err)
		}
	}
	for i := range s.FreightRules {
		if err := s.FreightRules[i].Check(); err != nil {
			return fmt.Errorf("freight_rules[%d]: %w", i, err)
		}
	}
	for i := range s.Customs {
		if err := s.Customs[i].Check(); err != nil {
			return fmt.Errorf("customs[%d]: %w", i, err)
		}
	}
	for i := range s.SenderOwn {
		if err := s.SenderOwn[i].Check(); err != nil {
			return fmt.Errorf("sender_addresses[%d]: %w", i, err)
		}
	}
	for i := range s.Partners {
		if err := s.Partners[i].Check(); err != nil {
			return fmt.Errorf("partners[%d]: %w", i, err)
		}
	}
	for i := range s.Collections {
		if err := s.Collections[i].Check(); err != nil {
			return fmt.Errorf("collections[%d]: %w", i, err)
		}
	}
	return nil
}

// compareLines compares what is told in a line; those of archived are told as used again, not as new.
func compareLines[T kept](thing, field string, have, want []T, archived []string) (out []Change) {
	there := map[string]T{}
	for _, x := range have {
		there[x.code()] = x
	}
	for _, w := range want {
		h, ok := there[w.code()]
		if !ok && !slices.Contains(archived, w.code()) {
			out = append(out, Change{Action: "add", Thing: thing + " " + w.code(), To: w.title()})
		} else if ok && h.line() != w.line() {
			out = append(out, Change{Action: "change", Thing: thing + " " + w.code(), Field: field, From: h.line(), To: w.line()})
		}
	}
	return out
}

func (p Profile) code() string  { return p.Code }
func (p Profile) title() string { return p.Name }
func (s Sender) code() string   { return s.Code }
func (s Sender) title() string  { return s.Name }
func (r Round) code() string    { return r.Code }
func (r Round) title() string   { return r.Name }
func (c Carrier) code() string  { return c.Code }
func (c Carrier) title() string { return c.Name }

func (s Sender) line() string { return joined(s.Name, s.Company, s.Phone, s.Email) }

func (r Round) line() string {
	return joined(r.Name, r.Location, fmt.Sprintf("%d slots", r.Slots), strings.Join(r.Services, " or "),
		[]string{"", "of one unit", "of more"}[min(max(r.Units, 0), 2)], map[bool]string{true: "leaving today"}[r.Today])
}

func (c Carrier) line() string { return joined(c.Name, c.TrackingURL) }

func hoursLine(h place.Hours) string {
	parts := append([]string{strings.Join(h.Week, " ")}, h.Cutoff)
	for _, d := range h.DaysOff {
		parts = append(parts, strings.TrimSpace(d.From+" to "+d.To+" "+d.Why))
	}
	return joined(parts...)
}

func binsLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// compareConnections says what becomes of the connections.
func compareConnections(have, want Setup) []Change {
	var out []Change
	connections := map[string]Connection{}
	for _, c := range have.Connections {
		connections[c.Code] = c
	}
	for _, w := range want.Connections {
		h, ok := connections[w.Code]
		out = append(out, compareConnection(h, w, ok)...)
		delete(connections, w.Code)
	}
	for _, code := range sorted(connections) {
		if len(want.Connections) > 0 {
			out = append(out, Change{Action: "note", Thing: "connection " + code, To: "is not in the text and is left as it is"})
		}
	}
	return out
}

func (a Address) line() string {
	return joined(a.Name, a.Company, a.Street, a.Extra, a.Postcode, a.Town, a.Country, a.Phone, a.Email)
}

// joined joins what is said.
func joined(parts ...string) string {
	return strings.Join(slices.DeleteFunc(parts, func(s string) bool { return s == "" }), ", ")
}

func (p Profile) line() string {
	return strings.TrimSpace(fmt.Sprintf("%s, %d×%d×%d mm, %d g, up to %d g %s", p.Name, p.LengthMM, p.WidthMM, p.HeightMM, p.TareG,
		p.MaxG, p.Service))
}

func compareConnection(h, w Connection, there bool) []Change {
	thing := "connection " + w.Code
	if !there {
		return newConnection(w)
	}
	var out []Change
	change := func(field, from, to string) {
		if from != to {
			out = append(out, Change{Action: "change", Thing: thing, Field: field, From: from, To: to})
		}
	}
	if h.Connector != w.Connector {
		out = append(out, Change{Action: "note", Thing: thing,
			To: fmt.Sprintf("is joined by %s and cannot become one of %s; leave it first", h.Connector, w.Connector)})
	}
	if w.Name != "" {
		change("name", h.Name, w.Name)
	}
	if w.Address != "" {
		change("address", h.Address, strings.TrimRight(w.Address, "/"))
	}
	if w.Site != "" && h.Site != w.Site {
		out = append(out, Change{Action: "note", Thing: thing,
			To: fmt.Sprintf("is on the site %s; another site is another connection", h.Site)})
	}
	change("test", yes(h.Test), yes(w.Test))
	change("paused", yes(h.Paused), yes(w.Paused))
	if w.Overrides != "" {
		change("overrides", short(h.Overrides), short(w.Overrides))
	}
	hs, ws := flat(h.Settings), flat(w.Settings)
	for _, path := range sorted(ws) {
		if was, decided := hs[path]; decided || !slices.Contains([]string{"", "0", "false"}, ws[path]) {
			change("settings."+path, was, ws[path])
		}
	}
	for _, kind := range sorted(w.Feeds) {
		f := w.Feeds[kind]
		if kind == message.StockOut && f.On && !h.Feeds[kind].On && !w.Previewed && !h.Previewed {
			out = append(out, Change{Action: "note", Thing: thing,
				To: "stock out stays off until what it changes was seen; say previewed: true where it was"})
			continue
		}
		change("feeds."+string(kind), h.Feeds[kind].line(), f.line())
	}
	return out
}

// newConnection says what a connection brings that is not there yet.
func newConnection(w Connection) []Change {
	thing := "connection " + w.Code
	out := []Change{{Action: "add", Thing: thing, To: fmt.Sprintf("%s, by %s", w.Name, w.Connector)}}
	for path, v := range flat(w.Settings) {
		out = append(out, Change{Action: "add", Thing: thing, Field: "settings." + path, To: v})
	}
	for kind, f := range w.Feeds {
		out = append(out, Change{Action: "add", Thing: thing, Field: "feeds." + string(kind), To: f.line()})
	}
	if w.Test {
		out = append(out, Change{Action: "add", Thing: thing, Field: "test", To: "yes"})
	}
	sortFields(out[1:])
	if f := w.Feeds[message.StockOut]; f.On && !w.Previewed {
		out = append(out, Change{Action: "note", Thing: thing,
			To: "stock out stays off until what it changes was seen; say previewed: true where it was"})
	}
	return out
}

func (f Feed) line() string {
	s := map[bool]string{true: "on", false: "off"}[f.On]
	if f.Schedule != "" {
		s += ", " + f.Schedule
	}
	return s
}

func yes(b bool) string { return map[bool]string{true: "yes", false: "no"}[b] }

func short(s string) string {
	if s = strings.Join(strings.Fields(s), " "); len(s) > 60 {
		return s[:60] + "…"
	}
	return s
}

// flat writes nested settings as paths with their values.
func flat(m map[string]any) map[string]string {
	out := map[string]string{}
	var walk func(path string, v any)
	walk = func(path string, v any) {
		switch x := v.(type) {
		case map[string]any:
			for k, in := range x {
				walk(strings.TrimPrefix(path+"."+k, "."), in)
			}
		case []any:
			parts := make([]string, len(x))
			for i, el := range x {
				parts[i] = fmt.Sprint(el)
			}
			out[path] = strings.Join(parts, ", ")
		case nil:
			out[path] = ""
		case float64:
			out[path] = strings.TrimSuffix(fmt.Sprintf("%.4f", x), ".0000")
		default:
			out[path] = fmt.Sprint(x)
		}
	}
	walk("", m)
	return out
}

// sorted lists the keys of a map in their order; of an empty one none, which is a list all the same.
func sorted[K ~string, V any](m map[K]V) []K {
	out := slices.AppendSeq(make([]K, 0, len(m)), maps.Keys(m))
	slices.Sort(out)
	return out
}

func sortFields(list []Change) {
	sort.Slice(list, func(i, j int) bool { return list[i].Field < list[j].Field })
}

//go:embed ready/*.yaml
var ready embed.FS

// Ready lists the names of the set-ups that ship with the relay.
func Ready() []string {
	files, err := ready.ReadDir("ready")
	if err != nil {
		return nil
	}
	out := make([]string, len(files))
	for i, f := range files {
		out[i] = strings.TrimSuffix(f.Name(), ".yaml")
	}
	return out
}

// ReadyText returns a set-up that ships with the relay.
func ReadyText(name string) (string, error) {
	b, err := ready.ReadFile("ready/" + name + ".yaml")
	if err != nil {
		return "", fmt.Errorf("there is no ready-made set-up %q; there are: %s", name, strings.Join(Ready(), ", "))
	}
	return string(b), nil
}
