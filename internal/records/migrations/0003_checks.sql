-- +goose Up
ALTER TABLE workspaces ADD COLUMN checks jsonb; -- what was proved last: see run.CheckResult

-- +goose Down
ALTER TABLE workspaces DROP COLUMN checks;
