package catalog

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
)

// Known is an item as matching sees it.
type Known struct {
	ID                       int64
	SKU, GTIN, Name, Options string
	Price                    int64
	Currency                 string
}

// Wanted is a listing whose item is looked for.
type Wanted struct {
	SKU, GTIN, Title string
	Price            int64
	Currency         string
}

// How a match was found, or was made.
const (
	BySKU     = "same SKU"
	ByNear    = "same SKU but for signs" // case, spaces, punctuation
	ByGTIN    = "same GTIN"
	ByNumber  = "known channel number"
	ByPerson  = "by a person"
	ByRule    = "by rule"
	ByCreated = "created from it"
)

// Suggestion is an item that a listing may be.
type Suggestion struct {
	ItemID  int64    `json:"item_id"`
	SKU     string   `json:"sku"`
	Name    string   `json:"name"`
	Score   int64    `json:"score" doc:"How sure it is, 0 to 100"`
	Reasons []string `json:"reasons" doc:"What speaks for it, and what against"`
}

// Index finds items. It is made once from all items and then only read.
type Index struct {
	items  []entry
	sku    map[string][]int32
	normal map[string][]int32
	gtin   map[string][]int32
	post   map[string][]int32 // word to items
	grams  map[string][]string
	values map[string]map[string]bool // option name to all its values, as words
	weight map[string]float64
	top    float64 // weight of a word that no item has
}

type entry struct {
	Known
	words   []word
	options []entryOption
	total   float64
}

type entryOption struct {
	name  string
	value []string
}

// NewIndex makes an index.
func NewIndex(items []Known) *Index {
	x := &Index{sku: map[string][]int32{}, normal: map[string][]int32{}, gtin: map[string][]int32{}, post: map[string][]int32{},
		grams: map[string][]string{}, values: map[string]map[string]bool{}, weight: map[string]float64{}}
	x.items = make([]entry, len(items))
	for i, it := range items {
		n := int32(i)
		x.sku[it.SKU] = append(x.sku[it.SKU], n)
		if s := NormalSKU(it.SKU); s != "" {
			x.normal[s] = append(x.normal[s], n)
		}
		if it.GTIN != "" {
			g := plainGTIN(it.GTIN)
			x.gtin[g] = append(x.gtin[g], n)
		}
		e := x.entry(it)
		for _, w := range e.words {
			x.post[w.text] = append(x.post[w.text], n)
		}
		for _, o := range e.options {
			if x.values[o.name] == nil {
				x.values[o.name] = map[string]bool{}
			}
			for _, v := range o.value {
				x.values[o.name][v] = true
			}
		}
		x.items[i] = *e
	}
	for w, list := range x.post {
		x.weight[w] = math.Log(1 + float64(len(items))/float64(len(list)))
		for _, g := range trigrams(w) {
			x.grams[g] = append(x.grams[g], w)
		}
	}
	x.top = math.Log(1 + float64(max(len(items), 1)))
	for i := range x.items {
		x.weigh(&x.items[i])
	}
	return x
}

// entry takes an item apart.
func (x *Index) entry(it Known) *entry {
	e := &entry{Known: it}
	seen := map[string]bool{}
	add := func(list []word) {
		for _, w := range list {
			if !seen[w.text] {
				seen[w.text] = true
				e.words = append(e.words, w)
			}
		}
	}
	add(words(it.Name))
	options, _ := ParseOptions(it.Options)
	for _, o := range options {
		var value []string
		list := words(o.Value)
		for _, w := range list {
			value = append(value, w.text)
		}
		if len(value) > 0 {
			e.options = append(e.options, entryOption{strings.ToLower(o.Name), value})
			add(list)
		}
	}
	x.weigh(e)
	return e
}

func (x *Index) weigh(e *entry) {
	e.total = 0
	for _, w := range e.words {
		if wt := x.weight[w.text]; wt > 0 {
			e.total += wt
		} else {
			e.total += x.top
		}
	}
}

// plainGTIN writes a GTIN with 14 digits, as all of them are the same number with zeros before it.
func plainGTIN(g string) string {
	if n := 14 - len(g); n > 0 {
		return strings.Repeat("0", n) + g
	}
	return g
}

