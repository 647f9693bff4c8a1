package views

import (
	"context"
	"encoding/json"
	"slices"

	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// Steps of a first day, in their order.
const (
	FirstPlace   = "place"
	FirstItems   = "items"
	FirstChannel = "channel"
	FirstCarrier = "carrier"
	FirstOrder   = "order"
)

var firstSteps = []string{FirstPlace, FirstItems, FirstChannel, FirstCarrier, FirstOrder}

// FirstStep is one step of a first day.
type FirstStep struct {
	Code string `json:"code" enum:"place,items,channel,carrier,order"`
	Done bool   `json:"done"`
	Left bool   `json:"left" doc:"Left out by a person"`
}

// FirstDay leads a new company to its first order.
type FirstDay struct {
	Steps     []FirstStep `json:"steps"`
	Over      bool        `json:"over" doc:"All is done or left out, or somebody dismissed it"`
	Dismissed bool        `json:"dismissed"`
}

// firstDayKey is under which it is kept what was left out.
const firstDayKey = "first day"

// firstDayKept is what is kept of a first day; what was done shows by itself.
type firstDayKept struct {
	Left      []string `json:"left,omitempty"`
	Dismissed bool     `json:"dismissed,omitempty"`
}

// FirstDay tells how far a company has come on its first day.
func (r *Views) FirstDay(ctx context.Context) (FirstDay, error) {
	var out FirstDay
	kept, err := r.firstDayKept(ctx)
	if err != nil {
		return out, err
	}
	there, err := r.Store.Beginnings(ctx)
	if err != nil {
		return out, err
	}
	done := map[string]bool{FirstPlace: there.Place, FirstItems: there.Items, FirstOrder: there.Order}
	for _, c := range r.All() {
		if c.Rec().State == store.On {
			done[FirstChannel] = done[FirstChannel] || c.Rec().Side == "channel"
			done[FirstCarrier] = done[FirstCarrier] || c.Rec().Side == "carrier"
		}
	}
	done[FirstCarrier] = done[FirstCarrier] || r.NumbersTyped()
	out.Dismissed, out.Over = kept.Dismissed, true
	for _, code := range firstSteps {
		s := FirstStep{Code: code, Done: done[code], Left: !done[code] && slices.Contains(kept.Left, code)}
		out.Over = out.Over && (s.Done || s.Left)
		out.Steps = append(out.Steps, s)
	}
	out.Over = out.Over || kept.Dismissed
	return out, nil
}

func (r *Views) firstDayKept(ctx context.Context) (kept firstDayKept, err error) {
	text, err := r.Store.Setting(ctx, firstDayKey)
	if err == nil && text != "" {
		err = json.Unmarshal([]byte(text), &kept)
	}
	return kept, err
}

// LeaveFirstStep leaves a step of the first day out, or takes it up again; no step dismisses all of it, or brings it back.
func (r *Views) LeaveFirstStep(ctx context.Context, step string, left bool) error {
	if step != "" && !slices.Contains(firstSteps, step) {
		return engine.Refuse("step %q is none of %s", step, engine.Join(firstSteps))
	}
	kept, err := r.firstDayKept(ctx)
	if err != nil {
		return err
	}
	kept.Left = slices.DeleteFunc(kept.Left, func(s string) bool { return s == step })
	switch {
	case step == "":
		kept.Dismissed = left
	case left:
		kept.Left = append(kept.Left, step)
	}
	text, err := json.Marshal(kept)
	if err != nil {
		return err
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		ch.Tell("company", "")
		return ch.PutSetting(firstDayKey, string(text))
	})
}
