package shipping

import (
	"errors"
	"fmt"
	"strings"

	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/store"
)

// chooseSerials notes which units go with a parcel. A number that was not recorded at receipt is refused, unless somebody lets it
// in; then it is recorded now, and that is said.
func (r *Shipping) chooseSerials(ch *engine.Change, p *store.Parcel, items map[int64]store.Item,
	serials map[string][]string, letIn bool) (string, error) {
	if err := ch.UnpackSerials(p.ID); err != nil {
		return "", err
	}
	var said []string
	for _, sl := range p.Lines {
		it := items[sl.ItemID]
		if !it.Serials || sl.Quantity == 0 {
			continue
		}
		given := serials[it.SKU]
		if int64(len(given)) < sl.Quantity {
			return "", &engine.Refused{Text: fmt.Sprintf("%s has serial numbers: scan %d, %d were given", it.SKU, sl.Quantity,
				len(given)), Conflict: true}
		}
		for _, text := range given[:sl.Quantity] {
			text = strings.TrimSpace(text)
			x, err := ch.Serial(it.ID, text)
			switch {
			case errors.Is(err, store.ErrNotFound):
				if text == "" || len(text) > 80 {
					return "", engine.Refuse("serial %q: 1 to 80 characters are expected", text)
				}
				if !letIn {
					return "", &engine.Refused{Text: fmt.Sprintf("serial number %s of %s was not recorded when it was received; look at "+
						"the unit, or have it let in", text, it.SKU), Conflict: true}
				}
				if err := ch.AddSerial(it.ID, text, p.LocationID, "first seen at packing", ch.Now); err != nil {
					return "", err
				}
				said = append(said, text+" (not recorded at receipt)")
			case err != nil:
				return "", err
			case x.State != "here":
				return "", &engine.Refused{Text: fmt.Sprintf("serial number %s of %s is %s", text, it.SKU, inventory.SerialText(x)),
					Conflict: true}
			case x.LocationID != p.LocationID:
				return "", &engine.Refused{Text: fmt.Sprintf("serial number %s of %s should be at %s", text, it.SKU, x.Location),
					Conflict: true}
			default:
				said = append(said, text)
			}
			if err := ch.PackSerial(it.ID, text, p.ID); err != nil {
				return "", err
			}
		}
		serials[it.SKU] = given[sl.Quantity:]
	}
	for sku, left := range serials {
		if len(left) > 0 {
			return "", engine.Refuse("%d serial numbers of %s are more than the parcel has units", len(left), sku)
		}
	}
	if len(said) == 0 {
		return "", nil
	}
	return ", serial numbers " + engine.Join(said), nil
}
