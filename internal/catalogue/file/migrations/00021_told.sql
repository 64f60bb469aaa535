-- +goose Up
-- Whether the traits of a source are its store's own, told when it was opened, and not only those of its kind.
ALTER TABLE sources ADD COLUMN told INTEGER NOT NULL DEFAULT 0;
