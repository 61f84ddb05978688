-- +goose Up
-- People can be changed and shut out. changed_at is the time of the newest record
-- about a person since they were added; sessions begun before it are over.
ALTER TABLE users ADD COLUMN disabled boolean NOT NULL DEFAULT false, ADD COLUMN changed_at timestamptz;

-- A token can be good for some depots and publishers only, and one that was made
-- with another ends with it at the latest.
ALTER TABLE tokens ADD COLUMN made_with bigint REFERENCES tokens (id), ADD COLUMN depots text[] NOT NULL DEFAULT '{}',
    ADD COLUMN publishers text[] NOT NULL DEFAULT '{}', ADD COLUMN used_at timestamptz;
CREATE INDEX tokens_made_with ON tokens (made_with) WHERE made_with IS NOT NULL;

-- +goose Down
DROP INDEX tokens_made_with;
ALTER TABLE tokens DROP COLUMN used_at, DROP COLUMN publishers, DROP COLUMN depots, DROP COLUMN made_with;
ALTER TABLE users DROP COLUMN changed_at, DROP COLUMN disabled;
