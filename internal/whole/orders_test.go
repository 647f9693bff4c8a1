package whole

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/cli"
	"openrelay/internal/client"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/place"
	"openrelay/internal/demo"
	"openrelay/internal/relay/attention"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/joining"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/standin"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

// placed sells at the first store and waits until the order is here.
func placed(t *testing.T, w *demo.World, s standin.Sale) (id string, o wire.Order) {
	t.Helper()
	id, name, err := w.Morrow.Place(s)
	require.NoError(t, err)
	eventually(t, "order "+name, func() bool {
		var err error
		o, err = w.Client.Order(t.Context(), name)
		return err == nil
	})
	return id, o
}

func orderNow(t *testing.T, w *demo.World, number string) wire.Order {
	t.Helper()
	o, err := w.Client.Order(t.Context(), number)
	require.NoError(t, err)
	return o
}

func TestManyAtOnceAndBack(t *testing.T) {
	w := openWorld(t, false)
	ctx, c := t.Context(), w.Client
	var numbers []string
	for range 3 {
		_, o := placed(t, w, jars(1))
		numbers = append(numbers, o.Number)
	}
	d, err := c.Act(ctx, "tag", "gift", append(numbers, "NOBODY")...)
	require.NoError(t, err)
	require.Equal(t, 3, d.Done)
	require.Len(t, d.Results, 4)
	require.Equal(t, "there is no such order", d.Results[3].Text)
	list, _, err := c.Orders(ctx, "tag=gift")
	require.NoError(t, err)
	require.Len(t, list, 3)
	second, err := c.Act(ctx, "tag", "gift", numbers...)
	require.NoError(t, err)
	require.Zero(t, second.Done, "they have it already")
	back, err := c.UndoAct(ctx, d.ID)
	require.NoError(t, err)
	require.Equal(t, 3, back.Done)
	list, _, err = c.Orders(ctx, "tag=gift")
	require.NoError(t, err)
	require.Empty(t, list)
	_, err = c.UndoAct(ctx, d.ID)
	require.Equal(t, http.StatusConflict, client.StatusOf(err), "once")

	d, err = c.Act(ctx, "hold", "call the buyer", numbers...)
	require.NoError(t, err)
	require.Equal(t, 3, d.Done)
	require.Equal(t, "held", orderNow(t, w, numbers[0]).Stage)
	_, err = c.UndoAct(ctx, d.ID)
	require.NoError(t, err)
	require.Equal(t, "ready", orderNow(t, w, numbers[0]).Stage)

	d, err = c.Act(ctx, "assign", "Joss Fenn", numbers[0])
	require.NoError(t, err)
	require.True(t, d.Undo)
	list, _, err = c.Orders(ctx, "assignee=Joss+Fenn")
	require.NoError(t, err)
	require.Len(t, list, 1)

	d, err = c.Act(ctx, "ship", "", numbers...)
	require.NoError(t, err)
	require.Zero(t, d.Done, "nothing is packed yet")
	for _, n := range numbers[:2] {
		_, err := w.PackOne(ctx, n)
		require.NoError(t, err)
	}
	d, err = c.Act(ctx, "ship", "", numbers...)
	require.NoError(t, err)
	require.Equal(t, 2, d.Done)
	require.False(t, d.Undo, "a label that was bought is not taken back by a click")
	require.Contains(t, d.Results[2].Text, "nothing of it is packed")
	d, err = c.Act(ctx, "cancel", "out of season", numbers...)
	require.NoError(t, err)
	require.Equal(t, 1, d.Done)
	require.Equal(t, "cancelled", orderNow(t, w, numbers[2]).Stage)
	pdf, _, err := c.Raw(ctx, http.MethodPost, "/api/v1/pick-lists.pdf?orders="+numbers[0], nil)
	require.Error(t, err, "nothing to pick: %d bytes", len(pdf))
	_, err = c.Act(ctx, "fly", "", numbers...)
	require.Equal(t, http.StatusUnprocessableEntity, client.StatusOf(err))
	clean(t, w)
}

func TestVoidReleaseAndTakeInAgain(t *testing.T) {
	w := openWorld(t, false)
	ctx, c := t.Context(), w.Client
	id, o := placed(t, w, jars(2))
	before, err := c.Item(ctx, "JAR-500-T12")
	require.NoError(t, err)
	void, err := c.Void(ctx, o.Number, "typed into the wrong shop", true)
	require.NoError(t, err)
	require.NotEqual(t, o.Number, void)
	require.Equal(t, "void", orderNow(t, w, void).Stage)
	now, err := c.Item(ctx, "JAR-500-T12")
	require.NoError(t, err)
	require.Equal(t, before.Levels[0].Allocated-2, now.Levels[0].Allocated)
	// What the channel says of it meanwhile changes nothing: it is void until somebody takes it in again.
	require.NoError(t, w.Morrow.Change(id, map[string]int64{"L1": 1}, nil))
	eventually(t, "the version to be kept", func() bool { return len(orderNow(t, w, void).Versions) == 2 })
	again, err := c.TakeInAgain(ctx, void)
	require.NoError(t, err)
	require.Equal(t, o.Number, again, "the number was released")
	back := orderNow(t, w, again)
	require.Equal(t, "ready", back.Stage)
	require.EqualValues(t, 1, back.Lines[0].Quantity, "as the channel says now")
	_, err = c.TakeInAgain(ctx, void)
	require.Error(t, err, "once")
	_, err = c.TakeInAgain(ctx, again)
	require.ErrorContains(t, err, "not void")
	list, _, err := c.Orders(ctx, "stage=void")
	require.NoError(t, err)
	require.Len(t, list, 1)
	clean(t, w)
}

