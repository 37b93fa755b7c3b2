-- +goose Up
-- A job over a span is another job's document over events of the past (docs/service.md, "Spans").
ALTER TABLE jobs ADD COLUMN span_of text NOT NULL DEFAULT '';    -- the job's name; empty for a job of its own
ALTER TABLE jobs ADD COLUMN span_begin text NOT NULL DEFAULT ''; -- as `begin` in a document; empty: as the document says
ALTER TABLE jobs ADD COLUMN span_until text NOT NULL DEFAULT '';
ALTER TABLE runs ADD COLUMN skip_events jsonb NOT NULL DEFAULT '[]';   -- that are set aside

-- +goose Down
ALTER TABLE runs DROP COLUMN skip_events;
ALTER TABLE jobs DROP COLUMN span_until, DROP COLUMN span_begin, DROP COLUMN span_of;
