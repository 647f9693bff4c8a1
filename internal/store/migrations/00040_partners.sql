-- +goose Up
-- What partners are asked to send, and what they say of it.
CREATE TABLE request (
  id INTEGER PRIMARY KEY, number TEXT NOT NULL UNIQUE, order_id INTEGER NOT NULL, connection_id INTEGER NOT NULL, location_id INTEGER NOT
    NULL,
  state TEXT NOT NULL, test INTEGER NOT NULL DEFAULT 0, their_id TEXT NOT NULL DEFAULT '', reason TEXT NOT NULL DEFAULT '',
  expected TEXT NOT NULL DEFAULT '', away INTEGER NOT NULL DEFAULT 0, asks INTEGER NOT NULL DEFAULT 0, look_at INTEGER NOT NULL DEFAULT 0,
    currency TEXT NOT NULL DEFAULT '',
  cost INTEGER NOT NULL DEFAULT 0, billed INTEGER NOT NULL DEFAULT 0, created_at INTEGER NOT NULL, asked_at INTEGER NOT NULL DEFAULT 0,
  heard_at INTEGER NOT NULL DEFAULT 0, ended_at INTEGER NOT NULL DEFAULT 0, revision INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX request_order ON request (order_id);
CREATE INDEX request_state ON request (state, id);
CREATE INDEX request_partner ON request (connection_id, state, id);
CREATE INDEX request_look ON request (look_at) WHERE look_at<>0;
CREATE TABLE request_line (
  request_id INTEGER NOT NULL, line_id INTEGER NOT NULL, item_id INTEGER NOT NULL, sku TEXT NOT NULL, title TEXT NOT NULL DEFAULT '',
  units INTEGER NOT NULL, sent INTEGER NOT NULL DEFAULT 0, refused INTEGER NOT NULL DEFAULT 0, called_off INTEGER NOT NULL DEFAULT 0,
  PRIMARY KEY (request_id, line_id)
) WITHOUT ROWID;
-- What a partner calls an item; ignored: it is never asked for it.
CREATE TABLE partner_item (
  connection_id INTEGER NOT NULL, item_id INTEGER NOT NULL, code TEXT NOT NULL DEFAULT '', ignored INTEGER NOT NULL DEFAULT 0,
  at INTEGER NOT NULL, PRIMARY KEY (connection_id, item_id)
) WITHOUT ROWID;
CREATE INDEX partner_item_code ON partner_item (connection_id, code) WHERE code<>'';
-- Where a partner's word of its stock was another than our books.
CREATE TABLE stock_difference (
  id INTEGER PRIMARY KEY, connection_id INTEGER NOT NULL, location_id INTEGER NOT NULL, item_id INTEGER NOT NULL, ours INTEGER NOT NULL,
  theirs INTEGER NOT NULL, at INTEGER NOT NULL, settled_at INTEGER NOT NULL DEFAULT 0, settled_by TEXT NOT NULL DEFAULT '',
  note TEXT NOT NULL DEFAULT ''
);
CREATE INDEX stock_difference_open ON stock_difference (connection_id, id) WHERE settled_at=0;
CREATE INDEX stock_difference_at ON stock_difference (at);
ALTER TABLE shipment ADD COLUMN request_id INTEGER NOT NULL DEFAULT 0; -- that a partner answered with it
CREATE INDEX shipment_request ON shipment (request_id) WHERE request_id<>0;
ALTER TABLE bill_line ADD COLUMN request_id INTEGER NOT NULL DEFAULT 0; -- of a partner's bill
CREATE INDEX bill_line_request ON bill_line (request_id) WHERE request_id<>0;

-- +goose Down
SELECT 1;
