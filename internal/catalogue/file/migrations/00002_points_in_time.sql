-- +goose Up
-- Stores that hold several points in time: a capture is then one of those, and spans run from capture to capture by
-- their times, so that a capture that arrives late can be put between two others.

ALTER TABLE machines ADD COLUMN clock_ahead INTEGER NOT NULL DEFAULT 0;    -- nanoseconds by which its write times are ahead
ALTER TABLE sources ADD COLUMN live INTEGER NOT NULL DEFAULT 0;            -- its files are the machine's own, as they are now
ALTER TABLE sources ADD COLUMN dated INTEGER NOT NULL DEFAULT 0;           -- it holds several points in time
ALTER TABLE sources ADD COLUMN named TEXT NOT NULL DEFAULT '';             -- strftime pattern of its points in time
ALTER TABLE sources ADD COLUMN exclusions TEXT NOT NULL DEFAULT '[]';
ALTER TABLE sources ADD COLUMN surveyed_at INTEGER;
UPDATE sources SET surveyed_at = (SELECT at FROM captures WHERE id = last_capture);

ALTER TABLE captures ADD COLUMN name BLOB NOT NULL DEFAULT x'';            -- of a point in time in its store
ALTER TABLE captures ADD COLUMN held INTEGER NOT NULL DEFAULT 0;           -- the store still holds it
UPDATE captures SET held = 1 WHERE id IN (SELECT last_capture FROM sources);

ALTER TABLE store_dirs ADD COLUMN print BLOB; -- over the names and marks of what the latest capture showed in it; NULL: read it

CREATE TABLE new_spans (
    id            INTEGER PRIMARY KEY AUTOINCREMENT,
    place_id      INTEGER NOT NULL REFERENCES places ON DELETE CASCADE,
    source_id     INTEGER NOT NULL REFERENCES sources ON DELETE CASCADE,
    store_dir_id  INTEGER NOT NULL REFERENCES store_dirs ON DELETE CASCADE,
    store_name    BLOB NOT NULL,
    mark          TEXT NOT NULL,
    type          TEXT NOT NULL,
    class         TEXT NOT NULL,
    size          INTEGER NOT NULL,      -- negative where nothing tells
    person        TEXT NOT NULL,
    written_at    INTEGER,
    gone_at       INTEGER,
    within        INTEGER NOT NULL,
    readable      INTEGER NOT NULL,      -- the store still holds the bytes
    origin_known  INTEGER NOT NULL,
    notes         TEXT,
    sha256        BLOB,
    inode         INTEGER,
    target        BLOB,                  -- of a link
    first_at      INTEGER NOT NULL,      -- the capture that first showed it
    last_at       INTEGER                -- the capture that last did; NULL while the latest still does
);
INSERT INTO new_spans
    SELECT x.id, place_id, x.source_id, store_dir_id, store_name, mark, type, class, size, person, written_at, gone_at, within,
        readable AND ended_capture IS NULL, origin_known, notes, sha256, NULL, NULL, coalesce(f.at, 0),
        CASE WHEN ended_capture IS NULL THEN NULL ELSE max(coalesce(l.at, 0), coalesce(f.at, 0)) END
    FROM spans x LEFT JOIN captures f ON f.id = x.first_capture LEFT JOIN captures l ON l.id = x.last_capture;
DROP TABLE spans;
ALTER TABLE new_spans RENAME TO spans;
CREATE INDEX spans_in_store ON spans (store_dir_id, store_name);
CREATE INDEX spans_of_place ON spans (place_id, last_at);               -- what stands at it now, first of all
CREATE INDEX spans_by_gone ON spans (gone_at DESC, id DESC);
CREATE INDEX spans_by_written ON spans (written_at, size);               -- the same file under another name
CREATE INDEX spans_by_target ON spans (target) WHERE target IS NOT NULL; -- what links point here

-- Homes that people had before the machine's accounts named another.
CREATE TABLE former_homes (
    machine_id INTEGER NOT NULL REFERENCES machines ON DELETE CASCADE,
    person     TEXT NOT NULL,
    home       BLOB NOT NULL,
    until      INTEGER NOT NULL,
    PRIMARY KEY (machine_id, person, home)
) WITHOUT ROWID;

-- The write times of standing folders before and after a bring-back wrote in them.
CREATE TABLE receipt_folders (
    receipt_id INTEGER NOT NULL REFERENCES receipts ON DELETE CASCADE,
    machine    TEXT NOT NULL,
    path       BLOB NOT NULL,
    written_at INTEGER NOT NULL,
    after_at   INTEGER,
    PRIMARY KEY (receipt_id, machine, path)
) WITHOUT ROWID;
