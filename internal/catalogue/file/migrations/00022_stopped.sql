-- +goose Up
-- Machines that are to be left alone until somebody takes them up again.
ALTER TABLE machines ADD COLUMN stopped INTEGER NOT NULL DEFAULT 0;
