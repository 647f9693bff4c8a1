package joining_test

import (
	"errors"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/relay"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/joining"
	"openrelay/internal/setup"
	"openrelay/internal/store"
)

// company opens an empty company file with one location.
func company(t *testing.T) *relay.Relay {
	t.Helper()
	st, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "company.relay"))
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	r, err := relay.Open(t.Context(), st, engine.Options{})
	require.NoError(t, err)
	_, err = r.ApplySetup(t.Context(),
		setup.Setup{Version: 1, Company: "Test", Locations: []setup.Location{{Code: "main", Name: "Main"}}}, nil, "test")
	require.NoError(t, err)
	return r
}

func TestSettingsCompleteAnOrder(t *testing.T) {
	told := func() *message.Order {
		return &message.Order{PricesIncludeTax: true, Total: 1190,
			Lines: []message.OrderLine{{ID: "1", Quantity: 1, UnitPrice: 1190, Total: 1190}}}
	}
	plain := told()
	(&engine.Settings{}).Complete(plain)
	require.Equal(t, told(), plain, "nothing decided, nothing changed")

	o := told()
	(&engine.Settings{Anonymous: "Counter sale", TaxPermille: 190}).Complete(o)
	require.Equal(t, "Counter sale", o.BuyerName)
	require.Equal(t, []int64{190, 190, 1190}, []int64{o.Tax, o.Lines[0].Tax, o.Total})

	o = told()
	o.ShipTo.Name = "Maren Tolland"
	(&engine.Settings{Anonymous: "Counter sale", PricesIncludeTax: "no", TaxPermille: 190}).Complete(o)
	require.Empty(t, o.BuyerName, "the buyer is known")
	require.False(t, o.PricesIncludeTax)
	require.Zero(t, o.Tax, "the total shows that none was charged")
}

func TestSettingsAreChecked(t *testing.T) {
	r := company(t)
	for text, says := range map[string]string{
		`{"offer":{"sources":[9]}}`:     "there is no location 9",
		`{"offer":{"buffer":-1}}`:       "not negative",
		`{"tolerance":-1}`:              "tolerance",
		`{"tax_permille":2000}`:         "tax_permille",
		`{"prep_minutes":999999}`:       "prep_minutes",
		`{"look_back_days":-2}`:         "look_back_days",
		`{"number_prefix":"lower"}`:     "number_prefix",
		`{"number_prefix":"TOO-LONG-"}`: "number_prefix",
		`{"prices_include_tax":"may"}`:  "prices_include_tax",
		`{"merge":"weekly"}`:            "merge",
		`{"carry":"far"}`:               "carry",
		`{"stock_in":"maybe"}`:          "stock_in",
		`{"time_zone":"Moon/Crater"}`:   "there is no zone",
		`{"take":["open","odd"]}`:       `"odd" is none of`,
		`{"keep":["lines"]}`:            `"lines" cannot be kept`,
		`{"colour":"red"}`:              `unknown field "colour"`,
		`[]`:                            "settings",
	} {
		s, err := engine.ParseSettings([]byte(text))
		if err == nil {
			err = s.Check(r.Engine)
		}
		var refused *engine.Refused
		require.ErrorAs(t, err, &refused, text)
		require.ErrorContains(t, err, says)
	}
	s, err := engine.ParseSettings(
		[]byte(
			`{"offer":{"sources":[1],"buffer":2},"time_zone":"Etc/GMT-1","number_prefix":"T-9","take":["open"],"keep":["ship_to"],` +
				`"carry":"look"}`))
	require.NoError(t, err)
	require.NoError(t, s.Check(r.Engine))
	require.Equal(t, []string{`carry "look"`, `keep ["ship_to"]`, `number_prefix "T-9"`,
		`offer {"sources":[1],"buffer":2,"cap":0,"floor":0,"off":false}`, `take ["open"]`, `time_zone "Etc/GMT-1"`},
		joining.Differences(engine.Settings{}, s))
	require.Equal(t, []string{"carry removed"}, joining.Differences(engine.Settings{Carry: "look"}, engine.Settings{}))
	now := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
	require.Equal(t, now.AddDate(0, 0, -30), (&engine.Settings{}).LookBack(now))
	require.Equal(t, now.AddDate(0, 0, -3), (&engine.Settings{LookBackDays: 3}).LookBack(now))
}

