-- +goose Up
-- Every definition that people added, as it was from version to version: one can be taken back.
CREATE TABLE definition_version (
  connector TEXT NOT NULL,
  version   INTEGER NOT NULL,              -- counts from 1
  text      TEXT NOT NULL,
  at        INTEGER NOT NULL,
  who       TEXT NOT NULL,
  note      TEXT NOT NULL DEFAULT '',
  PRIMARY KEY (connector, version)
) STRICT, WITHOUT ROWID;
INSERT INTO definition_version (connector, version, text, at, who) SELECT connector, 1, text, added_at, added_by FROM definition;

-- +goose Down
DROP TABLE definition_version;
