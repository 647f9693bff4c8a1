package orders

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// ActionKind is what can be done to many orders at once.
type ActionKind string

const (
	Approve  ActionKind = "approve" // lets it go on although it is held
	Hold     ActionKind = "hold"
	Tag      ActionKind = "tag"
	Untag    ActionKind = "untag"
	Assign   ActionKind = "assign"
	Pick     ActionKind = "pick"
	Ship     ActionKind = "ship"
	Cancel   ActionKind = "cancel"
	VoidIt   ActionKind = "void"
	HandOver ActionKind = "hand over"
)

// ActionKinds are all of them, in the order in which people meet them.
var ActionKinds = []ActionKind{Approve, Hold, Tag, Untag, Assign, Pick, Ship, Cancel, VoidIt, HandOver}

// Bulk is one action on many orders.
type Bulk struct {
	Action ActionKind `json:"action" enum:"approve,hold,tag,untag,assign,pick,ship,cancel,void,hand over"`
	Value  string     `json:"value,omitempty" doc:"The tag, the person, or the reason"`
	Orders []string   `json:"orders" doc:"Numbers"                            maxItems:"5000"`
}

// BulkResult is what became of one order.
type BulkResult struct {
	Number string `json:"number"`
	State  string `json:"state" enum:"waiting,under way,done,refused"`
	OK     bool   `json:"ok"`
	Text   string `json:"text"`

	Was string `json:"was,omitempty" doc:"What undoing brings back"`
}

// BulkDone is an action on many orders with what became of each.
type BulkDone struct {
	ID      int64        `json:"id"`
	Action  ActionKind   `json:"action"`
	Value   string       `json:"value,omitempty"`
	State   string       `json:"state" enum:"waiting,done" doc:"waiting: it is under way and goes on by itself; ask again by its id"`
	Error   string       `json:"error,omitempty" doc:"Why its last step failed; it is tried again"`
	Total   int64        `json:"total" doc:"How many orders"`
	Settled int64        `json:"settled" doc:"How many of them have their outcome"`
	Done    int          `json:"done" doc:"For how many it was done"`
	Results []BulkResult `json:"results"`
	Undo    bool         `json:"undo" doc:"It can be undone"`
}

// actArgs are what a job on many orders does.
type actArgs struct {
	Action ActionKind `json:"action"`
	Value  string     `json:"value"`
	Undoes int64      `json:"undoes,omitempty"` // the job that it takes back; each part then says what it brings back
}

// undoable are the actions that can be taken back, and how.
var undoable = map[ActionKind]ActionKind{Tag: Untag, Untag: Tag, Hold: Approve, Assign: Assign, Approve: Hold}

// maxBulk is how many orders one action takes.
const maxBulk = 5000

// bulkPatience is how long a caller waits for an action on many orders; after that it goes on without them.
const bulkPatience = 3 * time.Second

// Act does one thing to many orders, each for itself: one that it cannot be done to does not keep the others
// from it. It goes on after the caller has left; what is not done in a moment is asked for by its id.
func (r *Orders) Act(ctx context.Context, b Bulk, who string) (BulkDone, error) {
	value := strings.TrimSpace(b.Value)
	if !slices.Contains(ActionKinds, b.Action) {
		return BulkDone{}, engine.Refuse("action %q is none of %s", b.Action, engine.Join(ActionKinds))
	}
	if b.Action == Tag || b.Action == Untag {
		if value == "" || len(value) > 60 || strings.ContainsAny(value, ",\"\\") {
			return BulkDone{}, engine.Refuse("a tag has 1 to 60 characters and neither comma nor quotes")
		}
	}
	if b.Action == Assign {
		ref, err := r.PersonRef(ctx, value)
		if err != nil {
			return BulkDone{}, err
		}
		value = ref
	}
	if len(b.Orders) == 0 || len(b.Orders) > maxBulk {
		return BulkDone{}, engine.Refuse("1 to %d orders are expected", maxBulk)
	}
	return r.beginBulk(ctx, actArgs{Action: b.Action, Value: value}, who, partsOf(b.Orders), nil)
}

