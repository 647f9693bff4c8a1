-- +goose Up
-- Each message has an outcome of its own: one that could not be decided on is tried again later, the others go on.
ALTER TABLE inbox ADD COLUMN attempts INTEGER NOT NULL DEFAULT 0;
ALTER TABLE inbox ADD COLUMN next_at INTEGER NOT NULL DEFAULT 0;

-- an attempt may have been carried out at the other side, although no answer came
ALTER TABLE outbox ADD COLUMN unclear INTEGER NOT NULL DEFAULT 0;

-- standing exceptions stand until their own cause ends or a person settles them; the others follow the holds of their order
ALTER TABLE exception ADD COLUMN standing INTEGER NOT NULL DEFAULT 0;

-- which record of which connection told of a parcel that left without our label
ALTER TABLE shipment ADD COLUMN told_by INTEGER NOT NULL DEFAULT 0;
ALTER TABLE shipment ADD COLUMN told_id TEXT NOT NULL DEFAULT '';
ALTER TABLE shipment ADD COLUMN carrier_told TEXT NOT NULL DEFAULT ''; -- a carrier that is only named
CREATE INDEX shipment_told ON shipment (told_by, told_id) WHERE told_by <> 0;

-- A session that was ended is remembered until it would have run out, so that a slow request cannot bring it back.
ALTER TABLE session ADD COLUMN ended INTEGER NOT NULL DEFAULT 0;

-- Work that waits for the outside, or walks through a long list, and goes on where it was when the process ends.
CREATE TABLE job (
  id INTEGER PRIMARY KEY, kind TEXT NOT NULL, subject TEXT NOT NULL, args TEXT NOT NULL DEFAULT '{}',
  state TEXT NOT NULL DEFAULT 'waiting', who TEXT NOT NULL,
  total INTEGER NOT NULL DEFAULT 0, done INTEGER NOT NULL DEFAULT 0, mark INTEGER NOT NULL DEFAULT 0,
  error TEXT NOT NULL DEFAULT '', attempts INTEGER NOT NULL DEFAULT 0, asked INTEGER NOT NULL DEFAULT 1,
  created_at INTEGER NOT NULL, next_at INTEGER NOT NULL, ended_at INTEGER NOT NULL DEFAULT 0,
  undone_at INTEGER NOT NULL DEFAULT 0, undone_by TEXT NOT NULL DEFAULT ''
);
CREATE UNIQUE INDEX job_open ON job (kind, subject) WHERE state = 'waiting';
CREATE INDEX job_due ON job (next_at) WHERE state = 'waiting';
CREATE TABLE job_part (
  job_id INTEGER NOT NULL, position INTEGER NOT NULL, subject TEXT NOT NULL, state TEXT NOT NULL DEFAULT 'waiting',
  text TEXT NOT NULL DEFAULT '', was TEXT NOT NULL DEFAULT '',
  PRIMARY KEY (job_id, position)
) WITHOUT ROWID;
INSERT INTO job (id, kind, subject, args, state, who, created_at, next_at, ended_at, undone_at, undone_by)
  SELECT id, 'act on orders', 'bulk '||id, json_object('action', action, 'value', value), 'done', who, at, at, at, undone_at,
  undone_by FROM bulk;
INSERT INTO job_part (job_id, position, subject, state, text, was)
  SELECT b.id, e.key + 1, e.value->>'number', CASE WHEN e.value->>'ok' THEN 'done' ELSE 'refused' END, e.value->>'text',
  coalesce(e.value->>'was','') FROM bulk b, json_each(b.results) e;
UPDATE job SET total = (SELECT count(*) FROM job_part p WHERE p.job_id = job.id), done = (SELECT count(*) FROM job_part p
  WHERE p.job_id = job.id);
DROP TABLE bulk;

UPDATE run SET state = 'done', ended_at = started_at WHERE state = 'open';

-- What carriers sell, as their tariffs and prices have told.
CREATE TABLE carrier_service (connection_id INTEGER NOT NULL, code TEXT NOT NULL, name TEXT NOT NULL, seen_at INTEGER NOT NULL,
  PRIMARY KEY (connection_id, code)) WITHOUT ROWID;

-- Counts that pages show are kept as they change. A quarter is fifteen minutes of Unix time.
UPDATE orders SET placed_at = received_at WHERE placed_at <= 0;
ALTER TABLE orders ADD COLUMN places TEXT NOT NULL DEFAULT '[]'; -- where it waits to be picked, while it does
UPDATE orders SET places = coalesce((SELECT json_group_array(DISTINCT a.location_id) FROM allocation a
  WHERE a.order_id = orders.id), '[]') WHERE stage IN ('ready','routed','picking');
CREATE INDEX orders_oldest ON orders (stage, placed_at)
  WHERE stage IN ('pending','held','ready','routed','picking','packed','part shipped');

