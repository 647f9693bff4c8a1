package shipping_test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/trial"
	"openrelay/internal/setup"
	"openrelay/internal/store"
)

// depot tells of parcels by files: a line for each event, with its own words and the clocks of its place.
const depot = `
connector: depot
title: Depot
side: carrier
access: { way: files }
format: { answer: csv, separator: ";" }
tables:
  way: { L1: accepted, L4: under way, L9: delivered, "*": problem }
feeds:
  tracking in:
    id: item.number + item.code + item.when
    read: { every: 1s, files: { folder: out, name: "*.csv", settled: 0s } }
    map:
      tracking: item.number
      state: lookup("way", item.code)
      text: item.words
      place: item.depot
      at: moment(item.when, "dd.MM.yyyy HH:mm", "Europe/Paris")
`

// TestEventsComeFromAFile: each line is an event, in whatever order; a line about nobody's parcel stops none of the others, and the same
// file laid down again moves nothing.
func TestEventsComeFromAFile(t *testing.T) {
	k := trial.New(t, "ann")
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "out"), 0o755))
	_, err := k.ApplySetup(t.Context(), setup.Setup{Version: 1, Connectors: []string{depot}, Connections: []setup.Connection{
		{Code: "depot", Connector: "depot", Name: "The depot", Address: dir,
			Feeds: map[message.Feed]setup.Feed{message.TrackingIn: {On: true}}}}}, nil, "Edda")
	require.NoError(t, err)
	lay := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "out", name), []byte(text), 0o644))
		k.Run(k.ByCode("depot"), engine.RunRequest{Kind: message.TrackingIn, Cause: "schedule"})
		k.Later(2 * time.Second)
		k.Settle()
	}
	k.Stock(9, "JAR")
	k.Sell("S-1", trial.Units("JAR", 1))
	p := k.Packed("S-1")
	require.NoError(t, k.Label(p, "ann"))
	number := k.ParcelOf(p).Tracking
	k.Later(30 * time.Hour)
	const head = "number;code;when;words;depot\n"
	lay("monday.csv", head+fmt.Sprintf("%s;L4;23.11.2026 18:30;sorted;Greywick\nXX999;L9;23.11.2026 19:00;handed over;Alderby\n"+
		"%s;L1;23.11.2026 17:05;taken in;Alderby\n", number, number))

	events, err := k.Store.ParcelEvents(t.Context(), k.ParcelOf(p).ID)
	require.NoError(t, err)
	require.Len(t, events, 2)
	require.Equal(t, "under way", k.ParcelOf(p).Journey)
	require.Equal(t, time.Date(2026, 11, 23, 17, 30, 0, 0, time.UTC), store.Time(k.ParcelOf(p).JourneyAt).UTC(), "on the depot's clocks")
	lay("again.csv", head+fmt.Sprintf("%s;L1;23.11.2026 17:05;taken in;Alderby\n%s;L9;24.11.2026 09:10;handed over;Harrowmere\n",
		number, number))
	require.Equal(t, store.Arrived, k.ParcelOf(p).State)
	require.Equal(t, "delivered", k.Stage("S-1"))
	events, err = k.Store.ParcelEvents(t.Context(), k.ParcelOf(p).ID)
	require.NoError(t, err)
	require.Len(t, events, 3)
	require.Equal(t, "Harrowmere", events[2].Place)
	k.Holds()
}
