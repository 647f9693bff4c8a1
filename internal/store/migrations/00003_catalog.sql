-- +goose Up
-- The catalog: what items are, what kits are made of, prices, marks, option groups; listings with their states.
ALTER TABLE item ADD COLUMN kind TEXT NOT NULL DEFAULT 'stocked' CHECK (kind IN ('stocked','kit','made to order','prepared','charge'));
ALTER TABLE item ADD COLUMN family TEXT NOT NULL DEFAULT '';
ALTER TABLE item ADD COLUMN serials INTEGER NOT NULL DEFAULT 0;
ALTER TABLE item ADD COLUMN archived_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE item ADD COLUMN customs_code TEXT NOT NULL DEFAULT '';
ALTER TABLE item ADD COLUMN origin TEXT NOT NULL DEFAULT '';
ALTER TABLE item ADD COLUMN tax_class TEXT NOT NULL DEFAULT '';
ALTER TABLE item ADD COLUMN description TEXT NOT NULL DEFAULT '';
ALTER TABLE item ADD COLUMN images TEXT NOT NULL DEFAULT '[]';
ALTER TABLE item ADD COLUMN normal_sku TEXT NOT NULL DEFAULT '';  -- letters and digits only, capital
ALTER TABLE item ADD COLUMN revision INTEGER NOT NULL DEFAULT 1;
UPDATE item SET normal_sku = upper(replace(replace(replace(replace(sku,'-',''),' ',''),'.',''),'_',''));
CREATE INDEX item_normal ON item (normal_sku);
CREATE INDEX item_family ON item (family) WHERE family <> '';
CREATE INDEX item_special ON item (id) WHERE kind <> 'stocked' OR archived_at <> 0;

