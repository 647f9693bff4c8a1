package joining

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"strings"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/packing"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/keeping"
	"openrelay/internal/relay/views"
	"openrelay/internal/setup"
	"openrelay/internal/store"
)

// ExportSetup writes the set-up of the company as it is. Credentials stand in it as references to
// variables of the environment that do not exist yet.
func (r *Joining) ExportSetup(ctx context.Context) (setup.Setup, error) {
	out := setup.Setup{Version: 1, Series: map[string]string{}}
	known, err := r.Company(ctx)
	if err != nil {
		return out, err
	}
	out.Company, out.TimeZone, out.Country, out.Currency = known.Name, known.TimeZone, known.Country, known.Currency
	out.Language, out.Reasons, out.Together = known.Language, known.Reasons, string(known.Together)
	if known.Address != nil {
		a := setup.Address(*known.Address)
		out.Address = &a
	}
	if err := r.exportGround(ctx, &out); err != nil {
		return out, err
	}
	views, err := r.Views.Connections(ctx)
	if err != nil {
		return out, err
	}
	owner := map[int64]string{}
	for _, v := range views {
		if v.State != store.On {
			continue
		}
		c := r.connectionText(v, owner)
		for _, f := range v.Feeds {
			c.Feeds[f.Kind] = setup.Feed{On: f.On, Schedule: f.Schedule}
		}
		var s engine.Settings
		if err := json.Unmarshal([]byte(v.Settings), &s); err != nil {
			return out, err
		}
		if c.Settings, err = r.settingsText(s); err != nil {
			return out, err
		}
		if v.Side != "channel" && len(s.Offer.Sources) == 0 {
			delete(c.Settings, "offer") // it offers nothing
		}
		out.Connections = append(out.Connections, c)
	}
	return out, nil
}

// exportGround writes what connections stand on: number series, places, profiles, connectors of its own.
func (r *Joining) exportGround(ctx context.Context, out *setup.Setup) error {
	series, err := r.Store.Series(ctx)
	if err != nil {
		return err
	}
	for _, s := range series {
		if !strings.Contains(s.Code, " ") { // those of connections come from their settings
			out.Series[s.Code] = s.Prefix
		}
	}
	locations, err := r.Store.Locations(ctx)
	if err != nil {
		return err
	}
	for _, l := range locations {
		if l.ArchivedAt != 0 {
			out.Archived.Locations = append(out.Archived.Locations, l.Code)
		} else {
			out.Locations = append(out.Locations, setup.Location{Code: l.Code, Name: l.Name, Address: setup.Address(l.Address),
				Keeper: r.Code(l.Keeper), Hours: l.Hours, Bins: l.Bins, Position: l.Position})
		}
	}
	for _, export := range []func(context.Context, *setup.Setup) error{r.exportRounds, r.exportServices, r.exportSenders, r.exportKeeping,
		r.People.ExportPeople} {
		if err := export(ctx, out); err != nil {
			return err
		}
	}
	profiles, err := r.Store.KeptProfiles(ctx)
	if err != nil {
		return err
	}
	for _, p := range profiles {
		if p.ArchivedAt != 0 {
			out.Archived.Profiles = append(out.Archived.Profiles, p.Code)
		} else {
			out.Profiles = append(out.Profiles, setup.Profile(p.Profile))
		}
	}
	defs, err := r.Store.Definitions(ctx)
	if err != nil {
		return err
	}
	for _, d := range defs {
		out.Connectors = append(out.Connectors, d.Text)
	}
	return nil
}

// exportKeeping writes for how long things stay whole, and when copies are made.
func (r *Joining) exportKeeping(ctx context.Context, out *setup.Setup) error {
	kinds, err := r.Keeping.Retentions(ctx)
	if err != nil {
		return err
	}
	out.Retention = map[string]int{}
	for _, k := range kinds {
		out.Retention[k.Kind] = k.Days
	}
	s, _, err := r.Keeping.Schedule(ctx)
	out.Backups = &setup.Backups{Daily: s.On, At: s.At, Keep: s.Keep}
	return err
}

