package exchange

import (
	"fmt"
	"slices"
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// awaiting notes that messages went in a file, and which receipt says what became of it.
func (r *Exchange) awaiting(ch *engine.Change, c *engine.Conn, group []store.OutboxMessage, reference string) error {
	within := c.Line().ReceiptOf(group[0].Feed)
	for _, m := range group {
		m.State, m.Submission, m.Error, m.Unclear = store.Sent, reference, "", false
		m.SentAt, m.NextAt = ch.Now.UnixMicro(), ch.Now.Add(within).UnixMicro()
		if err := ch.SettleOutbox(m); err != nil {
			return err
		}
	}
	c.WakeOut.In(within)
	return nil
}

// noReceipt asks a person about a file whose receipt did not come in its time. Whether it was taken is not known: it is not sent
// again by itself.
func (r *Exchange) noReceipt(ch *engine.Change, c *engine.Conn, one store.OutboxMessage, within time.Duration) error {
	group, err := ch.SubmittedWith(c.ID, one.Feed, one.Submission)
	if err != nil {
		return err
	}
	for _, m := range group {
		m.Unclear = true
		m.Error = fmt.Sprintf("no receipt for %s came in %s", one.Submission, within)
		if err := r.refused(ch, c, m); err != nil {
			return err
		}
	}
	return ch.SetFileState(c.ID, one.Submission, store.FileUnanswered, fmt.Sprintf("no receipt came in %s", within))
}

// TakeReceipt takes in what the other side says of something that we sent. One that comes late still counts: what was asked of a
// person is over.
func (r *Exchange) TakeReceipt(b *Batch, in store.InboxMessage, m *message.Receipt) error {
	y, _, err := b.Tally(in)
	if err != nil {
		return err
	}
	group, err := b.Ch.AwaitingReceipt(b.C.ID, m.Reference)
	if err != nil {
		return err
	}
	if len(group) == 0 {
		b.Skip(in, y, "of nothing that waits", fmt.Sprintf("nothing that was sent as %s waits for a receipt", m.Reference))
		return nil
	}
	y.Changed++
	for _, one := range group {
		one.Submission, one.Unclear = "", false
		if m.Taken {
			err = r.sent(b.Ch, b.C, one, nil)
		} else {
			one.Error = engine.Or(m.Reason, "it was not taken")
			err = r.refused(b.Ch, b.C, one)
		}
		if err != nil {
			return err
		}
	}
	state, reason := store.FileAccepted, ""
	if !m.Taken {
		state, reason = store.FileRefused, engine.Clip(engine.Or(m.Reason, "it was not taken"), 1000)
	}
	b.Ch.Tell("file", b.C.Rec().Code)
	b.Settle(in, "done", "", 0)
	return b.Ch.SetFileState(b.C.ID, m.Reference, state, reason)
}

// works tells whether another feed of the connection is switched on.
func (g *reading) works(kind message.Feed) bool {
	_, on := g.Feed(g.c, kind)
	return on
}

// seenBy tells whether another feed took a file with this content.
func (g *reading) seenBy(kind message.Feed, hash string) (bool, error) {
	return g.Store.FileWasTaken(g.Ctx, g.c.ID, string(kind), hash)
}

// told notes a file by which the other side was told what became of one of its.
func (g *reading) told(x connector.Exchange) error {
	return g.Commit(g.Ctx, func(ch *engine.Change) error { return g.wrote(ch, g.c, g.f.Kind, x, "") })
}

// leftOver is said of a file in which something is that no feed takes.
func leftOver(f connector.TakenFile) string {
	if len(f.Left) == 0 {
		return ""
	}
	slices.Sort(f.Left)
	return fmt.Sprintf("messages of %s in it were left: no feed takes them", engine.Join(f.Left))
}
