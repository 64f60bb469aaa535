-- +goose Up
-- What the way to a machine can tell and do, as it was when it was reached last: JSON of traits.Way; {} where it never was.
ALTER TABLE machines ADD COLUMN way TEXT NOT NULL DEFAULT '{}';
