-- +goose Up
-- What witnesses have countersigned: lines of a note, which anybody can verify.
CREATE TABLE cosignatures (
    size    bigint NOT NULL REFERENCES checkpoints (size),
    witness text NOT NULL,
    line    text NOT NULL CHECK (octet_length(line) <= 4096),
    PRIMARY KEY (size, witness)
);

-- +goose Down
DROP TABLE cosignatures;
