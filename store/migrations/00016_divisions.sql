-- +goose Up
-- What becomes of a portion whose job is divided anew among another number of them (docs/spread.md, "Other portions"): empty for nothing.
ALTER TABLE jobs ADD COLUMN division text NOT NULL DEFAULT '';
DROP TRIGGER tell_nodes ON jobs;
CREATE TRIGGER tell_nodes AFTER INSERT OR DELETE OR UPDATE OF generation, owners, division ON jobs FOR EACH STATEMENT EXECUTE FUNCTION tell_nodes();
-- A run whose sources were told to end: whoever goes on with it ends them.
ALTER TABLE runs ADD COLUMN drains boolean NOT NULL DEFAULT false;
-- A portion's run that has come to rest.
ALTER TABLE runs ADD COLUMN rested boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE runs DROP COLUMN rested, DROP COLUMN drains;
DROP TRIGGER tell_nodes ON jobs;
CREATE TRIGGER tell_nodes AFTER INSERT OR DELETE OR UPDATE OF generation, owners ON jobs FOR EACH STATEMENT EXECUTE FUNCTION tell_nodes();
ALTER TABLE jobs DROP COLUMN division;
