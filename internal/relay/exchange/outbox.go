package exchange

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
	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// MaxAttempts is how often a message is tried before a person is asked.
const MaxAttempts = 12

// StockPace is the least time between two rounds of quantities to one channel: while sales stream in,
// many changes of a quantity become one message. The last units do not wait for it.
const StockPace = 25 * time.Millisecond

// outLoop sends what waits in the outbox of a connection.
func (r *Exchange) outLoop(c *engine.Conn) {
	for {
		wait := 30 * time.Second
		if c.Works() {
			more, err := r.SendDue(c)
			if err != nil && r.Ctx.Err() == nil {
				r.Log.Error("sending failed, trying again", "connection", c.Rec().Code, "error", err)
				wait = time.Second
			} else if more {
				continue
			} else if at, err := r.Store.NextOutbox(r.Ctx, c.Rec().ID); err == nil && !at.IsZero() {
				// Messages of feeds that are off stay due; they do not keep us awake.
				wait = min(wait, max(at.Sub(r.Clock()), 50*time.Millisecond))
				if at.Before(r.Clock().Add(-time.Second)) {
					wait = 5 * time.Second
				}
			}
		}
		timer := time.NewTimer(wait)
		select {
		case <-c.Ctx.Done():
			timer.Stop()
			return
		case <-c.WakeOut.Ch:
			timer.Stop()
		case <-timer.C:
		}
	}
}

// feedsToSend are the feeds of a connection that may send now.
func (r *Exchange) feedsToSend(c *engine.Conn) (feeds []message.Feed) {
	for _, kind := range c.Line().Def.Kinds() {
		if _, on := r.Feed(c, kind); !on || c.Line().Def.Feeds[kind].Send == nil {
			continue
		}
		if kind == message.StockOut && !c.LastUnits.Swap(false) {
			if rest := StockPace - r.Clock().Sub(c.StockSent); rest > 0 {
				c.WakeOut.In(rest)
				continue
			}
		}
		feeds = append(feeds, kind)
	}
	return feeds
}

// claim takes what is due of some feeds, so many messages at most, and notes that they are being sent.
func (r *Exchange) claim(c *engine.Conn, feeds []message.Feed, most int) (due []store.OutboxMessage, err error) {
	feeds, err = r.Store.DueFeeds(r.Ctx, c.Rec().ID, feeds, r.Clock())
	if err != nil || len(feeds) == 0 {
		return nil, err
	}
	write := r.Store.Write
	if len(feeds) == 1 && tellsState(c, feeds[0]) {
		write = r.Store.WriteUnsynced
	}
	err = write(r.Ctx, func(t *store.Tx) (err error) {
		due, err = t.ClaimOutbox(c.Rec().ID, feeds, r.Clock(), most)
		return err
	})
	return due, err
}

// SendDue sends one round of due messages and tells whether more may be due.
func (r *Exchange) SendDue(c *engine.Conn) (bool, error) {
	feeds := r.feedsToSend(c)
	if len(feeds) == 0 || r.Ctx.Err() != nil {
		return false, nil
	}
	const round = 200
	due, err := r.claim(c, feeds, round)
	if err != nil {
		return false, err
	}
	groups := map[message.Feed][]store.OutboxMessage{}
	for _, m := range due {
		groups[m.Feed] = append(groups[m.Feed], m)
	}
	if len(groups[message.StockOut]) > 0 {
		c.StockSent = r.Clock()
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
				for n < len(list) && n < c.Line().Def.Feeds[kind].Batch && list[n].State != store.Sent {
					n++
				}
			}
			if err := r.sendGroup(c, kind, list[:n]); err != nil {
				return false, err
			}
			list = list[n:]
			if r.Ctx.Err() != nil {
				return false, nil
			}
		}
	}
	return len(due) == round, nil
}

// tellsState tells whether messages of a feed say only how something is now, under references made of what they say: to send one again
// does nothing, so that after a loss of power it does not matter whether it was noted that it went.
func tellsState(c *engine.Conn, kind message.Feed) bool {
	return kind == message.StockOut && c.Line().Def.Feeds[kind].Batch > 1
}

