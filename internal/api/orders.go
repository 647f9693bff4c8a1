package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"openrelay/internal/core/message"
	"openrelay/internal/core/money"
	"openrelay/internal/core/order"
	"openrelay/internal/core/person"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/views"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

// sees tells whether somebody may see personal data: those who work on orders do, those who only look do not.
func sees(ctx context.Context) bool { return may(personOf(ctx), person.SeeBuyers) }

// quoted is a text that may quote what came from outside, as who asks may see it.
func quoted(ctx context.Context, text string) string {
	if text == "" || sees(ctx) {
		return text
	}
	return hidden
}

// hidden stands where personal data is not shown.
const hidden = "hidden"

// initials is a name as those see it who may not see personal data.
func initials(name string) string {
	var out []string
	for _, w := range strings.Fields(name) {
		out = append(out, string([]rune(w)[:1])+".")
	}
	return strings.Join(out[:min(len(out), 3)], " ")
}

// looked writes that somebody saw personal data.
func (a *API) looked(ctx context.Context, thing, key string) error {
	if !sees(ctx) {
		return nil
	}
	return a.relay.Looked(ctx, who(ctx), personOf(ctx).Role, thing, key)
}

// OrdersInput narrows a list of orders.
type OrdersInput struct {
	PageInput
	Stage      string      `query:"stage" doc:"One stage or several, by comma"`
	Connection string      `query:"connection" doc:"Code of a connection"`
	State      string      `query:"state" doc:"The channel's word for the state"`
	Kind       string      `query:"kind" doc:"ship, collect, local, counter, prepared or summary"`
	Tag        string      `query:"tag"`
	Assignee   string      `query:"assignee"`
	Cause      order.Cause `query:"cause" doc:"Held for this cause, or with an open exception of it"`
	Typed      string      `query:"typed" doc:"Typed by this person; *: by anybody"`
	Customer   int64       `query:"customer" doc:"Number of a customer"`
	From       string      `query:"from" doc:"Taken in on this day or later, YYYY-MM-DD"`
	To         string      `query:"to" doc:"Taken in on this day or earlier, YYYY-MM-DD"`
	Search     string      `query:"q" doc:"Words of order, channel or tracking numbers, names, SKUs; all must be there" maxLength:"100"`
	Before     int64       `query:"before" doc:"Keyset: orders taken in before this one"`
	ToPick     bool        `query:"to_pick" doc:"Only those of which something waits to be picked or packed"`
	Oldest     bool        `query:"oldest" doc:"The oldest first"`
	After      int64       `query:"after" doc:"Keyset, with oldest: orders taken in after this one"`
}

func (a *API) filter(ctx context.Context, in *OrdersInput) (store.OrderFilter, error) {
	zone := a.relay.Zone()
	assignee, err := a.relay.PersonRef(ctx, in.Assignee)
	if err != nil {
		return store.OrderFilter{}, err
	}
	typed, err := a.relay.PersonRef(ctx, in.Typed)
	if err != nil {
		return store.OrderFilter{}, err
	}
	f := store.OrderFilter{Connection: in.Connection, State: in.State, Kind: in.Kind, Tag: in.Tag, Assignee: assignee, Cause: in.Cause,
		Typed: typed, Customer: in.Customer,
		Search: strings.TrimSpace(
			in.Search), Before: in.Before, Oldest: in.Oldest, After: in.After, ToPick: in.ToPick, NotAt: a.relay.PartnerPlaces(),
		Limit: in.Limit, Nameless: !sees(ctx)}
	if in.Stage != "" {
		f.Stages = strings.Split(in.Stage, ",")
	}
	if f.From, err = day(in.From, zone); err != nil {
		return f, err
	}
	if f.To, err = day(in.To, zone); err == nil && !f.To.IsZero() {
		f.To = f.To.AddDate(0, 0, 1)
	}
	return f, err
}

// day reads a day of the company's clocks; empty is the zero time.
func day(text string, zone *time.Location) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	t, err := time.ParseInLocation(time.DateOnly, text, zone)
	if err != nil {
		return t, engine.Refuse("%q is no day; YYYY-MM-DD is expected", text)
	}
	return t, nil
}

