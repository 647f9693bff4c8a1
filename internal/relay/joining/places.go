package joining

import (
	"context"
	"regexp"
	"strings"

	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
	"openrelay/internal/setup"
	"openrelay/internal/store"
)

var locationCode = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,30}$`)

// Place is what is said of a place that holds stock.
type Place struct {
	Name    string         `json:"name,omitempty"    maxLength:"200" doc:"Empty: as it is; of a new one, its code"`
	Keeper  string         `json:"keeper,omitempty"                  doc:"Code of the connection whose word counts there; empty: ours"`
	Address *place.Address `json:"address,omitempty"                 doc:"Where it is; without it as it was. Its name may be empty"`
}

// PutLocation adds a place that holds stock, or changes its name and whose word counts there.
func (r *Joining) PutLocation(ctx context.Context, code, name, keeper, who string) error {
	return r.PutPlace(ctx, code, Place{Name: name, Keeper: keeper}, who)
}

// PutPlace adds a place that holds stock, or changes it.
func (r *Joining) PutPlace(ctx context.Context, code string, p Place, who string) error {
	if !locationCode.MatchString(code) {
		return engine.Refuse("code %q: small letters, digits and - are expected", code)
	}
	keeper, err := r.keeperOf(p.Keeper)
	if err != nil {
		return err
	}
	p.Name = strings.TrimSpace(p.Name)
	if p.Address != nil {
		p.Address.Normal()
		check := *p.Address
		check.Name = engine.Or(check.Name, engine.Or(p.Name, code))
		if problems := check.Problems(); len(problems) > 0 {
			return engine.Refuse("address: %s", strings.Join(problems, "; "))
		}
	}
	if err := r.Commit(ctx, func(ch *engine.Change) error { return r.putPlace(ch, code, p, keeper, who) }); err != nil {
		return err
	}
	return r.Reload(ctx)
}

// keeperOf is the connection whose word is to count at a place; 0: ours.
func (r *Joining) keeperOf(code string) (int64, error) {
	if code == "" {
		return 0, nil
	}
	c := r.ByCode(code)
	switch {
	case c == nil:
		return 0, engine.Refuse("keeper: there is no connection %q", code)
	case c.Line().Def.Feeds[message.StockIn] == nil:
		return 0, engine.Refuse("keeper: %s tells no stock", c.Rec().Name)
	}
	return c.ID, nil
}

func (r *Joining) putPlace(ch *engine.Change, code string, p Place, keeper int64, who string) error {
	ch.Tell("stock", "")
	have, err := r.Location(code)
	if err != nil { // there is none yet
		l := store.Location{Code: code, Name: engine.Or(p.Name, code), Keeper: keeper}
		if p.Address != nil {
			l.Address = *p.Address
		}
		if _, err := ch.AddLocation(l); err != nil {
			return err
		}
		return r.NoteThing(ch, "company", 0, who, "location", "%s added; its stock is kept by %s", l.Name, engine.Or(p.Keeper, "us"))
	}
	moved := p.Address != nil && *p.Address != have.Address
	have.Name, have.Keeper = engine.Or(p.Name, have.Name), keeper
	text := "%s: its stock is kept by %s"
	if moved {
		have.Address = *p.Address
		text = "%s: its address was changed; its stock is kept by %s"
	}
	if err := ch.UpdateLocation(have); err != nil {
		return err
	}
	return r.NoteThing(ch, "company", 0, who, "location", text, have.Name, engine.Or(p.Keeper, "us"))
}

// applyPlaces makes and changes locations as a set-up has them.
func (r *Joining) applyPlaces(ch *engine.Change, list []setup.Location) error {
	for _, w := range list {
		l := store.Location{Code: w.Code, Name: w.Name, Address: place.Address(w.Address)}
		have, err := r.Location(w.Code)
		switch {
		case err != nil:
			if _, err := ch.AddLocation(l); err != nil {
				return err
			}
		case have.Name != w.Name || w.Address != (setup.Address{}) && have.Address != l.Address:
			l.ID, l.Keeper = have.ID, have.Keeper
			if w.Address == (setup.Address{}) {
				l.Address = have.Address
			}
			if err := ch.UpdateLocation(l); err != nil {
				return err
			}
		}
	}
	return nil
}
