package routing_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/place"
	core "openrelay/internal/core/routing"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/joining"
	"openrelay/internal/relay/listing"
	"openrelay/internal/relay/routing"
	"openrelay/internal/relay/trial"
	"openrelay/internal/setup"
	"openrelay/internal/store"
)

// twoPlaces is a company whose stall sells what lies at Alder Yard and at Pier Nine. A carrier publishes its tariff.
func twoPlaces(t *testing.T) *trial.Kit {
	t.Helper()
	k := trial.New(t)
	k.JoinTariff("tess")
	k.On("tess", "/tariff", func(trial.Call) (int, any) {
		return 200, map[string]any{"currency": "EUR", "services": []any{map[string]any{"code": "T1", "name": "Tess one", "max_g": 10000,
			"zones": []any{map[string]any{"name": "W", "countries": []string{"XW"}, "days": 2,
				"steps": []any{map[string]any{"up_to_g": 1000, "price": 400}, map[string]any{"up_to_g": 10000, "price": 900}}}}}}}
	})
	k.Learned()
	c := k.ByCode("stall")
	s := *c.Settings()
	s.Offer.Sources = []int64{k.PlaceID("alder"), k.PlaceID("pier")}
	require.NoError(t, k.SetSettings(t.Context(), "stall", s, c.Rec().Revision, "Edda"))
	return k
}

// lies adds an item of 500 g of which so many lie at Alder Yard and at Pier Nine.
func lies(t *testing.T, k *trial.Kit, sku string, alder, pier int64, change func(*catalog.Item)) {
	t.Helper()
	i := catalog.Item{SKU: sku, Name: "A " + sku, WeightG: 500, LengthMM: 100, WidthMM: 80, HeightMM: 40, Price: 1000, Currency: "EUR"}
	if change != nil {
		change(&i)
	}
	require.NoError(t, k.AddItems(t.Context(), []listing.Opening{{Item: i,
		Counts: map[int64]int64{k.PlaceID("alder"): alder, k.PlaceID("pier"): pier}}}, "test"))
}

// weigh switches a policy on.
func weigh(t *testing.T, k *trial.Kit, places map[string]core.PlaceTerms) {
	t.Helper()
	require.NoError(t, k.Routing.SetPolicy(t.Context(), core.Policy{On: true, Parcel: 100, Places: places}, "Edda"))
}

// from says which units of an order each place has promised.
func from(t *testing.T, k *trial.Kit, number string) map[string]int64 {
	t.Helper()
	o, err := k.Store.OrderByNumber(t.Context(), number)
	require.NoError(t, err)
	out := map[string]int64{}
	for _, l := range o.Lines {
		for _, a := range l.Allocations {
			out[k.Place(a.Location).Code] += a.Quantity
		}
	}
	return out
}

func TestOrdersComeFromWhereItCostsLeast(t *testing.T) {
	k := twoPlaces(t)
	lies(t, k, "JAR", 9, 9, nil)
	k.Sell("S-1", trial.Units("JAR", 1))
	require.Equal(t, map[string]int64{"alder": 1}, from(t, k, "S-1"), "no policy is on: the first that has all")
	p, err := k.Routing.PlanOf(t.Context(), "S-1")
	require.NoError(t, err)
	require.False(t, p.Planned)

	weigh(t, k, map[string]core.PlaceTerms{"alder": {Order: 60}})
	k.Sell("S-2", trial.Units("JAR", 3))
	require.Equal(t, map[string]int64{"pier": 3}, from(t, k, "S-2"))
	p, err = k.Routing.PlanOf(t.Context(), "S-2")
	require.NoError(t, err)
	require.True(t, p.Planned)
	require.Equal(t, int64(900+100), p.Plan.Cost)
	require.Equal(t, "tess/T1", p.Plan.Entries[0].Service)
	require.Equal(t, 2, p.Plan.Entries[0].Arrives)
	require.Len(t, p.Runners, 1)
	require.Equal(t, p.Plan.Cost+60, p.Runners[0].Cost)
	require.Equal(t, "alder", p.Runners[0].Entries[0].Place)
	require.Equal(t, "EUR", p.Currency)
	k.Holds()
}

