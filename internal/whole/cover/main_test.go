package main

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestReport(t *testing.T) {
	var out bytes.Buffer
	require.NoError(t, report(strings.NewReader(`mode: set
x/a/one.go:1.1,2.2 3 0
x/a/one.go:4.1,5.2 1 1
x/b/two.go:1.1,2.2 2 0
x/b/two.go:1.1,2.2 2 4
`), &out))
	require.Equal(t, " 25.0 %  x/a\n100.0 %  x/b\n", out.String())
	require.ErrorContains(t, report(strings.NewReader("mode: set\nx/a/one.go:1.1,2.2 three 0\n"), &out), "line 2")
	require.ErrorContains(t, report(strings.NewReader("nothing\n"), &out), "a block and two numbers are expected")
}
