-- +goose Up
ALTER TABLE steps ADD COLUMN code text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE steps DROP COLUMN code;