// applyKeeping sets for how long things stay whole, and when copies are made.
func (r *Joining) applyKeeping(ctx context.Context, want setup.Setup, who string) error {
	have := setup.Setup{}
	if err := r.exportKeeping(ctx, &have); err != nil {
		return err
	}
	days := map[string]int{}
	for kind, n := range want.Retention {
		if was, known := have.Retention[kind]; !known || was != n {
			days[kind] = n
		}
	}
	if len(days) > 0 {
		if err := r.Keeping.SetRetention(ctx, days, who); err != nil {
			return fmt.Errorf("retention: %w", err)
		}
	}
	if want.Backups == nil || *want.Backups == *have.Backups {
		return nil
	}
	b := want.Backups
	if err := r.Keeping.SetSchedule(ctx, keeping.Schedule{On: b.Daily, At: b.At, Keep: b.Keep}, "", who); err != nil {
		return fmt.Errorf("backups: %w", err)
	}
	return nil
}

// exportSenders writes whom parcels come from, and carriers that are only named.
func (r *Joining) exportSenders(ctx context.Context, out *setup.Setup) error {
	senders, err := r.Store.Senders(ctx)
	if err != nil {
		return err
	}
	for _, s := range senders {
		if s.ArchivedAt != 0 {
			out.Archived.Senders = append(out.Archived.Senders, s.Code)
		} else {
			out.Senders = append(out.Senders, setup.Sender{Code: s.Code, Name: s.Name, Company: s.Company, Phone: s.Phone, Email: s.Email})
		}
	}
	carriers, err := r.Store.NamedCarriers(ctx)
	for _, c := range carriers {
		if c.ArchivedAt != 0 {
			out.Archived.Carriers = append(out.Archived.Carriers, c.Code)
		} else {
			out.Carriers = append(out.Carriers, setup.Carrier{Code: c.Code, Name: c.Name, TrackingURL: c.TrackingURL})
		}
	}
	return err
}

// connectionText is a connection as text. Its credentials stand as names of the environment, with the first connection of
// its account; owner says which that is, by account.
func (r *Joining) connectionText(v views.ConnectionView, owner map[int64]string) setup.Connection {
	c := setup.Connection{Code: v.Code, Connector: v.Connector, Name: v.Name, Address: v.Host,
		Site: v.Site, Test: v.Test, Paused: v.Paused, Previewed: v.PreviewedAt != 0, Overrides: v.Overrides,
		Feeds: map[message.Feed]setup.Feed{}}
	if first := owner[v.AccountID]; first != "" {
		c.Account = first
	} else {
		owner[v.AccountID] = v.Code
		for _, f := range r.Connector(v.Connector).Access.Fields {
			if !f.Give {
				if c.Credentials == nil {
					c.Credentials = map[string]string{}
				}
				c.Credentials[f.Name] = "env:" + envName(v.Code, f.Name)
			}
		}
	}
	return c
}

func envName(code, field string) string {
	return strings.ToUpper(strings.NewReplacer("-", "_", " ", "_").Replace(code + "_" + field))
}

// settingsText writes settings as a set-up has them: locations by code. What is offered and the tolerance are
// written in full, so that a set-up brings another company to the same; what else was never decided is not.
func (r *Joining) settingsText(s engine.Settings) (map[string]any, error) {
	b, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	var m map[string]any
	if err := json.Unmarshal(b, &m); err != nil {
		return nil, err
	}
	codes := []any{}
	for _, id := range s.Offer.Sources {
		codes = append(codes, r.Place(id).Code)
	}
	m["offer"].(map[string]any)["sources"] = codes
	return m, nil
}

// settingsOf lays the settings of a set-up over those that are there.
func (r *Joining) settingsOf(have engine.Settings, text map[string]any) (engine.Settings, error) {
	m, err := r.settingsText(have)
	if err != nil {
		return have, err
	}
	lay(m, text)
	if offer, ok := m["offer"].(map[string]any); ok {
		if codes, ok := offer["sources"].([]any); ok {
			ids := []any{}
			for _, code := range codes {
				l, err := r.Location(fmt.Sprint(code))
				if err != nil {
					return have, err
				}
				ids = append(ids, l.ID)
			}
			offer["sources"] = ids
		}
	}
	b, err := json.Marshal(m)
	if err != nil {
		return have, err
	}
	out, err := engine.ParseSettings(b)
	if err != nil {
		return have, err
	}
	return out, out.Check(r.Engine)
}

