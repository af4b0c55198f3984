-- +goose Up
ALTER TABLE accounts ADD COLUMN author_name text NOT NULL DEFAULT '', -- of commits made in the account's workspaces
    ADD COLUMN author_mail text NOT NULL DEFAULT '';

CREATE TABLE git_hosts (
    account bigint NOT NULL REFERENCES accounts ON DELETE CASCADE,
    host text NOT NULL,
    username text NOT NULL,
    is_key boolean NOT NULL,      -- an SSH private key; else a token
    secret bytea NOT NULL,        -- sealed
    created timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (account, host, is_key)
);

CREATE TABLE secrets (
    account bigint NOT NULL REFERENCES accounts ON DELETE CASCADE,
    name text NOT NULL,
    source text NOT NULL,         -- whose definitions get it
    value bytea NOT NULL,         -- sealed
    created timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (account, name, source)
);

ALTER TABLE workspaces ADD COLUMN kind text NOT NULL DEFAULT 'workspace', -- workspace, helper or prepared
    ADD COLUMN parent bigint REFERENCES workspaces ON DELETE CASCADE,     -- of a helper: whose it is
    ADD COLUMN spec jsonb,        -- of a helper: what it is made from
    ADD COLUMN mount boolean NOT NULL DEFAULT false, -- the source is a folder of the host, mounted in place
    ADD COLUMN size text NOT NULL DEFAULT '',
    ADD COLUMN state_from bigint, -- the state that it begins with
    ADD COLUMN earlier jsonb,     -- what it was before the rebuild that is under way
    ADD COLUMN stops_at timestamptz,   -- nobody uses it: it stops then
    ADD COLUMN stay_until timestamptz; -- it does not stop by itself before then
CREATE INDEX workspaces_of_parent ON workspaces (parent) WHERE parent IS NOT NULL;

ALTER TABLE runs ADD COLUMN note text NOT NULL DEFAULT ''; -- why it was made, where no person asked for it

-- States of workspaces that were kept: snapshots, and what was prepared ahead of time.
CREATE TABLE states (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    kind text NOT NULL,           -- snapshot or prepared
    account bigint NOT NULL REFERENCES accounts ON DELETE CASCADE,
    workspace bigint REFERENCES workspaces ON DELETE SET NULL,
    name text NOT NULL,           -- of the workspace
    note text NOT NULL DEFAULT '',
    site text NOT NULL,
    source text NOT NULL,
    ref text NOT NULL,
    file text NOT NULL,
    size text NOT NULL,
    commit text NOT NULL,
    plan jsonb NOT NULL,
    session jsonb,
    uid integer,
    done jsonb NOT NULL DEFAULT '{}',  -- the digests of what is done in it, by step
    images jsonb NOT NULL DEFAULT '{}', -- by service; the workspace's own under the empty name
    digest text NOT NULL,         -- of its container
    bytes bigint NOT NULL DEFAULT 0,
    ready boolean NOT NULL DEFAULT false,
    created timestamptz NOT NULL DEFAULT now(),
    used timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX states_of_account ON states (account, id DESC);

-- Sources that are prepared again whenever their branch moves.
CREATE TABLE followed (
    workspace bigint PRIMARY KEY REFERENCES workspaces ON DELETE CASCADE, -- the prepared one
    looked timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE followed, states, secrets, git_hosts;
ALTER TABLE runs DROP COLUMN note;
ALTER TABLE workspaces DROP COLUMN kind, DROP COLUMN parent, DROP COLUMN spec, DROP COLUMN mount, DROP COLUMN size, DROP COLUMN state_from, DROP COLUMN earlier, DROP COLUMN stops_at, DROP COLUMN stay_until;
ALTER TABLE accounts DROP COLUMN author_name, DROP COLUMN author_mail;
