-- +goose Up
ALTER TABLE accounts ADD COLUMN personal text NOT NULL DEFAULT ''; -- the source of the person's own settings

-- +goose Down
ALTER TABLE accounts DROP COLUMN personal;
