-- +goose Up
-- Shipments that are picked in one walk, each into a slot of the cart.
CREATE TABLE round (
  id INTEGER PRIMARY KEY, number TEXT NOT NULL UNIQUE, location_id INTEGER NOT NULL,
  state TEXT NOT NULL CHECK (state IN ('picking','picked','taken apart')), rule TEXT NOT NULL DEFAULT '',
  held_by TEXT NOT NULL DEFAULT '', made_by TEXT NOT NULL, created_at INTEGER NOT NULL, ended_at INTEGER NOT NULL DEFAULT 0,
  revision INTEGER NOT NULL DEFAULT 1
);
CREATE INDEX round_state ON round (state, id);
CREATE TABLE round_slot (
  round_id INTEGER NOT NULL REFERENCES round, slot INTEGER NOT NULL, shipment_id INTEGER NOT NULL, PRIMARY KEY (round_id, slot)
) WITHOUT ROWID;
CREATE INDEX round_slot_shipment ON round_slot (shipment_id);
-- What goes into a round by rule: of which place, how many, which words of service (a JSON list; none: any), units an order has
-- (0 any, 1 only one, 2 more than one), and whether only what should leave today.
CREATE TABLE round_rule (
  code TEXT PRIMARY KEY, name TEXT NOT NULL, location_id INTEGER NOT NULL, slots INTEGER NOT NULL, services TEXT NOT NULL DEFAULT '[]',
  units INTEGER NOT NULL DEFAULT 0, today INTEGER NOT NULL DEFAULT 0, revision INTEGER NOT NULL DEFAULT 1
) WITHOUT ROWID;