func TestAnOrderThatMustBeSplit(t *testing.T) {
	k := twoPlaces(t)
	lies(t, k, "JAR", 2, 0, nil)
	lies(t, k, "LID", 0, 1, nil)
	weigh(t, k, nil)
	k.Sell("S-1", trial.Units("JAR", 2), trial.Units("LID", 2))
	require.Equal(t, map[string]int64{"alder": 2, "pier": 1}, from(t, k, "S-1"))
	p, err := k.Routing.PlanOf(t.Context(), "S-1")
	require.NoError(t, err)
	require.Len(t, p.Plan.Waits, 1)
	require.Contains(t, p.Bars, core.Bar{Place: "alder", Why: "LID: 0 of 2 are free"})
	require.Equal(t, "held", k.Stage("S-1"))
	k.Holds()

	require.NoError(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: "LID", Location: "pier", Change: 4, Reason: "found"}, "Edda"))
	k.Settle()
	require.Equal(t, map[string]int64{"alder": 2, "pier": 2}, from(t, k, "S-1"), "what waited goes on")
	require.Equal(t, "ready", k.Stage("S-1"))
	k.Holds()
}

func TestARuleThatForbidsSplittingHolds(t *testing.T) {
	k := twoPlaces(t)
	lies(t, k, "JAR", 2, 3, nil)
	weigh(t, k, nil)
	require.NoError(t, k.Rule(`split("never")`))
	k.Sell("S-1", trial.Units("JAR", 4))
	require.Empty(t, from(t, k, "S-1"), "no place has all of it")
	require.Equal(t, "held", k.Stage("S-1"))
	k.Sell("S-2", trial.Units("JAR", 3))
	require.Equal(t, map[string]int64{"pier": 3}, from(t, k, "S-2"))
	k.Holds()
}

func TestWhatAPlaceKeepsAndCannotSend(t *testing.T) {
	k := twoPlaces(t)
	lies(t, k, "JAR", 5, 1, nil)
	lies(t, k, "QUEEN", 5, 5, func(i *catalog.Item) { i.Marks = []string{"live"} })
	lies(t, k, "SCALE", 0, 5, func(i *catalog.Item) { i.Serials = true })
	weigh(t, k, map[string]core.PlaceTerms{"alder": {Keep: 4, Cannot: []string{"live"}},
		"pier": {Order: 900, Cannot: []string{"serials"}}})
	k.Sell("S-1", trial.Units("JAR", 2))
	require.Equal(t, map[string]int64{"alder": 1, "pier": 1}, from(t, k, "S-1"), "four stay at Alder Yard")
	k.Sell("S-2", trial.Units("QUEEN", 1))
	require.Equal(t, map[string]int64{"pier": 1}, from(t, k, "S-2"))
	k.Sell("S-3", trial.Units("SCALE", 1))
	require.Empty(t, from(t, k, "S-3"))
	p, err := k.Routing.PlanOf(t.Context(), "S-3")
	require.NoError(t, err)
	require.Contains(t, p.Bars, core.Bar{Place: "pier", Why: "SCALE: not sent from there: serials"})
	k.Holds()
}

func TestAPlaceThatIsFullSendsLater(t *testing.T) {
	k := twoPlaces(t)
	lies(t, k, "JAR", 50, 50, nil)
	require.NoError(t, k.Routing.SetPolicy(t.Context(), core.Policy{On: true, Parcel: 100, Day: 30,
		Places: map[string]core.PlaceTerms{"alder": {PerDay: 2}, "pier": {Order: 10}}}, "Edda"))
	for _, n := range []string{"S-1", "S-2"} {
		k.Sell(n, trial.Units("JAR", 1))
		require.Equal(t, map[string]int64{"alder": 1}, from(t, k, n))
	}
	k.Sell("S-3", trial.Units("JAR", 1))
	require.Equal(t, map[string]int64{"pier": 1}, from(t, k, "S-3"), "a day later costs more than ten")
}

// TestWhatIsFetchedComesFromWhereItWasBought: only what is sent is planned by what it costs.
func TestWhatIsFetchedComesFromWhereItWasBought(t *testing.T) {
	k := twoPlaces(t)
	lies(t, k, "JAR", 9, 9, nil)
	weigh(t, k, map[string]core.PlaceTerms{"alder": {Order: 500}})
	m := trial.Sale("S-1", trial.Units("JAR", 1))
	m.Kind = message.Collect
	k.Take("stall", trial.Event("order", "S-1", 1, m))
	require.Equal(t, map[string]int64{"alder": 1}, from(t, k, "S-1"))
	k.Sell("S-2", trial.Units("JAR", 1))
	require.Equal(t, map[string]int64{"pier": 1}, from(t, k, "S-2"))
}