func TestTypedBesideTheOriginal(t *testing.T) {
	w := openWorld(t, false)
	ctx, c := t.Context(), w.Client
	status, _ := push(t, w, event(map[string]any{"state": "enchanted"}), nil)
	require.Equal(t, http.StatusAccepted, status)
	var e wire.Exception
	eventually(t, "the exception", func() bool {
		list, err := c.Groups(ctx, "cause=message%20not%20understood")
		if err != nil || len(list) != 1 {
			return false
		}
		e = list[0]
		return true
	})
	raw, err := c.Inbox(ctx, e.InboxID)
	require.NoError(t, err)
	require.Contains(t, raw.Raw, "enchanted")
	require.Contains(t, raw.Reason, "enchanted")
	typed := orders.TypedOrder{Connection: "morrow", Inbox: e.InboxID, Order: message.Order{Number: "X-1001", Currency: "EUR",
		PricesIncludeTax: true, BuyerName: "Ilka Fenn",
		ShipTo: place.Address{Name: "Ilka Fenn", Street: "Heron Lane 4", Postcode: "41360", Town: "Harrowmere", Country: "XW"},
		Lines:  []message.OrderLine{{SKU: "JAR-500-T12", Quantity: 1, UnitPrice: 1190}}, Shipping: 490}}
	number, err := c.TypeOrder(ctx, typed)
	require.NoError(t, err)
	o := orderNow(t, w, number)
	require.Equal(t, "ready", o.Stage)
	require.Equal(t, "Runa Hollis", o.TypedBy)
	require.Equal(t, "morrow", o.Connection, "it counts for its channel")
	require.EqualValues(t, 1680, o.Record.Total)
	list, err := c.Groups(ctx, "")
	require.NoError(t, err)
	require.Empty(t, list, "the message is settled with it")
	_, err = c.TypeOrder(ctx, typed)
	require.Equal(t, http.StatusConflict, client.StatusOf(err))

	// From a call, without a message; the same number again is refused.
	typed.Inbox, typed.Order.Number = 0, "PHONE-1"
	number, err = c.TypeOrder(ctx, typed)
	require.NoError(t, err)
	require.Equal(t, "ready", orderNow(t, w, number).Stage)
	_, err = c.TypeOrder(ctx, typed)
	require.ErrorContains(t, err, "is order R10002 already")
	typed.Order.Number, typed.Order.Lines = "PHONE-2", []message.OrderLine{}
	_, err = c.TypeOrder(ctx, typed)
	require.ErrorContains(t, err, "lines: none")
	rep, err := c.Report(ctx, "source", "", "")
	require.NoError(t, err)
	require.Equal(t, "typed by Runa Hollis", rep.Rows[0].Second)
	require.EqualValues(t, 2, rep.Rows[0].A)
	// The channel's next version, which can be read, is the same order.
	status, _ = push(t, w, event(map[string]any{"revision": 2, "state": "cancelled"}), nil)
	require.Equal(t, http.StatusAccepted, status)
	eventually(t, "the cancellation", func() bool { return orderNow(t, w, "X-1001").Stage == "cancelled" })
	clean(t, w)
}

// TestExceptionsTogether: the same cause is one thing to look after, however many orders wait; who looks after it and
// its sleep hold for those that join it.
func TestExceptionsTogether(t *testing.T) {
	w := openWorld(t, false)
	ctx, c := t.Context(), w.Client
	odd := func() standin.Sale {
		s := jars(1)
		s.Lines = append(s.Lines, standin.SaleLine{SKU: "OLD", Title: "Smoker, former model", Qty: 1, Price: 900})
		return s
	}
	var numbers []string
	for range 3 {
		_, o := placed(t, w, odd())
		require.Equal(t, "held", o.Stage)
		numbers = append(numbers, o.Number)
	}
	groups := func(q string) []wire.Exception {
		list, err := c.Groups(ctx, q)
		require.NoError(t, err)
		return list
	}
	require.Len(t, groups(""), 1)
	g := groups("")[0]
	require.EqualValues(t, 3, g.Orders)
	require.Equal(t, "OLD", g.Subject)
	of := attention.GroupOf{Cause: g.Cause, Connection: "morrow", Subject: "OLD"}
	n, err := c.Assign(ctx, of, "Joss Fenn")
	require.NoError(t, err)
	require.EqualValues(t, 3, n)
	_, err = c.Snooze(ctx, of, time.Now().Add(time.Hour))
	require.NoError(t, err)
	require.Empty(t, groups(""))
	_, o := placed(t, w, odd())
	numbers = append(numbers, o.Number)
	require.Empty(t, groups(""), "it joins those that sleep")
	require.EqualValues(t, 4, groups("asleep=true")[0].Orders)
	require.Equal(t, "Joss Fenn", groups("asleep=true&assignee=Joss+Fenn")[0].Assignee)
	_, err = c.Snooze(ctx, of, time.Time{})
	require.NoError(t, err)
	_, err = c.Settle(ctx, of)
	require.Equal(t, http.StatusConflict, client.StatusOf(err), "the hold of an order ends with its cause")
	k, err := c.MakeKnown(ctx, "morrow", "OLD", "SMOKER-M", false)
	require.NoError(t, err)
	require.Equal(t, 4, k.Freed)
	for _, n := range numbers {
		require.Equal(t, "ready", orderNow(t, w, n).Stage)
	}
	require.Empty(t, groups(""))
	_, o = placed(t, w, odd())
	require.Equal(t, "ready", o.Stage, "the same thing does not come back")
	_, err = c.MakeKnown(ctx, "morrow", "OTHER", "NOTHING", false)
	require.ErrorContains(t, err, "there is no item NOTHING")
	clean(t, w)
}

