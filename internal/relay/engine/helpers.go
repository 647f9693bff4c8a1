package engine

import (
	"errors"
	"fmt"
	"hash/fnv"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"openrelay/internal/core/order"
	"openrelay/internal/store"
)

func Or(s, otherwise string) string {
	if s == "" {
		return otherwise
	}
	return s
}

// Join writes a list as people read it.
func Join[T ~string](list []T) string {
	words := make([]string, len(list))
	for i, w := range list {
		words[i] = string(w)
	}
	return strings.Join(words, ", ")
}

// Keys lists the keys in their order, so that the same is always done in the same order.
func Keys[V any](m map[int64]V) []int64 { return slices.Sorted(maps.Keys(m)) }

// Delay is how long to wait before the next attempt: doubling from half a second to five minutes, up to three
// tenths shorter or longer by the message's key, so that many messages do not come back at once.
func Delay(attempt int, key string) time.Duration {
	d := min(500*time.Millisecond<<min(max(attempt-1, 0), 10), 5*time.Minute)
	h := fnv.New32a()
	fmt.Fprintf(h, "%s %d", key, attempt)
	return d*7/10 + time.Duration(float64(d)*0.6*float64(h.Sum32()%1000)/1000)
}

func Clip(s string, most int) string {
	if len(s) <= most {
		return s
	}
	for most > 0 && s[most]&0xC0 == 0x80 { // not inside a letter
		most--
	}
	return s[:most]
}

func Counted(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func Earlier(a, b time.Time) time.Time {
	if a.IsZero() || !b.IsZero() && b.Before(a) {
		return b
	}
	return a
}

func Later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// OrderStateError turns a refusal of core into one for a person.
func OrderStateError(err error) error {
	if errors.Is(err, order.ErrState) {
		return &Refused{Text: strings.TrimPrefix(err.Error(), order.ErrState.Error()+": "), Conflict: true}
	}
	return err
}

func (r *Engine) NoteOrder(ch *Change, o *order.Order, who, what, format string, args ...any) error {
	return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "order", ThingID: o.ID, What: what,
		Text: fmt.Sprintf(format, args...)})
}

func (r *Engine) NoteThing(ch *Change, thing string, id int64, who, what, format string, args ...any) error {
	return ch.Note(
		store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: thing, ThingID: id, What: what, Text: fmt.Sprintf(format, args...)})
}

func (r *Engine) NoteConnection(ch *Change, id int64, who, what, format string, args ...any) error {
	return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "connection", ThingID: id, What: what,
		Text: fmt.Sprintf(format, args...)})
}

// AskCartons looks again at orders of which something goes into no carton: there is another carton, or an item has another size.
func AskCartons(ch *Change) error {
	ids, err := ch.OrdersOfCause(NoCarton, nil)
	for _, id := range ids {
		ch.Mark(CartonAsked, id)
	}
	return err
}

// NoteSecurity keeps that somebody came in, was kept out, or changed what lets somebody in; it is said in the log, too, from where
// others gather it. Source is the address it came from.
func (r *Engine) NoteSecurity(ch *Change, kind, who, source, text string) error {
	ch.After(func() { r.Log.Info("security", "kind", kind, "who", who, "source", source, "text", text) })
	return ch.NoteSecurity(store.SecurityEvent{At: ch.Now.UnixMicro(), Kind: kind, Who: who, Source: source, Text: Clip(text, 300)})
}

var codeForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,30}$`)

// ValidCode tells whether a text can be the code of a place, a carton, a sender or a rule.
func ValidCode(code string) bool { return codeForm.MatchString(code) }
