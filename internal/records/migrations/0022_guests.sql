-- +goose Up
CREATE TABLE guests (
    workspace bigint NOT NULL REFERENCES workspaces ON DELETE CASCADE,
    account bigint NOT NULL REFERENCES accounts ON DELETE CASCADE,
    may text NOT NULL,                           -- look or type
    invited timestamptz NOT NULL DEFAULT now(),
    until timestamptz NOT NULL,
    came timestamptz,                            -- the last time
    PRIMARY KEY (workspace, account)
);
CREATE INDEX guests_account ON guests (account);
CREATE TABLE guest_changes (
    id bigserial PRIMARY KEY,
    workspace bigint NOT NULL REFERENCES workspaces ON DELETE CASCADE,
    at timestamptz NOT NULL DEFAULT now(),
    account bigint REFERENCES accounts ON DELETE SET NULL,
    what text NOT NULL
);
CREATE INDEX guest_changes_workspace ON guest_changes (workspace);

-- +goose Down
DROP TABLE guest_changes, guests;
