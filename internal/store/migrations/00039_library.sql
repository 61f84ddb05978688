-- +goose Up
-- What was cleared here, by its name: each row follows from the record of the verdict. A file is in the library
-- for as long as nothing was decided about it since; its digests are those of its outcome.
CREATE TABLE library (
    position   bigint PRIMARY KEY REFERENCES ledger_records (position),
    batch_id   bigint NOT NULL,
    n          int NOT NULL,
    -- By whom it is signed, or empty.
    publisher  text NOT NULL,
    -- The last part of its path, what stays of that in the next release, and what does not. What lies inside another
    -- file has no stem.
    name       text NOT NULL,
    stem       text NOT NULL,
    release    text NOT NULL,
    signed_at  timestamptz,
    signers    jsonb NOT NULL,
    algorithms jsonb NOT NULL,
    FOREIGN KEY (batch_id, n) REFERENCES items (batch_id, n)
);
CREATE INDEX library_stem ON library (stem, position);
CREATE INDEX library_item ON library (batch_id, n, position);
CREATE INDEX library_name ON library (name, position);
CREATE INDEX library_publisher ON library (publisher, position);
CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON library
    FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();
-- What was cleared is looked for in the library, and not among all digests any more.
DROP INDEX outcome_digests_cleared;
-- What records of earlier versions say of it is written when the service starts, together with their terms.
UPDATE ledger_state SET without_terms = size;

-- +goose Down
CREATE INDEX outcome_digests_cleared ON outcome_digests (digest) WHERE cleared;
DROP TABLE library;
