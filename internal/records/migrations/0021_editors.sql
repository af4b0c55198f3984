-- +goose Up
CREATE TABLE editors (
    account bigint NOT NULL REFERENCES accounts ON DELETE CASCADE,
    name text NOT NULL,
    link text NOT NULL, -- with placeholders
    PRIMARY KEY (account, name)
);

-- +goose Down
DROP TABLE editors;
