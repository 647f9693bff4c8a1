package joining

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"reflect"
	"slices"
	"strings"

	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/setup"
	"openrelay/internal/store"
)

// PutSender adds whom parcels come from, or changes the one of the same code.
func (r *Joining) PutSender(ctx context.Context, s store.Sender, who string) error {
	if err := r.Commit(ctx, func(ch *engine.Change) error { return r.putSender(ch, s, who) }); err != nil {
		return err
	}
	return r.Reload(ctx)
}

func (r *Joining) putSender(ch *engine.Change, s store.Sender, who string) error {
	for _, f := range []*string{&s.Name, &s.Company, &s.Phone, &s.Email} {
		*f = strings.TrimSpace(*f)
	}
	switch {
	case !engine.ValidCode(s.Code):
		return engine.Refuse("code %q: small letters, digits and - are expected", s.Code)
	case s.Name == "":
		return engine.Refuse("name: missing")
	}
	ch.Tell("company", "")
	if err := ch.PutSender(s); err != nil {
		return err
	}
	return r.NoteThing(ch, "company", 0, who, "sender", "Sender %s: %s", s.Code, s.Name)
}

// ArchiveSender lets a sender be used no more, or again. One that a connection ships as stays.
func (r *Joining) ArchiveSender(ctx context.Context, code string, archived bool, who string) error {
	if archived {
		if err := r.shipsAs(code); err != nil {
			return err
		}
	}
	if err := r.archive(ctx, "sender", code, archived, who, (*engine.Change).ArchiveSender); err != nil {
		return err
	}
	return r.Reload(ctx)
}

// shipsAs refuses to give a sender up that a connection ships as.
func (r *Joining) shipsAs(code string) error {
	for _, c := range r.Sorted() {
		if c.Rec().State != store.Left && c.Settings().Sender == code {
			return &engine.Refused{Text: fmt.Sprintf("%s ships as %s; change that first", c.Rec().Name, code), Conflict: true}
		}
	}
	return nil
}

// PutNamedCarrier adds a carrier of which no more is known than its name and where its parcels are followed.
func (r *Joining) PutNamedCarrier(ctx context.Context, c store.NamedCarrier, who string) error {
	if err := r.Commit(ctx, func(ch *engine.Change) error { return r.putNamedCarrier(ch, c, who) }); err != nil {
		return err
	}
	return r.Reload(ctx)
}

// numberMark stands for the tracking number in the address where a carrier's parcels are followed.
const numberMark = "{number}"

func (r *Joining) putNamedCarrier(ch *engine.Change, c store.NamedCarrier, who string) error {
	c.Name, c.TrackingURL = strings.TrimSpace(c.Name), strings.TrimSpace(c.TrackingURL)
	switch {
	case !engine.ValidCode(c.Code):
		return engine.Refuse("code %q: small letters, digits and - are expected", c.Code)
	case r.ByCode(c.Code) != nil:
		return &engine.Refused{Text: fmt.Sprintf("code %s: a connection has it", c.Code), Conflict: true}
	case c.Name == "":
		return engine.Refuse("name: missing")
	}
	if c.TrackingURL != "" {
		u, err := url.Parse(strings.ReplaceAll(c.TrackingURL, numberMark, "1"))
		if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" {
			return engine.Refuse("tracking_url: an address such as https://carrier.example/%s is expected", numberMark)
		}
		if !strings.Contains(c.TrackingURL, numberMark) {
			return engine.Refuse("tracking_url: %s has to stand in it for the tracking number", numberMark)
		}
	}
	ch.Tell("company", "")
	if err := ch.PutNamedCarrier(c); err != nil {
		return err
	}
	return r.NoteThing(ch, "company", 0, who, "carrier", "Carrier %s, only named: %s", c.Code, c.Name)
}

// ArchiveNamedCarrier lets one be used no more, or again. Parcels that it took stay as they are.
func (r *Joining) ArchiveNamedCarrier(ctx context.Context, code string, archived bool, who string) error {
	if err := r.archive(ctx, "carrier", code, archived, who, (*engine.Change).ArchiveNamedCarrier); err != nil {
		return err
	}
	return r.Reload(ctx)
}

// archive lets something that is kept by code be used no more, or again.
func (r *Joining) archive(ctx context.Context, what, code string, archived bool, who string,
	set func(ch *engine.Change, code string, at int64) error) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		ch.Tell("company", "")
		at, word := int64(0), "again"
		if archived {
			at, word = ch.Now.UnixMicro(), "no more"
		}
		if err := set(ch, code, at); err != nil {
			return fmt.Errorf("%s %s: %w", what, code, err)
		}
		return r.NoteThing(ch, "company", 0, who, what, "%s %s is used %s", what, code, word)
	})
}

// applySenders makes and changes senders, and carriers that are only named, as a set-up has them.
func (r *Joining) applySenders(ch *engine.Change, want setup.Setup, who string) error {
	for _, w := range want.Senders {
		s := store.Sender{Code: w.Code, Name: w.Name, Company: w.Company, Phone: w.Phone, Email: w.Email}
		if have, ok := r.Sender(w.Code); ok && have == s {
			continue
		}
		if err := r.putSender(ch, s, who); err != nil {
			return fmt.Errorf("sender %s: %w", w.Code, err)
		}
	}
	for _, w := range want.Carriers {
		c := store.NamedCarrier{Code: w.Code, Name: w.Name, TrackingURL: w.TrackingURL}
		if have, ok := r.NamedCarrier(w.Code); ok && have == c {
			continue
		}
		if err := r.putNamedCarrier(ch, c, who); err != nil {
			return fmt.Errorf("carrier %s: %w", w.Code, err)
		}
	}
	return nil
}

