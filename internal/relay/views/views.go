// Package views puts together what people look at. It changes nothing.
package views

import (
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/returning"
	"openrelay/internal/relay/shipping"
)

// Views puts together what people look at.
type Views struct {
	*engine.Engine
	Exchange *exchange.Exchange
	Shipping *shipping.Shipping

	Returning *returning.Returning
}

// New makes the views of a company.
func New(e *engine.Engine, x *exchange.Exchange, s *shipping.Shipping, b *returning.Returning) *Views {
	return &Views{Engine: e, Exchange: x, Shipping: s, Returning: b}
}