// TestNotices: people are told of what they chose, once, what comes together goes together, signed, and again where it
// was not taken.
func TestNotices(t *testing.T) {
	w := openWorld(t, false)
	ctx, c := t.Context(), w.Client
	_, secret, err := c.PutTarget(ctx, attention.NewTarget{Kind: "webhook", Address: w.TrayURL + "/call",
		Causes: []order.Cause{"unknown item"}, On: true})
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(secret, "whsec_"))
	w.Tray.Trust(secret)
	w.Tray.Refuse(2)
	_, _, err = c.PutTarget(ctx, attention.NewTarget{Kind: "email", Address: "desk@morrowhive.example", Every: 60, On: true})
	require.NoError(t, err)
	for _, bad := range []attention.NewTarget{{Kind: "webhook", Address: "ftp://x"}, {Kind: "email", Address: "nobody"},
		{Kind: "pigeon", Address: "x"}} {
		_, _, err := c.PutTarget(ctx, bad)
		require.Equal(t, http.StatusUnprocessableEntity, client.StatusOf(err), bad)
	}
	s := jars(1)
	s.Lines = append(s.Lines, standin.SaleLine{SKU: "OLD", Title: "Old", Qty: 1, Price: 900})
	_, o := placed(t, w, s)
	off := jars(1)
	off.TotalOff = 500
	placed(t, w, off)
	var calls, mails []standin.Letter
	eventually(t, "both to be told", func() bool {
		calls, mails = nil, nil
		for _, l := range w.Tray.Letters() {
			if l.How == "call" {
				calls = append(calls, l)
			} else {
				mails = append(mails, l)
			}
		}
		return len(calls) == 1 && len(mails) == 1
	})
	var event struct {
		SpecVersion, Type, Source, ID string
		Data                          struct {
			Groups []struct {
				Cause, Subject string
				Orders         []string
			}
		}
	}
	require.NoError(t, json.Unmarshal([]byte(calls[0].Text), &event))
	require.Equal(t, "1.0", event.SpecVersion)
	require.Equal(t, "open-relay.exceptions.raised", event.Type)
	require.Equal(t, calls[0].ID, event.ID)
	require.Len(t, event.Data.Groups, 1, "only what was chosen")
	require.Equal(t, []string{o.Number}, event.Data.Groups[0].Orders)
	require.Equal(t, "desk@morrowhive.example", mails[0].To)
	require.Contains(t, mails[0].Text, "unknown item")
	// What comes next waits for the next message to the desk, and is told at once to the address.
	s.Lines[1].SKU = "OLDER"
	placed(t, w, s)
	eventually(t, "the second call", func() bool {
		n := 0
		for _, l := range w.Tray.Letters() {
			if l.How == "call" {
				n++
			}
		}
		return n == 2
	})
	require.Len(t, mailsIn(w), 1)
	text, err := os.ReadFile(w.Store.Path())
	require.NoError(t, err)
	require.False(t, bytes.Contains(text, []byte(strings.TrimPrefix(secret, "whsec_"))), "the secret is sealed")
}

func mailsIn(w *demo.World) (out []standin.Letter) {
	for _, l := range w.Tray.Letters() {
		if l.How == "mail" {
			out = append(out, l)
		}
	}
	return out
}

// TestPrivacy: personal data is hidden by role, exported and erased per person, removed after its time; the books stay,
// and who looked is known.
func TestPrivacy(t *testing.T) {
	w := openWorld(t, false)
	ctx, c := t.Context(), w.Client
	s := jars(1)
	s.Note, s.Gift = "Ring at Number Nine", "For Aunt Petra"
	_, o := placed(t, w, s)
	_, err := w.ShipOne(ctx, o.Number)
	require.NoError(t, err)
	_, open := placed(t, w, jars(1))
	require.EqualValues(t, 2, orderNow(t, w, open.Number).Customer.Orders, "a returning buyer is seen")
	eventually(t, "quiet", func() bool { q, err := w.Quiet(ctx); return err == nil && q })

	require.NoError(t, w.Relay.AddToken(ctx, "Auditor", "viewer", "relay_token_of_the_auditor_0000001"))
	viewer := client.New(w.URL, "relay_token_of_the_auditor_0000001")
	for _, path := range []string{"/orders", "/orders/" + o.Number, "/board", "/activity", "/shipments", "/exceptions",
		"/orders?q=Tolland", "/orders?q=maren"} {
		raw, _, err := viewer.Raw(ctx, "GET", "/api/v1"+path, nil)
		require.NoError(t, err, path)
		for _, secret := range []string{"Tolland", "Lindenrow", "maren.tolland", "Number Nine", "Aunt Petra"} {
			require.NotContains(t, string(raw), secret, path)
		}
	}
	sheet, _, err := viewer.Raw(ctx, "GET", "/api/v1/orders.csv", nil)
	require.NoError(t, err)
	require.NotContains(t, string(sheet), "Tolland")
	_, err = viewer.PDF(ctx, "/orders/"+o.Number+"/pick-list.pdf")
	require.Equal(t, http.StatusForbidden, client.StatusOf(err))
	_, err = viewer.Person(ctx, "maren.tolland@example.test")
	require.Equal(t, http.StatusForbidden, client.StatusOf(err))

	p, err := c.Person(ctx, "maren.tolland@example.test")
	require.NoError(t, err)
	require.Len(t, p.Orders, 2)
	require.Equal(t, "Lindenrow 14", p.Orders[0].ShipTo.Street)
	_, err = c.ErasePerson(ctx, "maren.tolland@example.test")
	require.ErrorContains(t, err, open.Number, "an order is still on its way")
	_, err = c.Act(ctx, "cancel", "asked for", open.Number)
	require.NoError(t, err)
	total := orderNow(t, w, o.Number).Record.Total
	n, err := c.ErasePerson(ctx, "maren.tolland@example.test")
	require.NoError(t, err)
	require.Equal(t, 2, n)
	gone := orderNow(t, w, o.Number)
	require.Equal(t, total, gone.Record.Total, "the books stay")
	require.NotNil(t, gone.Forgotten)
	require.Equal(t, "41", gone.ShipTo.Postcode)
	_, err = c.Person(ctx, "maren.tolland@example.test")
	require.Equal(t, http.StatusNotFound, client.StatusOf(err))
	list, _, err := c.Orders(ctx, "q=Tolland")
	require.NoError(t, err)
	require.Empty(t, list)
	b, err := json.Marshal(gone)
	require.NoError(t, err)
	for _, secret := range []string{"Tolland", "Lindenrow", "maren.tolland", "Number Nine", "Aunt Petra"} {
		require.NotContains(t, string(b), secret)
	}
	looks, err := c.Looks(ctx, "thing=person&key=removed") // that somebody looked stays, at whom does not
	require.NoError(t, err)
	require.Len(t, looks, 1, "looking again within minutes is one look")
	require.Equal(t, "Runa Hollis", looks[0].Who)
	clean(t, w)

	// After its time.
	require.ErrorContains(t, c.KeepFor(ctx, 3), "30 to 3660")
	require.NoError(t, c.KeepFor(ctx, 30))
	_, old := placed(t, w, jars(1))
	_, err = c.Act(ctx, "cancel", "x", old.Number)
	require.NoError(t, err)
	done, err := w.Relay.ForgetOld(ctx)
	require.NoError(t, err)
	require.Zero(t, done, "its time is not over")
	require.NoError(t, w.Store.Write(ctx, func(tx *store.Tx) error { return tx.PutSetting("personal data days", "-1") }))
	done, err = w.Relay.ForgetOld(ctx)
	require.NoError(t, err)
	require.Equal(t, 1, done)
	list, _, err = c.Orders(ctx, "q=Tolland")
	require.NoError(t, err)
	require.Empty(t, list)
	clean(t, w)
}

