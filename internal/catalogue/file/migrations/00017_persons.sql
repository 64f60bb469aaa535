-- +goose Up
-- Who has which accounts. That two accounts of one name are one person's is not known by that: of those there were each is a person by itself,
-- until somebody says otherwise.
CREATE TABLE persons (
    id   INTEGER PRIMARY KEY AUTOINCREMENT,
    name TEXT NOT NULL
);
ALTER TABLE people ADD COLUMN person_id INTEGER REFERENCES persons;
INSERT INTO persons (id, name) SELECT id, name FROM people;
UPDATE people SET person_id = id;
CREATE INDEX people_by_person ON people (person_id);

-- Of whom it was said that they are two.
CREATE TABLE persons_apart (
    one   INTEGER NOT NULL REFERENCES persons ON DELETE CASCADE,
    other INTEGER NOT NULL REFERENCES persons ON DELETE CASCADE,
    PRIMARY KEY (one, other),
    CHECK (one < other)
) WITHOUT ROWID;
