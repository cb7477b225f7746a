-- +goose Up
-- Who works on a case, and how much of it is left as it stood at next_basis: work in minutes,
-- working days until its part is here, a night for its monitor, and the kit that is needed next.
ALTER TABLE cases ADD COLUMN who TEXT NOT NULL DEFAULT '';
ALTER TABLE cases ADD COLUMN left_minutes INTEGER NOT NULL DEFAULT 0;
ALTER TABLE cases ADD COLUMN left_days INTEGER NOT NULL DEFAULT 0;
ALTER TABLE cases ADD COLUMN left_night INTEGER NOT NULL DEFAULT 0;
ALTER TABLE cases ADD COLUMN next_kit TEXT;
-- Photos of an exit seen and of a repair.
ALTER TABLE map_marks ADD COLUMN photo TEXT NOT NULL DEFAULT '';
ALTER TABLE repairs ADD COLUMN photo TEXT NOT NULL DEFAULT '';
-- What was found how often, for the Record: read from the index alone.
CREATE INDEX findings_part ON findings(part) WHERE struck_at IS NULL;