func lay(under, over map[string]any) {
	for k, v := range over {
		if m, ok := v.(map[string]any); ok {
			if old, ok := under[k].(map[string]any); ok {
				lay(old, m)
				continue
			}
			fresh := map[string]any{}
			lay(fresh, m)
			under[k] = fresh
			continue
		}
		under[k] = v
	}
}

// PlanSetup says what applying a set-up would change. secrets are the values that the credentials'
// references stand for, by connection and field; without one, the credentials that are there stay.
func (r *Joining) PlanSetup(ctx context.Context, want setup.Setup, secrets map[string]map[string]string) ([]setup.Change, error) {
	have, err := r.ExportSetup(ctx)
	if err != nil {
		return nil, err
	}
	out := setup.Compare(have, want)
	more, err := r.People.PlanPeople(have, want, secrets)
	if err != nil {
		return nil, err
	}
	out = append(out, more...)
	lib := r.Library()
	for i, text := range want.Connectors {
		def, err := connector.Load(fmt.Sprintf("connectors[%d]", i), []byte(text), lib)
		if err != nil {
			return nil, err
		}
		old := r.Connector(def.Connector)
		switch {
		case old == nil:
			out = append(out, setup.Change{Action: "add", Thing: "connector " + def.Connector, To: def.Title})
		case old.Text != text:
			out = append(out, setup.Change{Action: "change", Thing: "connector " + def.Connector, Field: "definition", From: "as it is",
				To: "as in the text"})
		}
		lib[def.Connector] = def
	}
	for _, w := range want.Connections {
		more, err := r.planAccess(ctx, lib, have, w, secrets[w.Code])
		if err != nil {
			return nil, err
		}
		out = append(out, more...)
	}
	return append(out, r.planArchived(ctx, have, want)...), nil
}

// planAccess says what becomes of a connection's credentials.
func (r *Joining) planAccess(ctx context.Context, lib connector.Library, have setup.Setup, w setup.Connection,
	secrets map[string]string) ([]setup.Change, error) {
	thing := "connection " + w.Code
	def := lib[w.Connector]
	if def == nil {
		return nil, engine.Refuse("%s: there is no connector %q", thing, w.Connector)
	}
	for kind := range w.Feeds {
		if def.Feeds[kind] == nil {
			return nil, engine.Refuse("%s: %s has no feed %q; it has: %s", thing, def.Title, kind, engine.Join(def.Kinds()))
		}
	}
	for field := range w.Credentials {
		if !hasField(def, field) {
			return nil, engine.Refuse("%s: %s has no credential field %q", thing, def.Title, field)
		}
	}
	there := r.ByCode(w.Code)
	if there == nil || there.Rec().State == store.Left {
		missing := lacking(def, secrets)
		switch {
		case w.Account != "":
		case def.Access.Way == "consent":
			return []setup.Change{{Action: "note", Thing: thing,
				To: "a person has to give consent; it is added as a set-up that waits for it"}}, nil
		case len(missing) > 0:
			return []setup.Change{{Action: "note", Thing: thing, To: "no value is given for " + engine.Join(missing) +
				"; it is added as a set-up that waits for it"}}, nil
		}
		return nil, nil
	}
	a, err := r.accountOf(ctx, there)
	if err != nil || a.ID == 0 {
		return nil, err
	}
	old, _, err := r.OpenAccount(a)
	if err != nil {
		return nil, err
	}
	var out []setup.Change
	for _, f := range def.Access.Fields {
		if v := strings.TrimSpace(secrets[f.Name]); v != "" && v != old[f.Name] {
			out = append(out, setup.Change{Action: "change", Thing: thing, Field: "credentials." + f.Name, From: "what is kept",
				To: "what " + w.Credentials[f.Name] + " holds"})
		}
	}
	return out, nil
}

// lacking names the credentials that a person has to bring and that are not given.
func lacking(def *connector.Definition, secrets map[string]string) []string {
	var out []string
	for _, f := range def.Access.Fields {
		if strings.TrimSpace(secrets[f.Name]) == "" && !f.Optional && !f.Give {
			out = append(out, f.Name)
		}
	}
	return out
}

func (r *Joining) accountOf(ctx context.Context, c *engine.Conn) (store.Account, error) {
	all, err := r.Store.Accounts(ctx)
	if err != nil {
		return store.Account{}, err
	}
	for _, a := range all {
		if a.ID == c.Rec().AccountID {
			return a, nil
		}
	}
	return store.Account{}, nil
}

