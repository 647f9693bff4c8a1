-- +goose Up
-- How an item lies in a carton: nothing on top of it, or its height upright.
ALTER TABLE item ADD COLUMN fragile INTEGER NOT NULL DEFAULT 0;
ALTER TABLE item ADD COLUMN upright INTEGER NOT NULL DEFAULT 0;
