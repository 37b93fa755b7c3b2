-- +goose Up
ALTER TABLE runs ADD COLUMN drop_parts jsonb NOT NULL DEFAULT '[]'; -- of an older version's state
CREATE TABLE connections (
    name        text PRIMARY KEY,
    definition  text NOT NULL,                -- JSON, with its ${secret.X} and ${env.X} as they are written
    updated_at  timestamptz NOT NULL
);
CREATE TABLE secrets (
    name        text PRIMARY KEY,
    sealed      bytea NOT NULL,               -- docs/service.md, "Secrets"
    updated_at  timestamptz NOT NULL
);
CREATE TABLE catalogue (
    name        text PRIMARY KEY,             -- of a described source
    about       text NOT NULL,
    text        text NOT NULL,                -- as it stands below `sources:`
    updated_at  timestamptz NOT NULL
);

-- +goose Down
DROP TABLE catalogue, secrets, connections;
ALTER TABLE runs DROP COLUMN drop_parts;