// Applied is what applying a set-up did.
type Applied struct {
	Changes []setup.Change               `json:"changes"`
	Given   map[string]map[string]string `json:"given,omitempty" doc:"Secrets that were made up, by connection, person or token; they are shown this once"`
}

// ApplySetup brings the company to what a set-up asks for. It can be applied again: what is as it should
// be is left alone. An error ends it where it stands; what was done stays done.
func (r *Joining) ApplySetup(ctx context.Context, want setup.Setup, secrets map[string]map[string]string, who string) (Applied, error) {
	out := Applied{Given: map[string]map[string]string{}}
	var err error
	if out.Changes, err = r.PlanSetup(ctx, want, secrets); err != nil {
		return out, err
	}
	if err := r.reviveArchived(ctx, want, who); err != nil {
		return out, err
	}
	if err := r.applyGround(ctx, want, who); err != nil {
		return out, err
	}
	if err := r.applyKeeping(ctx, want, who); err != nil {
		return out, err
	}
	if err := r.applyRounds(ctx, want, who); err != nil {
		return out, err
	}
	for i, text := range want.Connectors {
		def, err := connector.Load(fmt.Sprintf("connectors[%d]", i), []byte(text), r.Library())
		if err != nil {
			return out, err
		}
		if old := r.Connector(def.Connector); old == nil || old.Text != text {
			if _, err := r.AddDefinition(ctx, NewDefinition{File: def.Connector + ".yaml", Text: text, Anyway: true}, who); err != nil {
				return out, err
			}
		}
	}
	for _, w := range want.Connections {
		given, err := r.applyConnection(ctx, w, secrets[w.Code], who)
		if err != nil {
			return out, fmt.Errorf("connection %s: %w", w.Code, err)
		}
		if len(given) > 0 {
			out.Given[w.Code] = given
		}
	}
	for _, w := range want.Locations { // now that the connections are there
		if l, err := r.Location(w.Code); err == nil && w.Keeper != "" && r.Code(l.Keeper) != w.Keeper {
			if err := r.PutLocation(ctx, w.Code, l.Name, w.Keeper, who); err != nil {
				return out, err
			}
		}
	}
	if err := r.applyCarriers(ctx, want, who); err != nil {
		return out, err
	}
	given, err := r.People.ApplyPeople(ctx, want, secrets, who) // late: what is made up is shown once, and nothing may fail before that
	maps.Copy(out.Given, given)
	if err != nil {
		return out, err
	}
	return out, r.applyArchived(ctx, want, who)
}

// applyGround brings company, number series, locations and profiles to what a set-up asks for.
func (r *Joining) applyGround(ctx context.Context, want setup.Setup, who string) error {
	series, err := r.Store.Series(ctx)
	if err != nil {
		return err
	}
	next := map[string]int64{}
	for _, s := range series {
		next[s.Code] = s.Next
	}
	profiles, err := r.Store.Profiles(ctx)
	if err != nil {
		return err
	}
	old := map[string]packing.Profile{}
	for _, p := range profiles {
		old[p.Code] = p
	}
	company, err := r.companyOf(ctx, want)
	if err != nil {
		return err
	}
	if err := r.Commit(ctx, func(ch *engine.Change) error {
		if company != nil {
			if err := r.PutCompany(ch, *company, who); err != nil {
				return err
			}
		}
		for code, prefix := range want.Series {
			n := next[code]
			if n == 0 {
				n = map[bool]int64{true: 40001, false: 10001}[code == "shipment"]
			}
			given, err := ch.HighestNumber(code, prefix)
			if err != nil {
				return err
			}
			if err := ch.PutSeries(code, prefix, max(n, given+1)); err != nil {
				return err
			}
		}
		if err := r.applyPlaces(ch, want.Locations, who); err != nil {
			return err
		}
		if err := r.applySenders(ch, want, who); err != nil {
			return err
		}
		return applyProfiles(ch, want.Profiles, old)
	}); err != nil {
		return err
	}
	return r.Reload(ctx)
}

