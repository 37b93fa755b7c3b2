-- +goose Up
-- Tokens by which others may post to a source of a job, and to nothing else (docs/connectors.md, "http").
CREATE TABLE tokens (
    id      bigserial PRIMARY KEY,
    job_id  bigint NOT NULL REFERENCES jobs (id) ON DELETE CASCADE,
    source  text NOT NULL,
    name    text NOT NULL,
    digest  bytea NOT NULL UNIQUE,   -- SHA-256 of the token, which is random and kept nowhere
    rate    bigint NOT NULL,         -- events a second; 0: as many as come
    made_at timestamptz NOT NULL,
    used_at timestamptz,             -- about; null: never
    UNIQUE (job_id, name)
);

-- +goose Down
DROP TABLE tokens;
