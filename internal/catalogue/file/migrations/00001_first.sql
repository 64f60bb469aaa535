-- +goose Up
-- Times are nanoseconds since 1970 in UTC; names and paths are bytes (BLOB); lists are JSON.

CREATE TABLE technicians (
    id         INTEGER PRIMARY KEY,
    name       TEXT NOT NULL UNIQUE,
    token_hash BLOB NOT NULL UNIQUE
);
CREATE TABLE sessions (
    hash          BLOB PRIMARY KEY,
    technician_id INTEGER NOT NULL REFERENCES technicians ON DELETE CASCADE,
    expires_at    INTEGER NOT NULL
) WITHOUT ROWID;

CREATE TABLE machines (
    id             INTEGER PRIMARY KEY,
    name           TEXT NOT NULL UNIQUE,
    at             TEXT NOT NULL,
    zone           TEXT NOT NULL,
    retention_days INTEGER NOT NULL,
    notes          TEXT NOT NULL DEFAULT '[]'
);
CREATE TABLE people (
    id         INTEGER PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines ON DELETE CASCADE,
    name       TEXT NOT NULL,
    full_name  TEXT NOT NULL,
    uid        INTEGER NOT NULL,
    home       BLOB NOT NULL,
    UNIQUE (machine_id, name)
);
CREATE TABLE sources (
    id             INTEGER PRIMARY KEY,
    machine_id     INTEGER NOT NULL REFERENCES machines ON DELETE CASCADE,
    at_machine_id  INTEGER NOT NULL REFERENCES machines ON DELETE CASCADE,
    kind           TEXT NOT NULL,
    at             BLOB NOT NULL,
    drive          TEXT NOT NULL DEFAULT '',
    zone           TEXT NOT NULL DEFAULT '',
    maps           TEXT NOT NULL DEFAULT '[]',
    retention_days INTEGER,             -- NULL: the machine's
    found          INTEGER NOT NULL DEFAULT 0,
    trouble        TEXT NOT NULL DEFAULT '',
    notes          TEXT NOT NULL DEFAULT '[]',
    last_capture   INTEGER,             -- the last complete one
    UNIQUE (at_machine_id, kind, at, machine_id)
);

-- One reading of a source.
CREATE TABLE captures (
    id        INTEGER PRIMARY KEY,
    source_id INTEGER NOT NULL REFERENCES sources ON DELETE CASCADE,
    at        INTEGER NOT NULL,
    complete  INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX captures_by_source ON captures (source_id, at);

-- Where files are or were: a folder of a machine, and a name in it.
CREATE TABLE dirs (
    id         INTEGER PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines ON DELETE CASCADE,
    path       BLOB NOT NULL,
    UNIQUE (machine_id, path)
);
CREATE TABLE places (
    id     INTEGER PRIMARY KEY AUTOINCREMENT, -- never given twice: names are fed to the search by ascending id
    dir_id INTEGER NOT NULL REFERENCES dirs ON DELETE CASCADE,
    name   BLOB NOT NULL,
    folded TEXT NOT NULL,              -- as it is searched, see package names
    UNIQUE (dir_id, name)
);
-- Trigrams of the folded names; rowid is the place's id.
CREATE VIRTUAL TABLE names USING fts5 (folded, content='', contentless_delete=1, detail=none, tokenize='trigram case_sensitive 1');
CREATE TABLE names_fed (up_to INTEGER NOT NULL);
INSERT INTO names_fed VALUES (0);

-- Where in their stores copies are.
CREATE TABLE store_dirs (
    id        INTEGER PRIMARY KEY,
    source_id INTEGER NOT NULL REFERENCES sources ON DELETE CASCADE,
    path      BLOB NOT NULL,
    UNIQUE (source_id, path)
);

-- A version of a place in a source: one row from the capture that first showed it to the one that last did. It is open
-- (ended_capture is NULL) until a capture shows that it is no longer there.
CREATE TABLE spans (
    id            INTEGER PRIMARY KEY AUTOINCREMENT,
    place_id      INTEGER NOT NULL REFERENCES places ON DELETE CASCADE,
    source_id     INTEGER NOT NULL REFERENCES sources ON DELETE CASCADE,
    store_dir_id  INTEGER NOT NULL REFERENCES store_dirs ON DELETE CASCADE,
    store_name    BLOB NOT NULL,
    mark          TEXT NOT NULL,
    type          TEXT NOT NULL,
    class         TEXT NOT NULL,
    size          INTEGER NOT NULL,
    person        TEXT NOT NULL,
    written_at    INTEGER,
    gone_at       INTEGER,
    within        INTEGER NOT NULL,      -- it lies in a folder that is a copy itself
    readable      INTEGER NOT NULL,
    origin_known  INTEGER NOT NULL,
    notes         TEXT,
    sha256        BLOB,
    first_capture INTEGER NOT NULL,
    last_capture  INTEGER,
    ended_capture INTEGER
);
CREATE INDEX spans_in_store ON spans (store_dir_id, store_name);
CREATE INDEX spans_of_place ON spans (place_id);
CREATE INDEX spans_by_gone ON spans (gone_at DESC, id DESC);

CREATE TABLE jobs (
    id         INTEGER PRIMARY KEY,
    kind       TEXT NOT NULL,
    state      TEXT NOT NULL,
    by         TEXT NOT NULL,
    request    TEXT NOT NULL,
    doing      TEXT NOT NULL DEFAULT '',
    done       INTEGER NOT NULL DEFAULT 0,
    total      INTEGER NOT NULL DEFAULT 0,
    bytes      INTEGER NOT NULL DEFAULT 0,
    created_at INTEGER NOT NULL,
    ended_at   INTEGER,
    error      TEXT NOT NULL DEFAULT '',
    receipt_id INTEGER,
    outcomes   TEXT NOT NULL DEFAULT '[]'
);

-- What was brought back. Receipts outlive machines and sources, so they name them instead of referring to them.
CREATE TABLE receipts (
    id        INTEGER PRIMARY KEY,
    at        INTEGER NOT NULL,
    by        TEXT NOT NULL,
    state     TEXT NOT NULL,
    ended_at  INTEGER,
    undone_at INTEGER,
    undone_by TEXT NOT NULL DEFAULT ''
);
CREATE TABLE receipt_items (
    receipt_id   INTEGER NOT NULL REFERENCES receipts ON DELETE CASCADE,
    n            INTEGER NOT NULL,      -- the order in which they are brought back
    span_id      INTEGER NOT NULL,
    source_id    INTEGER NOT NULL,
    from_machine TEXT NOT NULL,
    from_path    BLOB NOT NULL,
    to_machine   TEXT NOT NULL,
    to_path      BLOB NOT NULL,
    type         TEXT NOT NULL,
    size         INTEGER NOT NULL,
    sha256       BLOB,
    outcome      TEXT NOT NULL,
    note         TEXT NOT NULL,
    work         TEXT NOT NULL,         -- what carrying it out, finishing it after a crash and undoing it need
    PRIMARY KEY (receipt_id, n)
) WITHOUT ROWID;
