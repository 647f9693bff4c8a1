-- +goose Up
-- Who has left signs in no more and stays known by name. All sessions of a person end when the epoch grows.
ALTER TABLE user ADD COLUMN left_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE user ADD COLUMN epoch INTEGER NOT NULL DEFAULT 0;
ALTER TABLE user ADD COLUMN signed_in_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE api_token ADD COLUMN ends_at INTEGER NOT NULL DEFAULT 0;    -- 0: it does not end by itself
ALTER TABLE api_token ADD COLUMN revoked_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE api_token ADD COLUMN made_by TEXT NOT NULL DEFAULT '';
-- From here on, sessions are kept by the hash of their token; those from before could be used by whoever reads the file.
DELETE FROM session;
-- And answers to repeated requests are kept sealed.
DELETE FROM idempotency;

-- +goose Down
SELECT 1;