func TestCodesComeFromNames(t *testing.T) {
	r := company(t)
	first, err := r.StartJoin(t.Context(), joining.NewJoin{Connector: "tansy", Name: "Tansy, our Shop!"}, "x")
	require.NoError(t, err)
	require.Equal(t, "tansy-our-shop", first)
	second, err := r.StartJoin(t.Context(), joining.NewJoin{Connector: "tansy", Name: "Tansy, our Shop!"}, "x")
	require.NoError(t, err)
	require.Equal(t, "tansy-our-shop-2", second)
	third, err := r.StartJoin(t.Context(), joining.NewJoin{Connector: "tansy"}, "x")
	require.NoError(t, err)
	require.Equal(t, "tansy", third)
	for _, bad := range []joining.NewJoin{{Connector: "nothing"}, {Connector: "tansy", Code: "Has Space"},
		{Connector: "tansy", Code: "tansy"}, {Connector: "tansy", Name: "!!!"}} {
		_, err := r.StartJoin(t.Context(), bad, "x")
		var refused *engine.Refused
		require.ErrorAs(t, err, &refused, "%+v", bad)
	}
}

// TestNothingMovesBeforeItIsComplete walks along the checklist of a set-up that nobody finishes.
func TestNothingMovesBeforeItIsComplete(t *testing.T) {
	r := company(t)
	ctx := t.Context()
	code, err := r.StartJoin(ctx, joining.NewJoin{Connector: "hedgerow"}, "x")
	require.NoError(t, err)
	list, err := r.Checklist(ctx, code)
	require.NoError(t, err)
	done := map[string]bool{}
	for _, c := range list {
		done[c.Key] = c.Done
		require.NotEmpty(t, c.Hint)
	}
	require.Equal(t, map[string]bool{"account": false, "identity": false, "location": true, "feeds": true, "import": false,
		"preview": false}, done, "the only location there is was chosen")
	var refused *engine.Refused
	for what, err := range map[string]error{
		"switch on":      r.SwitchOn(ctx, code, "x"),
		"look":           r.LookAtImport(ctx, code, joining.ImportChoices{}, "x"),
		"go on":          r.GoOnWithImport(ctx, code, "x"),
		"preview":        r.AcceptPreview(ctx, code, "x", "x"),
		"stock out":      r.SetFeed(ctx, code, "stock out", true, "", 1, "x"),
		"pause":          r.Pause(ctx, code, true, 0, "x"),
		"drop used":      r.DropDefinition(ctx, "hedgerow", "x"),
		"unknown feed":   r.SetFeed(ctx, code, "gossip", true, "", 1, "x"),
		"bad schedule":   r.SetFeed(ctx, code, "orders in", true, "now and then", 1, "x"),
		"bad override":   r.SetOverrides(ctx, code, "title: [", 0, "x"),
		"other feeds":    r.SetOverrides(ctx, code, "feeds: { stock in: null }", 0, "x"),
		"not the number": func() error { _, err := r.Confirm(ctx, code, "1", true, "x"); return err }(),
		"run":            func() error { _, err := r.RunNow(ctx, code, "orders in", "", "x"); return err }(),
		"renew":          func() error { _, err := r.Renew(ctx, code, joining.Access{}, "x"); return err }(),
		"consent": func() error {
			_, err := r.AskConsent(ctx, code, joining.Access{}, "http://x/back", joining.Asker{})
			return err
		}(),
		"send":       func() error { _, err := r.Try(ctx, code, "dispatch out", `{"lines":[]}`, true, "x"); return err }(),
		"no message": func() error { _, err := r.Try(ctx, code, "dispatch out", `{`, false, "x"); return err }(),
		"no feed":    func() error { _, err := r.Try(ctx, code, "gossip", `{}`, false, "x"); return err }(),
	} {
		if err == nil || !(errors.As(err, &refused) || errors.Is(err, store.ErrNotFound)) {
			t.Errorf("%s: %v", what, err)
		}
	}
	for _, where := range []error{r.SwitchOn(ctx, "none", "x"), r.Leave(ctx, "none", "x"), r.DropJoin(ctx, "none", "x"),
		r.SetTest(ctx, "none", true, 0, "x"), r.SetSettings(ctx, "none", engine.Settings{}, 0, "x")} {
		require.ErrorIs(t, where, store.ErrNotFound)
	}
	require.NoError(t, r.DropJoin(ctx, code, "x"))
	_, err = r.StartJoin(ctx, joining.NewJoin{Connector: "hedgerow", Name: "A shop", Code: "ours"}, "x")
	require.ErrorContains(t, err, "stands for us")
	views, err := r.Connections(ctx)
	require.NoError(t, err)
	require.Empty(t, views)
}

