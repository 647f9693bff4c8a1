package client

import (
	"context"
	"net/http"

	core "openrelay/internal/core/routing"
	"openrelay/internal/relay/routing"
	"openrelay/internal/wire"
)

// RoutingPolicy is what is weighed when places are chosen.
func (c *Client) RoutingPolicy(ctx context.Context) (wire.PolicyInUse, error) {
	return get[wire.PolicyInUse](ctx, c, "/routing")
}

// SetRoutingPolicy replaces it.
func (c *Client) SetRoutingPolicy(ctx context.Context, p core.Policy) (out wire.PolicyInUse, err error) {
	_, err = c.Do(ctx, http.MethodPut, "/routing", p, &out)
	return out, err
}

// RehearseRouting tells how the newest orders would have been sent under another policy.
func (c *Client) RehearseRouting(ctx context.Context, p core.Policy) (routing.Rehearsed, error) {
	return post[routing.Rehearsed](ctx, c, "/routing/rehearse", p)
}

// ReplanPlace plans anew all orders that a place, by its code, or any place was to send, by a job whose number it returns.
func (c *Client) ReplanPlace(ctx context.Context, place, reason string) (int64, error) {
	out, err := post[wire.StartedJob](ctx, c, "/routing/replan", map[string]string{"place": place, "reason": reason})
	return out.Job, err
}

// OrderPlan is from which places an order is sent, and why.
func (c *Client) OrderPlan(ctx context.Context, order string) (routing.OrderPlan, error) {
	return get[routing.OrderPlan](ctx, c, "/orders/"+esc(order)+"/plan")
}

// ReplanOrder plans an order anew, and tells whether something of it is sent otherwise now.
func (c *Client) ReplanOrder(ctx context.Context, order string, how wire.ReplanOrder) (bool, error) {
	out, err := post[wire.Replanned](ctx, c, "/orders/"+esc(order)+"/replan", how)
	return out.Changed, err
}
