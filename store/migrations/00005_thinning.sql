-- +goose Up
CREATE INDEX figures_by_time ON figures (at);
CREATE INDEX checkpoints_by_time ON checkpoints (written_at);
CREATE INDEX history_by_time ON history (at);
CREATE TABLE upkeep (
    name        text PRIMARY KEY,             -- of what is thinned
    done_to     timestamptz NOT NULL          -- what is older was thinned
);

-- +goose Down
DROP TABLE upkeep;
DROP INDEX history_by_time;
DROP INDEX checkpoints_by_time;
DROP INDEX figures_by_time;
