package joining

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// NewJoin is a connection to be set up.
type NewJoin struct {
	Connector string `json:"connector"`
	Name      string `json:"name"`
	Code      string `json:"code" doc:"Small letters, digits and -; empty makes one from the name"`
	Test      bool   `json:"test" doc:"Begin in test"`
}

var codeForm = regexp.MustCompile(`^[a-z][a-z0-9-]{0,30}$`)

// codeFrom makes a code from a name.
func codeFrom(name string) string {
	s := regexp.MustCompile(`[^a-z0-9]+`).ReplaceAllString(strings.ToLower(name), "-")
	s = strings.Trim(s, "-")
	return s[:min(len(s), 31)]
}

// StartJoin begins the set-up of a connection and returns its code.
func (r *Joining) StartJoin(ctx context.Context, n NewJoin, who string) (string, error) {
	def := r.Connector(n.Connector)
	if def == nil {
		return "", engine.Refuse("there is no connector %q", n.Connector)
	}
	n.Name = strings.TrimSpace(engine.Or(n.Name, def.Title))
	if err := engine.CheckName(n.Name); err != nil {
		return "", err
	}
	wish := n.Code
	n.Code = engine.Or(n.Code, codeFrom(n.Name))
	if !codeForm.MatchString(n.Code) {
		return "", engine.Refuse("code %q: small letters, digits and - are expected, a letter first", n.Code)
	}
	if wish == catalog.Ours {
		return "", engine.Refuse("code %q stands for us; another is needed", wish)
	}
	for i := 2; wish == "" && (n.Code == catalog.Ours || r.ByCode(n.Code) != nil); i++ {
		n.Code = fmt.Sprintf("%s-%d", codeFrom(n.Name), i)
	}
	if r.ByCode(n.Code) != nil {
		return "", &engine.Refused{Text: fmt.Sprintf("there is a connection %q already", n.Code), Conflict: true}
	}
	settings, err := json.Marshal(r.defaultSettings(def))
	if err != nil {
		return "", err
	}
	err = r.Commit(ctx, func(ch *engine.Change) error {
		id, err := ch.AddConnection(store.Connection{Code: n.Code, Connector: def.Connector, Side: def.Side, Name: n.Name,
			State: store.Joining, Test: n.Test, Settings: string(settings), BeganAt: ch.Now.UnixMicro()})
		if err != nil {
			return err
		}
		for _, kind := range def.Kinds() {
			// Everything but stock is on unless a person says otherwise: stock could overwrite good numbers.
			if _, err := ch.AddFeed(store.Feed{ConnectionID: id, Kind: kind, On: kind != message.StockOut &&
				kind != message.ItemsOut}); err != nil {
				return err
			}
		}
		ch.Tell("connection", n.Code)
		return r.NoteConnection(ch, id, who, "joining", "Set-up begun")
	})
	if err != nil {
		return "", err
	}
	return n.Code, r.Reload(ctx)
}

// defaultSettings are safe: where there is one place only, it is the one whose stock is sold.
func (r *Joining) defaultSettings(def *connector.Definition) engine.Settings {
	s := engine.Settings{TimeZone: "UTC", Tolerance: 2}
	if def.Side != "channel" {
		return s
	}
	if id := r.OnlyPlace(); id != 0 {
		s.Offer.Sources = []int64{id}
	}
	return s
}

// Access is how a person lets us in: an account that is there already, or a new one.
type Access struct {
	Account int64             `json:"account,omitempty" doc:"Number of an account that is there already"`
	Address string            `json:"address,omitempty" doc:"Where the other side is reached"`
	Site    string            `json:"site,omitempty" doc:"Code of the site, where the system has several"`
	Secrets map[string]string `json:"secrets,omitempty" doc:"Credentials by field"`
}

