package engine_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/people"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// TestWhoLooksAfterSomethingIsAPerson: by their id, so that a new name changes nothing, and two of one name are told apart.
func TestWhoLooksAfterSomethingIsAPerson(t *testing.T) {
	k, ctx := trial.New(t), t.Context()
	for _, email := range []string{"joss@morrow.example", "other@morrow.example"} {
		require.NoError(t, k.PutUser(ctx, email, "Joss Fenn", person.Clerk, "heather and lime"))
	}
	require.NoError(t, k.PutUser(ctx, "runa@morrow.example", "Runa", person.Clerk, "heather and lime"))
	_, err := k.PersonRef(ctx, "Joss Fenn")
	require.ErrorContains(t, err, "2 people are called Joss Fenn; give the e-mail address")
	joss, err := k.PersonRef(ctx, " JOSS@morrow.example ")
	require.NoError(t, err)
	runa, err := k.PersonRef(ctx, "Runa")
	require.NoError(t, err)
	require.NotEqual(t, joss, runa)
	again, err := k.PersonRef(ctx, runa)
	require.NoError(t, err)
	require.Equal(t, runa, again, "an id stands for itself")
	team, err := k.PersonRef(ctx, "The night shift")
	require.NoError(t, err)
	require.Equal(t, "The night shift", team)

	k.Stock(5, "JAR")
	k.Sell("S-1", trial.Units("JAR", 1))
	done, err := k.Act(ctx, orders.Bulk{Action: orders.Assign, Value: "joss@morrow.example", Orders: []string{"O10001"}}, "Edda")
	require.NoError(t, err)
	k.Settle()
	named := func() string {
		v, err := k.Order(ctx, "O10001")
		require.NoError(t, err)
		rows, err := k.Store.ListOrders(ctx, store.OrderFilter{Assignee: joss, Limit: 5})
		require.NoError(t, err)
		require.Len(t, rows, 1)
		require.Equal(t, v.Assignee, rows[0].Assignee)
		return v.Assignee
	}
	require.Equal(t, "joss@morrow.example", named(), "two are called so: by e-mail, as in the list of people")
	names, err := k.Store.UserNames(ctx)
	require.NoError(t, err)
	require.Contains(t, names, named())
	u, err := k.Store.UserByEmail(ctx, "joss@morrow.example")
	require.NoError(t, err)
	require.NoError(t, k.ChangePerson(ctx, u.ID, people.PersonChange{Name: "Joss Wendlow"}, "Edda"))
	require.Equal(t, "Joss Wendlow", named(), "who looks after it is the same person")
	v, err := k.Order(ctx, "O10001")
	require.NoError(t, err)
	require.Contains(t, v.Timeline[len(v.Timeline)-1].Text+v.Timeline[0].Text, "Assigned to joss@morrow.example",
		"what happened keeps the name of its day")
	_, err = k.UndoBulk(ctx, done.ID, "Edda")
	require.NoError(t, err)
	k.Settle()
	v, err = k.Order(ctx, "O10001")
	require.NoError(t, err)
	require.Empty(t, v.Assignee)
}

// TestWhatSomebodyLooksAfterWhoLeftIsFound: by the name that lists show, as long as nobody else is called so.
func TestWhatSomebodyLooksAfterWhoLeftIsFound(t *testing.T) {
	k, ctx := trial.New(t), t.Context()
	require.NoError(t, k.PutUser(ctx, "runa@morrow.example", "Runa", person.Clerk, "heather and lime"))
	was, err := k.PersonRef(ctx, "Runa")
	require.NoError(t, err)
	u, err := k.Store.UserByEmail(ctx, "runa@morrow.example")
	require.NoError(t, err)
	require.NoError(t, k.LeavePerson(ctx, u.ID, true, "Edda"))
	ref, err := k.PersonRef(ctx, "Runa")
	require.NoError(t, err)
	require.Equal(t, was, ref)
	require.NoError(t, k.PutUser(ctx, "other@morrow.example", "Runa", person.Clerk, "heather and lime"))
	ref, err = k.PersonRef(ctx, "Runa")
	require.NoError(t, err)
	require.NotEqual(t, was, ref, "who is here goes before who left")
}

// TestWhatSomebodyDidFollowsTheirName: in the story of an order and of the company, in the ledger, and where it is filtered by
// who did it; two of one name are told apart, and who left keeps what they did.
func TestWhatSomebodyDidFollowsTheirName(t *testing.T) {
	k, ctx := trial.New(t), t.Context()
	for _, email := range []string{"joss@morrow.example", "other@morrow.example"} {
		require.NoError(t, k.PutUser(ctx, email, "Joss Fenn", person.Packer, "heather and lime"))
	}
	ids := map[string]int64{}
	for _, email := range []string{"joss@morrow.example", "other@morrow.example"} {
		u, err := k.Store.UserByEmail(ctx, email)
		require.NoError(t, err)
		ids[email] = u.ID
	}
	joss, other := engine.PersonKey(ids["joss@morrow.example"]), engine.PersonKey(ids["other@morrow.example"])
	k.Stock(5, "JAR")
	counted := func(n int64, who string) {
		require.NoError(t, k.Adjust(ctx, inventory.Adjustment{SKU: "JAR", Location: "alder", Change: n, Reason: "found"}, who))
	}
	counted(2, joss)
	counted(3, other)
	it, err := k.Store.Item(ctx, "JAR")
	require.NoError(t, err)
	told := func() (ledger, story []string) {
		moves, err := k.Store.Movements(ctx, it.ID, 0, 0, time.Time{}, 2)
		require.NoError(t, err)
		for _, m := range moves {
			ledger = append(ledger, m.Who)
		}
		for _, ref := range []string{other, joss} {
			list, err := k.Store.Activity(ctx, store.ActivityFilter{Who: ref, Limit: 1})
			require.NoError(t, err)
			for _, e := range list {
				story = append(story, e.Who)
			}
		}
		return ledger, story
	}
	ledger, _ := told()
	require.Equal(t, []string{"other@morrow.example", "joss@morrow.example"}, ledger)
	require.NoError(t, k.ChangePerson(ctx, ids["other@morrow.example"], people.PersonChange{Name: "Pim Oster"}, joss))
	require.NoError(t, k.LeavePerson(ctx, ids["joss@morrow.example"], true, other))
	ledger, story := told()
	require.Equal(t, []string{"Pim Oster", "Joss Fenn"}, ledger)
	require.Equal(t, ledger, story)
	for _, name := range []string{" 17 ", "0"} {
		require.ErrorContains(t, engine.CheckName(name), "people are known by numbers")
	}
	require.NoError(t, engine.CheckName("Till 17"))
}
