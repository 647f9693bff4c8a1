package catalog

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func goodItem() *Item {
	return &Item{SKU: "SMOKER-M", Name: "Smoker, medium", Kind: Stocked, GTIN: "2007100014508", Currency: "EUR", WeightG: 780,
		LengthMM: 260, WidthMM: 130, HeightMM: 140, Price: 2990, CustomsCode: "820559", Origin: "XW", Options: "size M",
		Images: []string{"https://pictures.example/smoker.jpg"}, Prices: []Price{{"resale", 2490}}}
}

// TestAnItemIsRefusedByItsField: whoever typed it is told which field to look at.
func TestAnItemIsRefusedByItsField(t *testing.T) {
	require.NoError(t, goodItem().Check())
	for says, spoil := range map[string]func(*Item){
		"sku: missing":                 func(i *Item) { i.SKU = "" },
		"sku: at most 80":              func(i *Item) { i.SKU = strings.Repeat("A", 81) },
		`sku: "A/B"`:                   func(i *Item) { i.SKU = "A/B" },
		`sku: "A\tB"`:                  func(i *Item) { i.SKU = "A\tB" },
		"name: missing":                func(i *Item) { i.Name = "" },
		`kind: "rented"`:               func(i *Item) { i.Kind = "rented" },
		"gtin: 2007100014509":          func(i *Item) { i.GTIN = "2007100014509" },
		`currency: "eur"`:              func(i *Item) { i.Currency = "eur" },
		"are not negative":             func(i *Item) { i.HeightMM = -1 },
		"at most 10 t":                 func(i *Item) { i.WeightG = 10_000_001 },
		"and 100 m":                    func(i *Item) { i.WidthMM = 100_001 },
		`customs_code: "82055"`:        func(i *Item) { i.CustomsCode = "82055" },
		`customs_code: "82055901234"`:  func(i *Item) { i.CustomsCode = "82055901234" },
		`customs_code: "8205 59"`:      func(i *Item) { i.CustomsCode = "8205 59" },
		`origin: "XWW"`:                func(i *Item) { i.Origin = "XWW" },
		`origin: "x1"`:                 func(i *Item) { i.Origin = "x1" },
		`options: "M" has no value`:    func(i *Item) { i.Options = "M" },
		"options: SIZE stands twice":   func(i *Item) { i.Options = "size M, SIZE L" },
		"a kit is made of at least":    func(i *Item) { i.Kind = Kit },
		"only a kit has parts":         func(i *Item) { i.Parts = []Part{{"JAR", 2}} },
		"only prepared food has":       func(i *Item) { i.Groups = []string{"bread"} },
		"serials: items that are made": func(i *Item) { i.Kind, i.Serials = MadeToOrder, true },
		"parts: 0 × JAR":               func(i *Item) { i.Kind, i.Parts = Kit, []Part{{"JAR", 0}} },
		"parts: 10001 × JAR":           func(i *Item) { i.Kind, i.Parts = Kit, []Part{{"JAR", 10_001}} },
		"parts: JAR stands twice":      func(i *Item) { i.Kind, i.Parts = Kit, []Part{{"JAR", 1}, {"JAR", 2}} },
		"not made of itself":           func(i *Item) { i.Kind, i.Parts = Kit, []Part{{"SMOKER-M", 1}} },
		`images: "smoker.jpg"`:         func(i *Item) { i.Images = []string{"smoker.jpg"} },
		`images: "file:///etc/passwd"`: func(i *Item) { i.Images = []string{"file:///etc/passwd"} },
		"prices: each has a list":      func(i *Item) { i.Prices = []Price{{"", 100}} },
		"and none is negative":         func(i *Item) { i.Prices = []Price{{"resale", -1}} },
	} {
		i := goodItem()
		spoil(i)
		assert.ErrorContains(t, i.Check(), says)
	}
}

// TestWhatPeopleTypeIsTidied: spaces, case and doubles go, and what was left open is filled in.
func TestWhatPeopleTypeIsTidied(t *testing.T) {
	i := &Item{SKU: " SMOKER-M ", Name: "Smoker ", CustomsCode: "8205.59 00", Origin: " xw", Options: "size  M ,colour  sand",
		Marks: []string{"Fragile", " fragile ", "", "heavy"}}
	i.Complete("EUR")
	require.NoError(t, i.Check())
	assert.Equal(t, "SMOKER-M", i.SKU)
	assert.Equal(t, "82055900", i.CustomsCode)
	assert.Equal(t, "XW", i.Origin)
	assert.Equal(t, "size M, colour sand", i.Options)
	assert.Equal(t, []string{"fragile", "heavy"}, i.Marks)
	assert.Equal(t, Stocked, i.Kind)
	assert.Equal(t, "EUR", i.Currency)
	again := *i
	again.Complete("EUR")
	assert.Empty(t, Differences(*i, again), "tidy is tidy")
}

