// Package demo makes the demo company, Morrow Hive Supply, with its places, items, people and the
// outside systems around it, and walks through a day of its work.
package demo

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"strings"
	"sync"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/gs1"
	"openrelay/internal/core/person"
	"openrelay/internal/relay/listing"
	"openrelay/internal/relay/people"
	"openrelay/internal/standin"
)

// Company is its name.
const Company = "Morrow Hive Supply"

// Password is that of all people in the demo.
const Password = "honeycomb"

// passwordHash is its hash, which is costly to make.
var passwordHash = sync.OnceValue(func() string { return people.HashPassword(Password) })

// People who may sign in.
var People = []struct {
	Email, Name string
	Role        person.Role
}{
	{"lead@morrowhive.example", "Edda Quillon", person.Lead},
	{"desk@morrowhive.example", "Joss Fenn", person.Clerk},
	{"packer@morrowhive.example", "Runa Hollis", person.Packer},
	{"books@morrowhive.example", "Aldous Oster", person.Bookkeeper},
	{"driver@morrowhive.example", "Corin Teasel", person.Driver},
	{"guest@morrowhive.example", "Tamsin Rook", person.Viewer},
}

type good struct {
	sku, name, group, options string
	price                     int64 // cents
	grams, l, w, h            int64
	few                       bool // little stock
	skep                      bool // sold by Little Skep too

	kind     catalog.Kind
	family   string
	serials  bool
	parts    []catalog.Part
	customs  string
	internal bool // no store sells it yet
}

// starter is what the starter hive kit is made of.
var starter = []catalog.Part{{SKU: "HIVE-FLOOR", Quantity: 1}, {SKU: "HIVE-BODY", Quantity: 2}, {SKU: "FRAMES-10", Quantity: 2},
	{SKU: "HIVE-ROOF", Quantity: 1}}

func goods() []good {
	var out []good
	add := func(g good) { out = append(out, g) }
	for _, colour := range []string{"White", "Sand"} {
		for _, size := range []string{"S", "M", "L", "XL"} {
			add(good{sku: "SUIT-" + size + "-" + strings.ToUpper(colour), name: "Bee suit with veil, " + colour + ", " + size,
				group: "Protection", options: "size " + size + ", colour " + strings.ToLower(colour), family: "SUIT", customs: "621143",
				price: 8900, grams: 1350, l: 400, w: 300, h: 90, skep: true})
		}
	}
	for _, size := range []string{"S", "M", "L"} {
		add(good{sku: "JACKET-" + size, name: "Bee jacket, " + size, group: "Protection",
			options: "size " + size, family: "JACKET", customs: "621143", price: 5490, grams: 820, l: 350, w: 280, h: 70,
			skep: size == "M"})
	}
	for _, size := range []string{"7", "8", "9", "10", "11"} {
		add(good{sku: "GLOVES-" + size, name: "Goatskin gloves, size " + size, group: "Protection", options: "size " + size,
			family: "GLOVES", customs: "420329", price: 1990, grams: 260, l: 300, w: 150, h: 40})
	}
	return append(out, single...)
}