// applyProfiles makes and changes parcel profiles as a set-up has them.
func applyProfiles(ch *engine.Change, list []setup.Profile, old map[string]packing.Profile) error {
	for _, w := range list {
		p := packing.Profile(w)
		if h, ok := old[w.Code]; ok && h == p {
			continue
		}
		if err := checkProfile(p); err != nil {
			return err
		}
		if err := ch.PutProfile(p); err != nil {
			return err
		}
	}
	return nil
}

// companyOf is the company as a set-up asks for; nil: it is so already.
func (r *Joining) companyOf(ctx context.Context, want setup.Setup) (*engine.Company, error) {
	have, err := r.Company(ctx)
	if err != nil {
		return nil, err
	}
	c := engine.Company{Name: engine.Or(want.Company, have.Name), TimeZone: engine.Or(want.TimeZone, have.TimeZone),
		Country: engine.Or(want.Country, have.Country), Currency: engine.Or(want.Currency, have.Currency), Address: have.Address,
		Language: engine.Or(want.Language,
			have.Language), Reasons: have.Reasons, Together: cmp.Or(order.TogetherRule(want.Together), have.Together)}
	if want.Reasons != nil {
		c.Reasons = want.Reasons
	}
	if want.Address != nil {
		a := place.Address(*want.Address)
		c.Address = &a
	}
	if reflect.DeepEqual(c, have) || c.Name == "" {
		return nil, nil
	}
	return &c, c.Check()
}

func (r *Joining) applyConnection(ctx context.Context, w setup.Connection, secrets map[string]string,
	who string) (map[string]string, error) {
	c := r.ByCode(w.Code)
	if c == nil || c.Rec().State == store.Left {
		return r.applyNew(ctx, w, secrets, who)
	}
	if c.Rec().Connector != w.Connector {
		return nil, engine.Refuse("it is joined by %s and cannot become one of %s; leave it first", c.Rec().Connector, w.Connector)
	}
	set, err := r.settingsOf(*c.Settings(), w.Settings)
	if err != nil {
		return nil, err
	}
	if err := r.SetSettings(ctx, w.Code, set, 0, who); err != nil {
		return nil, err
	}
	if w.Overrides != "" && w.Overrides != c.Rec().Overrides {
		if err := r.SetOverrides(ctx, w.Code, w.Overrides, 0, who); err != nil {
			return nil, err
		}
	}
	if err := r.applyAccess(ctx, c, w, secrets, who); err != nil {
		return nil, err
	}
	if err := r.SetTest(ctx, w.Code, w.Test, 0, who); err != nil {
		return nil, err
	}
	rec := c.Rec()
	if err := engine.CheckName(w.Name); err != nil {
		return nil, err
	}
	if w.Name != "" && rec.Name != w.Name || w.Previewed && rec.PreviewedAt == 0 {
		if err := r.changeConnection(ctx, w.Code, 0, who, "set-up", "Changed by a set-up",
			func(ch *engine.Change, rec *store.Connection) error {
				rec.Name = engine.Or(w.Name, rec.Name)
				if w.Previewed && rec.PreviewedAt == 0 {
					rec.PreviewedAt = ch.Now.UnixMicro()
				}
				return nil
			}); err != nil {
			return nil, err
		}
	}
	if err := r.applyFeeds(ctx, c, w, who); err != nil {
		return nil, err
	}
	if c.Rec().State == store.On && c.Rec().Paused != w.Paused {
		return nil, r.Pause(ctx, w.Code, w.Paused, 0, who)
	}
	return nil, nil
}

func (r *Joining) applyFeeds(ctx context.Context, c *engine.Conn, w setup.Connection, who string) error {
	for kind, f := range w.Feeds {
		old, _ := r.Feed(c, kind)
		if old.ID == 0 {
			return engine.Refuse("there is no feed %q", kind)
		}
		if kind == message.StockOut && f.On && c.Rec().PreviewedAt == 0 {
			continue
		}
		if old.On == f.On && old.Schedule == f.Schedule {
			continue
		}
		if err := r.SetFeed(ctx, w.Code, kind, f.On, f.Schedule, old.Revision, who); err != nil {
			return err
		}
	}
	return nil
}

