package stock

// Component is one of the items that a kit is made of.
type Component struct {
	Item     int64 `json:"item"`
	Quantity int64 `json:"quantity" doc:"Units in one kit"`
}

// Goods is what a line of an order or a listing sells: an item, a kit of several, or something that holds
// no stock because it is made or cooked when it is ordered.
type Goods struct {
	Item    int64
	Parts   []Component // of a kit; empty for anything else
	NoStock bool
	Barred  string // why it cannot be sold at all, such as an archived component; empty: it can
}

// One is an item that lies on a shelf as it is.
func One(item int64) Goods { return Goods{Item: item} }

// Components are the items that leave a shelf when one unit is sold.
func (g Goods) Components() []Component {
	switch {
	case g.NoStock:
		return nil
	case len(g.Parts) > 0:
		return g.Parts
	}
	return []Component{{g.Item, 1}}
}

// Available is how many units can be promised at a location: of a kit, as many as its scarcest component
// allows. It is negative when more was promised than lies there.
func (g Goods) Available(loc int64, levels func(Key) Level) int64 {
	n, _ := g.scarcest(loc, levels)
	return n
}

// scarcest tells how many units a location allows, and by which component.
func (g Goods) scarcest(loc int64, levels func(Key) Level) (least int64, which Component) {
	for i, c := range g.Components() {
		n := floorDiv(levels(Key{c.Item, loc}).Available(), c.Quantity)
		if i == 0 || n < least {
			least, which = n, c
		}
	}
	return least, which
}

func floorDiv(a, b int64) int64 {
	if b <= 0 {
		return 0
	}
	q := a / b
	if a%b != 0 && a < 0 {
		q--
	}
	return q
}
