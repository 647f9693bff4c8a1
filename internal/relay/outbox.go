package relay

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/store"
)

// maxAttempts is how often a message is tried before a person is asked.
const maxAttempts = 12

// stockPace is the least time between two rounds of quantities to one channel: while sales stream in,
// many changes of a quantity become one message.
const stockPace = 50 * time.Millisecond

// outLoop sends what waits in the outbox of a connection.
func (r *Relay) outLoop(c *conn) {
	for {
		wait := 30 * time.Second
		if c.works() {
			more, err := r.sendDue(c)
			if err != nil && r.ctx.Err() == nil {
				r.log.Error("sending failed, trying again", "connection", c.rec().Code, "error", err)
				wait = time.Second
			} else if more {
				continue
			} else if at, err := r.Store.NextOutbox(r.ctx, c.rec().ID); err == nil && !at.IsZero() {
				// Messages of feeds that are off stay due; they do not keep us awake.
				wait = min(wait, max(at.Sub(r.now()), 50*time.Millisecond))
				if at.Before(r.now().Add(-time.Second)) {
					wait = 5 * time.Second
				}
			}
		}
		timer := time.NewTimer(wait)
		select {
		case <-c.ctx.Done():
			timer.Stop()
			return
		case <-c.wakeOut.ch:
			timer.Stop()
		case <-timer.C:
		}
	}
}

// sendDue sends one round of due messages and tells whether more may be due.
func (r *Relay) sendDue(c *conn) (bool, error) {
	var feeds []string
	for _, kind := range c.line().Def.Kinds() {
		if _, on := r.feed(c, kind); !on || c.line().Def.Feeds[kind].Send == nil {
			continue
		}
		if kind == "stock out" && r.now().Sub(c.stockSent) < stockPace {
			c.wakeOut.in(stockPace)
			continue
		}
		feeds = append(feeds, kind)
	}
	if len(feeds) == 0 || r.ctx.Err() != nil {
		return false, nil
	}
	const round = 200
	var due []store.OutboxMessage
	err := r.Store.Write(r.ctx, func(t *store.Tx) (err error) {
		due, err = t.ClaimOutbox(c.rec().ID, feeds, r.now(), round)
		return err
	})
	if err != nil {
		return false, err
	}
	groups := map[string][]store.OutboxMessage{}
	for _, m := range due {
		groups[m.Feed] = append(groups[m.Feed], m)
	}
	if len(groups["stock out"]) > 0 {
		c.stockSent = r.now()
	}
	for _, kind := range feeds {
		asked := map[string]bool{} // submissions that were asked about in this round
		for list := groups[kind]; len(list) > 0; {
			n := 1
			if sub := list[0].Submission; sub != "" && list[0].State == store.Sent {
				if asked[sub] {
					list = list[1:]
					continue
				}
				asked[sub] = true
			}
			if list[0].State != store.Sent {
				for n < len(list) && n < c.line().Def.Feeds[kind].Batch && list[n].State != store.Sent {
					n++
				}
			}
			if err := r.sendGroup(c, kind, list[:n]); err != nil {
				return false, err
			}
			list = list[n:]
			if r.ctx.Err() != nil {
				return false, nil
			}
		}
	}
	return len(due) == round, nil
}

// sendGroup sends messages of one feed in one request, or reads one back, and commits what came of it.
func (r *Relay) sendGroup(c *conn, kind string, group []store.OutboxMessage) error {
	msgs := make([]any, len(group))
	for i, m := range group {
		msgs[i] = json.RawMessage(m.Payload)
	}
	if group[0].Submission != "" && group[0].State == store.Sent {
		return r.askReport(c, kind, group[0])
	}
	if group[0].State == store.Sent {
		ok, err := c.line().Confirm(r.ctx, kind, group[0].Ref, msgs[0])
		return r.commit(r.ctx, func(ch *change) error { return r.readBack(ch, c, group[0], ok, err) })
	}
	ref := group[0].Ref
	if c.line().Def.Feeds[kind].Batch > 1 {
		// The reference of a batch stands for exactly this content.
		h := sha256.New()
		for _, m := range group {
			fmt.Fprintf(h, "%s %s\n", m.Ref, m.Payload)
		}
		ref = r.prefix + "-b" + hex.EncodeToString(h.Sum(nil)[:12])
	}
	sent, err := c.line().Send(r.ctx, kind, ref, msgs)
	if err != nil && r.ctx.Err() != nil {
		return nil // stopping: it stays marked as being sent and is taken up at the next start
	}
	return r.commit(r.ctx, func(ch *change) error {
		ch.tell("feed", c.rec().Code)
		f, _ := r.feed(c, kind)
		if err != nil {
			if e := r.feedFailed(ch, c, f, err); e != nil {
				return e
			}
			for _, m := range group {
				if e := r.notSent(ch, c, m, err); e != nil {
					return e
				}
			}
			return nil
		}
		if e := r.feedWent(ch, c, f); e != nil {
			return e
		}
		switch {
		case sent.Submission != "":
			return r.submitted(ch, c, group, sent.Submission)
		case sent.Results != nil:
			return r.batchAnswered(ch, c, group, sent.Results)
		}
		for _, m := range group {
			if e := r.sent(ch, c, m, sent.Answer); e != nil {
				return e
			}
		}
		return nil
	})
}