// TestPortalByItself: orders are accepted without a person, the difference that the taxed delivery makes is booked, the
// guest's cancellation stops the work, and an order that nobody could answer is raised.
func TestPortalByItself(t *testing.T) {
	w := openWorld(t, false)
	ctx, c := t.Context(), w.Client
	_, err := w.JoinTill(ctx, demo.Joining{Sources: []string{"mill"}, Import: joining.ImportChoices{Items: true}})
	require.NoError(t, err)
	require.NoError(t, w.JoinKitchen(ctx))
	accept := func(how string) {
		x, err := c.Connection(ctx, "nosh")
		require.NoError(t, err)
		x.Settings.Answer = how
		_, err = c.SetSettings(ctx, "nosh", x.Settings, x.Revision)
		require.NoError(t, err)
	}
	accept("accept")
	ref, err := w.Nosh.Order(standin.NoshSale{Brought: true,
		Dishes: []standin.NoshDishSale{{Code: "LUNCH-SOUP", Count: 1, Choices: []string{"SIDE/SALAD", "EXTRA/SEEDS"}}}})
	require.NoError(t, err)
	eventually(t, "the portal to hear", func() bool { return w.Nosh.Stands(ref) == "accepted" })
	o := orderNow(t, w, ref)
	require.Equal(t, "ready", o.Stage)
	require.True(t, strings.HasPrefix(o.Number, "NL-"), "a number series of its own")
	require.EqualValues(t, 50, o.Ours.Booked)
	require.Equal(t, "Portal, tax on delivery", o.Ours.Account)
	require.Equal(t, "Portal clearing", o.Ours.PaymentAccount)
	require.Len(t, o.Lines[0].Choices, 2)
	require.NoError(t, w.Nosh.CallOff(ref))
	eventually(t, "the cancellation", func() bool { return orderNow(t, w, ref).Stage == "cancelled" })

	accept("")
	ref, err = w.Nosh.Order(standin.NoshSale{})
	require.NoError(t, err)
	eventually(t, "the order", func() bool { stage, _ := orderOf(t, w, ref); return stage == "held" })
	require.NoError(t, c.AnswerOrder(ctx, orderNow(t, w, ref).Number, false, 0, "The oven is cold"))
	eventually(t, "the portal to hear", func() bool { return w.Nosh.Stands(ref) == "declined" })

	late, err := w.Nosh.Order(standin.NoshSale{})
	require.NoError(t, err)
	eventually(t, "the portal to lose patience, and a person to be told", func() bool {
		list, err := c.Groups(ctx, "cause=not%20answered%20in%20time")
		return err == nil && len(list) == 1 && w.Nosh.Stands(late) == "lapsed"
	})
	eventually(t, "the cancellation", func() bool { return orderNow(t, w, late).Stage == "cancelled" })
	require.Len(t, orderNow(t, w, late).Holds, 1, "that we were late remains")
	clean(t, w)
}

