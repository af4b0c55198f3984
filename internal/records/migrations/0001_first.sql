-- +goose Up
CREATE TABLE installation (
    one boolean PRIMARY KEY DEFAULT true CHECK (one),
    name text NOT NULL            -- labels everything that is made at a site
);

CREATE TABLE accounts (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name text NOT NULL UNIQUE,
    password_hash text NOT NULL,
    admin boolean NOT NULL DEFAULT false,
    created timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE tokens (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    account bigint NOT NULL REFERENCES accounts ON DELETE CASCADE,
    hash bytea NOT NULL UNIQUE,   -- SHA-256 of the token; its text is not kept
    label text NOT NULL,
    created timestamptz NOT NULL DEFAULT now(),
    last_used timestamptz
);

CREATE TABLE keys (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    account bigint NOT NULL REFERENCES accounts ON DELETE CASCADE,
    fingerprint text NOT NULL UNIQUE,
    kind text NOT NULL,
    public_key bytea NOT NULL,
    comment text NOT NULL,
    created timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE workspaces (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    account bigint NOT NULL REFERENCES accounts,
    name text NOT NULL,
    source text NOT NULL,
    ref text NOT NULL,
    file text NOT NULL,           -- the definition that was chosen; empty: the only one
    site text NOT NULL,
    state text NOT NULL,
    reason text NOT NULL DEFAULT '',
    wanted text NOT NULL,         -- running, stopped or removed: what the person asked for last
    commit text NOT NULL DEFAULT '',
    plan jsonb,                   -- the last plan that was carried out or begun
    session jsonb,                -- what the agent was told: see wire.Session
    uid integer,                  -- of the session's user, once known
    created timestamptz NOT NULL DEFAULT now(),
    last_used timestamptz NOT NULL DEFAULT now(),
    UNIQUE (account, name)
);

CREATE TABLE runs (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    workspace bigint NOT NULL REFERENCES workspaces ON DELETE CASCADE,
    kind text NOT NULL,
    state text NOT NULL DEFAULT 'waiting',
    reason text NOT NULL DEFAULT '',
    holder bigint,                -- the service instance that carries it out
    lease_until timestamptz,
    carried boolean NOT NULL DEFAULT false, -- the holder is at work on it
    created timestamptz NOT NULL DEFAULT now(),
    started timestamptz,
    ended timestamptz
);
-- One unfinished run a workspace: two requests at once cannot start two.
CREATE UNIQUE INDEX runs_unfinished ON runs (workspace) WHERE state IN ('waiting', 'running');
CREATE INDEX runs_of_workspace ON runs (workspace, id DESC);

CREATE TABLE steps (
    run bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
    position integer NOT NULL,
    name text NOT NULL,
    title text NOT NULL,
    digest text NOT NULL DEFAULT '',
    state text NOT NULL DEFAULT 'waiting',
    reason text NOT NULL DEFAULT '',
    attempts integer NOT NULL DEFAULT 0,
    result jsonb,
    started timestamptz,
    ended timestamptz,
    last_millis bigint,           -- how long the same step took the last time
    PRIMARY KEY (run, position)
);

-- What is done for a workspace and need not be done again while the digest is the same.
CREATE TABLE done (
    workspace bigint NOT NULL REFERENCES workspaces ON DELETE CASCADE,
    step text NOT NULL,
    digest text NOT NULL,
    result jsonb,
    PRIMARY KEY (workspace, step)
);

CREATE TABLE log (
    run bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
    number bigint NOT NULL,       -- from 1 in each run
    step integer NOT NULL,
    at timestamptz NOT NULL,
    text text NOT NULL,
    PRIMARY KEY (run, number)
);

-- The instances of the service. Each holds an advisory lock of its number while it lives,
-- so that the others know at once when it is gone.
CREATE TABLE instances (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    started timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE instances, log, done, steps, runs, workspaces, keys, tokens, accounts, installation;
