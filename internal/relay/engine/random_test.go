package engine_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/people"
)

func TestPasswords(t *testing.T) {
	h := people.HashPassword("honeycomb")
	require.True(t, people.PasswordFits(h, "honeycomb"))
	require.False(t, people.PasswordFits(h, "honeycomB"))
	require.False(t, people.PasswordFits("", "x"))
	require.False(t, people.PasswordFits("$argon2id$v=19$m=x$y$z", "x"))
	require.NotEqual(t, h, people.HashPassword("honeycomb"), "salted")
}

func TestDelayGrowsAndStaysBounded(t *testing.T) {
	for i := range 50 {
		require.Less(t, engine.Delay(1, fmt.Sprint(i)).Seconds(), 0.7)
		require.Greater(t, engine.Delay(4, fmt.Sprint(i)).Seconds(), 2.5)
		require.LessOrEqual(t, engine.Delay(12, fmt.Sprint(i)).Minutes(), 6.5)
	}
}
