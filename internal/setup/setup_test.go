package setup

import (
	"strings"
	"testing"

	"openrelay/internal/core/message"

	"github.com/stretchr/testify/require"
)

func TestFillPutsValuesIn(t *testing.T) {
	values := map[string]string{"A": "one"}
	get := func(name string) (string, bool) { v, ok := values[name]; return v, ok }
	got, err := Fill("a: ${A}\n# ${NOTHING} in a comment\nb: ${B:two words}${C:}", get)
	require.NoError(t, err)
	require.Equal(t, "a: one\n# ${NOTHING} in a comment\nb: two words", got)
	_, err = Fill("a: 1\nb: ${B} ${C}", get)
	require.ErrorContains(t, err, "line 2: B has no value; give it with -set B=…")
	require.ErrorContains(t, err, "line 2: C has no value")
}

func TestParseRefuses(t *testing.T) {
	for text, says := range map[string]string{
		"":                                   "does not begin with",
		"setup: 1\nlocations: [{ name: x }]": "locations: one has no code",
		"setup: 1\nprofiles: [{ code: a }, { code: a }]":                                  "a stands twice",
		"setup: 1\nconnections: [{ code: a }]":                                            "a has no connector",
		"setup: 1\nconnections: [{ code: a, connector: b, feeds: { orders in: maybe } }]": "on or off is expected",
		"setup: 1\nabout: &x hi":                                                          "anchors",
		"setup: [":                                                                        "line 1",
		"setup: 1\nconnections: [{ code: a, connector: b, credentials: { k: plain } }]":   "secrets do not stand in a set-up",
	} {
		_, err := Parse([]byte(text))
		require.ErrorContains(t, err, says, text)
	}
}

func TestTextIsReadAsItWasWritten(t *testing.T) {
	for _, name := range Ready() {
		text, err := ReadyText(name)
		require.NoError(t, err)
		text, err = Fill(text, func(string) (string, bool) { return "http://x", true })
		require.NoError(t, err)
		s, err := Parse([]byte(text))
		require.NoError(t, err, name)
		out, err := s.Text()
		require.NoError(t, err)
		back, err := Parse(out)
		require.NoError(t, err)
		require.Equal(t, s, back, name)
		for _, c := range Compare(s, back) {
			require.Equal(t, "note", c.Action, "%v", c)
		}
	}
	_, err := ReadyText("nothing")
	require.ErrorContains(t, err, "there are: funnel-and-store-room")
}

func TestCompareSaysWhatChanges(t *testing.T) {
	have := Setup{Company: "A", Series: map[string]string{"order": "R"}, Locations: []Location{{Code: "x", Name: "X"}},
		Profiles: []Profile{{Code: "p", Name: "P", LengthMM: 1}},
		Connections: []Connection{{Code: "a", Connector: "c", Name: "A", Settings: map[string]any{"offer": map[string]any{"buffer": 1}},
			Feeds: map[message.Feed]Feed{"stock out": {}}}, {Code: "b", Connector: "c"}}}
	want := Setup{Company: "B", Series: map[string]string{"order": "Q"},
		Locations: []Location{{Code: "x", Name: "Y"}, {Code: "z", Name: "Z"}}, Profiles: []Profile{{Code: "p", Name: "P", LengthMM: 2}},
		Connections: []Connection{{Code: "a", Connector: "d", Paused: true,
			Settings: map[string]any{"offer": map[string]any{"buffer": 2}}, Feeds: map[message.Feed]Feed{"stock out": {On: true},
				"orders in": {On: true, Schedule: "@every 1m"}}}}}
	var got []string
	for _, c := range Compare(have, want) {
		got = append(got, c.String())
	}
	require.Equal(t, strings.Split(strings.TrimSpace(`
set  company  name: A → B
set  number series order  prefix: R → Q
set  location x  name: X → Y
new  location z  Z
set  parcel profile p  measures: P, 1×0×0 mm, 0 g, up to 0 g → P, 2×0×0 mm, 0 g, up to 0 g
see  connection a: is joined by c and cannot become one of d; leave it first
set  connection a  paused: no → yes
set  connection a  settings.offer.buffer: 1 → 2
set  connection a  feeds.orders in: off → on, @every 1m
see  connection a: stock out stays off until what it changes was seen; say previewed: true where it was
see  connection b: is not in the text and is left as it is`), "\n"), got)
	require.Empty(t, Compare(have, Setup{}), "what is not mentioned is left alone")
	none := Setup{Connections: []Connection{{Code: "a", Connector: "c",
		Settings: map[string]any{"prep_minutes": 0, "carry": "", "offer": map[string]any{"off": false, "buffer": 0}}},
		{Code: "b", Connector: "c"}}}
	list := Compare(have, none)
	require.Len(t, list, 1, "what was never decided is nothing already: %v", list)
	require.Equal(t, "set  connection a  settings.offer.buffer: 1 → 0", list[0].String())
}

func TestResolveNamesWhatIsMissing(t *testing.T) {
	c := Connection{Code: "a", Credentials: map[string]string{"one": "env:ONE", "two": "env:TWO", "three": "file:/nowhere/at/all"}}
	values, missing, err := Resolve(Secrets{Key: c.Code, Name: c.Code, Refs: c.Credentials},
		func(name string) string { return map[string]string{"ONE": "1"}[name] })
	require.NoError(t, err)
	require.Equal(t, map[string]string{"one": "1"}, values)
	require.Equal(t, []string{"a.three (file:/nowhere/at/all)", "a.two (env:TWO)"}, missing)
}

// FuzzParse: whatever the text, it ends in a set-up or an error, and a set-up can be written again.
func FuzzParse(f *testing.F) {
	for _, name := range Ready() {
		text, err := ReadyText(name)
		if err != nil {
			f.Fatal(err)
		}
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		s, err := Parse(text)
		if err != nil {
			return
		}
		if _, err := s.Text(); err != nil {
			t.Fatal(err)
		}
		_ = Compare(Setup{}, s)
	})
}
