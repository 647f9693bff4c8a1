-- +goose Up
-- What a parcel is insured for: by a person (-1: as rules say), and by its label; what its label was to cost when it was asked for; and in
-- whose request it was sent with others under one number.
ALTER TABLE parcel ADD COLUMN insured INTEGER NOT NULL DEFAULT -1;
ALTER TABLE parcel ADD COLUMN insured_for INTEGER NOT NULL DEFAULT 0;
ALTER TABLE parcel ADD COLUMN quoted INTEGER NOT NULL DEFAULT 0;
ALTER TABLE parcel ADD COLUMN consigned_in INTEGER NOT NULL DEFAULT 0;
ALTER TABLE parcel ADD COLUMN followed_at INTEGER NOT NULL DEFAULT 0; -- when its carrier was last asked where it is, where that is done
CREATE INDEX parcel_followed ON parcel (carrier_id, followed_at) WHERE state='shipped' AND travels_in=0 AND tracking<>'';
CREATE INDEX parcel_consigned ON parcel (consigned_in) WHERE consigned_in<>0;

-- Labels by which goods come back, the newest of a return the one that counts.
CREATE TABLE return_label (
  id INTEGER PRIMARY KEY, return_id INTEGER NOT NULL REFERENCES goods_return, carrier_id INTEGER NOT NULL, service TEXT NOT NULL,
  state TEXT NOT NULL, tracking TEXT NOT NULL DEFAULT '', label TEXT NOT NULL DEFAULT '', price INTEGER NOT NULL DEFAULT 0,
  currency TEXT NOT NULL DEFAULT '', weight_g INTEGER NOT NULL DEFAULT 0, error TEXT NOT NULL DEFAULT '', asked_at INTEGER NOT NULL,
  journey TEXT NOT NULL DEFAULT '', journey_at INTEGER NOT NULL DEFAULT 0,
  followed_at INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX return_label_return ON return_label (return_id, id);
CREATE INDEX return_label_tracking ON return_label (tracking) WHERE tracking<>'';

-- +goose Down
SELECT 1;
