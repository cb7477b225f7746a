-- +goose Up
-- A case may be opened before its car is there. Where the vehicle id names another model
-- year than was typed, that id is kept for which a person said that the typed year is right.
ALTER TABLE cases ADD COLUMN away INTEGER NOT NULL DEFAULT 0;
ALTER TABLE vehicles ADD COLUMN year_kept TEXT NOT NULL DEFAULT '';
