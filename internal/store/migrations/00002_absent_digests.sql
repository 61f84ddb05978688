-- +goose Up
-- What an absent entry states: a file here may turn out to be it.
ALTER TABLE absents ADD COLUMN digest text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE absents DROP COLUMN digest;
