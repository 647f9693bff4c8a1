-- +goose Up
-- Orders to the same recipient may travel together: their shipments carry the same number of a journey, and what of an order lies in
-- the carton of another is a parcel of its own, which travels in that carton's.
ALTER TABLE shipment ADD COLUMN together INTEGER NOT NULL DEFAULT 0;
CREATE INDEX shipment_together ON shipment (together) WHERE together<>0;
ALTER TABLE parcel ADD COLUMN travels_in INTEGER NOT NULL DEFAULT 0;
CREATE INDEX parcel_travels_in ON parcel (travels_in) WHERE travels_in<>0;
-- Who an order goes to, in normal form and hashed, while something of it may still be sent; 0: nobody; -1: not worked out yet.
ALTER TABLE orders ADD COLUMN recipient INTEGER NOT NULL DEFAULT 0;
UPDATE orders SET recipient=-1 WHERE stage IN ('held','ready','routed','picking','packed','part shipped') AND kind='ship' AND test=0;
CREATE INDEX orders_recipient ON orders (recipient) WHERE recipient<>0;
DROP TRIGGER parcel_added;
DROP TRIGGER parcel_moved;
-- +goose StatementBegin
CREATE TRIGGER parcel_added AFTER INSERT ON parcel WHEN new.state IN ('packed','buying label') AND new.travels_in=0 BEGIN
  INSERT INTO place_count SELECT location_id, 'to ship', 1 FROM shipment WHERE id=new.shipment_id
    ON CONFLICT DO UPDATE SET n = n + 1;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER parcel_moved AFTER UPDATE OF state, travels_in ON parcel
  WHEN (old.state IN ('packed','buying label') AND old.travels_in=0) <> (new.state IN ('packed','buying label') AND new.travels_in=0) BEGIN
  INSERT INTO place_count SELECT location_id, 'to ship', CASE WHEN new.state IN ('packed','buying label') AND new.travels_in=0 THEN 1
    ELSE -1 END
    FROM shipment WHERE id=new.shipment_id ON CONFLICT DO UPDATE SET n = n + excluded.n;
END;
-- +goose StatementEnd

-- +goose Down
SELECT 1;