func (r *Relay) feedWent(ch *change, c *conn, f store.Feed) error {
	now := ch.now.UnixMicro()
	ch.after(func() {
		r.onFeed(c, f.Kind, func(k *store.Feed) { k.Failures, k.LastError, k.LastOKAt = 0, "", now })
	})
	if f.Failures > 0 { // we are let in again
		if err := ch.CloseConnectionException(c.rec().ID, credentialsRefused, ch.now); err != nil {
			return err
		}
		ch.tell("exception", "")
	}
	return ch.FeedWent(f.ID, "", ch.now)
}

func (r *Relay) feedFailed(ch *change, c *conn, f store.Feed, err error) error {
	var fail *connector.Failure
	if errors.As(err, &fail) && !fail.Temporary && fail.Status != http.StatusUnauthorized && fail.Status != http.StatusForbidden {
		return nil // the message was refused; the feed itself works
	}
	ch.after(func() { r.onFeed(c, f.Kind, func(k *store.Feed) { k.Failures++; k.LastError = err.Error() }) })
	return ch.FeedFailed(f.ID, err.Error(), ch.now)
}

// notSent decides what becomes of a message whose sending failed.
func (r *Relay) notSent(ch *change, c *conn, m store.OutboxMessage, err error) error {
	var f *connector.Failure
	if !errors.As(err, &f) {
		f = &connector.Failure{Text: err.Error()}
	}
	locked := isLocked(f)
	m.Error = f.Text
	if e := r.lockedOut(ch, c, err); e != nil {
		return e
	}
	if f.Unsent && f.Temporary {
		m.Attempts = max(0, m.Attempts-1) // it never left: not an attempt
	}
	m.Unclear = mayHaveArrived(f) || m.Unclear && (f.Temporary || locked) // until it is answered, it may have been carried out
	if (f.Temporary || locked) && m.Attempts < maxAttempts {
		m.State, m.NextAt = store.Waiting, ch.now.Add(max(delay(int(m.Attempts), m.Ref), f.RetryAfter)).UnixMicro()
		return ch.SettleOutbox(m)
	}
	if unknown := r.out[m.Feed].unknown; m.Unclear && unknown != nil {
		return unknown(ch, c, m)
	}
	return r.refused(ch, c, m)
}

func isLocked(f *connector.Failure) bool {
	return f.Status == http.StatusUnauthorized || f.Status == http.StatusForbidden
}

// lockedOut raises it where an error means that we are not let in any more.
func (r *Relay) lockedOut(ch *change, c *conn, err error) error {
	var f *connector.Failure
	if !errors.As(err, &f) || !isLocked(f) {
		return nil
	}
	ch.tell("exception", "")
	return ch.Raise(store.Exception{Cause: credentialsRefused, Text: fmt.Sprintf("%s does not let us in: %s", c.rec().Name, f.Text),
		Expected: "Valid credentials. Renew them on the connection's page; what waits then goes on by itself.", ConnectionID: c.id}, ch.now)
}

// refused ends a message that the other side does not take, and asks a person.
func (r *Relay) refused(ch *change, c *conn, m store.OutboxMessage) error {
	m.State, m.NextAt = store.Refused, 0
	if err := ch.SettleOutbox(m); err != nil {
		return err
	}
	cause := writeBackRefused
	if refused := r.out[m.Feed].refused; refused != nil {
		var err error
		if cause, err = refused(ch, c, m); err != nil || cause == "" {
			return err
		}
	}
	ch.tell("exception", "")
	did, expected := "refused", "An accepted message. Correct what the other side names, then send it again."
	if m.Unclear {
		did, expected = "gave no clear answer to", "An answer. It may have been carried out there; sending it again under the same reference does nothing twice."
	}
	if m.OrderID != 0 {
		if err := ch.Note(store.Entry{At: ch.now.UnixMicro(), Who: c.rec().Name, Thing: "order", ThingID: m.OrderID, What: cause, Text: fmt.Sprintf("%s %s %s: %s", c.rec().Name, did, m.Feed, m.Error)}); err != nil {
			return err
		}
	}
	ch.watch = true
	return ch.Raise(store.Exception{Cause: cause, Subject: clip(m.Error, 120), Text: fmt.Sprintf("%s %s %s of %s: %s", c.rec().Name, did, m.Feed, m.Subject, m.Error),
		Expected: expected, ConnectionID: c.rec().ID, OrderID: m.OrderID, OutboxID: m.ID}, ch.now)
}

