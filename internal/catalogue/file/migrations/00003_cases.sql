-- +goose Up
-- What examining contents found, by digest: one content is examined once, wherever it turns up.
CREATE TABLE examined (
    sha256   BLOB PRIMARY KEY,
    findings TEXT NOT NULL,
    at       INTEGER NOT NULL
) WITHOUT ROWID;

ALTER TABLE spans ADD COLUMN condition TEXT; -- what the findings on its content mean under its name; NULL: unread
CREATE INDEX spans_by_sha256 ON spans (sha256) WHERE sha256 IS NOT NULL;
CREATE INDEX spans_by_condition ON spans (condition, id) WHERE condition IS NOT NULL;

-- Requests for help. Like receipts they outlive machines and sources, and name them instead of referring to them.
CREATE TABLE cases (
    id         INTEGER PRIMARY KEY,
    state      TEXT NOT NULL,              -- open, waiting or done
    opened_at  INTEGER NOT NULL,
    opened_by  TEXT NOT NULL,
    changed_at INTEGER NOT NULL,
    version    INTEGER NOT NULL DEFAULT 1, -- counts every change, so that two technicians do not undo each other's
    person     TEXT NOT NULL DEFAULT '',
    machine    TEXT NOT NULL DEFAULT '',
    path       BLOB NOT NULL DEFAULT x'',
    words      TEXT NOT NULL DEFAULT '',   -- what it was called, where no place is known
    loss       TEXT NOT NULL,
    happened   TEXT NOT NULL DEFAULT '',
    good_at    INTEGER,
    noticed_at INTEGER,
    hints      TEXT NOT NULL DEFAULT '{}',
    folded     TEXT NOT NULL               -- what a search looks in
);
CREATE INDEX cases_by_state ON cases (state, changed_at DESC, id DESC);

-- Who did what when.
CREATE TABLE case_entries (
    case_id INTEGER NOT NULL REFERENCES cases ON DELETE CASCADE,
    n       INTEGER NOT NULL,
    at      INTEGER NOT NULL,
    by      TEXT NOT NULL,
    kind    TEXT NOT NULL,
    text    TEXT NOT NULL DEFAULT '',
    ref     TEXT NOT NULL DEFAULT '',      -- what it is about: a copy, a receipt, a step, a digest
    work    TEXT NOT NULL DEFAULT '',      -- JSON of whoever added it
    PRIMARY KEY (case_id, n)
) WITHOUT ROWID;
CREATE INDEX case_entries_by_ref ON case_entries (ref) WHERE ref <> '';
