package gs1

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestKnownNumbers(t *testing.T) {
	// Worked examples of the GS1 General Specifications and of UPU S10.
	require.True(t, ValidGTIN("6291041500213"))
	require.False(t, ValidGTIN("6291041500214"))
	require.True(t, ValidGTIN("96385074"))
	require.False(t, ValidGTIN("629104150021"), "a GTIN-12 has its own check digit")
	require.False(t, ValidGTIN("62910415002a3"))
	require.True(t, ValidSSCC("106141412345678908"))
	require.True(t, ValidS10("RB123456785GB"))
	require.False(t, ValidS10("RB123456784GB"))
	require.False(t, ValidS10("rb123456785GB"))
}

func TestMadeNumbersAreValid(t *testing.T) {
	for serial := range uint64(2000) {
		sscc, err := SSCC(int(serial%10), "2000000", serial*7919)
		require.NoError(t, err)
		require.True(t, ValidSSCC(sscc), sscc)
		s10, err := S10("CP", uint32(serial*40_001), "XW")
		require.NoError(t, err)
		require.True(t, ValidS10(s10), s10)
		// Any single digit changed is noticed by the GS1 check digit.
		wrong := []byte(sscc)
		at := int(serial) % 18
		wrong[at] = '0' + (wrong[at]-'0'+1)%10
		require.False(t, ValidSSCC(string(wrong)), "%s from %s", wrong, sscc)
	}
}

func TestRefusesWhatDoesNotFit(t *testing.T) {
	for _, c := range []struct {
		ext    int
		prefix string
		serial uint64
	}{{10, "2000000", 1}, {0, "20000x0", 1}, {0, "2000000", 10_000_000_000}, {0, "1234567890123456", 1}} {
		_, err := SSCC(c.ext, c.prefix, c.serial)
		require.Error(t, err, c)
	}
	_, err := S10("C1", 5, "XW")
	require.Error(t, err)
	_, err = S10("CP", 123_456_789, "XW")
	require.Error(t, err)
}