func trigrams(w string) []string {
	if len(w) < 4 {
		return nil
	}
	var out []string
	for i := 0; i+3 <= len(w); i++ {
		out = append(out, w[i:i+3])
	}
	return out
}

// Found are the items that a listing's codes name.
type Found struct{ SKU, Near, GTIN []Known }

// Certain finds the item that a listing is beyond doubt among the items of the index.
func (x *Index) Certain(w Wanted) (item int64, by, doubt string) {
	var f Found
	for _, c := range []struct {
		from map[string][]int32
		key  string
		to   *[]Known
	}{{x.sku, w.SKU, &f.SKU}, {x.normal, NormalSKU(w.SKU), &f.Near}, {x.gtin, plainGTIN(w.GTIN), &f.GTIN}} {
		if c.key == "" {
			continue
		}
		for _, n := range c.from[c.key] {
			*c.to = append(*c.to, x.items[n].Known)
		}
	}
	return x.Decide(w, f)
}

// Decide says which of the items that a listing's codes name it is beyond doubt, and by what: exactly its
// SKU, its SKU but for signs, or its GTIN, where the title does not speak against it. doubt says what
// stood in the way.
func (x *Index) Decide(w Wanted, f Found) (item int64, by, doubt string) {
	if w.SKU != "" && len(f.SKU) == 1 {
		return f.SKU[0].ID, BySKU, ""
	}
	if len(NormalSKU(w.SKU)) > 2 {
		switch {
		case len(f.Near) == 1:
			return f.Near[0].ID, ByNear, ""
		case len(f.Near) > 1:
			doubt = fmt.Sprintf("its SKU could be %s or %s", f.Near[0].SKU, f.Near[1].SKU)
		}
	}
	if w.GTIN == "" || len(f.GTIN) != 1 {
		return 0, "", doubt
	}
	it := f.GTIN[0]
	if w.Title != "" {
		s := x.score(x.entry(it), w, words(w.Title))
		if s.conflict != "" {
			return 0, "", fmt.Sprintf("its GTIN is that of %s, but %s", it.SKU, s.conflict)
		}
		if s.cover < 0.34 {
			return 0, "", fmt.Sprintf("its GTIN is that of %s, but the title says something else", it.SKU)
		}
	}
	return it.ID, ByGTIN, doubt
}

// candidates bounds how many items are looked at closely.
const candidates = 60

// lookups bounds how many items are looked up by their words.
const lookups = 20_000

// Suggest ranks the items that a listing may be, the likeliest first, at most most of them.
func (x *Index) Suggest(w Wanted, most int) []Suggestion {
	ws := words(w.Title)
	if len(ws) == 0 {
		ws = words(w.SKU)
	}
	rough := x.rough(w, ws)
	near := x.nearest(rough)
	type scored struct {
		n int32
		s score
	}
	list := make([]scored, 0, len(near))
	for _, n := range near {
		list = append(list, scored{n, x.score(&x.items[n], w, ws)})
	}
	slices.SortStableFunc(list, func(a, b scored) int { return cmp.Compare(b.s.value, a.s.value) })
	out := []Suggestion{}
	for i, c := range list[:min(len(list), most)] {
		value := c.s.value
		if i == 0 && len(list) > 1 { // two that fit alike are none that fits surely
			if gap := value - list[1].s.value; gap < 0.12 {
				value *= 0.55 + 0.45*gap/0.12
				c.s.reasons = append(c.s.reasons, fmt.Sprintf("%s fits nearly as well", x.items[list[1].n].SKU))
			}
		}
		if value < 0.2 {
			continue
		}
		e := &x.items[c.n]
		out = append(out, Suggestion{ItemID: e.ID, SKU: e.SKU, Name: e.Name, Score: int64(math.Round(100 * min(value, 0.99))),
			Reasons: c.s.reasons})
	}
	slices.SortStableFunc(out, func(a, b Suggestion) int { return int(b.Score - a.Score) })
	return out
}

// nearest are the items that are weighed highest for the words they have themselves.
func (x *Index) nearest(rough map[int32]float64) []int32 {
	near := make([]int32, 0, len(rough))
	for n := range rough {
		near = append(near, n)
	}
	slices.SortFunc(near, func(a, b int32) int {
		if c := cmp.Compare(rough[b]/math.Sqrt(1+x.items[b].total), rough[a]/math.Sqrt(1+x.items[a].total)); c != 0 {
			return c
		}
		return int(a - b)
	})
	return near[:min(len(near), candidates)]
}

