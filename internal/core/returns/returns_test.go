package returns_test

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/returns"
	"openrelay/internal/core/stock"
)

const (
	jar, lid, honey = 1, 2, 3
	jars, kits      = 11, 12 // lines
)

// sold is an order of 4 jars and 2 kits of a jar and two lids; all but one jar have left.
func sold() *order.Order {
	return &order.Order{Number: "R1", Record: message.Order{PricesIncludeTax: true, Shipping: 490, Discount: 500, Tax: 700, Total: 6990},
		Lines: []order.Line{
			{ID: jars, SKU: "JAR", ItemID: jar, Quantity: 4, Shipped: 3, Total: 4000, Tax: 400},
			{ID: kits, SKU: "KIT", ItemID: 9, Parts: []stock.Component{{Item: jar, Quantity: 1}, {Item: lid, Quantity: 2}}, Quantity: 2,
				Shipped: 2, Total: 3000, Tax: 300},
			{ID: 13, SKU: "WRAP", Charge: true, Quantity: 1, Shipped: 1}}}
}

func announced() *returns.Return { return &returns.Return{State: returns.Announced} }

func TestNoMoreComesBackThanLeft(t *testing.T) {
	o := sold()
	r := announced()
	require.ErrorContains(t, r.Announce(o, nil, map[int64]int64{jars: 4}), "3 × JAR of order R1 may come back, not 4")
	require.ErrorContains(t, r.Announce(o, nil, map[int64]int64{13: 1}), "WRAP of order R1 has not left")
	require.ErrorContains(t, r.Announce(o, nil, map[int64]int64{99: 1}), "has no 1 of line 99")
	require.Empty(t, r.Lines)
	require.NoError(t, r.Announce(o, nil, map[int64]int64{jars: 2}))

	other := announced()
	require.ErrorContains(t, other.Announce(o, []returns.Return{*r}, map[int64]int64{jars: 2}), "1 × JAR")
	require.NoError(t, other.Take(o, []returns.Return{*r}, jar, 1, returns.ToStock))
	require.NoError(t, other.Take(o, []returns.Return{*r}, jar, 2, returns.ToLook), "the jars of the kits")
	require.ErrorIs(t, other.Take(o, []returns.Return{*r}, jar, 1, returns.ToStock), returns.ErrState, "two more are announced elsewhere")
	require.ErrorIs(t, other.Take(o, nil, honey, 1, returns.ToStock), returns.ErrState)
	r.State = returns.CalledOff
	require.NoError(t, other.Take(o, []returns.Return{*r}, jar, 2, returns.WrittenOff), "they will not come")
	require.EqualValues(t, 5, other.Came())
	require.ErrorIs(t, r.Take(o, nil, jar, 1, returns.ToStock), returns.ErrState)
}

func TestWhatBecameOfItIsChanged(t *testing.T) {
	o := sold()
	r := announced()
	require.ErrorIs(t, r.Move(jar, 1, returns.ToLook, returns.ToStock), returns.ErrState, "nothing is here")
	require.NoError(t, r.Take(o, nil, jar, 4, returns.ToLook))
	require.NoError(t, r.Move(jar, 3, returns.ToLook, returns.ToStock))
	require.ErrorContains(t, r.Move(jar, 2, returns.ToLook, returns.WrittenOff), "1 of it are look, not 2")
	require.NoError(t, r.Move(jar, 1, returns.ToLook, returns.WrittenOff))
	var to returns.Line
	for _, l := range r.Lines {
		to.Stock, to.Look, to.Off = to.Stock+l.Stock, to.Look+l.Look, to.Off+l.Off
	}
	require.Equal(t, returns.Line{Stock: 3, Off: 1}, to)
	require.NoError(t, r.Move(jar, 1, returns.WrittenOff, ""))
	require.Equal(t, returns.Arrived, r.State)
	require.NoError(t, r.Move(jar, 3, returns.ToStock, ""))
	require.Equal(t, returns.Announced, r.State, "nothing came after all")
}

