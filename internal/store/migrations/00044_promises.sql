-- +goose Up
-- When an order was promised for, or was placed where it was not: what waits is served in this order.
ALTER TABLE orders ADD COLUMN due_at INTEGER NOT NULL DEFAULT 0;
UPDATE orders SET due_at = coalesce(CAST(strftime('%s', nullif(record->>'$.deliver_by', '')) AS INTEGER) * 1000000, placed_at)
  WHERE stage IN ('pending','held','ready');
-- Where a place is: latitude and longitude in decimal degrees (WGS 84), as "51.5, 7.25"; empty: not known.
ALTER TABLE location ADD COLUMN position TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE location DROP COLUMN position;
ALTER TABLE orders DROP COLUMN due_at;