func (in *OrdersInput) query() url.Values {
	q := url.Values{"limit": {fmt.Sprint(in.Limit)}}
	for k, v := range map[string]string{"stage": in.Stage, "connection": in.Connection, "state": in.State, "kind": in.Kind, "tag": in.Tag,
		"assignee": in.Assignee, "cause": string(in.Cause), "typed": in.Typed,
		"from": in.From, "to": in.To, "q": in.Search} {
		if v != "" {
			q.Set(k, v)
		}
	}
	if in.Customer != 0 {
		q.Set("customer", fmt.Sprint(in.Customer))
	}
	if in.Oldest {
		q.Set("oldest", "true")
	}
	if in.ToPick {
		q.Set("to_pick", "true")
	}
	return q
}

// ordersCSV answers the orders of a filter as CSV, page by page, so that memory does not grow with them.
func (a *API) ordersCSV(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	in := OrdersInput{Stage: q.Get("stage"), Connection: q.Get("connection"), State: q.Get("state"), Kind: q.Get("kind"),
		Tag: q.Get("tag"), Assignee: q.Get("assignee"), Cause: order.Cause(q.Get("cause")),
		Typed: q.Get("typed"), From: q.Get("from"), To: q.Get("to"), Search: q.Get("q")}
	f, err := a.filter(r.Context(), &in)
	if err != nil {
		a.deny(w, err)
		return
	}
	if err := a.looked(r.Context(), "table", "orders.csv?"+r.URL.RawQuery); err != nil {
		a.deny(w, err)
		return
	}
	f.Limit = 1000
	list, err := a.relay.Store.ListOrders(r.Context(), f)
	if err != nil {
		a.deny(w, err)
		return
	}
	out := table(w, "orders.csv", "number", "channel", "channel_number", "channel_state", "stage", "kind", "buyer", "currency", "total",
		"units", "placed_at", "taken_in_at", "via", "typed_by", "assignee", "tags", "held")
	for len(list) > 0 {
		for _, row := range list {
			o := a.orderRow(r.Context(), row)
			placed := ""
			if o.PlacedAt != nil {
				placed = o.PlacedAt.Format(time.RFC3339)
			}
			_ = out.Row(o.Number, o.Connection, o.ChannelNumber, o.ChannelState, o.Stage, o.Kind, o.Buyer, o.Currency,
				money.Decimal(o.Total, o.Currency), fmt.Sprint(o.Units), placed,
				o.ReceivedAt.Format(time.RFC3339), o.Via, o.TypedBy, o.Assignee, strings.Join(o.Tags, " "), strings.Join(o.Held, "; "))
		}
		if len(list) < f.Limit {
			break
		}
		f.Before = list[len(list)-1].ID
		if list, err = a.relay.Store.ListOrders(r.Context(), f); err != nil {
			a.log.Error("a table could not be written to its end", "error", err)
			panic(http.ErrAbortHandler) // half a table must not look like a whole one
		}
	}
	_ = out.End() // who asked may have left
}

// compared says what each version of the channel's record changed against the one before, field by field.
func compared(ctx context.Context, versions []views.Version) []wire.VersionChange {
	out := []wire.VersionChange{}
	if !sees(ctx) {
		return out
	}
	var was map[string]string
	for _, v := range versions {
		is := map[string]string{}
		flatten(is, "", v.Record)
		if was != nil {
			c := wire.VersionChange{Version: v.Version, Changes: []wire.Change{}}
			for k, t := range is {
				if was[k] != t {
					c.Changes = append(c.Changes, wire.Change{Field: k, Was: was[k], Is: t})
				}
			}
			for k, t := range was {
				if _, ok := is[k]; !ok {
					c.Changes = append(c.Changes, wire.Change{Field: k, Was: t, Is: ""})
				}
			}
			slices.SortFunc(c.Changes, func(a, b wire.Change) int { return strings.Compare(a.Field, b.Field) })
			c.Changes = c.Changes[:min(len(c.Changes), 100)]
			out = append(out, c)
		}
		was = is
	}
	return out
}

func flatten(to map[string]string, path string, v any) {
	switch x := v.(type) {
	case map[string]any:
		for k, e := range x {
			flatten(to, strings.TrimPrefix(path+"."+k, "."), e)
		}
	case []any:
		for i, e := range x {
			flatten(to, fmt.Sprintf("%s[%d]", path, i+1), e)
		}
	case nil:
	case json.RawMessage:
		var plain any
		if json.Unmarshal(x, &plain) == nil {
			flatten(to, path, plain)
		}
	default:
		to[path] = fmt.Sprint(x)
	}
}

