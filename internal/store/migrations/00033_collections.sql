-- +goose Up
-- Each place has its own list with a carrier; its answer says when it comes.
ALTER TABLE manifest ADD COLUMN location_id INTEGER NOT NULL DEFAULT 0;
ALTER TABLE manifest ADD COLUMN window TEXT NOT NULL DEFAULT '';
ALTER TABLE manifest ADD COLUMN refused TEXT NOT NULL DEFAULT '';
UPDATE manifest SET location_id = coalesce((SELECT min(s.location_id) FROM parcel p JOIN shipment s ON s.id=p.shipment_id
  WHERE p.manifest_id=manifest.id AND p.manifest_id<>0 HAVING min(s.location_id)=max(s.location_id)), 0);
DROP INDEX manifest_open;
CREATE UNIQUE INDEX manifest_open ON manifest (carrier_id, location_id, day) WHERE state = 'open';
CREATE INDEX manifest_day ON manifest (carrier_id, day);

-- +goose Down
DROP INDEX manifest_day;
DROP INDEX manifest_open;
CREATE UNIQUE INDEX manifest_open ON manifest (carrier_id, day) WHERE state = 'open';
