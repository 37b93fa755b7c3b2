-- +goose Up
-- People, how they are known, and what they did (docs/security.md, "People and rights").
CREATE TABLE people (
    id         bigserial PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    role       text NOT NULL,            -- reader, engineer, keeper
    email      text NOT NULL,            -- by which single sign-on knows them; empty: it does not
    password   text NOT NULL,            -- argon2id; empty: none
    generation int NOT NULL,             -- sessions of another one have ended
    made_at    timestamptz NOT NULL,
    seen_at    timestamptz               -- about, when they were here last; null: never
);
CREATE UNIQUE INDEX people_email ON people (lower(email)) WHERE email <> '';

-- Codes that let somebody in once, to choose a password.
CREATE TABLE codes (
    digest    bytea PRIMARY KEY,         -- SHA-256
    person_id bigint NOT NULL REFERENCES people (id) ON DELETE CASCADE,
    ends_at   timestamptz NOT NULL
);

CREATE TABLE sessions (
    digest  text PRIMARY KEY,            -- SHA-256 of what the cookie holds
    data    bytea NOT NULL,
    ends_at timestamptz NOT NULL
);

-- Tokens of people, beside those of jobs.
ALTER TABLE tokens ALTER job_id DROP NOT NULL,
    ADD role text NOT NULL DEFAULT 'poster',
    ADD person_id bigint REFERENCES people (id) ON DELETE CASCADE, -- null: of the job
    ADD ends_at timestamptz,                                       -- null: never
    DROP CONSTRAINT tokens_job_id_name_key;
CREATE UNIQUE INDEX tokens_of_jobs ON tokens (job_id, name) WHERE person_id IS NULL;
CREATE UNIQUE INDEX tokens_of_people ON tokens (person_id, name) WHERE person_id IS NOT NULL;

ALTER TABLE jobs ADD owners text NOT NULL DEFAULT '[]';   -- names of who may change it; none: every engineer
ALTER TABLE versions ADD saved_by text NOT NULL DEFAULT '';
ALTER TABLE history ADD done_by text NOT NULL DEFAULT '';

-- What was done, by whom. The private server has made this already, as another role: the service's own may add to it and read it, and no
-- more (store.TrailSQL). Elsewhere it is made here; docs/operations.md says how to take it from the service's role.
CREATE TABLE IF NOT EXISTS trail (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at      timestamptz NOT NULL,
    who     text NOT NULL,
    means   text NOT NULL,
    address text NOT NULL,
    action  text NOT NULL,
    target  text NOT NULL,
    version int NOT NULL,
    outcome text NOT NULL,
    request text NOT NULL,
    UNIQUE (at, request, action)
);

-- +goose Down
ALTER TABLE history DROP done_by;
ALTER TABLE versions DROP saved_by;
ALTER TABLE jobs DROP owners;
DELETE FROM tokens WHERE person_id IS NOT NULL;
DROP INDEX tokens_of_people;
DROP INDEX tokens_of_jobs;
ALTER TABLE tokens DROP ends_at, DROP person_id, DROP role, ALTER job_id SET NOT NULL, ADD CONSTRAINT tokens_job_id_name_key UNIQUE (job_id, name);
DROP TABLE sessions;
DROP TABLE codes;
DROP TABLE people;
