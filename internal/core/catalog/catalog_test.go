package catalog

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

var shelf = []Known{
	{ID: 1, SKU: "SUIT-M-WHITE", GTIN: "2007100010016", Name: "Bee suit with veil, White, M", Options: "size M, colour white",
		Price: 8900, Currency: "EUR"},
	{ID: 2, SKU: "SUIT-L-WHITE", Name: "Bee suit with veil, White, L", Options: "size L, colour white", Price: 8900, Currency: "EUR"},
	{ID: 3, SKU: "SUIT-M-SAND", Name: "Bee suit with veil, Sand, M", Options: "size M, colour sand", Price: 8900, Currency: "EUR"},
	{ID: 4, SKU: "JAR-500-T12", GTIN: "2007100010115", Name: "Glass jars 500 g, tray of 12", Price: 1190, Currency: "EUR"},
	{ID: 5, SKU: "JAR-250-T24", Name: "Glass jars 250 g, tray of 24", Price: 1580, Currency: "EUR"},
	{ID: 6, SKU: "AB-12", Name: "Uncapping fork", Price: 950, Currency: "EUR"},
	{ID: 7, SKU: "A-B12", Name: "Queen excluder", Price: 1590, Currency: "EUR"},
}

func TestCertain(t *testing.T) {
	x := NewIndex(shelf)
	for name, c := range map[string]struct {
		w     Wanted
		item  int64
		by    string
		doubt string
	}{
		"same SKU":                     {Wanted{SKU: "JAR-500-T12", Title: "whatever it is called"}, 4, BySKU, ""},
		"same but for signs":           {Wanted{SKU: "jar 500/t12"}, 4, ByNear, ""},
		"two that differ by signs":     {Wanted{SKU: "ab12", Title: "Something"}, 0, "", "could be AB-12 or A-B12"},
		"same GTIN":                    {Wanted{SKU: "X", GTIN: "2007100010115", Title: "12 glass jars of 500g"}, 4, ByGTIN, ""},
		"same GTIN with a zero before": {Wanted{GTIN: "02007100010115", Title: "12 glass jars of 500g"}, 4, ByGTIN, ""},
		"another's GTIN, other measure": {Wanted{GTIN: "2007100010115", Title: "24 glass jars of 250g"}, 0, "",
			"its GTIN is that of JAR-500-T12, but the title says"},
		"another's GTIN, other size":    {Wanted{GTIN: "2007100010016", Title: "Bee suit white, L"}, 0, "", "size l"},
		"another's GTIN, another thing": {Wanted{GTIN: "2007100010115", Title: "Wall calendar"}, 0, "", "the title says something else"},
		"nothing":                       {Wanted{Title: "Bee suit with veil, White, M"}, 0, "", ""},
	} {
		item, by, doubt := x.Certain(c.w)
		require.Equal(t, c.item, item, name)
		require.Equal(t, c.by, by, name)
		require.Contains(t, doubt, c.doubt, name)
		require.Equal(t, c.doubt == "", doubt == "", name)
	}
}

func TestSuggestionsSayWhy(t *testing.T) {
	x := NewIndex(shelf)
	list := x.Suggest(Wanted{Title: "Beekeeper suit, medium, sand colour", Price: 8900, Currency: "EUR"}, 3)
	require.Equal(t, "SUIT-M-SAND", list[0].SKU)
	require.Contains(t, strings.Join(list[0].Reasons, "; "), "size m")
	require.Contains(t, strings.Join(list[0].Reasons, "; "), "same price")
	require.Greater(t, list[0].Score, int64(60))
	for _, other := range list[1:] {
		require.Less(t, other.Score+20, list[0].Score, "another size or colour is another item")
	}
	list = x.Suggest(Wanted{Title: "Bee suit with veil", Price: 8900, Currency: "EUR"}, 3)
	require.Less(t, list[0].Score, int64(60), "which of the variants it is, nobody can tell")
	require.Empty(t, x.Suggest(Wanted{Title: "Gift voucher"}, 3))
	require.Empty(t, NewIndex(nil).Suggest(Wanted{Title: "Anything"}, 3))
}

func TestWords(t *testing.T) {
	for text, want := range map[string]string{
		"Glass jars 0.5 kg, tray of 12": "glass jar 500g tray 12x",
		"JARS 500gr. (12 pcs)":          "jar 500g 12x",
		"Bee-suit X-Large":              "bee suit xl",
		"smoker, medum size":            "smoker m",
		"Hive plaque lge":               "hive plaque l",
		"3-frame extractor":             "3x frame extractor",
		"five frames":                   "5x frame",
		"Königin, markiert":             "konigin markiert",
		"":                              "",
	} {
		var got []string
		for _, w := range words(text) {
			got = append(got, w.text)
		}
		require.Equal(t, want, strings.Join(got, " "), text)
	}
}

func TestDistance(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{{"", "", 0}, {"bee", "bee", 0}, {"medum", "medium", 1}, {"hony", "honey", 1}, {"raering", "rearing", 1}, {"abc", "xyz", 3}, {"",
		"abc", 3}} {
		require.Equal(t, c.want, distance(c.a, c.b), c.a+" "+c.b)
		require.Equal(t, c.want, distance(c.b, c.a), c.b+" "+c.a)
	}
}

func TestOverwriteKeepsWhatIsOurs(t *testing.T) {
	it := Item{SKU: "A", Name: "Ours", Price: 100, Currency: "EUR", Category: "Tools"}
	kept := Overwrite(&it, Item{SKU: "B", Name: "Theirs", Price: 200, Currency: "EUR"}, func(f string) bool { return f == "price" })
	require.Equal(t, []string{"name"}, kept)
	require.Equal(t, Item{SKU: "A", Name: "Ours", Price: 200, Currency: "EUR", Category: "Tools"}, it, "what is not told stays")
	require.Equal(t, "price 1.00 → 2.00, category Tools removed",
		strings.ReplaceAll(ChangesText([]Change{{"price", "1.00", "2.00"}, {"category", "Tools", ""}}), "\n", ""))
	require.Empty(t, Differences(it, it))
}

func FuzzOptions(f *testing.F) {
	f.Add("size M, colour sand")
	f.Add("size  M,,")
	f.Fuzz(func(t *testing.T, text string) {
		list, err := ParseOptions(text)
		if err != nil {
			return
		}
		again, err := ParseOptions(OptionsText(list))
		if err == nil && len(again) != len(list) {
			t.Fatalf("%q became %q", text, OptionsText(list))
		}
	})
}

func FuzzSuggest(f *testing.F) {
	x := NewIndex(shelf)
	f.Add("Bee suit with veil, White, M", "SUIT", "2007100010016", int64(8900))
	f.Add("12 × 0.5 kg", "", "", int64(-1))
	f.Fuzz(func(t *testing.T, title, sku, gtin string, price int64) {
		w := Wanted{Title: title, SKU: sku, GTIN: gtin, Price: price, Currency: "EUR"}
		last := int64(100)
		for _, s := range x.Suggest(w, 5) {
			if s.Score < 0 || s.Score > last {
				t.Fatalf("score %d after %d", s.Score, last)
			}
			last = s.Score
		}
		x.Certain(w)
	})
}
