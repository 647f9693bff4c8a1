package sim

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/request"
	"openrelay/internal/standin"
	"openrelay/internal/wire"
)

// partnerGoods are items, by the partner that some orders with them are to be sent by.
var partnerGoods = map[string]string{"JAR-500-T12": "gate", "WAX-1KG": "tansy-room", "PLAQUE-S": "slate"}

// joinPartners joins three who send for us: a warehouse that is asked by files, the marketplace's store room, and a maker.
func (w *world) joinPartners() {
	ctx := w.t.Context()
	require.NoError(w.t, w.JoinFallowgate(ctx))
	w.Slate.Through(w)
	require.NoError(w.t, w.JoinSlate(ctx))
	require.NoError(w.t, w.StoreRoom(ctx))
	list, err := w.Client.Connections(ctx)
	require.NoError(w.t, err)
	for _, c := range list {
		for _, f := range c.Feeds {
			reads := slices.Contains(f.Ways, "read") && f.On && (c.Code == "gate" || c.Code == "tansy")
			if reads && f.Kind != message.OrdersIn {
				_, err := w.Client.SetFeed(ctx, c.Code, f.Kind, true, "@every 1h", f.Revision)
				require.NoError(w.t, err)
			}
		}
	}
	for _, sku := range slices.Sorted(maps.Keys(partnerGoods)) {
		require.NoError(w.t, w.PreferPlace(ctx, sku, partnerGoods[sku]))
	}
	w.settle(30 * time.Minute)
}

// partner lets one of those who send for us do something: work, change its ways, count, tell again.
func (w *world) partner() {
	switch w.rng.IntN(9) {
	case 0:
		w.Gate.Mood(standin.GateMood{Refuse: "hall three is flooded"})
	case 1:
		w.Gate.Mood(standin.GateMood{Silent: w.one(300), Parts: w.one(500), TooLate: w.one(300), Half: w.one(300), Count: w.one(200),
			Twice: w.one(300), Pace: time.Duration(w.rng.IntN(5)) * time.Hour})
	case 2:
		w.Slate.Refuse(pick(w, []string{"", "", "no brass left"}))
	case 3:
		w.Gate.Count("JAR-500-T12", w.Gate.Lies("JAR-500-T12")+int64(w.rng.IntN(12))-3)
	default:
		w.partnersWork()
	}
}

// partnersWork lets them do what waits.
func (w *world) partnersWork() {
	w.Gate.Work()
	w.step("the maker sends", func() error { w.Slate.SendAll(); return nil })
	if n := w.Tansy.SendOutbounds(); n > 0 {
		w.say("the store room sent %d", n)
	}
}

// partnersRest ends their moods, and has them work now and then for a while.
func (w *world) partnersRest(d time.Duration) {
	w.Gate.Mood(standin.GateMood{})
	w.Slate.Refuse("")
	for end := time.Now().Add(d); time.Now().Before(end); {
		w.Gate.Work()
		w.Slate.SendAll()
		w.Tansy.SendOutbounds()
		w.rest(time.Hour)
	}
}

// askAgain asks partners again of whom nothing was heard, as a clerk does.
func (w *world) askAgain(ctx context.Context) {
	rows, err := w.requests()
	if err != nil {
		return
	}
	for _, r := range rows {
		if r.State == request.Asked && r.AskedAt != nil && time.Since(*r.AskedAt) > 4*time.Hour {
			w.step("ask "+r.Number+" again", func() error { _, err := w.Client.AskRequestAgain(ctx, r.Number); return err })
		}
	}
}

// requests are all requests that partners were asked.
func (w *world) requests() (all []wire.Request, err error) {
	query := "limit=200"
	for {
		rows, next, err := w.Client.Requests(context.Background(), query)
		all = append(all, rows...)
		if err != nil || next == "" {
			return all, err
		}
		query = "limit=200&before=" + next
	}
}

// asked says how the requests stand in the end.
func (w *world) asked() string {
	all, err := w.requests()
	states := map[string]int{}
	for _, r := range all {
		states[r.Partner+" "+string(r.State)]++
	}
	return fmt.Sprintf(", requests %v %v", states, err)
}

// checkPartners asks the partners what became of what they were asked, and the relay whether it says the same: nothing left that we do not
// know of, and nothing counts as sent that did not leave.
func (w *world) checkPartners() (wrong []string) {
	bad := func(format string, args ...any) { wrong = append(wrong, fmt.Sprintf(format, args...)) }
	all, err := w.requests()
	if err != nil {
		bad("requests cannot be listed: %v", err)
		return wrong
	}
	sent := map[string]bool{}
	for _, o := range w.Gate.Orders() {
		sent[o.Ref] = o.State == "sent"
	}
	for _, j := range w.Slate.Jobs() {
		sent[j.Ref] = j.State == "sent"
	}
	for _, o := range w.Tansy.Outbounds() {
		sent[o[0]] = o[1] == "sent"
	}
	for _, r := range all {
		left, asked := sent[r.Reference]
		ours := r.State == request.Sent || r.State == request.PartSent
		switch {
		case left && !ours:
			bad("%s sent %s; here it is %s", r.PartnerName, r.Number, r.State)
		case ours && !left:
			bad("%s is %s here; %s has it (%v) and has not sent it", r.Number, r.State, r.PartnerName, asked)
		case !r.State.Ended():
			bad("%s of %s came to no end: it is %s", r.Number, r.PartnerName, r.State)
		}
		delete(sent, r.Reference)
	}
	for _, ref := range slices.Sorted(maps.Keys(sent)) {
		bad("a partner was asked under %s, which is no request of ours", ref)
	}
	if len(all) == 0 {
		bad("partners were asked %d times in all", len(all))
	}
	return wrong
}

// partnersNumber tells whether a number is one that a partner gave a parcel.
func partnersNumber(tracking string) bool {
	return slices.ContainsFunc([]string{"TV", "SLT", "32007109"}, func(p string) bool { return strings.HasPrefix(tracking, p) })
}
