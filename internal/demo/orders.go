package demo

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/core/message"
	"openrelay/internal/relay/orders"
	"openrelay/internal/standin"
	"openrelay/internal/wire"
)

// orders goes through what happens to orders when something is odd, and when nothing is.
func (k *walk) orders(ctx context.Context) error {
	for _, step := range []func(context.Context) error{
		k.pending, k.byTheMarketplace, k.threeAtOnce, k.portal, k.calledOff, k.rule, k.voided, k.merged} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return nil
}

// here waits until an order of a channel is here and as it should be.
func (k *walk) here(ctx context.Context, number, what string, ok func(wire.Order) bool) (o wire.Order, err error) {
	_, err = until(ctx, 15*time.Second, what, func() (bool, error) {
		o, err = k.w.Client.Order(ctx, number)
		if client.StatusOf(err) == http.StatusNotFound {
			return false, nil
		}
		return err == nil && ok(o), err
	})
	return o, err
}

func at(stage string) func(wire.Order) bool {
	return func(o wire.Order) bool { return o.Stage == stage }
}

func (w *World) sale(n int64, lines ...standin.SaleLine) standin.Sale {
	return standin.Sale{Customer: "Maren Tolland", Email: "maren.tolland@example.test", Shipping: 490,
		Lines: append([]standin.SaleLine{{SKU: "JAR-250-T24", Qty: n}}, lines...),
		Delivery: standin.Delivery{Name: "Maren Tolland", Street: "Lindenrow 14", Postcode: "41360", Town: "Harrowmere", Country: "XW",
			Method: "standard"}}
}

func (k *walk) pending(ctx context.Context) error {
	w, c := k.w, k.w.Client
	k.step("An order that waits for its payment")
	s := w.sale(2)
	s.Pending, s.Method = true, "transfer"
	id, name, err := w.Morrow.Place(s)
	if err != nil {
		return err
	}
	o, err := k.here(ctx, name, "the pending order", at("pending"))
	if err != nil {
		return err
	}
	_, err = c.Pick(ctx, o.Number)
	k.check(o.Lines[0].Allocated == 2 && client.StatusOf(err) == http.StatusConflict,
		"%s is pending: 2 trays are kept for it, and nobody can work on it: %v", o.Number, err)
	if err := w.Morrow.Complete(id); err != nil {
		return err
	}
	if o, err = k.here(ctx, name, "the payment", at("ready")); err != nil {
		return err
	}
	k.check(len(o.Versions) == 2 && len(o.Compared) == 1, "paid, it goes on by itself: ready; what changed in the channel's record: %s",
		changesText(o.Compared[0]))
	return nil
}

func changesText(v wire.VersionChange) string {
	var out []string
	for _, c := range v.Changes {
		if c.Field != "changed_at" && c.Field != "revision" {
			out = append(out, fmt.Sprintf("%s %s → %s", c.Field, c.Was, c.Is))
		}
	}
	return strings.Join(out, ", ")
}

func (k *walk) byTheMarketplace(ctx context.Context) error {
	w, c := k.w, k.w.Client
	k.step("An order that the marketplace ships from its own store room")
	x, err := c.Connection(ctx, "tansy")
	if err != nil {
		return err
	}
	s := x.Settings
	s.OwnLocation, s.ChannelPrefix = "tansy-room", "TR"
	if _, err := c.SetSettings(ctx, "tansy", s, x.Revision); err != nil {
		return err
	}
	before, err := c.Item(ctx, "SMOKER-M")
	if err != nil {
		return err
	}
	id, err := w.Tansy.Sell(standin.DeskSale{SKU: "TNS-SMK-M", Quantity: 2, Own: true})
	if err != nil {
		return err
	}
	if _, err := c.RunNow(ctx, "tansy", message.OrdersIn, ""); err != nil && client.StatusOf(err) != http.StatusConflict {
		return err
	}
	o, err := k.here(ctx, id, "the order", at("shipped"))
	if err != nil {
		return err
	}
	var after wire.ItemView
	if _, err := until(ctx, 20*time.Second, "the store room", func() (bool, error) {
		_, _ = c.RunNow(ctx, "tansy", message.StockIn, "")
		after, err = c.Item(ctx, "SMOKER-M")
		return err == nil && levelAt(after, "tansy-room").OnHand == w.Tansy.Room("TNS-SMK-M"), err
	}); err != nil {
		return err
	}
	k.check(strings.HasPrefix(o.Number, "TR-"), "%s ran to its end untouched, under a number of its own series", o.Number)
	k.check(levelAt(after, "tansy-room").OnHand == levelAt(before, "tansy-room").OnHand-2 &&
		levelAt(after, "alder").OnHand == levelAt(before, "alder").OnHand, "%d lie at the marketplace, %d before; ours are as they were",
		levelAt(after, "tansy-room").OnHand, levelAt(before, "tansy-room").OnHand)
	return nil
}

