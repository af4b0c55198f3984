-- +goose Up
CREATE TABLE rentals (
    token     text PRIMARY KEY,                  -- of the order, chosen before it is made
    site      text NOT NULL,                     -- no reference: what was ordered outlives its site's record
    workspace text NOT NULL,                     -- as its site names it
    instance  text NOT NULL DEFAULT '',          -- as the provider names it; empty: its answer is not known
    size      text NOT NULL,
    disk      text NOT NULL DEFAULT '',          -- the kept disk that it began with
    mark      text NOT NULL DEFAULT '',
    key       bytea NOT NULL DEFAULT '',         -- by which the instance is known since its first call
    hour      bigint NOT NULL,                   -- what an hour costs, in millionths of the currency's unit
    spent     bigint NOT NULL DEFAULT 0,         -- what it has cost, as last heard
    ordered   timestamptz NOT NULL DEFAULT now(),
    leaving   boolean NOT NULL DEFAULT false,    -- it is given back
    ended     timestamptz,                       -- it is gone
    why       text NOT NULL DEFAULT ''           -- it was given back
);
CREATE UNIQUE INDEX rentals_one ON rentals (site, workspace) WHERE NOT leaving;
CREATE UNIQUE INDEX rentals_instance ON rentals (site, instance) WHERE instance <> '';
ALTER TABLE sites ADD COLUMN secret bytea NOT NULL DEFAULT ''; -- of an account at a provider, sealed

-- +goose Down
ALTER TABLE sites DROP COLUMN secret;
DROP TABLE rentals;
