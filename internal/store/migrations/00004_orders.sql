-- +goose Up
-- Orders and what people decide about them: rules, tags, answers, merging, exceptions by cause, privacy.
ALTER TABLE orders ADD COLUMN kind TEXT NOT NULL DEFAULT 'ship';
ALTER TABLE orders ADD COLUMN customer_id INTEGER NOT NULL DEFAULT 0;
ALTER TABLE orders ADD COLUMN assignee TEXT NOT NULL DEFAULT '';
ALTER TABLE orders ADD COLUMN merged_into INTEGER NOT NULL DEFAULT 0;  -- the summary order of its day; 0: none
ALTER TABLE orders ADD COLUMN typed_by TEXT NOT NULL DEFAULT '';       -- who typed it, where a person did
ALTER TABLE orders ADD COLUMN answer_by INTEGER NOT NULL DEFAULT 0;    -- while the channel waits for our answer: until when
ALTER TABLE orders ADD COLUMN forgotten_at INTEGER NOT NULL DEFAULT 0; -- when personal data was removed
ALTER TABLE orders ADD COLUMN ours TEXT NOT NULL DEFAULT '{}';         -- tags, what rules decided, the answer, booked differences
CREATE INDEX orders_stage_connection ON orders (stage, connection_id, id);
CREATE INDEX orders_state ON orders (connection_id, channel_state, id);
CREATE INDEX orders_kind ON orders (kind, id) WHERE kind <> 'ship';
CREATE INDEX orders_customer ON orders (customer_id, id) WHERE customer_id <> 0;
CREATE INDEX orders_assignee ON orders (assignee, id) WHERE assignee <> '';
CREATE INDEX orders_typed ON orders (typed_by, id) WHERE typed_by <> '';
CREATE INDEX orders_merged ON orders (merged_into, id) WHERE merged_into <> 0;
CREATE INDEX orders_to_merge ON orders (connection_id, placed_at) WHERE merged_into = 0 AND voided = 0 AND test = 0
  AND kind <> 'summary' AND stage IN ('shipped','delivered');
CREATE INDEX orders_answer ON orders (answer_by) WHERE answer_by <> 0;
CREATE INDEX orders_keeping ON orders (received_at) WHERE forgotten_at = 0;
CREATE TABLE order_tag (tag TEXT NOT NULL, order_id INTEGER NOT NULL, PRIMARY KEY (tag, order_id)) WITHOUT ROWID;
CREATE INDEX order_tag_order ON order_tag (order_id);
ALTER TABLE order_line ADD COLUMN more TEXT NOT NULL DEFAULT '';       -- choices of prepared food, a note

-- What rules look at, as it was when the order was decided on: a rehearsal reads these and nothing else.
CREATE TABLE order_facts (order_id INTEGER PRIMARY KEY, facts BLOB NOT NULL);

CREATE VIRTUAL TABLE order_text USING fts5 (number, channel, name, sku, tracking, content='', contentless_delete=1,
  detail='column', tokenize="unicode61 tokenchars '-_./'");
INSERT INTO order_text (order_text, rank) VALUES ('automerge', 16); -- orders come in small transactions: merge their parts seldom
INSERT INTO order_text (order_text, rank) VALUES ('crisismerge', 64);
INSERT INTO order_text (rowid, number, channel, name, sku, tracking) SELECT o.id, o.number, o.channel_number, o.buyer,
  coalesce((SELECT group_concat(l.sku, ' ') FROM order_line l WHERE l.id BETWEEN o.id*1024 AND o.id*1024+1023), ''),
  coalesce((SELECT group_concat(s.tracking, ' ') FROM shipment s WHERE s.order_id = o.id), '') FROM orders o;

CREATE TABLE rule (
  id INTEGER PRIMARY KEY, position INTEGER NOT NULL, name TEXT NOT NULL, is_on INTEGER NOT NULL DEFAULT 0,
  condition TEXT NOT NULL, actions TEXT NOT NULL,
  changed_at INTEGER NOT NULL, changed_by TEXT NOT NULL, revision INTEGER NOT NULL DEFAULT 1
);

ALTER TABLE exception ADD COLUMN subject TEXT NOT NULL DEFAULT '';     -- what it is about within its cause: an SKU, a field
ALTER TABLE exception ADD COLUMN assignee TEXT NOT NULL DEFAULT '';
ALTER TABLE exception ADD COLUMN snoozed_until INTEGER NOT NULL DEFAULT 0;
CREATE INDEX exception_cause ON exception (cause, connection_id, subject, id) WHERE closed_at = 0;
CREATE INDEX exception_opened ON exception (opened_at);

-- Who wants to be told of what, and what they were told.
CREATE TABLE notify_target (
  id INTEGER PRIMARY KEY, kind TEXT NOT NULL CHECK (kind IN ('webhook','email')), address TEXT NOT NULL, secret BLOB,
  causes TEXT NOT NULL DEFAULT '[]', every_minutes INTEGER NOT NULL DEFAULT 5,
  is_on INTEGER NOT NULL DEFAULT 1, upto INTEGER NOT NULL DEFAULT 0, next_at INTEGER NOT NULL DEFAULT 0, revision INTEGER NOT NULL DEFAULT 1
);
CREATE TABLE notice (
  id INTEGER PRIMARY KEY, target_id INTEGER NOT NULL, ref TEXT NOT NULL UNIQUE, subject TEXT NOT NULL, payload TEXT NOT NULL,
  state TEXT NOT NULL DEFAULT 'waiting', attempts INTEGER NOT NULL DEFAULT 0,
  created_at INTEGER NOT NULL, next_at INTEGER NOT NULL, sent_at INTEGER NOT NULL DEFAULT 0, error TEXT NOT NULL DEFAULT ''
);
CREATE INDEX notice_due ON notice (next_at) WHERE state = 'waiting';
CREATE INDEX notice_target ON notice (target_id, id);

CREATE TABLE saved_view (id INTEGER PRIMARY KEY, page TEXT NOT NULL, name TEXT NOT NULL, query TEXT NOT NULL,
  owner TEXT NOT NULL, UNIQUE (page, name));
CREATE TABLE bulk (
  id INTEGER PRIMARY KEY, action TEXT NOT NULL, value TEXT NOT NULL DEFAULT '', who TEXT NOT NULL, at INTEGER NOT NULL,
  results TEXT NOT NULL, undone_at INTEGER NOT NULL DEFAULT 0, undone_by TEXT NOT NULL DEFAULT ''
);
-- A quantity that was overtaken by a newer one must not be sent again, nor counted as what the channel knows.
CREATE INDEX outbox_newer ON outbox (connection_id, feed, subject, id);
-- Who looked at whose data.
CREATE TABLE look (id INTEGER PRIMARY KEY, at INTEGER NOT NULL, who TEXT NOT NULL, role TEXT NOT NULL, thing TEXT NOT NULL,
  key TEXT NOT NULL);
CREATE INDEX look_key ON look (thing, key, id);

ALTER TABLE customer ADD COLUMN forgotten_at INTEGER NOT NULL DEFAULT 0;
-- When the word of a location's keeper about an item was as of: a sale before that moment is in it.
CREATE TABLE keeper_word (item_id INTEGER NOT NULL, location_id INTEGER NOT NULL, at INTEGER NOT NULL, PRIMARY KEY (item_id,
  location_id)) WITHOUT ROWID;

-- +goose Down
SELECT 1;
