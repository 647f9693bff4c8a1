package inventory

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// sharer is a listing that shares the last units of its item.
type sharer struct {
	listing *store.Listing
	c       *engine.Conn
	row     store.Share
	stock.Share
}

// paceDays is over how many days the pace of a channel is looked at, paceRest for how long it is taken as it was found.
const (
	paceDays = 28
	paceRest = 10 * time.Minute
)

// paces remembers how many units of an item its channels sell.
type paces struct {
	at time.Time
	by map[int64]int64 // units in paceDays, by connection
}

func (r *Inventory) paceOf(ch *engine.Change, item int64) (map[int64]int64, error) {
	r.paceMu.Lock()
	known, ok := r.paces[item]
	r.paceMu.Unlock()
	if ok && ch.Now.Sub(known.at) < paceRest && !ch.Now.Before(known.at) {
		return known.by, nil
	}
	by, err := ch.Paces(item, ch.Now.AddDate(0, 0, -paceDays))
	if err != nil {
		return nil, err
	}
	ch.After(func() {
		r.paceMu.Lock()
		defer r.paceMu.Unlock()
		if len(r.paces) >= mostPaces || r.paces == nil {
			r.paces = map[int64]paces{}
		}
		r.paces[item] = paces{ch.Now, by}
	})
	return by, nil
}

// mostPaces bounds of how many items the paces are remembered.
const mostPaces = 5000

// shareOut tells the listings that share an item what each shows now. forced are listings that are told in any case.
func (r *Inventory) shareOut(ch *engine.Change, w *ItemKinds, item int64, levels func(stock.Key) stock.Level, forced []int64) error {
	listings, err := ch.ListingsOfItems([]int64{item})
	if err != nil {
		return err
	}
	list, over, err := r.sharers(ch, w, item, listings, levels)
	if err != nil || len(list) == 0 {
		return err
	}
	shares := make([]stock.Share, len(list))
	for i := range list {
		shares[i] = list[i].Share
	}
	tells := stock.ShareOut(shares, over)
	var queue []store.OutboxMessage
	for i, n := range tells {
		s := &list[i]
		if n == stock.Keep && !s.Open && slices.Contains(forced, s.listing.ID) {
			n = min(s.Left, s.May)
		}
		if n != stock.Keep {
			s.Tell(n)
			s.row.ToldAt, s.row.AcceptedAt = ch.Now.UnixMicro(), 0
			l := s.listing
			payload, err := json.Marshal(message.Offer{ListingID: l.ID, OutsideID: l.OutsideID, SKU: l.SKU, Quantity: n})
			if err != nil {
				return err
			}
			queue = append(queue, store.OutboxMessage{ConnectionID: s.c.ID, Feed: message.StockOut, Subject: OfferSubject(s.listing.ID),
				Payload: string(payload)})
			ch.After(func() { s.c.LastUnits.Store(true) })
		}
		if err := r.keepShare(ch, s); err != nil {
			return err
		}
	}
	return r.QueueMany(ch, queue)
}

// keepShare writes what has changed of a share.
func (r *Inventory) keepShare(ch *engine.Change, s *sharer) error {
	now := s.row
	now.Left, now.Before, now.Doubt = s.Left, s.Before, s.Doubt
	ch.Watch = ch.Watch || now.Before > 0
	if s.row == now && now.ListingID != 0 {
		return nil
	}
	now.ListingID, now.ItemID, now.ConnectionID = s.listing.ID, s.listing.ItemID, s.c.ID
	return ch.PutShare(now)
}

// sharers are the listings of an item that share it, as they are now, and the least of what they may show beyond what there is. A listing
// that shares no more is none of them.
func (r *Inventory) sharers(ch *engine.Change, w *ItemKinds, item int64, listings []store.Listing, levels func(stock.Key) stock.Level,
) (list []sharer, over int64, err error) {
	rows, err := ch.Shares([]int64{item})
	if err != nil {
		return nil, 0, err
	}
	pace, err := r.paceOf(ch, item)
	if err != nil {
		return nil, 0, err
	}
	had := make(map[int64]store.Share, len(rows))
	for _, row := range rows {
		had[row.ListingID] = row
	}
	over = -1
	for i := range listings {
		l := &listings[i]
		c := r.ByID(l.ConnectionID)
		if c == nil || c.Rec().Test {
			continue
		}
		policy, _ := w.offered(c, l)
		row, has := had[l.ID]
		told := r.isTold(c, l, nil)
		if !policy.Shares(w.Goods(item), levels) || !takesQuantity(l) || !told && !has {
			continue
		}
		delete(had, l.ID)
		s := sharer{listing: l, c: c, Share: stock.Share{Listing: l.ID, Sources: policy.Sources, May: policy.Offer(w.Goods(item), levels),
			Pace: float64(pace[c.ID]) / paceDays, Delay: r.delay(c)}}
		if err := r.standing(ch, &s, row, told, has); err != nil {
			return nil, 0, err
		}
		if list = append(list, s); over < 0 || policy.ShareOver < over {
			over = policy.ShareOver
		}
	}
	for listing := range had {
		if err := ch.DropShare(listing); err != nil {
			return nil, 0, err
		}
	}
	return list, max(over, 0), nil
}

// standing is how a share stands: as it was kept, unless the listing was told a quantity otherwise since.
func (r *Inventory) standing(ch *engine.Change, s *sharer, row store.Share, told, has bool) error {
	if !has || row.AcceptedAt > 0 && s.listing.ToldAt > row.AcceptedAt {
		if s.Left = s.listing.ToldQty; s.Left < 0 {
			s.Left = max(s.listing.SeenQty, 0)
		}
		s.Fresh = told && s.Left > 0
		return nil
	}
	s.row, s.Left, s.Before, s.Doubt = row, row.Left, row.Before, row.Doubt
	if r.salesKnown(s.c, &row, ch.Now) {
		s.Before = 0
	}
	open, err := ch.OpenFor(s.c.ID, message.StockOut, OfferSubject(s.listing.ID))
	s.Open = open || !told // who is told nothing now may still sell
	return err
}

