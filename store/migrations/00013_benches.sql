-- +goose Up
-- Any test of the Book may be read live: which one, of which part, with which instruments, and
-- who drove. Runs say what each of their columns is; a column may come from another instrument.
ALTER TABLE tests ADD COLUMN key TEXT NOT NULL DEFAULT 'decay';
ALTER TABLE tests ADD COLUMN part TEXT NOT NULL DEFAULT '';
ALTER TABLE tests ADD COLUMN seats TEXT;
ALTER TABLE tests ADD COLUMN turns TEXT;
ALTER TABLE runs ADD COLUMN channels TEXT;
ALTER TABLE runs ADD COLUMN figures TEXT;
ALTER TABLE runs ADD COLUMN says TEXT NOT NULL DEFAULT '';
ALTER TABLE runs ADD COLUMN who TEXT NOT NULL DEFAULT '';
ALTER TABLE results ADD COLUMN bench TEXT NOT NULL DEFAULT '';
ALTER TABLE results ADD COLUMN measured TEXT NOT NULL DEFAULT '';
