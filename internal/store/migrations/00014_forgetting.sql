-- +goose Up
-- What was ever raised of an order is found when its buyer is forgotten.
CREATE INDEX exception_of ON exception (order_id) WHERE order_id <> 0;

-- +goose Down
SELECT 1;
