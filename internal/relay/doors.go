package relay

import (
	"openrelay/internal/store"
)

// inbound decides on messages of a kind of feed. Each message gets an outcome of its own.
type inbound func(b *batch, msgs []mapped) error

// each makes an inbound of what decides on one message.
func each[T any](decide func(b *batch, in store.InboxMessage, m *T) error) inbound {
	return func(b *batch, msgs []mapped) error {
		for _, m := range msgs {
			x, ok := m.msg.(*T)
			if !ok {
				continue
			}
			if err := decide(b, m.in, x); err != nil {
				return err
			}
		}
		return nil
	}
}

// outbound is told what became of messages of a kind of feed. What is nil is of no concern to it.
type outbound struct {
	// accepted: the other side took it; called before that is written. It may say something in m.Answer.
	accepted func(ch *change, c *conn, m *store.OutboxMessage, answer any) error
	// settled: the other side took it, and that is written.
	settled func(ch *change, c *conn, m store.OutboxMessage, answer any) error
	// confirmed: reading back showed it.
	confirmed func(ch *change, c *conn, m store.OutboxMessage) error
	// refused: it will not be taken. It returns the cause under which that is raised; empty: it was raised already.
	refused func(ch *change, c *conn, m store.OutboxMessage) (cause string, err error)
	// unknown: it was tried often, may have been carried out, and nobody said so. Without it, that is a refusal.
	unknown func(ch *change, c *conn, m store.OutboxMessage) error
	// again: a person wants it sent again.
	again func(ch *change, m store.OutboxMessage, who string) error
}