func (a *API) orderWorkRoutes() {
	op(a, person.WorkOrders, http.MethodPost, "/orders", "type-order", "Take in an order that a person typed", a.typeOrder)
	op(a, person.WorkOrders|person.Ship, http.MethodPost, "/orders/actions", "act", "Do one thing to many orders, with a result for each",
		a.act)
	op(a, person.WorkOrders|person.Ship, http.MethodGet, "/orders/actions/{id}", "action", "How an action on many orders stands", a.action)
	op(a, person.Look, http.MethodGet, "/jobs", "jobs", "Work that waits or is under way", a.jobs)
	op(a, person.WorkOrders, http.MethodPost, "/orders/actions/{id}/undo", "undo-act", "Take back what was done to many orders", a.undoAct)
	op(a, person.WorkOrders, http.MethodPost, "/orders/{number}/answer", "answer-order", "Tell the channel whether we take an order",
		a.answerOrder)
	op(a, person.WorkOrders, http.MethodPost, "/orders/{number}/cancel", "cancel-units",
		"Cancel units of an order here, or all that is not shipped; the channel is told", a.cancelUnits)
	op(a, person.WorkOrders, http.MethodPost, "/orders/{number}/plan", "plan-order",
		"Keep units of an order back, let them be sent from another place, or as a shipment of their own", a.planOrder)
	op(a, person.HandOver, http.MethodPost, "/orders/{number}/hand-over", "hand-over", "Note that the buyer has what lay ready",
		a.handOver)
	op(a, person.WorkOrders, http.MethodPost, "/orders/{number}/void", "void-order", "Make an order one that only stays for the record",
		a.voidOrder)
	op(a, person.WorkOrders, http.MethodPost, "/orders/{number}/take-in-again", "take-in-again",
		"Take the channel's order behind a voided one in anew", a.takeInAgain)
	op(a, person.WorkOrders, http.MethodPost, "/orders/{number}/undo-merge",
		"undo-merge", "Take a summary of a day apart, unless it was posted", a.undoMerge)
	op(a, person.KeepBooks, http.MethodPost, "/orders/{number}/posted", "posted", "Note that a summary went into the books", a.posted)
	op(a, person.WorkOrders, http.MethodPost, "/connections/{code}/merge", "merge",
		"Make summary orders of what is done, without waiting for the set hour", a.merge)
	op(a, person.Look, http.MethodGet, "/tags", "tags", "Tags in use, with the number of orders", a.tags)
	op(a, person.Look, http.MethodGet, "/channel-states", "channel-states", "The words that channels use for states", a.channelStates)
	op(a, person.WorkOrders|person.Ship|person.KeepBooks, http.MethodGet, "/people-here", "people-here",
		"Who may be asked to look after something", a.peopleHere)
	op(a, person.Look, http.MethodGet, "/views", "views", "Filters kept under a name", a.views)
	op(a, person.WorkOrders|person.Ship|person.KeepBooks, http.MethodPut, "/views", "keep-view", "Keep a filter under a name", a.keepView)
	op(a, person.WorkOrders|person.Ship|person.KeepBooks, http.MethodDelete, "/views/{id}", "drop-view", "Forget a filter", a.dropView)
	op(a, person.WorkOrders, http.MethodGet, "/inbox/{id}", "inbox-message", "A message as it came, and what can be read of it",
		a.inboxMessage)
}

func (a *API) orderNumber(number string, err error) (*body[wire.OrderNumber], error) {
	return &body[wire.OrderNumber]{wire.OrderNumber{Number: number}}, err
}

type typedOrderInput struct {
	Body struct {
		Connection string    `json:"connection" doc:"Code of the channel it counts for"`
		Inbox      int64     `json:"inbox,omitempty" doc:"The message that could not be taken in; 0: there is none"`
		Order      saleTyped `json:"order"`
	}
}

// saleTyped is an order as a person types it: what does not need to be said is worked out.
type saleTyped message.Order

