-- +goose Up
-- Services that share this database, and which of them carries out which job (docs/nodes.md).
CREATE TABLE nodes (
    name       text PRIMARY KEY,
    boot       text NOT NULL,                -- of this start of it; another one has begun anew
    address    text NOT NULL,                -- where the others reach it
    pin        text NOT NULL,                -- SHA-256 of its certificate's key; empty: without TLS
    digest     bytea NOT NULL,               -- SHA-256 of the token by which it shows the others who it is
    version    text NOT NULL,
    cores      int NOT NULL,
    memory     bigint NOT NULL,              -- bytes
    started_at timestamptz NOT NULL,
    heard_at   timestamptz NOT NULL,         -- by the database's clock
    draining   boolean NOT NULL DEFAULT false
);
CREATE TABLE leases (
    job_id     bigint PRIMARY KEY REFERENCES jobs (id) ON DELETE CASCADE,
    number     bigint NOT NULL,              -- grows each time that somebody takes it; what bears a lower one is refused
    node       text NOT NULL,                -- empty: nobody's
    boot       text NOT NULL,
    taken_at   timestamptz NOT NULL,
    generation int NOT NULL DEFAULT 0,       -- of the newest checkpoint
    epoch      bigint NOT NULL DEFAULT 0,    -- of it; 0: there is none
    place      text NOT NULL DEFAULT ''      -- of it in the shared store
);
ALTER TABLE runs ADD COLUMN node text NOT NULL DEFAULT '';  -- that carried it out last
ALTER TABLE pins ADD COLUMN place text NOT NULL DEFAULT ''; -- of it in the shared store

-- +goose StatementBegin
CREATE FUNCTION tell_nodes() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM pg_notify('undertide', TG_TABLE_NAME);
    RETURN NULL;
END $$;
-- +goose StatementEnd
-- What changes with each checkpoint, or whenever somebody is seen, is told of to nobody.
CREATE TRIGGER tell_nodes AFTER INSERT OR DELETE OR UPDATE OF generation, owners ON jobs FOR EACH STATEMENT EXECUTE FUNCTION tell_nodes();
CREATE TRIGGER tell_nodes AFTER INSERT ON versions FOR EACH STATEMENT EXECUTE FUNCTION tell_nodes();
CREATE TRIGGER tell_nodes AFTER INSERT OR UPDATE ON runs FOR EACH STATEMENT EXECUTE FUNCTION tell_nodes();
CREATE TRIGGER tell_nodes AFTER INSERT OR DELETE OR UPDATE OF number, node ON leases FOR EACH STATEMENT EXECUTE FUNCTION tell_nodes();
CREATE TRIGGER tell_nodes AFTER INSERT OR DELETE OR UPDATE OF role, email, password, generation ON people FOR EACH STATEMENT EXECUTE FUNCTION tell_nodes();
CREATE TRIGGER tell_nodes AFTER INSERT OR DELETE ON codes FOR EACH STATEMENT EXECUTE FUNCTION tell_nodes();
CREATE TRIGGER tell_nodes AFTER INSERT OR DELETE ON tokens FOR EACH STATEMENT EXECUTE FUNCTION tell_nodes();
CREATE TRIGGER tell_nodes AFTER INSERT OR UPDATE OR DELETE ON sessions FOR EACH STATEMENT EXECUTE FUNCTION tell_nodes();
CREATE TRIGGER tell_nodes AFTER INSERT OR UPDATE OR DELETE ON connections FOR EACH STATEMENT EXECUTE FUNCTION tell_nodes();
CREATE TRIGGER tell_nodes AFTER INSERT OR UPDATE OR DELETE ON secrets FOR EACH STATEMENT EXECUTE FUNCTION tell_nodes();
CREATE TRIGGER tell_nodes AFTER INSERT OR UPDATE OR DELETE ON catalogue FOR EACH STATEMENT EXECUTE FUNCTION tell_nodes();
CREATE TRIGGER tell_nodes AFTER INSERT OR UPDATE OR DELETE ON rules FOR EACH STATEMENT EXECUTE FUNCTION tell_nodes();
CREATE TRIGGER tell_nodes AFTER INSERT OR UPDATE OR DELETE ON notices FOR EACH STATEMENT EXECUTE FUNCTION tell_nodes();
CREATE TRIGGER tell_nodes AFTER INSERT OR UPDATE OR DELETE ON alarms FOR EACH STATEMENT EXECUTE FUNCTION tell_nodes();

-- +goose Down
ALTER TABLE pins DROP COLUMN place;
ALTER TABLE runs DROP COLUMN node;
DROP TABLE leases, nodes;
DROP FUNCTION tell_nodes() CASCADE;
