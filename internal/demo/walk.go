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
	"openrelay/internal/relay/shipping"
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

const jar, suit = "JAR-500-T12", "SUIT-M-WHITE"

func (k *walk) all(ctx context.Context) error {
	steps := &saleWalk{walk: k}
	for _, step := range []func(context.Context) error{
		steps.beforeSale, steps.buy, steps.look, steps.pickIt, steps.packIt, steps.shipIt, steps.backAtTheStore, steps.whyThatMany,
		steps.arrive, steps.theRest} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return nil
}

// saleWalk follows one sale from the basket to the door.
type saleWalk struct {
	*walk
	c       *client.Client
	before  wire.ItemView
	morrow0 shopStock
	skep0   shopStock
	sold    struct {
		ID   string
		Name string
	}
	o         wire.Order
	skep      shopStock
	after     wire.ItemView
	ship      string
	pdf       []byte
	v         wire.ShipmentView
	parcel    wire.ParcelView
	rates     []shipping.Rate
	manifests []wire.Manifest
}

func (k *saleWalk) beforeSale(ctx context.Context) (err error) {
	k.c = k.w.Client
	k.step("Before anything is sold")
	k.before, err = k.c.Item(ctx, jar)
	if err != nil {
		return err
	}
	suitBefore, err := k.c.Item(ctx, suit)
	if err != nil {
		return err
	}

	if err := errors.Join(control(ctx, "GET", k.w.MorrowURL+"/control/api/stock", nil, &k.morrow0),
		control(ctx, "GET", k.w.SkepURL+"/control/api/stock", nil, &k.skep0)); err != nil {
		return err
	}
	for _, v := range []wire.ItemView{k.before, suitBefore} {
		k.saw("%s: %s", v.Item.SKU, levelsText(v))
	}
	k.saw("Morrow Hive Supply shows %d and %d, Little Skep shows %d and %d", k.morrow0[jar], k.morrow0[suit], k.skep0[jar], k.skep0[suit])
	id, err := k.c.Test(ctx, "morrow")
	if err != nil {
		return err
	}
	k.check(id.Number == "H-20071", "the store knows us as %s, number %s, %s", id.Name, id.Number, id.Country)
	return nil
}

func (k *saleWalk) buy(ctx context.Context) (err error) {
	k.step("A shopper buys two trays of jars and a suit in the store Morrow Hive Supply")

	sale := map[string]any{"customer": "Maren Tolland", "email": "maren.tolland@example.test", "shipping": 490,
		"note":  "Please ring twice.",
		"lines": []map[string]any{{"sku": jar, "quantity": 2}, {"sku": suit, "quantity": 1}},
		"delivery": map[string]any{"name": "Maren Tolland", "street": "Lindenrow 14", "postcode": "41360", "town": "Harrowmere",
			"country": "XW", "method": "standard"}}
	begin := time.Now()
	if err := control(ctx, "POST", k.w.MorrowURL+"/control/api/orders", sale, &k.sold); err != nil {
		return err
	}

	if _, err := until(ctx, 5*time.Second, "the order", func() (bool, error) {
		var err error
		k.o, err = k.c.Order(ctx, k.sold.Name)
		if client.StatusOf(err) == 404 {
			return false, nil
		}
		return err == nil, err
	}); err != nil {
		return err
	}
	took := time.Since(begin)
	k.check(took < 2*time.Second, "order %s is here as %s after %d ms, by %s", k.sold.Name, k.o.Number, took.Milliseconds(), k.o.Via)

	if _, err := until(ctx, 5*time.Second, "the other store to show less", func() (bool, error) {
		err := control(ctx, "GET", k.w.SkepURL+"/control/api/stock", nil, &k.skep)
		return k.skep[jar] == k.skep0[jar]-2 && k.skep[suit] == k.skep0[suit]-1, err
	}); err != nil {
		return err
	}
	k.check(true, "after %d ms Little Skep shows %d and %d", time.Since(begin).Milliseconds(), k.skep[jar], k.skep[suit])
	k.after, err = k.c.Item(ctx, jar)
	if err != nil {
		return err
	}
	k.saw("%s: %s", jar, levelsText(k.after))
	k.check(sum(k.after).allocated == sum(k.before).allocated+2 && sum(k.after).onHand == sum(k.before).onHand,
		"two trays more are allocated, none has left")
	return nil
}