// TestStoreRoomSales: orders that the marketplace ships run to the end untouched, and what it holds for us is what it
// says, whichever comes first.
func TestStoreRoomSales(t *testing.T) {
	w := openWorld(t, false)
	ctx, c := t.Context(), w.Client
	_, err := c.PutLocation(ctx, "tansy-room", "Tansy store room", "")
	require.NoError(t, err)
	_, err = w.JoinTansy(ctx, demo.Joining{Sources: []string{"alder"}, Import: joining.ImportChoices{Items: true},
		Change: func(s *engine.Settings) {
			s.OwnLocation, s.Locations, s.ChannelPrefix = "tansy-room", map[string]string{"store room": "tansy-room"}, "TR"
		}})
	require.NoError(t, err)
	_, err = c.PutLocation(ctx, "tansy-room", "Tansy store room", "tansy")
	require.NoError(t, err)
	for _, kind := range []message.Feed{"orders in", "stock in"} {
		x, err := c.Connection(ctx, "tansy")
		require.NoError(t, err)
		for _, f := range x.Feeds {
			if f.Kind == kind {
				_, err := c.SetFeed(ctx, "tansy", kind, true, "@every 1h", f.Revision)
				require.NoError(t, err)
			}
		}
	}
	const sku = "SUIT-S-WHITE"
	room := func() (n int64) {
		it, err := c.Item(ctx, sku)
		require.NoError(t, err)
		for _, l := range it.Levels {
			if l.Location == "tansy-room" {
				n = l.OnHand
			}
		}
		return n
	}
	require.NoError(t, w.Tansy.Hold(sku, 20))
	again(t, w, "tansy", "stock in")
	eventually(t, "the word of the store room", func() bool { return room() == 20 })
	for i, first := range []message.Feed{"orders in", "stock in"} {
		id, err := w.Tansy.Sell(standin.DeskSale{SKU: sku, Quantity: 2, Own: true})
		require.NoError(t, err)
		again(t, w, "tansy", first)
		second := map[message.Feed]message.Feed{"orders in": "stock in", "stock in": "orders in"}[first]
		if first == "orders in" {
			eventually(t, "the order", func() bool { stage, _ := orderOf(t, w, id); return stage == "shipped" })
		} else {
			eventually(t, "its word", func() bool { return room() == w.Tansy.Room(sku) })
		}
		again(t, w, "tansy", second)
		eventually(t, "both", func() bool { stage, _ := orderOf(t, w, id); return stage == "shipped" && room() == w.Tansy.Room(sku) })
		require.EqualValues(t, 20-2*int64(i+1), room())
		require.True(t, strings.HasPrefix(orderNow(t, w, id).Number, "TR-"), "a number series of its own")
	}
	clean(t, w)
}

// TestDaysAreMerged: counter sales become one order a day, none twice and none lost, also when the time zone of the
// channel is changed in between; undone, they are single again.
func TestDaysAreMerged(t *testing.T) {
	w := openWorld(t, false)
	ctx, c := t.Context(), w.Client
	_, err := w.JoinTill(ctx, demo.Joining{Sources: []string{"mill"}, Import: joining.ImportChoices{Items: true},
		Change: func(s *engine.Settings) { s.Customer = "Counter customers" }})
	require.NoError(t, err)
	sell := func(n int) {
		for range n {
			_, err := w.Counterpane.Sell(standin.DeskSale{SKU: "TEA-POT"})
			require.NoError(t, err)
		}
		again(t, w, "till", "orders in")
	}
	count := func(q string) int {
		list, _, err := c.Orders(ctx, "connection=till&limit=200&"+q)
		require.NoError(t, err)
		return len(list)
	}
	sell(4)
	eventually(t, "four sales", func() bool { return count("kind=counter") == 4 })
	sums, err := c.Merge(ctx, "till", time.Now())
	require.NoError(t, err)
	require.Len(t, sums, 1)
	sum := orderNow(t, w, sums[0])
	require.EqualValues(t, 4, sum.Ours.Members)
	require.Len(t, sum.Lines, 1)
	require.EqualValues(t, 4, sum.Lines[0].Quantity)
	require.Equal(t, "Counter customers", sum.Record.BuyerName)
	require.Equal(t, "delivered", sum.Stage)
	none, err := c.Merge(ctx, "till", time.Now())
	require.NoError(t, err)
	require.Empty(t, none, "nobody is merged twice")
	// The channel moves to other clocks; the next day begins elsewhere, and still each sale is in one sum.
	x, err := c.Connection(ctx, "till")
	require.NoError(t, err)
	x.Settings.TimeZone = "Etc/GMT-11"
	_, err = c.SetSettings(ctx, "till", x.Settings, x.Revision)
	require.NoError(t, err)
	sell(3)
	eventually(t, "seven sales", func() bool { return count("kind=counter") == 7 })
	more, err := c.Merge(ctx, "till", time.Now().Add(24*time.Hour))
	require.NoError(t, err)
	members := int64(0)
	for _, n := range append(sums, more...) {
		members += orderNow(t, w, n).Ours.Members
	}
	require.EqualValues(t, 7, members)
	require.NoError(t, c.UndoMerge(ctx, sums[0]))
	require.Equal(t, "void", orderNow(t, w, sums[0]).Stage)
	back, err := c.Merge(ctx, "till", time.Now())
	require.NoError(t, err)
	require.Len(t, back, 1)
	require.NoError(t, c.Posted(ctx, back[0]))
	require.ErrorContains(t, c.UndoMerge(ctx, back[0]), "posted to the books")
	rep, err := c.Report(ctx, "source", "", "")
	require.NoError(t, err)
	require.EqualValues(t, 7, rep.Rows[0].A, "summaries do not count twice")
	clean(t, w)
}

