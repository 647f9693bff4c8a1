package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"openrelay/internal/relay/attention"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/people"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

// onOrder does something to one order and returns the number it then has.
func (c *Client) onOrder(ctx context.Context, number, what string, in any) (string, error) {
	var out wire.OrderNumber
	_, err := c.Do(ctx, http.MethodPost, "/orders/"+esc(number)+"/"+what, in, &out)
	return out.Number, err
}

// TypeOrder takes in an order that a person typed, and returns its number.
func (c *Client) TypeOrder(ctx context.Context, o orders.TypedOrder) (string, error) {
	var out wire.OrderNumber
	_, err := c.Do(ctx, http.MethodPost, "/orders", o, &out)
	return out.Number, err
}

// Act does one thing to many orders.
func (c *Client) Act(ctx context.Context, action orders.ActionKind, value string, numbers ...string) (out orders.BulkDone, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/orders/actions", orders.Bulk{Action: action, Value: value, Orders: numbers}, &out)
	return out, err
}

// Action tells how an action on many orders stands.
func (c *Client) Action(ctx context.Context, id int64) (out orders.BulkDone, err error) {
	_, err = c.Do(ctx, http.MethodGet, "/orders/actions/"+fmt.Sprint(id), nil, &out)
	return out, err
}

// ActionDone waits until an action on many orders has an outcome for each; seen is told how far it is, and may be nil.
func (c *Client) ActionDone(ctx context.Context, d orders.BulkDone, seen func(orders.BulkDone)) (orders.BulkDone, error) {
	for d.State != "done" {
		if seen != nil {
			seen(d)
		}
		select {
		case <-ctx.Done():
			return d, ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
		var err error
		if d, err = c.Action(ctx, d.ID); err != nil {
			return d, err
		}
	}
	return d, nil
}

// Jobs lists the work that waits or is under way.
func (c *Client) Jobs(ctx context.Context) (out []engine.Job, err error) {
	_, err = c.Do(ctx, http.MethodGet, "/jobs", nil, &out)
	return out, err
}

// NotBought says that a label of which nothing was known does not exist at the carrier.
func (c *Client) NotBought(ctx context.Context, outbox int64) error {
	_, err := c.Do(ctx, http.MethodPost, "/outbox/"+fmt.Sprint(outbox)+"/not-bought", nil, nil)
	return err
}

// Company tells what is known of the company.
func (c *Client) Company(ctx context.Context) (engine.Company, error) {
	return get[engine.Company](ctx, c, "/company")
}

// SetCompany says what the company is called and where its days begin.
func (c *Client) SetCompany(ctx context.Context, x engine.Company) (out engine.Company, err error) {
	_, err = c.Do(ctx, http.MethodPut, "/company", x, &out)
	return out, err
}

// UndoAct takes back what was done to many orders.
func (c *Client) UndoAct(ctx context.Context, id int64) (out orders.BulkDone, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/orders/actions/"+fmt.Sprint(id)+"/undo", nil, &out)
	return out, err
}

// AnswerOrder tells the channel whether we take an order.
func (c *Client) AnswerOrder(ctx context.Context, number string, accept bool, minutes int64, reason string) error {
	_, err := c.onOrder(ctx, number, "answer", map[string]any{"accept": accept, "minutes": minutes, "reason": reason})
	return err
}

// HandOver notes that the buyer has what lay ready.
func (c *Client) HandOver(ctx context.Context, number string) error {
	_, err := c.onOrder(ctx, number, "hand-over", nil)
	return err
}

// Void makes an order one that only stays for the record.
func (c *Client) Void(ctx context.Context, number, reason string, release bool) (string, error) {
	return c.onOrder(ctx, number, "void", map[string]any{"reason": reason, "release_number": release})
}

// TakeInAgain takes the channel's order behind a voided one in anew.
func (c *Client) TakeInAgain(ctx context.Context, number string) (string, error) {
	return c.onOrder(ctx, number, "take-in-again", nil)
}

// UndoMerge takes a summary of a day apart.
func (c *Client) UndoMerge(ctx context.Context, number string) error {
	_, err := c.onOrder(ctx, number, "undo-merge", nil)
	return err
}

// Posted notes that a summary went into the books.
func (c *Client) Posted(ctx context.Context, number string) error {
	_, err := c.onOrder(ctx, number, "posted", nil)
	return err
}

// Merge makes summary orders of what is done on a channel, and returns their numbers.
func (c *Client) Merge(ctx context.Context, connection string, before time.Time) ([]string, error) {
	var out wire.Merged
	in := map[string]any{}
	if !before.IsZero() {
		in["before"] = before
	}
	_, err := c.Do(ctx, http.MethodPost, "/connections/"+esc(connection)+"/merge", in, &out)
	return out.Orders, err
}

// Rules lists the rules in their order.
func (c *Client) Rules(ctx context.Context) ([]wire.Rule, error) {
	return get[[]wire.Rule](ctx, c, "/rules")
}

// ChangeRule adds, changes, moves, switches or removes a rule, and returns them all.
func (c *Client) ChangeRule(ctx context.Context, r orders.RuleChange) (out []wire.Rule, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/rules", r, &out)
	return out, err
}

// Rehearse tells what a change of the rules would have made of the newest so many orders.
func (c *Client) Rehearse(ctx context.Context, r orders.RuleChange, last int64) (out wire.Rehearsed, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/rules/rehearse", struct {
		orders.RuleChange
		Orders int64 `json:"orders"`
	}{r, last}, &out)
	return out, err
}

