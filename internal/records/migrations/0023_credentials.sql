-- +goose Up
-- What a browser opened with a ticket ends with the session that asked for the ticket.
ALTER TABLE web_tickets ADD COLUMN token bytea NOT NULL DEFAULT '';
-- What the owner says against the definition; empty: the definition's.
ALTER TABLE web_addresses ADD COLUMN forced_protocol text NOT NULL DEFAULT '';
-- Counts the invitations to type, so that what the owner allowed the workspace before one ends with it.
ALTER TABLE workspaces ADD COLUMN typists integer NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE workspaces DROP COLUMN typists;
ALTER TABLE web_addresses DROP COLUMN forced_protocol;
ALTER TABLE web_tickets DROP COLUMN token;
