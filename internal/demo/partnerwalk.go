package demo

import (
	"context"
	"fmt"
	"time"

	"openrelay/internal/core/request"
	"openrelay/internal/standin"
	"openrelay/internal/wire"
)

// partners lets a warehouse send by files, refuse, and bill, and a maker make what is engraved: in test first, then live.
func (k *walk) partners(ctx context.Context, w *World) error {
	k.step("A partner warehouse sends for us, asked by EDIFACT files")
	if err := w.JoinFallowgate(ctx); err != nil {
		return err
	}
	if err := w.gateCounted(ctx, "SMOKER-M"); err != nil {
		return err
	}
	sent, err := w.askedFor(ctx, standin.SaleLine{SKU: "SMOKER-M", Qty: 2})
	if err != nil {
		return err
	}
	took, err := w.untilState(ctx, sent.Number, request.Sent)
	if err != nil {
		return err
	}
	o, err := w.Client.Order(ctx, sent.Order)
	if err != nil {
		return err
	}
	k.check(o.Stage == "shipped" && w.Gate.Lies("SMOKER-M") == 23, "%s was asked, acknowledged and sent in %.1f s; 23 lie there now",
		sent.Number, took.Seconds())
	if err := k.refused(ctx, w); err != nil {
		return err
	}
	return k.maker(ctx, w)
}

// refused lets the warehouse refuse an order, which is then planned from a place of ours.
func (k *walk) refused(ctx context.Context, w *World) error {
	w.Gate.Mood(standin.GateMood{Refuse: "hall three is flooded"})
	no, err := w.askedFor(ctx, standin.SaleLine{SKU: "SMOKER-M", Qty: 1})
	if err != nil {
		return err
	}
	if _, err := w.untilState(ctx, no.Number, request.Refused); err != nil {
		return err
	}
	w.Gate.Mood(standin.GateMood{})
	o, err := w.Client.Order(ctx, no.Order)
	if err != nil {
		return err
	}
	plan, err := w.Client.OrderPlan(ctx, no.Order)
	if err != nil {
		return err
	}
	why := ""
	for _, b := range plan.Bars {
		if b.Place == "gate" {
			why = b.Why
		}
	}
	k.check(o.Stage == "ready" && plan.Plan.Entries[0].Place != "gate" && why != "", "%s %s: %s comes from %s now", no.PartnerName, why,
		no.Order, plan.Plan.Entries[0].Place)
	return nil
}

// maker joins a maker in test, and takes it live.
func (k *walk) maker(ctx context.Context, w *World) error {
	k.step("A maker engraves to order, asked by a form: in test first, then live")
	if err := w.JoinSlate(ctx); err != nil {
		return err
	}
	if _, err := w.Client.SetTest(ctx, "slate", true); err != nil {
		return err
	}
	if err := w.PreferPlace(ctx, "PLAQUE-S", "slate"); err != nil {
		return err
	}
	trial, err := w.askedFor(ctx, standin.SaleLine{SKU: "PLAQUE-S", Qty: 1, Text: " Hive  of Petra "})
	if err != nil {
		return err
	}
	if _, err := w.untilState(ctx, trial.Number, request.Acknowledged); err != nil {
		return err
	}
	o, err := w.Client.Order(ctx, trial.Order)
	if err != nil {
		return err
	}
	k.check(trial.Test && o.Stage == "ready", "%s is a test: nothing of %s is made", trial.Number, trial.Order)
	if _, err := w.Client.SetTest(ctx, "slate", false); err != nil {
		return err
	}
	var real wire.Request
	if _, err := until(ctx, 15*time.Second, "the real request", func() (bool, error) {
		list, err := w.Client.OrderRequests(ctx, trial.Order)
		if err != nil || len(list) == 0 {
			return false, err
		}
		real = list[len(list)-1]
		return !real.Test && real.State == request.Acknowledged, nil
	}); err != nil {
		return err
	}
	w.Slate.SendAll()
	if _, err := w.untilState(ctx, real.Number, request.Sent); err != nil {
		return err
	}
	jobs := w.Slate.Jobs()
	k.check(jobs[len(jobs)-1].Texts[0] == "Hive of Petra", "“%s” is engraved and sent for %s", jobs[len(jobs)-1].Texts[0], real.Order)
	return nil
}

