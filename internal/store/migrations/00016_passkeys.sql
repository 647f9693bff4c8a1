-- +goose Up
-- Keys of devices by which people sign in (WebAuthn). What is kept of one opens nothing: it is the public half.
CREATE TABLE passkey (
  id INTEGER PRIMARY KEY, user_id INTEGER NOT NULL, credential_id BLOB NOT NULL UNIQUE, credential TEXT NOT NULL, host TEXT NOT NULL,
  name TEXT NOT NULL, added_at INTEGER NOT NULL, used_at INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX passkey_user ON passkey (user_id);

-- +goose Down
SELECT 1;
