-- +goose Up
-- Runs read live: where from, how they went on, and whether they have ended.
ALTER TABLE runs ADD COLUMN source TEXT NOT NULL DEFAULT '{}';
ALTER TABLE runs ADD COLUMN origin REAL NOT NULL DEFAULT 0;
ALTER TABLE runs ADD COLUMN planned REAL NOT NULL DEFAULT 0;
ALTER TABLE runs ADD COLUMN watched BOOLEAN NOT NULL DEFAULT 0;
ALTER TABLE runs ADD COLUMN marks TEXT NOT NULL DEFAULT '[]';
ALTER TABLE runs ADD COLUMN gaps TEXT NOT NULL DEFAULT '[]';
ALTER TABLE runs ADD COLUMN ended_at DATETIME;
UPDATE runs SET ended_at = at;
CREATE INDEX runs_open ON runs(test_id) WHERE ended_at IS NULL;
ALTER TABLE runs ADD COLUMN doubted_at DATETIME;
ALTER TABLE codes ADD COLUMN doubted_at DATETIME;
ALTER TABLE tests ADD COLUMN doubted_at DATETIME;
ALTER TABLE findings ADD COLUMN doubted_at DATETIME;
ALTER TABLE repairs ADD COLUMN doubted_at DATETIME;
ALTER TABLE trials ADD COLUMN doubted_at DATETIME;
CREATE TABLE scans (
  id TEXT PRIMARY KEY, case_id TEXT NOT NULL REFERENCES cases(id), source TEXT NOT NULL, raw TEXT NOT NULL,
  at DATETIME NOT NULL, struck_at DATETIME, doubted_at DATETIME);
CREATE INDEX scans_case ON scans(case_id);
-- What was read from a car is never changed, only struck out or doubted.
CREATE TRIGGER scans_stay BEFORE UPDATE OF raw, source, case_id, at ON scans BEGIN SELECT RAISE(ABORT, 'scans are never changed'); END;
CREATE TABLE notes (
  id TEXT PRIMARY KEY, case_id TEXT NOT NULL REFERENCES cases(id), kind TEXT NOT NULL, subject TEXT NOT NULL, text TEXT NOT NULL,
  photo TEXT NOT NULL, at DATETIME NOT NULL, struck_at DATETIME, doubted_at DATETIME);
CREATE INDEX notes_case ON notes(case_id);
CREATE TABLE devices (id TEXT PRIMARY KEY, kind TEXT NOT NULL, name TEXT NOT NULL, address TEXT NOT NULL, at DATETIME NOT NULL,
  UNIQUE (kind, address));
