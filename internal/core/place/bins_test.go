package place

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestBinsByListAndPattern(t *testing.T) {
	for text, want := range map[string]string{
		"A-1\n  B-2  \n\n":       "A-1 B-2",
		"A-[09-11]":              "A-09 A-10 A-11",
		"A-[9-11]":               "A-9 A-10 A-11",
		"[A-C]-[1-2]":            "A-1 A-2 B-1 B-2 C-1 C-2",
		"floor\n[A-B]-[01-02]-x": "floor A-01-x A-02-x B-01-x B-02-x",
		"":                       "",
	} {
		list, err := Bins(text)
		require.NoError(t, err, text)
		require.Equal(t, want, strings.Join(list, " "), text)
	}
}

func TestBinsThatCannotBe(t *testing.T) {
	for text, want := range map[string]string{
		"A-1\nA-1":                   "line 2: bin A-1 stands there twice",
		"A-[1-2":                     "[ without its ]",
		"A-1]":                       "] without its [",
		"A-[x]":                      "from and to are expected",
		"A-[5-1]":                    "from and to are expected",
		"A-[C-A]":                    "from and to are expected",
		"[1-200]-[1-200]":            "at most 20000 bins",
		"[1-999999999]":              "from and to are expected",
		strings.Repeat("x", 41):      "1 to 40 characters",
		"[1-2][1-2][1-2]\n[111-112]": "stands there twice",
	} {
		_, err := Bins(text)
		require.ErrorContains(t, err, want, text)
	}
}

// FuzzBins: whatever is written, there are never more bins than a place may have, each once, and none is empty.
func FuzzBins(f *testing.F) {
	for _, text := range []string{"A-[01-12]-[1-5]", "a\nb", "[[", "]", "[A-Z][A-Z][A-Z][A-Z]", "[1-1]"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		list, err := Bins(text)
		if err != nil {
			return
		}
		require.LessOrEqual(t, len(list), maxBins)
		seen := map[string]bool{}
		for _, bin := range list {
			require.NotEmpty(t, bin)
			require.False(t, seen[bin])
			seen[bin] = true
		}
		again, err := Bins(strings.Join(list, "\n"))
		if !strings.ContainsAny(fmt.Sprint(list), "[]") || err == nil {
			require.NoError(t, err)
			require.Equal(t, list, again)
		}
	})
}