func TestWrongSites(t *testing.T) {
	def := company(t).Connector("tansy")
	for _, c := range []struct {
		site string
		id   message.Identity
		says string
	}{
		{"westmark", message.Identity{Name: "A", Number: "1", Site: "westmark", Country: "XW"}, ""},
		{"westmark", message.Identity{Name: "A", Number: "1", Site: "eastmark", Country: "XE"},
			"belongs to Tansy Eastmark; Tansy Westmark was chosen"},
		{"eastmark", message.Identity{Name: "A", Number: "1", Country: "XW"}, "is an account for XW; Tansy Eastmark was chosen"},
		{"eastmark", message.Identity{Name: "A", Number: "1"}, ""},
		{"", message.Identity{}, ""},
	} {
		require.Contains(t, joining.WrongSite(def, c.site, c.id), c.says)
		require.Equal(t, c.says == "", joining.WrongSite(def, c.site, c.id) == "")
	}
}

func TestSamplesFitTheirFeeds(t *testing.T) {
	r := company(t)
	for _, name := range []string{"hedgerow", "bramble-row", "tansy", "counterpane", "plover-post"} {
		code, err := r.StartJoin(t.Context(), joining.NewJoin{Connector: name}, "x")
		require.NoError(t, err)
		for _, kind := range r.Connector(name).Kinds() {
			text, err := r.Sample(t.Context(), code, kind)
			require.NoError(t, err)
			if connector.ComesIn(kind) {
				require.Empty(t, text, "nothing has come in yet")
				continue
			}
			got, err := r.Try(t.Context(), code, kind, text, false, "x")
			require.NoError(t, err)
			require.Empty(t, got.Error, "%s %s", name, kind)
			require.NotEmpty(t, got.Exchange.URL)
			require.False(t, got.Sent)
		}
	}
	_, err := r.Sample(t.Context(), "hedgerow", "gossip")
	require.Error(t, err)
}

// TestSetupsThatCannotBe: what a set-up asks for in vain is refused before anything is changed.
func TestSetupsThatCannotBe(t *testing.T) {
	r := company(t)
	for says, c := range map[string]setup.Connection{
		`no connector "x"`:               {Code: "a", Connector: "x"},
		`no feed "gossip"`:               {Code: "a", Connector: "hedgerow", Feeds: map[message.Feed]setup.Feed{"gossip": {}}},
		`no credential field "password"`: {Code: "a", Connector: "hedgerow", Credentials: map[string]string{"password": "env:X"}},
		`location "moon" is not known`: {Code: "a", Connector: "hedgerow",
			Settings: map[string]any{"offer": map[string]any{"sources": []any{"moon"}}}},
		`unknown field "colour"`: {Code: "a", Connector: "hedgerow", Settings: map[string]any{"colour": "red"}},
	} {
		_, err := r.ApplySetup(t.Context(), setup.Setup{Version: 1, Connections: []setup.Connection{c}}, nil, "x")
		require.ErrorContains(t, err, says)
	}
	views, err := r.Connections(t.Context())
	require.NoError(t, err)
	require.Empty(t, views)
	// Without credentials a connection is added as a set-up that waits for a person.
	_, err = r.ApplySetup(t.Context(),
		setup.Setup{Version: 1, Connections: []setup.Connection{{Code: "a", Connector: "hedgerow", Name: "A", Address: "http://x"}}}, nil,
		"x")
	require.NoError(t, err)
	views, err = r.Connections(t.Context())
	require.NoError(t, err)
	require.Equal(t, store.Joining, views[0].State)
	require.Equal(t, "being set up", views[0].Lamp.Text)
}

// TestFeedsThatAConnectorLearnsLater are added to its connections, switched off.
func TestFeedsThatAConnectorLearnsLater(t *testing.T) {
	r := company(t)
	code, err := r.StartJoin(t.Context(), joining.NewJoin{Connector: "hedgerow"}, "x")
	require.NoError(t, err)
	lib := r.Library().Clone()
	lib["hedgerow"], err = lib["hedgerow"].With("feeds: { tracking in: { topic: scan, id: item.id, map: { tracking: item.no, state: " +
		"'\"under way\"' } } }")
	require.NoError(t, err)
	next, err := relay.Open(t.Context(), r.Store, engine.Options{Library: lib})
	require.NoError(t, err)
	views, err := next.Connections(t.Context())
	require.NoError(t, err)
	require.Equal(t, code, views[0].Code)
	found := false
	for _, f := range views[0].Feeds {
		if f.Kind == "tracking in" {
			found = true
			require.False(t, f.On)
		}
	}
	require.True(t, found)
}
