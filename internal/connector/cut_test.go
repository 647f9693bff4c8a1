package connector

import (
	"io"
	"math/rand/v2"
	"net/http"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
)

func TestCut(t *testing.T) {
	for text, want := range map[string][]any{
		"":                    {},
		"  bees  and honey  ": {"bees and", "honey"},
		"beekeepers":          {"beekeepe", "rs"},
		"a beekeepers b":      {"a", "beekeepe", "rs b"},
		"Örlöse-Ö a":          {"Örlöse-Ö", "a"},
	} {
		got, err := cut(text, 8)
		require.NoError(t, err)
		require.Equal(t, want, got, text)
	}
	_, err := cut("bees", 0)
	require.Error(t, err)
}

// TestNothingIsLostByCutting: no part is too long, and together they are the text.
func TestNothingIsLostByCutting(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 2))
	for range 2000 {
		var b strings.Builder
		for range rng.IntN(80) {
			b.WriteString([]string{"a", "bé", " ", "honey", "Ł", "  "}[rng.IntN(6)])
		}
		most := 1 + rng.Int64N(20)
		got, err := cut(b.String(), most)
		require.NoError(t, err)
		joined := ""
		for _, part := range got.([]any) {
			require.LessOrEqual(t, int64(utf8.RuneCountInString(part.(string))), most)
			require.NotEmpty(t, part)
			joined += part.(string)
		}
		require.Equal(t, strings.Join(strings.Fields(b.String()), ""), strings.ReplaceAll(joined, " ", ""))
	}
}

// TestLongTextsGoIntoShortElements: UN/EDIFACT D.96A has 70 letters for a free text (4440), 35 for a name (3036), a street (3042) and a
// description (7008).
func TestLongTextsGoIntoShortElements(t *testing.T) {
	long := "leave it at the shed behind the orchard, but not in the rain; the key hangs under the third hive from the left, ask for Maren"
	m := message.Request{Reference: "MH-Q1", Number: "Q1", OrderNumber: "R1", ChannelNumber: "S-1", Channel: "shop", Place: "gate",
		PlacedAt: time.Date(2026, 11, 23, 7, 27, 0, 0, time.UTC), Currency: "EUR", Note: long, GiftNote: long,
		To: place.Address{Name: "Society of the Beekeepers of Upper Harrowmere and Alderby",
			Street:   "Alley of the Old Lime Trees by the Mill 112 b",
			Postcode: "10115", Town: "Greywick", Country: "XW"},
		Lines: []message.RequestLine{{ID: "1", SKU: "J-1", OurSKU: "JAR",
			Title:    "Jars of 500 g with twist lids, tray of twelve, clear glass",
			Quantity: 2, Note: long}}}
	text, err := builtIn.ReadFile("definitions/fallowgate.yaml")
	require.NoError(t, err)
	var said strings.Builder
	l := dial(t, string(text), http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		said.Write(body)
		w.WriteHeader(http.StatusCreated)
	}), map[string]string{"user": "u", "password": "p"}, Token{Access: "token"})
	_, err = l.Send(t.Context(), message.RequestsOut, "ref-1", []any{m})
	require.NoError(t, err)
	most := map[string]int{"FTX": 70, "NAD": 35, "IMD": 35}
	found := map[string]string{}
	for _, segment := range strings.Split(said.String(), "'") {
		tag, rest, _ := strings.Cut(strings.TrimSpace(segment), "+")
		if most[tag] == 0 {
			continue
		}
		for _, part := range strings.FieldsFunc(rest, func(r rune) bool { return r == '+' || r == ':' }) {
			require.LessOrEqual(t, len(part), most[tag], segment)
			found[tag] += part + " "
		}
	}
	for _, word := range strings.Fields(long) {
		require.GreaterOrEqual(t, strings.Count(found["FTX"], word), 3, word)
	}
	for _, word := range append(strings.Fields(m.To.Name), strings.Fields(m.To.Street)...) {
		require.Contains(t, found["NAD"], word)
	}
	for _, word := range strings.Fields(m.Lines[0].Title) {
		require.Contains(t, found["IMD"], strings.TrimSuffix(word, "?"))
	}
}
