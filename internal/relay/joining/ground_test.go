package joining_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/joining"
	"openrelay/internal/relay/trial"
	"openrelay/internal/setup"
	"openrelay/internal/store"
)

func bins(text string) joining.Place { return joining.Place{Bins: &text} }

// TestAPlaceHasTheBinsThatItSays: goods are put into no other, and none in which goods lie is left out.
func TestAPlaceHasTheBinsThatItSays(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(5, "JAR", "LID")
	require.NoError(t, k.Rebin(ctx, "JAR", "alder", "", "A-3", 0, true, "Edda"))
	require.NoError(t, k.Rebin(ctx, "JAR", "alder", "", "A-3", 5, true, "Edda"))
	require.ErrorContains(t, k.PutPlace(ctx, "alder", bins("A-[1-2]"), "Edda"), "goods lie in A-3")
	require.ErrorContains(t, k.PutPlace(ctx, "alder", bins("A-[1"), "Edda"), "bins: line 1")
	require.NoError(t, k.PutPlace(ctx, "alder", bins("A-[5-9]\nA-[1-4]"), "Edda"))
	known := func(err error) { require.ErrorContains(t, err, "Alder Yard has no bin B-1") }
	known(k.Rebin(ctx, "JAR", "alder", "A-3", "B-1", 1, false, "Edda"))
	known(k.Adjust(ctx, inventory.Adjustment{SKU: "JAR", Location: "alder", Change: 1, Bin: "B-1", Reason: "found"}, "Edda"))
	require.NoError(t, k.Rebin(ctx, "LID", "alder", "", "A-9", 5, true, "Edda"))
	p, err := k.AddPurchase(ctx, inventory.NewPurchase{Supplier: "Clay works", Location: "alder",
		Lines: []inventory.Quantity{{SKU: "JAR", Quantity: 5}}}, "Edda")
	require.NoError(t, err)
	_, err = k.Receive(ctx, p, []inventory.Arrival{{Code: "JAR", Bin: "B-1", Quantity: 1}}, "Edda")
	known(err)
	c, err := k.StartCount(ctx, "alder", "", "Edda")
	require.NoError(t, err)
	_, err = k.CountItem(ctx, c, inventory.Counted{Code: "JAR", Bin: "B-1", Quantity: 1}, "Edda")
	known(err)

	k.Sell("S-1", trial.Units("JAR", 1), trial.Units("LID", 1))
	number, err := k.StartPick(ctx, "O10001", "Pim")
	require.NoError(t, err)
	v, err := k.Shipment(ctx, number)
	require.NoError(t, err)
	require.Equal(t, []string{"A-9", "A-3"}, []string{v.Wants[0].Bin, v.Wants[1].Bin}, "in the order of the walk")
	require.NoError(t, k.PutPlace(ctx, "alder", bins(""), "Edda"))
	require.NoError(t, k.Rebin(ctx, "JAR", "alder", "A-3", "B-1", 1, false, "Edda"), "a place that lists none takes any")
	k.Holds()
}

// TestASenderStandsOnParcels of the channels that ship as it, with what it says of itself.
func TestASenderStandsOnParcels(t *testing.T) {
	k := trial.New(t, "ann")
	ctx := t.Context()
	for want, s := range map[string]store.Sender{"code": {Code: "Little Skep", Name: "x"}, "name: missing": {Code: "skep", Name: " "}} {
		require.ErrorContains(t, k.PutSender(ctx, s, "Edda"), want)
	}
	require.NoError(t, k.PutSender(ctx, store.Sender{Code: "skep", Name: "Little Skep", Phone: "555 0117"}, "Edda"))
	set := *k.ByCode("stall").Settings()
	set.Sender = "hive"
	require.ErrorContains(t, k.SetSettings(ctx, "stall", set, k.ByCode("stall").Rec().Revision, "Edda"), `there is no sender "hive"`)
	set.Sender = "skep"
	require.NoError(t, k.SetSettings(ctx, "stall", set, k.ByCode("stall").Rec().Revision, "Edda"))
	k.Stock(5, "JAR")
	k.Sell("S-1", trial.Units("JAR", 1))
	require.NoError(t, k.Label(k.Packed("S-1"), "ann"))
	var asked message.Parcel
	require.NoError(t, json.Unmarshal([]byte(k.OutboxOf("S-1", message.LabelsOut).Payload), &asked))
	require.Equal(t, place.Address{Name: "Little Skep", Phone: "555 0117", Street: "Alder Yard 3", Postcode: "41207", Town: "Alderby",
		Country: "XW"}, asked.From, "it leaves from the place")
	require.ErrorContains(t, k.ArchiveSender(ctx, "skep", true, "Edda"), "ships as skep")
	set.Sender = ""
	require.NoError(t, k.SetSettings(ctx, "stall", set, k.ByCode("stall").Rec().Revision, "Edda"))
	require.NoError(t, k.ArchiveSender(ctx, "skep", true, "Edda"))
	set.Sender = "skep"
	require.ErrorContains(t, k.SetSettings(ctx, "stall", set, k.ByCode("stall").Rec().Revision, "Edda"), "used no more")
	require.NoError(t, k.ArchiveSender(ctx, "skep", false, "Edda"))
	require.ErrorIs(t, k.ArchiveSender(ctx, "hive", true, "Edda"), store.ErrNotFound)
}

