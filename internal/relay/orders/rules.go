package orders

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"openrelay/internal/core/rules"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// LoadRules reads the rules anew. A rule that can no longer be read does not keep the relay from working: the
// others decide, and it is said in the log.
func (r *Orders) LoadRules(ctx context.Context) error {
	list, err := r.Store.Rules(ctx)
	if err != nil {
		return err
	}
	var good []rules.Rule
	for _, x := range list {
		if err := rules.Check(x.Rule()); err != nil {
			r.Log.Error("a rule cannot be read", "rule", x.Name, "error", err)
			continue
		}
		good = append(good, x.Rule())
	}
	set, err := rules.NewSet(good)
	if err == nil {
		r.rules.Store(set)
	}
	return err
}

// RuleChange is a rule that is new, edited, moved or removed.
type RuleChange struct {
	ID       int64  `json:"id,omitempty" doc:"0: a new rule"`
	Revision int64  `json:"revision,omitempty" doc:"As it was seen; needed for a rule that exists"`
	Name     string `json:"name"`
	On       bool   `json:"on"`
	When     string `json:"when" doc:"Condition in CEL; empty: every order"`
	Then     string `json:"then" doc:"Actions, such as tag(\"export\")"`
	Position int    `json:"position" doc:"Its place among the rules, from 1; 0: the end for a new rule, where it is for another"`
	Remove   bool   `json:"remove,omitempty"`
}

// after is the list of rules as it would be after a change; at is where the rule stands in it, or -1.
func (c RuleChange) after(list []store.Rule) (out []store.Rule, at int, err error) {
	out = slices.Clone(list)
	i := slices.IndexFunc(out, func(x store.Rule) bool { return x.ID == c.ID && c.ID != 0 })
	if c.ID != 0 && i < 0 {
		return nil, -1, fmt.Errorf("rule %d: %w", c.ID, store.ErrNotFound)
	}
	var x store.Rule
	if i >= 0 {
		x = out[i]
		out = slices.Delete(out, i, i+1)
	}
	if c.Remove {
		return out, -1, nil
	}
	if slices.ContainsFunc(out, func(o store.Rule) bool { return o.Name == c.Name }) {
		return nil, -1, &engine.Refused{Text: fmt.Sprintf("name: there is another rule %q", c.Name), Conflict: true}
	}
	x.Name, x.On, x.Condition, x.Actions = c.Name, c.On, c.When, c.Then
	switch {
	case c.Position > 0:
		at = min(c.Position-1, len(out))
	case i >= 0:
		at = i
	default:
		at = len(out)
	}
	return slices.Insert(out, at, x), at, nil
}

// checkRule refuses a rule that cannot work: one that cannot be read, or names what does not exist.
func (r *Orders) checkRule(ctx context.Context, c RuleChange) error {
	if c.Remove {
		return nil
	}
	x := rules.Rule{ID: c.ID, Name: c.Name, On: c.On, When: c.When, Then: c.Then}
	if err := rules.Check(x); err != nil {
		return engine.Refuse("%v", err)
	}
	actions, err := rules.ParseActions(c.Then)
	if err != nil {
		return engine.Refuse("%v", err)
	}
	if slices.ContainsFunc(actions, func(a rules.Action) bool {
		return a.Do == "carry" && slices.Index(rules.Steps, a.Value) >= slices.Index(rules.Steps, "pack")
	}) &&
		!slices.ContainsFunc(actions, func(a rules.Action) bool { return a.Do == "profile" }) && !r.profileBefore(ctx, c) {
		return engine.Refuse("carry: to be packed without a person, the order needs a profile; choose one in this rule, or in one " +
			"before it")
	}
	for _, a := range actions {
		switch a.Do {
		case "location":
			if _, err := r.Location(a.Value); err != nil {
				return err
			}
		case "weigh":
			var known []string
			if r.Exceptions != nil {
				known = r.Exceptions()
			}
			if !slices.Contains(known, a.Value) {
				return engine.Refuse("the routing policy has no exception %q; it has %s", a.Value, engine.Or(engine.Join(known), "none"))
			}
		case "account":
			if err := r.CheckAccount(ctx, a.Value); err != nil {
				return err
			}
		case "service":
			if err := r.CheckPick(ctx, "service", a.Value); err != nil {
				return err
			}
		case "profile":
			list, err := r.Store.Profiles(ctx)
			if err != nil {
				return err
			}
			known := make([]string, len(list))
			for i, p := range list {
				known[i] = p.Code
			}
			if !slices.Contains(known, a.Value) {
				return engine.Refuse("parcel profile %q is not known; there are %s", a.Value, engine.Join(known))
			}
		}
	}
	return nil
}

// RuledBy refuses to give up what a rule that is on names in an action.
func (r *Orders) RuledBy(ctx context.Context, do, value string) error {
	list, err := r.Store.Rules(ctx)
	if err != nil {
		return err
	}
	for _, x := range list {
		actions, err := rules.ParseActions(x.Actions)
		if err != nil {
			continue // one that cannot be read does nothing
		}
		for _, a := range actions {
			if x.On && a.Do == do && a.Value == value {
				return &engine.Refused{Text: fmt.Sprintf("the rule “%s” names %s; change it or switch it off first", x.Name, value),
					Conflict: true}
			}
		}
	}
	return nil
}

