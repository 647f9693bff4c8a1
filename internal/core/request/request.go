// Package request is about what a partner is asked to send for us: how a request goes on with what the partner says of it, with what
// leaves, and with an order that changes meanwhile. It knows no connection and no file; whoever asks and hears is told what follows.
package request

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode"
)

// State is where a request stands.
type State string

// The states of a request. The last three are ends.
const (
	Waits        State = "waits"        // something keeps it from being asked; the reason says what
	Asked        State = "asked"        // it is on its way, or there; nobody has said anything of it yet
	Acknowledged State = "acknowledged" // the partner says that it will be sent
	PartSent     State = "partly sent"
	Stopping     State = "being called off" // the partner was asked not to send what is left, and has not answered
	Sent         State = "sent"             // all of it that was not refused
	Refused      State = "refused"
	CalledOff    State = "called off"
)

// States lists them in the order in which a request goes through them.
var States = []State{Waits, Asked, Acknowledged, PartSent, Stopping, Sent, Refused, CalledOff}

// Ended tells whether nothing more is expected of a request.
func (s State) Ended() bool { return s == Sent || s == Refused || s == CalledOff }

// Line is what is asked for of one order line.
type Line struct {
	LineID    int64  `json:"line_id"`
	ItemID    int64  `json:"item_id"`
	SKU       string `json:"sku" doc:"As the partner calls it"`
	Title     string `json:"title"`
	Units     int64  `json:"units"`
	Sent      int64  `json:"sent"`
	Refused   int64  `json:"refused" doc:"Units that the partner does not send"`
	CalledOff int64  `json:"called_off" doc:"Units that were called off in time"`
}

// Open is how many units are still to be sent.
func (l *Line) Open() int64 { return l.Units - l.Sent - l.Refused - l.CalledOff }

// Request is what a partner is asked to send.
type Request struct {
	Number   string `json:"number"`
	State    State  `json:"state" enum:"waits,asked,acknowledged,partly sent,being called off,sent,refused,called off"`
	TheirID  string `json:"their_id,omitempty" doc:"The partner's own number of it"`
	Reason   string `json:"reason,omitempty" doc:"Why it waits, was refused or was called off"`
	Expected string `json:"expected,omitempty" doc:"Day on which the partner means to send it, YYYY-MM-DD"`
	Lines    []Line `json:"lines"`
}

// Line finds the line of an order line; nil: the request has none of it.
func (r *Request) Line(id int64) *Line {
	for i := range r.Lines {
		if r.Lines[i].LineID == id {
			return &r.Lines[i]
		}
	}
	return nil
}

// Open counts the units that are still to be sent.
func (r *Request) Open() (n int64) {
	for i := range r.Lines {
		n += r.Lines[i].Open()
	}
	return n
}

func (r *Request) sent() (n int64) {
	for i := range r.Lines {
		n += r.Lines[i].Sent
	}
	return n
}

// What a partner may say of a request.
const (
	SaysAcknowledged = "acknowledged"
	SaysChanged      = "changed"        // it will send what the lines say, and no more
	SaysRefused      = "refused"        // it sends nothing more of it
	SaysUnknown      = "unknown item"   // it does not know what is asked for
	SaysCalledOff    = "called off"     // as it was asked
	SaysNotCalledOff = "not called off" // it is too late for that
	SaysClosed       = "closed"         // it has sent all that it will send
)

// Words lists what a partner may say.
var Words = []string{SaysAcknowledged, SaysChanged, SaysRefused, SaysUnknown, SaysCalledOff, SaysNotCalledOff, SaysClosed}

// News is what a partner says of a request.
type News struct {
	Says     string
	TheirID  string
	Reason   string
	Expected string // day, YYYY-MM-DD
	Lines    []NewsLine
}

// NewsLine is what a partner says of one line, by its own name of the item.
type NewsLine struct {
	SKU      string
	Quantity int64 // units that it will send in all
}

// Trouble is why a person has to look at what a partner says.
type Trouble string

// What may be the trouble.
const (
	Late       Trouble = "late"         // it will send what it was thought not to send
	TooMuch    Trouble = "too much"     // more than it was asked for
	TooLate    Trouble = "too late"     // it does not call off
	NotAsked   Trouble = "not asked"    // of something that it was not asked for
	AfterAll   Trouble = "after all"    // it does not send what it says it has sent
	NoTrouble  Trouble = ""             // nobody has to look
	UnknownFor Trouble = "unknown item" // its name of an item is to be said
)