// TestAnAddressThatNoCarrierReachesIsPlannedAllTheSame: numbers may be typed by hand.
func TestAnAddressThatNoCarrierReachesIsPlannedAllTheSame(t *testing.T) {
	k := twoPlaces(t)
	lies(t, k, "JAR", 9, 9, nil)
	weigh(t, k, map[string]core.PlaceTerms{"alder": {Cannot: []string{core.Abroad}}})
	m := trial.Sale("S-1", trial.Units("JAR", 1))
	m.ShipTo.Country, m.ShipTo.Postcode = "XE", "410000"
	k.Take("stall", trial.Event("order", "S-1", 1, m))
	require.Equal(t, map[string]int64{"pier": 1}, from(t, k, "S-1"))
	p, err := k.Routing.PlanOf(t.Context(), "S-1")
	require.NoError(t, err)
	require.Empty(t, p.Plan.Entries[0].Service)
	require.Equal(t, []core.Bar{{Place: "alder", Why: "sends nothing to another country"}}, p.Bars)
}

func TestPlanningAnew(t *testing.T) {
	k := twoPlaces(t)
	lies(t, k, "JAR", 500, 500, nil)
	weigh(t, k, nil)
	for _, n := range []string{"S-1", "S-2", "S-3"} {
		k.Sell(n, trial.Units("JAR", 1))
		require.Equal(t, map[string]int64{"alder": 1}, from(t, k, n))
	}
	k.Picked("S-3")
	changed, err := k.Replan(t.Context(), "S-1", 0, nil, "Edda")
	require.NoError(t, err)
	require.False(t, changed)
	before := k.OnHand("JAR")

	weigh(t, k, map[string]core.PlaceTerms{"alder": {Order: 500}})
	changed, err = k.Replan(t.Context(), "S-1", 0, nil, "Edda")
	require.NoError(t, err)
	require.True(t, changed)
	require.Equal(t, map[string]int64{"pier": 1}, from(t, k, "S-1"))
	_, err = k.Replan(t.Context(), "S-3", 0, nil, "Edda")
	require.Error(t, err, "somebody has begun")
	_, err = k.Replan(t.Context(), "S-1", 1, nil, "Edda")
	require.ErrorIs(t, err, store.ErrConflict)

	_, err = k.ReplanPlace(t.Context(), "moon", "", "Edda")
	_, refused := engine.IsRefused(err)
	require.True(t, refused)
	_, err = k.ReplanPlace(t.Context(), "alder", "closed today", "Edda")
	require.NoError(t, err)
	_, err = k.ReplanPlace(t.Context(), "alder", "", "Edda")
	require.ErrorContains(t, err, "already")
	k.Settle()
	require.Equal(t, map[string]int64{"pier": 1}, from(t, k, "S-2"))
	require.Equal(t, map[string]int64{"alder": 1}, from(t, k, "S-3"), "it is being picked")
	require.Equal(t, before, k.OnHand("JAR"))
	k.Holds()
}

// TestAPlaceThatClosesIsPlannedAround: where a day is worth something, what it was to send comes from elsewhere, by itself.
func TestAPlaceThatClosesIsPlannedAround(t *testing.T) {
	k := twoPlaces(t)
	lies(t, k, "JAR", 9, 9, nil)
	require.NoError(t, k.Routing.SetPolicy(t.Context(), core.Policy{On: true, Parcel: 100, Day: 50,
		Places: map[string]core.PlaceTerms{"pier": {Order: 80}}}, "Edda"))
	k.Sell("S-1", trial.Units("JAR", 1))
	require.Equal(t, map[string]int64{"alder": 1}, from(t, k, "S-1"))
	always := place.Hours{Week: slices.Repeat([]string{"08:00-17:00"}, 7)}
	closed := always
	closed.DaysOff = []place.DayOff{{From: k.Now().Format(time.DateOnly), To: k.Now().AddDate(0, 0, 5).Format(time.DateOnly)}}
	require.NoError(t, k.PutPlace(t.Context(), "pier", joining.Place{Name: "Pier Nine", Hours: &always}, "Edda"))
	require.NoError(t, k.PutPlace(t.Context(), "alder", joining.Place{Name: "Alder Yard", Hours: &closed}, "Edda"))
	k.Settle()
	require.Equal(t, map[string]int64{"pier": 1}, from(t, k, "S-1"), "a week of waiting costs more")
	p, err := k.Routing.PlanOf(t.Context(), "S-1")
	require.NoError(t, err)
	require.Greater(t, p.Runners[0].Cost, p.Plan.Cost)
	k.Holds()
}

