package request

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func asked(state State, units ...int64) *Request {
	r := &Request{Number: "Q1", State: state}
	for i, n := range units {
		r.Lines = append(r.Lines, Line{LineID: int64(i + 1), ItemID: int64(i + 11), SKU: string(rune('A' + i)), Units: n})
	}
	return r
}

// TestHear: what follows from what a partner says.
func TestHear(t *testing.T) {
	for _, c := range []struct {
		name  string
		r     *Request
		say   News
		state State
		freed map[int64]int64
		is    Trouble
		text  string
	}{
		{name: "acknowledged", r: asked(Asked, 2), say: News{Says: SaysAcknowledged, Expected: "2026-12-01"}, state: Acknowledged,
			text: "acknowledged, to be sent on 2026-12-01"},
		{name: "acknowledged twice", r: asked(Acknowledged, 2), say: News{Says: SaysAcknowledged}, state: Acknowledged},
		{name: "acknowledged too late", r: asked(CalledOff), say: News{Says: SaysAcknowledged}, state: CalledOff, is: Late,
			text: "acknowledged, although it was called off"},
		{name: "acknowledged while being called off", r: asked(Stopping, 1), say: News{Says: SaysAcknowledged, TheirID: "7"},
			state: Stopping, text: "acknowledged again"},
		{name: "less of one line", r: asked(Acknowledged, 3, 1), state: Acknowledged,
			say: News{Says: SaysChanged, Lines: []NewsLine{{"a", 1}}, Reason: " short \n of it "}, freed: map[int64]int64{1: 2},
			text: "changed: 2 × A less: short of it"},
		{name: "nothing of any line", r: asked(Asked, 3), state: Refused, say: News{Says: SaysChanged, Lines: []NewsLine{{"A", 0}}},
			freed: map[int64]int64{1: 3}, text: "changed: 3 × A less"},
		{name: "more than was asked for", r: asked(Asked, 3), state: Acknowledged, is: TooMuch,
			say: News{Says: SaysChanged, Lines: []NewsLine{{"A", 5}}}, text: "changed: 2 × A more than was asked for"},
		{name: "what was not asked for", r: asked(Asked, 3), state: Acknowledged, is: NotAsked,
			say: News{Says: SaysChanged, Lines: []NewsLine{{"Z", 1}}}, text: "changed: 1 × Z, which was not asked for"},
		{name: "refused", r: asked(Asked, 3, 1), say: News{Says: SaysRefused, Reason: "no trays"}, state: Refused,
			freed: map[int64]int64{1: 3, 2: 1}, text: "refused: no trays"},
		{name: "refused after the end", r: asked(Sent), say: News{Says: SaysRefused}, state: Sent, is: AfterAll,
			text: "refused, although it was sent"},
		{name: "one item is unknown", r: asked(Asked, 3, 1), say: News{Says: SaysUnknown, Lines: []NewsLine{{SKU: "B"}}}, state: Waits,
			is: UnknownFor, text: "does not know B"},
		{name: "called off in time", r: asked(Stopping, 3), say: News{Says: SaysCalledOff}, state: CalledOff,
			freed: map[int64]int64{1: 3}, text: "called off"},
		{name: "not called off", r: asked(Stopping, 3), say: News{Says: SaysNotCalledOff, Reason: "on the van"}, state: Acknowledged,
			is: TooLate, text: "not called off any more: on the van"},
		{name: "a word that nobody knows", r: asked(Asked, 1), say: News{Says: "hm"}, state: Asked, is: NotAsked,
			text: `said "hm", which means nothing here`},
	} {
		t.Run(c.name, func(t *testing.T) {
			e := c.r.Hear(c.say)
			require.Equal(t, c.text, e.Text)
			require.Equal(t, c.state, c.r.State)
			require.Equal(t, c.is, e.Trouble)
			if len(c.freed) > 0 || len(e.Freed) > 0 {
				require.Equal(t, c.freed, e.Freed)
			}
		})
	}
}

// TestWhatLeaves: parts, all, more than was asked for, and a parcel that had not left after all.
func TestWhatLeaves(t *testing.T) {
	r := asked(Acknowledged, 3, 1)
	require.Empty(t, r.SetSent(map[int64]int64{1: 2}))
	require.Equal(t, PartSent, r.State)
	e := r.Hear(News{Says: SaysClosed})
	require.Equal(t, Sent, r.State)
	require.Equal(t, map[int64]int64{1: 1, 2: 1}, e.Freed)
	require.Equal(t, "the rest is not sent", e.Text)

	require.Equal(t, map[int64]int64{1: 1}, r.SetSent(map[int64]int64{1: 4, 2: 1}), "one more than was asked for")
	require.Equal(t, Sent, r.State)
	require.Zero(t, r.Lines[0].Refused, "what was not to be sent has left")

	r.SetSent(nil)
	require.Equal(t, Acknowledged, r.State)
	require.EqualValues(t, 4, r.Open())
}