// applyAccess renews address and credentials where the set-up has others.
func (r *Joining) applyAccess(ctx context.Context, c *engine.Conn, w setup.Connection, secrets map[string]string, who string) error {
	a, err := r.accountOf(ctx, c)
	if err != nil || a.ID == 0 {
		return err
	}
	old, _, err := r.OpenAccount(a)
	if err != nil {
		return err
	}
	address := strings.TrimRight(w.Address, "/")
	differs := address != "" && address != a.BaseURL
	for k, v := range secrets {
		differs = differs || strings.TrimSpace(v) != "" && strings.TrimSpace(v) != old[k]
	}
	if !differs {
		return nil
	}
	t, err := r.Renew(ctx, w.Code, Access{Address: address, Secrets: secrets}, who)
	if err == nil && !t.LetIn {
		err = &engine.Refused{Text: "the new access was not let in: " + t.Text, Conflict: true}
	}
	return err
}

// applyNew adds a connection of a set-up. One that lacks credentials or a consent waits as a set-up.
func (r *Joining) applyNew(ctx context.Context, w setup.Connection, secrets map[string]string, who string) (map[string]string, error) {
	def := r.Connector(w.Connector)
	if def == nil {
		return nil, engine.Refuse("there is no connector %q", w.Connector)
	}
	set, err := r.settingsOf(r.defaultSettings(def), w.Settings)
	if err != nil {
		return nil, err
	}
	if c := r.ByCode(w.Code); c != nil && c.Rec().State == store.Left {
		return nil, &engine.Refused{Text: "it was left; join the same account again, then it goes on where it ended", Conflict: true}
	}
	if _, err := r.StartJoin(ctx, NewJoin{Connector: w.Connector, Name: w.Name, Code: w.Code, Test: w.Test}, who); err != nil {
		return nil, err
	}
	if err := r.SetSettings(ctx, w.Code, set, 0, who); err != nil {
		return nil, err
	}
	if w.Overrides != "" {
		if err := r.SetOverrides(ctx, w.Code, w.Overrides, 0, who); err != nil {
			return nil, err
		}
	}
	c := r.ByCode(w.Code)
	if w.Previewed {
		if err := r.changeConnection(ctx, w.Code, 0, who, "", "", func(ch *engine.Change, rec *store.Connection) error {
			rec.PreviewedAt = ch.Now.UnixMicro()
			return nil
		}); err != nil {
			return nil, err
		}
	}
	if err := r.applyFeeds(ctx, c, w, who); err != nil {
		return nil, err
	}
	a := Access{Address: w.Address, Site: w.Site, Secrets: secrets}
	if w.Account != "" {
		other := r.ByCode(w.Account)
		if other == nil || other.Rec().AccountID == 0 {
			return nil, engine.Refuse("account: %s has none to share", w.Account)
		}
		a = Access{Account: other.Rec().AccountID, Site: w.Site}
	} else if def.Access.Way == "consent" {
		return nil, nil
	}
	if w.Account == "" && len(lacking(def, secrets)) > 0 {
		return nil, nil
	}
	return r.letIn(ctx, w, a, who)
}

// letIn tests the access of a connection, confirms who we are there, and lets it work. It returns what is shown once.
func (r *Joining) letIn(ctx context.Context, w setup.Connection, a Access, who string) (map[string]string, error) {
	t, err := r.TestAccess(ctx, w.Code, a, who)
	if err != nil {
		return nil, err
	}
	if !t.LetIn {
		return nil, &engine.Refused{Text: "the access was not let in: " + t.Text, Conflict: true}
	}
	if t.Back != "" {
		return t.Given, &engine.Refused{
			Text: fmt.Sprintf("the account was joined before as %s; join it again under that code, so that nothing comes twice",
				t.Back),
			Conflict: true}
	}
	if _, err := r.Confirm(ctx, w.Code, t.Identity.Number, true, who); err != nil {
		return t.Given, err
	}
	if err := r.SwitchOn(ctx, w.Code, who); err != nil {
		return t.Given, err
	}
	if w.Paused {
		return t.Given, r.Pause(ctx, w.Code, true, 0, who)
	}
	return t.Given, nil
}

// ReadSetup reads the text of a set-up; an error is for the person who wrote it.
func ReadSetup(text string) (setup.Setup, error) {
	s, err := setup.Parse([]byte(text))
	var refused *engine.Refused
	if err != nil && !errors.As(err, &refused) {
		err = engine.Refuse("%v", err)
	}
	return s, err
}