// rough weighs the items that words of a title name. Rare words come first: they name few items. When enough items were
// looked up, common words only add to those.
func (x *Index) rough(w Wanted, ws []word) map[int32]float64 {
	type term struct {
		word   string
		weight float64
	}
	var terms []term
	for _, t := range ws {
		for v, sim := range x.spellings(t) {
			terms = append(terms, term{v, x.weight[v] * sim})
		}
	}
	slices.SortFunc(terms, func(a, b term) int {
		if c := len(x.post[a.word]) - len(x.post[b.word]); c != 0 {
			return c
		}
		return strings.Compare(a.word, b.word)
	})
	rough := map[int32]float64{}
	looked := 0
	for _, t := range terms {
		list := x.post[t.word]
		if looked += len(list); looked > lookups && len(rough) >= candidates {
			for n := range rough {
				if _, ok := slices.BinarySearch(list, n); ok {
					rough[n] += t.weight
				}
			}
			continue
		}
		for _, n := range list {
			rough[n] += t.weight
		}
	}
	for _, n := range x.gtin[plainGTIN(w.GTIN)] {
		if w.GTIN != "" {
			rough[n] += x.top
		}
	}
	return rough
}

// spellings are the words of items that a word may be meant for.
func (x *Index) spellings(t word) map[string]float64 {
	if x.post[t.text] != nil {
		return map[string]float64{t.text: 1}
	}
	out := map[string]float64{}
	if t.class != 'w' {
		return out
	}
	hits := map[string]int{}
	for _, g := range trigrams(t.text) {
		for _, v := range x.grams[g] {
			hits[v]++
		}
	}
	for v := range hits {
		if sim := alike(t.text, v); sim > 0 {
			out[v] = sim
		}
	}
	return out
}

// score is how well an item fits a listing.
type score struct {
	value    float64
	cover    float64 // how much of the item's words the title has
	conflict string
	reasons  []string
}

// score compares an item with a listing: which of the item's words the title has, which of the title's words
// the item has not, whether the options and measures agree, and how far the prices are apart.
func (x *Index) score(e *entry, w Wanted, ws []word) score {
	var s score
	used := make([]bool, len(ws))
	hit, same := x.hits(e, ws, used)
	listed, extra := x.listed(ws, used)
	if e.total > 0 {
		s.cover = hit / e.total
	}
	precise := 0.0
	if listed > 0 {
		precise = min(1, hit/listed)
	}
	if s.cover+precise > 0 {
		s.value = 2 * s.cover * precise / (s.cover + precise)
	}
	// A title that says all of the item and something beside it is more likely it than one that lacks words.
	s.value = 0.75*s.value + 0.25*s.cover
	// A word of the item that the title lacks, and a word of the title that the item lacks, are often one in
	// place of the other: another thing of the same kind.
	if e.total > 0 && listed > 0 {
		s.value *= 1 - 1.1*min(1-s.cover, extra/listed)
	}
	if len(same) > 0 {
		s.reasons = append(s.reasons, "title has "+strings.Join(same[:min(len(same), 5)], ", "))
	}
	x.options(e, ws, &s)
	x.measures(e, ws, &s)
	x.price(e, w, &s)
	if w.GTIN != "" && e.GTIN != "" {
		if plainGTIN(w.GTIN) == plainGTIN(e.GTIN) {
			s.value = min(1, s.value+0.12)
			s.reasons = append(s.reasons, "same GTIN")
		}
	}
	return s
}

// listed adds the weights of the words of a title, and of those among them that no word of the item was found in.
func (x *Index) listed(ws []word, used []bool) (listed, extra float64) {
	for k, t := range ws {
		wt := x.weight[t.text]
		if wt == 0 {
			wt = x.top * 0.8
			if used[k] {
				wt = x.top * 0.5
			} else if t.class == 'w' {
				for _, sp := range x.spellings(t) {
					if sp > 0 { // a slip in a word of another item is no new word
						wt = x.top * 0.6
					}
				}
			}
		}
		listed += wt
		if !used[k] && t.class == 'w' {
			extra += wt
		}
	}
	return listed, extra
}

