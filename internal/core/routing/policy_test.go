package routing

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// atBoth asks for two jars that each of two places has.
func atBoth() *Question {
	q := twoPlaces(4, 4, 0, 0)
	q.Wants = q.Wants[:1]
	q.Wants[0].Units = 2
	q.Goods = q.Goods[:1]
	return q
}

func TestTheWayToTheAddressCosts(t *testing.T) {
	q, p := atBoth(), &Policy{On: true, Parcel: 100, Km100: 30, Places: map[string]PlaceTerms{"pier": {Order: 50}}}
	require.Equal(t, "alder", Solve(q, p).Entries[0].Place, "nobody knows how far it is")
	q.Places[0].Km, q.Places[1].Km = 400, 100
	got := Solve(q, p)
	require.Equal(t, "pier", got.Entries[0].Place)
	require.Contains(t, got.Entries[0].Terms, Term{"100 km to the address", 30})
	q.Places[0].Km = 200
	require.Equal(t, "alder", Solve(q, p).Entries[0].Place)
}

func TestSomeIsKeptForUrgentOrders(t *testing.T) {
	q := atBoth()
	q.Goods[0].Free, q.Goods[0].Lies = []int64{4, 0}, []int64{10, 0}
	p := &Policy{On: true, Parcel: 100, Urgent: &Urgent{Days: 2, Share: 30}}
	q.By = 9
	got := Solve(q, p)
	require.Equal(t, []Units{{1, "JAR", 1}}, got.Waits, "of the four that are free three are kept")
	require.Contains(t, Bars(q, p), Bar{"alder", "JAR: 1 of 2 are free; 3 are kept for urgent orders"})
	q.By = 2
	require.Empty(t, Solve(q, p).Waits, "it is urgent")
	q.By = -1
	require.NotEmpty(t, Solve(q, p).Waits, "nothing was promised")
	q.Weighs = "at once"
	p.Exceptions = map[string]Exception{"at once": {Urgent: true}}
	require.Empty(t, Solve(q, p).Waits, "a rule says that it is")
	p.Places = map[string]PlaceTerms{"alder": {Keep: 4}}
	require.Len(t, Solve(q, p).Waits, 1, "what a shop keeps for itself is its own affair")
}

// comes has two jars and no lids at Alder Yard; lids come there in three days. Pier Nine has both.
func comes() *Question {
	q := twoPlaces(4, 4, 0, 2)
	later := q.Places[0]
	later.Later = 3
	q.Places = append(q.Places, later)
	q.Goods[0].Free, q.Goods[1].Free = []int64{4, 4, 4}, []int64{0, 2, 5}
	return q
}

func TestAnOrderWaitsForWhatComesWhereThatCostsLess(t *testing.T) {
	q, p := comes(), &Policy{On: true, Parcel: 100, Day: 20, MostWait: 5, Places: map[string]PlaceTerms{"pier": {Order: 100}}}
	got := Solve(q, p)
	require.Equal(t, []string{"alder 4 JAR", "alder 2 LID"}, sends(got))
	require.Equal(t, 3, got.Entries[0].Later)
	require.Equal(t, 1+3, got.Entries[0].Arrives)
	require.Empty(t, got.Waits)
	runners := RunnersUp(q, p, got)
	require.Len(t, runners, 1)
	require.Equal(t, "pier", runners[0].Entries[0].Place)
	require.Greater(t, runners[0].Cost, got.Cost)

	q.Now = true
	at := Solve(q, p)
	require.Equal(t, "pier", at.Entries[0].Place, "somebody does not want to wait")
	require.False(t, at.SendsAs(&got))
	q.Now, p.Day = false, 40
	require.Equal(t, "pier", Solve(q, p).Entries[0].Place, "three days are worth more than that")
	p.Day, p.MostWait = 20, 2
	require.Equal(t, "pier", Solve(q, p).Entries[0].Place, "so long an order must not wait")
	p.MostWait, q.By, p.LateDay = 5, 2, 60
	require.Equal(t, "pier", Solve(q, p).Entries[0].Place, "it would come too late")
	require.Len(t, Bars(q, p), 1, "the place as it will be is no other place")
}

