package shipping

import (
	"errors"
	"fmt"
	"strings"

	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/store"
)

// chooseSerials notes which units go with the parcels of a carton. Those that are noted already stay where something is only added to
// it. A number that was not recorded at receipt is refused, unless somebody lets it in; then it is recorded now, and that is said.
func (r *Shipping) chooseSerials(ch *engine.Change, c carton, items map[int64]store.Item, w Packing) (string, error) {
	var said []string
	for i := range c {
		p := &c[i].parcel
		if w.Into == "" {
			if err := ch.UnpackSerials(p.ID); err != nil {
				return "", err
			}
		}
		noted, err := ch.SerialsNoted(p.ID)
		if err != nil {
			return "", err
		}
		for _, sl := range p.Lines {
			it := items[sl.ItemID]
			there := min(noted[it.ID], sl.Quantity)
			noted[it.ID] -= there
			n := sl.Quantity - there
			if !it.Serials || n == 0 {
				continue
			}
			given := w.Serials[it.SKU]
			if int64(len(given)) < n {
				return "", &engine.Refused{Text: fmt.Sprintf("%s has serial numbers: scan %d, %d were given", it.SKU, n, len(given)),
					Conflict: true}
			}
			for _, serial := range given[:n] {
				text, err := r.packSerial(ch, p, it, strings.TrimSpace(serial), w.LetIn)
				if err != nil {
					return "", err
				}
				said = append(said, text)
			}
			w.Serials[it.SKU] = given[n:]
		}
	}
	for sku, left := range w.Serials {
		if len(left) > 0 {
			return "", engine.Refuse("%d serial numbers of %s are more than the parcel has units", len(left), sku)
		}
	}
	if len(said) == 0 {
		return "", nil
	}
	return ", serial numbers " + engine.Join(said), nil
}

// packSerial notes that a unit goes with a parcel, and returns what is said of it.
func (r *Shipping) packSerial(ch *engine.Change, p *store.Parcel, it store.Item, serial string, letIn bool) (said string, err error) {
	said = serial
	x, err := ch.Serial(it.ID, serial)
	switch {
	case errors.Is(err, store.ErrNotFound):
		if serial == "" || len(serial) > 80 {
			return "", engine.Refuse("serial %q: 1 to 80 characters are expected", serial)
		}
		if !letIn {
			return "", &engine.Refused{Text: fmt.Sprintf("serial number %s of %s was not recorded when it was received; look at "+
				"the unit, or have it let in", serial, it.SKU), Conflict: true}
		}
		if err := ch.AddSerial(it.ID, serial, p.LocationID, "first seen at packing", ch.Now); err != nil {
			return "", err
		}
		said += " (not recorded at receipt)"
	case err != nil:
		return "", err
	case x.State != "here":
		return "", &engine.Refused{Text: fmt.Sprintf("serial number %s of %s is %s", serial, it.SKU, inventory.SerialText(x)),
			Conflict: true}
	case x.LocationID != p.LocationID:
		return "", &engine.Refused{Text: fmt.Sprintf("serial number %s of %s should be at %s", serial, it.SKU, x.Location),
			Conflict: true}
	}
	return said, ch.PackSerial(it.ID, serial, p.ID)
}