// hits adds the weights of the words of an item that a title has, marks those of the title that were used, and lists those
// that are the same.
func (x *Index) hits(e *entry, ws []word, used []bool) (hit float64, same []string) {
	for _, iw := range e.words {
		best, at := 0.0, -1
		for k, t := range ws {
			if used[k] || t.class != iw.class && !(t.class == 'n' && iw.class == 'm' || t.class == 'm' && iw.class == 'n') {
				continue
			}
			sim := 0.0
			switch {
			case t.text == iw.text:
				sim = 1
			case t.class == 'n' && iw.class == 'm' && iw.text == t.text+iw.unit, t.class == 'm' && iw.class == 'n' &&
				t.text == iw.text+t.unit:
				sim = 0.9
			case t.class == 'w' && iw.class == 'w':
				sim = alike(t.text, iw.text)
			}
			if sim > best {
				best, at = sim, k
			}
		}
		if at >= 0 {
			used[at] = true
			hit += best * cmp.Or(x.weight[iw.text], x.top)
			if iw.class == 'w' {
				same = append(same, ws[at].text)
			}
		}
	}
	return hit, same
}

func (x *Index) options(e *entry, ws []word, s *score) {
	for _, o := range e.options {
		has, other := 0, ""
		for _, v := range o.value {
			if slices.ContainsFunc(ws, func(t word) bool { return t.text == v || t.class == 'w' && alike(t.text, v) > 0.7 }) {
				has++
			}
		}
		if has == len(o.value) {
			s.reasons = append(s.reasons, fmt.Sprintf("%s %s", o.name, strings.Join(o.value, " ")))
			continue
		}
		for _, t := range ws {
			if !slices.Contains(o.value, t.text) && x.values[o.name][t.text] && (t.class == 's' || t.class == 'n' || t.class == 'w') {
				other = t.text
			}
		}
		if other != "" {
			s.conflict = fmt.Sprintf("the title says %s %s, the item is %s", o.name, other, strings.Join(o.value, " "))
			s.value *= 0.35
		} else {
			s.value *= 0.72
			s.reasons = append(s.reasons, fmt.Sprintf("the title does not say the %s", o.name))
			continue
		}
		s.reasons = append(s.reasons, s.conflict)
	}
}

func (x *Index) measures(e *entry, ws []word, s *score) {
	for _, iw := range e.words {
		if iw.class != 'm' {
			continue
		}
		agree, other := false, ""
		for _, t := range ws {
			switch {
			case t.text == iw.text || t.class == 'n' && iw.text == t.text+iw.unit:
				agree = true
			case t.class == 'm' && t.unit == iw.unit:
				other = t.text
			}
		}
		if !agree && other != "" {
			s.conflict = fmt.Sprintf("the title says %s, the item is %s", other, iw.text)
			s.value *= 0.4
			s.reasons = append(s.reasons, s.conflict)
		}
	}
	for _, t := range ws { // a measure that the item lacks altogether
		if t.class != 'm' {
			continue
		}
		if !slices.ContainsFunc(e.words, func(iw word) bool {
			return iw.class == 'm' && iw.unit == t.unit || iw.class == 'n' && t.text == iw.text+t.unit
		}) {
			s.value *= 0.9
		}
	}
}

func (x *Index) price(e *entry, w Wanted, s *score) {
	if w.Price <= 0 || e.Price <= 0 || w.Currency != "" && e.Currency != "" && w.Currency != e.Currency {
		return
	}
	ratio := float64(w.Price) / float64(e.Price)
	if ratio < 1 {
		ratio = 1 / ratio
	}
	switch {
	case ratio <= 1.02:
		s.value = min(1, s.value+0.06)
		s.reasons = append(s.reasons, "same price")
	case ratio <= 1.3:
		s.reasons = append(s.reasons, "price near")
	case ratio > 3:
		s.value *= 0.6
		s.reasons = append(s.reasons, fmt.Sprintf("price differs by a factor of %.1f", ratio))
	case ratio > 1.6:
		s.value *= 0.85
		s.reasons = append(s.reasons, fmt.Sprintf("price differs by a factor of %.1f", ratio))
	}
}
