-- +goose Up
-- Digests that somebody has read somewhere, of files that were never here: noted, and not cleared.
CREATE TABLE noted_references (
    position  bigint PRIMARY KEY REFERENCES ledger_records (position),
    publisher text NOT NULL,
    name      text NOT NULL,
    algorithm text NOT NULL,
    digest    bytea NOT NULL,
    size      bigint,
    channel   text NOT NULL,
    place     text NOT NULL,
    note      text NOT NULL,
    by_name   text NOT NULL,
    at        timestamptz NOT NULL
);
CREATE INDEX noted_references_digest ON noted_references (digest, position);
CREATE INDEX noted_references_publisher ON noted_references (publisher, position);
CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON noted_references
    FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();

-- +goose Down
DROP TABLE noted_references;
