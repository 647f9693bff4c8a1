-- +goose Up
-- What carriers say of parcels on their way; a parcel stands by its latest event.
CREATE TABLE parcel_event (
  parcel_id INTEGER NOT NULL, at INTEGER NOT NULL, state TEXT NOT NULL, text TEXT NOT NULL DEFAULT '', place TEXT NOT NULL DEFAULT '',
  told_at INTEGER NOT NULL,  -- as the carrier told it; at is when it came where that was in the future
  came_at INTEGER NOT NULL, PRIMARY KEY (parcel_id, told_at, state, text)
) WITHOUT ROWID;
ALTER TABLE parcel ADD COLUMN journey TEXT NOT NULL DEFAULT '';      -- state of the latest event
ALTER TABLE parcel ADD COLUMN journey_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE parcel ADD COLUMN promised TEXT NOT NULL DEFAULT '';     -- YYYY-MM-DD by which it should be there
ALTER TABLE parcel ADD COLUMN watch_at INTEGER NOT NULL DEFAULT 0;   -- when it is to be looked at again; 0: never
CREATE INDEX parcel_watch ON parcel (watch_at) WHERE watch_at<>0;
CREATE INDEX parcel_carrier ON parcel (carrier_id, service, id) WHERE carrier_id<>0;
UPDATE parcel SET journey='delivered', journey_at=delivered_at WHERE state='delivered';
ALTER TABLE exception ADD COLUMN parcel_id INTEGER NOT NULL DEFAULT 0;
CREATE INDEX exception_parcel ON exception (parcel_id) WHERE parcel_id<>0 AND closed_at=0;
-- What is asked of a carrier for a parcel that was lost, damaged or late.
CREATE TABLE claim (
  parcel_id INTEGER PRIMARY KEY, state TEXT NOT NULL, amount INTEGER NOT NULL DEFAULT 0, currency TEXT NOT NULL DEFAULT '',
  note TEXT NOT NULL DEFAULT '', made_by TEXT NOT NULL DEFAULT '', made_at INTEGER NOT NULL, changed_at INTEGER NOT NULL
);
-- How parcels of a service arrive, by week and region: kept as they do.
CREATE TABLE transit_sum (
  week TEXT NOT NULL, carrier_id INTEGER NOT NULL, service TEXT NOT NULL, region TEXT NOT NULL, delivered INTEGER NOT NULL DEFAULT 0,
  promised INTEGER NOT NULL DEFAULT 0, in_time INTEGER NOT NULL DEFAULT 0, hours INTEGER NOT NULL DEFAULT 0,
  PRIMARY KEY (week, carrier_id, service, region)
) WITHOUT ROWID;

-- +goose Down
SELECT 1;
