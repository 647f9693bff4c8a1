-- +goose Up
-- Whose word counts for a field of items may also be said to be ours: connection 0. A field that nobody said it of is not here.
CREATE TABLE field_owner_new (field TEXT PRIMARY KEY, connection_id INTEGER NOT NULL) WITHOUT ROWID;
INSERT INTO field_owner_new SELECT field, connection_id FROM field_owner;
DROP TABLE field_owner;
ALTER TABLE field_owner_new RENAME TO field_owner;

-- +goose Down
SELECT 1;
