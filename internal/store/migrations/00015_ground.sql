-- +goose Up
-- When places are at work, which bins they have, whom parcels come from, and carriers of which no more is known than their name.
ALTER TABLE location ADD COLUMN hours TEXT NOT NULL DEFAULT '';
ALTER TABLE location ADD COLUMN bins TEXT NOT NULL DEFAULT ''; -- as they were written; place_bin has them one by one
ALTER TABLE location ADD COLUMN archived_at INTEGER NOT NULL DEFAULT 0;
CREATE TABLE place_bin (location_id INTEGER NOT NULL, bin TEXT NOT NULL, position INTEGER NOT NULL, PRIMARY KEY (location_id, bin))
  WITHOUT ROWID;
CREATE TABLE sender (
  code TEXT PRIMARY KEY, name TEXT NOT NULL, company TEXT NOT NULL DEFAULT '', phone TEXT NOT NULL DEFAULT '',
  email TEXT NOT NULL DEFAULT '', archived_at INTEGER NOT NULL DEFAULT 0
) WITHOUT ROWID;
CREATE TABLE named_carrier (
  code TEXT PRIMARY KEY, name TEXT NOT NULL, tracking_url TEXT NOT NULL DEFAULT '', archived_at INTEGER NOT NULL DEFAULT 0
) WITHOUT ROWID;
-- Connections named whom they ship as; that name is a sender of its own now.
INSERT INTO sender (code, name)
  SELECT 'sender-' || min(id), trim(json_extract(settings, '$.sender')) FROM connection
  WHERE trim(coalesce(json_extract(settings, '$.sender'), '')) <> '' GROUP BY 2;
UPDATE connection SET settings = json_set(settings, '$.sender',
    (SELECT code FROM sender WHERE name = trim(json_extract(settings, '$.sender')))), revision = revision + 1
  WHERE trim(coalesce(json_extract(settings, '$.sender'), '')) <> '';

-- +goose Down
SELECT 1;
