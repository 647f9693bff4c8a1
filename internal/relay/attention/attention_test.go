package attention_test

import (
	"net/http"
	"os"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/attention"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/trial"
)

// TestSomebodyLooksAfterAGroup: who looks after a cause, how long it sleeps, and that both hold for what is raised later of
// the same.
func TestSomebodyLooksAfterAGroup(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Sell("S-1", message.OrderLine{SKU: "GLASS", Quantity: 1})
	g := attention.GroupOf{Cause: "unknown item", Connection: "stall", Subject: "GLASS"}
	n, err := k.AssignException(ctx, g, "Pim")
	require.NoError(t, err)
	require.Equal(t, int64(1), n)
	n, err = k.Snooze(ctx, g, k.Now().Add(4*time.Hour))
	require.NoError(t, err)
	require.Equal(t, int64(1), n)
	k.Sell("S-2", message.OrderLine{SKU: "GLASS", Quantity: 1})
	open, err := k.Store.OpenExceptions(ctx, k.Now().Add(5*time.Hour), 10)
	require.NoError(t, err)
	require.Len(t, open, 2)
	for _, e := range open {
		require.Equal(t, "Pim", e.Assignee)
		require.NotZero(t, e.SnoozedUntil)
	}
	_, err = k.AssignException(ctx, attention.GroupOf{Cause: "unknown item", Connection: "nowhere", Subject: "GLASS"}, "Pim")
	require.Error(t, err)
	_, err = k.AssignException(ctx, attention.GroupOf{Cause: "unknown item", Connection: "stall", Subject: "OTHER"}, "Pim")
	require.Error(t, err)
}

// TestPeopleAreToldOfWhatTheyChose: a webhook gets what it asked for, signed, and nothing else; what cannot be chosen is refused.
func TestPeopleAreToldOfWhatTheyChose(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	for _, cause := range engine.Causes {
		_, _, err := k.PutTarget(ctx, attention.NewTarget{Kind: "webhook", Address: "https://hook.test/" + string(cause[:3]),
			Causes: []order.Cause{cause}, Every: 5, On: true}, "Edda")
		require.NoError(t, err, cause)
	}
	_, _, err := k.PutTarget(ctx, attention.NewTarget{Kind: "webhook", Address: "https://hook.test/x", Causes: []order.Cause{"gossip"},
		On: true}, "Edda")
	require.ErrorContains(t, err, "gossip")
	_, _, err = k.PutTarget(ctx, attention.NewTarget{Kind: "email", Address: "edda@morrow.example", On: true}, "Edda")
	require.ErrorContains(t, err, "mail", "there is no mail server")

	_, secret, err := k.PutTarget(ctx, attention.NewTarget{Kind: "webhook", Address: "https://hook.test/unknown",
		Causes: []order.Cause{"unknown item"}, On: true}, "Edda")
	require.NoError(t, err)
	require.Regexp(t, "^whsec_", secret)
	k.Sell("S-1", message.OrderLine{SKU: "GLASS", Quantity: 1})
	k.Later(10 * time.Minute)
	k.Settle()
	require.Len(t, k.Sent("hook", "/unknown"), 1)
	k.Stock(0, "JAR")
	k.Sell("S-2", trial.Units("JAR", 1))
	k.Later(10 * time.Minute)
	k.Settle()
	require.Len(t, k.Sent("hook", "/unknown"), 1, "no stock was not asked for")

	k.On("hook", "/unknown", func(trial.Call) (int, any) { return http.StatusServiceUnavailable, map[string]any{} })
	k.Sell("S-3", message.OrderLine{SKU: "POT", Quantity: 1})
	k.Later(10 * time.Minute)
	k.Settle()
	k.On("hook", "/unknown", func(trial.Call) (int, any) { return 200, map[string]any{} })
	before := len(k.Sent("hook", "/unknown"))
	k.Later(time.Hour)
	k.Settle()
	require.Greater(t, len(k.Sent("hook", "/unknown")), before, "it is told again until it is taken")
	targets, err := k.Store.Targets(ctx)
	require.NoError(t, err)
	for _, x := range targets {
		require.NoError(t, k.DropTarget(ctx, x.ID, "Edda"))
	}
	k.Sell("S-4", message.OrderLine{SKU: "CUP", Quantity: 1})
	k.Later(time.Hour)
	before = len(k.Sent("hook", "/unknown"))
	k.Settle()
	require.Len(t, k.Sent("hook", "/unknown"), before)
}

// TestTheConsoleOffersEveryCause: what may be chosen to be told of is offered on the page.
func TestTheConsoleOffersEveryCause(t *testing.T) {
	page, err := os.ReadFile("../../../console/src/pages/settings/settings.tsx")
	require.NoError(t, err)
	offered := regexp.MustCompile(`(?s)const allCauses = \[(.*?)\]`).FindSubmatch(page)
	require.NotNil(t, offered)
	for _, cause := range engine.Causes {
		require.Contains(t, string(offered[1]), `"`+cause+`"`)
	}
}
