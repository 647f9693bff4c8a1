-- +goose Up
-- How a setting stood before it was changed, so that the change can be undone.
CREATE TABLE setting_change (
  id INTEGER PRIMARY KEY AUTOINCREMENT, at INTEGER NOT NULL, who TEXT NOT NULL, kind TEXT NOT NULL, code TEXT NOT NULL,
  before TEXT NOT NULL,                       -- JSON; empty where it was made
  undoes INTEGER NOT NULL DEFAULT 0,          -- the change that this one undid
  undone_at INTEGER NOT NULL DEFAULT 0);
CREATE INDEX setting_change_of ON setting_change (kind, code, id);

-- +goose Down
SELECT 1;
