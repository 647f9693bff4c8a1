package connector

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
)

// asker is a carrier that is asked about each parcel; MORE is said of its reading, and FEED is the feed.
const asker = `
connector: asker
title: Asker
side: carrier
access: { way: key, fields: [ { name: key, label: Key, secret: true } ], steps: [ "Ask for a key." ], send: { X-Key: secret.key } }
calls: { identity: { request: { method: GET, path: /who }, map: { name: body.name, number: body.number } } }
format: { answer: xml }
feeds:
  FEED:
    id: item.asked.tracking + item.Code
    read: { each: parcels, MORE request: { method: GET, path: "/t/{msg.tracking}", query: { zip: msg.postcode } }, items: Event }
    map:
      tracking: item.asked.tracking
      state: '"accepted"'
      text: item.Text
      at: moment(item.At, "unix", "")
`

// TestWhatIsAskedAboutIsCheckedWhereItIsWritten.
func TestWhatIsAskedAboutIsCheckedWhereItIsWritten(t *testing.T) {
	for more, want := range map[string]string{"": "", "mark: item.At,": "next, mark, begin, detail and conditional have no meaning there",
		"conditional: true,": "have no meaning there"} {
		_, err := Load("asker.yaml", []byte(strings.NewReplacer("MORE", more, "FEED", "tracking in").Replace(asker)), nil)
		if want == "" {
			require.NoError(t, err)
			continue
		}
		require.ErrorContains(t, err, want)
	}
	_, err := Load("asker.yaml", []byte(strings.NewReplacer("MORE", "", "FEED", "dispatch in").Replace(asker)), nil)
	require.ErrorContains(t, err, "only of tracking in each parcel is asked about")
	other := strings.NewReplacer("MORE", "", "FEED", "tracking in", "msg.postcode", "msg.zip").Replace(asker)
	_, err = Load("asker.yaml", []byte(other), nil)
	require.ErrorContains(t, err, "zip", "a parcel on its way has no such field")
}

// TestEventsOfAParcelAreKeptWithItsNumber, whatever form the answer has, and are read again as they were kept.
func TestEventsOfAParcelAreKeptWithItsNumber(t *testing.T) {
	answers := map[string]string{
		"/t/A1": "<R><Event><Code>10</Code><Text>in</Text><At>1795420800</At></Event>" +
			"<Event><Code>20</Code><Text>out</Text></Event></R>",
		"/t/A2": "", "/t/A3": "<R><Event><Code>10</Code><At>1795420800</At></Event></R>"}
	def, err := Load("asker.yaml", []byte(strings.NewReplacer("MORE", "", "FEED", "tracking in").Replace(asker)), nil)
	require.NoError(t, err)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text := answers[r.URL.Path]
		if text == "" {
			w.WriteHeader(http.StatusNotFound)
			return
		}
		w.Header().Set("Content-Type", "application/xml")
		_, _ = w.Write([]byte(text))
	}))
	defer srv.Close()
	l, err := NewLine(def, LineOptions{Base: srv.URL, Login: NewLogin(def, map[string]string{"key": "k"}, Token{}),
		Client: http.DefaultClient})
	require.NoError(t, err)
	var kept []Record
	var asked []string
	to, err := l.Read(t.Context(), message.TrackingIn, Reading{
		About: func(int) ([]message.FollowedParcel, error) {
			return []message.FollowedParcel{{Tracking: "A1"}, {Tracking: "A2"}, {Tracking: "A3"}}, nil
		},
		Asked: func(p message.FollowedParcel) error { asked = append(asked, p.Tracking); return nil },
		Keep:  func(list []Record) error { kept = append(kept, list...); return nil }})
	require.NoError(t, err)
	require.Zero(t, to.Soon)
	require.Equal(t, []string{"A1", "A2", "A3"}, asked)
	require.Len(t, kept, 3)
	require.Equal(t, "A110", kept[0].ID)
	require.Equal(t, int64(1), kept[0].Version)
	got, err := l.Map(message.TrackingIn, "poll", kept[0].Raw)
	require.NoError(t, err)
	require.Equal(t, "A1", got.(*message.Tracking).Tracking)
	require.Equal(t, "in", got.(*message.Tracking).Text)
}