// Effect is what follows from what a partner said.
type Effect struct {
	Freed   map[int64]int64 // units by order line that it does not send: they are planned anew
	Unknown []int64         // items that it does not know
	Trouble Trouble
	Text    string // what happened, for people; empty: nothing that was not known
}

// Changed tells whether anything follows.
func (e *Effect) Changed() bool { return e.Text != "" }

// Hear takes what a partner says of a request.
func (r *Request) Hear(n News) Effect {
	n.Reason = Tidy(n.Reason)
	known := r.TheirID == n.TheirID && r.Expected == n.Expected
	r.TheirID, r.Expected = cmp.Or(n.TheirID, r.TheirID), cmp.Or(n.Expected, r.Expected)
	switch n.Says {
	case SaysAcknowledged:
		return r.acknowledged(known)
	case SaysChanged:
		return r.changed(n)
	case SaysRefused, SaysClosed:
		return r.refused(n)
	case SaysUnknown:
		return r.unknown(n)
	case SaysCalledOff:
		return r.calledOff(n)
	case SaysNotCalledOff:
		return r.notCalledOff(n)
	}
	return Effect{Trouble: NotAsked, Text: fmt.Sprintf("said %q, which means nothing here", n.Says)}
}

func (r *Request) acknowledged(known bool) Effect {
	switch {
	case r.State == Refused || r.State == CalledOff:
		return Effect{Trouble: Late, Text: fmt.Sprintf("acknowledged, although it was %s", r.State)}
	case r.State == Waits || r.State == Asked:
		r.State, r.Reason = Acknowledged, ""
		return Effect{Text: "acknowledged" + r.when()}
	case known:
		return Effect{}
	}
	return Effect{Text: "acknowledged again" + r.when()}
}

func (r *Request) when() string {
	if r.Expected == "" {
		return ""
	}
	return ", to be sent on " + r.Expected
}

// changed takes that a partner sends less of some lines than it was asked for, or another day.
func (r *Request) changed(n News) Effect {
	if r.State.Ended() {
		return Effect{Trouble: Late, Text: fmt.Sprintf("changed, although it was %s", r.State)}
	}
	e := Effect{Freed: map[int64]int64{}}
	var parts []string
	for _, x := range n.Lines {
		will := x.Quantity
		found := false
		for i := range r.Lines {
			l := &r.Lines[i]
			if !strings.EqualFold(l.SKU, Tidy(x.SKU)) {
				continue
			}
			found = true
			take := min(will, l.Units-l.CalledOff)
			will -= take
			if less := l.Open() - max(0, take-l.Sent); less > 0 {
				l.Refused += less
				e.Freed[l.LineID] += less
				parts = append(parts, fmt.Sprintf("%d × %s less", less, l.SKU))
			}
		}
		switch {
		case !found:
			e.Trouble = NotAsked
			parts = append(parts, fmt.Sprintf("%d × %s, which was not asked for", x.Quantity, x.SKU))
		case will > 0:
			e.Trouble = TooMuch
			parts = append(parts, fmt.Sprintf("%d × %s more than was asked for", will, x.SKU))
		}
	}
	r.settle(Acknowledged, n.Reason)
	e.Text = "changed: " + cmp.Or(strings.Join(parts, ", "), "nothing of its quantities") + r.when() + because(n.Reason)
	return e
}

// refused takes that nothing more is sent.
func (r *Request) refused(n News) Effect {
	if r.State.Ended() {
		if r.State == Sent && n.Says == SaysRefused {
			return Effect{Trouble: AfterAll, Text: "refused, although it was sent" + because(n.Reason)}
		}
		return Effect{}
	}
	e := Effect{Freed: r.end(func(l *Line) *int64 { return &l.Refused })}
	r.settle(Refused, n.Reason)
	e.Text = "refused" + because(n.Reason)
	switch {
	case len(e.Freed) == 0:
		e.Text = "closed"
	case r.State == Sent:
		e.Text = "the rest is not sent" + because(n.Reason)
	}
	return e
}

