package sheets_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/request"
	"openrelay/internal/relay/partners"
	"openrelay/internal/relay/trial"
)

// TestPartnerItemsFromAFile: what partners call our items is said by a file, each row by itself, what waited for a name goes on, and what
// is
// saved changes nothing when it is handed in.
func TestPartnerItemsFromAFile(t *testing.T) {
	k := trial.New(t)
	k.JoinPartner("mill")
	k.Stock(0, "JAR", "LID", "WAX")
	k.Take("mill", trial.Event("stock_level", "mill-JAR", 1, message.StockLevel{SKU: "JAR", Quantity: 9, At: k.Now()}))
	require.NoError(t, k.Partners.Agreed.Change(t.Context(), k.Engine, []request.Terms{{Partner: "mill", Items: request.TheirNames}},
		"Edda"))
	require.NoError(t, k.Partners.SayItem(t.Context(), "mill", partners.PartnerItem{SKU: "WAX", Code: "W"}, "Edda"))
	k.Sell("S-1", trial.Units("JAR", 1))
	require.Empty(t, k.Sent("mill", "/requests"), "it has no name for jars")

	id, got := handIn(t, k, "partner-items", "partner,sku,name\nmill,JAR,J 500\nmill,LID,(never)\nmill,WAX,J 500\n"+
		"mill,ROOF,R\nnowhere,JAR,J\nmill,LID,L\n")
	require.Equal(t, map[string]int{"add": 2, "change": 1, "refused": 3}, got,
		"no such item, no such partner, and one that stands there twice")
	require.Equal(t, map[string]int{"added": 2, "refused": 4}, apply(t, k, id), "two items cannot have one name")
	calls := k.Sent("mill", "/requests")
	require.Len(t, calls, 1, "what waited for the name went on")
	require.Equal(t, "J 500", calls[0].Body["lines"].([]any)[0].(map[string]any)["sku"])
	require.Empty(t, k.Exceptions())

	var saved strings.Builder
	require.NoError(t, k.Save(t.Context(), "partner-items", &saved))
	require.Equal(t, "partner,sku,name\r\nmill,JAR,J 500\r\nmill,LID,(never)\r\nmill,WAX,W\r\n", saved.String())
	_, got = handIn(t, k, "partner-items", saved.String())
	require.Equal(t, map[string]int{"nothing": 3}, got)

	id, got = handIn(t, k, "partner-items", "partner,sku,name\nmill,WAX,(none)\nmill,LID,(none)\nmill,JAR,\n")
	require.Equal(t, map[string]int{"change": 3}, got)
	require.Equal(t, map[string]int{"changed": 3}, apply(t, k, id))
	list, err := k.Store.PartnerItems(t.Context(), k.ByCode("mill").ID, "", 9)
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Empty(t, list[0].Code, "by our SKU")
	_, got = handIn(t, k, "partner-items", "partner,sku,name\nmill,WAX,(none)\n")
	require.Equal(t, map[string]int{"nothing": 1}, got)
	k.Holds()
}