func TestRehearsal(t *testing.T) {
	k := twoPlaces(t)
	lies(t, k, "JAR", 9, 9, nil)
	lies(t, k, "LID", 0, 9, nil)
	weigh(t, k, nil)
	k.Sell("S-1", trial.Units("JAR", 1))
	k.Sell("S-2", trial.Units("JAR", 1), trial.Units("LID", 1))
	got, err := k.Routing.Rehearse(t.Context(), core.Policy{On: true, Parcel: 100,
		Places: map[string]core.PlaceTerms{"alder": {Order: 70}}})
	require.NoError(t, err)
	require.Equal(t, int64(2), got.Orders)
	require.Equal(t, int64(1), got.Changed)
	o, err := k.Store.OrderByNumber(t.Context(), "S-1")
	require.NoError(t, err)
	require.Equal(t, o.Number, got.List[0].Order)
	require.Equal(t, routing.Sum{Cost: 1000, Places: map[string]int64{"alder": 1, "pier": 1}}, got.Was)
	require.Equal(t, routing.Sum{Cost: 1000, Places: map[string]int64{"pier": 2}}, got.Now)
	_, err = k.Routing.Rehearse(t.Context(), core.Policy{On: true})
	_, refused := engine.IsRefused(err)
	require.True(t, refused)
	require.Equal(t, map[string]int64{"alder": 1}, from(t, k, "S-1"), "nothing is changed by it")
}

func TestThePolicyIsKeptAndCanBeTakenBack(t *testing.T) {
	k := twoPlaces(t)
	weigh(t, k, map[string]core.PlaceTerms{"alder": {Keep: 3}})
	err := k.Routing.SetPolicy(t.Context(), core.Policy{Places: map[string]core.PlaceTerms{"moon": {}}}, "Edda")
	require.ErrorContains(t, err, `no place "moon"`)
	k.Again()
	p, err := k.Routing.Policy(t.Context())
	require.NoError(t, err)
	require.Equal(t, int64(3), p.Places["alder"].Keep)
	lies(t, k, "JAR", 3, 3, nil)
	k.Sell("S-1", trial.Units("JAR", 1))
	require.Equal(t, map[string]int64{"pier": 1}, from(t, k, "S-1"), "also after a new start")

	list, err := k.Store.SettingChanges(t.Context(), nil, 0, 10)
	require.NoError(t, err)
	require.Equal(t, "routing policy", list[0].Kind)
	require.NoError(t, k.UndoSetting(t.Context(), list[0].ID, "Edda"))
	p, err = k.Routing.Policy(t.Context())
	require.NoError(t, err)
	require.False(t, p.On)
	k.Sell("S-2", trial.Units("JAR", 1))
	require.Equal(t, map[string]int64{"alder": 1}, from(t, k, "S-2"))
}

// TestThePolicyIsPartOfASetUp: it is written with it, and brings another company to the same.
func TestThePolicyIsPartOfASetUp(t *testing.T) {
	k := twoPlaces(t)
	weigh(t, k, map[string]core.PlaceTerms{"pier": {Order: 60, Cannot: []string{"live"}}})
	written, err := k.ExportSetup(t.Context())
	require.NoError(t, err)
	text, err := written.Text()
	require.NoError(t, err)
	read, err := setup.Parse(text)
	require.NoError(t, err)

	other := twoPlaces(t)
	want := setup.Setup{Version: 1, Routing: read.Routing}
	plan, err := other.PlanSetup(t.Context(), want, nil)
	require.NoError(t, err)
	require.Equal(t, []setup.Change{{Action: "change", Thing: "routing", Field: "policy", From: "the first place that has all",
		To: "what costs least; terms of 1 places"}}, plan)
	_, err = other.ApplySetup(t.Context(), want, nil, "Edda")
	require.NoError(t, err)
	got, err := other.Routing.Policy(t.Context())
	require.NoError(t, err)
	require.Equal(t, *read.Routing, got)
	plan, err = other.PlanSetup(t.Context(), want, nil)
	require.NoError(t, err)
	require.Empty(t, plan)
}

func TestOldPlansAreThinned(t *testing.T) {
	k := twoPlaces(t)
	lies(t, k, "JAR", 9, 9, nil)
	weigh(t, k, nil)
	k.Sell("S-1", trial.Units("JAR", 1))
	list, err := k.Retentions(t.Context())
	require.NoError(t, err)
	days := map[string]int{}
	for _, x := range list {
		days[x.Kind] = x.Least
	}
	require.NoError(t, k.SetRetention(t.Context(), days, "Edda"))
	k.Later(400 * 24 * time.Hour)
	_, err = k.Thin(t.Context())
	require.NoError(t, err)
	p, err := k.Routing.PlanOf(t.Context(), "S-1")
	require.NoError(t, err)
	require.False(t, p.Planned)
}

