-- +goose Up
-- Records that were appended together have a MAC under a key that is derived from a file of the
-- service's host: a record that somebody puts in has none, is not signed, and decides nothing.
CREATE TABLE seals (
    first   bigint PRIMARY KEY CHECK (first >= 0),
    records integer NOT NULL CHECK (records > 0),
    seal    bytea NOT NULL CHECK (octet_length(seal) = 32)
);

-- +goose Down
DROP TABLE seals;
