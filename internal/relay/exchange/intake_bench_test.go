package exchange_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"testing"

	"openrelay/internal/relay/trial"
)

// BenchmarkPushes takes in orders that are pushed 100 at a time, one of two items each, and decides on them; an operation is
// one order.
func BenchmarkPushes(b *testing.B) {
	k := trial.New(b)
	k.Stock(1_000_000_000, "JAR", "LID")
	key := http.Header{"Authorization": {"Bearer stall-key"}}
	var bodies [][]byte
	for n := 0; n < b.N; n += 100 {
		var events []map[string]any
		for i := n; i < min(n+100, b.N); i++ {
			number := fmt.Sprintf("S-%d", i)
			events = append(events, trial.Event("order", number, 1,
				trial.Sale(number, trial.Units([]string{"JAR", "LID"}[i%2], 1+int64(i%3)))))
		}
		body, err := json.Marshal(map[string]any{"messages": events})
		if err != nil {
			b.Fatal(err)
		}
		bodies = append(bodies, body)
	}
	c := k.ByCode("stall")
	b.ReportAllocs()
	b.ResetTimer()
	for i, body := range bodies {
		if _, err := k.AcceptPush(b.Context(), "stall", key, body); err != nil {
			b.Fatal(err)
		}
		if i%4 == 3 || i == len(bodies)-1 {
			if err := k.DecideAll(c); err != nil {
				b.Fatal(err)
			}
		}
	}
}