func (k *walk) threeAtOnce(ctx context.Context) error {
	w, c := k.w, k.w.Client
	k.step("Something nobody knows is sold three times, and mended once")
	var names []string
	for range 3 {
		_, name, err := w.Morrow.Place(w.sale(1, standin.SaleLine{SKU: "SMOKER-OLD", Title: "Smoker, former model", Qty: 1, Price: 1900}))
		if err != nil {
			return err
		}
		names = append(names, name)
	}
	for _, n := range names {
		if _, err := k.here(ctx, n, "the order", at("held")); err != nil {
			return err
		}
	}
	list, err := c.Groups(ctx, "cause=unknown%20item&connection=morrow")
	if err != nil {
		return err
	}
	k.check(len(list) == 1 && list[0].Orders == 3, "one exception: %s %s at %s, %d orders wait for it", list[0].Cause, list[0].Subject,
		list[0].ConnectionName, list[0].Orders)
	known, err := c.MakeKnown(ctx, "morrow", "SMOKER-OLD", "SMOKER-M", false)
	if err != nil {
		return err
	}
	k.check(known.Freed == 3, "told once that it is %s, %d orders go on", known.SKU, known.Freed)
	_, name, err := w.Morrow.Place(w.sale(1, standin.SaleLine{SKU: "SMOKER-OLD", Title: "Smoker, former model", Qty: 1, Price: 1900}))
	if err != nil {
		return err
	}
	_, err = k.here(ctx, name, "the fourth", at("ready"))
	k.check(err == nil, "a fourth order does not wait")
	return err
}

func (k *walk) portal(ctx context.Context) error {
	w, c := k.w, k.w.Client
	k.step("Lunch from the portal: answered in time, and its delivery is taxed")
	ref, err := w.Nosh.Order(standin.NoshSale{Brought: true, Kitchen: "Nut allergy at the table",
		Voucher: 200, Dishes: []standin.NoshDishSale{{Code: "LUNCH-SOUP", Count: 2, Choices: []string{"SIDE/SALAD"},
			Wish: "without cream"}}})
	if err != nil {
		return err
	}
	o, err := k.here(ctx, ref, "the order", func(o wire.Order) bool { return o.Ours.Answer != nil })
	if err != nil {
		return err
	}
	k.saw("%s as %s: %s, %d choices, “%s”, to the kitchen: %s; the portal waits until %s",
		ref, o.Number, o.Lines[0].Title, len(o.Lines[0].Choices), o.Lines[0].Note, o.Record.KitchenNote,
		o.Ours.Answer.By.Format("15:04:05"))
	for _, s := range o.Totals.Steps {
		k.saw("%-46s %10s", s.Text, eur(s.Amount))
	}
	k.check(o.Ours.Booked == 50, "the portal says %s, our sum is %s: %s are booked to %s", eur(o.Record.Total), eur(o.Totals.Total),
		eur(o.Ours.Booked), o.Ours.Account)
	if err := c.AnswerOrder(ctx, o.Number, true, 20, ""); err != nil {
		return err
	}
	if _, err := until(ctx, 8*time.Second, "the portal to hear", func() (bool, error) {
		return w.Nosh.Stands(ref) == "accepted", nil
	}); err != nil {
		return err
	}
	if err := c.HandOver(ctx, o.Number); err != nil {
		return err
	}
	if _, err := until(ctx, 8*time.Second, "the portal to hear", func() (bool, error) {
		return w.Nosh.Stands(ref) == "out", nil
	}); err != nil {
		return err
	}
	k.check(true, "accepted with twenty minutes, handed over; the portal says %s", w.Nosh.Stands(ref))
	return nil
}

func (k *walk) calledOff(ctx context.Context) error {
	w, c := k.w, k.w.Client
	k.step("Cancelled while it is being picked")
	id, name, err := w.Morrow.Place(w.sale(3))
	if err != nil {
		return err
	}
	o, err := k.here(ctx, name, "the order", at("ready"))
	if err != nil {
		return err
	}
	before, err := c.Item(ctx, "JAR-250-T24")
	if err != nil {
		return err
	}
	if err := w.pickSome(ctx, o.Number, 2); err != nil {
		return err
	}
	if err := w.Morrow.Cancel(id); err != nil {
		return err
	}
	if o, err = k.here(ctx, name, "the cancellation", at("cancelled")); err != nil {
		return err
	}
	after, err := c.Item(ctx, "JAR-250-T24")
	if err != nil {
		return err
	}
	k.check(o.Shipments[0].State == "called off" && sum(after).allocated == sum(before).allocated-3,
		"shipment %s is %s, two were picked; 3 trays can be sold again", o.Shipments[0].Number, o.Shipments[0].State)
	_, err = c.Scan(ctx, o.Shipments[0].Number, "JAR-250-T24", "", 1)
	k.check(client.StatusOf(err) == http.StatusConflict, "who goes on scanning is told: %v", err)
	return nil
}