// TestAccess asks the other side whether it lets us in with an access. Only if it does, the access is
// kept with the set-up; who we are there is then to be confirmed.
func (r *Joining) TestAccess(ctx context.Context, code string, a Access, who string) (engine.Tested, error) {
	_, rec, def, err := r.joining(code)
	if err != nil {
		return engine.Tested{}, err
	}
	acc, given, trimmed, err := r.account(ctx, def, a)
	if err != nil {
		return engine.Tested{}, err
	}
	if def.Access.Way == "inbound" {
		id := message.Identity{Name: rec.Name, Number: code}
		v := connector.Verdict{LetIn: true, Text: "The key was made. Give it to the other side; it is not shown again.", Trimmed: trimmed,
			Identity: &id}
		return engine.Tested{Verdict: v, Given: given}, r.keepAccess(ctx, rec, acc, a.Site, id, who)
	}
	if def.Access.Way == "consent" && acc.Token == nil {
		return engine.Tested{}, engine.Refuse("%s lets us in on its consent page; ask for the consent", def.Title)
	}
	out, err := r.testKept(ctx, rec, def, acc, a.Site, who)
	out.Trimmed = append([]string{}, trimmed...)
	if err == nil {
		r.KeepTest(code, out)
		if out.LetIn {
			out.Given = given
		}
	}
	return out, err
}

// WrongSite tells what is wrong with the site that was chosen for an account, or "".
func WrongSite(def *connector.Definition, site string, id message.Identity) string {
	chosen := def.Site(site)
	if chosen == nil {
		return ""
	}
	belongs := def.Site(id.Site)
	switch {
	case belongs != nil && belongs.Code != site:
		return fmt.Sprintf("%s, number %s, belongs to %s; %s was chosen.", id.Name, id.Number, belongs.Name, chosen.Name)
	case chosen.Country != "" && id.Country != "" && chosen.Country != id.Country:
		return fmt.Sprintf("%s, number %s, is an account for %s; %s was chosen.", id.Name, id.Number, id.Country, chosen.Name)
	}
	return ""
}

// joining returns a connection that is being set up.
func (r *Joining) joining(code string) (*engine.Conn, store.Connection, *connector.Definition, error) {
	c := r.ByCode(code)
	if c == nil {
		return nil, store.Connection{}, nil, fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
	}
	rec := *c.Rec()
	if rec.State != store.Joining {
		return nil, rec, nil, &engine.Refused{Text: fmt.Sprintf("%s is not being set up; it is %s", rec.Name, rec.State), Conflict: true}
	}
	return c, rec, c.Line().Def, nil
}

// account makes the account of an access, without keeping it.
func (r *Joining) account(ctx context.Context, def *connector.Definition, a Access) (store.Account, map[string]string, []string, error) {
	if len(def.Sites) > 0 && def.Site(a.Site) == nil {
		var names []string
		for _, s := range def.Sites {
			names = append(names, s.Code)
		}
		return store.Account{}, nil, nil, engine.Refuse("site %q: one of %s is expected", a.Site, engine.Join(names))
	}
	if a.Account != 0 {
		all, err := r.Store.Accounts(ctx)
		if err != nil {
			return store.Account{}, nil, nil, err
		}
		for _, acc := range all {
			if acc.ID == a.Account && acc.Connector == def.Connector {
				return acc, nil, nil, nil
			}
		}
		return store.Account{}, nil, nil, engine.Refuse("there is no account %d of %s", a.Account, def.Title)
	}
	secrets, given := map[string]string{}, map[string]string{}
	maps.Copy(secrets, a.Secrets)
	trimmed := connector.Trim(secrets)
	for _, f := range def.Access.Fields {
		switch {
		case f.Give:
			secrets[f.Name] = "or_" + engine.RandomText(40)
			given[f.Name] = secrets[f.Name]
		case secrets[f.Name] == "" && !f.Optional:
			return store.Account{}, nil, nil, engine.Refuse("%s is missing", f.Label)
		case !f.Fits(secrets[f.Name]):
			return store.Account{}, nil, nil, engine.Refuse("%s: this is not what it looks like; %s", f.Label,
				engine.Or(f.Help, "the form expected is "+f.Pattern))
		}
	}
	for k := range secrets {
		if !hasField(def, k) {
			return store.Account{}, nil, nil, engine.Refuse("%s has no field %q", def.Title, k)
		}
	}
	box, err := r.Sealer.Seal(secrets)
	if err != nil {
		return store.Account{}, nil, nil, err
	}
	base := strings.TrimRight(strings.TrimSpace(engine.Or(a.Address, def.Address.Default)), "/")
	if base == "" && def.Access.Way != "inbound" {
		return store.Account{}, nil, nil, engine.Refuse("address: where is %s reached?", def.Title)
	}
	return store.Account{Connector: def.Connector, Name: def.Title, BaseURL: base, Credentials: box, Identity: "{}",
		CreatedAt: r.Clock().UnixMicro()}, given, trimmed, nil
}