func TestAGroupIsRefusedByWhatIsWrong(t *testing.T) {
	good := func() *Group {
		return &Group{Code: "bread", Name: "Bread", Least: 1, Most: 2, Choices: []Choice{{"rye", "Rye", 0}, {"oat", "Oat", 30}}}
	}
	require.NoError(t, good().Check())
	for says, spoil := range map[string]func(*Group){
		"code and name are needed":                 func(g *Group) { g.Name = "" },
		"group bread: no choices":                  func(g *Group) { g.Choices = nil },
		"least -1, most 2":                         func(g *Group) { g.Least = -1 },
		"least 1, most 0":                          func(g *Group) { g.Most = 0 },
		"least 3, most 2":                          func(g *Group) { g.Least = 3 },
		"3 choices are asked for, it has 2":        func(g *Group) { g.Least, g.Most = 3, 3 },
		"each choice has a name and a code of its": func(g *Group) { g.Choices[1].Code = "rye" },
		"each choice has a name":                   func(g *Group) { g.Choices[0].Name = "" },
	} {
		g := good()
		spoil(g)
		assert.ErrorContains(t, g.Check(), says)
	}
}

// full is an item in which each field says something.
func full() Item {
	i := *goodItem()
	i.Kind, i.Family, i.Category, i.Description, i.Serials = Kit, "SMOKER", "Tools", "Of steel.", true
	i.Fragile, i.Upright = true, true
	i.TaxClass, i.Marks, i.Groups, i.Archived = "full", []string{"fragile"}, []string{"bread"}, true
	i.Parts = []Part{{"BELLOWS", 1}, {"CAN", 2}}
	return i
}

// TestEachFieldIsToldAndTaken: every field of an item is seen when it changes, read as people write it, and brought over.
func TestEachFieldIsToldAndTaken(t *testing.T) {
	it := full()
	told := Differences(Item{}, it)
	var names []string
	for _, c := range told {
		names = append(names, c.Field)
		assert.Empty(t, c.From, c.Field)
		assert.Equal(t, c.To, Text(it, c.Field))
	}
	assert.Equal(t, Fields(), names, "in the order in which people meet them")
	assert.Equal(t, "29.90", Text(it, "price"))
	assert.Equal(t, "resale=24.90", Text(it, "prices"))
	assert.Equal(t, "1×BELLOWS 2×CAN", Text(it, "parts"))
	assert.Empty(t, Text(it, "colour"), "a field that there is not")

	var ours Item
	assert.Empty(t, Overwrite(&ours, it, func(string) bool { return true }))
	left := Differences(ours, it)
	require.Len(t, left, 1)
	assert.Equal(t, "sku", left[0].Field, "the name under which we know it is ours alone")
}

// TestOnlyWhatCountsIsOverwritten: of each field by itself, what does not count is kept and named, and nothing else is.
func TestOnlyWhatCountsIsOverwritten(t *testing.T) {
	from := full()
	for _, name := range Fields() {
		ours := full()
		ours.Name, ours.WeightG, ours.Price = "Our smoker", 900, 3190
		before := ours
		kept := Overwrite(&ours, from, func(field string) bool { return field != name })
		if name == "name" || name == "weight_g" || name == "price" {
			assert.Equal(t, []string{name}, kept)
			assert.Equal(t, Text(before, name), Text(ours, name))
		} else {
			assert.Empty(t, kept, name)
		}
	}
	nothing := full()
	assert.Empty(t, Overwrite(&nothing, Item{}, func(string) bool { return true }))
	assert.Empty(t, Differences(full(), nothing), "what is not told stays")
}

func TestChangesAreALine(t *testing.T) {
	assert.Equal(t, "gtin 2007100014508, origin XW removed, price 29.90 → 31.90", ChangesText([]Change{
		{"gtin", "", "2007100014508"}, {"origin", "XW", ""}, {"price", "29.90", "31.90"}}))
	assert.Empty(t, ChangesText(nil))
}

func TestNormalSKU(t *testing.T) {
	for from, want := range map[string]string{"jar-500 t12": "JAR500T12", "JAR_500/T12": "JAR500T12", "Öl-1": "ÖL1", "--": ""} {
		assert.Equal(t, want, NormalSKU(from), from)
	}
}
