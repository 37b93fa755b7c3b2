-- +goose Up
CREATE TABLE jobs (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name        text NOT NULL UNIQUE,
    created_at  timestamptz NOT NULL,
    generation  int NOT NULL DEFAULT 1,       -- of its checkpoint folder: a fresh start begins another
    last_epoch  bigint NOT NULL DEFAULT 0     -- epochs are never used twice
);
CREATE TABLE versions (
    job_id      bigint NOT NULL REFERENCES jobs (id) ON DELETE CASCADE,
    number      int NOT NULL,
    document    text NOT NULL,                -- with its ${env.X} and ${secret.X} as they are written
    about       text NOT NULL,
    created_at  timestamptz NOT NULL,
    PRIMARY KEY (job_id, number)
);
CREATE TABLE runs (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    job_id      bigint NOT NULL REFERENCES jobs (id) ON DELETE CASCADE,
    version     int NOT NULL,
    status      text NOT NULL,
    wanted      boolean NOT NULL,             -- whether the service goes on with it after a restart
    started_at  timestamptz NOT NULL,
    ended_at    timestamptz,
    error       text NOT NULL DEFAULT '',
    lanes       int NOT NULL DEFAULT 0,
    set_values  jsonb NOT NULL DEFAULT '{}',
    generation  int NOT NULL,
    restarts    int NOT NULL DEFAULT 0
);
CREATE INDEX runs_by_job ON runs (job_id, id DESC);
CREATE UNIQUE INDEX runs_one_at_a_time ON runs (job_id) WHERE wanted;
CREATE TABLE checkpoints (
    run_id        bigint NOT NULL REFERENCES runs (id) ON DELETE CASCADE,
    epoch         bigint NOT NULL,
    generation    int NOT NULL,
    written_at    timestamptz NOT NULL,
    seconds       double precision NOT NULL,
    stall_seconds double precision NOT NULL,
    bytes         bigint NOT NULL,
    finished      boolean NOT NULL,
    partitions    jsonb NOT NULL,             -- [{source, name, from, to, events}]
    PRIMARY KEY (run_id, epoch)
);
CREATE TABLE history (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    job_id      bigint NOT NULL REFERENCES jobs (id) ON DELETE CASCADE,
    run_id      bigint REFERENCES runs (id) ON DELETE CASCADE,
    at          timestamptz NOT NULL,
    kind        text NOT NULL,
    text        text NOT NULL
);
CREATE INDEX history_by_job ON history (job_id, id DESC);
CREATE UNIQUE INDEX history_once ON history (job_id, at, kind); -- a write that is tried again leaves one line
CREATE TABLE figures (
    run_id      bigint NOT NULL REFERENCES runs (id) ON DELETE CASCADE,
    at          timestamptz NOT NULL,
    figures     jsonb NOT NULL,
    PRIMARY KEY (run_id, at)
);

-- +goose Down
DROP TABLE figures, history, checkpoints, runs, versions, jobs;