// askedFor sells at the first store, and waits until a partner is asked for it.
func (w *World) askedFor(ctx context.Context, lines ...standin.SaleLine) (r wire.Request, err error) {
	_, o, err := w.placed(ctx, standin.Sale{Customer: "Petra Wendlow", Email: "petra.wendlow@example.test", Shipping: 490, Lines: lines,
		Delivery: standin.Delivery{Name: "Petra Wendlow", Street: "Alder Lane 5", Postcode: "41360", Town: "Harrowmere", Country: "XW",
			Method: "standard"}})
	if err != nil {
		return r, err
	}
	_, err = until(ctx, 10*time.Second, "a partner to be asked for "+o.Number, func() (bool, error) {
		list, err := w.Client.OrderRequests(ctx, o.Number)
		if len(list) > 0 {
			r = list[len(list)-1]
		}
		return len(list) > 0, err
	})
	return r, err
}

// untilState waits until a request stands so.
func (w *World) untilState(ctx context.Context, number string, state request.State) (time.Duration, error) {
	return until(ctx, 25*time.Second, fmt.Sprintf("request %s to be %s", number, state), func() (bool, error) {
		r, err := w.Client.Request(ctx, number)
		return r.State == state, err
	})
}

// gateCounted waits until the partner warehouse has told how many of an item lie there.
func (w *World) gateCounted(ctx context.Context, sku string) error {
	_, err := until(ctx, 20*time.Second, "the warehouse's word", func() (bool, error) {
		v, err := w.Client.Item(ctx, sku)
		return err == nil && levelAt(v, "gate").OnHand == w.Gate.Lies(sku), err
	})
	return err
}

// PartnerStories joins the warehouse and the maker, and lets them send, refuse, wait and count.
func (w *World) PartnerStories(ctx context.Context) error {
	if err := w.JoinFallowgate(ctx); err != nil {
		return err
	}
	if err := w.JoinSlate(ctx); err != nil {
		return err
	}
	if err := w.gateCounted(ctx, "SMOKER-M"); err != nil {
		return err
	}
	if err := w.PreferPlace(ctx, "PLAQUE-L", "slate"); err != nil {
		return err
	}
	sent, err := w.askedFor(ctx, standin.SaleLine{SKU: "SMOKER-M", Qty: 2})
	if err != nil {
		return err
	}
	if _, err := w.untilState(ctx, sent.Number, request.Sent); err != nil {
		return err
	}
	w.Gate.Bill(180, 12)
	w.Gate.Mood(standin.GateMood{Refuse: "hall three is flooded"})
	refused, err := w.askedFor(ctx, standin.SaleLine{SKU: "FRAMES-10", Qty: 1})
	if err != nil {
		return err
	}
	if _, err := w.untilState(ctx, refused.Number, request.Refused); err != nil {
		return err
	}
	w.Gate.Mood(standin.GateMood{Pace: time.Hour})
	if _, err := w.askedFor(ctx, standin.SaleLine{SKU: "BOOK-KITCHEN", Qty: 1}, standin.SaleLine{SKU: "SMOKER-M", Qty: 1}); err != nil {
		return err
	}
	w.Gate.Count("JAR-250-T24", 45)
	w.Slate.Refuse("")
	if _, err := w.askedFor(ctx, standin.SaleLine{SKU: "PLAQUE-L", Qty: 1, Text: "Hive of Runa"}); err != nil {
		return err
	}
	return w.unknownThere(ctx)
}

// unknownThere lets the maker be asked for something that it calls otherwise: the request waits until somebody says how.
func (w *World) unknownThere(ctx context.Context) error {
	rows, err := w.Client.PartnerTerms(ctx)
	if err != nil {
		return err
	}
	for i := range rows {
		if rows[i].Partner == "slate" {
			rows[i].Items = request.TheirNames
		}
	}
	if err := w.Client.SetPartnerTerms(ctx, rows); err != nil {
		return err
	}
	if err := w.PreferPlace(ctx, "PLAQUE-S", "slate"); err != nil {
		return err
	}
	_, err = w.askedFor(ctx, standin.SaleLine{SKU: "PLAQUE-S", Qty: 1, Text: "Hive of Maren"})
	return err
}