func (k *walk) rule(ctx context.Context) error {
	w, c := k.w, k.w.Client
	k.step("A rule, seen on past orders before it is switched on")
	x := orders.RuleChange{Name: "Trays of jars are fragile", On: true, When: `skus.exists(s, s.startsWith("JAR-")) && units >= 2`,
		Then: `tag("fragile"), profile("medium")`}
	r, err := c.Rehearse(ctx, x, 10_000)
	if err != nil {
		return err
	}
	k.check(r.Changed > 0 && r.Changed < r.Seen, "it would have changed %d of %d past orders, in %.1f ms", r.Changed, r.Seen, r.TookMS)
	for _, o := range r.Orders[:min(3, len(r.Orders))] {
		k.saw("%s: %s", o.Number, strings.Join(o.Changes, "; "))
	}
	past, err := c.Order(ctx, r.Orders[0].Number)
	if err != nil {
		return err
	}
	if _, err := c.ChangeRule(ctx, x); err != nil {
		return err
	}
	_, name, err := w.Morrow.Place(w.sale(2))
	if err != nil {
		return err
	}
	o, err := k.here(ctx, name, "the order", at("ready"))
	if err != nil {
		return err
	}
	k.check(len(past.Ours.Tags) == 0 && len(o.Ours.Touched) == 1,
		"switched on, it decides on the next order: %s %s; the past ones are as they were", o.Number,
		strings.Join(o.Ours.Touched[0].Changes, ", "))
	return nil
}

func (k *walk) voided(ctx context.Context) error {
	w, c := k.w, k.w.Client
	k.step("Voided, its number released, taken in again; and many at once")
	_, name, err := w.Morrow.Place(w.sale(1))
	if err != nil {
		return err
	}
	o, err := k.here(ctx, name, "the order", at("ready"))
	if err != nil {
		return err
	}
	void, err := c.Void(ctx, o.Number, "a try", true)
	if err != nil {
		return err
	}
	again, err := c.TakeInAgain(ctx, void)
	if err != nil {
		return err
	}
	k.check(again == o.Number, "%s stays for the record; the channel's order is %s again", void, again)
	ready, _, err := c.Orders(ctx, "stage=ready&limit=3")
	if err != nil {
		return err
	}
	var numbers []string
	for _, r := range ready {
		numbers = append(numbers, r.Number)
	}
	d, err := c.Act(ctx, "hold", "until the van is back", append(numbers, void)...)
	if err != nil {
		return err
	}
	k.check(d.Done == len(numbers) && len(d.Results) == len(numbers)+1, "%d of %d held; %s: %s", d.Done, len(d.Results), void,
		d.Results[len(numbers)].Text)
	back, err := c.UndoAct(ctx, d.ID)
	k.check(err == nil && back.Done == d.Done, "undone for all %d", back.Done)
	return err
}

func (k *walk) merged(ctx context.Context) error {
	w, c := k.w, k.w.Client
	k.step("The till's sales of the day as one order")
	for range 3 {
		if _, err := w.Counterpane.Sell(standin.DeskSale{SKU: "TEA-POT"}); err != nil {
			return err
		}
	}
	var n int
	if _, err := until(ctx, 15*time.Second, "the sales", func() (bool, error) {
		_, _ = c.RunNow(ctx, "till", message.OrdersIn, "")
		list, _, err := c.Orders(ctx, "connection=till&kind=counter&limit=200")
		n = len(list)
		return n >= 3 && list[0].Stage == "shipped", err
	}); err != nil {
		return err
	}
	sums, err := c.Merge(ctx, "till", time.Now().Add(time.Second))
	if err != nil {
		return err
	}
	var members, total int64
	for _, s := range sums {
		o, err := c.Order(ctx, s)
		if err != nil {
			return err
		}
		members += o.Ours.Members
		total += o.Record.Total
	}
	k.check(members >= 3, "%d of %d sales are %s now, %s", members, n, strings.Join(sums, ", "), eur(total))
	if err := c.UndoMerge(ctx, sums[0]); err != nil {
		return err
	}
	again, err := c.Merge(ctx, "till", time.Now().Add(time.Second))
	k.check(err == nil && len(again) == 1, "taken apart and merged again before it is posted: %s", strings.Join(again, ", "))
	return err
}
