package gs1

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestElementsOfSymbols(t *testing.T) {
	const fnc1 = "\x1d"
	jar := Elements{GTIN: "02007100010524", Serial: "A7-9", Count: 0}
	for text, want := range map[string]Elements{
		"]C10102007100010524" + "21A7-9":               jar,
		"]d2010200710001052421A7-9":                    jar,
		"(01)02007100010524(21)A7-9":                   jar,
		"010200710001052421A7-9":                       jar,
		"]C1" + fnc1 + "010200710001052421A7-9" + fnc1: jar,
		"]C1010200710001052410LOT1" + fnc1 + "21A7-9":  {GTIN: jar.GTIN, Batch: "LOT1", Serial: "A7-9"},
		"]C1010200710001052417261231" + "3012":         {GTIN: jar.GTIN, Count: 12},
		"]C102020071000105243724":                      {GTIN: jar.GTIN, Count: 24},
		"]C13102001250" + "0102007100010524":           {GTIN: jar.GTIN},
		"]d2240PART" + fnc1 + "0102007100010524":       {GTIN: jar.GTIN},
		"]C100106141411234567897":                      {SSCC: "106141411234567897"},
	} {
		got, ok, err := ParseElements(text)
		require.NoError(t, err, text)
		require.True(t, ok, text)
		require.Equal(t, want, got, text)
	}
	for _, plain := range []string{"", "JAR-500-T12", "2007100010524", "A-02-2", "O10001", "0102007100010529", "(the shelf"} {
		_, ok, err := ParseElements(plain)
		require.False(t, ok, plain)
		if !strings.HasPrefix(plain, "(") {
			require.NoError(t, err, plain)
		}
	}
	for text, why := range map[string]string{
		"]C10102007100010529": "is no GTIN", "]C101020071": "too short", "]C1XX": "no application identifier",
		"]C1010200710001052430x": "is no count", "(01)": "is empty", "]C100106141411234567890": "is no SSCC",
		"(1)5": "no application identifier",
	} {
		_, ok, err := ParseElements(text)
		require.False(t, ok, text)
		require.ErrorContains(t, err, why, text)
	}
	require.True(t, SameGTIN("02007100010524", "2007100010524"))
	require.False(t, SameGTIN("", ""))
	require.False(t, SameGTIN("2007100010524", "2007100010531"))
}

func FuzzParseElements(f *testing.F) {
	for _, s := range []string{"]C1010200710001052421A7", "(01)02007100010524(21)A", "]d2240P\x1d0102007100010524", "]C1", "()("} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		e, ok, err := ParseElements(text)
		if ok {
			require.NoError(t, err)
			require.True(t, e.GTIN == "" || ValidGTIN(e.GTIN))
			require.True(t, e.SSCC == "" || ValidSSCC(e.SSCC))
			require.GreaterOrEqual(t, e.Count, int64(0))
		}
	})
}
