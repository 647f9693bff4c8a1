package people

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/person"
	"openrelay/internal/core/place"
	"openrelay/internal/core/rules"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// keepDaysKey is the setting that says for how many days personal data is kept after an order is done.
const keepDaysKey = "personal data days"

// KeepDays is for how many days personal data is kept after an order is done; 0: for ever.
func (r *People) KeepDays(ctx context.Context) (int, error) {
	text, err := r.Store.Setting(ctx, keepDaysKey)
	if err != nil || text == "" {
		return 0, err
	}
	return strconv.Atoi(text)
}

// SetKeepDays says for how many days personal data is kept after an order is done; 0: for ever.
func (r *People) SetKeepDays(ctx context.Context, days int, who string) error {
	if days != 0 && (days < 30 || days > 3660) {
		return engine.Refuse("days: 0, or 30 to 3660; parcels may still come back within a month")
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		if err := ch.PutSetting(keepDaysKey, strconv.Itoa(days)); err != nil {
			return err
		}
		text := fmt.Sprintf("Personal data is removed %d days after an order is done", days)
		if days == 0 {
			text = "Personal data is kept for ever"
		}
		return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "company", What: "privacy", Text: text})
	})
}

// ForgetOld removes the personal data of orders that are done since longer than the set time. It returns how many
// orders there were.
func (r *People) ForgetOld(ctx context.Context) (int, error) {
	days, err := r.KeepDays(ctx)
	if err != nil || days == 0 {
		return 0, err
	}
	total := 0
	for ctx.Err() == nil {
		ids, err := r.Store.ToForget(ctx, r.Clock().AddDate(0, 0, -days), 100)
		if err != nil || len(ids) == 0 {
			return total, err
		}
		n, err := r.forget(ctx, ids, "relay", fmt.Sprintf("%d days after it was done", days), "")
		total += n
		if err != nil {
			return total, err
		}
	}
	return total, ctx.Err()
}

// forget removes the personal data of orders, and of the customers behind them: all of an e-mail, or those of
// whom nothing is left.
func (r *People) forget(ctx context.Context, ids []int64, who, why, email string) (int, error) {
	done := 0
	err := r.Commit(ctx, func(ch *engine.Change) error {
		for _, id := range ids {
			o, err := ch.Order(id)
			if err != nil {
				return err
			}
			Strip(o, store.Forgotten)
			o.ForgottenAt = ch.Now
			o.Revision++
			if err := ch.ForgetOrder(o, engine.ImpersonalNotes()); err != nil {
				return err
			}
			b, err := ch.FactsOf(id)
			if err != nil && !errors.Is(err, store.ErrNotFound) {
				return err
			}
			if err == nil {
				var f rules.Facts
				if err := f.Read(b); err != nil {
					return err
				}
				f.Forget()
				if err := ch.PutFacts(map[int64]*rules.Facts{id: &f}, []int64{id}); err != nil {
					return err
				}
			}
			if err := r.NoteOrder(ch, o, who, "personal data", "Personal data removed, %s", why); err != nil {
				return err
			}
			ch.Tell("order", o.Number)
			done++
		}
		if _, err := ch.ForgetCustomers(email, ch.Now); err != nil {
			return err
		}
		return ch.ForgetAnswers(time.Now().Add(time.Hour)) // those to repeated requests may name the person
	})
	return done, err
}

// Strip takes out of an order what tells who bought; a word stands in its place. The money, the goods, the country and the region of the
// postcode stay: the books and the reports need them.
func Strip(o *order.Order, word string) {
	o.Record, o.ShipTo = order.Bare(&o.Record, word), order.BareAddress(o.ShipTo, word)
	o.Ours.Decided.Notes = nil
	o.Ours.Point = nil                 // it says where somebody lives
	if x := o.Ours.Checked; x != nil { // what is wrong with the address shows the address
		bare := *x
		bare.Suggestion, bare.Note, bare.Position = nil, "", nil
		o.Ours.Checked = &bare
	}
	for i := range o.Lines {
		o.Lines[i].Note = ""
	}
}

// PersonData is all that is kept of a person.
type PersonData struct {
	Email     string           `json:"email"`
	At        time.Time        `json:"at"`
	Customers []PersonCustomer `json:"customers"`
	Orders    []PersonOrder    `json:"orders"`
}

// PersonCustomer is a person as one channel knows them.
type PersonCustomer struct {
	Channel string `json:"channel"`
	store.Customer
	Address string `json:"address,omitempty"`
}

// PersonOrder is an order of a person, with what was received of it.
type PersonOrder struct {
	Number     string         `json:"number"`
	Channel    string         `json:"channel"`
	ReceivedAt time.Time      `json:"received_at"`
	Record     message.Order  `json:"record"`
	ShipTo     place.Address  `json:"ship_to"`
	Received   []any          `json:"received" doc:"What the channel sent, as it came"`
	Timeline   []PersonMoment `json:"timeline"`
}

