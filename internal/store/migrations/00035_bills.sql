-- +goose Up
-- What carriers bill, line by line, beside what was asked when the label was bought.
CREATE TABLE bill_line (
  id INTEGER PRIMARY KEY, carrier_id INTEGER NOT NULL DEFAULT 0, bill TEXT NOT NULL, tracking TEXT NOT NULL, parcel_id INTEGER NOT
  NULL DEFAULT 0,
  what TEXT NOT NULL DEFAULT '', amount INTEGER NOT NULL, currency TEXT NOT NULL, weight_g INTEGER NOT NULL DEFAULT 0,
  state TEXT NOT NULL, why TEXT NOT NULL DEFAULT '', note TEXT NOT NULL DEFAULT '', at INTEGER NOT NULL
);
CREATE UNIQUE INDEX bill_line_once ON bill_line (bill, tracking, what, amount, weight_g);
CREATE INDEX bill_line_parcel ON bill_line (parcel_id) WHERE parcel_id<>0;
CREATE INDEX bill_line_state ON bill_line (state, id);
CREATE INDEX bill_line_at ON bill_line (at);
ALTER TABLE parcel ADD COLUMN sum_g INTEGER NOT NULL DEFAULT 0;   -- what carton and contents should weigh
ALTER TABLE parcel ADD COLUMN billed INTEGER NOT NULL DEFAULT 0;  -- sum of what its carrier billed, minor units of its currency
ALTER TABLE parcel ADD COLUMN billed_g INTEGER NOT NULL DEFAULT 0;

-- +goose Down
SELECT 1;
