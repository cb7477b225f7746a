-- +goose Up
-- Gaps of a run that is being read, written with the readings; a run that has ended
-- carries them itself.
CREATE TABLE gaps (
  run_id TEXT NOT NULL REFERENCES runs(id), seq INTEGER NOT NULL, from_s REAL NOT NULL, to_s REAL NOT NULL, why TEXT NOT NULL, times INTEGER NOT NULL,
  PRIMARY KEY (run_id, seq)) WITHOUT ROWID;
INSERT INTO gaps(run_id, seq, from_s, to_s, why, times)
  SELECT r.id, g.key, g.value ->> 'from_s', g.value ->> 'to_s', g.value ->> 'why', 0 FROM runs r, json_each(r.gaps) g WHERE r.ended_at IS NULL;