func hasField(def *connector.Definition, name string) bool {
	return slices.ContainsFunc(def.Access.Fields, func(f connector.Field) bool { return f.Name == name })
}

// lineFor makes a line with an account that is not kept yet.
func (r *Joining) lineFor(def *connector.Definition, rec store.Connection, acc store.Account, site string) (*connector.Line, error) {
	secrets, token, err := r.OpenAccount(acc)
	if err != nil {
		return nil, err
	}
	login := connector.NewLogin(def, secrets, token)
	if acc.ID != 0 {
		if l := r.LoginOf(acc.ID); l != nil {
			login = l
		}
	}
	var s engine.Settings
	if err := json.Unmarshal([]byte(rec.Settings), &s); err != nil {
		return nil, err
	}
	return connector.NewLine(def, connector.LineOptions{Base: acc.BaseURL, Site: site, Test: rec.Test, Login: login,
		Settings: s.ForExpressions(), Client: r.Client, Dial: r.Dial, Folders: r.Folders, Now: r.Clock})
}

// keepAccess keeps an access that let us in with the set-up. Who we are there still has to be confirmed.
func (r *Joining) keepAccess(ctx context.Context, rec store.Connection, acc store.Account, site string, id message.Identity,
	who string) error {
	b, err := json.Marshal(id)
	if err != nil {
		return err
	}
	acc.Identity = string(b)
	err = r.Commit(ctx, func(ch *engine.Change) error {
		now, err := ch.Connection(rec.Code)
		if err != nil {
			return err
		}
		old := now.AccountID
		if now.AccountID, err = ch.PutAccount(acc); err != nil {
			return err
		}
		now.Site, now.AccountNo = site, ""
		if err := ch.UpdateConnection(now); err != nil {
			return err
		}
		if old != now.AccountID {
			if _, err := ch.DropAccount(old); err != nil {
				return err
			}
		}
		ch.Tell("connection", rec.Code)
		if err := r.NoteSecurity(ch, "secrets", who, "", "access of "+rec.Name+" was given"); err != nil {
			return err
		}
		return r.NoteConnection(ch, rec.ID, who, "let in", "Let in as %s, number %s", id.Name, id.Number)
	})
	if err != nil {
		return err
	}
	return r.Reload(ctx)
}

// Asker is who asks for a consent. An access token is no person, so that its ID is zero: whoever is called as it is brings
// the answer, signed in.
type Asker struct {
	ID   int64  // of the person
	Name string // what the person or token is called
	Who  string // under what it is kept who asked
}

// may says whether a person brings the answer to what was asked.
func (a Asker) may(bring Asker) bool {
	if a.ID != 0 {
		return a.ID == bring.ID
	}
	return a.Name == bring.Name
}

// pendingConsent is what the answer to a consent needs.
type pendingConsent struct {
	Verifier, Redirect string
	By                 Asker
	Account            store.Account
	Site               string
	Renew              bool // of a connection that is at work
}

// AskConsent prepares a consent and returns the page of the other side to which the person goes.
func (r *Joining) AskConsent(ctx context.Context, code string, a Access, redirect string, by Asker) (string, error) {
	c := r.ByCode(code)
	if c == nil {
		return "", fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
	}
	rec, def := *c.Rec(), c.Line().Def
	if def.Access.OAuth == nil || def.Access.OAuth.Grant != "code" {
		return "", engine.Refuse("%s has no consent page", def.Title)
	}
	renew := rec.State == store.On
	if renew {
		if err := r.fillFrom(ctx, rec, &a); err != nil {
			return "", err
		}
	} else if rec.State != store.Joining {
		return "", &engine.Refused{Text: fmt.Sprintf("%s is %s; join it again first", rec.Name, rec.State), Conflict: true}
	}
	acc, _, _, err := r.account(ctx, def, a)
	if err != nil {
		return "", err
	}
	if renew {
		acc.ID = rec.AccountID
	}
	line, err := r.lineFor(def, rec, acc, a.Site)
	if err != nil {
		return "", engine.Refuse("%v", err)
	}
	p := pendingConsent{Verifier: connector.NewVerifier(), Redirect: redirect, By: by, Account: acc, Site: a.Site, Renew: renew}
	state := engine.RandomText(40)
	page, err := line.ConsentURL(redirect, state, p.Verifier)
	if err != nil {
		return "", err
	}
	box, err := r.Sealer.Seal(p)
	if err != nil {
		return "", err
	}
	return page, r.Store.Write(ctx, func(t *store.Tx) error { return t.PutConsent(state, rec.ID, box, r.Clock()) })
}

