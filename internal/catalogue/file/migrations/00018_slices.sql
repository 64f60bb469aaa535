-- +goose Up
-- How far a survey came that goes on in a further slice: JSON, see package spans; NULL where none does. And which folders it has read.
ALTER TABLE sources ADD COLUMN slice TEXT;
CREATE TABLE sliced_folders (
    source_id INTEGER NOT NULL REFERENCES sources ON DELETE CASCADE,
    folder_id INTEGER NOT NULL,
    PRIMARY KEY (source_id, folder_id)
) WITHOUT ROWID;

-- The sources of a survey job: how far each is.
ALTER TABLE jobs ADD COLUMN parts TEXT NOT NULL DEFAULT '[]';