// single are the goods that come in one form only.
var single = []good{
	{sku: "VEIL-ROUND", name: "Round veil", group: "Protection", price: 1450, grams: 140, l: 300, w: 220, h: 40, skep: true},
	{sku: "VEIL-SQUARE", name: "Square veil, folding", group: "Protection", price: 1690, grams: 310, l: 330, w: 240, h: 45},
	{sku: "JAR-250-T24", name: "Glass jars 250 g, tray of 24", group: "Jars", price: 1580, grams: 3900, l: 400, w: 270, h: 85,
		skep: true},
	{sku: "JAR-500-T12", name: "Glass jars 500 g, tray of 12", group: "Jars", price: 1190, grams: 2950, l: 330, w: 245, h: 110,
		skep: true},
	{sku: "JAR-1000-T6", name: "Glass jars 1 kg, tray of 6", group: "Jars", price: 940, grams: 2300, l: 280, w: 190, h: 140,
		skep: true},
	{sku: "JAR-HEX-T12", name: "Six-sided jars 280 g, tray of 12", group: "Jars", price: 1320, grams: 2250, l: 300, w: 230, h: 95,
		skep: true},
	{sku: "LID-63-100", name: "Lids 63 mm, 100 pieces", group: "Jars", price: 1480, grams: 950, l: 300, w: 200, h: 120},
	{sku: "LID-82-100", name: "Lids 82 mm, 100 pieces", group: "Jars", price: 1790, grams: 1300, l: 340, w: 240, h: 130},
	{sku: "HIVE-STARTER", name: "Starter hive kit", group: "Hives", kind: catalog.Kit, parts: starter, price: 21900, grams: 14800,
		l: 560, w: 390, h: 380, skep: true},
	{sku: "HIVE-BODY", name: "Hive body, spruce", group: "Hives", price: 4200, grams: 4300, l: 520, w: 380, h: 240},
	{sku: "HIVE-ROOF", name: "Hive roof, sheet metal", group: "Hives", price: 3850, grams: 3100, l: 540, w: 390, h: 110},
	{sku: "HIVE-FLOOR", name: "Hive floor with mesh", group: "Hives", price: 3400, grams: 2900, l: 530, w: 380, h: 90},
	{sku: "FRAMES-10", name: "Frames, set of 10", group: "Hives", price: 1690, grams: 2200, l: 480, w: 300, h: 230},
	{sku: "FRAMES-50", name: "Frames, set of 50", group: "Hives", price: 7600, grams: 10800, l: 580, w: 390, h: 380, few: true},
	{sku: "FOUNDATION-1KG", name: "Wax foundation, 1 kg", group: "Hives", price: 2190, grams: 1080, l: 370, w: 230, h: 40},
	{sku: "QUEEN-EXCLUDER", name: "Queen excluder, steel", group: "Hives", price: 1590, grams: 900, l: 500, w: 380, h: 20},
	{sku: "HIVE-TOOL", name: "Hive tool, stainless", group: "Tools", price: 1290, grams: 240, l: 270, w: 50, h: 20, skep: true},
	{sku: "SMOKER-M", name: "Smoker, medium", group: "Tools", price: 2990, grams: 780, l: 260, w: 130, h: 140, skep: true},
	{sku: "SMOKER-L", name: "Smoker, large", group: "Tools", price: 3690, grams: 980, l: 300, w: 140, h: 145},
	{sku: "BRUSH-HAIR", name: "Bee brush, horsehair", group: "Tools", price: 790, grams: 90, l: 300, w: 60, h: 20, skep: true},
	{sku: "UNCAP-FORK", name: "Uncapping fork", group: "Tools", price: 950, grams: 160, l: 220, w: 60, h: 30},
	{sku: "FEEDER-2L", name: "Feeder, 2 litres", group: "Tools", price: 690, grams: 310, l: 250, w: 250, h: 90},
	{sku: "FEEDER-5L", name: "Feeder, 5 litres", group: "Tools", price: 1190, grams: 560, l: 380, w: 290, h: 100},
	{sku: "ENTRANCE-BLOCK", name: "Entrance block, beech", group: "Tools", price: 350, grams: 120, l: 340, w: 25, h: 20},
	{sku: "EXTRACTOR-3", serials: true, customs: "843680", name: "Honey extractor, 3 frames", group: "Honey house", price: 27900,
		grams: 11500, l: 880, w: 440, h: 440, few: true},
	{sku: "EXTRACTOR-9", serials: true, customs: "843680", name: "Honey extractor, 9 frames, motor", group: "Honey house",
		price: 84900, grams: 23500, l: 890, w: 449, h: 449, few: true},
	{sku: "REFRACTOMETER", serials: true, customs: "902750", name: "Honey refractometer", group: "Honey house", price: 4490,
		grams: 330, l: 200, w: 80, h: 50, few: true},
	{sku: "STRAINER-DOUBLE", name: "Double strainer", group: "Honey house", price: 2890, grams: 620, l: 280, w: 240, h: 100},
	{sku: "TANK-25", name: "Settling tank, 25 kg", group: "Honey house", price: 6900, grams: 3400, l: 350, w: 345, h: 390},
	{sku: "TANK-50", name: "Settling tank, 50 kg", group: "Honey house", price: 9900, grams: 5600, l: 420, w: 410, h: 440, few: true},
	{sku: "QUEEN-MARKED", name: "Queen, marked, with attendants", group: "Live", price: 3900, grams: 30, l: 80, w: 40,
		h: 20, few: true},
	{sku: "COLONY-5F", name: "Small colony on five frames", group: "Live", price: 16900, grams: 9500, l: 560, w: 260,
		h: 330, few: true},
	{sku: "PLAQUE-S", kind: catalog.MadeToOrder, name: "Hive plaque with engraving, small", group: "Made to order", price: 1900,
		grams: 110, l: 120, w: 80, h: 5},
	{sku: "PLAQUE-L", kind: catalog.MadeToOrder, name: "Hive plaque with engraving, large", group: "Made to order", price: 2900,
		grams: 240, l: 200, w: 130, h: 5},
	{sku: "BOOK-FIRST-YEAR", name: "The first year at the hive", group: "Books", price: 2400, grams: 520, l: 240, w: 170, h: 22,
		skep: true},
	{sku: "BOOK-QUEENS", name: "Rearing queens in small yards", group: "Books", price: 2900, grams: 610, l: 240, w: 170, h: 26},
	{sku: "BOOK-KITCHEN", name: "The honey kitchen", group: "Books", price: 1980, grams: 430, l: 220, w: 160, h: 18, skep: true},
	{sku: "CALENDAR-WALL", name: "Beekeeper's wall calendar", group: "Books", price: 1250, grams: 210, l: 300, w: 210, h: 6,
		skep: true},
	{sku: "WAX-1KG", name: "Beeswax pellets, 1 kg", group: "Wax", price: 1890, grams: 1040, l: 250, w: 180, h: 70, skep: true},
	{sku: "CANDLE-PAIR", name: "Pair of dipped candles", group: "Wax", price: 890, grams: 190, l: 260, w: 60, h: 30, skep: true},
	{sku: "CANDLE-MOULD", name: "Candle mould, pine cone", group: "Wax", price: 2190, grams: 280, l: 140, w: 100, h: 100},
	{sku: "HONEY-LIME-500", name: "Lime blossom honey, 500 g", group: "Honey", price: 850, grams: 790, l: 90, w: 90, h: 110,
		skep: true},
	{sku: "HONEY-HEATH-500", name: "Heath honey, 500 g", group: "Honey", price: 1150, grams: 790, l: 90, w: 90, h: 110, skep: true},
}