// NameWarnings says which connections at work would refuse a name that stands on parcels.
func (r *Joining) NameWarnings(name string) (list []string) {
	words := len(strings.Fields(name))
	for _, c := range r.Sorted() {
		if wants := c.Line().Def.Demands.NameWords; c.Rec().State == store.On && words < wants {
			list = append(list, fmt.Sprintf("%s wants %d words in a name; “%s” has %d", c.Rec().Name, wants, name, words))
		}
	}
	return list
}

// exportRounds adds the rules by which orders are picked in one walk to a set-up.
func (r *Joining) exportRounds(ctx context.Context, out *setup.Setup) error {
	rules, err := r.Store.RoundRules(ctx)
	for _, x := range rules {
		out.Rounds = append(out.Rounds, setup.Round{Code: x.Code, Name: x.Name, Location: x.Location, Slots: x.Slots,
			Services: x.Services, Units: x.Units, Today: x.Today})
	}
	return err
}

// applyRounds sets the rules by which orders are picked in one walk, as a set-up has them.
func (r *Joining) applyRounds(ctx context.Context, want setup.Setup, who string) error {
	have := setup.Setup{}
	if err := r.exportRounds(ctx, &have); err != nil {
		return err
	}
	for _, w := range want.Rounds {
		if slices.ContainsFunc(have.Rounds, func(h setup.Round) bool { return reflect.DeepEqual(h, w) }) {
			continue
		}
		if err := r.Views.Shipping.PutRoundRule(ctx, store.RoundRule{Code: w.Code, Name: w.Name, Location: w.Location, Slots: w.Slots,
			Services: w.Services, Units: w.Units, Today: w.Today}, who); err != nil {
			return fmt.Errorf("round %s: %w", w.Code, err)
		}
	}
	return nil
}

// exportServices adds by which service parcels go to a set-up.
func (r *Joining) exportServices(ctx context.Context, out *setup.Setup) error {
	list, err := r.Store.ServiceChoices(ctx)
	if len(list) > 0 {
		out.Services = list
	}
	s := r.Views.Shipping
	policy, failed := s.AddressPolicies.Rows(ctx, r.Engine)
	if len(policy) > 0 {
		out.Addresses = policy[0].Check
	}
	places, unread := r.Routing.Policy(ctx)
	if places.On || len(places.Places) > 0 {
		out.Routing = &places
	}
	return errors.Join(err, failed, unread, exportTable(ctx, r, r.Partners.Agreed, &out.Partners),
		exportTable(ctx, r, s.Collections, &out.Collections), exportTable(ctx, r, s.Accounts, &out.Accounts),
		exportTable(ctx, r, s.SenderAddresses, &out.SenderOwn), exportTable(ctx, r, s.Declarants, &out.Customs),
		exportTable(ctx, r, s.ChargeRules, &out.FreightRules))
}

// exportTable adds the rows of a table to a set-up.
func exportTable[T any](ctx context.Context, r *Joining, t *engine.Table[T], to *[]T) error {
	rows, err := t.Rows(ctx, r.Engine)
	if len(rows) > 0 {
		*to = rows
	}
	return err
}

// applyTable replaces the rows of a table by those of a set-up, where it has other ones.
func applyTable[T any](ctx context.Context, r *Joining, t *engine.Table[T], want []T, who string) error {
	have, err := t.Rows(ctx, r.Engine)
	if err != nil || len(want) == 0 || reflect.DeepEqual(have, want) {
		return err
	}
	return t.Put(ctx, r.Engine, want, who)
}

// applyCarriers sets what was decided about carriers, as a set-up has it: now that they are there.
func (r *Joining) applyCarriers(ctx context.Context, want setup.Setup, who string) error {
	s := r.Views.Shipping
	var policy []shipping.AddressPolicy
	if want.Addresses != "" {
		policy = []shipping.AddressPolicy{{Check: want.Addresses}}
	}
	return errors.Join(r.applyServices(ctx, want, who), r.applyRouting(ctx, want, who),
		applyTable(ctx, r, r.Partners.Agreed, want.Partners, who),
		applyTable(ctx, r, s.Collections, want.Collections, who),
		applyTable(ctx, r, s.Accounts, want.Accounts, who), applyTable(ctx, r, s.SenderAddresses, want.SenderOwn, who),
		applyTable(ctx, r, s.Declarants, want.Customs, who), applyTable(ctx, r, s.AddressPolicies, policy, who),
		applyTable(ctx, r, s.ChargeRules, want.FreightRules, who))
}

// applyRouting says how places are chosen, as a set-up has it.
func (r *Joining) applyRouting(ctx context.Context, want setup.Setup, who string) error {
	have, err := r.Routing.Policy(ctx)
	if err != nil || want.Routing == nil || reflect.DeepEqual(have, *want.Routing) {
		return err
	}
	return r.Routing.SetPolicy(ctx, *want.Routing, who)
}

// applyServices sets by which service parcels go, as a set-up has it: now that channels and carriers are there.
func (r *Joining) applyServices(ctx context.Context, want setup.Setup, who string) error {
	have, err := r.Store.ServiceChoices(ctx)
	if err != nil || len(want.Services) == 0 || reflect.DeepEqual(have, want.Services) {
		return err
	}
	if err := r.Views.Shipping.PutServices(ctx, want.Services, who); err != nil {
		return fmt.Errorf("services: %w", err)
	}
	return nil
}
