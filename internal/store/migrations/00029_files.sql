-- +goose Up
-- Files that came and went, where a side exchanges files. What came with the same content before is not read again.
CREATE TABLE file (
  id            INTEGER PRIMARY KEY AUTOINCREMENT,
  connection_id INTEGER NOT NULL,
  feed          TEXT NOT NULL,
  way           TEXT NOT NULL,              -- in, out
  name          TEXT NOT NULL,
  size          INTEGER NOT NULL,
  hash          TEXT NOT NULL,              -- of the content
  at            INTEGER NOT NULL,
  records       INTEGER NOT NULL DEFAULT 0,
  state         TEXT NOT NULL,              -- taken, again, refused, sent
  reason        TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE INDEX file_hash ON file (connection_id, feed, hash) WHERE way='in';

-- +goose Down
DROP TABLE file;
