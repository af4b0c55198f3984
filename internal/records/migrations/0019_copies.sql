-- +goose Up
ALTER TABLE snapshots ADD COLUMN copy boolean NOT NULL DEFAULT false; -- kept by the rule of a site, at another one
ALTER TABLE runs ADD COLUMN snapshot bigint;                          -- what a workspace is made anew from
CREATE TABLE left_behind (
    site text NOT NULL,
    workspace bigint NOT NULL REFERENCES workspaces ON DELETE CASCADE,
    snapshot bigint NOT NULL DEFAULT nextval(pg_get_serial_sequence('snapshots', 'id')::regclass), -- what is found there is kept as
    record jsonb NOT NULL,                                        -- of that snapshot
    since timestamptz NOT NULL DEFAULT now(),
    taken timestamptz,                                            -- when a replica began to keep it
    PRIMARY KEY (site, workspace)
);

-- +goose Down
DROP TABLE left_behind;
ALTER TABLE runs DROP COLUMN snapshot;
ALTER TABLE snapshots DROP COLUMN copy;
