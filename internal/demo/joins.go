package demo

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/joining"
	"openrelay/internal/relay/listing"
	"openrelay/internal/wire"
)

// Consent goes to a marketplace's consent page as a person's browser would: it lets the application in for
// a seller and brings the answer back. It returns what became of it.
func (w *World) Consent(ctx context.Context, c *client.Client, code, site, seller string) (engine.Tested, error) {
	var out engine.Tested
	page, err := c.AskConsent(ctx, code, joining.Access{Address: w.TansyURL, Site: site, Secrets: TansyAccess}, c.Server)
	if err != nil {
		return out, err
	}
	back, err := w.allow(ctx, page, seller)
	if err != nil {
		return out, err
	}
	return BringBack(ctx, c, back)
}

// allow lets the application in on the consent page, and returns where the browser is sent then.
func (w *World) allow(ctx context.Context, page, seller string) (string, error) {
	u, err := url.Parse(page)
	if err != nil {
		return "", err
	}
	form := url.Values{"query": {u.RawQuery}, "seller": {seller}, "decision": {"allow"}}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, u.Scheme+"://"+u.Host+u.Path, strings.NewReader(form.Encode()))
	if err != nil {
		return "", err
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	browser := &http.Client{Transport: w.Browser, CheckRedirect: func(*http.Request, []*http.Request) error {
		return http.ErrUseLastResponse
	}}
	res, err := browser.Do(req)
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusSeeOther {
		return "", fmt.Errorf("the consent page answered %d", res.StatusCode)
	}
	return res.Header.Get("Location"), nil
}

// BringBack opens the return address of a consent as the person who asked for it.
func BringBack(ctx context.Context, c *client.Client, address string) (engine.Tested, error) {
	var out struct {
		Tested engine.Tested `json:"tested"`
	}
	u, err := url.Parse(address)
	if err != nil {
		return out.Tested, err
	}
	raw, _, err := c.Raw(ctx, http.MethodGet, u.RequestURI(), nil, func(r *http.Request) { r.Header.Set("Accept", "application/json") })
	if err != nil {
		return out.Tested, err
	}
	return out.Tested, json.Unmarshal(raw, &out)
}

// Joining says how a connection of the demo is joined after its access was tested.
type Joining struct {
	Sources []string // codes of the locations whose stock is sold
	Change  func(*engine.Settings)
	Import  joining.ImportChoices
	Stock   bool // look at the preview and send stock
}

// Finish confirms the account, decides the settings, brings over what is there, and switches on.
func (w *World) Finish(ctx context.Context, code, number string, how Joining) (wire.ImportView, error) {
	var im wire.ImportView
	c := w.Client
	j, err := c.Confirm(ctx, code, number, true)
	if err != nil {
		return im, err
	}
	code = j.Connection.Code
	s := j.Connection.Settings
	places, err := c.Locations(ctx)
	if err != nil {
		return im, err
	}
	s.Offer.Sources = []int64{}
	for _, want := range how.Sources {
		for _, l := range places {
			if l.Code == want {
				s.Offer.Sources = append(s.Offer.Sources, l.ID)
			}
		}
	}
	s.Services = map[string]string{"standard": "cheapest", "tracked": "cheapest"}
	if how.Change != nil {
		how.Change(&s)
	}
	if _, err := c.SetSettings(ctx, code, s, j.Connection.Revision); err != nil {
		return im, err
	}
	if _, err := c.LookAtImport(ctx, code, how.Import); err != nil {
		return im, err
	}
	if im, err = w.imported(ctx, code); err != nil {
		return im, err
	}
	if _, err := c.GoOnWithImport(ctx, code); err != nil {
		return im, err
	}
	if im, err = w.imported(ctx, code); err != nil {
		return im, err
	}
	if how.Stock {
		if err := w.sendStock(ctx, code); err != nil {
			return im, err
		}
	}
	_, err = c.SwitchOn(ctx, code)
	return im, err
}

// sendStock looks at what sending stock would change, and switches it on.
func (w *World) sendStock(ctx context.Context, code string) error {
	p, err := w.Client.Preview(ctx, code)
	if err != nil {
		return err
	}
	if err := w.Client.AcceptPreview(ctx, code, p.Digest); err != nil {
		return err
	}
	x, err := w.Client.Connection(ctx, code)
	if err != nil {
		return err
	}
	for _, f := range x.Feeds {
		if f.Kind == message.StockOut {
			_, err = w.Client.SetFeed(ctx, code, f.Kind, true, f.Schedule, f.Revision)
		}
	}
	return err
}

// imported waits until a first import has looked or is done.
func (w *World) imported(ctx context.Context, code string) (wire.ImportView, error) {
	var im wire.ImportView
	err := w.Wait(ctx, 20*time.Second, "the first import", func() (bool, error) {
		var err error
		im, err = w.Client.FirstImport(ctx, code)
		return im.State != "looking" && im.State != "working", err
	})
	if err == nil && im.State == "failed" {
		err = errors.New(im.Error)
	}
	return im, err
}

