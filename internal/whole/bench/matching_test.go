package main

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestSuggestionsAreGood holds what matching is measured by: who looks at suggestions must be able to trust
// them.
func TestSuggestionsAreGood(t *testing.T) {
	q, err := judge(false)
	require.NoError(t, err)
	require.GreaterOrEqual(t, q.listings, 300)
	for _, w := range q.wrong {
		t.Log("wrong ", w)
	}
	for _, m := range q.missed {
		t.Log("missed", m)
	}
	t.Logf("precision %.3f, recall %.3f", q.precision, q.recall)
	require.GreaterOrEqual(t, q.precision, 0.98)
	require.GreaterOrEqual(t, q.recall, 0.80)
}
