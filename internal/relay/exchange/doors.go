package exchange

import (
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// Inbound decides on messages of a kind of feed. Each message gets an outcome of its own.
type Inbound func(b *Batch, msgs []Mapped) error

// Each makes an inbound of what decides on one message.
func Each[T any](decide func(b *Batch, in store.InboxMessage, m *T) error) Inbound {
	return func(b *Batch, msgs []Mapped) error {
		for _, m := range msgs {
			x, ok := m.Msg.(*T)
			if !ok {
				continue
			}
			if err := decide(b, m.In, x); err != nil {
				return err
			}
		}
		return nil
	}
}

// Outbound is told what became of messages of a kind of feed. What is nil is of no concern to it.
type Outbound struct {
	// accepted: the other side took it; called before that is written. It may say something in m.Answer.
	Accepted func(ch *engine.Change, c *engine.Conn, m *store.OutboxMessage, answer any) error
	// settled: the other side took it, and that is written.
	Settled func(ch *engine.Change, c *engine.Conn, m store.OutboxMessage, answer any) error
	// confirmed: reading back showed it.
	Confirmed func(ch *engine.Change, c *engine.Conn, m store.OutboxMessage) error
	// refused: it will not be taken. It returns the cause under which that is raised; empty: it was raised already.
	Refused func(ch *engine.Change, c *engine.Conn, m store.OutboxMessage) (cause order.Cause, err error)
	// unknown: it was tried often, may have been carried out, and nobody said so. Without it, that is a refusal.
	Unknown func(ch *engine.Change, c *engine.Conn, m store.OutboxMessage) error
	// again: a person wants it sent again.
	Again func(ch *engine.Change, m store.OutboxMessage, who string) error
}