func (r *Relay) batchAnswered(ch *change, c *conn, group []store.OutboxMessage, results []connector.Result) error {
	byKey := make(map[string]connector.Result, len(results))
	for _, res := range results {
		byKey[res.Subject] = res
	}
	for _, m := range group {
		subject := c.line().Subject(m.Feed, json.RawMessage(m.Payload))
		res, ok := byKey[subject]
		m.Submission = ""
		switch {
		case !ok:
			m.Error = "the answer does not mention " + subject
			m.State, m.NextAt = store.Waiting, ch.now.Add(delay(int(m.Attempts), m.Ref)).UnixMicro()
			if m.Attempts >= maxAttempts {
				if err := r.refused(ch, c, m); err != nil {
					return err
				}
				continue
			}
		case !res.Accepted:
			m.Error = or(res.Reason, "refused without a reason")
			if err := r.refused(ch, c, m); err != nil {
				return err
			}
			continue
		default:
			m.State, m.NextAt, m.Error = store.Confirmed, 0, ""
			m.SentAt, m.ConfirmedAt = ch.now.UnixMicro(), ch.now.UnixMicro()
			if err := r.accepted(ch, c, &m, &connector.SendAnswer{ID: res.ID, State: res.State, URL: res.URL}); err != nil {
				return err
			}
		}
		if err := ch.SettleOutbox(m); err != nil {
			return err
		}
	}
	ch.tell("stock", "")
	return nil
}

// accepted lets whoever is concerned know that the other side took a message, before that is written.
func (r *Relay) accepted(ch *change, c *conn, m *store.OutboxMessage, answer any) error {
	if f := r.out[m.Feed].accepted; f != nil {
		return f(ch, c, m, answer)
	}
	return nil
}

// submitted notes that messages went with a batch on which the other side reports later.
func (r *Relay) submitted(ch *change, c *conn, group []store.OutboxMessage, submission string) error {
	p := c.line().Reports(group[0].Feed)
	if p == nil {
		return fmt.Errorf("%s does not report", c.rec().Name)
	}
	for _, m := range group {
		m.State, m.Submission, m.Error = store.Sent, submission, ""
		m.SentAt, m.NextAt = ch.now.UnixMicro(), ch.now.Add(time.Duration(p.After)).UnixMicro()
		if err := ch.SettleOutbox(m); err != nil {
			return err
		}
	}
	c.wakeOut.in(time.Duration(p.After))
	return nil
}

// askReport asks what became of a submission and settles all messages that went with it. A report that
// does not come until its time is over sends them again, as a new submission; after the third, a person
// is asked.
func (r *Relay) askReport(c *conn, kind string, one store.OutboxMessage) error {
	p := c.line().Reports(kind)
	if p == nil { // the definition knows no report any more: what was submitted is sent again as the definition now says
		return r.commit(r.ctx, func(ch *change) error { return r.submitAnew(ch, c, kind, one.Submission) })
	}
	results, ready, err := c.line().Report(r.ctx, kind, one.Submission)
	if err != nil && r.ctx.Err() != nil {
		return nil
	}
	return r.commit(r.ctx, func(ch *change) error {
		group, e := ch.SubmittedWith(c.id, kind, one.Submission)
		if e != nil || len(group) == 0 {
			return e
		}
		ch.tell("feed", c.rec().Code)
		f, _ := r.feed(c, kind)
		if err == nil && ready {
			if e := r.feedWent(ch, c, f); e != nil {
				return e
			}
			return r.batchAnswered(ch, c, group, results)
		}
		why := fmt.Sprintf("submission %s is still being worked on there", one.Submission)
		if err != nil {
			why = fmt.Sprintf("the report on submission %s could not be read: %v", one.Submission, err)
			if e := r.feedFailed(ch, c, f, err); e != nil {
				return e
			}
		}
		late := ch.now.Sub(store.Time(one.SentAt)) > time.Duration(p.GiveUp)
		for _, m := range group {
			m.Error = why
			m.NextAt = ch.now.Add(time.Duration(p.Every)).UnixMicro()
			if late {
				m.Error = fmt.Sprintf("no report on submission %s came in %s", one.Submission, time.Duration(p.GiveUp))
				m.State, m.Submission, m.NextAt = store.Waiting, "", ch.now.UnixMicro()
				if m.Attempts >= maxSubmissions {
					if e := r.refused(ch, c, m); e != nil {
						return e
					}
					continue
				}
			}
			if e := ch.SettleOutbox(m); e != nil {
				return e
			}
		}
		c.wakeOut.in(time.Duration(p.Every))
		return nil
	})
}

