package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/core/freight"
	"openrelay/internal/core/gs1"
	"openrelay/internal/core/message"
	"openrelay/internal/core/money"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/joining"
	"openrelay/internal/standin"
	"openrelay/internal/wire"
)

// walk goes through the demo as a person would, but by the interfaces, and checks what it sees.
type walk struct {
	w   *World
	out io.Writer
	n   int
	bad int
}

// Walk does everything that the demo invites to, prints each step with the figures it saw, and returns
// an error if anything was not as it should be.
func (w *World) Walk(ctx context.Context, out io.Writer) error {
	k := &walk{w: w, out: out}
	begin := time.Now()
	if err := k.all(ctx); err != nil {
		fmt.Fprintf(out, "\nStopped: %v\n", err)
		return err
	}
	if k.bad > 0 {
		fmt.Fprintf(out, "\n%d of the checks failed.\n", k.bad)
		return fmt.Errorf("%d checks failed", k.bad)
	}
	fmt.Fprintf(out, "\nEverything was as it should be, in %.1f s.\n", time.Since(begin).Seconds())
	return nil
}

func (k *walk) step(format string, args ...any) {
	k.n++
	fmt.Fprintf(k.out, "\n%d. %s\n", k.n, fmt.Sprintf(format, args...))
}

func (k *walk) saw(format string, args ...any) {
	fmt.Fprintf(k.out, "   %s\n", fmt.Sprintf(format, args...))
}

func (k *walk) check(ok bool, format string, args ...any) {
	mark := "ok  "
	if !ok {
		mark = "BAD "
		k.bad++
	}
	fmt.Fprintf(k.out, "   %s %s\n", mark, fmt.Sprintf(format, args...))
}

// control speaks to a stand-in's control API.
func control(ctx context.Context, method, url string, in, out any) error {
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, method, url, body)
	if err != nil {
		return err
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode >= 300 {
		text, _ := io.ReadAll(io.LimitReader(res.Body, 500))
		return fmt.Errorf("%s %s: %d %s", method, url, res.StatusCode, text)
	}
	if out == nil {
		return nil
	}
	return json.NewDecoder(res.Body).Decode(out)
}

// until asks again and again until a condition holds; it gives up after a while and returns the error.
func until(ctx context.Context, most time.Duration, what string, ok func() (bool, error)) (time.Duration, error) {
	begin := time.Now()
	for {
		done, err := ok()
		if err != nil {
			return 0, err
		}
		if done {
			return time.Since(begin), nil
		}
		if time.Since(begin) > most {
			return most, fmt.Errorf("waited %s for %s in vain", most, what)
		}
		select {
		case <-ctx.Done():
			return 0, ctx.Err()
		case <-time.After(10 * time.Millisecond):
		}
	}
}

type shopStock map[string]int64

type shopRecord struct {
	Order struct {
		Name, State string
		Parcels     []struct{ Tracking, Carrier, Service string }
	}
}

