-- +goose Up
ALTER TABLE runs ADD COLUMN crashes integer NOT NULL DEFAULT 0; -- docs/service.md, "When something goes wrong"

-- +goose Down
ALTER TABLE runs DROP COLUMN crashes;
