package store

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTheTimelineOfOneThing holds what happened to it alone, in its order, and of a long story the end.
func TestTheTimelineOfOneThing(t *testing.T) {
	s := open(t)
	company(t, s)
	addOrders(t, s, 2)
	var entries []Entry
	for i := range maxTimeline + 5 {
		entries = append(entries, Entry{At: int64(i), Who: "Edda", Thing: "item", ThingID: 1, What: "count", Text: fmt.Sprint(i)})
	}
	write(t, s, func(tx *Tx) error { return tx.Note(entries...) })
	story, err := s.Timeline(t.Context(), "item", 1)
	require.NoError(t, err)
	require.Len(t, story, maxTimeline)
	assert.Equal(t, "5", story[0].Text)
	assert.Equal(t, fmt.Sprint(maxTimeline+4), story[maxTimeline-1].Text)
	assert.Equal(t, "JAR", story[0].Name)
	of, err := s.Timeline(t.Context(), "order", 2)
	require.NoError(t, err)
	require.Len(t, of, 1)
	assert.Equal(t, "R2", of[0].Name)
}

// TestActivityIsNarrowed by who, thing and what happened, page by page, newest first.
func TestActivityIsNarrowed(t *testing.T) {
	s := open(t)
	company(t, s)
	addOrders(t, s, 5)
	write(t, s, func(tx *Tx) error {
		return tx.Note(Entry{Who: "Edda", Thing: "item", ThingID: 1, What: "count", Text: "10"},
			Entry{Who: "Joss", Thing: "connection", ThingID: 1, What: "paused"})
	})
	for _, c := range []struct {
		f    ActivityFilter
		want int
	}{
		{ActivityFilter{}, 7},
		{ActivityFilter{Who: "Edda"}, 1},
		{ActivityFilter{Thing: "order"}, 5},
		{ActivityFilter{Thing: "order", Who: "Edda"}, 0},
		{ActivityFilter{What: "paused"}, 1},
	} {
		c.f.Limit = 2
		n := 0
		for {
			page, err := s.Activity(t.Context(), c.f)
			require.NoError(t, err)
			for _, e := range page {
				assert.True(t, c.f.Before == 0 || e.ID < c.f.Before, "newest first, none twice")
				c.f.Before = e.ID
				n++
			}
			if len(page) < c.f.Limit {
				break
			}
		}
		assert.Equal(t, c.want, n, "%+v", c.f)
	}
}
