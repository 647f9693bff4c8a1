-- +goose Up
-- A profile that is not used any more stays for the parcels that were packed with it.
ALTER TABLE parcel_profile ADD COLUMN archived_at INTEGER NOT NULL DEFAULT 0;

-- +goose Down
SELECT 1;