// TransformSchema leaves to be said what cannot be worked out.
func (saleTyped) TransformSchema(r huma.Registry, s *huma.Schema) *huma.Schema {
	s.Required = []string{"currency", "ship_to", "lines"}
	s.PrecomputeMessages()
	lines := *s.Properties["lines"]
	line := *r.SchemaFromRef(lines.Items.Ref)
	line.Required = []string{"sku", "quantity"}
	line.PrecomputeMessages()
	lines.Items = &line
	s.Properties["lines"] = &lines
	return s
}

func (a *API) typeOrder(ctx context.Context, in *typedOrderInput) (*body[wire.OrderNumber], error) {
	typed := orders.TypedOrder{Connection: in.Body.Connection, Inbox: in.Body.Inbox, Order: message.Order(in.Body.Order)}
	return a.orderNumber(a.relay.TypeOrder(ctx, typed, who(ctx)))
}

type bulkInput struct{ Body orders.Bulk }

func (a *API) act(ctx context.Context, in *bulkInput) (*body[orders.BulkDone], error) {
	d, err := a.relay.Act(ctx, in.Body, who(ctx))
	return a.bulk(ctx, d, err)
}

// bulk answers what an action did; who something was given to is told by name.
func (a *API) bulk(ctx context.Context, d orders.BulkDone, err error) (*body[orders.BulkDone], error) {
	if err == nil && d.Action == orders.Assign {
		d.Value, err = a.relay.PersonName(ctx, d.Value)
	}
	return &body[orders.BulkDone]{d}, err
}

type workIDInput struct {
	ID int64 `path:"id"`
}

func (a *API) action(ctx context.Context, in *workIDInput) (*body[orders.BulkDone], error) {
	d, err := a.relay.BulkResult(ctx, in.ID)
	return a.bulk(ctx, d, err)
}

func (a *API) jobs(ctx context.Context, _ *struct{}) (*body[[]engine.Job], error) {
	list, err := a.relay.OpenJobs(ctx)
	return &body[[]engine.Job]{list}, err
}

func (a *API) undoAct(ctx context.Context, in *workIDInput) (*body[orders.BulkDone], error) {
	d, err := a.relay.UndoBulk(ctx, in.ID, who(ctx))
	return &body[orders.BulkDone]{d}, err
}

type orderAnswerInput struct {
	NumberInput
	Body struct {
		Accept  bool   `json:"accept"`
		Minutes int64  `json:"minutes,omitempty" doc:"Until it is ready"`
		Reason  string `json:"reason,omitempty" maxLength:"300" doc:"Why it is declined"`
	}
}

func (a *API) answerOrder(ctx context.Context, in *orderAnswerInput) (*body[wire.OrderNumber], error) {
	return a.orderNumber(in.Number, wrapNumber("order", in.Number, a.relay.Answer(ctx, in.Number, in.Body.Accept, in.Body.Minutes,
		in.Body.Reason, who(ctx))))
}

func (a *API) handOver(ctx context.Context, in *NumberInput) (*body[wire.OrderNumber], error) {
	return a.orderNumber(in.Number, wrapNumber("order", in.Number, a.relay.HandOver(ctx, in.Number, who(ctx))))
}

type voidInput struct {
	NumberInput
	IfMatch string `header:"If-Match"`
	Body    struct {
		Reason  string `json:"reason,omitempty" maxLength:"300"`
		Release bool   `json:"release_number,omitempty" doc:"Its number can be given again"`
	}
}

func (a *API) voidOrder(ctx context.Context, in *voidInput) (*body[wire.OrderNumber], error) {
	rev, err := seenRevision(in.IfMatch)
	if err != nil {
		return nil, err
	}
	n, err := a.relay.Void(ctx, in.Number, in.Body.Reason, in.Body.Release, rev, who(ctx))
	return a.orderNumber(n, wrapNumber("order", in.Number, err))
}

func (a *API) takeInAgain(ctx context.Context, in *NumberInput) (*body[wire.OrderNumber], error) {
	n, err := a.relay.TakeInAgain(ctx, in.Number, who(ctx))
	return a.orderNumber(n, wrapNumber("order", in.Number, err))
}

func (a *API) undoMerge(ctx context.Context, in *NumberInput) (*body[wire.OrderNumber], error) {
	return a.orderNumber(in.Number, wrapNumber("order", in.Number, a.relay.UndoMerge(ctx, in.Number, who(ctx))))
}

