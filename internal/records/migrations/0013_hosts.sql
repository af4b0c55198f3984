-- +goose Up
ALTER TABLE sites
    ADD COLUMN given boolean NOT NULL DEFAULT true, -- by a flag of the service; else it was added
    ADD COLUMN host_key text NOT NULL DEFAULT '';   -- pinned, as in an authorized_keys line

-- +goose Down
DELETE FROM sites WHERE NOT given;
ALTER TABLE sites DROP COLUMN given, DROP COLUMN host_key;
