-- +goose Up
ALTER TABLE secrets ADD COLUMN addresses jsonb NOT NULL DEFAULT '[]'; -- docs/security.md, "Secrets"

-- +goose Down
ALTER TABLE secrets DROP COLUMN addresses;
