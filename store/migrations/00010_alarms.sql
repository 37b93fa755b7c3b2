-- +goose Up
CREATE TABLE alarms (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    job_id      bigint NOT NULL REFERENCES jobs (id) ON DELETE CASCADE,
    name        text NOT NULL,
    text        text NOT NULL,                -- what it is about, with the figures as it began
    on_at       timestamptz NOT NULL,
    off_at      timestamptz,                  -- null while it is on
    seen_at     timestamptz,
    seen_by     text NOT NULL DEFAULT ''
);
CREATE UNIQUE INDEX alarms_once ON alarms (job_id, name, on_at); -- a write that is tried again leaves one
CREATE INDEX alarms_on ON alarms (job_id, name) WHERE off_at IS NULL;
CREATE TABLE rules (
    name        text PRIMARY KEY,             -- of an alarm of all jobs: a usual one that was changed, or another
    condition   text NOT NULL,                -- empty: as usual
    about       text NOT NULL,
    lasting     bigint NOT NULL,              -- microseconds
    off         boolean NOT NULL
);

-- +goose Down
DROP TABLE rules, alarms;
