-- +goose Up
-- Origins that a record says and that are not trusted. What stores like trashes hold is looked at again, because what their
-- records say was believed so far.
ALTER TABLE spans ADD COLUMN claimed BLOB;
ALTER TABLE sources ADD COLUMN recheck INTEGER NOT NULL DEFAULT 0;
UPDATE sources SET recheck = 1 WHERE NOT live AND NOT dated;
