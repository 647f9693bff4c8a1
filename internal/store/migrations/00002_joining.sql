-- +goose Up
-- An account is what lets us in at an outside system; connections use it, several of them the same one.
CREATE TABLE account (
  id INTEGER PRIMARY KEY, connector TEXT NOT NULL, name TEXT NOT NULL, base_url TEXT NOT NULL, credentials BLOB, token BLOB,
  identity TEXT NOT NULL DEFAULT '{}', created_at INTEGER NOT NULL, revision INTEGER NOT NULL DEFAULT 1
);
INSERT INTO account (id, connector, name, base_url, credentials, identity, created_at) SELECT id, connector, name, base_url,
  credentials, identity, began_at FROM connection;

ALTER TABLE connection ADD COLUMN account_id INTEGER NOT NULL DEFAULT 0;
UPDATE connection SET account_id = id;
ALTER TABLE connection ADD COLUMN site TEXT NOT NULL DEFAULT '';
-- joining: being set up; on; left: disconnected, its orders and history stay
ALTER TABLE connection ADD COLUMN state TEXT NOT NULL DEFAULT 'on' CHECK (state IN ('joining','on','left'));
ALTER TABLE connection ADD COLUMN test INTEGER NOT NULL DEFAULT 0;
ALTER TABLE connection ADD COLUMN overrides TEXT NOT NULL DEFAULT '';
ALTER TABLE connection ADD COLUMN account_no TEXT NOT NULL DEFAULT '';   -- our number there, once a person confirmed it
ALTER TABLE connection ADD COLUMN previewed_at INTEGER NOT NULL DEFAULT 0; -- when a person accepted what sending stock would change
ALTER TABLE connection DROP COLUMN credentials;
ALTER TABLE connection DROP COLUMN base_url;
ALTER TABLE connection DROP COLUMN identity;
CREATE UNIQUE INDEX connection_account ON connection (connector, account_no, site) WHERE account_no <> '';

ALTER TABLE feed ADD COLUMN validator TEXT NOT NULL DEFAULT '';   -- of the last reading, for conditional requests
ALTER TABLE outbox ADD COLUMN submission TEXT NOT NULL DEFAULT ''; -- number of the batch that carried it and is reported on later
CREATE INDEX outbox_submission ON outbox (connection_id, feed, submission) WHERE submission <> '' AND state = 'sent';
ALTER TABLE orders ADD COLUMN test INTEGER NOT NULL DEFAULT 0;
CREATE INDEX orders_test ON orders (connection_id) WHERE test = 1;

CREATE TABLE definition (connector TEXT PRIMARY KEY, text TEXT NOT NULL, added_at INTEGER NOT NULL, added_by TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE consent (state TEXT PRIMARY KEY, connection_id INTEGER NOT NULL, sealed BLOB NOT NULL, made_at INTEGER NOT NULL) WITHOUT ROWID;

CREATE TABLE first_import (
  id INTEGER PRIMARY KEY, connection_id INTEGER NOT NULL REFERENCES connection, state TEXT NOT NULL, choices TEXT NOT NULL,
  began_at INTEGER NOT NULL, ended_at INTEGER NOT NULL DEFAULT 0, error TEXT NOT NULL DEFAULT '', who TEXT NOT NULL
);
CREATE INDEX first_import_connection ON first_import (connection_id, id);
CREATE TABLE import_record (
  import_id INTEGER NOT NULL, kind TEXT NOT NULL, outside_id TEXT NOT NULL, version INTEGER NOT NULL, raw BLOB NOT NULL,
  title TEXT NOT NULL, verdict TEXT NOT NULL, reason TEXT NOT NULL DEFAULT '', done INTEGER NOT NULL DEFAULT 0,
  PRIMARY KEY (import_id, kind, outside_id)
) WITHOUT ROWID;
CREATE INDEX import_record_open ON import_record (import_id, done, kind);

CREATE TABLE bench (
  id INTEGER PRIMARY KEY, connection_id INTEGER NOT NULL REFERENCES connection, at INTEGER NOT NULL, who TEXT NOT NULL, feed TEXT NOT NULL,
  message TEXT NOT NULL, exchange TEXT NOT NULL, error TEXT NOT NULL DEFAULT ''
);
CREATE INDEX bench_connection ON bench (connection_id, id);

CREATE TABLE customer (
  id INTEGER PRIMARY KEY, connection_id INTEGER NOT NULL REFERENCES connection, outside_id TEXT NOT NULL, name TEXT NOT NULL,
  email TEXT NOT NULL DEFAULT '', phone TEXT NOT NULL DEFAULT '', address TEXT NOT NULL DEFAULT '{}', changed_at INTEGER NOT NULL,
  UNIQUE (connection_id, outside_id)
);
CREATE INDEX customer_email ON customer (connection_id, email) WHERE email <> '';

-- +goose Down
SELECT 1;