// TestStop: what never went out is called off at once; of the rest the partner is asked.
func TestStop(t *testing.T) {
	r := asked(Waits, 2)
	require.False(t, r.Stop("no longer wanted"))
	require.Equal(t, CalledOff, r.State)

	r = asked(Acknowledged, 2)
	require.True(t, r.TooMany(map[int64]int64{1: 1}))
	require.False(t, r.TooMany(map[int64]int64{1: 2}))
	require.True(t, r.Stop("no longer wanted"))
	require.False(t, r.Stop("again"))
	r.SetSent(map[int64]int64{1: 1})
	require.Equal(t, Stopping, r.State, "a part left before the answer")
	r.SetSent(map[int64]int64{1: 2})
	require.Equal(t, Sent, r.State, "all of it left before the answer")
}

// TestWhateverIsSaid no unit is counted twice or lost, and what has ended is not open.
func TestWhateverIsSaid(t *testing.T) {
	rnd := rand.New(rand.NewPCG(16, 5))
	for range 20_000 {
		r := asked(Asked, 1+rnd.Int64N(4), 1+rnd.Int64N(3))
		left := map[int64]int64{}
		for range 1 + rnd.IntN(8) {
			before := r.Open()
			switch rnd.IntN(4) {
			case 0:
				r.Stop("x")
			case 1:
				for i := range r.Lines {
					left[r.Lines[i].LineID] = max(0, left[r.Lines[i].LineID]+rnd.Int64N(4)-1)
				}
				r.SetSent(left)
			default:
				e := r.Hear(News{Says: Words[rnd.IntN(len(Words))], Lines: []NewsLine{{"A", rnd.Int64N(5)}}})
				var freed int64
				for _, n := range e.Freed {
					freed += n
				}
				require.Equal(t, before-freed, r.Open(), "what is planned anew is what is not open any more: %+v", e)
			}
			for _, l := range r.Lines {
				require.GreaterOrEqual(t, l.Open(), int64(0))
				require.GreaterOrEqual(t, min(l.Sent, l.Refused, l.CalledOff), int64(0))
			}
			require.Equal(t, r.State.Ended(), r.Open() == 0, "%+v", r)
			if r.State == Sent {
				require.Positive(t, r.sent())
			}
		}
	}
}

// TestTidy: no system stumbles over spaces, breaks or what cannot be printed.
func TestTidy(t *testing.T) {
	for in, out := range map[string]string{"  Maren\t Tolland \n": "Maren Tolland", "Linden\u00a0row\u200b 14": "Linden row 14", "\x00": "",
		"Ährenweg": "Ährenweg"} {
		require.Equal(t, out, Tidy(in))
	}
}

func FuzzTidy(f *testing.F) {
	f.Add(" a  b\n")
	f.Fuzz(func(t *testing.T, s string) {
		once := Tidy(s)
		require.Equal(t, once, Tidy(once))
		require.LessOrEqual(t, len(once), max(len(s), 3*len(s)))
		require.NotContains(t, once, "  ")
	})
}

// TestTerms: what a partner asks, what is near enough, and when a request is looked at.
func TestTerms(t *testing.T) {
	terms := Terms{Order: 150, Line: 20, Unit: 5, Parcel: 90, Tolerance: 10}
	r := asked(Acknowledged, 3, 1, 2)
	require.Zero(t, terms.Cost(r, 0), "nothing has left")
	r.SetSent(map[int64]int64{1: 3, 2: 1})
	require.EqualValues(t, 150+2*20+4*5+2*90, terms.Cost(r, 2))
	require.True(t, terms.Agrees(390, 351))
	require.False(t, terms.Agrees(390, 350))
	require.False(t, terms.Agrees(0, 1), "nothing was agreed")

	at := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	require.Equal(t, at.Add(24*time.Hour), terms.LookAt(Asked, at))
	require.Equal(t, at.Add(72*time.Hour), terms.LookAt(PartSent, at))
	require.True(t, terms.LookAt(Sent, at).IsZero())
	terms.Within = 2
	require.Equal(t, at.Add(2*time.Hour), terms.LookAt(Stopping, at))

	for _, bad := range []Terms{{Currency: "euro"}, {Items: "all"}, {Within: -1}, {Sends: 9000}, {Unit: -1}, {Tolerance: 101}} {
		require.Error(t, bad.Check(), "%+v", bad)
	}
	good := Terms{Currency: " eur ", Items: OurNames}
	require.NoError(t, good.Check())
	require.Equal(t, "EUR", good.Currency)
}