// codes are the customs codes (Harmonized System) of the groups of goods; a good may have one of its own.
var codes = map[string]string{"Protection": "621143", "Jars": "701090", "Hives": "442199", "Tools": "820559", "Honey house": "843680",
	"Live": "010641", "Made to order": "442190", "Books": "490199", "Wax": "152190", "Honey": "040900"}

// code is the customs code of a good.
func (g good) code() string { return cmp.Or(g.customs, codes[g.group]) }

// gtin makes a GTIN-13 in the range that GS1 sets aside for use inside a company (prefix 20).
func gtin(n int) string {
	body := fmt.Sprintf("20071%07d", 1000+n*13)
	return fmt.Sprintf("%s%d", body, gs1.CheckDigit(body))
}

// spread gives the same text always the same number from 0 to below n.
func spread(text string, n int64) int64 {
	h := fnv.New32a()
	h.Write([]byte(text))
	return int64(h.Sum32()) % n
}

// openings lists the items with their opening stock; extra is added to every count.
func openings(places map[string]int64, extra int64) []listing.Opening {
	alder, pier, mill := places["alder"], places["pier"], places["mill"]
	till := map[string]bool{}
	for _, g := range tillGoods() {
		till[g.SKU] = true
	}
	var out, kits []listing.Opening
	for i, g := range goods() {
		o := listing.Opening{Item: catalog.Item{SKU: g.sku, Kind: g.kind, Family: g.family, GTIN: gtin(i), Name: g.name,
			Category: g.group, Options: g.options, Serials: g.serials, CustomsCode: g.code(),
			Origin: "XW", TaxClass: "standard", WeightG: g.grams, LengthMM: g.l, WidthMM: g.w, HeightMM: g.h, Price: g.price,
			Currency: "EUR", Parts: g.parts},
			Counts: map[int64]int64{}, Bins: map[int64]string{}, Serials: map[int64][]string{}}
		if g.kind == catalog.Kit {
			kits = append(kits, o) // after what it is made of
			continue
		}
		if g.kind == catalog.MadeToOrder {
			out = append(out, o)
			continue
		}
		n := 30 + spread(g.sku, 60)
		if g.few {
			n = 3 + spread(g.sku, 5)
		}
		o.Counts[alder] = n + extra
		o.Bins[alder] = fmt.Sprintf("%c-%02d-%d", 'A'+rune(i/18), 1+i%18/3, 1+i%3)
		if g.serials {
			for k := range n {
				o.Serials[alder] = append(o.Serials[alder], fmt.Sprintf("%s-%04d", g.sku[:2], 100*(i+1)+int(k)))
			}
		}
		if i%3 == 0 && !g.few {
			o.Counts[pier] = 8 + spread(g.name, 20)
			o.Bins[pier] = fmt.Sprintf("P-%02d", 1+i/3)
		}
		if till[g.sku] {
			o.Counts[mill] = 6 + spread(g.name, 9)
			o.Bins[mill] = fmt.Sprintf("SHELF-%d", 1+i%9)
		}
		out = append(out, o)
	}
	return append(out, kits...)
}

// market lists goods as a marketplace or a till has them: some of ours by our SKU, and whatever else.
func market(every int, first int, others ...standin.Good) []standin.Good {
	var out []standin.Good
	for i, g := range goods() {
		if i%every == 0 && g.group != "Live" && g.group != "Made to order" {
			out = append(out, standin.Good{No: fmt.Sprint(first + i), SKU: g.sku, Title: g.name, Barcode: gtin(i), Price: g.price,
				Shown: 2 + spread(g.name, 14)})
		}
	}
	return append(out, others...)
}

