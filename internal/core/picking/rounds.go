package picking

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
)

// Candidate is something that may be picked in a round: where in the walk it has to be collected. Stops are positions in the walk
// through the place, in any order.
type Candidate struct {
	ID    int64
	Stops []int64
}

// Choose picks those of a list that are best collected in one walk with the first of it, at most so many, by their places in the
// list. The list is in the order of urgency: the first is always among them; each further one is the one that adds the least way
// to what is walked already, and of equal ones the more urgent.
func Choose(list []Candidate, slots int) []int {
	if len(list) == 0 || slots < 1 {
		return nil
	}
	near := make([][]int64, len(list)) // how far each stop is from the nearest that is walked already
	for i := range list {
		near[i] = make([]int64, len(list[i].Stops))
		for k := range near[i] {
			near[i][k] = math.MaxInt64
		}
	}
	chosen, taken := []int{}, make([]bool, len(list))
	next := 0
	for len(chosen) < min(slots, len(list)) {
		chosen = append(chosen, next)
		taken[next] = true
		added := list[next].Stops
		best, least := -1, int64(math.MaxInt64)
		for i := range list {
			if taken[i] {
				continue
			}
			var way int64
			for k, at := range list[i].Stops {
				for _, a := range added {
					near[i][k] = min(near[i][k], max(at-a, a-at))
				}
				way = plus(way, near[i][k])
			}
			if best < 0 || way < least {
				best, least = i, way
			}
		}
		next = best
	}
	slices.Sort(chosen)
	return chosen
}

// plus adds without running over.
func plus(a, b int64) int64 {
	if a > math.MaxInt64-b {
		return math.MaxInt64
	}
	return a + b
}

// Slot is a place on the cart, and what is collected into it.
type Slot struct {
	Number int
	Wants  []Want
}

// Share is what a slot takes of an item.
type Share struct {
	Slot     int   `json:"slot"`
	Quantity int64 `json:"quantity"`
	Picked   int64 `json:"picked"`
}

// Left is what is still to be put into the slot.
func (s Share) Left() int64 { return s.Quantity - s.Picked }

// Stop is an item that is collected in a round, once for all the slots that take it.
type Stop struct {
	Want
	Slots []Share `json:"slots"`
}

// Stops lists what is collected in a round, each item once, in the order of the walk. walk says where bins stand in it; those that
// it does not name come last, by name.
func Stops(slots []Slot, walk map[string]int64) []Stop {
	var out []Stop
	at := map[int64]int{}
	for _, s := range slots {
		for _, w := range s.Wants {
			i, known := at[w.ItemID]
			if !known {
				i = len(out)
				at[w.ItemID] = i
				x := w
				x.LineID, x.Quantity, x.Picked, x.Packed, x.KitSKU = 0, 0, 0, 0, ""
				out = append(out, Stop{Want: x})
			}
			out[i].Quantity += w.Quantity
			out[i].Picked += w.Picked
			out[i].Packed += w.Packed
			out[i].Slots = append(out[i].Slots, Share{s.Number, w.Quantity, w.Picked})
		}
	}
	stands := func(bin string) int64 {
		if n, ok := walk[bin]; ok {
			return n
		}
		return math.MaxInt64
	}
	slices.SortStableFunc(out, func(a, b Stop) int {
		return cmp.Or(cmp.Compare(stands(a.Bin), stands(b.Bin)), strings.Compare(a.Bin, b.Bin))
	})
	return out
}

// RoundOutcome is what a scan in a round did: into which slots the units go.
type RoundOutcome struct {
	Outcome
	Puts []Put `json:"puts,omitempty"`
}

// Put is units that go into a slot.
type Put struct {
	Slot     int   `json:"slot"`
	Quantity int64 `json:"quantity"`
}

// ScanRound decides about one code that was scanned in a round. Units go into the first slots that take them; slot (0: any) says
// into which alone.
func ScanRound(number string, stops []Stop, code, bin string, qty int64, slot int) (RoundOutcome, error) {
	wants := make([]Want, len(stops))
	for i, s := range stops {
		wants[i] = s.Want
	}
	got, err := Scan(number, wants, code, bin, qty)
	var no *Refusal
	if errors.As(err, &no) {
		no.Read = strings.Replace(no.Read, "of order "+number, "of round "+number, 1)
	}
	if got.Kind == "order" {
		got.Text = "Round " + number
	}
	if err != nil || got.Kind != "product" {
		return RoundOutcome{Outcome: got}, err
	}
	out := RoundOutcome{Outcome: got}
	i := slices.IndexFunc(stops, func(s Stop) bool { return s.ItemID == got.ItemID })
	left := got.Quantity
	for _, share := range stops[i].Slots {
		n := min(left, share.Left())
		if n <= 0 || slot != 0 && share.Slot != slot {
			continue
		}
		out.Puts = append(out.Puts, Put{share.Slot, n})
		left -= n
	}
	if left > 0 {
		return RoundOutcome{}, &Refusal{fmt.Sprintf("slot %d does not take %d × %s", slot, got.Quantity, got.SKU),
			"one of " + slotsOf(stops[i])}
	}
	var into []string
	for _, p := range out.Puts {
		into = append(into, fmt.Sprintf("%d into slot %d", p.Quantity, p.Slot))
	}
	out.Text = fmt.Sprintf("%s: %s", got.SKU, strings.Join(into, ", "))
	return out, nil
}

// slotsOf names the slots that still take an item.
func slotsOf(s Stop) string {
	var out []string
	for _, x := range s.Slots {
		if x.Left() > 0 {
			out = append(out, fmt.Sprintf("slot %d (%d)", x.Slot, x.Left()))
		}
	}
	return strings.Join(out, ", ")
}
