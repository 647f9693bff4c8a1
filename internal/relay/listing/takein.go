package listing

import (
	"errors"
	"fmt"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/store"
)

// TakeItem takes in a thing sold: a new one is added, one we have gets what the other side says, field by field,
// as far as its word counts there.
func (r *Listing) TakeItem(b *exchange.Batch, in store.InboxMessage, m *message.Item) error {
	y, _, err := b.Tally(in)
	if err != nil {
		return err
	}
	told, groups, err := toldItem(m)
	if err != nil {
		return engine.Refuse("its option groups do not fit: %v", err)
	}
	it, err := b.Ch.Record(m.SKU)
	isNew := errors.Is(err, store.ErrNotFound)
	if err != nil && !isNew {
		return err
	}
	var kept []string
	if isNew {
		it = told
	} else {
		owners, err := b.Ch.Owners()
		if err != nil {
			return err
		}
		before := it
		kept = catalog.Overwrite(&it, told, func(field string) bool {
			owner, said := owners[field]
			return said && owner == b.C.ID || !said && !b.C.Settings().OursStay(field)
		})
		if len(catalog.Differences(before, it)) == 0 && len(groups) == 0 {
			b.Skip(in, y, "nothing new", "nothing of it is new"+keptText(kept))
			return nil
		}
	}
	it.Complete(r.Currency())
	if err := it.Check(); err != nil {
		return engine.Refuse("it cannot be an item: %v", err)
	}
	if taken, err := gtinTaken(b.Ch, it); err != nil {
		return err
	} else if taken {
		return engine.Refuse("GTIN %s is another item's", it.GTIN)
	}
	for _, g := range groups {
		if err := b.Ch.PutGroup(g); err != nil {
			return err
		}
	}
	b.Settle(in, "done", "", 0)
	if isNew {
		y.New++
		_, err = r.AddItem(b.Ch, it, b.C.Rec().Name, fmt.Sprintf("%s added by %s", it.Name, b.C.Rec().Name))
		return err
	}
	y.Changed++
	return r.ChangeItem(b.Ch, it, b.C.Rec().Name, fmt.Sprintf("%s changed by %s%s", it.Name, b.C.Rec().Name, keptText(kept)))
}

// gtinTaken tells whether the GTIN of an item is another's.
func gtinTaken(ch *engine.Change, it catalog.Item) (bool, error) {
	if it.GTIN == "" {
		return false, nil
	}
	other, err := ch.ItemByGTIN(it.GTIN)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	return err == nil && other != it.ID, err
}

// toldItem is an item as a channel tells it, with its option groups.
func toldItem(m *message.Item) (catalog.Item, []catalog.Group, error) {
	groups := make([]catalog.Group, len(m.Groups))
	for i, g := range m.Groups {
		groups[i] = catalog.Group{Code: g.Code, Name: g.Name, Least: g.Least, Most: g.Most}
		for _, c := range g.Choices {
			groups[i].Choices = append(groups[i].Choices, catalog.Choice(c))
		}
		if err := groups[i].Check(); err != nil {
			return catalog.Item{}, nil, err
		}
	}
	told := catalog.Item{SKU: m.SKU, Kind: catalog.Kind(m.Kind), GTIN: m.GTIN, Name: m.Name, Category: m.Category, Options: m.Options,
		Description: m.Description,
		WeightG:     m.WeightG, LengthMM: m.LengthMM, WidthMM: m.WidthMM, HeightMM: m.HeightMM, Price: m.Price, Currency: m.Currency}
	for _, g := range groups {
		told.Groups = append(told.Groups, g.Code)
	}
	if told.Kind == "" && len(groups) > 0 {
		told.Kind = catalog.Prepared
	}
	return told, groups, nil
}

func keptText(kept []string) string {
	if len(kept) == 0 {
		return ""
	}
	return "; its word does not count for " + engine.Join(kept) + ", as the catalog's terms say"
}
