package shipping

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"openrelay/internal/core/freight"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// ServiceTableKind is what the table of services is called where its changes are undone; there is one.
const ServiceTableKind, ServiceTable = "service table", "services"

// mostChoices bounds the rows of the table of services.
const mostChoices = 500

// PutServices replaces the table of services. Parcels whose service was open are looked at again.
func (r *Shipping) PutServices(ctx context.Context, list []freight.Choice, who string) error {
	if len(list) > mostChoices {
		return engine.Refuse("the table has %d rows; at most %d are expected", len(list), mostChoices)
	}
	known, err := r.Store.CarrierServices(ctx)
	if err != nil {
		return err
	}
	ids := make([]int64, len(list))
	for i := range list {
		c := &list[i]
		c.Word, c.Service = strings.TrimSpace(c.Word), strings.Join(strings.Fields(c.Service), " ")
		if err := c.Check(); err != nil {
			return engine.Refuse("row %d: %v", i+1, err)
		}
		if len(known) > 0 { // before any carrier is joined, nothing is known, and all is taken
			if err := r.CheckPick(ctx, fmt.Sprintf("row %d: service", i+1), c.Service); err != nil {
				return err
			}
		}
		if c.Connection != "" {
			conn := r.ByCode(c.Connection)
			if conn == nil {
				return engine.Refuse("row %d: there is no connection %q", i+1, c.Connection)
			}
			ids[i] = conn.ID
		}
	}
	for i := range list {
		if by := freight.Hidden(list, i); by >= 0 {
			return engine.Refuse("row %d would never be looked at: row %d before it holds all of it", i+1, by+1)
		}
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		for _, c := range r.Sorted() {
			ch.Mark(engine.ServicesSet, c.ID)
		}
		if err := ch.PutServiceChoices(list, ids); err != nil {
			return err
		}
		return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "company", What: "services",
			Text: fmt.Sprintf("Table of services: %d rows", len(list))})
	})
}

func (r *Shipping) readServiceTable(ctx context.Context, _ string) (any, bool, error) {
	list, err := r.Store.ServiceChoices(ctx)
	return list, true, err
}

func (r *Shipping) writeServiceTable(ctx context.Context, _ string, was json.RawMessage, who string) error {
	var list []freight.Choice
	if err := json.Unmarshal(was, &list); err != nil {
		return err
	}
	return r.PutServices(ctx, list, who)
}

// pickFor says how the service of a parcel is picked, and by whose word: by what a rule chose, by the channel's own words, by the
// table of services, or by a word that is a carrier's own. What was promised and is in none of them is a person's to decide.
func (r *Shipping) pickFor(ctx context.Context, p *store.Parcel, o *order.Order) (freight.Pick, string, error) {
	read := func(text, by string) (freight.Pick, string, error) {
		pick, err := freight.ParsePick(text)
		if pick.Way == freight.InTime {
			pick.By = o.Record.DeliverBy
		}
		if err == nil && pick.Way == freight.AskFirst {
			err = &engine.Refused{Text: by + " that a person picks its service", Conflict: true}
		}
		return pick, by, err
	}
	if by := o.Ours.Decided.Service; by != "" {
		return read(by, "the rule wants")
	}
	word := o.Record.RequestedService
	promised := "the table says"
	if word != "" {
		promised = fmt.Sprintf("the buyer was promised “%s”, which is", word)
	}
	code := ""
	if c := r.ByID(o.ConnectionID); c != nil {
		code = c.Rec().Code
		if by := c.Settings().Services[word]; by != "" {
			return read(by, promised)
		}
	}
	table, err := r.Store.ServiceChoices(ctx)
	if err != nil {
		return freight.Pick{}, "", err
	}
	if at := freight.Choose(table, freight.Delivery{Word: word, Connection: code, To: o.ShipTo, WeightG: p.WeightG, Value: o.Record.Total,
		Currency: o.Record.Currency}); at >= 0 {
		return read(table[at].Service, promised)
	}
	if word == "" {
		return freight.Pick{Way: freight.Cheapest}, "", nil
	}
	known, err := r.Store.CarrierServices(ctx)
	if err != nil {
		return freight.Pick{}, "", err
	}
	if !slices.ContainsFunc(known, func(s store.CarrierService) bool { return s.Code == word }) {
		return freight.Pick{}, "", &engine.Refused{Conflict: true,
			Text: fmt.Sprintf("the buyer was promised “%s”; which service that is, is not decided", word)}
	}
	return freight.Pick{Service: word}, promised, nil
}

// PickOf says how the service of a parcel of an order is picked, if it weighs so much; false: a person picks it, or that is open.
func (r *Shipping) PickOf(ctx context.Context, o *order.Order, weightG int64) (freight.Pick, bool) {
	pick, _, err := r.pickFor(ctx, &store.Parcel{WeightG: weightG}, o)
	return pick, err == nil
}

// errNoTariff is that of a carrier whose tariff was never read.
var errNoTariff = errors.New("its tariff was never read")
