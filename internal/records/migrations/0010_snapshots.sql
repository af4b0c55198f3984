-- +goose Up
ALTER TABLE states RENAME TO snapshots;
ALTER INDEX states_of_account RENAME TO snapshots_of_account;
ALTER INDEX states_of_workspace RENAME TO snapshots_of_workspace;
ALTER INDEX states_at_site RENAME TO snapshots_at_site;
ALTER TABLE workspaces RENAME COLUMN state_from TO begins_with;

-- +goose Down
ALTER TABLE workspaces RENAME COLUMN begins_with TO state_from;
ALTER INDEX snapshots_at_site RENAME TO states_at_site;
ALTER INDEX snapshots_of_workspace RENAME TO states_of_workspace;
ALTER INDEX snapshots_of_account RENAME TO states_of_account;
ALTER TABLE snapshots RENAME TO states;