// TestOffersFollowWhatPlacesSend: what a place cannot send is not offered from there, and why says so; another policy offers it again.
func TestOffersFollowWhatPlacesSend(t *testing.T) {
	k := twoPlaces(t)
	lies(t, k, "QUEEN", 3, 4, func(i *catalog.Item) { i.Marks = []string{"live"} })
	lies(t, k, "JAR", 3, 4, nil)
	k.Listed("QUEEN")
	k.Listed("JAR")
	k.Settle()
	shown := func(sku string) any {
		calls := k.Sent("stall", "/stock")
		for i := len(calls) - 1; i >= 0; i-- {
			if calls[i].Body["sku"] == sku {
				return calls[i].Body["quantity"]
			}
		}
		return nil
	}
	require.Equal(t, []any{7.0, 7.0}, []any{shown("QUEEN"), shown("JAR")})
	weigh(t, k, map[string]core.PlaceTerms{"pier": {Cannot: []string{"live"}}})
	k.Settle()
	require.Equal(t, []any{3.0, 7.0}, []any{shown("QUEEN"), shown("JAR")})
	why, err := k.WhyOffer(t.Context(), "stall", "QUEEN", time.Time{})
	require.NoError(t, err)
	require.Equal(t, "Pier Nine does not count: not sent from there: live", why.Steps[0].Text)
	require.EqualValues(t, 3, why.Allowed)
	weigh(t, k, nil)
	k.Settle()
	require.Equal(t, 7.0, shown("QUEEN"))
	k.Holds()
}

// TestAPromiseMoves: what nobody has begun on is planned anew for the day that it is promised for now.
func TestAPromiseMoves(t *testing.T) {
	k := twoPlaces(t)
	lies(t, k, "JAR", 9, 9, nil)
	require.NoError(t, k.Routing.SetPolicy(t.Context(), core.Policy{On: true, Parcel: 100, LateDay: 500,
		Places: map[string]core.PlaceTerms{"alder": {Order: 60}, "pier": {PerDay: 1}}}, "Edda"))
	k.Sell("S-0", trial.Units("JAR", 1)) // a day's work for Pier Nine
	sale := trial.Sale("S-1", trial.Units("JAR", 1))
	k.Take("stall", trial.Event("order", "S-1", 1, sale))
	require.Equal(t, map[string]int64{"pier": 1}, from(t, k, "S-1"), "no day is promised, and it costs less")
	sale.DeliverBy = trial.Morning.AddDate(0, 0, 2).Format(time.DateOnly)
	k.Take("stall", trial.Event("order", "S-1", 2, sale))
	require.Equal(t, map[string]int64{"alder": 1}, from(t, k, "S-1"), "Pier Nine would be a day late")
	k.Holds()
	_, err := k.StartPick(t.Context(), "S-1", "Petra")
	require.NoError(t, err)
	sale.DeliverBy = ""
	k.Take("stall", trial.Event("order", "S-1", 3, sale))
	require.Equal(t, map[string]int64{"alder": 1}, from(t, k, "S-1"), "somebody has begun on it")
	k.Holds()
}

// TestChannelsAreToldOfMovedPromises a little later, once for all orders that were planned anew: also where a channel sells from one of
// the places only.
func TestChannelsAreToldOfMovedPromises(t *testing.T) {
	k := twoPlaces(t)
	lies(t, k, "JAR", 9, 9, nil)
	weigh(t, k, nil)
	for _, n := range []string{"S-1", "S-2", "S-3"} {
		k.Sell(n, trial.Units("JAR", 1))
	}
	weigh(t, k, map[string]core.PlaceTerms{"alder": {Order: 500}})
	_, err := k.ReplanPlace(t.Context(), "alder", "closed today", "Edda")
	require.NoError(t, err)
	worked, err := k.WorkJob(engine.JobReplan)
	require.NoError(t, err)
	require.True(t, worked)
	due, err := k.Store.NextOffersDue(t.Context())
	require.NoError(t, err)
	require.True(t, due.After(k.Now()), "not yet")
	next, err := k.Inventory.OffersDue(t.Context())
	require.NoError(t, err)
	require.Equal(t, due, next)
	k.Holds()
	k.Later(time.Second)
	next, err = k.Inventory.OffersDue(t.Context())
	require.NoError(t, err)
	require.Zero(t, next)
	k.Holds()
}

