// Package exchange receives messages from the outside, keeps them, hands them to the room that decides on their kind
// of feed, and sends what waits in the outbox. It knows no kind of message: rooms register for theirs in Inbound and
// Outbound.
package exchange

import (
	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
)

// Exchange receives and sends.
type Exchange struct {
	*engine.Engine

	Inbound  map[message.Feed]Inbound  // by kind of feed
	Outbound map[message.Feed]Outbound // by kind of feed
}

// New makes the exchange of a company. Its connections begin to work when the company does.
func New(e *engine.Engine) *Exchange { return &Exchange{Engine: e} }