// TestRulesInTheRunningRelay: a rule decides on orders from its switching on; a rehearsal names the orders before that
// it would have changed, and changes none of them.
func TestRulesInTheRunningRelay(t *testing.T) {
	w := openWorld(t, false)
	ctx, c := t.Context(), w.Client
	suits := jars(3)
	suits.Lines[0].SKU = "SUIT-S-WHITE"
	_, before := placed(t, w, suits)
	express := jars(1)
	express.Delivery.Method = "express"
	placed(t, w, express)
	rule := orders.RuleChange{Name: "Many jars", On: true, When: `units >= 3 && "SUIT-S-WHITE" in skus`,
		Then: `tag("many"), location("pier"), profile("large")`}
	r, err := c.Rehearse(ctx, rule, 0)
	require.NoError(t, err)
	require.EqualValues(t, 2, r.Seen)
	require.EqualValues(t, 1, r.Changed)
	require.Equal(t, before.Number, r.Orders[0].Number)
	require.Equal(t, []string{"location pier", "profile large", "tag many"}, r.Orders[0].Changes)
	require.Empty(t, orderNow(t, w, before.Number).Ours.Tags)
	list, err := c.ChangeRule(ctx, rule)
	require.NoError(t, err)
	_, o := placed(t, w, suits)
	require.Equal(t, []string{"many"}, o.Ours.Tags)
	require.Equal(t, "Pier Nine", o.Lines[0].At[0].Location)
	require.Equal(t, "Many jars", o.Ours.Touched[0].Name)
	s, err := c.Pick(ctx, o.Number)
	require.NoError(t, err)
	v, err := c.Shipment(ctx, s)
	require.NoError(t, err)
	require.Equal(t, "large", v.Profiled)

	// As far as the pick list without a person.
	list, err = c.ChangeRule(ctx, orders.RuleChange{Name: "Express", On: true, When: `service == "express"`, Then: `carry("pick")`})
	require.NoError(t, err)
	_, o = placed(t, w, express)
	require.Equal(t, "routed", o.Stage)
	require.Len(t, o.Shipments, 1)
	_, err = c.ChangeRule(ctx, orders.RuleChange{ID: list[1].ID, Revision: list[1].Revision, Remove: true})
	require.NoError(t, err)

	// Order, concurrency, refusals.
	first := orders.RuleChange{Name: "First", On: true, Then: `tag("first")`, Position: 1}
	list, err = c.ChangeRule(ctx, first)
	require.NoError(t, err)
	require.Equal(t, "First", list[0].Name)
	stale := orders.RuleChange{ID: list[1].ID, Revision: list[1].Revision - 1, Name: "x", Then: `tag("x")`}
	_, err = c.ChangeRule(ctx, stale)
	require.Equal(t, http.StatusPreconditionFailed, client.StatusOf(err))
	for _, bad := range []string{`location("nowhere")`, `profile("huge")`, `tag(`} {
		_, err = c.ChangeRule(ctx, orders.RuleChange{Name: "x", On: true, Then: bad})
		require.Equal(t, http.StatusUnprocessableEntity, client.StatusOf(err), bad)
	}
	gone, err := c.Rehearse(ctx, orders.RuleChange{ID: list[1].ID, Remove: true}, 0)
	require.NoError(t, err)
	require.EqualValues(t, 2, gone.Changed, "without it, both orders of three would be decided on differently")
	_, err = c.ChangeRule(ctx, orders.RuleChange{ID: list[0].ID, Revision: list[0].Revision, Remove: true})
	require.NoError(t, err)
	_, o = placed(t, w, jars(1))
	require.Empty(t, o.Ours.Tags)
	clean(t, w)
}

// TestRulesCarryToTheLabel: after the last scan the parcel is packed and its label bought, by what rules chose. What
// cannot be done without a person is said on the order and waits for one.
func TestRulesCarryToTheLabel(t *testing.T) {
	w := openWorld(t, false)
	ctx, c := t.Context(), w.Client
	_, by := placed(t, w, jars(1))
	hand, err := c.Pick(ctx, by.Number)
	require.NoError(t, err)
	_, err = c.Scan(ctx, hand, "JAR-500-T12", "", 1)
	require.NoError(t, err)
	_, err = c.Pack(ctx, hand, "medium", 0, nil)
	require.NoError(t, err)
	rates, err := c.Rates(ctx, hand)
	require.NoError(t, err)
	rates = slices.DeleteFunc(rates, func(x shipping.Rate) bool { return x.Refused != "" })
	require.Greater(t, len(rates), 1)
	dearest := rates[len(rates)-1].Service

	_, err = c.ChangeRule(ctx, orders.RuleChange{Name: "One tray", On: true, When: `"JAR-500-T12" in skus`,
		Then: fmt.Sprintf(`profile("medium"), service(%q), carry("ship")`, dearest)})
	require.NoError(t, err)
	picked := func(n int64) (string, wire.Order) {
		_, o := placed(t, w, jars(n))
		require.Equal(t, "routed", o.Stage)
		s := o.Shipments[0].Number
		for range n {
			_, err := c.Scan(ctx, s, "JAR-500-T12", "", 1)
			require.NoError(t, err)
		}
		return s, orderNow(t, w, o.Number)
	}
	s, o := picked(1)
	require.NoError(t, w.Wait(ctx, 10*time.Second, "the label", func() (bool, error) {
		v, err := c.Shipment(ctx, s)
		return len(v.Parcels) > 0 && v.Parcels[0].Tracking != "", err
	}))
	v, err := c.Shipment(ctx, s)
	require.NoError(t, err)
	require.Equal(t, "medium", v.Parcels[0].Profile)
	require.Equal(t, dearest, v.Parcels[0].Service)
	require.Equal(t, "shipped", orderNow(t, w, o.Number).Stage)

	// More than the carton takes: a person packs it, and its label is then bought.
	s, o = picked(6)
	v, err = c.Shipment(ctx, s)
	require.NoError(t, err)
	require.Equal(t, store.ToPick, v.State)
	eventually(t, "it is said on the order", func() bool {
		return slices.ContainsFunc(orderNow(t, w, o.Number).Timeline, func(e wire.Entry) bool {
			return strings.HasPrefix(e.Text, "Not packed without a person: ")
		})
	})
	_, err = c.Pack(ctx, s, "large", 0, nil)
	require.NoError(t, err)
	eventually(t, "its label", func() bool { return orderNow(t, w, o.Number).Stage == "shipped" })
	clean(t, w)
}

