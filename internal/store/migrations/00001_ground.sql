-- +goose Up
-- Times are Unix microseconds UTC, amounts minor units, weights grams, lengths millimetres.

CREATE TABLE setting (key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE series (code TEXT PRIMARY KEY, prefix TEXT NOT NULL, next INTEGER NOT NULL) WITHOUT ROWID;

CREATE TABLE user (
  id INTEGER PRIMARY KEY, email TEXT NOT NULL UNIQUE, name TEXT NOT NULL,
  role TEXT NOT NULL CHECK (role IN ('viewer','operator','admin')), password_hash TEXT NOT NULL
);
CREATE TABLE api_token (
  id INTEGER PRIMARY KEY, name TEXT NOT NULL, role TEXT NOT NULL, hash BLOB NOT NULL UNIQUE,
  created_at INTEGER NOT NULL, used_at INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE session (token TEXT PRIMARY KEY, data BLOB NOT NULL, expires_at INTEGER NOT NULL) WITHOUT ROWID;
CREATE INDEX session_expires ON session (expires_at);

CREATE TABLE connection (
  id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, connector TEXT NOT NULL, side TEXT NOT NULL, name TEXT NOT NULL,
  base_url TEXT NOT NULL, credentials BLOB, identity TEXT NOT NULL DEFAULT '{}', settings TEXT NOT NULL DEFAULT '{}',
  paused INTEGER NOT NULL DEFAULT 0, began_at INTEGER NOT NULL, revision INTEGER NOT NULL DEFAULT 1
);
CREATE TABLE feed (
  id INTEGER PRIMARY KEY, connection_id INTEGER NOT NULL REFERENCES connection, kind TEXT NOT NULL, is_on INTEGER NOT NULL,
  schedule TEXT NOT NULL DEFAULT '', mark TEXT NOT NULL DEFAULT '', last_ok_at INTEGER NOT NULL DEFAULT 0,
  last_try_at INTEGER NOT NULL DEFAULT 0, failures INTEGER NOT NULL DEFAULT 0, last_error TEXT NOT NULL DEFAULT '',
  revision INTEGER NOT NULL DEFAULT 1, UNIQUE (connection_id, kind)
);
CREATE TABLE run (
  id INTEGER PRIMARY KEY, feed_id INTEGER NOT NULL REFERENCES feed, cause TEXT NOT NULL, started_at INTEGER NOT NULL,
  ended_at INTEGER NOT NULL DEFAULT 0, state TEXT NOT NULL, found INTEGER NOT NULL DEFAULT 0, new INTEGER NOT NULL DEFAULT 0,
  changed INTEGER NOT NULL DEFAULT 0, skipped INTEGER NOT NULL DEFAULT 0, failed INTEGER NOT NULL DEFAULT 0,
  reasons TEXT NOT NULL DEFAULT '{}', error TEXT NOT NULL DEFAULT ''
);
CREATE INDEX run_feed ON run (feed_id, id);
CREATE TABLE run_log (id INTEGER PRIMARY KEY, run_id INTEGER NOT NULL, at INTEGER NOT NULL, level TEXT NOT NULL, text TEXT NOT NULL);
CREATE INDEX run_log_run ON run_log (run_id, id);

CREATE TABLE inbox (
  id INTEGER PRIMARY KEY, connection_id INTEGER NOT NULL, feed TEXT NOT NULL, outside_id TEXT NOT NULL, version INTEGER NOT NULL,
  via TEXT NOT NULL, run_id INTEGER NOT NULL DEFAULT 0, received_at INTEGER NOT NULL, raw BLOB NOT NULL,
  state TEXT NOT NULL DEFAULT 'waiting', reason TEXT NOT NULL DEFAULT '', order_id INTEGER NOT NULL DEFAULT 0
);
CREATE UNIQUE INDEX inbox_once ON inbox (connection_id, feed, outside_id, version);
CREATE INDEX inbox_waiting ON inbox (connection_id, id) WHERE state = 'waiting';
CREATE INDEX inbox_order ON inbox (order_id, id) WHERE order_id <> 0;

CREATE TABLE outbox (
  id INTEGER PRIMARY KEY, connection_id INTEGER NOT NULL, feed TEXT NOT NULL, subject TEXT NOT NULL, ref TEXT NOT NULL UNIQUE,
  payload TEXT NOT NULL, state TEXT NOT NULL DEFAULT 'waiting', attempts INTEGER NOT NULL DEFAULT 0, created_at INTEGER NOT NULL,
  next_at INTEGER NOT NULL, sent_at INTEGER NOT NULL DEFAULT 0, confirmed_at INTEGER NOT NULL DEFAULT 0,
  error TEXT NOT NULL DEFAULT '', answer TEXT NOT NULL DEFAULT '', order_id INTEGER NOT NULL DEFAULT 0,
  shipment_id INTEGER NOT NULL DEFAULT 0
);
-- at most one message waits per subject: a newer decision replaces what has not left yet
CREATE UNIQUE INDEX outbox_subject ON outbox (connection_id, feed, subject) WHERE state = 'waiting';
CREATE INDEX outbox_due ON outbox (connection_id, next_at) WHERE state IN ('waiting','sending','sent');
CREATE INDEX outbox_order ON outbox (order_id, id) WHERE order_id <> 0;
CREATE INDEX outbox_open ON outbox (state, connection_id) WHERE state IN ('waiting','sending','sent','refused');

CREATE TABLE item (
  id INTEGER PRIMARY KEY, sku TEXT NOT NULL UNIQUE, gtin TEXT NOT NULL DEFAULT '', name TEXT NOT NULL, category TEXT NOT NULL DEFAULT '',
  weight_g INTEGER NOT NULL DEFAULT 0, length_mm INTEGER NOT NULL DEFAULT 0, width_mm INTEGER NOT NULL DEFAULT 0,
  height_mm INTEGER NOT NULL DEFAULT 0,
  price INTEGER NOT NULL DEFAULT 0, currency TEXT NOT NULL DEFAULT 'EUR', options TEXT NOT NULL DEFAULT ''
);
CREATE UNIQUE INDEX item_gtin ON item (gtin) WHERE gtin <> '';
CREATE TABLE listing (
  id INTEGER PRIMARY KEY, connection_id INTEGER NOT NULL REFERENCES connection, outside_id TEXT NOT NULL, sku TEXT NOT NULL,
  title TEXT NOT NULL,
  price INTEGER NOT NULL, currency TEXT NOT NULL, url TEXT NOT NULL DEFAULT '', live INTEGER NOT NULL DEFAULT 1,
  item_id INTEGER NOT NULL DEFAULT 0, matched_by TEXT NOT NULL DEFAULT '',
  seen_qty INTEGER NOT NULL DEFAULT 0, seen_at INTEGER NOT NULL DEFAULT 0,   -- what the channel last told us it shows
  told_qty INTEGER NOT NULL DEFAULT -1, told_at INTEGER NOT NULL DEFAULT 0,  -- what the channel last accepted from us; -1: nothing yet
  UNIQUE (connection_id, outside_id)
);
CREATE INDEX listing_item ON listing (item_id);
CREATE INDEX listing_sku ON listing (connection_id, sku);

CREATE TABLE location (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, name TEXT NOT NULL, address TEXT NOT NULL DEFAULT '{}');
CREATE TABLE level (
  item_id INTEGER NOT NULL, location_id INTEGER NOT NULL, on_hand INTEGER NOT NULL DEFAULT 0, allocated INTEGER NOT NULL DEFAULT 0,
  bin TEXT NOT NULL DEFAULT '', PRIMARY KEY (item_id, location_id)
) WITHOUT ROWID;
CREATE TABLE movement (
  id INTEGER PRIMARY KEY, item_id INTEGER NOT NULL, location_id INTEGER NOT NULL, at INTEGER NOT NULL, kind TEXT NOT NULL,
  on_hand INTEGER NOT NULL, allocated INTEGER NOT NULL, reason TEXT NOT NULL, who TEXT NOT NULL, doc_kind TEXT NOT NULL,
  doc_id INTEGER NOT NULL
);
CREATE INDEX movement_level ON movement (item_id, location_id, id);

CREATE TABLE orders (
  id INTEGER PRIMARY KEY, number TEXT NOT NULL UNIQUE, connection_id INTEGER NOT NULL, outside_id TEXT NOT NULL, version INTEGER NOT NULL,
  channel_number TEXT NOT NULL, channel_state TEXT NOT NULL, stage TEXT NOT NULL, buyer TEXT NOT NULL, currency TEXT NOT NULL,
  total INTEGER NOT NULL,
  units INTEGER NOT NULL, placed_at INTEGER NOT NULL, received_at INTEGER NOT NULL, shipped_at INTEGER NOT NULL DEFAULT 0,
  via TEXT NOT NULL,
  record TEXT NOT NULL, ship_to TEXT NOT NULL DEFAULT '', holds TEXT NOT NULL DEFAULT '[]', routed INTEGER NOT NULL DEFAULT 0,
  delivered INTEGER NOT NULL DEFAULT 0,
  voided INTEGER NOT NULL DEFAULT 0, no_stock_moved INTEGER NOT NULL DEFAULT 0, revision INTEGER NOT NULL DEFAULT 1
);
CREATE UNIQUE INDEX orders_once ON orders (connection_id, outside_id) WHERE voided = 0;
CREATE INDEX orders_stage ON orders (stage, id);
CREATE INDEX orders_connection ON orders (connection_id, id);
CREATE INDEX orders_channel_number ON orders (channel_number);
-- id = order_id * 1024 + position: the lines of an order lie together and need no index of their own
CREATE TABLE order_line (
  id INTEGER PRIMARY KEY, order_id INTEGER NOT NULL, position INTEGER NOT NULL, outside_id TEXT NOT NULL, sku TEXT NOT NULL,
  title TEXT NOT NULL,
  item_id INTEGER NOT NULL, quantity INTEGER NOT NULL, cancelled INTEGER NOT NULL, allocated INTEGER NOT NULL, picked INTEGER NOT NULL,
  packed INTEGER NOT NULL, shipped INTEGER NOT NULL, unit_price INTEGER NOT NULL, discount INTEGER NOT NULL,
  tax INTEGER NOT NULL, total INTEGER NOT NULL
);
CREATE INDEX order_line_waiting ON order_line (item_id, order_id) WHERE quantity > cancelled + allocated + picked + packed + shipped;
CREATE TABLE allocation (
  line_id INTEGER NOT NULL, location_id INTEGER NOT NULL, item_id INTEGER NOT NULL, order_id INTEGER NOT NULL, quantity INTEGER NOT NULL,
  PRIMARY KEY (line_id, location_id)
) WITHOUT ROWID;
CREATE INDEX allocation_item ON allocation (item_id, location_id);

CREATE TABLE shipment (
  id INTEGER PRIMARY KEY, number TEXT NOT NULL UNIQUE, order_id INTEGER NOT NULL, location_id INTEGER NOT NULL, state TEXT NOT NULL,
  profile TEXT NOT NULL DEFAULT '', weight_g INTEGER NOT NULL DEFAULT 0, length_mm INTEGER NOT NULL DEFAULT 0,
  width_mm INTEGER NOT NULL DEFAULT 0, height_mm INTEGER NOT NULL DEFAULT 0,
  carrier_id INTEGER NOT NULL DEFAULT 0, service TEXT NOT NULL DEFAULT '', service_name TEXT NOT NULL DEFAULT '',
  tracking TEXT NOT NULL DEFAULT '', tracking_url TEXT NOT NULL DEFAULT '',
  label TEXT NOT NULL DEFAULT '', price INTEGER NOT NULL DEFAULT 0, currency TEXT NOT NULL DEFAULT '',
  manifest_id INTEGER NOT NULL DEFAULT 0,
  pickers TEXT NOT NULL DEFAULT '', created_at INTEGER NOT NULL, shipped_at INTEGER NOT NULL DEFAULT 0,
  delivered_at INTEGER NOT NULL DEFAULT 0,
  sscc TEXT NOT NULL DEFAULT '', error TEXT NOT NULL DEFAULT '', revision INTEGER NOT NULL DEFAULT 1
);
CREATE INDEX shipment_order ON shipment (order_id);
CREATE INDEX shipment_state ON shipment (state, id);
CREATE INDEX shipment_tracking ON shipment (tracking) WHERE tracking <> '';
CREATE INDEX shipment_manifest ON shipment (manifest_id) WHERE manifest_id <> 0;
CREATE TABLE shipment_line (
  shipment_id INTEGER NOT NULL, line_id INTEGER NOT NULL, quantity INTEGER NOT NULL, picked INTEGER NOT NULL DEFAULT 0,
  PRIMARY KEY (shipment_id, line_id)
) WITHOUT ROWID;
CREATE TABLE parcel_profile (
  code TEXT PRIMARY KEY, name TEXT NOT NULL, length_mm INTEGER NOT NULL, width_mm INTEGER NOT NULL, height_mm INTEGER NOT NULL,
  tare_g INTEGER NOT NULL, max_g INTEGER NOT NULL, service TEXT NOT NULL DEFAULT ''
) WITHOUT ROWID;
CREATE TABLE manifest (
  id INTEGER PRIMARY KEY, carrier_id INTEGER NOT NULL, day TEXT NOT NULL, state TEXT NOT NULL DEFAULT 'open',
  receipt TEXT NOT NULL DEFAULT '', closed_at INTEGER NOT NULL DEFAULT 0
);
CREATE UNIQUE INDEX manifest_open ON manifest (carrier_id, day) WHERE state = 'open';

CREATE TABLE exception (
  id INTEGER PRIMARY KEY, cause TEXT NOT NULL, text TEXT NOT NULL, expected TEXT NOT NULL, connection_id INTEGER NOT NULL DEFAULT 0,
  order_id INTEGER NOT NULL DEFAULT 0, outbox_id INTEGER NOT NULL DEFAULT 0, inbox_id INTEGER NOT NULL DEFAULT 0,
  opened_at INTEGER NOT NULL, closed_at INTEGER NOT NULL DEFAULT 0, closed_by TEXT NOT NULL DEFAULT ''
);
CREATE INDEX exception_open ON exception (id) WHERE closed_at = 0;
CREATE INDEX exception_order ON exception (order_id) WHERE order_id <> 0 AND closed_at = 0;

CREATE TABLE timeline (
  id INTEGER PRIMARY KEY, at INTEGER NOT NULL, who TEXT NOT NULL, thing TEXT NOT NULL, thing_id INTEGER NOT NULL,
  what TEXT NOT NULL, text TEXT NOT NULL
);
CREATE INDEX timeline_thing ON timeline (thing, thing_id, id);

CREATE TABLE idempotency (key TEXT PRIMARY KEY, request BLOB NOT NULL, status INTEGER NOT NULL, answer BLOB NOT NULL,
  at INTEGER NOT NULL) WITHOUT ROWID;

-- +goose Down
SELECT 1;