func (k *walk) all(ctx context.Context) error {
	w, c := k.w, k.w.Client
	const jar, suit = "JAR-500-T12", "SUIT-M-WHITE"

	k.step("Before anything is sold")
	before, err := c.Item(ctx, jar)
	if err != nil {
		return err
	}
	suitBefore, err := c.Item(ctx, suit)
	if err != nil {
		return err
	}
	var morrow0, skep0 shopStock
	if err := errors.Join(control(ctx, "GET", w.MorrowURL+"/control/api/stock", nil, &morrow0),
		control(ctx, "GET", w.SkepURL+"/control/api/stock", nil, &skep0)); err != nil {
		return err
	}
	for _, v := range []wire.ItemView{before, suitBefore} {
		k.saw("%s: %s", v.Item.SKU, levelsText(v))
	}
	k.saw("Morrow Hive Supply shows %d and %d, Little Skep shows %d and %d", morrow0[jar], morrow0[suit], skep0[jar], skep0[suit])
	id, err := c.Test(ctx, "morrow")
	if err != nil {
		return err
	}
	k.check(id.Number == "H-20071", "the store knows us as %s, number %s, %s", id.Name, id.Number, id.Country)

	k.step("A shopper buys two trays of jars and a suit in the store Morrow Hive Supply")
	var sold struct{ ID, Name string }
	sale := map[string]any{"customer": "Maren Tolland", "email": "maren.tolland@example.test", "shipping": 490,
		"note":  "Please ring twice.",
		"lines": []map[string]any{{"sku": jar, "quantity": 2}, {"sku": suit, "quantity": 1}},
		"delivery": map[string]any{"name": "Maren Tolland", "street": "Lindenrow 14", "postcode": "41360", "town": "Harrowmere",
			"country": "XW", "method": "standard"}}
	begin := time.Now()
	if err := control(ctx, "POST", w.MorrowURL+"/control/api/orders", sale, &sold); err != nil {
		return err
	}
	var o wire.Order
	if _, err := until(ctx, 5*time.Second, "the order", func() (bool, error) {
		var err error
		o, err = c.Order(ctx, sold.Name)
		if client.StatusOf(err) == 404 {
			return false, nil
		}
		return err == nil, err
	}); err != nil {
		return err
	}
	took := time.Since(begin)
	k.check(took < 2*time.Second, "order %s is here as %s after %d ms, by %s", sold.Name, o.Number, took.Milliseconds(), o.Via)
	var skep shopStock
	if _, err := until(ctx, 5*time.Second, "the other store to show less", func() (bool, error) {
		err := control(ctx, "GET", w.SkepURL+"/control/api/stock", nil, &skep)
		return skep[jar] == skep0[jar]-2 && skep[suit] == skep0[suit]-1, err
	}); err != nil {
		return err
	}
	k.check(true, "after %d ms Little Skep shows %d and %d", time.Since(begin).Milliseconds(), skep[jar], skep[suit])
	after, err := c.Item(ctx, jar)
	if err != nil {
		return err
	}
	k.saw("%s: %s", jar, levelsText(after))
	k.check(sum(after).allocated == sum(before).allocated+2 && sum(after).onHand == sum(before).onHand,
		"two trays more are allocated, none has left")

	k.step("The order, ours beside the channel's")
	k.saw("stage %s, channel state %s, %d lines, %d versions kept", o.Stage, o.Record.State, len(o.Lines), len(o.Versions))
	k.check(o.Totals.Total == o.Record.Total && len(o.Totals.Differences) == 0, "recalculated total %s, the channel says %s",
		eur(o.Totals.Total), eur(o.Record.Total))
	for _, e := range o.Timeline {
		k.saw("%s  %s", e.At.Format("15:04:05.000"), e.Text)
	}

	k.step("Picking")
	ship, err := c.Pick(ctx, o.Number)
	if err != nil {
		return err
	}
	pdf, err := c.PDF(ctx, "/orders/"+o.Number+"/pick-list.pdf")
	if err != nil {
		return err
	}
	k.check(bytes.HasPrefix(pdf, []byte("%PDF-")), "pick list of %d bytes for shipment %s", len(pdf), ship)
	if _, err = c.Scan(ctx, ship, "SMOKER-L", "", 0); err == nil {
		return errors.New("a foreign scan was accepted")
	}
	k.check(client.StatusOf(err) == http.StatusConflict, "a wrong scan is refused: %v", err)
	v, err := c.Shipment(ctx, ship)
	if err != nil {
		return err
	}
	for _, want := range v.Wants {
		if _, err := c.Scan(ctx, ship, want.Bin, "", 0); err != nil {
			return err
		}
		for range want.Left() {
			s, err := c.Scan(ctx, ship, code(want), want.Bin, 1)
			if err != nil {
				return err
			}
			k.saw("bin %s, %s", want.Bin, s.Outcome.Text)
		}
	}

	k.step("Packing and the prices of Plover Post")
	if _, err := c.Pack(ctx, ship, "small", 0, nil); err == nil {
		k.check(false, "the goods went into a carton that is too small")
	} else {
		k.check(true, "the small carton is refused: %v", err)
	}
	if v, err = c.Pack(ctx, ship, "medium", 0, nil); err != nil {
		return err
	}
	k.saw("packed into %s: %d g, %d×%d×%d mm", v.Profile, v.WeightG, v.LengthMM, v.WidthMM, v.HeightMM)
	k.check(gs1.ValidSSCC(v.SSCC), "the parcel has SSCC %s", v.SSCC)
	rates, err := c.Rates(ctx, ship)
	if err != nil {
		return err
	}
	offered := 0
	for _, r := range rates {
		if r.Refused != "" {
			k.saw("%-15s not carried: %s", r.ServiceName, r.Refused)
			continue
		}
		offered++
		k.saw("%-15s %s, arrives %s", r.ServiceName, eur(r.Price), r.Arrives)
		k.check(r.Agrees, "our own sum from the tariff agrees: %s", termsText(r.Terms))
	}
	k.check(offered >= 2, "%d services can be compared", offered)

	k.step("Shipping")
	if v, err = c.Ship(ctx, ship, rates[0].Carrier, rates[0].Service, client.Key("walk-ship")); err != nil {
		return err
	}
	k.check(v.State == "shipped" && gs1.ValidS10(v.Tracking), "%s by %s, tracking number %s, %s", v.State, v.ServiceName, v.Tracking,
		eur(v.Price))
	again, err := c.Ship(ctx, ship, rates[0].Carrier, rates[0].Service, client.Key("walk-ship"))
	k.check(err == nil && again.Tracking == v.Tracking, "the same request again answers the same")
	_, err = c.Ship(ctx, ship, rates[0].Carrier, rates[0].Service)
	k.check(client.StatusOf(err) == http.StatusConflict, "a second purchase is refused: %v", err)
	for _, size := range []string{"label", "a4"} {
		if pdf, err = c.PDF(ctx, "/shipments/"+ship+"/label.pdf?size="+size); err != nil {
			return err
		}
		k.check(bytes.HasPrefix(pdf, []byte("%PDF-")), "label as %s, %d bytes", size, len(pdf))
	}
	manifests, err := c.Manifests(ctx)
	if err != nil {
		return err
	}
	k.check(len(manifests) > 0 && manifests[0].State == "open" && manifests[0].Parcels > 0,
		"it stands on the manifest of %s with %d parcels", manifests[0].Day, manifests[0].Parcels)

	k.step("Back at the store")
	if _, err := until(ctx, 10*time.Second, "the write-back to be confirmed", func() (bool, error) {
		o, err = c.Order(ctx, o.Number)
		return err == nil && len(o.WriteBacks) == 2 && o.WriteBacks[1].State == "confirmed", err
	}); err != nil {
		return err
	}
	var rec shopRecord
	if err := control(ctx, "GET", w.MorrowURL+"/control/api/orders/"+sold.ID, nil, &rec); err != nil {
		return err
	}
	k.check(rec.Order.State == "sent" && len(rec.Order.Parcels) == 1 && rec.Order.Parcels[0].Tracking == v.Tracking,
		"the store says %s with tracking number %s; our write-back is %s", rec.Order.State, rec.Order.Parcels[0].Tracking,
		o.WriteBacks[1].State)
	k.check(o.Stage == "shipped", "the order is %s", o.Stage)
	if after, err = c.Item(ctx, jar); err != nil {
		return err
	}
	k.saw("%s: %s", jar, levelsText(after))
	k.check(sum(after).onHand == sum(before).onHand-2 && sum(after).allocated == sum(before).allocated,
		"two trays have left, none is allocated any more")
	var morrow shopStock
	if _, err := until(ctx, 5*time.Second, "both stores to be right", func() (bool, error) {
		err := errors.Join(control(ctx, "GET", w.MorrowURL+"/control/api/stock", nil, &morrow),
			control(ctx, "GET", w.SkepURL+"/control/api/stock", nil, &skep))
		return morrow[jar] == morrow0[jar]-2 && morrow[suit] == morrow0[suit]-1 && skep[jar] == skep0[jar]-2 &&
			skep[suit] == skep0[suit]-1, err
	}); err != nil {
		return err
	}
	k.check(true, "both stores are right: %d and %d here, %d and %d there", morrow[jar], morrow[suit], skep[jar], skep[suit])

	k.step("Why does Little Skep show %d of %s?", skep[jar], jar)
	why, err := c.Why(ctx, "skep", jar)
	if err != nil {
		return err
	}
	for _, s := range why.Steps {
		k.saw("%+6d  %-40s = %d", s.Change, s.Text, s.Result)
	}
	k.check(why.Steps[len(why.Steps)-1].Result == skep[jar] && why.Listing.Allowed == skep[jar], "the sum is what the store shows")
	k.saw("newest ledger entry: %s %+d on hand, %s, order %s", why.Movements[0].Kind, why.Movements[0].OnHand, why.Movements[0].Reason,
		why.Movements[0].Document)

	k.step("Closing the day, and the parcel arrives")
	if _, err := c.CloseManifest(ctx, manifests[0].ID); err != nil {
		return err
	}
	if _, err := until(ctx, 5*time.Second, "the manifest to be closed", func() (bool, error) {
		manifests, err = c.Manifests(ctx)
		return err == nil && manifests[0].State == "closed", err
	}); err != nil {
		return err
	}
	k.check(manifests[0].Receipt != "", "manifest closed, the carrier's receipt is %s", manifests[0].Receipt)
	for range 4 {
		if err := control(ctx, "POST", w.PloverURL+"/control/api/scan", map[string]any{"item": v.Tracking}, nil); err != nil {
			return err
		}
	}
	if _, err := until(ctx, 5*time.Second, "the order to be delivered", func() (bool, error) {
		o, err = c.Order(ctx, o.Number)
		return err == nil && o.Stage == "delivered", err
	}); err != nil {
		return err
	}
	k.check(true, "the order is %s", o.Stage)

	if err := k.joins(ctx); err != nil {
		return err
	}

	k.step("What must always hold")
	findings, err := w.Store.Verify(ctx)
	if err != nil {
		return err
	}
	for _, f := range findings {
		k.saw("rule %d: %s", f.Rule, f.Text)
	}
	k.check(len(findings) == 0, "verify finds nothing wrong")
	return nil
}

