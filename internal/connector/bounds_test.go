package connector

import (
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAnExpressionIsBounded in time and memory, whatever it is made of.
func TestAnExpressionIsBounded(t *testing.T) {
	grow := `"aaaaaaaaaa"` + strings.Repeat(`.replace("a", "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa")`, 12)
	double := `[[1]]`
	for range 40 {
		double += `.map(x, [x, x])`
	}
	list := make([]any, 200)
	for i := range list {
		list[i] = int64(i)
	}
	vars := Vars{"body": map[string]any{"list": list, "text": strings.Repeat("word ", 20_000)}}
	eval := func(t *testing.T, text string) (any, error) {
		l, err := newLanguage(nil)
		require.NoError(t, err)
		e := Expr{Text: text}
		l.compile(&e, "x")
		require.Empty(t, l.mistakes)
		return e.eval(vars)
	}
	for name, text := range map[string]string{
		"a text that grows by each step":       grow + ` == ""`,
		"the same, limited":                    strings.ReplaceAll(grow, `")`, `", 1000000000)`) + ` == ""`,
		"a long text put into itself":          `body.text.replace("w", body.text).replace("w", body.text) == ""`,
		"lists that double":                    double,
		"lists that double, compared":          double + ` == ` + double,
		"lists that double, as a text":         `joined(` + double + `, "-")`,
		"lists that double, looked at by ours": `first(several(` + double + `)) == 1`,
		"loops in loops":                       `[1,2,3,4].map(a, body.list.map(b, body.list.map(c, body.list.map(d, d)))) == []`,
		"a long text split in each turn":       `body.list.map(a, body.list.map(b, words(body.text)[0])) == []`,
	} {
		t.Run(name, func(t *testing.T) {
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			_, err := eval(t, text)
			runtime.ReadMemStats(&after)
			require.Error(t, err)
			require.Less(t, (after.TotalAlloc-before.TotalAlloc)>>20, uint64(64), "megabytes")
		})
	}
	for text, expected := range map[string]any{
		`body.text.replace("word ", "-").size()`:                     int64(20_000),
		`"a-b-c".replace("-", "+", 1)`:                               "a+b-c",
		`"abc".replace("", "-")`:                                     "-a-b-c-",
		`"abc".replace("b", "", -1)`:                                 "ac",
		`body.list.map(a, body.list.filter(b, b == a)[0]).size()`:    int64(200),
		`joined(body.list.map(a, string(a)).filter(a, a < "2"), "")`: nil,
	} {
		t.Run(text, func(t *testing.T) {
			got, err := eval(t, text)
			require.NoError(t, err)
			if expected != nil {
				require.Equal(t, expected, got)
			}
		})
	}
	_, err := eval(t, `body.text.replace(body.missing, "")`)
	require.ErrorIs(t, err, errMissing)
}
