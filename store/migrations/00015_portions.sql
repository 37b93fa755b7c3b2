-- +goose Up
-- A portion of a spread job is a job of its own, which its job has made (docs/spread.md).
ALTER TABLE jobs ADD COLUMN portion_of text NOT NULL DEFAULT ''; -- the job's name; empty for a job of its own
ALTER TABLE jobs ADD COLUMN part int NOT NULL DEFAULT 0;         -- from 0
ALTER TABLE jobs ADD COLUMN portion int NOT NULL DEFAULT 0;      -- from 0

-- +goose Down
DELETE FROM jobs WHERE portion_of <> '';
ALTER TABLE jobs DROP COLUMN portion, DROP COLUMN part, DROP COLUMN portion_of;
