-- +goose Up
ALTER TABLE workspaces
    ADD COLUMN variations jsonb; -- what is set in its definition to another value than the file says

-- +goose Down
ALTER TABLE workspaces DROP COLUMN variations;
