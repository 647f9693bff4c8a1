-- +goose Up
-- Which field of a parcel its carrier refused, such as to.name; empty: not known.
ALTER TABLE parcel ADD COLUMN wrong_field TEXT NOT NULL DEFAULT '';

-- +goose Down
SELECT 1;