// TestAnOrderWaitsForWhatIsToCome: what lies there is kept for it, the reason is said, it goes on when the goods come, or at once where
// somebody does not want to wait.
func TestAnOrderWaitsForWhatIsToCome(t *testing.T) {
	k := twoPlaces(t)
	lies(t, k, "JAR", 3, 0, nil)
	lies(t, k, "LID", 0, 5, nil)
	require.NoError(t, k.Routing.SetPolicy(t.Context(), core.Policy{On: true, Parcel: 100, Day: 10, MostWait: 7}, "Edda"))
	day := k.Now().AddDate(0, 0, 3).Format(time.DateOnly)
	buy := func(number, day string, units int64) {
		_, err := k.Inventory.AddPurchase(t.Context(), inventory.NewPurchase{Number: number, Supplier: "Lid works", Location: "alder",
			Expected: day, Lines: []inventory.Quantity{{SKU: "LID", Quantity: units}}}, "Edda")
		require.NoError(t, err)
	}
	buy("P-1", day, 1)
	k.Sell("S-1", trial.Units("JAR", 1), trial.Units("LID", 1))
	require.Equal(t, map[string]int64{"alder": 1}, from(t, k, "S-1"), "the jar is kept for it")
	o, err := k.Store.OrderByNumber(t.Context(), "S-1")
	require.NoError(t, err)
	require.Contains(t, o.Holds[0].Text, "waits for goods that are to come to Alder Yard on "+day)
	p, err := k.Routing.PlanOf(t.Context(), "S-1")
	require.NoError(t, err)
	require.Equal(t, 3, p.Plan.Entries[0].Later)
	require.True(t, slices.ContainsFunc(p.Runners, func(r core.Runner) bool { return r.Now && len(r.Entries) == 2 }), "%+v", p.Runners)
	k.Holds()

	k.Sell("S-2", trial.Units("JAR", 1), trial.Units("LID", 1))
	require.Equal(t, map[string]int64{"alder": 1, "pier": 1}, from(t, k, "S-2"), "what comes is the first order's")
	_, err = k.Inventory.Receive(t.Context(), "P-1", []inventory.Arrival{{Code: "LID", Quantity: 1}}, "Edda")
	require.NoError(t, err)
	k.Settle()
	require.Equal(t, map[string]int64{"alder": 2}, from(t, k, "S-1"))
	require.Equal(t, "ready", k.Stage("S-1"))

	buy("P-2", day, 9)
	k.Sell("S-3", trial.Units("JAR", 1), trial.Units("LID", 1))
	require.Equal(t, "held", k.Stage("S-3"))
	now := true
	changed, err := k.Replan(t.Context(), "S-3", 0, &now, "Edda")
	require.NoError(t, err)
	require.True(t, changed)
	require.Equal(t, map[string]int64{"alder": 1, "pier": 1}, from(t, k, "S-3"))
	require.Equal(t, "ready", k.Stage("S-3"))
	k.Holds()
}

// TestWhatDoesNotComeIsNotWaitedFor: on the day after, an order is planned without it.
func TestWhatDoesNotComeIsNotWaitedFor(t *testing.T) {
	k := twoPlaces(t)
	lies(t, k, "JAR", 0, 2, nil)
	require.NoError(t, k.Routing.SetPolicy(t.Context(), core.Policy{On: true, Parcel: 100, MostWait: 7,
		Places: map[string]core.PlaceTerms{"pier": {Order: 500}}}, "Edda"))
	_, err := k.Inventory.AddPurchase(t.Context(), inventory.NewPurchase{Number: "P-1", Supplier: "Jar works", Location: "alder",
		Expected: k.Now().AddDate(0, 0, 2).Format(time.DateOnly), Lines: []inventory.Quantity{{SKU: "JAR", Quantity: 9}}}, "Edda")
	require.NoError(t, err)
	k.Sell("S-1", trial.Units("JAR", 1))
	require.Equal(t, "held", k.Stage("S-1"))
	k.Settle()
	require.Equal(t, "held", k.Stage("S-1"))
	lies(t, k, "LID", 0, 0, nil)
	k.Sell("S-2", trial.Units("LID", 1))
	o, err := k.Store.OrderByNumber(t.Context(), "S-2")
	require.NoError(t, err)
	require.NotContains(t, o.Holds[0].Text, "to come", "nobody knows of any")
	_, err = k.Inventory.AddPurchase(t.Context(), inventory.NewPurchase{Supplier: "Jar works", Location: "alder",
		Expected: k.Now().AddDate(0, 0, 3).Format(time.DateOnly), Lines: []inventory.Quantity{{SKU: "LID", Quantity: 1}}}, "Edda")
	require.NoError(t, err)
	k.Settle()
	o, err = k.Store.OrderByNumber(t.Context(), "S-2")
	require.NoError(t, err)
	require.Contains(t, o.Holds[0].Text, "to come to Alder Yard", "now it is said")
	k.CancelOrder("S-2")
	k.Later(4 * 24 * time.Hour)
	k.Settle() // what waits is looked at
	k.Settle()
	require.Equal(t, map[string]int64{"pier": 1}, from(t, k, "S-1"))
	require.Equal(t, "ready", k.Stage("S-1"))
	k.Holds()
}

