// Package attention brings what needs a person to people: exceptions, and notices by e-mail and webhook.
package attention

import (
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
)

// Attention brings to people what needs them.
type Attention struct {
	*engine.Engine
	Exchange *exchange.Exchange
}

// New makes the attention of a company.
func New(e *engine.Engine, x *exchange.Exchange) *Attention {
	return &Attention{Engine: e, Exchange: x}
}
