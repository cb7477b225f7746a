-- +goose Up
CREATE TABLE vehicles (
  id TEXT PRIMARY KEY, plate TEXT NOT NULL, plate_key TEXT NOT NULL UNIQUE, make TEXT NOT NULL, model TEXT NOT NULL,
  year INTEGER NOT NULL, odometer_km INTEGER NOT NULL, tank_l REAL NOT NULL, metering TEXT NOT NULL, archetype TEXT NOT NULL,
  created_at DATETIME NOT NULL);
CREATE TABLE cases (
  id TEXT PRIMARY KEY, number TEXT NOT NULL UNIQUE, vehicle_id TEXT NOT NULL REFERENCES vehicles(id), stage TEXT NOT NULL,
  complaint TEXT NOT NULL, circumstances TEXT NOT NULL, recent_work TEXT NOT NULL, deadline TEXT NOT NULL,
  wait_kind TEXT NOT NULL, wait_note TEXT NOT NULL, wait_until DATETIME, monitors TEXT NOT NULL,
  outcome TEXT NOT NULL, reason TEXT NOT NULL, opened_at DATETIME NOT NULL, closed_at DATETIME, version INTEGER NOT NULL);
CREATE INDEX cases_open ON cases(stage, opened_at);
CREATE INDEX cases_monitor ON cases(monitors, stage);
CREATE INDEX cases_closed ON cases(closed_at, id);
CREATE INDEX cases_vehicle ON cases(vehicle_id);
CREATE TABLE codes (
  id TEXT PRIMARY KEY, case_id TEXT NOT NULL REFERENCES cases(id), code TEXT NOT NULL, status TEXT NOT NULL,
  at DATETIME NOT NULL, struck_at DATETIME);
CREATE INDEX codes_case ON codes(case_id);
CREATE TABLE tests (
  id TEXT PRIMARY KEY, case_id TEXT NOT NULL REFERENCES cases(id), repeat_of TEXT NOT NULL, setup TEXT NOT NULL, rules TEXT NOT NULL,
  outcome TEXT NOT NULL, problem TEXT NOT NULL, result TEXT NOT NULL, at DATETIME NOT NULL, struck_at DATETIME, version INTEGER NOT NULL);
CREATE INDEX tests_case ON tests(case_id);
CREATE TABLE runs (
  id TEXT PRIMARY KEY, test_id TEXT NOT NULL REFERENCES tests(id), kind TEXT NOT NULL, name TEXT NOT NULL, unit TEXT NOT NULL,
  notes TEXT NOT NULL, start REAL NOT NULL, "end" REAL NOT NULL, readings INTEGER NOT NULL, at DATETIME NOT NULL, struck_at DATETIME);
CREATE INDEX runs_test ON runs(test_id);
-- Readings: little-endian float64 columns time, gauge and, when measured, wall. Never changed once written.
CREATE TABLE blocks (
  run_id TEXT NOT NULL REFERENCES runs(id), seq INTEGER NOT NULL, readings INTEGER NOT NULL, wall INTEGER NOT NULL, data BLOB NOT NULL,
  PRIMARY KEY (run_id, seq)) WITHOUT ROWID;
CREATE TRIGGER blocks_stay BEFORE UPDATE ON blocks BEGIN SELECT RAISE(ABORT, 'readings are never changed'); END;
CREATE TABLE photos (hash TEXT PRIMARY KEY, mime TEXT NOT NULL, width INTEGER NOT NULL, height INTEGER NOT NULL, data BLOB NOT NULL);
CREATE TABLE findings (
  id TEXT PRIMARY KEY, case_id TEXT NOT NULL REFERENCES cases(id), part TEXT NOT NULL, place TEXT NOT NULL, how TEXT NOT NULL,
  photo TEXT NOT NULL, at DATETIME NOT NULL, struck_at DATETIME);
CREATE INDEX findings_case ON findings(case_id);
CREATE TABLE repairs (
  id TEXT PRIMARY KEY, case_id TEXT NOT NULL REFERENCES cases(id), action TEXT NOT NULL, parts TEXT NOT NULL, seals TEXT NOT NULL,
  cost_cents INTEGER NOT NULL, minutes INTEGER NOT NULL, torque REAL NOT NULL, lasting BOOLEAN NOT NULL, done_at DATETIME,
  at DATETIME NOT NULL, struck_at DATETIME);
CREATE INDEX repairs_case ON repairs(case_id);
CREATE TABLE trials (
  id TEXT PRIMARY KEY, case_id TEXT NOT NULL REFERENCES cases(id), how TEXT NOT NULL, seconds INTEGER NOT NULL, gone BOOLEAN NOT NULL,
  at DATETIME NOT NULL, struck_at DATETIME);
CREATE INDEX trials_case ON trials(case_id);
-- A form sent twice does its work once: the key remembers where the first one led.
CREATE TABLE sent_forms (key TEXT PRIMARY KEY, target TEXT NOT NULL, at DATETIME NOT NULL);
CREATE TABLE settings (key TEXT PRIMARY KEY, value TEXT NOT NULL);
