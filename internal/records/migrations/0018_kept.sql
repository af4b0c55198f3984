-- +goose Up
ALTER TABLE workspaces
    ADD COLUMN keep integer NOT NULL DEFAULT 0,                          -- of what is prepared: how many are kept warm
    ADD COLUMN kept_for bigint REFERENCES workspaces ON DELETE SET NULL; -- of one that is kept warm: what is prepared
CREATE INDEX workspaces_kept ON workspaces (kept_for) WHERE kind = 'kept';

-- +goose Down
DELETE FROM workspaces WHERE kind = 'kept';
ALTER TABLE workspaces DROP COLUMN keep, DROP COLUMN kept_for;
