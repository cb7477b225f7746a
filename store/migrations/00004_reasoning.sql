-- +goose Up
-- What the reasoning needs beside measurements: results of any test of the Book, signs and
-- circumstances by one tap, the kit of the day, what a finding rests on, why it failed, and
-- what the part looked like when it was opened.
CREATE TABLE results (
  id TEXT PRIMARY KEY, case_id TEXT NOT NULL REFERENCES cases(id), test TEXT NOT NULL, part TEXT NOT NULL, outcome TEXT NOT NULL, figures TEXT, exits TEXT,
  note TEXT NOT NULL, at DATETIME NOT NULL, struck_at DATETIME, doubted_at DATETIME);
CREATE INDEX results_case ON results(case_id);
CREATE TABLE observations (
  id TEXT PRIMARY KEY, case_id TEXT NOT NULL REFERENCES cases(id), kind TEXT NOT NULL, key TEXT NOT NULL, part TEXT NOT NULL, absent BOOLEAN NOT NULL,
  at DATETIME NOT NULL, struck_at DATETIME, doubted_at DATETIME);
CREATE INDEX observations_case ON observations(case_id);
CREATE TABLE post_mortems (
  id TEXT PRIMARY KEY, case_id TEXT NOT NULL REFERENCES cases(id), finding_id TEXT NOT NULL, confirmed TEXT NOT NULL, text TEXT NOT NULL, photo TEXT NOT NULL,
  at DATETIME NOT NULL, struck_at DATETIME, doubted_at DATETIME);
CREATE INDEX post_mortems_case ON post_mortems(case_id);
ALTER TABLE findings ADD COLUMN by TEXT NOT NULL DEFAULT 'word';
ALTER TABLE findings ADD COLUMN rests_on TEXT NOT NULL DEFAULT '';
ALTER TABLE findings ADD COLUMN odds REAL NOT NULL DEFAULT 0;
ALTER TABLE findings ADD COLUMN cause TEXT NOT NULL DEFAULT '';
ALTER TABLE findings ADD COLUMN cause_text TEXT NOT NULL DEFAULT '';
ALTER TABLE cases ADD COLUMN kit TEXT;
ALTER TABLE cases ADD COLUMN next TEXT NOT NULL DEFAULT '';
ALTER TABLE cases ADD COLUMN next_minutes INTEGER NOT NULL DEFAULT 0;
ALTER TABLE cases ADD COLUMN next_version INTEGER NOT NULL DEFAULT 0;