func (a *API) posted(ctx context.Context, in *NumberInput) (*body[wire.OrderNumber], error) {
	return a.orderNumber(in.Number, wrapNumber("order", in.Number, a.relay.Posted(ctx, in.Number, who(ctx))))
}

type mergeDayInput struct {
	Code string `path:"code"`
	Body struct {
		Before time.Time `json:"before,omitzero" doc:"Orders placed before; empty: before now"`
	}
}

func (a *API) merge(ctx context.Context, in *mergeDayInput) (*body[wire.Merged], error) {
	if in.Body.Before.IsZero() {
		in.Body.Before = a.relay.Clock()
	}
	list, err := a.relay.Merge(ctx, in.Code, in.Body.Before, who(ctx))
	if list == nil {
		list = []string{}
	}
	return &body[wire.Merged]{wire.Merged{Orders: list}}, err
}

func (a *API) tags(ctx context.Context, _ *struct{}) (*body[[]store.NamedCount], error) {
	list, err := a.relay.Store.Tags(ctx)
	return &body[[]store.NamedCount]{list}, err
}

type statesInput struct {
	Connection string `query:"connection"`
}

func (a *API) channelStates(ctx context.Context, in *statesInput) (*body[[]string], error) {
	list, err := a.relay.Store.States(ctx, in.Connection)
	if list == nil {
		list = []string{}
	}
	return &body[[]string]{list}, err
}

func (a *API) peopleHere(ctx context.Context, _ *struct{}) (*body[[]string], error) {
	list, err := a.relay.Store.UserNames(ctx)
	return &body[[]string]{list}, err
}

type viewsInput struct {
	Page string `query:"page" default:"orders"`
}

func (a *API) views(ctx context.Context, in *viewsInput) (*body[[]store.SavedView], error) {
	list, err := a.relay.Store.SavedViews(ctx, in.Page)
	return &body[[]store.SavedView]{list}, err
}

type keepViewInput struct {
	Body struct {
		Page  string `json:"page" enum:"orders,exceptions"`
		Name  string `json:"name" minLength:"1" maxLength:"60"`
		Query string `json:"query" maxLength:"500"`
	}
}

func (a *API) keepView(ctx context.Context, in *keepViewInput) (*struct{}, error) {
	return nil, a.relay.Store.Write(ctx, func(t *store.Tx) error {
		return t.PutView(store.SavedView{Page: in.Body.Page, Name: strings.TrimSpace(in.Body.Name), Query: in.Body.Query,
			Owner: who(ctx)})
	})
}

func (a *API) dropView(ctx context.Context, in *workIDInput) (*struct{}, error) {
	return nil, a.relay.Store.Write(ctx, func(t *store.Tx) error { return t.DropView(in.ID) })
}

func (a *API) inboxMessage(ctx context.Context, in *workIDInput) (*body[wire.Original], error) {
	raw, o, reason, err := a.relay.Original(ctx, in.ID)
	if err == nil {
		err = a.looked(ctx, "message", fmt.Sprint(in.ID))
	}
	return &body[wire.Original]{wire.Original{Raw: raw, Order: o, Reason: reason}}, err
}

type cancelUnitsInput struct {
	NumberInput
	IfMatch string `header:"If-Match" doc:"The order's revision, where it must not have changed"`
	Body    orders.Cancelling
}

func (a *API) cancelUnits(ctx context.Context, in *cancelUnitsInput) (*orderOutput, error) {
	rev, err := seenRevision(in.IfMatch)
	if err != nil {
		return nil, err
	}
	if err := a.relay.CancelUnits(ctx, in.Number, in.Body, rev, who(ctx)); err != nil {
		return nil, wrapNumber("order", in.Number, err)
	}
	return a.orderByNumber(ctx, in.Number)
}

type planInput struct {
	NumberInput
	IfMatch string `header:"If-Match" doc:"Revision as last seen"`
	Body    shipping.HandPlan
}

func (a *API) planOrder(ctx context.Context, in *planInput) (*orderOutput, error) {
	rev, err := seenRevision(in.IfMatch)
	if err != nil {
		return nil, err
	}
	if err := a.relay.Plan(ctx, in.Number, in.Body, rev, who(ctx)); err != nil {
		return nil, wrapNumber("order", in.Number, err)
	}
	return a.orderByNumber(ctx, in.Number)
}
