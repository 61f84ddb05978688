-- +goose Up
-- People and tokens carry a MAC under a key that is derived from a file of the service's host:
-- a row that somebody puts in or changes here signs nobody in.
ALTER TABLE users ADD COLUMN mac bytea NOT NULL DEFAULT '';
ALTER TABLE tokens ADD COLUMN mac bytea NOT NULL DEFAULT '';
-- Sessions are found by such a MAC too. People sign in again.
DELETE FROM sessions;

-- +goose Down
ALTER TABLE tokens DROP COLUMN mac;
ALTER TABLE users DROP COLUMN mac;
DELETE FROM sessions;
