-- +goose Up
-- How an instrument is spoken to: its driver, the speed of a serial device, and how its lines
-- or registers are read.
ALTER TABLE devices ADD COLUMN driver TEXT NOT NULL DEFAULT 'own';
ALTER TABLE devices ADD COLUMN baud INTEGER NOT NULL DEFAULT 0;
ALTER TABLE devices ADD COLUMN settings TEXT NOT NULL DEFAULT '{}';
