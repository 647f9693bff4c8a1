package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"slices"

	"github.com/pressly/goose/v3"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/place"
)

// sendableStages are the stages in which something of an order may still be sent by us.
var sendableStages = append([]order.Stage{order.Held}, openStages...)

// recipientOf is the column by which open orders to the same recipient are found; 0 where an order is not sent to anybody any more.
func recipientOf(o *order.Order) int64 {
	if o.Kind() != message.Ship || o.Test || !slices.Contains(sendableStages, o.Stage()) {
		return 0
	}
	return hashedRecipient(o.ShipTo)
}

func hashedRecipient(to place.Address) int64 {
	key := to.RecipientKey()
	if key == "" {
		return 0
	}
	h := fnv.New64a()
	h.Write([]byte(key))
	return max(int64(h.Sum64()>>1), 1)
}

// OrdersTo lists the open orders to the same recipient as an order, without it, the oldest first.
func (s *Store) OrdersTo(ctx context.Context, o *order.Order) ([]*order.Order, error) {
	key := hashedRecipient(o.ShipTo)
	if key == 0 {
		return nil, nil
	}
	return loadOrders(s.selector(ctx), "recipient=? AND recipient<>0 AND id<>? ORDER BY id", key, o.ID)
}

// recipientsKnown works out who the open orders of an older file go to.
var recipientsKnown = goose.NewGoMigration(26, &goose.GoFunc{RunTx: func(ctx context.Context, tx *sql.Tx) error {
	for {
		keys, err := unknownRecipients(ctx, tx)
		if err != nil || len(keys) == 0 {
			return err
		}
		for id, key := range keys {
			if _, err := tx.ExecContext(ctx, "UPDATE orders SET recipient=? WHERE id=?", key, id); err != nil {
				return err
			}
		}
	}
}}, nil)

// unknownRecipients works out who some orders go to of which that is not known, by id.
func unknownRecipients(ctx context.Context, tx *sql.Tx) (map[int64]int64, error) {
	rows, err := tx.QueryContext(ctx, `SELECT id, CASE ship_to WHEN '' THEN coalesce(record->'$.ship_to','{}') ELSE ship_to END FROM orders
		WHERE recipient=-1 AND recipient<>0 LIMIT 500`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[int64]int64{}
	for rows.Next() {
		var id int64
		var text []byte
		var to place.Address
		if err := rows.Scan(&id, &text); err != nil {
			return nil, err
		}
		if err := json.Unmarshal(text, &to); err != nil {
			return nil, fmt.Errorf("address of order %d: %w", id, err)
		}
		out[id] = hashedRecipient(to)
	}
	return out, rows.Err()
}