// joins joins the systems that are there to be joined, each in its own way.
func (k *walk) joins(ctx context.Context) error {
	w, c := k.w, k.w.Client
	sold, err := w.Tansy.Sell(standin.DeskSale{SKU: "SMOKER-L"})
	if err != nil {
		return err
	}
	k.step("Joining Tansy through its consent page")
	if err := w.Join(ctx, "tansy", "tansy", "Tansy"); err != nil {
		return err
	}
	other, err := w.Consent(ctx, c, "tansy", "westmark", "T-9007")
	if err != nil {
		return err
	}
	k.check(!other.LetIn && other.Field == "site", "signed in with another seller, it is refused: %s", other.Text)
	tested, err := w.Consent(ctx, c, "tansy", "westmark", "T-8841")
	if err != nil {
		return err
	}
	k.check(tested.LetIn, "%s", tested.Text)
	im, err := w.Finish(ctx, "tansy", "T-8841",
		Joining{Sources: []string{"alder", "pier"}, Import: joining.ImportChoices{Items: true, Orders: true}, Stock: true})
	if err != nil {
		return err
	}
	k.imported(im, 30)
	var o wire.Order
	if _, err := until(ctx, 10*time.Second, "the marketplace's order", func() (bool, error) {
		o, err = c.Order(ctx, sold)
		if client.StatusOf(err) == http.StatusNotFound {
			return false, nil
		}
		return err == nil, err
	}); err != nil {
		return err
	}
	k.check(o.Stage == "ready", "its open order %s is here as %s, %s", sold, o.Number, o.Stage)

	k.step("Joining Bramble Row by key and secret")
	if err := w.Join(ctx, "bramble-row", "bramble", "Bramble Row"); err != nil {
		return err
	}
	if tested, err = c.TestAccess(ctx, "bramble",
		joining.Access{Address: w.BrambleURL, Secrets: map[string]string{"key": " " + BrambleAccess["key"] + "\n",
			"secret": BrambleAccess["secret"]}}); err != nil {
		return err
	}
	k.check(tested.LetIn && len(tested.Trimmed) == 1, "%s Spaces around %s were taken off.", tested.Text,
		strings.Join(tested.Trimmed, ", "))
	if im, err = w.Finish(ctx, "bramble", "BR-3302",
		Joining{Sources: []string{"alder"}, Import: joining.ImportChoices{Items: true, Orders: true}, Stock: true}); err != nil {
		return err
	}
	k.imported(im, 21)
	item, err := c.Item(ctx, "SMOKER-M")
	if err != nil {
		return err
	}
	begin := time.Now()
	if _, err := until(ctx, 15*time.Second, "its report", func() (bool, error) {
		return w.Bramble.Shows()["SMOKER-M"] == item.Levels[0].Available, nil
	}); err != nil {
		return err
	}
	k.check(true, "our quantities went in a batch; %.1f s later its report was read, and it shows %d of SMOKER-M",
		time.Since(begin).Seconds(), item.Levels[0].Available)
	second, err := c.StartJoin(ctx, joining.NewJoin{Connector: "bramble-row", Code: "second", Name: "Second"})
	if err != nil {
		return err
	}
	if tested, err = c.TestAccess(ctx, second.Connection.Code, joining.Access{Address: w.BrambleURL, Secrets: BrambleAccess}); err != nil {
		return err
	}
	k.check(!tested.LetIn, "the same account a second time is refused: %s", tested.Text)
	if err := c.DropJoin(ctx, "second"); err != nil {
		return err
	}

	k.step("Joining Counterpane by name and password")
	if err := w.Join(ctx, "counterpane", "till", "Mill Lane till"); err != nil {
		return err
	}
	wrong := map[string]string{"user": CounterpaneAccess["user"], "password": "honey", "shop": CounterpaneAccess["shop"]}
	if tested, err = c.TestAccess(ctx, "till", joining.Access{Address: w.CounterpaneURL, Secrets: wrong}); err != nil {
		return err
	}
	k.check(!tested.LetIn && tested.Field == "password", "a wrong password is named as such: %s", tested.Text)
	if tested, err = c.TestAccess(ctx, "till", joining.Access{Address: w.CounterpaneURL, Secrets: CounterpaneAccess}); err != nil {
		return err
	}
	k.check(tested.LetIn, "%s", tested.Text)
	if im, err = w.Finish(ctx, "till", "3", Joining{Sources: []string{"mill"}, Import: joining.ImportChoices{Items: true, Stock: true},
		Change: func(s *engine.Settings) { s.NumberPrefix, s.Anonymous = "T", "Counter sale" }}); err != nil {
		return err
	}
	k.imported(im, 16)
	if item, err = c.Item(ctx, "CAKE-HONEY"); err != nil {
		return err
	}
	k.check(sum(item).onHand == 12, "the honey cake is an item of ours now, with its opening stock: %s", levelsText(item))

	if err := k.goods(ctx); err != nil {
		return err
	}
	if err := k.orders(ctx); err != nil {
		return err
	}

	k.step("The set-up as text")
	text, err := c.ExportSetup(ctx)
	if err != nil {
		return err
	}
	changes, err := c.PlanSetup(ctx, text, nil)
	if err != nil {
		return err
	}
	k.check(len(changes) == 0 && !strings.Contains(text, BrambleAccess["secret"]),
		"exported, %d lines, no secret in it; applying it would change nothing", strings.Count(text, "\n"))
	return nil
}