CREATE TABLE order_count (stage TEXT NOT NULL, connection_id INTEGER NOT NULL, n INTEGER NOT NULL, PRIMARY KEY (stage,
  connection_id)) WITHOUT ROWID;
INSERT INTO order_count SELECT stage, connection_id, count(*) FROM orders GROUP BY 1, 2;
CREATE TABLE order_quarter (what TEXT NOT NULL, quarter INTEGER NOT NULL, connection_id INTEGER NOT NULL, n INTEGER NOT NULL,
  PRIMARY KEY (what, quarter, connection_id)) WITHOUT ROWID;
INSERT INTO order_quarter SELECT 'received', received_at/900000000, connection_id, count(*) FROM orders GROUP BY 2, 3;
INSERT INTO order_quarter SELECT stage, max(shipped_at, received_at)/900000000, connection_id, count(*) FROM orders
  WHERE stage IN ('shipped','delivered','cancelled') GROUP BY 1, 2, 3;
CREATE TABLE place_count (location_id INTEGER NOT NULL, what TEXT NOT NULL, n INTEGER NOT NULL, PRIMARY KEY (location_id, what))
  WITHOUT ROWID;
INSERT INTO place_count SELECT p.value, 'to pick', count(*) FROM orders o, json_each(o.places) p GROUP BY 1;
INSERT INTO place_count SELECT location_id, 'to ship', count(*) FROM shipment WHERE state IN ('packed','buying label') GROUP BY 1;

-- Sums by the quarter of the sale, for reports: cancelled orders apart, currencies apart; tests, summaries and void orders in none.
CREATE TABLE order_sum (
  quarter INTEGER NOT NULL, connection_id INTEGER NOT NULL, via TEXT NOT NULL, typed_by TEXT NOT NULL, currency TEXT NOT NULL,
  n INTEGER NOT NULL, total INTEGER NOT NULL, cancelled INTEGER NOT NULL,
  PRIMARY KEY (quarter, connection_id, via, typed_by, currency)
) WITHOUT ROWID;
INSERT INTO order_sum SELECT placed_at/900000000, connection_id, via, typed_by, currency, sum(stage<>'cancelled'), sum(CASE
  WHEN stage<>'cancelled' THEN total ELSE 0 END), sum(stage='cancelled')
  FROM orders WHERE test=0 AND kind<>'summary' AND stage<>'void' GROUP BY 1, 2, 3, 4, 5;
CREATE INDEX orders_left ON orders (shipped_at, placed_at, routed) WHERE shipped_at > 0;
-- What buyers paid for shipping and what carriers charged, by the quarter in which parcels left.
CREATE TABLE freight_sum (
  quarter INTEGER NOT NULL, connection_id INTEGER NOT NULL, currency TEXT NOT NULL, parcels INTEGER NOT NULL,
  charged INTEGER NOT NULL, paid INTEGER NOT NULL, PRIMARY KEY (quarter, connection_id, currency)
) WITHOUT ROWID;
INSERT INTO freight_sum SELECT s.shipped_at/900000000, o.connection_id, o.currency, count(*), sum(CASE
  WHEN s.id=(SELECT min(f.id) FROM shipment f WHERE f.order_id=o.id
  AND f.state IN ('shipped','delivered')) THEN coalesce(o.record->>'$.shipping',0) ELSE 0 END),
  sum(CASE WHEN s.currency=o.currency THEN s.price ELSE 0 END) FROM shipment s JOIN orders o ON o.id=s.order_id
  WHERE s.state IN ('shipped','delivered') GROUP BY 1, 2, 3;
-- How often nothing of an item was left at a location.
CREATE TABLE stockout (quarter INTEGER NOT NULL, item_id INTEGER NOT NULL, n INTEGER NOT NULL, PRIMARY KEY (quarter, item_id))
  WITHOUT ROWID;
INSERT INTO stockout SELECT at/900000000, item_id, count(*) FROM movement WHERE after_on_hand - after_allocated <= 0
  AND after_on_hand - after_allocated - on_hand + allocated > 0 GROUP BY 1, 2;

