-- +goose Up
ALTER TABLE checkpoints ADD COLUMN rows_changed bigint NOT NULL DEFAULT 0; -- of state, since the one before
ALTER TABLE checkpoints ADD COLUMN rows_gone bigint NOT NULL DEFAULT 0;
ALTER TABLE checkpoints ADD COLUMN new_bytes bigint NOT NULL DEFAULT 0;    -- written for it
ALTER TABLE checkpoints ADD COLUMN fault text NOT NULL DEFAULT '';        -- why it is not complete; empty: it is
CREATE TABLE pins (
    job_id      bigint NOT NULL REFERENCES jobs (id) ON DELETE CASCADE,
    name        text NOT NULL,
    epoch       bigint NOT NULL,
    run_id      bigint NOT NULL REFERENCES runs (id) ON DELETE CASCADE,
    at          timestamptz NOT NULL,         -- when it was pinned
    written_at  timestamptz NOT NULL,         -- when the checkpoint was
    PRIMARY KEY (job_id, name)
);

-- +goose Down
DROP TABLE pins;
ALTER TABLE checkpoints DROP COLUMN fault, DROP COLUMN new_bytes, DROP COLUMN rows_gone, DROP COLUMN rows_changed;