func TestCarriersAreNamed(t *testing.T) {
	k := trial.New(t, "ann")
	ctx := t.Context()
	for want, c := range map[string]store.NamedCarrier{
		"code \"Barge\"":          {Code: "Barge", Name: "x"},
		"a connection has it":     {Code: "ann", Name: "Ann"},
		"name: missing":           {Code: "barge"},
		"{number} has to stand":   {Code: "barge", Name: "Barge", TrackingURL: "https://barge.example/"},
		"an address such as":      {Code: "barge", Name: "Barge", TrackingURL: "barge {number}"},
		"https://carrier.example": {Code: "barge", Name: "Barge", TrackingURL: "javascript:alert({number})"},
	} {
		require.ErrorContains(t, k.PutNamedCarrier(ctx, c, "Edda"), want)
	}
	require.NoError(
		t,
		k.PutNamedCarrier(ctx, store.NamedCarrier{Code: "barge", Name: "Barge", TrackingURL: "https://barge.example/{number}"},
			"Edda"),
	)
	for _, name := range []string{"barge", "BARGE", " Barge "} {
		_, ok := k.NamedCarrier(name)
		require.True(t, ok, name)
	}
	require.True(t, k.NumbersTyped())
	require.NoError(t, k.ArchiveNamedCarrier(ctx, "barge", true, "Edda"))
	_, ok := k.NamedCarrier("barge")
	require.False(t, ok)
	require.False(t, k.NumbersTyped())
}

// TestAPlaceIsUsedNoMore only when nothing refers to it any longer, and again whenever it is wanted.
func TestAPlaceIsUsedNoMore(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(5, "JAR")
	require.ErrorContains(t, k.ArchivePlace(ctx, "alder", true, "Edda"), "The stall names Alder Yard in its settings")
	require.NoError(t, k.Rule(`location("pier")`))
	require.ErrorContains(t, k.ArchivePlace(ctx, "pier", true, "Edda"), "names pier")
	require.NoError(t, k.PutPlace(ctx, "loft", joining.Place{Name: "Loft"}, "Edda"))
	require.NoError(t, k.Adjust(ctx, inventory.Adjustment{SKU: "JAR", Location: "loft", Change: 2, Reason: "found"}, "Edda"))
	require.ErrorContains(t, k.ArchivePlace(ctx, "loft", true, "Edda"), "holds, has promised or expects goods")
	require.NoError(t, k.Adjust(ctx, inventory.Adjustment{SKU: "JAR", Location: "loft", Change: -2, Reason: "moved"}, "Edda"))
	require.NoError(t, k.ArchivePlace(ctx, "loft", true, "Edda"))
	require.ErrorContains(t, k.Adjust(ctx, inventory.Adjustment{SKU: "JAR", Location: "loft", Change: 2, Reason: "found"}, "Edda"),
		"Loft is used no more")
	require.ErrorContains(t, k.PutPlace(ctx, "loft", joining.Place{Name: "Attic"}, "Edda"), "use it again first")
	text, err := k.ExportSetup(ctx)
	require.NoError(t, err)
	for _, l := range text.Locations {
		require.NotEqual(t, "loft", l.Code)
	}
	require.NoError(t, k.ArchivePlace(ctx, "loft", false, "Edda"))
	require.NoError(t, k.PutPlace(ctx, "loft", joining.Place{Name: "Attic"}, "Edda"))
	k.Holds()
}

