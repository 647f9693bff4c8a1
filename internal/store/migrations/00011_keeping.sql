-- +goose Up
-- Copies of the file that the service made by its schedule, or when it was asked to.
CREATE TABLE backup (
  id INTEGER PRIMARY KEY, name TEXT NOT NULL, began_at INTEGER NOT NULL, ended_at INTEGER NOT NULL DEFAULT 0,
  bytes INTEGER NOT NULL DEFAULT 0, who TEXT NOT NULL, error TEXT NOT NULL DEFAULT '', gone_at INTEGER NOT NULL DEFAULT 0
);
-- Since when a feed has failed without an answer between; 0: it does not fail, or did before this was kept.
ALTER TABLE feed ADD COLUMN failing_at INTEGER NOT NULL DEFAULT 0;

-- +goose Down
SELECT 1;