// ActOnMany does one of the registered actions to many things, each for itself.
func (r *Orders) ActOnMany(ctx context.Context, action ActionKind, numbers []string, who string) (BulkDone, error) {
	if len(numbers) == 0 || len(numbers) > maxBulk {
		return BulkDone{}, engine.Refuse("1 to %d numbers are expected", maxBulk)
	}
	return r.beginBulk(ctx, actArgs{Action: action}, who, partsOf(numbers), nil)
}

// LetGo lets orders go on, however many they are.
func (r *Orders) LetGo(ctx context.Context, numbers []string, who string) (BulkDone, error) {
	return r.beginBulk(ctx, actArgs{Action: Approve}, who, partsOf(numbers), nil)
}

// partsOf are the parts of an action on orders: each order once.
func partsOf(numbers []string) (parts []store.JobPart) {
	seen := map[string]bool{}
	for _, number := range numbers {
		if !seen[number] {
			seen[number] = true
			parts = append(parts, store.JobPart{Subject: number})
		}
	}
	return parts
}

func (r *Orders) beginBulk(ctx context.Context, a actArgs, who string, parts []store.JobPart,
	also func(*engine.Change) error) (BulkDone, error) {
	var id int64
	if err := r.Commit(ctx, func(ch *engine.Change) (err error) {
		if also != nil {
			if err := also(ch); err != nil {
				return err
			}
		}
		id, err = ch.StartJob(engine.JobAct, "orders "+engine.RandomText(12), who, a, parts...)
		return err
	}); err != nil {
		return BulkDone{}, err
	}
	if _, err := r.AwaitJob(ctx, id, bulkPatience); err != nil {
		return BulkDone{}, err
	}
	return r.BulkResult(context.WithoutCancel(ctx), id)
}

// BulkResult says how an action on many orders stands.
func (r *Orders) BulkResult(ctx context.Context, id int64) (BulkDone, error) {
	j, err := r.Store.Job(ctx, id)
	if err == nil && j.Kind != string(engine.JobAct) {
		err = store.ErrNotFound
	}
	if err != nil {
		return BulkDone{}, fmt.Errorf("action %d: %w", id, err)
	}
	var a actArgs
	if err := json.Unmarshal([]byte(j.Args), &a); err != nil {
		return BulkDone{}, err
	}
	parts, err := r.Store.JobParts(ctx, id, 0, maxBulk)
	if err != nil {
		return BulkDone{}, err
	}
	out := BulkDone{ID: id, Action: a.Action, Value: a.Value, State: j.State, Error: j.Error, Total: j.Total,
		Results: make([]BulkResult, len(parts))}
	for i, p := range parts {
		res := BulkResult{Number: p.Subject, State: p.State, OK: p.State == store.JobDone, Text: p.Text}
		if a.Undoes == 0 && p.State == store.JobDone {
			res.Was = p.Was
		}
		if res.OK {
			out.Done++
		}
		if p.State == store.JobDone || p.State == store.JobRefused {
			out.Settled++
		}
		out.Results[i] = res
	}
	out.Undo = undoable[a.Action] != "" && a.Undoes == 0 && out.Done > 0 && j.UndoneAt == 0 && j.State == store.JobDone
	return out, nil
}

// UndoBulk takes back what an action did to the orders that it worked on, as far as that is still as it left it.
func (r *Orders) UndoBulk(ctx context.Context, id int64, who string) (BulkDone, error) {
	old, err := r.BulkResult(ctx, id)
	if err != nil {
		return BulkDone{}, err
	}
	if !old.Undo {
		return BulkDone{}, &engine.Refused{Text: "that can no longer be undone", Conflict: true}
	}
	var parts []store.JobPart
	for _, res := range old.Results {
		if !res.OK {
			continue
		}
		value := old.Value
		if old.Action == Assign || old.Action == Approve {
			value = res.Was
		}
		parts = append(parts, store.JobPart{Subject: res.Number, Was: value})
	}
	return r.beginBulk(
		ctx,
		actArgs{Action: undoable[old.Action], Value: old.Value, Undoes: id},
		who,
		parts,
		func(ch *engine.Change) error {
			j, err := ch.Job(id)
			if err != nil {
				return err
			}
			if j.UndoneAt != 0 {
				return &engine.Refused{Text: "that was undone already", Conflict: true}
			}
			j.UndoneAt = ch.Now.UnixMicro()
			return ch.PutJob(j)
		},
	)
}