// TestTheOldestPromiseIsServedFirst, and a share is kept for those that are promised soon.
func TestTheOldestPromiseIsServedFirst(t *testing.T) {
	k := twoPlaces(t)
	lies(t, k, "JAR", 0, 0, nil)
	weigh(t, k, nil)
	by := func(days int) string { return k.Now().AddDate(0, 0, days).Format(time.DateOnly) }
	sell := func(number string, days int) {
		o := trial.Sale(number, trial.Units("JAR", 1))
		o.DeliverBy = by(days)
		k.Take("stall", trial.Event("order", number, 1, o))
	}
	more := func(n int64) {
		require.NoError(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: "JAR", Location: "alder", Change: n, Reason: "found"}, "Edda"))
		k.Settle()
	}
	sell("S-1", 9)
	sell("S-2", 3)
	sell("S-3", 5)
	more(1)
	require.Equal(t, "ready", k.Stage("S-2"), "it was promised first")
	more(1)
	require.Equal(t, "ready", k.Stage("S-3"))
	require.Equal(t, "held", k.Stage("S-1"))

	require.NoError(t, k.Routing.SetPolicy(t.Context(), core.Policy{On: true, Parcel: 100, Urgent: &core.Urgent{Days: 4, Share: 50}},
		"Edda"))
	more(2)
	require.Equal(t, "held", k.Stage("S-1"), "what is free is kept")
	p, err := k.Routing.PlanOf(t.Context(), "S-1")
	require.NoError(t, err)
	require.False(t, p.Planned && len(p.Plan.Entries) > 0)
	sell("S-4", 2)
	require.Equal(t, "ready", k.Stage("S-4"))
	k.Holds()
	k.Later(5 * 24 * time.Hour)
	k.Settle()
	k.Settle()
	require.Equal(t, "ready", k.Stage("S-1"), "it is urgent by now")
	k.Holds()
}

// TestTheWayIsWeighedOnceItIsKnown: the address service answers after the order was planned.
func TestTheWayIsWeighedOnceItIsKnown(t *testing.T) {
	k := twoPlaces(t)
	lies(t, k, "JAR", 9, 9, nil)
	require.NoError(t, k.Routing.SetPolicy(t.Context(), core.Policy{On: true, Parcel: 100, Km100: 50,
		Places: map[string]core.PlaceTerms{"pier": {Order: 60}}}, "Edda"))
	for code, at := range map[string]string{"alder": "50, 8", "pier": "53, 8"} {
		require.NoError(t, k.PutPlace(t.Context(), code, joining.Place{Name: code, Position: &at}, "Edda"))
	}
	k.Sell("S-1", trial.Units("JAR", 1))
	require.Equal(t, map[string]int64{"alder": 1}, from(t, k, "S-1"))
	o, err := k.Store.OrderByNumber(t.Context(), "S-1")
	require.NoError(t, err)
	o.Ours.Checked = &order.Checked{Deliverable: true, Position: &place.Position{Latitude: 52.9, Longitude: 8}}
	require.NoError(t, k.Commit(t.Context(), func(ch *engine.Change) error { return k.Routing.AddressPlaced(ch, o) }))
	require.Equal(t, map[string]int64{"pier": 1}, from(t, k, "S-1"))
	p, err := k.Routing.PlanOf(t.Context(), "S-1")
	require.NoError(t, err)
	require.Contains(t, p.Plan.Entries[0].Terms, core.Term{Text: "10 km to the address", Cost: 5})
	wrong := "here, there"
	err = k.PutPlace(t.Context(), "pier", joining.Place{Position: &wrong}, "Edda")
	require.ErrorContains(t, err, "is no position")
	k.Holds()
}

// TestARuleWeighsAnOrderOtherwise by an exception of the policy, which must be there, and stays as long as a rule names it.
func TestARuleWeighsAnOrderOtherwise(t *testing.T) {
	k := twoPlaces(t)
	lies(t, k, "JAR", 9, 9, nil)
	policy := core.Policy{On: true, Parcel: 100, Exceptions: map[string]core.Exception{"gifts": {Not: []string{"alder"}}}}
	require.ErrorContains(t, k.Rule(`weigh("gifts")`), "has no exception")
	require.NoError(t, k.Routing.SetPolicy(t.Context(), policy, "Edda"))
	require.NoError(t, k.Rule(`weigh("gifts")`))
	k.Sell("S-1", trial.Units("JAR", 1))
	require.Equal(t, map[string]int64{"pier": 1}, from(t, k, "S-1"))
	p, err := k.Routing.PlanOf(t.Context(), "S-1")
	require.NoError(t, err)
	require.Contains(t, p.Bars, core.Bar{Place: "alder", Why: "a rule sends nothing from there"})
	policy.Exceptions = nil
	require.ErrorContains(t, k.Routing.SetPolicy(t.Context(), policy, "Edda"), "names gifts")
	k.Holds()
}

