-- +goose Up
CREATE INDEX tokens_of_account ON tokens (account);
CREATE INDEX keys_of_account ON keys (account);
CREATE INDEX workspaces_at_site ON workspaces (site);
CREATE INDEX states_of_workspace ON states (workspace) WHERE workspace IS NOT NULL;
CREATE INDEX states_at_site ON states (site);
CREATE INDEX runs_ended ON runs (ended) WHERE ended IS NOT NULL;

-- +goose Down
DROP INDEX tokens_of_account, keys_of_account, workspaces_at_site, states_of_workspace, states_at_site, runs_ended;
