-- +goose Up
-- What an address service said, by address: asked once, good for a while.
CREATE TABLE address_check (
  address TEXT PRIMARY KEY, answer TEXT NOT NULL, at INTEGER NOT NULL
) WITHOUT ROWID;
CREATE INDEX address_check_at ON address_check (at);

-- +goose Down
DROP TABLE address_check;