func TestARefundIsAShareOfWhatWasPaid(t *testing.T) {
	o := sold()
	r := announced()
	require.NoError(t, r.Take(o, nil, jar, 1, returns.ToStock))
	got := returns.Propose(o, r, nil, 0)
	// 4000 less 4/7 of the discount of 500 is 3714; a quarter of it, and of its tax of 400 less 400·286/4000.
	assert.Equal(t, []returns.RefundLine{{LineID: jars, SKU: "JAR", Quantity: 1, Amount: 929, Tax: 93}}, got.Lines)
	assert.Equal(t, []int64{929, 0, 93, 929}, []int64{got.Goods, got.Shipping, got.Tax, got.Total})

	parts := announced()
	require.NoError(t, parts.Take(o, []returns.Return{*r}, lid, 1, returns.ToStock))
	got = returns.Propose(o, parts, []returns.Return{*r}, 929)
	assert.True(t, got.Parts)
	assert.Zero(t, got.Total)

	o.Lines[0].Shipped = 4
	rest := announced()
	require.NoError(t, rest.Take(o, []returns.Return{*r, *parts}, jar, 5, returns.ToStock))
	require.NoError(t, rest.Take(o, []returns.Return{*r, *parts}, lid, 3, returns.ToLook))
	got = returns.Propose(o, rest, []returns.Return{*r, *parts}, 929)
	assert.Equal(t, int64(490), got.Shipping, "all is back")
	assert.Equal(t, int64(6990), got.Total+929)
	assert.Equal(t, int64(5), returns.Propose(o, rest, []returns.Return{*r, *parts}, 6985).Total, "never more than was paid")
}

// TestRefundsAddUp: however an order comes back, in whatever order, its refunds are together what was paid; nothing is shared
// out twice or lost by rounding.
func TestRefundsAddUp(t *testing.T) {
	rng := rand.New(rand.NewPCG(11, 29))
	for range 400 {
		o := &order.Order{Number: "R1", Record: message.Order{PricesIncludeTax: rng.IntN(2) == 0, Shipping: rng.Int64N(900)}}
		for i := range 1 + rng.IntN(4) {
			l := order.Line{ID: int64(i + 1), ItemID: int64(i + 1), Quantity: 1 + rng.Int64N(7)}
			l.Shipped = l.Quantity
			l.Total, l.Tax = rng.Int64N(9999), rng.Int64N(999)
			o.Lines = append(o.Lines, l)
			o.Record.Total += l.Total
			o.Record.Tax += l.Tax
			if !o.Record.PricesIncludeTax {
				o.Record.Total += l.Tax
			}
		}
		o.Record.Discount = rng.Int64N(o.Record.Total/4 + 1)
		o.Record.Total += o.Record.Shipping - o.Record.Discount
		var done []returns.Return
		var refunded, tax int64
		for {
			r := announced()
			for _, l := range returns.Sent(o) {
				left := returns.Left(o, done)[returns.Key{Line: l.LineID, Item: l.ItemID}]
				if n := min(rng.Int64N(4), left); n > 0 {
					require.NoError(t, r.Take(o, done, l.ItemID, n, returns.Outcomes[rng.IntN(3)]))
				}
			}
			if r.Came() == 0 && len(done) > 0 {
				over := true
				for _, n := range returns.Left(o, done) {
					over = over && n == 0
				}
				if over {
					break
				}
				continue
			}
			got := returns.Propose(o, r, done, refunded)
			require.GreaterOrEqual(t, got.Total, int64(0))
			refunded += got.Total
			tax += got.Tax
			r.State = returns.Settled
			done = append(done, *r)
		}
		require.InDelta(t, o.Record.Total, refunded, float64(len(o.Lines)), "but for a minor unit a line of the discount")
		require.LessOrEqual(t, refunded, o.Record.Total)
	}
}