// TestFreightIsThatOfTheServiceWhichIsWanted: where a rule names one, what others ask does not count.
func TestFreightIsThatOfTheServiceWhichIsWanted(t *testing.T) {
	k := twoPlaces(t)
	k.On("tess", "/tariff", func(trial.Call) (int, any) {
		service := func(code string, price int64, days int) map[string]any {
			return map[string]any{"code": code, "name": code, "max_g": 10000, "zones": []any{map[string]any{"name": "W",
				"countries": []string{"XW"}, "days": days, "steps": []any{map[string]any{"up_to_g": 10000, "price": price}}}}}
		}
		return 200, map[string]any{"currency": "EUR", "services": []any{service("T1", 400, 3), service("TX", 900, 1)}}
	})
	k.Later(25 * time.Hour)
	k.Learned()
	lies(t, k, "JAR", 9, 9, nil)
	weigh(t, k, nil)
	plan := func(number string) core.Entry {
		k.Sell(number, trial.Units("JAR", 1))
		p, err := k.Routing.PlanOf(t.Context(), number)
		require.NoError(t, err)
		return p.Plan.Entries[0]
	}
	require.Equal(t, "tess/T1", plan("S-1").Service)
	for n, pick := range map[string]string{"S-2": "TX", "S-3": "fastest", "S-4": "cheapest in 2 days"} {
		require.NoError(t, k.Rule(`service("`+pick+`")`))
		e := plan(n)
		require.Equal(t, "tess/TX", e.Service, pick)
		require.Equal(t, int64(900+100), e.Subtotal)
	}
	require.NoError(t, k.Rule(`service("ask")`))
	require.Equal(t, "tess/T1", plan("S-5").Service, "which it is will be asked")
	k.Holds()
}

// TestWhatNobodyHasBegunOnIsPlannedAnew also of an order on which somebody has begun elsewhere: its place's shipment is called off, and the
// other place begins. Where a unit is picked, all stays.
func TestWhatNobodyHasBegunOnIsPlannedAnew(t *testing.T) {
	k := twoPlaces(t)
	require.NoError(t, k.PutPlace(t.Context(), "mill", joining.Place{Name: "Mill Lane"}, "Edda"))
	c := k.ByCode("stall")
	set := *c.Settings()
	set.Offer.Sources = append(slices.Clone(set.Offer.Sources), k.PlaceID("mill"))
	require.NoError(t, k.SetSettings(t.Context(), "stall", set, c.Rec().Revision, "Edda"))
	lies(t, k, "JAR", 9, 0, nil)
	lies(t, k, "LID", 0, 9, nil)
	require.NoError(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: "LID", Location: "mill", Change: 9, Reason: "found"}, "Edda"))
	weigh(t, k, map[string]core.PlaceTerms{"mill": {Order: 50}})
	for _, number := range []string{"S-1", "S-2"} {
		k.Sell(number, trial.Units("JAR", 1), trial.Units("LID", 2))
		require.Equal(t, map[string]int64{"alder": 1, "pier": 2}, from(t, k, number))
		_, err := k.StartPick(t.Context(), number, "Pim")
		require.NoError(t, err)
	}
	shipments := func(number string) map[string]string {
		o, err := k.Store.OrderByNumber(t.Context(), number)
		require.NoError(t, err)
		out := map[string]string{}
		require.NoError(t, k.Commit(t.Context(), func(ch *engine.Change) error {
			list, err := ch.ShipmentsOfOrder(o.ID)
			for _, s := range list {
				out[k.Place(s.LocationID).Code] = s.State + " " + s.Number
			}
			return err
		}))
		return out
	}
	number := func(of, place string) string { return shipments(of)[place][len("picking "):] }
	_, err := k.Scan(t.Context(), number("S-1", "alder"), "JAR", "", 1, "Pim")
	require.NoError(t, err)
	_, err = k.Scan(t.Context(), number("S-2", "pier"), "LID", "", 1, "Pim")
	require.NoError(t, err)

	weigh(t, k, map[string]core.PlaceTerms{"pier": {Order: 5000}})
	_, err = k.ReplanPlace(t.Context(), "pier", "closed today", "Edda")
	require.NoError(t, err)
	k.Settle()
	require.Equal(t, map[string]int64{"alder": 1, "mill": 2}, from(t, k, "S-1"))
	got := shipments("S-1")
	require.Contains(t, got["pier"], "called off")
	require.Contains(t, got["mill"], "picking")
	require.Equal(t, map[string]int64{"alder": 1, "pier": 2}, from(t, k, "S-2"), "one of them is picked")
	_, err = k.Scan(t.Context(), number("S-1", "mill"), "LID", "", 2, "Pim")
	require.NoError(t, err)
	k.Holds()
}
