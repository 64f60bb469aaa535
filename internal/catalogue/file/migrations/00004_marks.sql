-- +goose Up
-- Marks are kept in the binary form of package entry from here on; the step after this one rewrites those of sources that
-- are read as they are now. Those of stores of several points in time took some changed files for unchanged ones, so that
-- their spans are wrong: these stores are read anew from their points.

ALTER TABLE sources ADD COLUMN renew INTEGER NOT NULL DEFAULT 0;         -- what is known of its points in time is to be forgotten at its next survey
ALTER TABLE sources ADD COLUMN renewed_below INTEGER NOT NULL DEFAULT 0; -- copies with smaller numbers were forgotten so
UPDATE sources SET renew = 1, trouble = 'An earlier version of the program could take two contents of a file for one in it. It is read anew from its points in time by the next survey, which begins by itself.'
    WHERE dated AND last_capture IS NOT NULL;

-- Where copies lay that receipts and cases name, and that were forgotten when their store was read anew.
CREATE TABLE former_copies (
    id           INTEGER PRIMARY KEY,
    source_id    INTEGER NOT NULL REFERENCES sources ON DELETE CASCADE,
    store_dir_id INTEGER NOT NULL REFERENCES store_dirs ON DELETE CASCADE,
    store_name   BLOB NOT NULL,
    at           INTEGER NOT NULL  -- the latest capture that showed it
);
