package joining

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
	"openrelay/internal/setup"
	"openrelay/internal/store"
)

// Place is what is said of a place that holds stock. What is not said stays as it is.
type Place struct {
	Name     string         `json:"name,omitempty" maxLength:"200"    doc:"Empty: as it is; of a new one, its code"`
	Keeper   string         `json:"keeper,omitempty" doc:"Code of the connection whose word counts there; empty: ours"`
	Address  *place.Address `json:"address,omitempty" doc:"Where it is; without it as it was. Its name may be empty"`
	Hours    *place.Hours   `json:"hours,omitempty" doc:"When it is at work; without it as it was"`
	Position *string        `json:"position,omitempty" maxLength:"60" doc:"Latitude, longitude (decimal degrees, WGS 84), such as 51.5, 7.25; a new address without it is looked up where an address service is joined"`
	Bins     *string        `json:"bins,omitempty" maxLength:"400000" doc:"One a line or by pattern, in the order in which they are walked"`
}

// PutLocation adds a place that holds stock, or changes its name and whose word counts there.
func (r *Joining) PutLocation(ctx context.Context, code, name, keeper, who string) error {
	return r.PutPlace(ctx, code, Place{Name: name, Keeper: keeper}, who)
}

// PutPlace adds a place that holds stock, or changes it.
func (r *Joining) PutPlace(ctx context.Context, code string, p Place, who string) error {
	if !engine.ValidCode(code) {
		return engine.Refuse("code %q: small letters, digits and - are expected", code)
	}
	keeper, err := r.keeperOf(p.Keeper)
	if err != nil {
		return err
	}
	bins, err := p.check(code)
	if err != nil {
		return err
	}
	was, _ := r.Location(code)
	r.findPosition(ctx, &p, was)
	if err := r.Commit(ctx, func(ch *engine.Change) error { return r.putPlace(ch, code, p, bins, keeper, who) }); err != nil {
		return err
	}
	if err := r.Reload(ctx); err != nil {
		return err
	}
	if c := r.ByID(keeper); c != nil && was.Keeper != keeper {
		if err := r.partnerSet(ctx, c); err != nil {
			return err
		}
	}
	return nil
}

// findPosition asks the address service, where one is joined, where the new address of a place is. Where it does not say so, that is not
// known.
func (r *Joining) findPosition(ctx context.Context, p *Place, was store.Location) {
	if p.Address == nil || *p.Address == was.Address || p.Position != nil {
		return
	}
	found := ""
	p.Position = &found
	if *p.Address == (place.Address{}) {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, positionWait)
	defer cancel()
	a := *p.Address
	a.Name = engine.Or(a.Name, "-")
	said, err := r.CheckAddress(ctx, a)
	if err != nil {
		return
	}
	if at, err := place.PositionOf(said.Latitude, said.Longitude); err == nil {
		found = at.String()
	}
}

// positionWait is for how long the address service is waited for while a place is saved.
const positionWait = 5 * time.Second

// check tidies what is said of a place, refuses what cannot be, and returns its bins one by one.
func (p *Place) check(code string) (bins []string, err error) {
	p.Name = strings.TrimSpace(p.Name)
	if p.Address != nil {
		p.Address.Normal()
		check := *p.Address
		check.Name = engine.Or(check.Name, engine.Or(p.Name, code))
		if problems := check.Problems(); len(problems) > 0 && *p.Address != (place.Address{}) {
			return nil, engine.Refuse("address: %s", strings.Join(problems, "; "))
		}
	}
	if p.Hours != nil {
		if err := p.Hours.Check(); err != nil {
			return nil, engine.Refuse("hours: %v", err)
		}
	}
	if p.Position != nil && strings.TrimSpace(*p.Position) != "" {
		at, err := place.ParsePosition(*p.Position)
		if err != nil {
			return nil, engine.Refuse("position: %v", err)
		}
		*p.Position = at.String()
	}
	if p.Bins != nil {
		if bins, err = place.Bins(*p.Bins); err != nil {
			return nil, engine.Refuse("bins: %v", err)
		}
	}
	return bins, nil
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
	case c.Line().Def.Feeds[message.StockIn] == nil && !engine.TakesRequests(c):
		return 0, engine.Refuse("keeper: %s tells no stock", c.Rec().Name)
	}
	return c.ID, nil
}