// sendGroup sends messages of one feed in one request, or reads one back, and commits what came of it.
func (r *Exchange) sendGroup(c *engine.Conn, kind message.Feed, group []store.OutboxMessage) error {
	msgs := make([]any, len(group))
	for i, m := range group {
		msgs[i] = json.RawMessage(m.Payload)
	}
	if group[0].Submission != "" && group[0].State == store.Sent {
		return r.askReport(c, kind, group[0])
	}
	if group[0].State == store.Sent {
		ok, err := c.Line().Confirm(r.Ctx, kind, group[0].Ref, msgs[0])
		return r.Commit(r.Ctx, func(ch *engine.Change) error { return r.readBack(ch, c, group[0], ok, err) })
	}
	ref := r.groupRef(c, kind, group)
	var written connector.Exchange
	sent, err := r.send(c, kind, ref, group, msgs, &written)
	if err != nil && r.Ctx.Err() != nil {
		return nil // stopping: it stays marked as being sent and is taken up at the next start
	}
	if c.Rec().Test {
		sent.Receipt = "" // nobody answers a test
	}
	commit := r.Commit
	if tellsState(c, kind) {
		commit = r.CommitUnsynced
	}
	return commit(r.Ctx, func(ch *engine.Change) error {
		ch.Tell("feed", c.Rec().Code)
		f, _ := r.Feed(c, kind)
		if err != nil {
			if e := r.FeedFailed(ch, c, f, err); e != nil {
				return e
			}
			for _, m := range group {
				if e := r.notSent(ch, c, m, err); e != nil {
					return e
				}
			}
			return nil
		}
		if e := errors.Join(r.feedWent(ch, c, f), r.wrote(ch, c, kind, written, sent.Receipt)); e != nil {
			return e
		}
		switch {
		case sent.Submission != "":
			return r.submitted(ch, c, group, sent.Submission)
		case sent.Receipt != "":
			return r.awaiting(ch, c, group, sent.Receipt)
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

// groupRef returns the reference under which a group is sent: that of its only message, or one that stands for exactly the
// content of the batch.
func (r *Exchange) groupRef(c *engine.Conn, kind message.Feed, group []store.OutboxMessage) string {
	if c.Line().Def.Feeds[kind].Batch <= 1 {
		return group[0].Ref
	}
	h := sha256.New()
	for _, m := range group {
		fmt.Fprintf(h, "%s %s\n", m.Ref, m.Payload)
	}
	return r.Prefix + "-b" + hex.EncodeToString(h.Sum(nil)[:12])
}

// send sends a group of messages. Where an earlier answer to a message was lost and the other side can be asked, it is asked
// first: what arrived is not sent again.
func (r *Exchange) send(c *engine.Conn, kind message.Feed, ref string, group []store.OutboxMessage, msgs []any,
	written *connector.Exchange) (connector.Sent, error) {
	if c.Line().Def.Exchanges() {
		return c.Line().Send(connector.Recording(r.Ctx, written), kind, ref, msgs)
	}
	if !group[0].Unclear || !c.Line().Looks(kind) {
		return c.Line().Send(r.Ctx, kind, ref, msgs)
	}
	found, told, err := c.Line().Look(r.Ctx, kind, ref, msgs[0])
	switch {
	case err != nil:
		f := &connector.Failure{Text: "whether it arrived could not be asked: " + err.Error(), Temporary: true, Before: true}
		var was *connector.Failure
		if errors.As(err, &was) {
			f.Status, f.Unsent, f.RetryAfter = was.Status, was.Unsent, was.RetryAfter
		}
		return connector.Sent{}, f
	case found:
		return connector.Sent{Answer: told}, nil
	}
	return c.Line().Send(r.Ctx, kind, ref, msgs)
}

func (r *Exchange) feedWent(ch *engine.Change, c *engine.Conn, f store.Feed) error {
	now := ch.Now.UnixMicro()
	ch.After(func() {
		r.KnowFeed(c, f.Kind, func(k *store.Feed) { k.Failures, k.FailingAt, k.LastError, k.LastOKAt = 0, 0, "", now })
	})
	if f.Failures > 0 { // we are let in again
		if err := ch.CloseConnectionException(c.Rec().ID, engine.CredentialsRefused, ch.Now); err != nil {
			return err
		}
		ch.Tell("exception", "")
	}
	return ch.FeedWent(f.ID, "", ch.Now)
}

func (r *Exchange) FeedFailed(ch *engine.Change, c *engine.Conn, f store.Feed, err error) error {
	var fail *connector.Failure
	if errors.As(err, &fail) && !fail.Temporary && fail.Status != http.StatusUnauthorized && fail.Status != http.StatusForbidden {
		return nil // the message was refused; the feed itself works
	}
	now := ch.Now.UnixMicro()
	ch.After(func() {
		r.KnowFeed(c, f.Kind, func(k *store.Feed) {
			k.Failures++
			k.LastError = err.Error()
			if k.FailingAt == 0 {
				k.FailingAt = now
			}
		})
	})
	return ch.FeedFailed(f.ID, err.Error(), ch.Now)
}

// notSent decides what becomes of a message whose sending failed.
func (r *Exchange) notSent(ch *engine.Change, c *engine.Conn, m store.OutboxMessage, err error) error {
	var f *connector.Failure
	if !errors.As(err, &f) {
		f = &connector.Failure{Text: err.Error()}
	}
	locked := isLocked(f)
	m.Error, m.WrongField = f.Text, f.Wrong
	if e := r.lockedOut(ch, c, err); e != nil {
		return e
	}
	if f.Unsent && f.Temporary {
		m.Attempts = max(0, m.Attempts-1) // it never left: not an attempt
	}
	m.Unclear = mayHaveArrived(f) || m.Unclear && (f.Temporary || locked) // until it is answered, it may have been carried out
	if (f.Temporary || locked) && m.Attempts < MaxAttempts {
		m.State, m.NextAt = store.Waiting, ch.Now.Add(max(engine.Delay(int(m.Attempts), m.Ref), f.RetryAfter)).UnixMicro()
		return ch.SettleOutbox(m)
	}
	if unknown := r.Outbound[m.Feed].Unknown; m.Unclear && unknown != nil {
		return unknown(ch, c, m)
	}
	return r.refused(ch, c, m)
}

func isLocked(f *connector.Failure) bool {
	return f.Status == http.StatusUnauthorized || f.Status == http.StatusForbidden
}

// lockedOut raises it where an error means that we are not let in any more.
func (r *Exchange) lockedOut(ch *engine.Change, c *engine.Conn, err error) error {
	var f *connector.Failure
	if !errors.As(err, &f) || !isLocked(f) {
		return nil
	}
	ch.Tell("exception", "")
	return ch.Raise(store.Exception{Cause: engine.CredentialsRefused, Text: fmt.Sprintf("%s does not let us in: %s", c.Rec().Name, f.Text),
		Expected: "Valid credentials. Renew them on the connection's page; what waits then goes on by itself.", ConnectionID: c.ID}, ch.Now)
}

// refused ends a message that the other side does not take, and asks a person.
func (r *Exchange) refused(ch *engine.Change, c *engine.Conn, m store.OutboxMessage) error {
	m.State, m.NextAt = store.Refused, 0
	if err := ch.SettleOutbox(m); err != nil {
		return err
	}
	cause := engine.WriteBackRefused
	if refused := r.Outbound[m.Feed].Refused; refused != nil {
		var err error
		if cause, err = refused(ch, c, m); err != nil || cause == "" {
			return err
		}
	}
	ch.Tell("exception", "")
	did, expected := "refused", "An accepted message. Correct what the other side names, then send it again."
	if m.Unclear {
		did, expected = "gave no clear answer to", "An answer. It may have been carried out there; sending it again under the same "+
			"reference does nothing twice."
	}
	if m.OrderID != 0 {
		if err := ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: c.Rec().Name, Thing: "order", ThingID: m.OrderID, What: string(cause),
			Text: fmt.Sprintf("%s %s %s: %s", c.Rec().Name, did, m.Feed, m.Error)}); err != nil {
			return err
		}
	}
	ch.Watch = true
	return ch.Raise(store.Exception{Cause: cause, Subject: engine.Clip(m.Error, 120),
		Text:     fmt.Sprintf("%s %s %s of %s: %s", c.Rec().Name, did, m.Feed, m.Subject, m.Error),
		Expected: expected, ConnectionID: c.Rec().ID, OrderID: m.OrderID, OutboxID: m.ID}, ch.Now)
}

func (r *Exchange) batchAnswered(ch *engine.Change, c *engine.Conn, group []store.OutboxMessage, results []connector.Result) error {
	byKey := make(map[string]connector.Result, len(results))
	for _, res := range results {
		byKey[res.Subject] = res
	}
	for _, m := range group {
		subject := c.Line().Subject(m.Feed, json.RawMessage(m.Payload))
		res, ok := byKey[subject]
		m.Submission = ""
		switch {
		case !ok:
			m.Error = "the answer does not mention " + subject
			m.State, m.NextAt = store.Waiting, ch.Now.Add(engine.Delay(int(m.Attempts), m.Ref)).UnixMicro()
			if m.Attempts >= MaxAttempts {
				if err := r.refused(ch, c, m); err != nil {
					return err
				}
				continue
			}
		case !res.Accepted:
			m.Error = engine.Or(res.Reason, "refused without a reason")
			if err := r.refused(ch, c, m); err != nil {
				return err
			}
			continue
		default:
			m.State, m.NextAt, m.Error, m.Unclear = store.Confirmed, 0, "", false
			m.SentAt, m.ConfirmedAt = ch.Now.UnixMicro(), ch.Now.UnixMicro()
			if err := taken(ch, m); err != nil {
				return err
			}
			if err := r.accepted(ch, c, &m, &connector.SendAnswer{ID: res.ID, State: res.State, URL: res.URL}); err != nil {
				return err
			}
		}
		if err := ch.SettleOutbox(m); err != nil {
			return err
		}
	}
	ch.Tell("stock", "")
	return nil
}

// accepted lets whoever is concerned know that the other side took a message, before that is written.
func (r *Exchange) accepted(ch *engine.Change, c *engine.Conn, m *store.OutboxMessage, answer any) error {
	if f := r.Outbound[m.Feed].Accepted; f != nil {
		return f(ch, c, m, answer)
	}
	return nil
}

// taken ends what was raised about a message that the other side took, and about older ones on the same.
func taken(ch *engine.Change, m store.OutboxMessage) error {
	if err := ch.CloseExceptionFor(m.ID, 0, "relay", ch.Now); err != nil {
		return err
	}
	return ch.CloseOvertaken(m, engine.WriteBackRefused, ch.Now)
}

// submitted notes that messages went with a batch on which the other side reports later.
func (r *Exchange) submitted(ch *engine.Change, c *engine.Conn, group []store.OutboxMessage, submission string) error {
	p := c.Line().Reports(group[0].Feed)
	if p == nil {
		return fmt.Errorf("%s does not report", c.Rec().Name)
	}
	for _, m := range group {
		m.State, m.Submission, m.Error = store.Sent, submission, ""
		m.SentAt, m.NextAt = ch.Now.UnixMicro(), ch.Now.Add(time.Duration(p.After)).UnixMicro()
		if err := ch.SettleOutbox(m); err != nil {
			return err
		}
	}
	c.WakeOut.In(time.Duration(p.After))
	return nil
}

// askReport asks what became of a submission and settles all messages that went with it. A report that
// does not come until its time is over sends them again, as a new submission; after the third, a person
// is asked.
func (r *Exchange) askReport(c *engine.Conn, kind message.Feed, one store.OutboxMessage) error {
	p := c.Line().Reports(kind)
	if within := c.Line().ReceiptOf(kind); within > 0 {
		return r.Commit(r.Ctx, func(ch *engine.Change) error { return r.noReceipt(ch, c, one, within) })
	}
	if p == nil { // the definition knows no report any more: what was submitted is sent again as the definition now says
		return r.Commit(r.Ctx, func(ch *engine.Change) error { return r.submitAnew(ch, c, kind, one.Submission) })
	}
	results, ready, err := c.Line().Report(r.Ctx, kind, one.Submission)
	if err != nil && r.Ctx.Err() != nil {
		return nil
	}
	return r.Commit(r.Ctx, func(ch *engine.Change) error {
		group, e := ch.SubmittedWith(c.ID, kind, one.Submission)
		if e != nil || len(group) == 0 {
			return e
		}
		ch.Tell("feed", c.Rec().Code)
		f, _ := r.Feed(c, kind)
		if err == nil && ready {
			if e := r.feedWent(ch, c, f); e != nil {
				return e
			}
			return r.batchAnswered(ch, c, group, results)
		}
		why := fmt.Sprintf("submission %s is still being worked on there", one.Submission)
		if err != nil {
			why = fmt.Sprintf("the report on submission %s could not be read: %v", one.Submission, err)
			if e := r.FeedFailed(ch, c, f, err); e != nil {
				return e
			}
		}
		late := ch.Now.Sub(store.Time(one.SentAt)) > time.Duration(p.GiveUp)
		for _, m := range group {
			m.Error = why
			m.NextAt = ch.Now.Add(time.Duration(p.Every)).UnixMicro()
			if late {
				m.Error = fmt.Sprintf("no report on submission %s came in %s", one.Submission, time.Duration(p.GiveUp))
				m.State, m.Submission, m.NextAt = store.Waiting, "", ch.Now.UnixMicro()
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
		c.WakeOut.In(time.Duration(p.Every))
		return nil
	})
}

// submitAnew sends again what was submitted under a definition whose report nobody can ask for any more.
func (r *Exchange) submitAnew(ch *engine.Change, c *engine.Conn, kind message.Feed, submission string) error {
	group, err := ch.SubmittedWith(c.ID, kind, submission)
	if err != nil {
		return err
	}
	ch.Wake[c.ID] = true
	for _, m := range group {
		m.State, m.Submission, m.NextAt = store.Waiting, "", ch.Now.UnixMicro()
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
func (r *Exchange) sent(ch *engine.Change, c *engine.Conn, m store.OutboxMessage, answer any) error {
	again := m.SentAt != 0
	m.Error, m.SentAt, m.Unclear = "", ch.Now.UnixMicro(), false
	if b, err := json.Marshal(answer); err == nil && answer != nil {
		m.Answer = string(b)
	}
	if err := r.accepted(ch, c, &m, answer); err != nil {
		return err
	}
	if ok, after := c.Line().Confirmable(m.Feed); ok && !c.Rec().Test {
		m.State, m.NextAt = store.Sent, ch.Now.Add(after).UnixMicro()
		if !again { // the attempts of reading back are counted from here, once
			m.Attempts = 0
		}
		c.WakeOut.In(after)
	} else {
		m.State, m.NextAt, m.ConfirmedAt = store.Confirmed, 0, ch.Now.UnixMicro()
	}
	if err := ch.SettleOutbox(m); err != nil {
		return err
	}
	if err := taken(ch, m); err != nil {
		return err
	}
	if settled := r.Outbound[m.Feed].Settled; settled != nil {
		return settled(ch, c, m, answer)
	}
	return nil
}

// SeenThere confirms a message that was sent, because its channel showed of itself what it says.
func (r *Exchange) SeenThere(ch *engine.Change, m store.OutboxMessage) error {
	c := r.ByID(m.ConnectionID)
	if c == nil || m.State != store.Sent || m.Submission != "" {
		return nil
	}
	return r.readBack(ch, c, m, true, nil)
}

// readBack takes what a confirming read saw.
func (r *Exchange) readBack(ch *engine.Change, c *engine.Conn, m store.OutboxMessage, ok bool, err error) error {
	if ok {
		m.State, m.NextAt, m.ConfirmedAt, m.Error = store.Confirmed, 0, ch.Now.UnixMicro(), ""
		if e := ch.SettleOutbox(m); e != nil {
			return e
		}
		if confirmed := r.Outbound[m.Feed].Confirmed; confirmed != nil {
			return confirmed(ch, c, m)
		}
		return nil
	}
	m.Attempts++
	m.Error = "sent, but reading it back does not show it yet"
	if err != nil {
		m.Error = "sent, but it could not be read back: " + err.Error()
	}
	if m.Attempts >= MaxAttempts {
		return r.refused(ch, c, m)
	}
	m.NextAt = ch.Now.Add(engine.Delay(int(m.Attempts), m.Ref)).UnixMicro()
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
func (r *Exchange) SendAgain(ctx context.Context, id int64, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error { return r.Resend(ch, id, who) })
}

// Resend puts a refused message back into the queue, within a change.
func (r *Exchange) Resend(ch *engine.Change, id int64, who string) error {
	m, err := ch.Outbox(id)
	if err != nil {
		return fmt.Errorf("message %d: %w", id, err)
	}
	vain := m.State == store.Waiting && m.Unclear && m.Attempts >= MaxAttempts // tried, and nobody knows
	if m.State != store.Refused && !vain {
		return &engine.Refused{Text: fmt.Sprintf("message %s is %s, only refused ones are sent again", m.Ref, m.State), Conflict: true}
	}
	if again := r.Outbound[m.Feed].Again; again != nil {
		ch.Tell("exception", "")
		return again(ch, m, who)
	}
	if newer, err := ch.Overtaken(m); err != nil {
		return err
	} else if newer {
		return &engine.Refused{Text: fmt.Sprintf("a newer message about %s was decided since; this one would undo it", m.Subject),
			Conflict: true}
	}
	m.State, m.NextAt, m.Attempts, m.Error = store.Waiting, ch.Now.UnixMicro(), 0, ""
	if err := ch.SettleOutbox(m); err != nil {
		return err
	}
	ch.Wake[m.ConnectionID] = true
	if err := ch.CloseExceptionFor(m.ID, 0, who, ch.Now); err != nil {
		return err
	}
	ch.Tell("exception", "")
	return nil
}

// mayHaveArrived tells whether a failed call may have been carried out at the other side.
func mayHaveArrived(f *connector.Failure) bool {
	return !f.Unsent && !f.Before && f.Means == "" && (f.Status == 0 || f.Status >= http.StatusInternalServerError || f.Status < 300)
}
