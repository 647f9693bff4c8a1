-- +goose Up
-- A label can be voided until the carrier has the parcel: since when a void is asked for, and when the carrier scanned it first.
ALTER TABLE parcel ADD COLUMN void_asked_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE parcel ADD COLUMN scanned_at INTEGER NOT NULL DEFAULT 0;
UPDATE parcel SET scanned_at=delivered_at WHERE delivered_at<>0;
-- Numbers that stood on a parcel and do not any more, because it had not left yet.
CREATE TABLE voided_label (
  parcel_id INTEGER NOT NULL REFERENCES parcel, tracking TEXT NOT NULL, carrier TEXT NOT NULL, voided_at INTEGER NOT NULL,
  PRIMARY KEY (tracking, parcel_id)
) WITHOUT ROWID;
