-- +goose Up
CREATE TABLE notices (
    name        text PRIMARY KEY,
    text        text NOT NULL,                -- a sink, as it stands below sinks: in a document
    everything  boolean NOT NULL,             -- told of every alarm
    updated_at  timestamptz NOT NULL
);
CREATE TABLE tellings (                       -- what is to be told, until it is
    notice      text NOT NULL,
    job         text NOT NULL,
    alarm       text NOT NULL,
    state       text NOT NULL,                -- on, off
    at          timestamptz NOT NULL,
    about       text NOT NULL,
    PRIMARY KEY (notice, job, alarm, state, at)
);
ALTER TABLE rules ADD COLUMN notify text NOT NULL DEFAULT ''; -- names of notices, with commas between

-- +goose Down
ALTER TABLE rules DROP COLUMN notify;
DROP TABLE tellings, notices;
