-- +goose Up
-- Sessions are found by the hash of their token from now on. Those that there are
-- end; people sign in again.
DELETE FROM sessions;

-- +goose Down
DELETE FROM sessions;
