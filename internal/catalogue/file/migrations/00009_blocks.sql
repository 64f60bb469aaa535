-- +goose Up
-- What is known of a folder of a store is one packed block from here on, or several of a folder with very many entries, instead of a row
-- a span: see package block. The step after this one moves the spans there, the one after that drops their tables.

-- The last numbers given; none is given twice.
CREATE TABLE counters (name TEXT PRIMARY KEY, value INTEGER NOT NULL) WITHOUT ROWID;
INSERT INTO counters VALUES ('spans', coalesce((SELECT seq FROM sqlite_sequence WHERE name = 'spans'), 0)), ('folders', 0);

CREATE TABLE folders (
    id        INTEGER PRIMARY KEY,
    source_id INTEGER NOT NULL REFERENCES sources ON DELETE CASCADE,
    path      BLOB NOT NULL,     -- in its store
    dir_id    INTEGER,           -- the folder of the machine that its entries come from; NULL where each names its own
    print     BLOB,              -- over the names and marks of what the latest capture showed in it; NULL: read it
    standing  INTEGER NOT NULL,  -- how many of its spans stand
    parts     INTEGER NOT NULL,  -- how many blocks it has
    -- Of all its spans, for a search in an order: nothing in it is beyond them.
    greatest  INTEGER NOT NULL,  -- number
    gone_last INTEGER,           -- deletion; NULL where nothing was deleted
    gone_first INTEGER,
    written   INTEGER,           -- write time
    largest   INTEGER NOT NULL,  -- size
    UNIQUE (source_id, path)
);
CREATE INDEX folders_of_dir ON folders (dir_id) WHERE dir_id IS NOT NULL;

-- The id of a block is the folder's number and where the block stands among the folder's, see blockID.
CREATE TABLE blocks (
    id       INTEGER PRIMARY KEY,
    low      BLOB NOT NULL,      -- no name in it is less; of the first block nothing
    least    INTEGER NOT NULL,   -- numbers of spans
    greatest INTEGER NOT NULL,
    gone_last INTEGER, gone_first INTEGER, written INTEGER, largest INTEGER NOT NULL, -- as of a folder
    now      BLOB,               -- the spans that stand
    past     BLOB                -- those that have ended
);

-- What is known of a point in time that is being read, and waits for its end: as folders and blocks.
CREATE TABLE pending_folders (id INTEGER PRIMARY KEY, source_id INTEGER, print BLOB, standing INTEGER, parts INTEGER, greatest INTEGER,
    gone_last INTEGER, gone_first INTEGER, written INTEGER, largest INTEGER);
CREATE TABLE pending_blocks (id INTEGER PRIMARY KEY, source_id INTEGER, low BLOB, least INTEGER, greatest INTEGER,
    gone_last INTEGER, gone_first INTEGER, written INTEGER, largest INTEGER, now BLOB, past BLOB);

-- In which folder spans are: numbers are given in runs, and one runs to the next.
CREATE TABLE id_runs (first INTEGER PRIMARY KEY, folder_id INTEGER NOT NULL);

-- Entries whose place is not where their folder's entries come from: the folder of the machine, a hash of the name there (see nameHash),
-- and the block.
CREATE TABLE elsewhere (dir_id INTEGER NOT NULL, name INTEGER NOT NULL, block_id INTEGER NOT NULL, PRIMARY KEY (dir_id, name, block_id))
    WITHOUT ROWID;
-- Folders with links, by what they point to.
CREATE TABLE link_targets (target BLOB NOT NULL, folder_id INTEGER NOT NULL, PRIMARY KEY (target, folder_id)) WITHOUT ROWID;

-- Names as they are searched, see nameText. What is lost of it is made again from the blocks.
CREATE TABLE name_chunks (id INTEGER PRIMARY KEY, runs BLOB NOT NULL, text BLOB NOT NULL);

-- Sizes and write times of files, sorted, with the folders they are in, see keyRuns.
CREATE TABLE key_runs (id INTEGER PRIMARY KEY, tier INTEGER NOT NULL, keys INTEGER NOT NULL);
CREATE TABLE key_chunks (run_id INTEGER NOT NULL, size INTEGER NOT NULL, written INTEGER NOT NULL, body BLOB NOT NULL,
    PRIMARY KEY (run_id, size, written)) WITHOUT ROWID;

-- What is known of the contents of spans.
CREATE TABLE contents (
    span_id   INTEGER PRIMARY KEY,
    sha256    BLOB,
    condition TEXT,              -- what the findings on it mean under its name; NULL: unread
    named     TEXT               -- what its store calls it, with the kind of that; NULL: it does not tell
);
CREATE INDEX contents_by_sha256 ON contents (sha256) WHERE sha256 IS NOT NULL;
CREATE INDEX contents_by_condition ON contents (condition, span_id) WHERE condition IS NOT NULL;
CREATE INDEX contents_by_name ON contents (named) WHERE named IS NOT NULL AND sha256 IS NOT NULL;

-- Copies that were forgotten are named by where they lay.
ALTER TABLE former_copies RENAME TO former_copies_before;
CREATE TABLE former_copies (
    id        INTEGER PRIMARY KEY,
    source_id INTEGER NOT NULL REFERENCES sources ON DELETE CASCADE,
    path      BLOB NOT NULL,
    name      BLOB NOT NULL,
    at        INTEGER NOT NULL  -- the latest capture that showed it
);
INSERT INTO former_copies SELECT f.id, f.source_id, d.path, f.store_name, f.at FROM former_copies_before f JOIN store_dirs d ON
    d.id = f.store_dir_id;
DROP TABLE former_copies_before;
