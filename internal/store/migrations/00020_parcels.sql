-- +goose Up
-- A shipment is what one place sends to one buyer; it leaves in parcels, each a carton with its contents and its own label.
-- Until now a shipment was one parcel: it keeps its number, and the number of the row, from which its SSCC was made.
CREATE TABLE parcel (
  id INTEGER PRIMARY KEY, number TEXT NOT NULL UNIQUE, shipment_id INTEGER NOT NULL REFERENCES shipment, state TEXT NOT NULL,
  profile TEXT NOT NULL DEFAULT '', weight_g INTEGER NOT NULL DEFAULT 0, length_mm INTEGER NOT NULL DEFAULT 0,
  width_mm INTEGER NOT NULL DEFAULT 0, height_mm INTEGER NOT NULL DEFAULT 0,
  carrier_id INTEGER NOT NULL DEFAULT 0, carrier_told TEXT NOT NULL DEFAULT '', service TEXT NOT NULL DEFAULT '',
  service_name TEXT NOT NULL DEFAULT '', tracking TEXT NOT NULL DEFAULT '', tracking_url TEXT NOT NULL DEFAULT '',
  label TEXT NOT NULL DEFAULT '', price INTEGER NOT NULL DEFAULT 0, currency TEXT NOT NULL DEFAULT '',
  manifest_id INTEGER NOT NULL DEFAULT 0, created_at INTEGER NOT NULL, shipped_at INTEGER NOT NULL DEFAULT 0,
  delivered_at INTEGER NOT NULL DEFAULT 0, sscc TEXT NOT NULL DEFAULT '', error TEXT NOT NULL DEFAULT '',
  told_by INTEGER NOT NULL DEFAULT 0, told_id TEXT NOT NULL DEFAULT '', revision INTEGER NOT NULL DEFAULT 1
);
CREATE TABLE parcel_line (
  parcel_id INTEGER NOT NULL, line_id INTEGER NOT NULL, item_id INTEGER NOT NULL, per INTEGER NOT NULL DEFAULT 1,
  quantity INTEGER NOT NULL, PRIMARY KEY (parcel_id, line_id, item_id)
) WITHOUT ROWID;
INSERT INTO parcel SELECT id, number, id, state, profile, weight_g, length_mm, width_mm, height_mm, carrier_id, carrier_told, service,
  service_name, tracking, tracking_url, label, price, currency, manifest_id, created_at, shipped_at, delivered_at, sscc, error,
  told_by, told_id, revision FROM shipment
  WHERE state IN ('packed','buying label','shipped','delivered') OR sscc<>'' OR tracking<>'';
INSERT INTO parcel_line SELECT p.id, l.line_id, l.item_id, l.per, l.quantity FROM parcel p JOIN shipment_line l ON l.shipment_id=p.id
  WHERE l.quantity>0;
DROP TRIGGER shipment_added;
DROP TRIGGER shipment_moved;
UPDATE shipment SET state='packed' WHERE state='buying label';
DROP INDEX shipment_tracking;
DROP INDEX shipment_manifest;
DROP INDEX shipment_told;
ALTER TABLE shipment DROP COLUMN profile;
ALTER TABLE shipment DROP COLUMN weight_g;
ALTER TABLE shipment DROP COLUMN length_mm;
ALTER TABLE shipment DROP COLUMN width_mm;
ALTER TABLE shipment DROP COLUMN height_mm;
ALTER TABLE shipment DROP COLUMN carrier_id;
ALTER TABLE shipment DROP COLUMN service;
ALTER TABLE shipment DROP COLUMN service_name;
ALTER TABLE shipment DROP COLUMN tracking;
ALTER TABLE shipment DROP COLUMN tracking_url;
ALTER TABLE shipment DROP COLUMN label;
ALTER TABLE shipment DROP COLUMN price;
ALTER TABLE shipment DROP COLUMN currency;
ALTER TABLE shipment DROP COLUMN manifest_id;
ALTER TABLE shipment DROP COLUMN shipped_at;
ALTER TABLE shipment DROP COLUMN delivered_at;
ALTER TABLE shipment DROP COLUMN sscc;
ALTER TABLE shipment DROP COLUMN error;
ALTER TABLE shipment DROP COLUMN told_by;
ALTER TABLE shipment DROP COLUMN told_id;
ALTER TABLE shipment DROP COLUMN carrier_told;
CREATE INDEX parcel_shipment ON parcel (shipment_id);
CREATE INDEX parcel_state ON parcel (state, id);
CREATE INDEX parcel_tracking ON parcel (tracking) WHERE tracking<>'';
CREATE INDEX parcel_manifest ON parcel (manifest_id) WHERE manifest_id<>0;
CREATE INDEX parcel_told ON parcel (told_by, told_id) WHERE told_by<>0;
ALTER TABLE outbox RENAME COLUMN shipment_id TO parcel_id;
ALTER TABLE serial RENAME COLUMN shipment_id TO parcel_id;
-- +goose StatementBegin
CREATE TRIGGER parcel_added AFTER INSERT ON parcel WHEN new.state IN ('packed','buying label') BEGIN
  INSERT INTO place_count SELECT location_id, 'to ship', 1 FROM shipment WHERE id=new.shipment_id
    ON CONFLICT DO UPDATE SET n = n + 1;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER parcel_moved AFTER UPDATE OF state ON parcel
  WHEN (old.state IN ('packed','buying label')) <> (new.state IN ('packed','buying label')) BEGIN
  INSERT INTO place_count SELECT location_id, 'to ship', CASE WHEN new.state IN ('packed','buying label') THEN 1 ELSE -1 END
    FROM shipment WHERE id=new.shipment_id ON CONFLICT DO UPDATE SET n = n + excluded.n;
END;
-- +goose StatementEnd

-- +goose Down
SELECT 1;
