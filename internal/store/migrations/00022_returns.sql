-- +goose Up
-- Goods of an order that come back. told_by and told_id: the connection that announced it, and its number of the record.
CREATE TABLE goods_return (
  id INTEGER PRIMARY KEY, number TEXT NOT NULL UNIQUE, order_id INTEGER NOT NULL REFERENCES orders, location_id INTEGER NOT NULL,
  state TEXT NOT NULL CHECK (state IN ('announced','arrived','settled','called off')),
  reason TEXT NOT NULL DEFAULT '', note TEXT NOT NULL DEFAULT '', tracking TEXT NOT NULL DEFAULT '', look_bin TEXT NOT NULL DEFAULT '',
  told_by INTEGER NOT NULL DEFAULT 0, told_id TEXT NOT NULL DEFAULT '', made_by TEXT NOT NULL, created_at INTEGER NOT NULL,
  arrived_at INTEGER NOT NULL DEFAULT 0, settled_at INTEGER NOT NULL DEFAULT 0,
  refund INTEGER NOT NULL DEFAULT 0, refund_tax INTEGER NOT NULL DEFAULT 0, refund_shipping INTEGER NOT NULL DEFAULT 0,
  exchange_id INTEGER NOT NULL DEFAULT 0, revision INTEGER NOT NULL DEFAULT 1
);
CREATE INDEX goods_return_order ON goods_return (order_id);
CREATE INDEX goods_return_state ON goods_return (state, id);
CREATE INDEX goods_return_told ON goods_return (told_by, told_id) WHERE told_by<>0;
CREATE INDEX goods_return_exchange ON goods_return (exchange_id) WHERE exchange_id<>0;
CREATE TABLE goods_return_line (
  return_id INTEGER NOT NULL, line_id INTEGER NOT NULL, item_id INTEGER NOT NULL, per INTEGER NOT NULL, announced INTEGER NOT NULL,
  stock INTEGER NOT NULL, look INTEGER NOT NULL, off INTEGER NOT NULL, PRIMARY KEY (return_id, line_id, item_id)
) WITHOUT ROWID;
CREATE TABLE goods_return_serial (
  return_id INTEGER NOT NULL, item_id INTEGER NOT NULL, serial TEXT NOT NULL, parcel_id INTEGER NOT NULL,
  outcome TEXT NOT NULL CHECK (outcome IN ('stock','look','written off')), PRIMARY KEY (item_id, serial, parcel_id)
) WITHOUT ROWID;
CREATE INDEX goods_return_serial_return ON goods_return_serial (return_id);