func (k *saleWalk) look(ctx context.Context) error {
	k.step("The order, ours beside the channel's")
	k.saw("stage %s, channel state %s, %d lines, %d versions kept", k.o.Stage, k.o.Record.State, len(k.o.Lines), len(k.o.Versions))
	k.check(k.o.Totals.Total == k.o.Record.Total && len(k.o.Totals.Differences) == 0, "recalculated total %s, the channel says %s",
		eur(k.o.Totals.Total), eur(k.o.Record.Total))
	for _, e := range k.o.Timeline {
		k.saw("%s  %s", e.At.Format("15:04:05.000"), e.Text)
	}
	return nil
}

func (k *saleWalk) pickIt(ctx context.Context) (err error) {
	k.step("Picking")
	k.ship, err = k.c.Pick(ctx, k.o.Number)
	if err != nil {
		return err
	}
	k.pdf, err = k.c.PDF(ctx, "/orders/"+k.o.Number+"/pick-list.pdf")
	if err != nil {
		return err
	}
	k.check(bytes.HasPrefix(k.pdf, []byte("%PDF-")), "pick list of %d bytes for shipment %s", len(k.pdf), k.ship)
	if _, err = k.c.Scan(ctx, k.ship, "SMOKER-L", "", 0); err == nil {
		return errors.New("a foreign scan was accepted")
	}
	k.check(client.StatusOf(err) == http.StatusConflict, "a wrong scan is refused: %v", err)
	k.v, err = k.c.Shipment(ctx, k.ship)
	if err != nil {
		return err
	}
	for _, want := range k.v.Wants {
		if _, err := k.c.Scan(ctx, k.ship, want.Bin, "", 0); err != nil {
			return err
		}
		for range want.Left() {
			s, err := k.c.Scan(ctx, k.ship, code(want), want.Bin, 1)
			if err != nil {
				return err
			}
			k.saw("bin %s, %s", want.Bin, s.Outcome.Text)
		}
	}
	return nil
}

func (k *saleWalk) packIt(ctx context.Context) (err error) {
	k.step("Packing and the prices of Plover Post")
	if _, err := k.c.Pack(ctx, k.ship, "small", 0, nil); err == nil {
		k.check(false, "the goods went into a carton that is too small")
	} else {
		k.check(true, "the small carton is refused: %v", err)
	}
	if k.v, err = k.c.Pack(ctx, k.ship, "medium", 0, nil); err != nil {
		return err
	}
	p := k.v.Parcels[0]
	k.saw("packed into %s: %d g, %d×%d×%d mm", p.Profile, p.WeightG, p.LengthMM, p.WidthMM, p.HeightMM)
	k.check(gs1.ValidSSCC(p.SSCC), "the parcel has SSCC %s", p.SSCC)
	k.rates, err = k.c.Rates(ctx, k.ship)
	if err != nil {
		return err
	}
	offered := 0
	for _, r := range k.rates {
		if r.Refused != "" {
			k.saw("%-15s not carried: %s", r.ServiceName, r.Refused)
			continue
		}
		offered++
		k.saw("%-15s %s, arrives %s", r.ServiceName, eur(r.Price), r.Arrives)
		k.check(r.Agrees, "our own sum from the tariff agrees: %s", termsText(r.Terms))
	}
	k.check(offered >= 2, "%d services can be compared", offered)
	return nil
}

