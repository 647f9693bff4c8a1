-- +goose Up
-- Items of which channels are to be told a little later, once for many changes.
CREATE TABLE offer_due (item_id INTEGER PRIMARY KEY, due_at INTEGER NOT NULL);
-- +goose Down
DROP TABLE offer_due;
