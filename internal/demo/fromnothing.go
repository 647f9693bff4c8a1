package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"strings"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/core/catalog"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/joining"
	"openrelay/internal/relay/people"
	"openrelay/internal/relay/views"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

// fromNothing makes a company where there is none, by the interfaces alone, and goes on to its first shipped order.
func (k *walk) fromNothing(ctx context.Context) error {
	k.step("A company made from nothing, to its first shipped order")
	w, err := Open(ctx, Options{Addrs: FreePorts, Empty: true})
	if err != nil {
		return err
	}
	defer w.Close()
	if err := w.begin(ctx); err != nil {
		return err
	}
	k.check(true, "it is named on its first page, with its first person, who makes a token for what follows")
	steps := []func(context.Context, *World) error{k.firstGround, k.firstChannel, k.firstOrder, k.oneWalk, k.oddDay, k.together}
	for _, step := range steps {
		if err := step(ctx, w); err != nil {
			return err
		}
	}
	var day views.FirstDay
	if _, err := w.Client.Do(ctx, http.MethodGet, "/first-day", nil, &day); err != nil {
		return err
	}
	k.check(day.Over, "the first day is over: %d steps are done", len(day.Steps))
	found, err := w.Store.Verify(ctx)
	k.check(err == nil && len(found) == 0, "verify finds nothing wrong there either")
	return err
}

// begin names the company, as the page behind the address does that the service prints, and gets a token as its first person.
func (w *World) begin(ctx context.Context) error {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return err
	}
	browser := &http.Client{Jar: jar}
	defer browser.CloseIdleConnections()
	_, key, _ := strings.Cut(w.Invitation, "#")
	var in people.Beginning
	in.Company.Name, in.Company.Country, in.Company.TimeZone, in.Company.Language = "Hollow Oak Apiaries", "XW", "Etc/GMT-1", "de"
	in.Person.Name, in.Person.Email, in.Person.Password = "Corin Teasel", "corin@hollowoak.example", "a swarm in May"
	first := struct {
		Key string `json:"key"`
		people.Beginning
	}{key, in}
	var me wire.Person
	if err := post(ctx, browser, w.URL+"/api/v1/first-run", first, &me); err != nil {
		return err
	}
	var token wire.NewToken
	if err := post(ctx, browser, w.URL+"/api/v1/tokens", map[string]any{"name": "The walk", "role": "lead"}, &token); err != nil {
		return err
	}
	w.Client = client.New(w.URL, token.Token)
	return nil
}

func post(ctx context.Context, browser *http.Client, url string, in, out any) error {
	b, err := json.Marshal(in)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, url, bytes.NewReader(b))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	res, err := browser.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode >= 300 {
		return fmt.Errorf("%s: %s", url, res.Status)
	}
	return json.NewDecoder(res.Body).Decode(out)
}

// firstGround adds what a company stands on: a place with hours and bins, an item with stock, a carton, a carrier that is
// only named.
func (k *walk) firstGround(ctx context.Context, w *World) error {
	bins := "A-[1-3]-[1-4]"
	at, err := w.Client.PutPlace(ctx, "barn", joining.Place{Name: "The Barn", Bins: &bins,
		Address: &place.Address{Name: "Hollow Oak", Street: "Oak Hollow 1", Postcode: "41360", Town: "Harrowmere", Country: "XW"},
		Hours: &place.Hours{Week: []string{"08:00-17:00", "08:00-17:00", "08:00-17:00", "08:00-17:00", "08:00-17:00",
			"08:00-12:00", ""}}})
	if err != nil {
		return err
	}
	k.check(at.Today != "", "its place, The Barn, says of today: %s", at.Today)
	if _, err := w.Client.CreateItem(ctx, catalog.Item{SKU: jar, Kind: catalog.Stocked, Name: "Glass jars 500 g, tray of 12", Price: 1190,
		Currency: "EUR", WeightG: 2950, LengthMM: 330, WidthMM: 245, HeightMM: 110}); err != nil {
		return err
	}
	if _, err := w.Client.Adjust(ctx, jar, "barn", 20, "opening count"); err != nil {
		return err
	}
	if _, err := w.Client.PutProfile(ctx, "medium", wire.ProfileText{Name: "Medium carton", LengthMM: 450, WidthMM: 350, HeightMM: 300,
		TareG: 480, MaxG: 15_000}); err != nil {
		return err
	}
	_, err = w.Client.PutNamedCarrier(ctx, "ferry", wire.NamedCarrierText{Name: "Greywick Ferry",
		TrackingURL: "https://ferry.example/parcels/{number}"})
	return err
}

// firstChannel joins a store, which shows the company's quantity from then on.
func (k *walk) firstChannel(ctx context.Context, w *World) error {
	if _, err := w.joinBy(ctx, "hedgerow", "morrow", "The store", w.MorrowURL, MorrowAccess,
		Joining{Sources: []string{"barn"}, Stock: true}); err != nil {
		return err
	}
	took, err := until(ctx, 15*time.Second, "the store to show 20", func() (bool, error) { return w.Morrow.Shelf()[jar] == 20, nil })
	k.check(err == nil, "the store is joined, and shows the 20 that lie in The Barn (%.1f s)", took.Seconds())
	return err
}

// firstOrder takes the first order from the store to a parcel that left with a typed number.
func (k *walk) firstOrder(ctx context.Context, w *World) error {
	s := w.sale(2)
	s.Lines[0].SKU = jar
	_, name, err := w.Morrow.Place(s)
	if err != nil {
		return err
	}
	if err := w.Wait(ctx, 15*time.Second, "the first order", func() (bool, error) { return w.known(ctx, name) }); err != nil {
		return err
	}
	o, err := w.Store.OrderByNumber(ctx, name)
	if err != nil {
		return err
	}
	v, err := w.PackOne(ctx, o.Number)
	if err != nil {
		return err
	}
	typed, err := w.Client.TypeNumber(ctx, v.Parcels[0].Number, "ferry", "GF 4471", "by boat")
	if err != nil {
		return err
	}
	k.check(typed.State == store.Gone && typed.TrackingURL == "https://ferry.example/parcels/GF4471",
		"%s is picked and packed; somebody typed the ferry's number, and it left: followed at %s", o.Number, typed.TrackingURL)
	took, err := until(ctx, 15*time.Second, "the store to know the parcel", func() (bool, error) {
		got, err := w.Client.Order(ctx, o.Number)
		return err == nil && len(got.WriteBacks) > 0 && got.WriteBacks[0].State == "confirmed", err
	})
	k.check(err == nil, "the store has the number too, read back from it (%.1f s)", took.Seconds())
	return err
}