// submitAnew sends again what was submitted under a definition whose report nobody can ask for any more.
func (r *Relay) submitAnew(ch *change, c *conn, kind, submission string) error {
	group, err := ch.SubmittedWith(c.id, kind, submission)
	if err != nil {
		return err
	}
	ch.wake[c.id] = true
	for _, m := range group {
		m.State, m.Submission, m.NextAt = store.Waiting, "", ch.now.UnixMicro()
		m.Error = fmt.Sprintf("the report on submission %s can no longer be asked for; it is sent again", submission)
		if err := ch.SettleOutbox(m); err != nil {
			return err
		}
	}
	return nil
}

// maxSubmissions is how often a batch whose report never comes is submitted.
const maxSubmissions = 3

// sent takes the answer to a single message.
func (r *Relay) sent(ch *change, c *conn, m store.OutboxMessage, answer any) error {
	again := m.SentAt != 0
	m.Error, m.SentAt, m.Unclear = "", ch.now.UnixMicro(), false
	if b, err := json.Marshal(answer); err == nil && answer != nil {
		m.Answer = string(b)
	}
	if err := r.accepted(ch, c, &m, answer); err != nil {
		return err
	}
	if ok, after := c.line().Confirmable(m.Feed); ok && !c.rec().Test {
		m.State, m.NextAt = store.Sent, ch.now.Add(after).UnixMicro()
		if !again { // the attempts of reading back are counted from here, once
			m.Attempts = 0
		}
		c.wakeOut.in(after)
	} else {
		m.State, m.NextAt, m.ConfirmedAt = store.Confirmed, 0, ch.now.UnixMicro()
	}
	if err := ch.SettleOutbox(m); err != nil {
		return err
	}
	if err := ch.CloseExceptionFor(m.ID, 0, "relay", ch.now); err != nil {
		return err
	}
	if settled := r.out[m.Feed].settled; settled != nil {
		return settled(ch, c, m, answer)
	}
	return nil
}

// readBack takes what a confirming read saw.
func (r *Relay) readBack(ch *change, c *conn, m store.OutboxMessage, ok bool, err error) error {
	if ok {
		m.State, m.NextAt, m.ConfirmedAt, m.Error = store.Confirmed, 0, ch.now.UnixMicro(), ""
		if e := ch.SettleOutbox(m); e != nil {
			return e
		}
		if confirmed := r.out[m.Feed].confirmed; confirmed != nil {
			return confirmed(ch, c, m)
		}
		return nil
	}
	m.Attempts++
	m.Error = "sent, but reading it back does not show it yet"
	if err != nil {
		m.Error = "sent, but it could not be read back: " + err.Error()
	}
	if m.Attempts >= maxAttempts {
		return r.refused(ch, c, m)
	}
	m.NextAt = ch.now.Add(delay(int(m.Attempts), m.Ref)).UnixMicro()
	if e := ch.SettleOutbox(m); e != nil {
		return e
	}
	if m.Attempts == 4 { // what was accepted is not there: say it again, under the same reference
		m.State = store.Waiting
		return ch.SettleOutbox(m)
	}
	return nil
}

// SendAgain puts a refused message back into the queue.
func (r *Relay) SendAgain(ctx context.Context, id int64, who string) error {
	return r.commit(ctx, func(ch *change) error { return r.sendAgain(ch, id, who) })
}

func (r *Relay) sendAgain(ch *change, id int64, who string) error {
	m, err := ch.Outbox(id)
	if err != nil {
		return err
	}
	vain := m.State == store.Waiting && m.Unclear && m.Attempts >= maxAttempts // tried, and nobody knows
	if m.State != store.Refused && !vain {
		return &Refused{Text: fmt.Sprintf("message %s is %s, only refused ones are sent again", m.Ref, m.State), Conflict: true}
	}
	if again := r.out[m.Feed].again; again != nil {
		ch.tell("exception", "")
		return again(ch, m, who)
	}
	if newer, err := ch.Overtaken(m); err != nil {
		return err
	} else if newer {
		return &Refused{Text: fmt.Sprintf("a newer message about %s was decided since; this one would undo it", m.Subject), Conflict: true}
	}
	m.State, m.NextAt, m.Attempts, m.Error = store.Waiting, ch.now.UnixMicro(), 0, ""
	if err := ch.SettleOutbox(m); err != nil {
		return err
	}
	ch.wake[m.ConnectionID] = true
	if err := ch.CloseExceptionFor(m.ID, 0, who, ch.now); err != nil {
		return err
	}
	ch.tell("exception", "")
	return nil
}
