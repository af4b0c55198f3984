-- +goose Up
ALTER TABLE runs
    ADD COLUMN target text NOT NULL DEFAULT '',      -- of a move: the site where the workspace goes
    ADD COLUMN target_size text NOT NULL DEFAULT ''; -- and the size that is asked for there

-- +goose Down
ALTER TABLE runs DROP COLUMN target, DROP COLUMN target_size;
