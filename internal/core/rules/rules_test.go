package rules

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func some() *Facts {
	return &Facts{Channel: "morrow", State: "confirmed", Kind: "ship", FulfilledBy: "us", Service: "express", Payment: "card",
		Currency: "EUR", Country: "XE", Postcode: "412070", Town: "Harrowmere",
		Buyer: "Maren Tolland", Email: "maren.tolland@example.test", Note: "Please ring \"twice\"", Via: "push", Total: 65000,
		Goods: 64000, Shipping: 1000, Weight: 4200, Units: 5, Lines: 2, Paid: true,
		SKUs: []string{"JAR-500-T12", "SMOKER-M"}, Categories: []string{"Jars", "Tools"}, Marks: []string{"fragile"}}
}

func TestConditions(t *testing.T) {
	for when, want := range map[string]bool{
		"":                                      true,
		`country == "XE"`:                       true,
		`country == "XW"`:                       false,
		`total >= 65000 && weight < 5000`:       true,
		`"SMOKER-M" in skus`:                    true,
		`skus.exists(s, s.startsWith("JAR"))`:   true,
		`!(country in ["XE", "XW"])`:            false,
		`paid && !returning`:                    true,
		`"export" in tags`:                      false,
		`note.contains("twice")`:                true,
		`total / (units - 5) > 1`:               false, // cannot be worked out: does not hold
		`postcode.startsWith("41") || weight>9`: true,
	} {
		set, err := NewSet([]Rule{{Name: "r", On: true, When: when, Then: `tag("x")`}})
		require.NoError(t, err, when)
		out, touched := set.Decide(some(), nil)
		require.Equal(t, want, len(out.Tags) == 1, when)
		require.Equal(t, want, len(touched) == 1, when)
	}
}

func TestWhatCannotBeReadSaysWhy(t *testing.T) {
	for _, c := range []struct {
		rule Rule
		says string
	}{
		{Rule{Name: "r", When: `country = "XE"`, Then: `tag("x")`}, "condition"},
		{Rule{Name: "r", When: `contry == "XE"`, Then: `tag("x")`}, "contry"},
		{Rule{Name: "r", When: `total`, Then: `tag("x")`}, "true or false is expected"},
		{Rule{Name: "r", When: `total > "many"`, Then: `tag("x")`}, "no matching overload"},
		{Rule{Name: "r", Then: ``}, "does nothing"},
		{Rule{Name: "r", Then: `tag(1)`}, "a text in quotes"},
		{Rule{Name: "r", Then: `fly("x")`}, "there is no action"},
		{Rule{Name: "r", Then: `split("sometimes")`}, "never, allowed"},
		{Rule{Name: "r", Then: `tag("x") hold("y")`}, "actions"},
		{Rule{Name: "", Then: `tag("x")`}, "name"},
		{Rule{Name: "r", When: strings.Repeat("paid && ", 300) + "paid", Then: `tag("x")`}, "more than"},
		{Rule{Name: "r", When: `skus.exists(a, skus.exists(b, skus.exists(c, a + b == c)))`, Then: `tag("x")`}, "too long"},
	} {
		err := Check(c.rule)
		require.ErrorIs(t, err, ErrRule, "%+v", c.rule)
		require.ErrorContains(t, err, c.says)
	}
}

// TestOrderOfRules: an earlier tag is seen by a later rule, a later decision replaces an earlier one, and each rule
// tells what it changed.
func TestOrderOfRules(t *testing.T) {
	list := []Rule{
		{ID: 1, Name: "export", On: true, When: `country == "XE"`, Then: `tag("export"), location("pier")`},
		{ID: 2, Name: "papers", On: true, When: `"export" in tags`, Then: `hold("papers"), location("alder"), tag("export")`},
		{ID: 3, Name: "off", When: "", Then: `tag("never")`},
	}
	set, err := NewSet(list)
	require.NoError(t, err)
	out, touched := set.Decide(some(), []string{"seen"})
	require.Equal(t, Outcome{Location: "alder", Tags: []string{"export"}, Holds: []string{"papers"}}, out)
	require.Equal(t, []Touch{{1, "export", []string{"tag export", "location pier"}},
		{2, "papers", []string{"held: papers", "location alder instead of pier"}}}, touched)
	set, err = NewSet([]Rule{list[1], list[0]})
	require.NoError(t, err)
	out, _ = set.Decide(some(), nil)
	require.Equal(t, Outcome{Location: "pier", Tags: []string{"export"}}, out, "the other way round, the tag comes too late")
}

func TestSentencesAndTextAreTheSame(t *testing.T) {
	for _, text := range []string{
		`country == "XE"`, `country != "XE" && total >= 50000`, `paid`, `!paid || returning`, `service in ["express", "overnight"]`,
		`!(service in ["express"])`, `note.startsWith("a \"b\"")`,
		`!town.contains("Harrow")`, `"JAR" in skus && !("X" in tags)`, `weight > 3500 && weight <= 9000 && units == 2`,
	} {
		s, ok := ParseSentence(text)
		require.True(t, ok, text)
		back, err := s.Text()
		require.NoError(t, err)
		require.Equal(t, text, back)
		_, err = compileWhen(back)
		require.NoError(t, err, back)
	}
	for _, text := range []string{`size(skus) > 3`, `paid && (returning || total > 5)`, `total > weight`, `skus.exists(s, s == "x")`,
		`country = "x"`} {
		_, ok := ParseSentence(text)
		require.False(t, ok, text)
	}
	for _, bad := range []Sentence{{Conditions: []Comparison{{"total", "is", []string{"many"}}}},
		{Conditions: []Comparison{{"nothing", "is", []string{"x"}}}}, {Conditions: []Comparison{{"paid", "above", []string{"x"}}}},
		{Conditions: []Comparison{{"note", "is", nil}}}} {
		_, err := bad.Text()
		require.ErrorIs(t, err, ErrRule)
	}
}