// profileBefore tells whether another rule that is on chooses a profile.
func (r *Orders) profileBefore(ctx context.Context, c RuleChange) bool {
	list, err := r.Store.Rules(ctx)
	return err == nil && slices.ContainsFunc(list, func(x store.Rule) bool {
		actions, err := rules.ParseActions(x.Actions)
		return err == nil && x.ID != c.ID && x.On && slices.ContainsFunc(actions, func(a rules.Action) bool { return a.Do == "profile" })
	})
}

// PutRule carries a change of the rules out, for orders that are taken in from now on, and returns the rule's id.
func (r *Orders) PutRule(ctx context.Context, c RuleChange, who string) (int64, error) {
	if err := r.checkRule(ctx, c); err != nil {
		return 0, err
	}
	id := c.ID
	err := r.Commit(ctx, func(ch *engine.Change) error {
		list, err := ch.Rules()
		if err != nil {
			return err
		}
		was := map[int64]store.Rule{}
		for _, x := range list {
			was[x.ID] = x
		}
		if c.ID != 0 && was[c.ID].ID != 0 && was[c.ID].Revision != c.Revision {
			return store.ErrConflict
		}
		after, at, err := c.after(list)
		if err != nil {
			return err
		}
		if c.Remove {
			if err := ch.DropRule(c.ID); err != nil {
				return err
			}
		}
		for i, x := range after {
			x.Position = int64(i + 1)
			old := was[x.ID]
			if x.ID != 0 && old == x {
				continue
			}
			if i == at {
				x.ChangedAt, x.ChangedBy = ch.Now.UnixMicro(), who
			}
			got, err := ch.PutRule(x)
			if err != nil {
				return err
			}
			if i == at {
				id = got
			}
		}
		ch.Tell("rule", "")
		return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "rule", ThingID: id, What: "rule",
			Text: ruleText(was[c.ID], c)})
	})
	if err != nil {
		return 0, err
	}
	return id, r.LoadRules(ctx)
}

func ruleText(was store.Rule, c RuleChange) string {
	switch {
	case c.Remove:
		return fmt.Sprintf("Rule “%s” removed", was.Name)
	case c.ID == 0 && c.On:
		return fmt.Sprintf("Rule “%s” added and switched on: when %s, then %s", c.Name, engine.Or(c.When, "an order arrives"), c.Then)
	case c.ID == 0:
		return fmt.Sprintf("Rule “%s” added, off: when %s, then %s", c.Name, engine.Or(c.When, "an order arrives"), c.Then)
	case was.On != c.On && was.Condition == c.When && was.Actions == c.Then:
		return fmt.Sprintf("Rule “%s” switched %s", c.Name, map[bool]string{true: "on", false: "off"}[c.On])
	case was.Condition == c.When && was.Actions == c.Then && was.Name == c.Name:
		return fmt.Sprintf("Rule “%s” moved", c.Name)
	}
	return fmt.Sprintf("Rule “%s” changed: when %s, then %s (was: when %s, then %s)", c.Name, engine.Or(c.When, "an order arrives"),
		c.Then, engine.Or(was.Condition, "an order arrives"), was.Actions)
}

// rehearsed bounds how many orders that differ a rehearsal keeps.
const rehearsed = 500

// Rehearse finds out what a change of the rules would have made of the newest so many orders, as they were when
// they were decided on. Nothing is changed. Two goroutines share the work; memory does not grow with the orders.
func (r *Orders) Rehearse(ctx context.Context, c RuleChange, orders int64) (*rules.Rehearsal, error) {
	if err := r.checkRule(ctx, c); err != nil {
		return nil, err
	}
	list, err := r.Store.Rules(ctx)
	if err != nil {
		return nil, err
	}
	after, _, err := c.after(list)
	if err != nil {
		return nil, err
	}
	plain := func(list []store.Rule) (out []rules.Rule) {
		for _, x := range list {
			out = append(out, x.Rule())
		}
		return out
	}
	whole, err := rules.NewRehearsal(plain(list), plain(after), rehearsed)
	if err != nil {
		return nil, engine.Refuse("%v", err)
	}
	whole.Orders = []rules.Differently{}
	high, low, _, err := r.Store.NewestFacts(ctx, orders)
	if err != nil {
		return nil, err
	}
	if err := r.seeFacts(ctx, whole, high, low); err != nil {
		return nil, err
	}
	ids := make([]int64, len(whole.Orders))
	for i, d := range whole.Orders {
		ids[i] = d.Order
	}
	numbers, err := r.Store.NumbersOf(ctx, ids)
	for i := range whole.Orders {
		whole.Orders[i].Number = numbers[whole.Orders[i].Order]
	}
	return whole, err
}

// seeFacts shows a rehearsal what is known of the orders from high down to low, in two halves at a time.
func (r *Orders) seeFacts(ctx context.Context, whole *rules.Rehearsal, high, low int64) error {
	mid := low + (high-low)/2
	spans := [][2]int64{{high, mid}, {mid, low}}
	parts := make([]*rules.Rehearsal, len(spans))
	errs := make([]error, len(spans))
	var wg sync.WaitGroup
	for i, span := range spans {
		parts[i] = whole.Part()
		wg.Add(1)
		go func() {
			defer wg.Done()
			var f rules.Facts
			errs[i] = r.Store.EachFacts(ctx, span[0], span[1], func(id int64, b []byte) error {
				if err := f.Read(b); err != nil {
					return fmt.Errorf("order %d: %w", id, err)
				}
				parts[i].See(id, &f)
				return nil
			})
		}()
	}
	wg.Wait()
	if err := errors.Join(errs...); err != nil {
		return err
	}
	for _, p := range parts {
		whole.Add(p)
	}
	return nil
}
