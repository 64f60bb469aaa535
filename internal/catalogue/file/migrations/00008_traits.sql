-- +goose Up
-- What a kind of store can tell and do is kept with the source, as the kind declares it; until a service that knows the kind has been
-- started, as far as it was known. Copies can have refs and content ids of their own.
ALTER TABLE sources ADD COLUMN shape TEXT NOT NULL DEFAULT 'traces';      -- of package traits; once more in the column traits
ALTER TABLE sources ADD COLUMN traits TEXT NOT NULL DEFAULT '{}';
ALTER TABLE sources ADD COLUMN options TEXT NOT NULL DEFAULT '{}';
ALTER TABLE sources ADD COLUMN memo BLOB;                                -- what its kind keeps from one survey for the next
UPDATE sources SET shape = CASE WHEN live THEN 'now' WHEN dated THEN 'points' WHEN kind = 'strays' THEN 'traces' ELSE 'removals' END;
UPDATE sources SET traits = json_object('shape', shape);
ALTER TABLE sources DROP COLUMN live;
ALTER TABLE sources DROP COLUMN dated;
ALTER TABLE spans RENAME COLUMN inode TO number;
ALTER TABLE spans ADD COLUMN ref BLOB;     -- by which its store finds it; NULL: made of where it lies
ALTER TABLE spans ADD COLUMN lies TEXT;    -- where it lies, for people; NULL: the path
ALTER TABLE spans ADD COLUMN content TEXT; -- what its store calls its content, with the kind of that; NULL: it does not tell
CREATE INDEX spans_by_content ON spans (content) WHERE content IS NOT NULL AND sha256 IS NOT NULL;
