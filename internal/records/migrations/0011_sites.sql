-- +goose Up
-- The places that can hold workspaces. One that the service is no longer given at its start is
-- drained: it takes nothing new, and what is there goes on.
CREATE TABLE sites (
    name text PRIMARY KEY,
    kind text NOT NULL,
    address text NOT NULL,
    drained boolean NOT NULL DEFAULT false,
    added timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE sites;
