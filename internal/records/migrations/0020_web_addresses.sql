-- +goose Up
CREATE TABLE web_addresses (
    id bigserial PRIMARY KEY,
    workspace bigint NOT NULL REFERENCES workspaces ON DELETE CASCADE,
    account bigint NOT NULL REFERENCES accounts ON DELETE CASCADE,
    port text NOT NULL,                          -- as the workspace has it: 8080 or db:5432
    label text NOT NULL UNIQUE,                  -- the first part of its host name
    protocol text NOT NULL,                      -- http or https, as it is spoken inside
    sharing text NOT NULL DEFAULT 'private',     -- private, team or link
    turn integer NOT NULL DEFAULT 1,             -- counts changes of the sharing: who came in before is out
    link bytea,                                  -- the hash of the link's token
    until timestamptz,                           -- of the link
    password text NOT NULL DEFAULT '',           -- of the link, hashed
    local boolean NOT NULL DEFAULT false,        -- the program insists on being called localhost
    created timestamptz NOT NULL DEFAULT now(),
    UNIQUE (workspace, port)
);
CREATE TABLE web_changes (
    id bigserial PRIMARY KEY,
    address bigint NOT NULL REFERENCES web_addresses ON DELETE CASCADE,
    at timestamptz NOT NULL DEFAULT now(),
    account bigint REFERENCES accounts ON DELETE SET NULL,
    what text NOT NULL
);
CREATE TABLE web_tickets (
    hash bytea PRIMARY KEY,
    address bigint NOT NULL REFERENCES web_addresses ON DELETE CASCADE,
    account bigint NOT NULL REFERENCES accounts ON DELETE CASCADE,
    until timestamptz NOT NULL
);

-- +goose Down
DROP TABLE web_tickets, web_changes, web_addresses;
