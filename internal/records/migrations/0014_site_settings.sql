-- +goose Up
ALTER TABLE sites
    ADD COLUMN settings jsonb NOT NULL DEFAULT '{}', -- what it has of its own in place of the service's settings
    ADD COLUMN through text NOT NULL DEFAULT '';     -- the hosts that lead to it, the nearest first

-- +goose Down
ALTER TABLE sites DROP COLUMN settings, DROP COLUMN through;