// TestRehearsalIsWhatDecidingTwiceSays: for random rules, changes and orders, a rehearsal in parts counts exactly the
// orders on which the two lists decide differently.
func TestRehearsalIsWhatDecidingTwiceSays(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	conditions := []string{"", `country == "XE"`, `total > 50000`, `"heavy" in tags`, `"Jars" in categories`, `weight > 3000`,
		`service == "express"`}
	actions := []string{`tag("heavy")`, `tag("a")`, `hold("b")`, `location("alder")`, `location("pier"), tag("heavy")`, `carry("pick")`}
	list := func() []Rule {
		var out []Rule
		for i := range rng.IntN(5) {
			out = append(out, Rule{ID: int64(i + 1), Name: fmt.Sprint(i), On: rng.IntN(4) > 0,
				When: conditions[rng.IntN(len(conditions))], Then: actions[rng.IntN(len(actions))]})
		}
		return out
	}
	for range 200 {
		was, is := list(), list()
		if rng.IntN(2) == 0 { // the ordinary case: only the end differs
			is = append(append([]Rule{}, was...), Rule{Name: "new", On: true, When: conditions[rng.IntN(len(conditions))],
				Then: actions[rng.IntN(len(actions))]})
		}
		whole, err := NewRehearsal(was, is, 5)
		require.NoError(t, err)
		a, err := NewSet(was)
		require.NoError(t, err)
		b, err := NewSet(is)
		require.NoError(t, err)
		parts := []*Rehearsal{whole.Part(), whole.Part()}
		var want int64
		for i := range 40 {
			f := some()
			f.Country, f.Total, f.Weight = []string{"XE", "XW"}[rng.IntN(2)], int64(rng.IntN(100000)), int64(rng.IntN(6000))
			x, _ := a.Decide(f, nil)
			y, _ := b.Decide(f, nil)
			if !x.Equal(&y) {
				want++
				require.NotEmpty(t, x.Differences(&y))
			} else {
				require.Empty(t, x.Differences(&y))
			}
			parts[i%2].See(int64(i), f)
		}
		whole.Add(parts[0])
		whole.Add(parts[1])
		require.Equal(t, want, whole.Changed, "%v -> %v", was, is)
		require.EqualValues(t, 40, whole.Seen)
		require.Len(t, whole.Orders, int(min(want, 5)))
	}
}

func TestFactsRoundTrip(t *testing.T) {
	f := some()
	var g Facts
	require.NoError(t, g.Read(f.Append(nil)))
	require.Equal(t, *f, g)
	g.Forget()
	require.Empty(t, g.Buyer+g.Email+g.Note+g.Town+g.Company)
	require.Equal(t, "41", g.Postcode)
	require.EqualValues(t, 65000, g.Total, "the money stays")
	require.ErrorIs(t, g.Read(nil), ErrFacts)
	require.ErrorIs(t, g.Read([]byte{factsForm, 200}), ErrFacts)
}

// FuzzFacts: no bytes break reading, and what was read is written the same.
func FuzzFacts(f *testing.F) {
	f.Add(some().Append(nil))
	f.Add([]byte{1})
	f.Add([]byte{1, 255, 255, 255, 255, 255, 255, 255, 255, 255, 1})
	f.Fuzz(func(t *testing.T, b []byte) {
		var x, y Facts
		if x.Read(b) != nil {
			return
		}
		require.NoError(t, y.Read(x.Append(nil)))
		require.Equal(t, x.Append(nil), y.Append(nil))
	})
}

// FuzzRule: no text breaks reading a rule; a condition that can be a sentence means the same as one.
func FuzzRule(f *testing.F) {
	f.Add(`country == "XE" && total > 5`, `tag("x"), hold("y")`)
	f.Add(`"a" in skus || !paid`, `split("never")`)
	f.Add(`((((`, `tag("`)
	f.Fuzz(func(t *testing.T, when, then string) {
		_ = Check(Rule{Name: "r", When: when, Then: then})
		s, ok := ParseSentence(when)
		if !ok || len(when) > maxText || strings.TrimSpace(when) == "" {
			return
		}
		c, err := compileWhen(when)
		if err != nil {
			return
		}
		text, err := s.Text()
		if err != nil || len(text) > maxText {
			return
		}
		d, err := compileWhen(text)
		require.NoError(t, err, "%s -> %s", when, text)
		require.Equal(t, c.holds(&view{f: some()}), d.holds(&view{f: some()}), "%s -> %s", when, text)
	})
}

func BenchmarkRehearse(b *testing.B) {
	r, err := NewRehearsal(nil,
		[]Rule{{Name: "r", On: true, When: `country == "XE" && total > 50000 && "Jars" in categories`, Then: `tag("x")`}}, 10)
	require.NoError(b, err)
	raw := some().Append(nil)
	var f Facts
	b.ReportAllocs()
	for b.Loop() {
		_ = f.Read(raw)
		r.See(1, &f)
	}
}