// Join begins the set-up of a connection.
func (w *World) Join(ctx context.Context, connector, code, name string) error {
	_, err := w.Client.StartJoin(ctx, joining.NewJoin{Connector: connector, Code: code, Name: name})
	return err
}

// JoinTansy joins the marketplace through its consent page.
func (w *World) JoinTansy(ctx context.Context, how Joining) (wire.ImportView, error) {
	if err := w.Join(ctx, "tansy", "tansy", "Tansy"); err != nil {
		return wire.ImportView{}, err
	}
	if _, err := w.Consent(ctx, w.Client, "tansy", "westmark", "T-8841"); err != nil {
		return wire.ImportView{}, err
	}
	return w.Finish(ctx, "tansy", "T-8841", how)
}

// JoinBramble joins the marketplace by key and secret.
func (w *World) JoinBramble(ctx context.Context, how Joining) (wire.ImportView, error) {
	return w.joinBy(ctx, "bramble-row", "bramble", "Bramble Row", w.BrambleURL, BrambleAccess, how)
}

// JoinTill joins the till by name and password.
func (w *World) JoinTill(ctx context.Context, how Joining) (wire.ImportView, error) {
	return w.joinBy(ctx, "counterpane", "till", "Mill Lane till", w.CounterpaneURL, CounterpaneAccess, how)
}

// JoinIronway joins the second carrier by name and password.
func (w *World) JoinIronway(ctx context.Context) error {
	_, err := w.joinBy(ctx, "ironway", "ironway", "Ironway", w.IronwayURL, IronwayAccess, Joining{})
	return err
}

// JoinHeron joins the third carrier as a program of ours.
func (w *World) JoinHeron(ctx context.Context) error {
	_, err := w.joinBy(ctx, "swift-heron", "heron", "Swift Heron", w.HeronURL, HeronAccess, Joining{})
	w.Heron.SetHook(w.URL + "/in/heron")
	return err
}

// JoinNosh joins the ordering portal by its kitchen key.
func (w *World) JoinNosh(ctx context.Context, how Joining) (wire.ImportView, error) {
	im, err := w.joinBy(ctx, "nosh-lane", "nosh", "Nosh Lane", w.NoshURL, NoshAccess, how)
	w.Nosh.SetHook(w.URL + "/in/nosh")
	return im, err
}

func (w *World) joinBy(ctx context.Context, connector, code, name, address string, secrets map[string]string,
	how Joining) (wire.ImportView, error) {
	if err := w.Join(ctx, connector, code, name); err != nil {
		return wire.ImportView{}, err
	}
	t, err := w.Client.TestAccess(ctx, code, joining.Access{Address: address, Secrets: secrets})
	if err == nil && !t.LetIn {
		err = errors.New(t.Text)
	}
	if err != nil {
		return wire.ImportView{}, err
	}
	if bell := t.Given["bell"]; bell != "" { // shown once; the portal's people put it in
		w.Nosh.SetBell(bell)
	}
	return w.Finish(ctx, code, t.Identity.Number, how)
}

// JoinKitchen joins the ordering portal and puts the till's menu there: its orders come in, want an answer from a
// person, and are told when they are handed over.
func (w *World) JoinKitchen(ctx context.Context) error {
	if _, err := w.JoinNosh(ctx, Joining{Sources: []string{"mill"}, Change: func(s *engine.Settings) {
		s.Tolerance, s.Account = 60, "Portal, tax on delivery" // it taxes the delivery fee beyond what it lists
		s.NumberPrefix, s.PrepMinutes, s.TimeZone = "NL", 20, "UTC"
		s.Payments = map[string]string{"portal": "Portal clearing"}
	}}); err != nil {
		return err
	}
	if err := w.SwitchOn(ctx, "nosh", message.ItemsOut, message.OrdersIn, message.AnswersOut, message.StatesOut); err != nil {
		return err
	}
	if _, err := w.Client.RunNow(ctx, "till", message.ItemsIn, ""); err != nil {
		return err
	}
	if err := w.Wait(ctx, 15*time.Second, "the menu from the till", func() (bool, error) {
		list, err := w.Client.Items(ctx, "kind=prepared&limit=50")
		return len(list) >= len(tillMenu()), err
	}); err != nil {
		return err
	}
	var sel listing.Selection
	for _, d := range tillMenu() {
		sel.SKUs = append(sel.SKUs, d.Code)
	}
	p, err := w.Client.PreviewPublish(ctx, "nosh", sel)
	if err != nil {
		return err
	}
	if _, err := w.Client.Publish(ctx, "nosh", sel, p.Digest); err != nil {
		return err
	}
	return w.Wait(ctx, 15*time.Second, "the portal's menu", func() (bool, error) { return len(w.Nosh.Menu()) == len(tillMenu()), nil })
}

// SwitchOn switches feeds of a connection on.
func (w *World) SwitchOn(ctx context.Context, code string, kinds ...message.Feed) error {
	for _, kind := range kinds {
		x, err := w.Client.Connection(ctx, code)
		if err != nil {
			return err
		}
		for _, f := range x.Feeds {
			if f.Kind == kind && !f.On {
				if _, err := w.Client.SetFeed(ctx, code, kind, true, f.Schedule, f.Revision); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
