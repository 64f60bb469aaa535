-- +goose Up
-- Folders that a bring-back or an undo made for itself to work in, recorded before they are made. Each holds an entry named
-- after its secret, by which it is known again: what has another content is somebody else's.
CREATE TABLE receipt_stages (
    receipt_id INTEGER NOT NULL REFERENCES receipts ON DELETE CASCADE,
    machine    TEXT NOT NULL,
    folder     BLOB NOT NULL, -- that it lies in
    name       BLOB NOT NULL,
    secret     TEXT NOT NULL,
    PRIMARY KEY (receipt_id, machine, folder, name)
) WITHOUT ROWID;
