-- +goose Up
-- A file that we sent may be answered by a receipt that names its reference.
ALTER TABLE file ADD COLUMN reference TEXT NOT NULL DEFAULT '';
CREATE INDEX file_reference ON file (connection_id, reference) WHERE reference <> '';

-- +goose Down
DROP INDEX file_reference;
ALTER TABLE file DROP COLUMN reference;
