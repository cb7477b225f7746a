-- +goose Up
-- What is kept of the next step names all that it rests on; a car has a version of its own,
-- counted up by every change of its plumbing, corrections and access cards.
ALTER TABLE vehicles ADD COLUMN version INTEGER NOT NULL DEFAULT 1;
ALTER TABLE cases ADD COLUMN next_basis TEXT NOT NULL DEFAULT '';
ALTER TABLE cases DROP COLUMN next_version;
-- An instrument that is joined to one car is offered at that car's case alone.
ALTER TABLE devices ADD COLUMN for_case TEXT NOT NULL DEFAULT '';
