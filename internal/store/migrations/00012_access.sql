-- +goose Up
-- Each sign-in is one that can be seen and ended by itself.
CREATE TABLE user_session (
  id INTEGER PRIMARY KEY, user_id INTEGER NOT NULL, began_at INTEGER NOT NULL, used_at INTEGER NOT NULL,
  ended_at INTEGER NOT NULL DEFAULT 0, source TEXT NOT NULL, agent TEXT NOT NULL
);
CREATE INDEX user_session_open ON user_session (user_id) WHERE ended_at = 0;
-- Those from before cannot be told apart.
DELETE FROM session;
-- The second factor: its secret, sealed; since when it counts; the time step of the last code, which is good once.
ALTER TABLE user ADD COLUMN totp BLOB;
ALTER TABLE user ADD COLUMN totp_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE user ADD COLUMN totp_step INTEGER NOT NULL DEFAULT 0;
CREATE TABLE recovery_code (user_id INTEGER NOT NULL, hash BLOB NOT NULL, PRIMARY KEY (user_id, hash)) WITHOUT ROWID;
-- Who came in, who was kept out, and who changed what others may do.
CREATE TABLE security_event (
  id INTEGER PRIMARY KEY, at INTEGER NOT NULL, kind TEXT NOT NULL, who TEXT NOT NULL, source TEXT NOT NULL, text TEXT NOT NULL
);

-- +goose Down
SELECT 1;