// TestFindingOrders: by either number, a name, an SKU, a tracking number; narrowed; as CSV.
func TestFindingOrders(t *testing.T) {
	w := openWorld(t, true)
	ctx, c := t.Context(), w.Client
	rows, _, err := c.Orders(ctx, "stage=shipped,delivered&limit=5")
	require.NoError(t, err)
	o := orderNow(t, w, rows[0].Number)
	for _, q := range []string{o.Number, o.Record.Number, strings.ToLower(o.Record.BuyerName), o.Lines[0].SKU,
		o.Shipments[0].Parcels[0].Tracking, o.Shipments[0].Parcels[0].Tracking[:8], o.Lines[0].SKU + " " + o.Record.Number} {
		list, _, err := c.Orders(ctx, "limit=200&q="+strings.ReplaceAll(q, " ", "+"))
		require.NoError(t, err)
		found := false
		for _, r := range list {
			found = found || r.Number == o.Number
		}
		require.True(t, found, q)
	}
	all, _, err := c.Orders(ctx, "limit=200")
	require.NoError(t, err)
	for query, fits := range map[string]func(wire.OrderRow) bool{
		"stage=held":                  func(r wire.OrderRow) bool { return r.Stage == "held" },
		"connection=skep&state=sent":  func(r wire.OrderRow) bool { return r.Connection == "skep" && r.ChannelState == "sent" },
		"connection=skep&stage=ready": func(r wire.OrderRow) bool { return r.Connection == "skep" && r.Stage == "ready" },
		"tag=fragile&connection=morrow": func(r wire.OrderRow) bool {
			return strings.Contains(fmt.Sprint(r.Tags), "fragile") && r.Connection == "morrow"
		},
		"cause=unknown+item": func(r wire.OrderRow) bool { return strings.Contains(fmt.Sprint(r.Held), "unknown item") },
		"stage=ready,picking&tag=fragile": func(r wire.OrderRow) bool {
			return (r.Stage == "ready" || r.Stage == "picking") && strings.Contains(fmt.Sprint(r.Tags), "fragile")
		},
		"from=2020-01-01&to=2020-01-02":       func(wire.OrderRow) bool { return false },
		"from=2020-01-01&stage=cancelled":     func(r wire.OrderRow) bool { return r.Stage == "cancelled" },
		"typed=*":                             func(r wire.OrderRow) bool { return r.TypedBy != "" },
		"kind=counter":                        func(r wire.OrderRow) bool { return r.Kind == "counter" },
		"stage=ready&connection=skep&tag=xyz": func(wire.OrderRow) bool { return false },
	} {
		var want []string
		for _, r := range all {
			if fits(r) {
				want = append(want, r.Number)
			}
		}
		list, _, err := c.Orders(ctx, "limit=200&"+query)
		require.NoError(t, err, query)
		var got []string
		for _, r := range list {
			got = append(got, r.Number)
		}
		require.Equal(t, want, got, query)
	}
	raw, _, err := c.Raw(ctx, "GET", "/api/v1/orders.csv?stage=held", nil)
	require.NoError(t, err)
	table, err := csv.NewReader(bytes.NewReader(raw)).ReadAll()
	require.NoError(t, err)
	held, _, err := c.Orders(ctx, "limit=200&stage=held")
	require.NoError(t, err)
	require.Len(t, table, 1+len(held))
	for _, code := range []string{"source", "days", "shipping", "speed", "stockouts", "exceptions"} {
		r, err := c.Report(ctx, code, "", "")
		require.NoError(t, err, code)
		require.NotEmpty(t, r.Rows, code)
		raw, _, err := c.Raw(ctx, "GET", "/api/v1/reports/"+code+".csv", nil)
		require.NoError(t, err)
		table, err := csv.NewReader(bytes.NewReader(raw)).ReadAll()
		require.NoError(t, err)
		require.Len(t, table, 1+len(r.Rows), code)
	}
	_, _, err = c.Raw(ctx, "GET", "/api/v1/reports/nothing.csv", nil)
	require.Equal(t, http.StatusNotFound, client.StatusOf(err))

	// The command line says the same.
	run := func(args ...string) string {
		var out, errs bytes.Buffer
		env := map[string]string{"OPENRELAY_SERVER": w.URL, "OPENRELAY_TOKEN": w.Token}
		code := cli.Run(ctx, &cli.Env{Out: &out, Err: &errs, Getenv: func(k string) string { return env[k] }}, args)
		require.Zero(t, code, "%v: %s", args, errs.String())
		return out.String()
	}
	require.Contains(t, run("order", "list", "-stage", "held"), held[0].Number)
	require.Contains(t, run("rule", "list"), "Papers for Eastmark")
	require.Contains(t, run("rule", "rehearse", "Papers for Eastmark", "-remove"), "would have been decided on differently")
	require.Contains(t, run("rule", "set", "Papers for Eastmark", "-off"), "off")
	require.Contains(t, run("exception", "list"), "SMOKER-OLD")
	require.Contains(t, run("exception", "assign", "unknown item", "Joss Fenn", "-connection", "morrow", "-subject", "SMOKER-OLD"),
		"3 are looked after")
	require.Contains(t, run("exception", "snooze", "unknown item", "-connection", "morrow", "-subject", "SMOKER-OLD"), "3 sleep")
	require.Contains(t, run("listing", "known", "morrow", "SMOKER-OLD", "SMOKER-M"), "3 orders go on")
	_, undo, ok := strings.Cut(run("order", "act", "tag", held[0].Number, "-value", "seen"), "openrelay order undo-act ")
	require.True(t, ok)
	require.Contains(t, run("order", "undo-act", strings.Fields(undo)[0]), "taken back on 1")
	require.Contains(t, run("job", "list"), "Kind")
	require.Contains(t, run("company", "-time-zone", "Etc/GMT-2"), "Etc/GMT-2")
	require.Contains(t, run("order", "list", "-limit", "3"), held[0].Number[:1])
	require.Contains(t, run("stock", "adjust", "JAR-500-T12", "alder", "4", "-reason", "found"), "on hand before")
	require.Contains(t, run("report", "exceptions", "-csv"), "cause,raised")
	require.Contains(t, run("order", "void", held[len(held)-1].Number, "-release-number"), "void as")
	require.Contains(t, run("order", "take-in-again", held[len(held)-1].Number+"/void-"+voidID(t, w, held[len(held)-1].Number)),
		"taken in as "+held[len(held)-1].Number)
	require.Contains(t, run("privacy", "show", strings.ToLower(o.Record.BuyerEmail)), o.Record.BuyerName)
	require.Contains(t, run("privacy", "looks"), "person")
	file := filepath.Join(t.TempDir(), "typed.json")
	require.NoError(t, os.WriteFile(file,
		[]byte(
			`{"connection":"morrow","order":{"number":"CALL-7","currency":"EUR","prices_include_tax":true,"status":"open",`+
				`"ship_to":{"name":"Ada Moss","street":"Mossway 3","postcode":"77102","town":"Greywick","country":"XW"},`+
				`"lines":[{"id":"1","sku":"SMOKER-M","quantity":1,"unit_price":2990}]}}`), 0o600))
	require.Contains(t, run("order", "type", file), "taken in as")
	require.Contains(t, run("exception", "tell", "email", "desk@morrowhive.example", "no stock"), "target")
	require.Contains(t, run("privacy", "keep", "365"), "365 days")
	clean(t, w)
}

