-- +goose Up
-- Records that were appended together have a MAC under a key that is derived from a file of the
-- service's host: a record that somebody puts in has none, is not signed, and decides nothing.
CREATE TABLE seals (
    first       bigint PRIMARY KEY CHECK (first >= 0),
    records     bigint NOT NULL CHECK (records > 0),
    -- how many records decide, from the ledger's first to the last of these
    decisions   bigint NOT NULL CHECK (decisions >= 0),
    over_leaves bytea NOT NULL CHECK (octet_length(over_leaves) = 32),
    mac         bytea NOT NULL CHECK (octet_length(mac) = 32)
);

-- +goose Down
DROP TABLE seals;