// fillFrom completes an access from the account that a connection has: what is not given stays.
func (r *Joining) fillFrom(ctx context.Context, rec store.Connection, a *Access) error {
	all, err := r.Store.Accounts(ctx)
	if err != nil {
		return err
	}
	for _, acc := range all {
		if acc.ID != rec.AccountID {
			continue
		}
		old, _, err := r.OpenAccount(acc)
		if err != nil {
			return err
		}
		secrets := map[string]string{}
		maps.Copy(secrets, old)
		for k, v := range a.Secrets {
			if strings.TrimSpace(v) != "" {
				secrets[k] = v
			}
		}
		a.Secrets, a.Address, a.Site, a.Account = secrets, engine.Or(a.Address, acc.BaseURL), rec.Site, 0
		return nil
	}
	return engine.Refuse("%s has no account", rec.Name)
}

// ErrState is returned for the answer to a consent that nobody here asked for.
var ErrState = errors.New("this consent was not asked for here, was answered before, or took longer than half an hour")

// ConsentAnswered takes the answer to a consent: the code is exchanged, and who we are there is asked. It
// returns the connection's code, and in Tested what became of it.
func (r *Joining) ConsentAnswered(ctx context.Context, state, code, refused string, by Asker) (string, engine.Tested, error) {
	connection, out, err := r.consentAnswered(ctx, state, code, refused, by)
	if err == nil {
		r.KeepTest(connection, out)
	}
	return connection, out, err
}

func (r *Joining) consentAnswered(ctx context.Context, state, code, refused string, by Asker) (string, engine.Tested, error) {
	var p pendingConsent
	var id int64
	err := r.Store.Write(ctx, func(t *store.Tx) error {
		connection, box, err := t.TakeConsent(state, r.Clock().Add(-30*time.Minute))
		if err != nil {
			return err
		}
		id = connection
		return r.Sealer.OpenInto(box, &p)
	})
	if errors.Is(err, store.ErrNotFound) {
		return "", engine.Tested{}, ErrState
	}
	if err != nil {
		return "", engine.Tested{}, err
	}
	c := r.ByID(id)
	if c == nil || !p.By.may(by) {
		return "", engine.Tested{}, ErrState
	}
	rec, def := *c.Rec(), c.Line().Def
	if refused != "" || code == "" {
		return rec.Code, engine.Tested{Verdict: connector.Verdict{Text: def.Title + " did not give its consent: " +
			engine.Or(refused, "it sent no code"), Trimmed: []string{}}}, nil
	}
	fresh := p.Account
	fresh.ID = 0 // a login of its own: the one at work goes on until this one is kept
	line, err := r.lineFor(def, rec, fresh, p.Site)
	if err != nil {
		return rec.Code, engine.Tested{}, err
	}
	token, err := line.Exchange(ctx, p.Redirect, code, p.Verifier)
	if err != nil {
		return rec.Code, engine.Tested{Verdict: connector.Verdict{Text: err.Error(), Trimmed: []string{}}}, nil
	}
	if p.Account.Token, err = r.Sealer.Seal(token); err != nil {
		return rec.Code, engine.Tested{}, err
	}
	if p.Renew {
		out, err := r.renewed(ctx, c, p.Account, p.By.Who)
		return rec.Code, out, err
	}
	out, err := r.testKept(ctx, rec, def, p.Account, p.Site, p.By.Who)
	return rec.Code, out, err
}

// testKept is the second half of TestAccess for an account that is complete.
func (r *Joining) testKept(ctx context.Context, rec store.Connection, def *connector.Definition, acc store.Account, site,
	who string) (engine.Tested, error) {
	line, err := r.lineFor(def, rec, acc, site)
	if err != nil {
		return engine.Tested{}, engine.Refuse("%v", err)
	}
	out := engine.Tested{Verdict: line.Test(ctx)}
	out.Trimmed = []string{}
	if !out.LetIn {
		return out, nil
	}
	return r.admit(ctx, rec, def, acc, site, who, out)
}