// unknown takes that a partner does not know what it is asked for: all of it waits until its names are said.
func (r *Request) unknown(n News) Effect {
	if r.State.Ended() || r.sent() > 0 {
		return r.refused(n)
	}
	var e Effect
	var names []string
	for i := range r.Lines {
		l := &r.Lines[i]
		if len(n.Lines) > 0 && !slices.ContainsFunc(n.Lines, func(x NewsLine) bool { return strings.EqualFold(l.SKU, Tidy(x.SKU)) }) {
			continue
		}
		if !slices.Contains(e.Unknown, l.ItemID) {
			e.Unknown = append(e.Unknown, l.ItemID)
			names = append(names, l.SKU)
		}
	}
	if len(names) == 0 {
		return r.refused(n)
	}
	e.Trouble, e.Text = UnknownFor, "does not know "+strings.Join(names, ", ")+because(n.Reason)
	r.State, r.Reason = Waits, e.Text
	return e
}

func (r *Request) calledOff(n News) Effect {
	if r.State.Ended() {
		return Effect{}
	}
	e := Effect{Freed: r.end(func(l *Line) *int64 { return &l.CalledOff })}
	r.settle(CalledOff, n.Reason)
	e.Text = "called off" + because(n.Reason)
	return e
}

func (r *Request) notCalledOff(n News) Effect {
	if r.State != Stopping {
		return Effect{}
	}
	r.State = Acknowledged
	if r.sent() > 0 {
		r.State = PartSent
	}
	r.Reason = n.Reason
	return Effect{Trouble: TooLate, Text: "not called off any more" + because(n.Reason)}
}

// end lets nothing be open any more, and says what was, by order line.
func (r *Request) end(into func(*Line) *int64) map[int64]int64 {
	freed := map[int64]int64{}
	for i := range r.Lines {
		l := &r.Lines[i]
		if n := l.Open(); n > 0 {
			*into(l) += n
			freed[l.LineID] += n
		}
	}
	return freed
}

// settle derives the state; next is the one of a request of which nothing was sent yet.
func (r *Request) settle(next State, reason string) {
	switch {
	case r.Open() == 0 && r.sent() > 0:
		r.State = Sent
	case r.Open() == 0 && next != CalledOff:
		r.State = Refused
	case r.State == Stopping && !next.Ended():
		return
	case r.sent() > 0:
		r.State = PartSent
	default:
		r.State = next
	}
	r.Reason = reason
}

// SetSent takes how many units of each order line have left by now, and tells of which more left than was asked for. Fewer than before
// is a parcel that had not left after all.
func (r *Request) SetSent(units map[int64]int64) (more map[int64]int64) {
	more = map[int64]int64{}
	for i := range r.Lines {
		l := &r.Lines[i]
		n := units[l.LineID]
		if over := n - l.Units; over > 0 {
			more[l.LineID] = over
			n = l.Units
		}
		// What was thought not to be sent and has left all the same is sent.
		for _, given := range []*int64{&l.CalledOff, &l.Refused} {
			back := min(*given, max(0, n+l.Refused+l.CalledOff-l.Units))
			*given -= back
		}
		l.Sent = n
	}
	switch {
	case r.sent() == 0 && (r.State == PartSent || r.State == Sent):
		r.State = Acknowledged
	case r.sent() > 0 && r.State == Stopping && r.Open() > 0:
	case r.sent() > 0 || r.Open() == 0 && !r.State.Ended():
		r.settle(r.State, r.Reason)
	}
	return more
}

// TooMany tells whether more is asked for than its order still wants of it, by order line.
func (r *Request) TooMany(wanted map[int64]int64) bool {
	if r.State.Ended() {
		return false
	}
	return slices.ContainsFunc(r.Lines, func(l Line) bool { return l.Open() > wanted[l.LineID] })
}

// Stop begins to call off what is left. asked tells whether the partner has to be asked: what never went out is called off at once.
func (r *Request) Stop(reason string) (asked bool) {
	switch {
	case r.State.Ended() || r.State == Stopping:
		return false
	case r.State == Waits:
		r.end(func(l *Line) *int64 { return &l.CalledOff })
		r.settle(CalledOff, Tidy(reason))
		return false
	}
	r.State, r.Reason = Stopping, Tidy(reason)
	return true
}

func because(reason string) string {
	if reason == "" {
		return ""
	}
	return ": " + reason
}

// Tidy writes a text without what other systems stumble over: white space at its ends, several spaces in a row, line breaks, and what
// cannot be printed.
func Tidy(s string) string {
	return strings.Join(strings.FieldsFunc(s, func(r rune) bool { return unicode.IsSpace(r) || !unicode.IsPrint(r) }), " ")
}