-- +goose StatementBegin
CREATE TRIGGER movement_to_nothing AFTER INSERT ON movement WHEN new.after_on_hand - new.after_allocated <= 0
  AND new.after_on_hand - new.after_allocated - new.on_hand + new.allocated > 0 BEGIN
  INSERT INTO stockout VALUES (new.at/900000000, new.item_id, 1) ON CONFLICT DO UPDATE SET n = n + 1;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER orders_sold AFTER INSERT ON orders WHEN new.test=0 AND new.kind<>'summary' AND new.stage<>'void' BEGIN
  INSERT INTO order_sum VALUES (new.placed_at/900000000, new.connection_id, new.via, new.typed_by, new.currency,
  new.stage<>'cancelled', CASE WHEN new.stage<>'cancelled' THEN new.total ELSE 0 END, new.stage='cancelled')
    ON CONFLICT DO UPDATE SET n = n + excluded.n, total = total + excluded.total, cancelled = cancelled + excluded.cancelled;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER orders_resold AFTER UPDATE OF stage, total, placed_at, currency ON orders WHEN new.test=0 AND new.kind<>'summary' AND
    ((old.stage='cancelled') <> (new.stage='cancelled') OR (old.stage='void') <> (new.stage='void') OR old.total <> new.total OR
    old.placed_at <> new.placed_at OR
    old.currency <> new.currency) BEGIN

  UPDATE order_sum SET n = n - (old.stage<>'cancelled'), total = total - CASE
  WHEN old.stage<>'cancelled' THEN old.total ELSE 0 END, cancelled = cancelled - (old.stage='cancelled')
    WHERE old.stage<>'void' AND quarter = old.placed_at/900000000 AND connection_id = old.connection_id AND via = old.via
    AND typed_by = old.typed_by AND currency = old.currency;
  INSERT INTO order_sum SELECT new.placed_at/900000000, new.connection_id, new.via, new.typed_by, new.currency,
  new.stage<>'cancelled', CASE WHEN new.stage<>'cancelled' THEN new.total ELSE 0 END, new.stage='cancelled' WHERE new.stage<>'void'
    ON CONFLICT DO UPDATE SET n = n + excluded.n, total = total + excluded.total, cancelled = cancelled + excluded.cancelled;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER orders_added AFTER INSERT ON orders BEGIN
  INSERT INTO order_count VALUES (new.stage, new.connection_id, 1) ON CONFLICT DO UPDATE SET n = n + 1;
  INSERT INTO order_quarter VALUES ('received', new.received_at/900000000, new.connection_id, 1) ON CONFLICT DO UPDATE SET n = n + 1;
  INSERT INTO order_quarter SELECT new.stage, max(new.shipped_at, new.received_at)/900000000, new.connection_id, 1
  WHERE new.stage IN ('shipped','delivered','cancelled') ON CONFLICT DO UPDATE SET n = n + 1;
  INSERT INTO place_count SELECT value, 'to pick', 1 FROM json_each(new.places) WHERE true ON CONFLICT DO UPDATE SET n = n + 1;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER orders_moved AFTER UPDATE OF stage, shipped_at, connection_id ON orders
  WHEN old.stage <> new.stage OR old.shipped_at <> new.shipped_at OR old.connection_id <> new.connection_id BEGIN
  UPDATE order_count SET n = n - 1 WHERE stage = old.stage AND connection_id = old.connection_id;
  INSERT INTO order_count VALUES (new.stage, new.connection_id, 1) ON CONFLICT DO UPDATE SET n = n + 1;
  UPDATE order_quarter SET n = n - 1 WHERE what = old.stage AND quarter = max(old.shipped_at, old.received_at)/900000000
  AND connection_id = old.connection_id;
  INSERT INTO order_quarter SELECT new.stage, max(new.shipped_at, new.received_at)/900000000, new.connection_id, 1
  WHERE new.stage IN ('shipped','delivered','cancelled') ON CONFLICT DO UPDATE SET n = n + 1;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER orders_placed AFTER UPDATE OF places ON orders WHEN old.places <> new.places BEGIN
  UPDATE place_count SET n = n - 1 WHERE what = 'to pick' AND location_id IN (SELECT value FROM json_each(old.places));
  INSERT INTO place_count SELECT value, 'to pick', 1 FROM json_each(new.places) WHERE true ON CONFLICT DO UPDATE SET n = n + 1;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER orders_removed AFTER DELETE ON orders BEGIN
  UPDATE order_count SET n = n - 1 WHERE stage = old.stage AND connection_id = old.connection_id;
  UPDATE order_quarter SET n = n - 1 WHERE what = 'received' AND quarter = old.received_at/900000000 AND connection_id = old.connection_id;
  UPDATE order_quarter SET n = n - 1 WHERE what = old.stage AND quarter = max(old.shipped_at, old.received_at)/900000000
  AND connection_id = old.connection_id;
  UPDATE place_count SET n = n - 1 WHERE what = 'to pick' AND location_id IN (SELECT value FROM json_each(old.places));
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER shipment_added AFTER INSERT ON shipment WHEN new.state IN ('packed','buying label') BEGIN
  INSERT INTO place_count VALUES (new.location_id, 'to ship', 1) ON CONFLICT DO UPDATE SET n = n + 1;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER shipment_moved AFTER UPDATE OF state ON shipment
  WHEN (old.state IN ('packed','buying label')) <> (new.state IN ('packed','buying label')) BEGIN
  INSERT INTO place_count VALUES (new.location_id, 'to ship', CASE WHEN new.state IN ('packed','buying label') THEN 1 ELSE -1 END)
    ON CONFLICT DO UPDATE SET n = n + excluded.n;
END;
-- +goose StatementEnd

-- +goose Down
SELECT 1;
