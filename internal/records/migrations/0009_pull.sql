-- +goose Up
ALTER TABLE runs ADD COLUMN pull boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE runs DROP COLUMN pull;