// PersonMoment is something that happened to an order.
type PersonMoment struct {
	At   time.Time `json:"at"`
	Text string    `json:"text"`
}

// Person gathers all that is kept of a person, found by e-mail.
func (r *People) Person(ctx context.Context, email string) (PersonData, error) {
	email = strings.TrimSpace(email)
	out := PersonData{Email: email, At: r.Clock().UTC(), Customers: []PersonCustomer{}, Orders: []PersonOrder{}}
	customers, err := r.Store.CustomersOf(ctx, email)
	if err != nil {
		return out, err
	}
	for _, c := range customers {
		out.Customers = append(out.Customers, PersonCustomer{Channel: r.Code(c.ConnectionID), Customer: c, Address: c.Address})
	}
	ids, err := r.Store.OrdersOfPerson(ctx, email)
	if err != nil {
		return out, err
	}
	for _, id := range ids {
		o, err := r.Store.OrderByID(ctx, id)
		if err != nil {
			return out, err
		}
		v, err := r.Views.Order(ctx, o.Number)
		if err != nil {
			return out, err
		}
		p := PersonOrder{Number: o.Number, Channel: v.Channel.Code, ReceivedAt: o.ReceivedAt, Record: o.Record, ShipTo: o.ShipTo,
			Received: []any{}, Timeline: []PersonMoment{}}
		for _, x := range v.Versions {
			p.Received = append(p.Received, x.Record)
		}
		for _, e := range v.Timeline {
			p.Timeline = append(p.Timeline, PersonMoment{store.Time(e.At), e.Text})
		}
		out.Orders = append(out.Orders, p)
	}
	if len(out.Customers) == 0 {
		return out, fmt.Errorf("person with the e-mail %s: %w", email, store.ErrNotFound)
	}
	return out, nil
}

// ErasePerson removes the personal data of a person. Orders that are still on their way stand against it.
func (r *People) ErasePerson(ctx context.Context, email, who string) (int, error) {
	p, err := r.Person(ctx, email)
	if err != nil {
		return 0, err
	}
	var ids []int64
	for _, x := range p.Orders {
		o, err := r.Store.OrderByNumber(ctx, x.Number)
		if err != nil {
			return 0, err
		}
		switch st := o.Stage(); st {
		case order.Shipped, order.Delivered, order.Cancelled, order.Void:
			ids = append(ids, o.ID)
		default:
			return 0, &engine.Refused{Text: fmt.Sprintf("order %s is %s; their data is needed until it is done, or cancelled", o.Number,
				st), Conflict: true}
		}
	}
	// First what is found by words only: as long as the rest is there, the words are, and all can be done again.
	words := p.words()
	if err := r.Commit(ctx, func(ch *engine.Change) error { return ch.ForgetWords(words, ch.Now) }); err != nil {
		return 0, err
	}
	return r.forget(ctx, ids, who, "as the person asked", p.Email)
}

// leastWord is how long a word must be that is looked for everywhere: a shorter one stands in too much else.
const leastWord = 5

// words are what tells who the person is, wherever it stands.
func (p PersonData) words() []string {
	seen := map[string]bool{}
	add := func(words ...string) {
		for _, w := range words {
			if w = strings.TrimSpace(w); len(w) >= leastWord {
				seen[w] = true
			}
		}
	}
	ofAddress := func(a place.Address) { add(a.Name, a.Street, a.Extra, a.Phone, a.Email) }
	add(p.Email)
	for _, c := range p.Customers {
		add(c.Name, c.Email, c.Phone)
	}
	for _, o := range p.Orders {
		add(o.Record.BuyerName, o.Record.Note, o.Record.GiftNote)
		ofAddress(o.Record.ShipTo)
		ofAddress(o.ShipTo)
		for _, v := range o.Record.Vouchers {
			add(v.Code)
		}
	}
	return slices.Sorted(maps.Keys(seen))
}

// accessLog remembers for a while who looked at what, so that looking again is not written again.
type accessLog struct {
	mu   sync.Mutex
	seen map[string]time.Time
}

// Looked writes that somebody looked at personal data: thing and key say at what.
func (r *People) Looked(ctx context.Context, who string, role person.Role, thing, key string) error {
	now := r.Clock()
	k := who + "\x00" + thing + "\x00" + key
	r.accesses.mu.Lock()
	if len(r.accesses.seen) > 10_000 || r.accesses.seen == nil {
		r.accesses.seen = map[string]time.Time{}
	}
	recent := now.Sub(r.accesses.seen[k]) < lookAgain
	if !recent {
		r.accesses.seen[k] = now
	}
	r.accesses.mu.Unlock()
	if recent {
		return nil
	}
	return r.Store.Write(ctx, func(t *store.Tx) error {
		return t.NoteLook(store.Look{At: now.UnixMicro(), Who: who, Role: role, Thing: thing, Key: key})
	})
}

// lookAgain is after what time a second look of the same person at the same thing is written again.
const lookAgain = 10 * time.Minute
