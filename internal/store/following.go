package store

import (
	"context"
	"time"

	"openrelay/internal/core/journey"
	"openrelay/internal/core/message"
)

// followFor is for how long after it left a parcel is asked about.
const followFor = 90 * 24 * time.Hour

// Followed lists parcels and returns that are on their way with a carrier and were not asked about since a moment, the one that was asked
// about longest ago first. What is over is not asked about.
func (s *Store) Followed(ctx context.Context, carrier int64, since, now time.Time, most int) ([]message.FollowedParcel, error) {
	rows := []struct {
		message.FollowedParcel
		At int64 `db:"at"`
	}{}
	err := s.selector(ctx)(&rows, `SELECT tracking, number, postcode, country, at FROM (
		SELECT p.tracking, min(p.number) AS number,
			coalesce(CASE o.ship_to WHEN '' THEN o.record->>'$.ship_to.postcode' ELSE o.ship_to->>'$.postcode' END,'') AS postcode,
			coalesce(CASE o.ship_to WHEN '' THEN o.record->>'$.ship_to.country' ELSE o.ship_to->>'$.country' END,'') AS country,
			max(p.shipped_at) AS at, min(p.followed_at) AS followed
			FROM parcel p JOIN shipment s ON s.id=p.shipment_id JOIN orders o ON o.id=s.order_id
			WHERE p.carrier_id=?1 AND p.state='shipped' AND p.travels_in=0 AND p.tracking<>'' AND p.followed_at<?2 AND p.shipped_at>?3
			AND p.journey NOT IN (?5, ?6, ?7) GROUP BY p.tracking
		UNION ALL
		SELECT l.tracking, r.number, '', '', l.asked_at, l.followed_at FROM return_label l JOIN goods_return r ON r.id=l.return_id
			WHERE l.carrier_id=?1 AND l.state='bought' AND l.tracking<>'' AND l.followed_at<?2 AND l.asked_at>?3
			AND r.state IN ('announced','arrived') AND l.journey NOT IN (?5, ?6, ?7))
		ORDER BY followed, tracking LIMIT ?4`, carrier, since.UnixMicro(), now.Add(-followFor).UnixMicro(), most,
		journey.Delivered, journey.Returned, journey.Lost)
	out := make([]message.FollowedParcel, len(rows))
	for i, x := range rows {
		out[i] = x.FollowedParcel
		out[i].ShippedAt = Time(x.At).UTC()
	}
	return out, err
}

// SetFollowed notes that a carrier was asked where what has a number is.
func (t *Tx) SetFollowed(carrier int64, tracking string, now time.Time) error {
	if _, err := t.exec("UPDATE parcel SET followed_at=? WHERE carrier_id=? AND tracking=? AND state='shipped'", now.UnixMicro(), carrier,
		tracking); err != nil {
		return err
	}
	_, err := t.exec("UPDATE return_label SET followed_at=? WHERE carrier_id=? AND tracking=?", now.UnixMicro(), carrier, tracking)
	return err
}
