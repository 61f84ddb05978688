-- +goose Up
-- What somebody has settled: a batch or a key that needed attention, and needs none until something about it
-- changes.
CREATE TABLE settlements (
    position    bigint PRIMARY KEY REFERENCES ledger_records (position),
    batch_id    bigint REFERENCES batches (id),
    fingerprint bytea,
    reason      text NOT NULL,
    by_name     text NOT NULL,
    at          timestamptz NOT NULL,
    CHECK ((batch_id IS NULL) <> (fingerprint IS NULL))
);
CREATE INDEX settlements_batch ON settlements (batch_id, position) WHERE batch_id IS NOT NULL;
CREATE INDEX settlements_key ON settlements (fingerprint, position) WHERE fingerprint IS NOT NULL;
CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON settlements
    FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();
CREATE INDEX batches_of_source ON batches (source, source_kind, id);

-- +goose Down
DROP INDEX batches_of_source;
DROP TABLE settlements;
