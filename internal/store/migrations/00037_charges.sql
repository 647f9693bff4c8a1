-- +goose Up
-- What is charged for a parcel by the freight rules, against what its carrier asked.
ALTER TABLE parcel ADD COLUMN charged INTEGER NOT NULL DEFAULT 0;
ALTER TABLE parcel ADD COLUMN charge_rule TEXT NOT NULL DEFAULT '';

-- +goose Down
SELECT 1;
