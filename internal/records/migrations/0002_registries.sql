-- +goose Up
CREATE TABLE registries (
    host text PRIMARY KEY,
    username text NOT NULL,
    password bytea NOT NULL,      -- sealed
    account bigint REFERENCES accounts ON DELETE SET NULL, -- who gave it
    created timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE registries;
