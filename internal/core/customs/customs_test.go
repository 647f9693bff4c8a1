package customs

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhichBordersAreCrossed(t *testing.T) {
	alone, union := Declarant{}, Declarant{Area: []string{"XW", "XE"}}
	require.True(t, alone.Crosses("XW", "XE"))
	require.False(t, alone.Crosses("XW", "XW"))
	require.False(t, alone.Crosses("", "XE"), "from where is not known")
	require.False(t, union.Crosses("XW", "XE"))
	require.True(t, union.Crosses("XW", "XN"))
}

func TestWhatIsMissingIsNamed(t *testing.T) {
	d := Declaration{Lines: []Line{{SKU: "JAR", Code: "701090", Origin: "XW", Quantity: 2, Value: 900, WeightG: 700},
		{SKU: "LID", Origin: "XW", Value: 50}, {SKU: "BOOK", Value: 1200, WeightG: 400}}}
	require.Equal(t, "no customs code: LID, BOOK; no country of origin: BOOK; no weight: LID", d.Lacks())
	d.Sum()
	require.Equal(t, []int64{2150, 1100}, []int64{d.Value, d.WeightG})
	require.Empty(t, (&Declaration{Lines: d.Lines[:1]}).Lacks())
}

// TestPartsAddUp, whatever is divided.
func TestPartsAddUp(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	for range 2000 {
		weights := make([]int64, 1+rng.IntN(6))
		for i := range weights {
			weights[i] = rng.Int64N(3) * rng.Int64N(5000)
		}
		total, sum := rng.Int64N(100_000), int64(0)
		for i, x := range Share(total, weights) {
			require.GreaterOrEqual(t, x, int64(0), i)
			sum += x
		}
		require.Equal(t, total, sum, weights)
	}
	require.Equal(t, []int64{33, 33, 34}, Share(100, []int64{0, 0, 0}))
}

func TestADeclarantIsChecked(t *testing.T) {
	ok := Declarant{Sender: " skep ", Area: []string{"xw"}, Reason: "sale", Terms: "DAP"}
	require.NoError(t, ok.Check())
	require.Equal(t, []string{"XW"}, ok.Area)
	for _, wrong := range []Declarant{{Reason: "fun", Terms: "DAP"}, {Reason: "sale", Terms: "XYZ"}, {Reason: "sale", Terms: "DAP",
		Area: []string{"Westmark"}}} {
		require.Error(t, wrong.Check())
	}
	rows := []Declarant{{Reason: "gift", Terms: "DDP"}, {Sender: "skep", Reason: "sale", Terms: "DAP"}}
	require.Equal(t, "sale", Of(rows, "skep").Reason)
	require.Equal(t, "gift", Of(rows, "hive").Reason)
	require.Equal(t, Usual, Of(nil, ""))
}
