-- +goose Up
-- What is left of an order of which a part was shipped waits to be picked like any other.
UPDATE orders SET places=coalesce((SELECT json_group_array(k.location_id) FROM (SELECT DISTINCT a.location_id FROM allocation a
  WHERE a.line_id BETWEEN orders.id*1024 AND orders.id*1024+1023 ORDER BY 1) k), '[]') WHERE stage='part shipped';

-- +goose Down
SELECT 1;