// TestTheBestPlanThatWaitsForNothing is told beside one that waits.
func TestTheBestPlanThatWaitsForNothing(t *testing.T) {
	q, p := comes(), &Policy{On: true, Parcel: 100, MostWait: 5, Places: map[string]PlaceTerms{"pier": {Order: 900}}}
	q.Goods[1].Free[1] = 1
	q.Wants[1].Units = 1
	chosen := Solve(q, p)
	require.Equal(t, 3, chosen.Entries[0].Later)
	runners := RunnersUp(q, p, chosen)
	require.Len(t, runners, 1, "without Alder Yard it is sent from Pier Nine, as it is where it does not wait")
	q.Goods[0].Free[1] = 0
	runners = RunnersUp(q, p, chosen)
	require.Len(t, runners, 2)
	require.True(t, runners[0].Now)
	require.Equal(t, []string{"alder 4 JAR", "pier 1 LID"}, sends(runners[0].Plan))
}

// TestAPlaceThatHasBegunAddsWhatComes: the parcel goes later as a whole, and that is what waiting costs.
func TestAPlaceThatHasBegunAddsWhatComes(t *testing.T) {
	q, p := comes(), &Policy{On: true, Parcel: 100, Day: 20, MostWait: 5}
	q.Wants = q.Wants[1:]
	q.Places[0].BeginsG, q.Places[2].BeginsG = 4000, 4000
	got := Solve(q, p)
	require.Equal(t, 3, got.Entries[0].Later)
	require.Equal(t, int64(3*20), got.Cost)
	require.Contains(t, got.Entries[0].Terms, Term{"4 days on the way", 60})
}

func TestExceptionsOfAPolicy(t *testing.T) {
	q := atBoth()
	n, none := int64(500), int64(0)
	one := 1
	p := &Policy{On: true, Parcel: 100, Day: 10, Exceptions: map[string]Exception{
		"gifts": {Not: []string{"alder"}},
		"express": {Day: &n, LateDay: &n, Km100: &none, MostPlaces: &one, MostWait: &one,
			Places: map[string]PlaceTerms{"alder": {Order: 900}}},
	}}
	require.NoError(t, p.Check(func(string) bool { return true }))
	require.Equal(t, "alder", Solve(q, p).Entries[0].Place)
	q.Weighs = "gifts"
	require.Equal(t, "pier", Solve(q, p).Entries[0].Place)
	require.Equal(t, []Bar{{"alder", "a rule sends nothing from there"}}, Bars(q, p))
	q.Weighs = "express"
	require.Equal(t, "pier", Solve(q, p).Entries[0].Place)
	require.Empty(t, p.Places, "the policy itself is as it was")
	q.Weighs = "another"
	require.Equal(t, "alder", Solve(q, p).Entries[0].Place, "an exception that is gone")
}

func TestExceptionsThatCannotBeMeant(t *testing.T) {
	less, fewer := int64(-1), -1
	known := func(code string) bool { return code == "alder" }
	for want, e := range map[string]Exception{
		"not: there is no place":       {Not: []string{"moon"}},
		"nothing may be negative":      {Day: &less},
		"may be negative":              {MostWait: &fewer},
		"places: there is no place":    {Places: map[string]PlaceTerms{"moon": {}}},
		"nothing is kept":              {Urgent: true},
		"alder: nothing may be negati": {Places: map[string]PlaceTerms{"alder": {Unit: -1}}},
	} {
		p := &Policy{On: true, Parcel: 1, Exceptions: map[string]Exception{"express": e}}
		require.ErrorContains(t, p.Check(known), want)
	}
	for _, p := range []*Policy{{Parcel: 1, Exceptions: map[string]Exception{" ": {}}}, {Urgent: &Urgent{Share: 0}},
		{Urgent: &Urgent{Share: 101}},
		{Km100: -1}, {MostWait: -1}} {
		require.Error(t, p.Check(known))
	}
}
