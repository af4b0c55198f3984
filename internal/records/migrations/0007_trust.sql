-- +goose Up
-- What was prepared as nobody in particular is everybody's; else it is its account's alone.
ALTER TABLE states ADD COLUMN shared boolean NOT NULL DEFAULT false;

ALTER TABLE accounts ADD COLUMN locked boolean NOT NULL DEFAULT false;
ALTER TABLE accounts ADD COLUMN leaving boolean NOT NULL DEFAULT false; -- it is being removed

ALTER TABLE tokens ADD COLUMN expires timestamptz NOT NULL DEFAULT now() + interval '90 days';

-- Who signed in, or tried to, from where.
CREATE TABLE sign_ins (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at timestamptz NOT NULL DEFAULT now(),
    name text NOT NULL,           -- as it was typed, shortened
    account bigint REFERENCES accounts ON DELETE CASCADE, -- whose name it is; null: nobody's
    address text NOT NULL,
    outcome text NOT NULL         -- in, wrong, slowed or locked
);
CREATE INDEX sign_ins_by_account ON sign_ins (account, at DESC);
CREATE INDEX sign_ins_by_time ON sign_ins (at);

-- +goose Down
DROP TABLE sign_ins;
ALTER TABLE tokens DROP COLUMN expires;
ALTER TABLE accounts DROP COLUMN leaving;
ALTER TABLE accounts DROP COLUMN locked;
ALTER TABLE states DROP COLUMN shared;
