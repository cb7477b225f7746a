-- +goose Up
-- What a car is made of, what is known of its Map, and the access cards of its parts.
ALTER TABLE vehicles ADD COLUMN engine TEXT NOT NULL DEFAULT '';
ALTER TABLE vehicles ADD COLUMN boost TEXT NOT NULL DEFAULT '';
ALTER TABLE vehicles ADD COLUMN crankcase TEXT NOT NULL DEFAULT '';
ALTER TABLE vehicles ADD COLUMN recirculation TEXT NOT NULL DEFAULT '';
CREATE TABLE map_marks (
  id TEXT PRIMARY KEY, case_id TEXT NOT NULL REFERENCES cases(id), kind TEXT NOT NULL, part TEXT NOT NULL, odds REAL NOT NULL, size TEXT NOT NULL,
  expected BOOLEAN NOT NULL, text TEXT NOT NULL, at DATETIME NOT NULL, struck_at DATETIME, doubted_at DATETIME);
CREATE INDEX map_marks_case ON map_marks(case_id);
CREATE TABLE corrections (
  id TEXT PRIMARY KEY, vehicle_id TEXT NOT NULL REFERENCES vehicles(id), kind TEXT NOT NULL, part TEXT NOT NULL, runs_from TEXT NOT NULL, runs_to TEXT NOT NULL,
  text TEXT NOT NULL, photo TEXT NOT NULL, at DATETIME NOT NULL, struck_at DATETIME);
CREATE INDEX corrections_vehicle ON corrections(vehicle_id);
CREATE TABLE access_cards (
  id TEXT PRIMARY KEY, vehicle_id TEXT NOT NULL REFERENCES vehicles(id), part TEXT NOT NULL, place TEXT NOT NULL, first_off TEXT NOT NULL, fasteners TEXT NOT NULL,
  locks TEXT NOT NULL, breaks TEXT NOT NULL, minutes INTEGER NOT NULL, photo TEXT NOT NULL, at DATETIME NOT NULL, struck_at DATETIME);
CREATE INDEX access_cards_vehicle ON access_cards(vehicle_id, part);
CREATE INDEX vehicles_like ON vehicles(make COLLATE NOCASE, model COLLATE NOCASE);