func tansyGoods() []standin.Good {
	return market(2, 88000,
		// another SKU, the same GTIN
		standin.Good{No: "88901", SKU: "TOOL-HIVE-STEEL", Title: "Hive tool of stainless steel", Barcode: gtinOf("HIVE-TOOL"),
			Price: 1290, Shown: 9},
		standin.Good{No: "88902", SKU: "HONEY-DIPPER", Title: "Honey dipper, olive wood", Price: 590, Shown: 25},
		standin.Good{No: "88903", SKU: "VEIL-ROUND", Title: "Round veil in a gift box", Price: 1690, Shown: 4}, // a SKU twice
		standin.Good{No: "88904", SKU: "", Title: "Grab bag", Price: 1500, Shown: 3},
		// another SKU, a slip in the name
		standin.Good{No: "88905", SKU: "TNS-SMK-M", Title: "Bee smoker, medum size", Price: 2990, Shown: 2, Room: 25},
	)
}

func brambleGoods() []standin.Good {
	return market(3, 5100,
		standin.Good{No: "5990", SKU: "WAX-BLOCK-5KG", Title: "Beeswax block, 5 kg", Price: 8400, Shown: 6},
		standin.Good{No: "5991", SKU: "SMOKER-L", Title: "Smoker, large, copper", Price: 4990, Shown: 2, Review: "in review"},
	)
}

func tillGoods() []standin.Good {
	return market(4, 50,
		standin.Good{No: "301", SKU: "CAKE-HONEY", Title: "Honey cake, slice", Price: 420, Shown: 12},
		standin.Good{No: "302", SKU: "TEA-POT", Title: "Pot of tea", Price: 390, Shown: 99},
	)
}

// tillMenu is what the tea room cooks.
func tillMenu() []standin.Dish {
	milk := standin.DishGroup{Code: "MILK", Label: "Milk", Min: 0, Max: 1,
		Choices: []standin.DishChoice{{Code: "COW", Label: "cow's milk"}, {Code: "OAT", Label: "oat milk", Extra: 40}}}
	side := standin.DishGroup{Code: "SIDE", Label: "Side", Min: 1, Max: 1,
		Choices: []standin.DishChoice{{Code: "BREAD", Label: "dark bread"}, {Code: "SALAD", Label: "leaf salad", Extra: 90},
			{Code: "POTATO", Label: "roast potatoes", Extra: 120}}}
	more := standin.DishGroup{Code: "EXTRA", Label: "With it", Min: 0, Max: 3,
		Choices: []standin.DishChoice{{Code: "CHEESE", Label: "goat's cheese", Extra: 180},
			{Code: "SEEDS", Label: "toasted seeds", Extra: 60}, {Code: "HONEY", Label: "lime blossom honey", Extra: 50}}}
	return []standin.Dish{
		{No: "601", Code: "LUNCH-SOUP", Label: "Soup of the day", About: "A deep plate of what the garden gives, with bread.", Price: 690,
			Groups: []standin.DishGroup{side, more}},
		{No: "602", Code: "LUNCH-PIE", Label: "Leek pie", About: "Warm leek pie from the tin, a quarter each.", Price: 890,
			Groups: []standin.DishGroup{side}},
		{No: "603", Code: "CAKE-WALNUT", Label: "Walnut honey cake", About: "Two layers, honey cream between them.", Price: 460},
		{No: "604", Code: "COFFEE-CUP", Label: "Cup of coffee", About: "Filter coffee, freshly brewed by the cup.", Price: 320,
			Groups: []standin.DishGroup{milk}},
	}
}

func gtinOf(sku string) string {
	for i, g := range goods() {
		if g.sku == sku {
			return gtin(i)
		}
	}
	return ""
}

// shopItems lists what a store sells. The stores' own counts differ from ours, as they do in life; the
// relay brings them in line.
func shopItems(skepOnly bool, extra int64) []standin.ShopItem {
	var out []standin.ShopItem
	for i, g := range goods() {
		if skepOnly && !g.skep {
			continue
		}
		out = append(out, standin.ShopItem{SKU: g.sku, Title: g.name, Barcode: gtin(i), Group: g.group, Price: g.price,
			Quantity: 5 + spread(g.sku, 9) + extra})
	}
	return out
}

// Known are the demo's items as matching sees them.
func Known() []catalog.Known {
	var out []catalog.Known
	for i, g := range goods() {
		out = append(out, catalog.Known{ID: int64(i + 1), SKU: g.sku, GTIN: gtin(i), Name: g.name, Options: g.options, Price: g.price,
			Currency: "EUR"})
	}
	return out
}
