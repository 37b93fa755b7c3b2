-- +goose Up
DROP TABLE figures; -- a few numbers of each run; points have all of each job
DROP TABLE upkeep; -- what it said of them
CREATE TABLE shapes (
    id          bigint PRIMARY KEY,           -- of the names, as their digest gives it
    names       text[] NOT NULL               -- of figures, in the order of their values
);
CREATE TABLE points (
    job_id      bigint NOT NULL REFERENCES jobs (id) ON DELETE CASCADE,
    tier        smallint NOT NULL,            -- how fine: docs/figures.md, "Over time"
    at          timestamptz NOT NULL,         -- where the point begins
    shape       bigint NOT NULL REFERENCES shapes (id),
    means       real[] NOT NULL,
    greatest    real[] NOT NULL,
    PRIMARY KEY (job_id, tier, at)
);
CREATE INDEX points_by_time ON points (tier, at);

-- +goose Down
DROP TABLE points, shapes;
CREATE TABLE upkeep (
    name        text PRIMARY KEY,
    done_to     timestamptz NOT NULL
);
CREATE TABLE figures (
    run_id      bigint NOT NULL REFERENCES runs (id) ON DELETE CASCADE,
    at          timestamptz NOT NULL,
    figures     jsonb NOT NULL,
    PRIMARY KEY (run_id, at)
);
CREATE INDEX figures_by_time ON figures (at);
