package api_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/inventory"
)

// TestDocumentsGoOn: lists of purchases, transfers and counts say where the next page begins, and end at the last.
func TestDocumentsGoOn(t *testing.T) {
	d := newDesk(t)
	ctx := t.Context()
	d.Stock(20, "JAR")
	for range 5 {
		_, err := d.AddPurchase(ctx, inventory.NewPurchase{Supplier: "Clay works", Location: "alder",
			Lines: []inventory.Quantity{{SKU: "JAR", Quantity: 1}}}, "Edda")
		require.NoError(t, err)
		_, err = d.AddTransfer(ctx,
			inventory.NewTransfer{From: "alder", To: "pier", Lines: []inventory.Quantity{{SKU: "JAR", Quantity: 1}}}, "Edda")
		require.NoError(t, err)
		_, err = d.StartCount(ctx, "alder", "", "Edda")
		require.NoError(t, err)
	}
	for _, path := range []string{"/purchases", "/transfers", "/counts"} {
		seen := map[string]bool{}
		query := "limit=2"
		for pages := 0; query != ""; pages++ {
			require.Less(t, pages, 5, path)
			var list []struct{ Number string }
			res := d.ask(person.Lead, http.MethodGet, "/api/v1"+path+"?"+query, "")
			require.NoError(t, json.Unmarshal(res.Body.Bytes(), &list), res.Body.String())
			for _, x := range list {
				require.False(t, seen[x.Number], "%s: %s twice", path, x.Number)
				seen[x.Number] = true
			}
			_, next, more := strings.Cut(res.Header().Get("Link"), "?")
			query, _, _ = strings.Cut(next, ">")
			require.Equal(t, more, query != "")
		}
		require.Len(t, seen, 5, path)
	}
}