func voidID(t *testing.T, w *demo.World, number string) string {
	t.Helper()
	list, _, err := w.Client.Orders(t.Context(), "stage=void&limit=200")
	require.NoError(t, err)
	for _, r := range list {
		if id, ok := strings.CutPrefix(r.Number, number+"/void-"); ok {
			return id
		}
	}
	require.Fail(t, "no void order")
	return ""
}

// TestTheChannelIsTold: where it is wanted, a store sees that an order is in hand, and that what is fetched there was
// handed over.
func TestTheChannelIsTold(t *testing.T) {
	w := openWorld(t, false)
	ctx, c := t.Context(), w.Client
	x, err := c.Connection(ctx, "morrow")
	require.NoError(t, err)
	x.Settings.TellTaken = true
	_, err = c.SetSettings(ctx, "morrow", x.Settings, x.Revision)
	require.NoError(t, err)
	x, err = c.Connection(ctx, "morrow")
	require.NoError(t, err)
	for _, f := range x.Feeds {
		if f.Kind == "states out" {
			_, err := c.SetFeed(ctx, "morrow", f.Kind, true, "", f.Revision)
			require.NoError(t, err)
		}
	}
	s := jars(1)
	s.Delivery.Method = "collect"
	id, o := placed(t, w, s)
	require.Equal(t, "collect", o.Kind)
	there := func() (state, progress string) {
		res, err := http.Get(w.MorrowURL + "/control/api/orders/" + id)
		require.NoError(t, err)
		defer res.Body.Close()
		var v struct {
			Order struct{ State, Progress string }
		}
		require.NoError(t, json.NewDecoder(res.Body).Decode(&v))
		return v.Order.State, v.Order.Progress
	}
	eventually(t, "the store to see it", func() bool { _, p := there(); return p == "in_hand" })
	_, err = c.Pick(ctx, o.Number)
	require.NoError(t, err, "what is fetched may be picked, too")
	require.NoError(t, c.HandOver(ctx, o.Number))
	eventually(t, "the store to see it", func() bool { state, p := there(); return p == "handed_over" && state == "sent" })
	require.Equal(t, "delivered", orderNow(t, w, o.Number).Stage)
	clean(t, w)
}

// TestWhatIsCancelledHereIsToldToTheStore: some units, then all of it; the store is read back, and the other store shows what is
// free again.
func TestWhatIsCancelledHereIsToldToTheStore(t *testing.T) {
	w := openWorld(t, false)
	ctx, c := t.Context(), w.Client
	id, o := placed(t, w, jars(5))
	eventually(t, "ready", func() bool { return orderNow(t, w, o.Number).Stage == "ready" })
	line := orderNow(t, w, o.Number).Lines[0].ID
	_, err := c.CancelUnits(ctx, o.Number, orders.Cancelling{Reason: "broken", Lines: map[int64]int64{line: 2}})
	require.NoError(t, err)
	stored := func() (state string, units int64) {
		var rec struct {
			Order struct {
				State string
				Lines []struct{ Quantity int64 }
			}
		}
		getJSON(t, w.MorrowURL+"/control/api/orders/"+id, &rec)
		for _, l := range rec.Order.Lines {
			units += l.Quantity
		}
		return rec.Order.State, units
	}
	eventually(t, "the store to know", func() bool { _, n := stored(); return n == 3 })
	told := func(n int) bool {
		sent := 0
		for _, m := range orderNow(t, w, o.Number).WriteBacks {
			if m.Feed == message.CancelOut && m.State == "confirmed" {
				sent++
			}
		}
		return sent == n
	}
	eventually(t, "it to be read back", func() bool { return told(1) })
	require.Equal(t, "ready", orderNow(t, w, o.Number).Stage, "what the store says now is what we have")
	_, err = c.CancelUnits(ctx, o.Number, orders.Cancelling{Reason: "the buyer rang"})
	require.NoError(t, err)
	eventually(t, "the store to have it cancelled", func() bool { state, _ := stored(); return state == "cancelled" })
	eventually(t, "that to be read back", func() bool { return told(2) })
	require.Equal(t, "cancelled", orderNow(t, w, o.Number).Stage)
	clean(t, w)
}
