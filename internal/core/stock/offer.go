package stock

import "fmt"

// Policy says how the quantity told to a channel is worked out.
type Policy struct {
	Sources       []int64 `json:"sources" doc:"Locations whose stock the channel sells"`
	Buffer        int64   `json:"buffer" doc:"Units kept back"`
	BufferPercent int64   `json:"buffer_percent,omitempty" doc:"Part of what is available that is kept back beside, in hundredths, rounded up"`
	Cap           int64   `json:"cap" doc:"Never show more than this; 0 means no cap"`
	Floor         int64   `json:"floor" doc:"Show zero when less than this is left"`
	Off           bool    `json:"off" doc:"Offer nothing"`
	ShareBelow    int64   `json:"share_below,omitempty" doc:"From so many units down channels share what is left, by pace; 0: it shows all"`
	ShareOver     int64   `json:"share_over,omitempty" doc:"How much more than there is they show together, in hundredths; 0: none"`
}

// Override is what one listing does differently from the policy of its channel. What is not set is as
// the channel has it.
type Override struct {
	Sources       []int64 `json:"sources,omitempty"`
	Buffer        *int64  `json:"buffer,omitempty" minimum:"0"`
	BufferPercent *int64  `json:"buffer_percent,omitempty" minimum:"0" maximum:"100"`
	Cap           *int64  `json:"cap,omitempty" minimum:"0"`
	Floor         *int64  `json:"floor,omitempty" minimum:"0"`
	Off           *bool   `json:"off,omitempty"`
	ShareBelow    *int64  `json:"share_below,omitempty" minimum:"0"`
	ShareOver     *int64  `json:"share_over,omitempty" minimum:"0" maximum:"500"`
}

// Empty tells whether nothing is different.
func (o *Override) Empty() bool {
	return o == nil || len(o.Sources) == 0 && o.Buffer == nil && o.BufferPercent == nil && o.Cap == nil && o.Floor == nil && o.Off == nil &&
		o.ShareBelow == nil && o.ShareOver == nil
}

// With is the policy as a listing with the override has it.
func (p Policy) With(o *Override) Policy {
	if o == nil {
		return p
	}
	if len(o.Sources) > 0 {
		p.Sources = o.Sources
	}
	for _, f := range []struct{ from, to *int64 }{{o.Buffer, &p.Buffer}, {o.BufferPercent, &p.BufferPercent}, {o.Cap, &p.Cap},
		{o.Floor, &p.Floor}, {o.ShareBelow, &p.ShareBelow}, {o.ShareOver, &p.ShareOver}} {
		if f.from != nil {
			*f.to = *f.from
		}
	}
	if o.Off != nil {
		p.Off = *o.Off
	}
	return p
}

// WithoutStock is what is shown of goods that hold no stock, where no cap says otherwise.
const WithoutStock = 99

// Step is one term of the sum behind an offer.
type Step struct {
	Text     string `json:"text"`
	Change   int64  `json:"change" doc:"What this step adds or takes"`
	Result   int64  `json:"result" doc:"The sum after this step"`
	Location int64  `json:"location,omitempty" doc:"The location this step reads, if any"`
	Item     int64  `json:"item,omitempty" doc:"The item this step reads, if it is a component"`
}

// sum is what the sources have of the goods.
func (p Policy) sum(g Goods, levels func(Key) Level) int64 {
	if g.NoStock {
		return WithoutStock
	}
	var sum int64
	for _, loc := range p.Sources {
		n := g.Available(loc, levels)
		if len(g.Parts) > 0 {
			n = max(n, 0) // a kit short at one place is not made up for at another
		}
		sum += n
	}
	return sum
}

// Offer works out the quantity for goods.
func (p Policy) Offer(g Goods, levels func(Key) Level) int64 {
	if p.Off || g.Barred != "" {
		return 0
	}
	sum := p.sum(g, levels)
	if !g.NoStock {
		sum -= p.kept(sum)
	}
	if p.Cap > 0 && sum > p.Cap {
		sum = p.Cap
	}
	if sum < p.Floor || sum < 0 {
		sum = 0
	}
	return sum
}

// Shares tells whether so few are left that channels share them. Kits, and goods that hold no stock, are never shared.
func (p Policy) Shares(g Goods, levels func(Key) Level) bool {
	return p.ShareBelow > 0 && !g.NoStock && len(g.Parts) == 0 && p.sum(g, levels) <= p.ShareBelow
}

// kept is what the buffers keep back of a sum.
func (p Policy) kept(sum int64) int64 {
	n := p.Buffer
	if p.BufferPercent > 0 && sum > 0 {
		n += (sum*p.BufferPercent + 99) / 100
	}
	return n
}

// Names gives locations and items the names that people know.
type Names struct {
	Place func(int64) string
	Item  func(int64) string
}

// Explain works out the same quantity as Offer and says how, term by term.
func (p Policy) Explain(g Goods, levels func(Key) Level, name Names) (int64, []Step) {
	var sum int64
	var steps []Step
	add := func(text string, change, loc, item int64) {
		sum += change
		steps = append(steps, Step{text, change, sum, loc, item})
	}
	switch {
	case g.NoStock:
		add("It holds no stock: it is made when it is ordered", WithoutStock, 0, 0)
	case len(g.Parts) > 0:
		for _, loc := range p.Sources {
			n, which := g.scarcest(loc, levels)
			l := levels(Key{which.Item, loc})
			add(fmt.Sprintf("Kits at %s by its scarcest component: %d of %s available, %d in a kit", name.Place(loc), l.Available(),
				name.Item(which.Item), which.Quantity), max(n, 0), loc, which.Item)
		}
	default:
		for _, loc := range p.Sources {
			l := levels(Key{g.Item, loc})
			add(fmt.Sprintf("On hand at %s", name.Place(loc)), l.OnHand, loc, 0)
			add(fmt.Sprintf("Allocated to orders at %s", name.Place(loc)), -l.Allocated, loc, 0)
		}
	}
	want := p.Offer(g, levels)
	switch {
	case g.Barred != "":
		add(g.Barred, -sum, 0, 0)
		return want, steps
	case p.Off:
		add("The offer is switched off", -sum, 0, 0)
		return want, steps
	}
	if !g.NoStock {
		if n := p.kept(sum) - p.Buffer; n != 0 {
			add(fmt.Sprintf("Safety buffer of %d%%", p.BufferPercent), -n, 0, 0)
		}
		if p.Buffer != 0 {
			add("Safety buffer", -p.Buffer, 0, 0)
		}
	}
	if p.Cap > 0 && sum > p.Cap {
		add(fmt.Sprintf("No more than %d is shown", p.Cap), p.Cap-sum, 0, 0)
	}
	if sum > 0 && sum < p.Floor {
		add(fmt.Sprintf("Below %d nothing is shown", p.Floor), -sum, 0, 0)
	}
	if sum < 0 {
		add("Never less than nothing", -sum, 0, 0)
	}
	return want, steps
}