func (c *Client) onGroup(ctx context.Context, what string, in any) (int64, error) {
	var out wire.Counted
	_, err := c.Do(ctx, http.MethodPost, "/exceptions/"+what, in, &out)
	return out.Count, err
}

// Groups lists what needs a person; query is like "cause=unknown%20item".
func (c *Client) Groups(ctx context.Context, query string) ([]wire.Exception, error) {
	return get[[]wire.Exception](ctx, c, "/exceptions?"+query)
}

// Assign says who looks after a group of exceptions.
func (c *Client) Assign(ctx context.Context, g attention.GroupOf, assignee string) (int64, error) {
	return c.onGroup(ctx, "assign", struct {
		attention.GroupOf
		Assignee string `json:"assignee"`
	}{g, assignee})
}

// Snooze lets a group of exceptions sleep until a time.
func (c *Client) Snooze(ctx context.Context, g attention.GroupOf, until time.Time) (int64, error) {
	return c.onGroup(ctx, "snooze", struct {
		attention.GroupOf
		Until time.Time `json:"until,omitzero"`
	}{g, until})
}

// SendGroupAgain sends all refused messages of a group again.
func (c *Client) SendGroupAgain(ctx context.Context, g attention.GroupOf) (int64, error) {
	return c.onGroup(ctx, "send-again", g)
}

// Settle says that a group of exceptions was dealt with elsewhere.
func (c *Client) Settle(ctx context.Context, g attention.GroupOf) (int64, error) {
	return c.onGroup(ctx, "settle", g)
}

// MakeKnown says which item is sold under an unknown SKU.
func (c *Client) MakeKnown(ctx context.Context, connection, sold, sku string, create bool) (out orders.Known, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/exceptions/known", map[string]any{"connection": connection, "sold": sold, "sku": sku,
		"create": create}, &out)
	return out, err
}

// PutTarget adds or changes somebody who is told of exceptions. The secret of a new webhook is shown once.
func (c *Client) PutTarget(ctx context.Context, t attention.NewTarget) (id int64, secret string, err error) {
	var out wire.NewTarget
	_, err = c.Do(ctx, http.MethodPut, "/targets", t, &out)
	return out.ID, out.Secret, err
}

// Targets lists who is told of exceptions.
func (c *Client) Targets(ctx context.Context) ([]wire.Target, error) {
	return get[[]wire.Target](ctx, c, "/targets")
}

// DropTarget tells somebody no more.
func (c *Client) DropTarget(ctx context.Context, id int64) error {
	_, err := c.Do(ctx, http.MethodDelete, "/targets/"+fmt.Sprint(id), nil, nil)
	return err
}

// Report returns figures over a span of days; empty days mean the last thirty.
func (c *Client) Report(ctx context.Context, code, from, to string) (wire.Report, error) {
	return get[wire.Report](ctx, c, "/reports/"+esc(code)+"?"+url.Values{"from": {from}, "to": {to}}.Encode())
}

// Person returns all that is kept of a person.
func (c *Client) Person(ctx context.Context, email string) (people.PersonData, error) {
	return get[people.PersonData](ctx, c, "/persons/"+esc(email))
}

// ErasePerson removes the personal data of a person and returns how many orders that were.
func (c *Client) ErasePerson(ctx context.Context, email string) (int, error) {
	var out wire.Erased
	_, err := c.Do(ctx, http.MethodDelete, "/persons/"+esc(email), nil, &out)
	return out.Orders, err
}

// KeepFor says how long personal data is kept after an order is done.
func (c *Client) KeepFor(ctx context.Context, days int) error {
	_, err := c.Do(ctx, http.MethodPut, "/privacy", map[string]int{"keep_days": days}, nil)
	return err
}

// Looks lists who looked at personal data.
func (c *Client) Looks(ctx context.Context, query string) ([]wire.Look, error) {
	return get[[]wire.Look](ctx, c, "/looks?"+query)
}

// Inbox returns a message as it came.
func (c *Client) Inbox(ctx context.Context, id int64) (wire.Original, error) {
	return get[wire.Original](ctx, c, "/inbox/"+fmt.Sprint(id))
}

// Views lists filters kept under a name.
func (c *Client) Views(ctx context.Context, page string) ([]store.SavedView, error) {
	return get[[]store.SavedView](ctx, c, "/views?page="+url.QueryEscape(page))
}

// CancelUnits cancels units of an order here, or all that is not shipped.
func (c *Client) CancelUnits(ctx context.Context, number string, x orders.Cancelling) (out wire.Order, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/orders/"+esc(number)+"/cancel", x, &out)
	return out, err
}
