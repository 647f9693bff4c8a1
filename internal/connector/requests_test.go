package connector

import (
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"

	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
)

// TestNothingOfARequestIsLost: the whole address, how the buyer is reached and what was wished for are in what every definition that ships
// writes to a partner; the e-mail address is not, as nobody there needs it. Letters that Latin-1 does not have lose their accents.
func TestNothingOfARequestIsLost(t *testing.T) {
	m := message.Request{Reference: "MH-Q1", Number: "Q1", OrderNumber: "R1", ChannelNumber: "S-1", Channel: "shop", Place: "gate",
		PlacedAt: time.Date(2026, 11, 23, 7, 27, 0, 0, time.UTC), Currency: "EUR", Note: "leave it at the shed",
		GiftNote: "for Björn's bees",
		To: place.Address{Name: "Łucja Tolland", Company: "Hive & Co", Street: "Skep Lane 4", Extra: "Staircase C", Postcode: "10115",
			Town: "Örlöse", Country: "XW", Phone: "0155 2010", Email: "lucja@example.org"},
		Lines: []message.RequestLine{{ID: "1", SKU: "J-1", OurSKU: "JAR", Title: "Jar", Quantity: 2, Note: "TWO BEES"}}}
	want := []string{"Łucja Tolland", "Hive & Co", "Skep Lane 4", "Staircase C", "10115", "Örlöse", "XW", "0155 2010",
		"leave it at the shed", "for Björn's bees", "J-1"}
	for _, name := range []string{"fallowgate", "fallowgate-tables", "scribe-and-slate", "tansy"} {
		t.Run(name, func(t *testing.T) {
			var said strings.Builder
			text, err := builtIn.ReadFile("definitions/" + name + ".yaml")
			require.NoError(t, err)
			l := dial(t, string(text), http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				body, _ := io.ReadAll(r.Body)
				said.WriteString(r.URL.Path + "\n")
				said.Write(body)
				w.Header().Set("Content-Type", r.Header.Get("Content-Type"))
				w.WriteHeader(http.StatusCreated)
			}), map[string]string{"user": "u", "password": "p", "account": "MH-77", "seller": "s"}, Token{Access: "token"})
			l.Site = "north"
			_, err = l.Send(t.Context(), message.RequestsOut, "ref-1", []any{m})
			require.NoError(t, err)
			got, lines := said.String(), want
			switch name {
			case "fallowgate":
				got, err = charmap.ISO8859_1.NewDecoder().String(got)
				got = strings.ReplaceAll(got, "?'", "'")
				lines = append([]string{"Lucja Tolland", "TWO BEES"}, want[1:]...)
			case "fallowgate-tables":
				lines = append([]string{"TWO BEES"}, want...)
			case "tansy":
				got = strings.ReplaceAll(got, `\u0026`, "&")
			case "scribe-and-slate":
				got, err = url.QueryUnescape(got)
				lines = append([]string{"TWO BEES"}, want...)
			}
			require.NoError(t, err)
			for _, text := range lines {
				require.Contains(t, got, text)
			}
			require.NotContains(t, got, "lucja@")
		})
	}
}

// TestNothingOfAnAddressIsLost: labels have both lines of an address and the company, and so has what comes back.
func TestNothingOfAnAddressIsLost(t *testing.T) {
	parcel := message.Parcel{Reference: "MH-P1", Service: "PX", WeightG: 500, LengthMM: 200, WidthMM: 100, HeightMM: 90, Payer: "sender",
		To: place.Address{Name: "Maren Tolland", Company: "Hive & Co", Street: "Skep Lane 4", Extra: "Staircase C", Postcode: "10115",
			Town: "Greywick", Country: "XW"},
		From: place.Address{Name: "Morrow Hive", Street: "Works Road 1", Extra: "Gate 7", Postcode: "20111", Town: "Osterby",
			Country: "XW"}}
	for name, want := range map[string][]string{"ironway": {"Hive & Co", "Skep Lane 4", "Staircase C"},
		"plover-post": {"Skep Lane 4, Staircase C", "Works Road 1, Gate 7"},
		"swift-heron": {"Hive & Co", "Skep Lane 4, Staircase C"}} {
		t.Run(name, func(t *testing.T) {
			text, err := builtIn.ReadFile("definitions/" + name + ".yaml")
			require.NoError(t, err)
			var said strings.Builder
			l := dial(t, string(text), http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				_, _ = io.Copy(&said, r.Body)
				w.WriteHeader(http.StatusConflict)
			}), map[string]string{"key": "k1234"}, Token{Access: "token"})
			_, err = l.Send(t.Context(), message.LabelsOut, "ref-1", []any{parcel})
			require.Error(t, err)
			got := strings.NewReplacer(`\u0026`, "&", "&amp;", "&").Replace(said.String())
			for _, text := range want {
				require.Contains(t, got, text, "%v", err)
			}
		})
	}
}