// admit keeps an access that let us in, unless it is the wrong one.
func (r *Joining) admit(ctx context.Context, rec store.Connection, def *connector.Definition, acc store.Account, site, who string,
	out engine.Tested) (engine.Tested, error) {
	id := message.Identity{Name: rec.Name, Number: rec.Code}
	if out.Identity != nil {
		id = *out.Identity
	}
	if bad := WrongSite(def, site, id); bad != "" {
		out.LetIn, out.Text, out.Field = false, bad, "site"
		return out, nil
	}
	other, err := r.Store.ConnectionByAccount(ctx, def.Connector, id.Number, site)
	switch {
	case errors.Is(err, store.ErrNotFound):
	case err != nil:
		return out, err
	case other.ID == rec.ID:
	case other.State == store.Left:
		out.Back = other.Code
	default:
		out.LetIn, out.Text = false, fmt.Sprintf("%s, number %s, is joined already, as %s. An account is joined once.", id.Name,
			id.Number, other.Name)
		return out, nil
	}
	return out, r.keepAccess(ctx, rec, acc, site, id, who)
}

// Confirm takes a person's word on whether the account on the other side is the one they meant. Where it
// was joined before and left, the old connection goes on; its code is returned.
func (r *Joining) Confirm(ctx context.Context, code, number string, yes bool, who string) (string, error) {
	_, rec, def, err := r.joining(code)
	if err != nil {
		return code, err
	}
	id, err := r.Identity(ctx, code)
	if err != nil {
		return code, err
	}
	if id.Number == "" {
		return code, &engine.Refused{Text: "test the access first; nobody is known on the other side yet", Conflict: true}
	}
	if yes && number != id.Number {
		return code, &engine.Refused{Text: fmt.Sprintf("the account is number %s, not %s", id.Number, number), Conflict: true}
	}
	err = r.Commit(ctx, func(ch *engine.Change) error {
		now, err := ch.Connection(code)
		if err != nil {
			return err
		}
		if !yes {
			return r.forgetAccount(ch, now, id, who)
		}
		other, err := ch.ConnectionOf(def.Connector, number, now.Site)
		switch {
		case errors.Is(err, store.ErrNotFound):
			now.AccountNo = number
			if err := ch.UpdateConnection(now); err != nil {
				return err
			}
		case err != nil:
			return err
		case other.ID == now.ID:
			return nil
		case other.State != store.Left:
			return &engine.Refused{Text: fmt.Sprintf("%s, number %s, is joined already, as %s", id.Name, id.Number, other.Name),
				Conflict: true}
		default:
			if err := rejoin(ch, now, other); err != nil {
				return err
			}
			code = other.Code
			rec.ID = other.ID
		}
		ch.Tell("connection", code)
		return r.NoteConnection(ch, rec.ID, who, "confirmed", "%s, number %s, is the account that was meant", id.Name, id.Number)
	})
	if err != nil {
		return code, err
	}
	return code, r.Reload(ctx)
}

// rejoin lets a connection that was left go on in the place of the one that was set up anew: its orders, listings and messages
// are known by it, so nothing comes twice.
func rejoin(ch *engine.Change, now, other store.Connection) error {
	account := now.AccountID
	now.AccountID = 0
	if err := ch.UpdateConnection(now); err != nil {
		return err
	}
	if err := ch.DropConnection(now.ID); err != nil {
		return err
	}
	other.AccountID, other.State, other.Test, other.PreviewedAt = account, store.Joining, now.Test, 0
	if err := ch.UpdateConnection(other); err != nil {
		return err
	}
	ch.Tell("connection", now.Code)
	return nil
}

// forgetAccount takes an account that was not meant from a set-up.
func (r *Joining) forgetAccount(ch *engine.Change, now store.Connection, id message.Identity, who string) error {
	account := now.AccountID
	now.AccountID, now.AccountNo, now.Site = 0, "", ""
	if err := ch.UpdateConnection(now); err != nil {
		return err
	}
	ch.Tell("connection", now.Code)
	if _, err := ch.DropAccount(account); err != nil {
		return err
	}
	return r.NoteConnection(ch, now.ID, who, "not the one", "%s, number %s, is not the account that was meant; it was forgotten",
		id.Name, id.Number)
}