// actPortion is how many orders one step of an action works on.
const actPortion = 25

// askAgainAfter is when it is looked again at what was asked for at the outside.
const askAgainAfter = 300 * time.Millisecond

// ActStep works on the next orders of an action. Those for which something was asked at the outside stay under way
// until it has answered.
func (r *Orders) ActStep(ctx context.Context, j *store.Job) (bool, error) {
	var a actArgs
	if err := json.Unmarshal([]byte(j.Args), &a); err != nil {
		return true, err
	}
	parts, err := r.Store.JobParts(ctx, j.ID, 0, actPortion, store.JobWaiting)
	if err != nil {
		return false, err
	}
	asking := len(parts) == 0
	if asking { // all were begun: look at those that wait for the outside
		if parts, err = r.Store.JobParts(ctx, j.ID, j.Mark, 200, store.JobUnderWay); err != nil {
			return false, err
		}
		if len(parts) == 0 && j.Mark == 0 {
			return true, nil
		}
		if j.Mark = 0; len(parts) == 200 {
			j.Mark = parts[199].Position
		} else {
			j.NextAt = r.Clock().Add(askAgainAfter).UnixMicro()
		}
	}
	for _, p := range parts {
		was := p
		if asking {
			p, err = r.Actions[a.Action].Became(ctx, p)
		} else {
			p, err = r.actPart(ctx, a, p, j.Who)
		}
		if err != nil {
			return false, err
		}
		if p == was {
			continue
		}
		if err := r.Commit(ctx, func(ch *engine.Change) (err error) {
			ch.Tell("job", fmt.Sprint(j.ID))
			if err := ch.SettleJobPart(j.ID, p); err != nil {
				return err
			}
			j.Done, _, err = ch.CountJobDone(j.ID)
			return err
		}); err != nil {
			return false, err
		}
	}
	return false, nil
}

// actPart does one action to one order. What keeps it from being done is the part's outcome; an error is not.
func (r *Orders) actPart(ctx context.Context, a actArgs, p store.JobPart, who string) (store.JobPart, error) {
	value := a.Value
	if a.Undoes != 0 {
		value = p.Was
	}
	var err error
	p.State = store.JobDone
	if act := r.Actions[a.Action]; act.Do != nil {
		p.Text, p.Was, err = act.Do(ctx, p.Subject, who)
		if act.Became != nil && err == nil {
			p.State = store.JobUnderWay
		}
	} else {
		p.Text, p.Was, err = r.actOne(ctx, a.Action, value, p.Subject, who)
	}
	if err == nil {
		return p, nil
	}
	why, refused := engine.IsRefused(err)
	switch {
	case refused:
		p.Text = why
	case errors.Is(err, store.ErrNotFound):
		p.Text = "there is no such " + engine.Or(r.Actions[a.Action].Thing, "order")
	case store.Unavailable(err):
		return p, err
	default:
		r.Log.Error("it could not be acted on", "number", p.Subject, "action", a.Action, "error", err)
		p.Text = "something broke on our side; it is in the service's log"
	}
	p.State, p.Was = store.JobRefused, ""
	return p, nil
}