func (k *saleWalk) shipIt(ctx context.Context) (err error) {
	k.step("Shipping")
	if k.parcel, err = k.c.Ship(ctx, k.ship, k.rates[0].Carrier, k.rates[0].Service, client.Key("walk-ship")); err != nil {
		return err
	}
	k.check(k.parcel.State == "shipped" && gs1.ValidS10(k.parcel.Tracking), "%s by %s, tracking number %s, %s", k.parcel.State,
		k.parcel.ServiceName, k.parcel.Tracking, eur(k.parcel.Price))
	again, err := k.c.Ship(ctx, k.ship, k.rates[0].Carrier, k.rates[0].Service, client.Key("walk-ship"))
	k.check(err == nil && again.Tracking == k.parcel.Tracking, "the same request again answers the same")
	_, err = k.c.Ship(ctx, k.ship, k.rates[0].Carrier, k.rates[0].Service)
	k.check(client.StatusOf(err) == http.StatusConflict, "a second purchase is refused: %v", err)
	for _, size := range []string{"label", "a4"} {
		if k.pdf, err = k.c.PDF(ctx, "/parcels/"+k.ship+"/label.pdf?size="+size); err != nil {
			return err
		}
		k.check(bytes.HasPrefix(k.pdf, []byte("%PDF-")), "label as %s, %d bytes", size, len(k.pdf))
	}
	k.manifests, err = k.c.Manifests(ctx)
	if err != nil {
		return err
	}
	k.check(len(k.manifests) > 0 && k.manifests[0].State == "open" && k.manifests[0].Parcels > 0,
		"it stands on the manifest of %s with %d parcels", k.manifests[0].Day, k.manifests[0].Parcels)
	return nil
}

func (k *saleWalk) backAtTheStore(ctx context.Context) (err error) {
	k.step("Back at the store")
	if _, err := until(ctx, 10*time.Second, "the write-back to be confirmed", func() (bool, error) {
		k.o, err = k.c.Order(ctx, k.o.Number)
		return err == nil && len(k.o.WriteBacks) == 2 && k.o.WriteBacks[1].State == "confirmed", err
	}); err != nil {
		return err
	}
	var rec shopRecord
	if err := control(ctx, "GET", k.w.MorrowURL+"/control/api/orders/"+k.sold.ID, nil, &rec); err != nil {
		return err
	}
	k.check(rec.Order.State == "sent" && len(rec.Order.Parcels) == 1 && rec.Order.Parcels[0].Tracking == k.parcel.Tracking,
		"the store says %s with tracking number %s; our write-back is %s", rec.Order.State, rec.Order.Parcels[0].Tracking,
		k.o.WriteBacks[1].State)
	k.check(k.o.Stage == "shipped", "the order is %s", k.o.Stage)
	if k.after, err = k.c.Item(ctx, jar); err != nil {
		return err
	}
	k.saw("%s: %s", jar, levelsText(k.after))
	k.check(sum(k.after).onHand == sum(k.before).onHand-2 && sum(k.after).allocated == sum(k.before).allocated,
		"two trays have left, none is allocated any more")
	var morrow shopStock
	if _, err := until(ctx, 5*time.Second, "both stores to be right", func() (bool, error) {
		err := errors.Join(control(ctx, "GET", k.w.MorrowURL+"/control/api/stock", nil, &morrow),
			control(ctx, "GET", k.w.SkepURL+"/control/api/stock", nil, &k.skep))
		return morrow[jar] == k.morrow0[jar]-2 && morrow[suit] == k.morrow0[suit]-1 && k.skep[jar] == k.skep0[jar]-2 &&
			k.skep[suit] == k.skep0[suit]-1, err
	}); err != nil {
		return err
	}
	k.check(true, "both stores are right: %d and %d here, %d and %d there", morrow[jar], morrow[suit], k.skep[jar], k.skep[suit])
	return nil
}

func (k *saleWalk) whyThatMany(ctx context.Context) (err error) {
	k.step("Why does Little Skep show %d of %s?", k.skep[jar], jar)
	why, err := k.c.Why(ctx, "skep", jar)
	if err != nil {
		return err
	}
	for _, s := range why.Steps {
		k.saw("%+6d  %-40s = %d", s.Change, s.Text, s.Result)
	}
	k.check(why.Steps[len(why.Steps)-1].Result == k.skep[jar] && why.Listing.Allowed == k.skep[jar], "the sum is what the store shows")
	k.saw("newest ledger entry: %s %+d on hand, %s, order %s", why.Movements[0].Kind, why.Movements[0].OnHand, why.Movements[0].Reason,
		why.Movements[0].Document)
	return nil
}

