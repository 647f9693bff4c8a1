package api_test

import (
	"encoding/json"
	"flag"
	"net/http"
	"os"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openrelay/internal/core/order"
	"openrelay/internal/core/person"
	"openrelay/internal/core/returns"
	"openrelay/internal/paper"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/returning"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

var update = flag.Bool("update", false, "write anew what the tests of the console go by")

// answersFile has what the service answers, as the tests of the console's pages are given it.
const answersFile = "../../console/src/testing/answers.json"

// TestTheConsoleIsTestedWithRealAnswers: the pages' tests go by what the service answers of a small company, and not by what
// somebody thought it would. Where an answer has become another, this fails until the file is written anew with
//
//	go test ./internal/api -run TestTheConsoleIsTestedWithRealAnswers -update
func TestTheConsoleIsTestedWithRealAnswers(t *testing.T) {
	c := talk(t, "anna", "bert")
	ctx := t.Context()
	c.Stock(10, "JAR", "LID")
	c.Learned()
	c.Listed("JAR")
	require.NoError(t, c.Rule(`tag("seen")`))
	c.Sell("S-1", trial.Units("JAR", 2))
	c.Sell("S-2", trial.Units("JAR", 1), trial.Units("LID", 1))
	c.Sell("S-3", trial.Units("GHOST", 1))
	packed := c.Packed("S-1")
	picking, err := c.StartPick(ctx, "S-2", "Pim")
	require.NoError(t, err)
	lines := []inventory.Quantity{{SKU: "JAR", Quantity: 20}}
	purchase, err := c.AddPurchase(ctx, inventory.NewPurchase{Supplier: "Clay works", Location: "alder", Lines: lines}, "Edda")
	require.NoError(t, err)
	lines = []inventory.Quantity{{SKU: "LID", Quantity: 2}}
	transfer, err := c.AddTransfer(ctx, inventory.NewTransfer{From: "alder", To: "pier", Lines: lines}, "Edda")
	require.NoError(t, err)
	count, err := c.StartCount(ctx, "alder", "", "Edda")
	require.NoError(t, err)
	_, err = c.Act(ctx, orders.Bulk{Action: orders.Assign, Value: "Joss", Orders: []string{"S-2"}}, "Edda")
	require.NoError(t, err)
	require.NoError(t, c.PutRoundRule(ctx, store.RoundRule{Code: "std", Name: "Standard", Location: "alder"}, "Edda"))
	c.Sell("S-4", trial.Units("JAR", 2), trial.Units("LID", 1))
	require.NoError(t, c.Label(c.Packed("S-4"), "anna"))
	back, err := c.AnnounceReturn(ctx, returning.NewReturn{Order: "S-4", Reason: "one is chipped",
		Lines: map[int64]int64{order.LineID(4, 1): 2}}, "Joss")
	require.NoError(t, err)
	require.NoError(t, c.ScanReturned(ctx, back, returning.Returned{Code: "JAR", Outcome: returns.ToLook}, "Pim"))
	c.Sell("S-5", trial.Units("JAR", 1))
	c.Sell("S-6", trial.Units("JAR", 2), trial.Units("LID", 1))
	round, err := c.MakeRound(ctx, shipping.NewRound{Orders: []string{"S-5", "S-6"}}, "Pim")
	require.NoError(t, err)
	out := map[string]json.RawMessage{}
	for _, path := range strings.Fields(`me first-run first-day people tokens
		board orders orders/S-1 orders/S-2 orders/S-3 exceptions exceptions/causes connections
		connections/stall connections/stall/join rules rules/words stock items items/JAR items/JAR/record listings listings/counts
		returns returns/` + back + ` rounds rounds/` + round.Number + `
		round-rules orders/S-4 shipments parcels profiles manifests purchases transfers counts activity runs locations
		company privacy jobs tags channel-states people-here views targets looks sheet-kinds sheets connectors connectors/hedgerow
		price-lists option-groups field-owners
		compare accounts reports/source reports/days reports/shipping reports/speed reports/stockouts reports/exceptions
		connections/stall/listings/JAR/why shipments/` + packed + ` shipments/` + picking +
		` parcels/` + packed + ` parcels/` + packed + `/rates purchases/` +
		purchase + ` transfers/` + transfer + ` counts/` + count) {
		w := c.ask(person.Lead, http.MethodGet, "/api/v1/"+path, "")
		require.Equal(t, http.StatusOK, w.Code, "%s: %s", path, w.Body)
		answer := strings.ReplaceAll(strings.TrimSpace(w.Body.String()), c.Prefix, "orprefix") // made at random for each company
		out[path] = json.RawMessage(answer)
	}
	text, err := json.MarshalIndent(out, "", " ")
	require.NoError(t, err)
	text = append(text, '\n')
	if *update {
		require.NoError(t, os.MkdirAll("../../console/src/testing", 0o755))
		require.NoError(t, os.WriteFile(answersFile, text, 0o644))
	}
	have, err := os.ReadFile(answersFile)
	require.NoError(t, err)
	var want map[string]json.RawMessage
	require.NoError(t, json.Unmarshal(have, &want))
	for path, got := range out {
		var there, here any
		require.NoError(t, json.Unmarshal(want[path], &there), path)
		require.NoError(t, json.Unmarshal(got, &here), path)
		assert.True(t, reflect.DeepEqual(there, here), "what the service answers to %s has changed; see above", path)
	}
	require.Len(t, want, len(out))
}

// TestPapersSpeakWhatACompanyMayAskFor.
func TestPapersSpeakWhatACompanyMayAskFor(t *testing.T) {
	for _, code := range engine.PaperLanguages {
		require.True(t, paper.Speaks(code), code)
	}
	require.False(t, paper.Speaks("tlh"))
}