func (r *Joining) putPlace(ch *engine.Change, code string, p Place, bins []string, keeper int64, who string) error {
	ch.Tell("stock", "")
	have, err := r.Location(code)
	isNew := err != nil
	if isNew {
		have = store.Location{Code: code, Name: code}
	} else if have.ArchivedAt != 0 {
		return &engine.Refused{Text: have.Name + " is used no more; use it again first", Conflict: true}
	}
	have.Name, have.Keeper = engine.Or(p.Name, have.Name), keeper
	var changed []string
	if p.Address != nil && *p.Address != have.Address {
		if have.Address = *p.Address; p.Position == nil {
			have.Position = ""
		}
		changed = append(changed, "its address")
	}
	if p.Hours != nil {
		if !isNew && !sameHours(have.Hours, *p.Hours) {
			if err := r.Routing.HoursChanged(ch, have, who); err != nil {
				return err
			}
		}
		have.Hours = *p.Hours
		changed = append(changed, "its hours")
	}
	if p.Position != nil && strings.TrimSpace(*p.Position) != have.Position {
		have.Position = strings.TrimSpace(*p.Position)
		changed = append(changed, "its position")
	}
	if p.Bins != nil && *p.Bins != have.Bins {
		have.Bins = strings.TrimSpace(*p.Bins)
		changed = append(changed, "its bins")
	}
	if isNew {
		if have.ID, err = ch.AddLocation(have); err != nil {
			return err
		}
	} else if err := ch.UpdateLocation(have); err != nil {
		return err
	}
	if p.Bins != nil {
		if err := r.putBins(ch, have, bins); err != nil {
			return err
		}
	}
	text := "%s: its stock is kept by %s"
	if isNew {
		text = "%s added; its stock is kept by %s"
	} else if len(changed) > 0 {
		text = "%s: " + strings.Join(changed, ", ") + " changed; its stock is kept by %s"
	}
	return r.NoteThing(ch, "company", 0, who, "location", text, have.Name, engine.Or(p.Keeper, "us"))
}

// putBins writes the bins of a place. One in which goods lie cannot be left out.
func (r *Joining) putBins(ch *engine.Change, at store.Location, bins []string) error {
	if len(bins) > 0 {
		stray, err := ch.StrayBins(at.ID, bins)
		if err != nil {
			return err
		}
		if len(stray) > 0 {
			more := ""
			if len(stray) > 5 {
				stray, more = stray[:5], " and more"
			}
			return &engine.Refused{Text: fmt.Sprintf("bins: goods lie in %s%s; move them first, or leave those bins in the list",
				strings.Join(stray, ", "), more), Conflict: true}
		}
	}
	return ch.PutPlaceBins(at.ID, bins)
}

// ArchivePlace lets a place be used no more, or again. One that holds or expects goods, or from which something is sold,
// stays.
func (r *Joining) ArchivePlace(ctx context.Context, code string, archived bool, who string) error {
	at, err := r.Location(code)
	if err != nil {
		return err
	}
	if archived {
		if err := r.placeInUse(ctx, at); err != nil {
			return err
		}
	}
	if err := r.Commit(ctx, func(ch *engine.Change) error {
		ch.Tell("stock", "")
		text := "%s is used again"
		at.ArchivedAt = 0
		if archived {
			holds, err := ch.HoldsStock(at.ID)
			if err != nil {
				return err
			}
			if holds {
				return &engine.Refused{Text: fmt.Sprintf("%s holds, has promised or expects goods; move them or count them away first",
					at.Name), Conflict: true}
			}
			at.ArchivedAt, text = ch.Now.UnixMicro(), "%s is used no more"
		}
		if err := ch.UpdateLocation(at); err != nil {
			return err
		}
		return r.NoteThing(ch, "company", 0, who, "location", text, at.Name)
	}); err != nil {
		return err
	}
	return r.Reload(ctx)
}

// placeInUse refuses to give a place up that a connection or a rule names.
func (r *Joining) placeInUse(ctx context.Context, at store.Location) error {
	if err := r.sellsFrom(at); err != nil {
		return err
	}
	return r.ruledBy(ctx, "location", at.Code)
}

// sellsFrom refuses to give a place up that connections name.
func (r *Joining) sellsFrom(at store.Location) error {
	for _, c := range r.Sorted() {
		set := c.Settings()
		named := slices.Contains(set.Offer.Sources, at.ID) || set.OwnLocation == at.Code ||
			slices.Contains(slices.Collect(maps.Values(set.Locations)), at.Code)
		if c.Rec().State != store.Left && named {
			return &engine.Refused{Text: fmt.Sprintf("%s names %s in its settings; take it out there first", c.Rec().Name, at.Name),
				Conflict: true}
		}
	}
	return nil
}

// applyPlaces makes and changes locations as a set-up has them.
func (r *Joining) applyPlaces(ch *engine.Change, list []setup.Location, who string) error {
	for _, w := range list {
		have, err := r.Location(w.Code)
		p := Place{Name: w.Name, Keeper: r.Code(have.Keeper)}
		if a := place.Address(w.Address); w.Address != (setup.Address{}) && a != have.Address {
			p.Address = &a
		}
		if w.Hours.Said() && !sameHours(w.Hours, have.Hours) {
			p.Hours = &w.Hours
		}
		if w.Position != "" && w.Position != have.Position {
			p.Position = &w.Position
		}
		if w.Bins != "" && strings.TrimSpace(w.Bins) != have.Bins {
			p.Bins = &w.Bins
		}
		if err == nil && have.Name == w.Name && p.Address == nil && p.Hours == nil && p.Bins == nil && p.Position == nil {
			continue
		}
		bins, err := p.check(w.Code)
		if err != nil {
			return fmt.Errorf("location %s: %w", w.Code, err)
		}
		if err := r.putPlace(ch, w.Code, p, bins, have.Keeper, who); err != nil {
			return fmt.Errorf("location %s: %w", w.Code, err)
		}
	}
	return nil
}

func sameHours(a, b place.Hours) bool {
	return slices.Equal(a.Week, b.Week) && a.Cutoff == b.Cutoff && slices.Equal(a.DaysOff, b.DaysOff)
}