func (k *saleWalk) arrive(ctx context.Context) (err error) {
	k.step("Closing the day, and the parcel arrives")
	if _, err := k.c.CloseManifest(ctx, k.manifests[0].ID); err != nil {
		return err
	}
	if _, err := until(ctx, 5*time.Second, "the manifest to be closed", func() (bool, error) {
		k.manifests, err = k.c.Manifests(ctx)
		return err == nil && k.manifests[0].State == "closed", err
	}); err != nil {
		return err
	}
	k.check(k.manifests[0].Receipt != "", "manifest closed, the carrier's receipt is %s", k.manifests[0].Receipt)
	for range 4 {
		if err := control(ctx, "POST", k.w.PloverURL+"/control/api/scan", map[string]any{"item": k.parcel.Tracking}, nil); err != nil {
			return err
		}
	}
	if _, err := until(ctx, 5*time.Second, "the order to be delivered", func() (bool, error) {
		k.o, err = k.c.Order(ctx, k.o.Number)
		return err == nil && k.o.Stage == "delivered", err
	}); err != nil {
		return err
	}
	k.check(true, "the order is %s", k.o.Stage)
	return nil
}

func (k *saleWalk) theRest(ctx context.Context) (err error) {
	if err := k.joins(ctx); err != nil {
		return err
	}
	if err := k.placing(ctx, k.w); err != nil {
		return err
	}
	if err := k.partners(ctx, k.w); err != nil {
		return err
	}

	k.step("What must always hold")
	findings, err := k.w.Store.Verify(ctx)
	if err != nil {
		return err
	}
	for _, f := range findings {
		k.saw("rule %d: %s", f.Rule, f.Text)
	}
	k.check(len(findings) == 0, "verify finds nothing wrong")
	return k.fromNothing(ctx)
}

// joins joins the systems that are there to be joined, each in its own way.
func (k *walk) joins(ctx context.Context) error {
	steps := &joinWalk{walk: k}
	for _, step := range []func(context.Context) error{
		steps.tansy, steps.brambleRow, steps.counterpane, steps.byFiles, steps.bySecondCarrier, steps.byThirdCarrier,
		steps.goodsAndOrders, steps.asText} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return nil
}

// joinWalk joins the systems that are there to be joined.
type joinWalk struct {
	*walk
	c      *client.Client
	tested engine.Tested
	im     wire.ImportView
	item   wire.ItemView
}

func (k *joinWalk) tansy(ctx context.Context) (err error) {
	k.c = k.w.Client
	sold, err := k.w.Tansy.Sell(standin.DeskSale{SKU: "SMOKER-L"})
	if err != nil {
		return err
	}
	k.step("Joining Tansy through its consent page")
	if err := k.w.Join(ctx, "tansy", "tansy", "Tansy"); err != nil {
		return err
	}
	other, err := k.w.Consent(ctx, k.c, "tansy", "westmark", "T-9007")
	if err != nil {
		return err
	}
	k.check(!other.LetIn && other.Field == "site", "signed in with another seller, it is refused: %s", other.Text)
	k.tested, err = k.w.Consent(ctx, k.c, "tansy", "westmark", "T-8841")
	if err != nil {
		return err
	}
	k.check(k.tested.LetIn, "%s", k.tested.Text)
	k.im, err = k.w.Finish(ctx, "tansy", "T-8841",
		Joining{Sources: []string{"alder", "pier"}, Import: joining.ImportChoices{Items: true, Orders: true}, Stock: true})
	if err != nil {
		return err
	}
	k.imported(k.im, 30)
	var o wire.Order
	if _, err := until(ctx, 10*time.Second, "the marketplace's order", func() (bool, error) {
		o, err = k.c.Order(ctx, sold)
		if client.StatusOf(err) == http.StatusNotFound {
			return false, nil
		}
		return err == nil, err
	}); err != nil {
		return err
	}
	k.check(o.Stage == "ready", "its open order %s is here as %s, %s", sold, o.Number, o.Stage)
	return nil
}