// TestGroundAsText: hours, bins, senders and carriers go from one company to another as text, and a second time
// changes nothing.
func TestGroundAsText(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	hours := place.Hours{
		Week:    []string{"08:00-17:00", "08:00-17:00", "08:00-17:00", "08:00-17:00", "08:00-17:00", "", ""},
		Cutoff:  "14:00",
		DaysOff: []place.DayOff{{From: "2026-12-24", To: "2026-12-26", Why: "Midwinter"}},
	}
	p := bins("B-[01-03]\nfloor")
	p.Hours = &hours
	require.NoError(t, k.PutPlace(ctx, "alder", p, "Edda"))
	require.NoError(t, k.PutSender(ctx, store.Sender{Code: "skep", Name: "Little Skep"}, "Edda"))
	require.NoError(t, k.PutNamedCarrier(ctx, store.NamedCarrier{Code: "barge", Name: "Barge"}, "Edda"))
	company, err := k.Company(ctx)
	require.NoError(t, err)
	require.NoError(t, k.PutRoundRule(ctx, store.RoundRule{Code: "cart", Name: "The cart", Location: "alder", Slots: 6, Units: 1,
		Services: []string{"standard"}, Today: true}, "Edda"))
	company.Language, company.Reasons = "fr", []string{" broken ", "wrong  item", "broken", ""}
	require.NoError(t, k.SetCompany(ctx, company, "Edda"))
	out, err := k.ExportSetup(ctx)
	require.NoError(t, err)
	text, err := out.Text()
	require.NoError(t, err)
	want, err := setup.Parse(text)
	require.NoError(t, err)
	changes, err := k.PlanSetup(ctx, want, nil)
	require.NoError(t, err)
	require.Empty(t, changes)

	other := trial.New(t)
	changes, err = other.PlanSetup(ctx, want, nil)
	require.NoError(t, err)
	var said []string
	for _, c := range changes {
		said = append(said, c.String())
	}
	told := strings.Join(said, "\n")
	for _, line := range []string{"set  company  language: nothing → fr", "location alder  bins: nothing → B-[01-03] floor",
		"set  company  reasons: nothing → broken, wrong item", "new  sender skep  Little Skep", "new  round cart  The cart",
		"new  carrier barge  Barge", "location alder  hours: nothing → 08:00-17:00"} {
		require.Contains(t, told, line)
	}
	_, err = other.ApplySetup(ctx, want, nil, "Edda")
	require.NoError(t, err)
	changes, err = other.PlanSetup(ctx, want, nil)
	require.NoError(t, err)
	require.Empty(t, changes)
	list, err := other.Store.PlaceBins(ctx, other.PlaceID("alder"))
	require.NoError(t, err)
	require.Equal(t, []string{"B-01", "B-02", "B-03", "floor"}, list)

	want.Locations[0].Hours.Week[0] = "noon"
	_, err = other.ApplySetup(ctx, want, nil, "Edda")
	require.ErrorContains(t, err, "location alder: hours: Monday")
}

// TestOddDemandsAreToldEarly: a name that a joined carrier would refuse is warned of, as long as it is joined.
func TestOddDemandsAreToldEarly(t *testing.T) {
	k := trial.New(t)
	require.Empty(t, k.NameWarnings("Hive"))
	k.Join("fussy", strings.Replace(trial.Carter("fussy"), "\nfeeds:", "\ndemands: { name_words: 2 }\nfeeds:", 1), nil, message.LabelsOut)
	require.Equal(t, []string{"The fussy wants 2 words in a name; “Hive” has 1"}, k.NameWarnings("Hive"))
	require.Empty(t, k.NameWarnings("Morrow Hive"))
	require.NoError(t, k.Leave(t.Context(), "fussy", "Edda"))
	require.Empty(t, k.NameWarnings("Hive"))
}
