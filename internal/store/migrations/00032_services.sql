-- +goose Up
-- By which service parcels go: the rows are looked at in their order, those for a channel before those for all.
CREATE TABLE service_choice (
  position      INTEGER PRIMARY KEY,
  connection_id INTEGER NOT NULL DEFAULT 0,   -- 0: all channels
  choice        TEXT NOT NULL                 -- JSON
) STRICT;
-- What a carrier published last: it stands in when the carrier does not answer.
CREATE TABLE carrier_tariff (
  connection_id INTEGER PRIMARY KEY,
  tariff        TEXT NOT NULL,                -- JSON
  at            INTEGER NOT NULL
) STRICT;

-- +goose Down
DROP TABLE carrier_tariff;
DROP TABLE service_choice;