func (k *joinWalk) brambleRow(ctx context.Context) (err error) {
	k.step("Joining Bramble Row by key and secret")
	if err := k.w.Join(ctx, "bramble-row", "bramble", "Bramble Row"); err != nil {
		return err
	}
	if k.tested, err = k.c.TestAccess(ctx, "bramble",
		joining.Access{Address: k.w.BrambleURL, Secrets: map[string]string{"key": " " + BrambleAccess["key"] + "\n",
			"secret": BrambleAccess["secret"]}}); err != nil {
		return err
	}
	k.check(k.tested.LetIn && len(k.tested.Trimmed) == 1, "%s Spaces around %s were taken off.", k.tested.Text,
		strings.Join(k.tested.Trimmed, ", "))
	if k.im, err = k.w.Finish(ctx, "bramble", "BR-3302",
		Joining{Sources: []string{"alder"}, Import: joining.ImportChoices{Items: true, Orders: true}, Stock: true}); err != nil {
		return err
	}
	k.imported(k.im, 21)
	k.item, err = k.c.Item(ctx, "SMOKER-M")
	if err != nil {
		return err
	}
	begin := time.Now()
	if _, err := until(ctx, 15*time.Second, "its report", func() (bool, error) {
		return k.w.Bramble.Shows()["SMOKER-M"] == k.item.Levels[0].Available, nil
	}); err != nil {
		return err
	}
	k.check(true, "our quantities went in a batch; %.1f s later its report was read, and it shows %d of SMOKER-M",
		time.Since(begin).Seconds(), k.item.Levels[0].Available)
	second, err := k.c.StartJoin(ctx, joining.NewJoin{Connector: "bramble-row", Code: "second", Name: "Second"})
	if err != nil {
		return err
	}
	if k.tested, err = k.c.TestAccess(ctx, second.Connection.Code,
		joining.Access{Address: k.w.BrambleURL, Secrets: BrambleAccess}); err != nil {
		return err
	}
	k.check(!k.tested.LetIn, "the same account a second time is refused: %s", k.tested.Text)
	if err := k.c.DropJoin(ctx, "second"); err != nil {
		return err
	}
	return nil
}

func (k *joinWalk) counterpane(ctx context.Context) (err error) {
	k.step("Joining Counterpane by name and password")
	if err := k.w.Join(ctx, "counterpane", "till", "Mill Lane till"); err != nil {
		return err
	}
	wrong := map[string]string{"user": CounterpaneAccess["user"], "password": "honey", "shop": CounterpaneAccess["shop"]}
	if k.tested, err = k.c.TestAccess(ctx, "till", joining.Access{Address: k.w.CounterpaneURL, Secrets: wrong}); err != nil {
		return err
	}
	k.check(!k.tested.LetIn && k.tested.Field == "password", "a wrong password is named as such: %s", k.tested.Text)
	if k.tested, err = k.c.TestAccess(ctx, "till", joining.Access{Address: k.w.CounterpaneURL, Secrets: CounterpaneAccess}); err != nil {
		return err
	}
	k.check(k.tested.LetIn, "%s", k.tested.Text)
	if k.im, err = k.w.Finish(ctx, "till", "3", Joining{Sources: []string{"mill"}, Import: joining.ImportChoices{Items: true, Stock: true},
		Change: func(s *engine.Settings) { s.NumberPrefix, s.Anonymous = "T", "Counter sale" }}); err != nil {
		return err
	}
	k.imported(k.im, 16)
	if k.item, err = k.c.Item(ctx, "CAKE-HONEY"); err != nil {
		return err
	}
	k.check(sum(k.item).onHand == 12, "the honey cake is an item of ours now, with its opening stock: %s", levelsText(k.item))
	return nil
}

func (k *joinWalk) goodsAndOrders(ctx context.Context) error {
	if err := k.goods(ctx); err != nil {
		return err
	}
	if err := k.orders(ctx); err != nil {
		return err
	}
	return nil
}

func (k *joinWalk) asText(ctx context.Context) (err error) {
	k.step("The set-up as text")
	text, err := k.c.ExportSetup(ctx)
	if err != nil {
		return err
	}
	changes, err := k.c.PlanSetup(ctx, text, nil)
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