CREATE TABLE item_mark (mark TEXT NOT NULL, item_id INTEGER NOT NULL, PRIMARY KEY (mark, item_id)) WITHOUT ROWID;
CREATE INDEX item_mark_item ON item_mark (item_id);
CREATE TABLE price_list (code TEXT PRIMARY KEY, name TEXT NOT NULL, currency TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE item_price (item_id INTEGER NOT NULL, list TEXT NOT NULL REFERENCES price_list, price INTEGER NOT NULL,
  PRIMARY KEY (item_id, list)) WITHOUT ROWID;
CREATE TABLE kit_part (kit_id INTEGER NOT NULL, item_id INTEGER NOT NULL, quantity INTEGER NOT NULL, position INTEGER NOT NULL,
  PRIMARY KEY (kit_id, item_id)) WITHOUT ROWID;
CREATE INDEX kit_part_item ON kit_part (item_id);
CREATE TABLE option_group (code TEXT PRIMARY KEY, name TEXT NOT NULL, least INTEGER NOT NULL, most INTEGER NOT NULL,
  choices TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE item_group (item_id INTEGER NOT NULL, position INTEGER NOT NULL, code TEXT NOT NULL REFERENCES option_group,
  PRIMARY KEY (item_id, position)) WITHOUT ROWID;
CREATE TABLE field_owner (field TEXT PRIMARY KEY, connection_id INTEGER NOT NULL REFERENCES connection) WITHOUT ROWID;

CREATE VIRTUAL TABLE item_text USING fts5 (sku, name, gtin, category, options, content='', contentless_delete=1, tokenize='trigram');
INSERT INTO item_text (rowid, sku, name, gtin, category, options) SELECT id, sku, name, gtin, category, options FROM item;

ALTER TABLE listing ADD COLUMN gtin TEXT NOT NULL DEFAULT '';
-- what the channel says of it: live, off, in review, rejected; submitted while only we know of it
ALTER TABLE listing ADD COLUMN state TEXT NOT NULL DEFAULT '';
ALTER TABLE listing ADD COLUMN reason TEXT NOT NULL DEFAULT '';
ALTER TABLE listing ADD COLUMN category TEXT NOT NULL DEFAULT '';
ALTER TABLE listing ADD COLUMN doubt TEXT NOT NULL DEFAULT '';      -- why it was not matched by itself
ALTER TABLE listing ADD COLUMN ignored_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE listing ADD COLUMN ignored_by TEXT NOT NULL DEFAULT '';
ALTER TABLE listing ADD COLUMN own TEXT NOT NULL DEFAULT '';        -- title, description, category, price for this channel only
ALTER TABLE listing ADD COLUMN policy TEXT NOT NULL DEFAULT '';     -- how its quantity differs from the channel's policy
ALTER TABLE listing ADD COLUMN published TEXT NOT NULL DEFAULT '';  -- what the channel last accepted of us
UPDATE listing SET state = CASE WHEN live THEN 'live' ELSE 'off' END;
CREATE INDEX listing_to_match ON listing (connection_id, id) WHERE item_id = 0 AND ignored_at = 0;

-- what a listing showed, and when, for questions about the past
CREATE TABLE shown (listing_id INTEGER NOT NULL, at INTEGER NOT NULL, how TEXT NOT NULL, qty INTEGER NOT NULL,
  PRIMARY KEY (listing_id, at, how)) WITHOUT ROWID;
-- how quantities were worked out from a moment on; listing 0: the whole connection
CREATE TABLE policy (connection_id INTEGER NOT NULL, listing_id INTEGER NOT NULL, at INTEGER NOT NULL, policy TEXT NOT NULL,
  who TEXT NOT NULL, PRIMARY KEY (connection_id, listing_id, at)) WITHOUT ROWID;
INSERT INTO policy SELECT id, 0, began_at, coalesce(json_extract(settings, '$.offer'), '{}'), 'the set-up' FROM connection;

ALTER TABLE location ADD COLUMN keeper INTEGER NOT NULL DEFAULT 0; -- connection whose word counts there; 0: ours

-- The ledger knows what is to come, bins, and the level after each entry, so that the past is read and not added up.
ALTER TABLE movement ADD COLUMN on_order INTEGER NOT NULL DEFAULT 0;
ALTER TABLE movement ADD COLUMN in_transit INTEGER NOT NULL DEFAULT 0;
ALTER TABLE movement ADD COLUMN bin TEXT NOT NULL DEFAULT '';
ALTER TABLE movement ADD COLUMN after_on_hand INTEGER NOT NULL DEFAULT 0;
ALTER TABLE movement ADD COLUMN after_allocated INTEGER NOT NULL DEFAULT 0;
ALTER TABLE movement ADD COLUMN after_on_order INTEGER NOT NULL DEFAULT 0;
ALTER TABLE movement ADD COLUMN after_in_transit INTEGER NOT NULL DEFAULT 0;
UPDATE movement SET after_on_hand = s.h, after_allocated = s.a FROM
  (SELECT id, sum(on_hand) OVER w AS h, sum(allocated) OVER w AS a FROM movement WINDOW w AS (PARTITION BY item_id, location_id
  ORDER BY id)) s WHERE s.id = movement.id;
ALTER TABLE level ADD COLUMN on_order INTEGER NOT NULL DEFAULT 0;
ALTER TABLE level ADD COLUMN in_transit INTEGER NOT NULL DEFAULT 0;
CREATE INDEX level_negative ON level (location_id, item_id) WHERE on_hand < 0;
CREATE TABLE bin_level (item_id INTEGER NOT NULL, location_id INTEGER NOT NULL, bin TEXT NOT NULL, on_hand INTEGER NOT NULL,
  PRIMARY KEY (item_id, location_id, bin)) WITHOUT ROWID;
CREATE INDEX bin_level_bin ON bin_level (location_id, bin);
INSERT INTO bin_level SELECT item_id, location_id, bin, on_hand FROM level WHERE on_hand <> 0;
UPDATE movement SET bin = (SELECT bin FROM level l WHERE l.item_id = movement.item_id AND l.location_id = movement.location_id)
  WHERE on_hand <> 0;

ALTER TABLE order_line ADD COLUMN listing TEXT NOT NULL DEFAULT '';
ALTER TABLE order_line ADD COLUMN parts TEXT NOT NULL DEFAULT '';   -- of a kit, as it was when it was sold
ALTER TABLE order_line ADD COLUMN sells INTEGER NOT NULL DEFAULT 0; -- 0 stock, 1 no stock, 2 a charge
CREATE INDEX order_line_unknown ON order_line (order_id) WHERE item_id = 0;
DROP INDEX order_line_waiting;
CREATE INDEX order_line_waiting ON order_line (item_id, order_id)
  WHERE quantity > cancelled + allocated + picked + packed + shipped AND sells <> 2;

CREATE TABLE allocation_new (
  line_id INTEGER NOT NULL, location_id INTEGER NOT NULL, item_id INTEGER NOT NULL, order_id INTEGER NOT NULL, quantity INTEGER NOT NULL,
  PRIMARY KEY (line_id, location_id, item_id)
) WITHOUT ROWID;
INSERT INTO allocation_new SELECT line_id, location_id, item_id, order_id, quantity FROM allocation;
DROP TABLE allocation;
ALTER TABLE allocation_new RENAME TO allocation;
CREATE INDEX allocation_item ON allocation (item_id, location_id);

CREATE TABLE shipment_line_new (
  shipment_id INTEGER NOT NULL, line_id INTEGER NOT NULL, item_id INTEGER NOT NULL, per INTEGER NOT NULL DEFAULT 1,
  quantity INTEGER NOT NULL, picked INTEGER NOT NULL DEFAULT 0,
  PRIMARY KEY (shipment_id, line_id, item_id)
) WITHOUT ROWID;
INSERT INTO shipment_line_new SELECT s.shipment_id, s.line_id, l.item_id, 1, s.quantity, s.picked FROM shipment_line s
  JOIN order_line l ON l.id = s.line_id;
DROP TABLE shipment_line;
ALTER TABLE shipment_line_new RENAME TO shipment_line;

CREATE TABLE purchase (
  id INTEGER PRIMARY KEY, number TEXT NOT NULL UNIQUE, supplier TEXT NOT NULL, location_id INTEGER NOT NULL,
  state TEXT NOT NULL CHECK (state IN ('open','closed')),
  expected TEXT NOT NULL DEFAULT '', note TEXT NOT NULL DEFAULT '', who TEXT NOT NULL, created_at INTEGER NOT NULL,
  closed_at INTEGER NOT NULL DEFAULT 0, revision INTEGER NOT NULL DEFAULT 1
);
CREATE INDEX purchase_state ON purchase (state, id);
CREATE TABLE purchase_line (
  purchase_id INTEGER NOT NULL, position INTEGER NOT NULL, item_id INTEGER NOT NULL, ordered INTEGER NOT NULL,
  received INTEGER NOT NULL DEFAULT 0, short INTEGER NOT NULL DEFAULT 0,
  PRIMARY KEY (purchase_id, position)
) WITHOUT ROWID;
CREATE INDEX purchase_line_item ON purchase_line (item_id);
CREATE TABLE transfer (
  id INTEGER PRIMARY KEY, number TEXT NOT NULL UNIQUE, from_id INTEGER NOT NULL, to_id INTEGER NOT NULL,
  state TEXT NOT NULL CHECK (state IN ('draft','under way','closed')),
  note TEXT NOT NULL DEFAULT '', who TEXT NOT NULL, created_at INTEGER NOT NULL, sent_at INTEGER NOT NULL DEFAULT 0,
  closed_at INTEGER NOT NULL DEFAULT 0, revision INTEGER NOT NULL DEFAULT 1
);
CREATE INDEX transfer_state ON transfer (state, id);
CREATE TABLE transfer_line (
  transfer_id INTEGER NOT NULL, position INTEGER NOT NULL, item_id INTEGER NOT NULL, quantity INTEGER NOT NULL,
  arrived INTEGER NOT NULL DEFAULT 0, lost INTEGER NOT NULL DEFAULT 0,
  PRIMARY KEY (transfer_id, position)
) WITHOUT ROWID;
CREATE TABLE stock_count (
  id INTEGER PRIMARY KEY, number TEXT NOT NULL UNIQUE, location_id INTEGER NOT NULL,
  state TEXT NOT NULL CHECK (state IN ('open','posted','dropped')),
  note TEXT NOT NULL DEFAULT '', who TEXT NOT NULL, created_at INTEGER NOT NULL, posted_at INTEGER NOT NULL DEFAULT 0,
  revision INTEGER NOT NULL DEFAULT 1
);
CREATE INDEX stock_count_state ON stock_count (state, id);
-- expected is what should lie in the bin at the moment of counting: on hand there, less what was picked and has not left
CREATE TABLE count_line (
  count_id INTEGER NOT NULL, item_id INTEGER NOT NULL, bin TEXT NOT NULL, counted INTEGER NOT NULL, expected INTEGER NOT NULL,
  at INTEGER NOT NULL, who TEXT NOT NULL,
  PRIMARY KEY (count_id, item_id, bin)
) WITHOUT ROWID;
CREATE TABLE serial (
  item_id INTEGER NOT NULL, serial TEXT NOT NULL, location_id INTEGER NOT NULL,
  state TEXT NOT NULL CHECK (state IN ('here','packed','gone')), received_at INTEGER NOT NULL,
  source TEXT NOT NULL, shipment_id INTEGER NOT NULL DEFAULT 0, PRIMARY KEY (item_id, serial)
) WITHOUT ROWID;
CREATE INDEX serial_shipment ON serial (shipment_id) WHERE shipment_id <> 0;
CREATE INDEX serial_text ON serial (serial);

-- A sheet is a CSV file that was handed in: first it is looked at row by row, then carried out.
CREATE TABLE sheet (
  id INTEGER PRIMARY KEY, kind TEXT NOT NULL, name TEXT NOT NULL, options TEXT NOT NULL, state TEXT NOT NULL,
  form TEXT NOT NULL DEFAULT '', total INTEGER NOT NULL DEFAULT 0, done INTEGER NOT NULL DEFAULT 0,
  result TEXT NOT NULL DEFAULT '', error TEXT NOT NULL DEFAULT '', who TEXT NOT NULL, at INTEGER NOT NULL,
  ended_at INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE sheet_row (
  sheet_id INTEGER NOT NULL, row INTEGER NOT NULL, key TEXT NOT NULL, fields TEXT NOT NULL, verdict TEXT NOT NULL,
  changes TEXT NOT NULL DEFAULT '', reason TEXT NOT NULL DEFAULT '',
  PRIMARY KEY (sheet_id, row)
) WITHOUT ROWID;
CREATE INDEX sheet_row_verdict ON sheet_row (sheet_id, verdict, row);

ALTER TABLE exception ADD COLUMN item_id INTEGER NOT NULL DEFAULT 0;
CREATE INDEX exception_item ON exception (item_id) WHERE item_id <> 0 AND closed_at = 0;

-- +goose Down
SELECT 1;
