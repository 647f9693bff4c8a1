-- +goose Up
-- Listings that share the last units of an item, with what each may sell without our knowing: of the quantity it was told last, and of
-- earlier ones. They are here while they share.
CREATE TABLE share (
  listing_id INTEGER PRIMARY KEY, item_id INTEGER NOT NULL, connection_id INTEGER NOT NULL,
  left_qty INTEGER NOT NULL, before_qty INTEGER NOT NULL, doubt_qty INTEGER NOT NULL DEFAULT 0,
  told_at INTEGER NOT NULL,                 -- when it was decided to tell the last quantity
  accepted_at INTEGER NOT NULL DEFAULT 0    -- when the channel accepted that; 0: not yet
);
CREATE INDEX share_item ON share (item_id);
CREATE INDEX share_connection ON share (connection_id);