// delay is about how long it takes from a sale at a channel until a quantity of ours shows there, by how its orders come and how it takes
// quantities.
func (r *Inventory) delay(c *engine.Conn) time.Duration {
	def := c.Line().Def
	d := 200 * time.Millisecond
	if f := def.Feeds[message.OrdersIn]; f != nil && f.Read != nil && (def.Push == nil || f.Topic == "") {
		d += time.Duration(f.Read.Every)
	}
	if f := def.Feeds[message.StockOut]; f != nil && f.Send != nil && f.Send.Report != nil {
		d += time.Duration(f.Send.Report.After)
	}
	return d
}

// unreadRest is after what time the sales of a channel are taken as known whose orders cannot be read.
const unreadRest = time.Minute

// salesKnown tells whether all is known that was sold before a channel accepted the last quantity of a share.
func (r *Inventory) salesKnown(c *engine.Conn, s *store.Share, now time.Time) bool {
	if s.Before == 0 || s.AcceptedAt == 0 {
		return false
	}
	at := store.Time(s.AcceptedAt)
	if !engine.Readable(c.Line().Def, message.OrdersIn) {
		return now.After(at.Add(unreadRest))
	}
	f, on := r.Feed(c, message.OrdersIn)
	return on && store.Time(f.LastOKAt).After(at.Add(stock.Margin))
}

// noteSold takes what orders took from the shares of their channels.
func (r *Inventory) noteSold(ch *engine.Change, book *stock.Book) error {
	items := map[int64]bool{}
	for _, m := range book.Movements {
		if m.DocKind == "order" && m.Allocated != m.OnHand {
			items[m.Item] = true
		}
	}
	if len(items) == 0 {
		return nil
	}
	rows, err := ch.Shares(engine.Keys(items))
	if err != nil || len(rows) == 0 {
		return err
	}
	took, err := ch.OrdersTook(book.Movements)
	if err != nil || len(took) == 0 {
		return err
	}
	listings, err := ch.ListingsOfItems(engine.Keys(items))
	if err != nil {
		return err
	}
	for len(took) > 0 {
		n := 1
		for n < len(took) && took[n].Order == took[0].Order && took[n].Item == took[0].Item {
			n++
		}
		if row := shareSold(rows, listings, took[:n]); row != nil {
			s := stock.Share{Left: row.Left, Before: row.Before, Doubt: row.Doubt}
			if units := took[0].Units; units > 0 {
				s.Sold(units)
			} else {
				s.Left -= units // called off: a channel puts it back itself
			}
			row.Left, row.Before, row.Doubt = s.Left, s.Before, s.Doubt
			if err := ch.PutShare(*row); err != nil {
				return err
			}
		}
		took = took[n:]
	}
	return nil
}

// shareSold is the share that lines of an order were sold from: of the listing there that all of them name, by its number or its SKU. nil:
// they were sold as something else, and the number that the share's listing shows has not moved.
func shareSold(rows []store.Share, listings []store.Listing, lines []store.OrderTook) (share *store.Share) {
	for _, line := range lines {
		k := slices.IndexFunc(rows, func(s store.Share) bool {
			return s.ItemID == line.Item && s.ConnectionID == line.Connection && slices.ContainsFunc(listings, func(l store.Listing) bool {
				return l.ID == s.ListingID && (line.Listing == l.OutsideID || line.Listing == "" && line.SKU == l.SKU)
			})
		})
		if k < 0 || share != nil && share != &rows[k] {
			return nil
		}
		share = &rows[k]
	}
	return share
}

// noteEdited takes it that somebody at the channel changed by so many what a listing shows, and that this counts.
func (r *Inventory) noteEdited(ch *engine.Change, l *store.Listing, by int64) error {
	rows, err := ch.Shares([]int64{l.ItemID})
	if err != nil {
		return err
	}
	s, ok := ByListing(rows)[l.ID]
	if !ok {
		return nil
	}
	s.Left = max(0, s.Left+by)
	return ch.PutShare(s)
}

// shareLook is how often shares are looked at of which something is under way.
const shareLook = 2 * time.Second

// SharesDue shares out what has become free since the sales of a channel are known. It returns when to look again.
func (r *Inventory) SharesDue(ctx context.Context) (time.Time, error) {
	list, err := r.Store.SharesUnderWay(ctx)
	if err != nil || len(list) == 0 {
		return time.Time{}, err
	}
	now := r.Clock()
	due := map[int64]bool{}
	for i := range list {
		if c := r.ByID(list[i].ConnectionID); c == nil || c.Rec().Test || r.salesKnown(c, &list[i], now) {
			due[list[i].ItemID] = true
		}
	}
	next := now.Add(shareLook)
	if len(due) == 0 {
		return next, nil
	}
	return next, r.Commit(ctx, func(ch *engine.Change) error { return r.SettleShares(ch, engine.Keys(due)) })
}

// SettleShares shares out items anew.
func (r *Inventory) SettleShares(ch *engine.Change, items []int64) error {
	w, err := r.ItemKindsNow(ch)
	if err != nil {
		return err
	}
	book, err := ch.Book(items)
	if err != nil {
		return err
	}
	for _, item := range items {
		if err := r.shareOut(ch, w, item, book.Level, nil); err != nil {
			return err
		}
	}
	return nil
}
