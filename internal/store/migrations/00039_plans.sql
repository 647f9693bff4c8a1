-- +goose Up
-- How the units of an order were placed: the question, the policy and the plan, as they stood then.
CREATE TABLE order_plan (
  order_id INTEGER PRIMARY KEY, at INTEGER NOT NULL, waits INTEGER NOT NULL, plan TEXT NOT NULL
);
-- Orders by where something is promised to them.
CREATE INDEX allocation_place ON allocation (location_id, order_id);

-- +goose Down
SELECT 1;
