package rules

// Rehearsal finds out what a change of the rules would have made of past orders. Feed it orders one by one
// with See; it keeps no order but those that differ, up to a bound.
type Rehearsal struct {
	was, is *Set
	common  int // so many rules at the beginning are the same in both
	most    int

	Seen    int64         `json:"seen" doc:"Orders looked at"`
	Changed int64         `json:"changed" doc:"Orders that would have been decided on differently"`
	Orders  []Differently `json:"orders" doc:"The first of them"`
}

// Differently is a past order that would have been decided on differently.
type Differently struct {
	Order   int64    `json:"-"`
	Number  string   `json:"number"`
	Changes []string `json:"changes"`
}

// NewRehearsal compares two lists of rules. At most so many orders that differ are kept.
func NewRehearsal(was, is []Rule, most int) (*Rehearsal, error) {
	a, err := NewSet(was)
	if err != nil {
		return nil, err
	}
	b, err := NewSet(is)
	if err != nil {
		return nil, err
	}
	r := &Rehearsal{was: a, is: b, most: most}
	for r.common < min(len(a.rules), len(b.rules)) {
		x, y := a.rules[r.common].Rule, b.rules[r.common].Rule
		if x.When != y.When || x.Then != y.Then {
			break
		}
		r.common++
	}
	return r, nil
}

// Part makes a rehearsal of the same change for another part of the orders, to be added with Add.
func (r *Rehearsal) Part() *Rehearsal {
	return &Rehearsal{was: r.was, is: r.is, common: r.common, most: r.most}
}

// See looks at one order.
func (r *Rehearsal) See(id int64, f *Facts) {
	r.Seen++
	var before, after Outcome
	v := view{f: f}
	head := Set{r.was.rules[:r.common]}
	head.outcome(&v, &before)
	after = before
	w := v
	tail := Set{r.was.rules[r.common:]}
	tail.outcome(&v, &before)
	tail = Set{r.is.rules[r.common:]}
	tail.outcome(&w, &after)
	if before.Equal(&after) {
		return
	}
	r.Changed++
	if len(r.Orders) < r.most {
		r.Orders = append(r.Orders, Differently{Order: id, Changes: before.Differences(&after)})
	}
}

// Add puts the result of another part after this one's.
func (r *Rehearsal) Add(p *Rehearsal) {
	r.Seen += p.Seen
	r.Changed += p.Changed
	r.Orders = append(r.Orders, p.Orders[:min(len(p.Orders), r.most-len(r.Orders))]...)
}