// Identity is who a connection's account is on the other side.
func (r *Joining) Identity(ctx context.Context, code string) (message.Identity, error) {
	var id message.Identity
	c := r.ByCode(code)
	if c == nil {
		return id, fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
	}
	all, err := r.Store.Accounts(ctx)
	if err != nil {
		return id, err
	}
	for _, a := range all {
		if a.ID == c.Rec().AccountID {
			return id, json.Unmarshal([]byte(a.Identity), &id)
		}
	}
	return id, nil
}

// Renew replaces the credentials of a connection that is at work. They must let us in to the same
// account; what waits goes on at once.
func (r *Joining) Renew(ctx context.Context, code string, a Access, who string) (engine.Tested, error) {
	c := r.ByCode(code)
	if c == nil {
		return engine.Tested{}, fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
	}
	rec, def := *c.Rec(), c.Line().Def
	if rec.State != store.On {
		return engine.Tested{}, &engine.Refused{Text: fmt.Sprintf("%s is not at work; it is %s", rec.Name, rec.State), Conflict: true}
	}
	trimmed := connector.Trim(a.Secrets)
	if err := r.fillFrom(ctx, rec, &a); err != nil {
		return engine.Tested{}, err
	}
	acc, given, _, err := r.account(ctx, def, a)
	if err != nil {
		return engine.Tested{}, err
	}
	acc.ID = rec.AccountID
	if def.Access.Way == "consent" {
		return engine.Tested{}, engine.Refuse("%s lets us in on its consent page; ask for the consent again", def.Title)
	}
	out, err := r.renewed(ctx, c, acc, who)
	out.Given = given
	if trimmed != nil {
		out.Trimmed = trimmed
	}
	return out, err
}

// renewed tests an account that is to take the place of the one a connection has.
func (r *Joining) renewed(ctx context.Context, c *engine.Conn, acc store.Account, who string) (engine.Tested, error) {
	rec, def := *c.Rec(), c.Line().Def
	out := engine.Tested{Verdict: connector.Verdict{LetIn: true, Text: "The new key is in force.", Trimmed: []string{}}}
	id := message.Identity{Name: rec.Name, Number: rec.AccountNo}
	if def.Access.Way != "inbound" {
		fresh := acc
		fresh.ID = 0
		line, err := r.lineFor(def, rec, fresh, rec.Site)
		if err != nil {
			return out, engine.Refuse("%v", err)
		}
		out.Verdict = line.Test(ctx)
		out.Text, out.Trimmed = c.Line().Blank(out.Text), []string{} // the old secrets are not to be seen, either
		if !out.LetIn {
			return out, nil
		}
		if out.Identity != nil {
			id = *out.Identity
		}
		if rec.AccountNo != "" && id.Number != rec.AccountNo {
			out.LetIn, out.Text = false, fmt.Sprintf("These credentials belong to %s, number %s; the connection is number %s. Nothing "+
				"was changed.", id.Name, id.Number, rec.AccountNo)
			return out, nil
		}
	}
	b, err := json.Marshal(id)
	if err != nil {
		return out, err
	}
	acc.Identity = string(b)
	err = r.Commit(ctx, func(ch *engine.Change) error {
		old, err := ch.Account(acc.ID)
		if err != nil {
			return err
		}
		acc.Name, acc.Connector = old.Name, old.Connector
		if _, err := ch.PutAccount(acc); err != nil {
			return err
		}
		if err := ch.CloseConnectionException(rec.ID, engine.CredentialsRefused, ch.Now); err != nil {
			return err
		}
		if err := ch.WakeOutbox(rec.ID, ch.Now); err != nil {
			return err
		}
		ch.Tell("connection", rec.Code)
		ch.Tell("exception", "")
		ch.Wake[rec.ID] = true
		if err := r.NoteSecurity(ch, "secrets", who, "", "access of "+rec.Name+" was renewed"); err != nil {
			return err
		}
		return r.NoteConnection(ch, rec.ID, who, "renewed", "Credentials renewed; let in as %s, number %s", id.Name, id.Number)
	})
	if err != nil {
		return out, err
	}
	r.tryAtOnce(c)
	return out, r.Reload(ctx)
}

// tryAtOnce lets feeds be tried that failed, such as for want of access.
func (r *Joining) tryAtOnce(c *engine.Conn) {
	for _, kind := range c.Line().Def.Kinds() {
		r.KnowFeed(c, kind, func(f *store.Feed) {
			if f.Failures > 0 {
				f.LastTryAt = 0
			}
		})
	}
}