func (r *Orders) actOne(ctx context.Context, action ActionKind, value, number, who string) (text, was string, err error) {
	called := value
	if action == Assign {
		if called, err = r.PersonName(ctx, value); err != nil {
			return "", "", err
		}
	}
	switch action {
	case VoidIt:
		now, err := r.Void(ctx, number, value, false, 0, who)
		return "void as " + now, "", err
	case HandOver:
		return "handed over", "", r.HandOver(ctx, number, who)
	}
	err = r.Commit(ctx, func(ch *engine.Change) error {
		return r.onOrder(ch, number, 0, who, func(o *order.Order, c *engine.Conn, s *order.Scene) (got order.Change, err error) {
			before := liveUnits(o)
			if got, text, was, err = actOn(o, action, value, called, who, s); err == nil && action == Cancel {
				err = r.tellCancelled(ch, c, o, before, engine.Or(value, "cancelled by the seller"))
			}
			return got, err
		})
	})
	return text, was, err
}

// actOn does an action to an order that is loaded, and says what was done and what undoing would bring back.
func actOn(o *order.Order, action ActionKind, value, called, who string, s *order.Scene) (got order.Change, text, was string, err error) {
	got = order.Change{Order: o}
	note := func(what, format string, args ...any) {
		o.Revision++
		got.Notes = append(got.Notes, order.Note{What: what, Text: fmt.Sprintf(format, args...)})
	}
	refuse := func(format string, args ...any) (order.Change, string, string, error) {
		return got, "", "", &engine.Refused{Text: fmt.Sprintf(format, args...), Conflict: true}
	}
	switch action {
	case Approve:
		return approve(o, who)
	case Hold:
		switch st := o.Stage(); st {
		case order.Shipped, order.Delivered, order.Cancelled, order.Void:
			return refuse("it is %s", st)
		}
		o.Hold(order.Hold{Cause: order.ByPerson, Text: engine.Or(value, "Held by a person") + ".",
			Expected: "Whoever holds it, or somebody else, lets it go on."})
		note("held", "Held: %s", engine.Or(value, "no reason given"))
		text = "held"
	case Tag:
		if !o.Tag(value) {
			return refuse("has the tag already")
		}
		note("tag", "Tagged %s", value)
		text = "tagged"
	case Untag:
		if !o.Untag(value) {
			return refuse("does not have the tag")
		}
		note("tag", "Tag %s taken off", value)
		text = "tag taken off"
	case Assign:
		if was = o.Assignee; was == value {
			return refuse("nothing to change")
		}
		o.Assignee = value
		note("assigned", "Assigned to %s", engine.Or(called, "nobody"))
		text = "assigned to " + engine.Or(called, "nobody")
	case Cancel:
		got, err = order.CallOff(o, who, value, s)
		text = "cancelled"
	}
	return got, text, was, err
}

// approve lets an order go on although it is held, for whatever a person may wave through.
func approve(o *order.Order, who string) (got order.Change, text, was string, err error) {
	got = order.Change{Order: o}
	var freed []string
	for _, h := range slices.Clone(o.Holds) {
		if !slices.Contains(order.Waved, h.Cause) {
			continue
		}
		one, _ := order.Release(o, h.Cause, who)
		got.Notes = append(got.Notes, one.Notes...)
		freed = append(freed, string(h.Cause))
		if h.Cause == order.ByPerson {
			was = h.Text
		}
	}
	switch {
	case len(freed) > 0:
		return got, "goes on although held for " + engine.Join(freed), engine.Or(was, "held for "+engine.Join(freed)+" before"), nil
	case len(o.Holds) > 0:
		return got, "", "", &engine.Refused{Text: fmt.Sprintf("held for %s, which ends when its cause does", o.Holds[0].Cause),
			Conflict: true}
	}
	return got, "", "", &engine.Refused{Text: "not held", Conflict: true}
}

// Action is what can be done to an order by its number, beyond what the order alone decides; or to another thing.
type Action struct {
	Thing string // what is acted on; empty: an order
	// Do does it, or asks for it at the outside; was says then what was asked for.
	Do func(ctx context.Context, number, who string) (text, was string, err error)
	// Became is asked what became of what Do asked for at the outside. nil: Do does it here and now.
	Became func(ctx context.Context, p store.JobPart) (store.JobPart, error)
}