// imported prints what a first import brought over.
func (k *walk) imported(im wire.ImportView, want int64) {
	var listings int64
	for _, n := range im.Counts {
		k.saw("%3d %-12s %-9s %s", n.Count, n.Kind, n.Verdict, n.Reason)
		if n.Kind == message.ListingsIn && n.Verdict != "skipped" {
			listings += n.Count
		}
	}
	k.check(im.State == "done" && listings == want, "first import %s: %d listings are matched", im.State, listings)
}

func eur(minor int64) string { return money.Amount{Minor: minor, Currency: "EUR"}.String() }

type totals struct{ onHand, allocated int64 }

func sum(v wire.ItemView) (t totals) {
	for _, l := range v.Levels {
		t.onHand += l.OnHand
		t.allocated += l.Allocated
	}
	return t
}

func levelsText(v wire.ItemView) string {
	var parts []string
	for _, l := range v.Levels {
		parts = append(parts, fmt.Sprintf("%s %d on hand, %d allocated, %d available", l.LocationName, l.OnHand, l.Allocated, l.Available))
	}
	return strings.Join(parts, "; ")
}

func termsText(terms []freight.Term) string {
	parts := make([]string, len(terms))
	for i, t := range terms {
		parts[i] = fmt.Sprintf("%s %s", t.Text, money.Decimal(t.Price, "EUR"))
	}
	return strings.Join(parts, " + ")
}
