-- +goose Up
-- A result keeps what its readings came to and why, beside the outcome that counts; why a
-- person overruled them; which result it repeats after a repair; and a photo.
ALTER TABLE results ADD COLUMN judged TEXT NOT NULL DEFAULT '';
ALTER TABLE results ADD COLUMN says TEXT NOT NULL DEFAULT '';
ALTER TABLE results ADD COLUMN overruled TEXT NOT NULL DEFAULT '';
ALTER TABLE results ADD COLUMN repeat_of TEXT NOT NULL DEFAULT '';
ALTER TABLE results ADD COLUMN photo TEXT NOT NULL DEFAULT '';
